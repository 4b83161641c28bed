"""A store composed of ranges of another one, with zeros in between: a volume whose parts moved."""

from __future__ import annotations

from collections.abc import Sequence

from neogenesis.core.errors import ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.store.base import ReadableStore


class PieceStore(ReadableStore):
    """`pieces` are (start here, length, start in `base`), disjoint; every other byte is zero."""

    def __init__(self, base: ReadableStore, size_bytes: int, pieces: Sequence[tuple[int, int, int]]) -> None:
        self.base = base
        self.size_bytes = size_bytes
        self.sector_size = base.sector_size
        self._pieces = sorted(p for p in pieces if p[1] > 0)

    def read_into(self, offset: int, buffer: memoryview) -> None:
        end = offset + len(buffer)
        if offset < 0 or end > self.size_bytes:
            raise ReadFailed(offset, len(buffer), "outside the prepared volume")
        at = offset
        for start, length, source in self._pieces:
            if start + length <= at or start >= end:
                continue
            if at < start:
                buffer[at - offset : start - offset] = bytes(start - at)
                at = start
            stop = min(end, start + length)
            self.base.read_into(source + at - start, buffer[at - offset : stop - offset])
            at = stop
        if at < end:
            buffer[at - offset :] = bytes(end - at)

    def uncached(self) -> ReadableStore:
        return PieceStore(self.base.uncached(), self.size_bytes, self._pieces)

    def places_below(self, start: int, end: int) -> list[tuple[int, int]]:
        found = []
        for at, length, source in self._pieces:
            first, last = max(start, at), min(end, at + length)
            if first < last:
                found += self.base.places_below(source + first - at, source + last - at)
        return found

    def extents_with_data(self) -> Extents:
        data = self.base.extents_with_data()
        moved = Extents.of([])
        for start, length, source in self._pieces:
            moved = moved.union(data.clipped(source, source + length).shifted(start - source))
        return moved
