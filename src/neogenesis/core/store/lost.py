"""What was saved from a drive, read as that drive: what could not be read there cannot be read here either."""

from __future__ import annotations

from collections.abc import Sequence

from neogenesis.core.errors import ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.store.base import ReadableStore


class LostStore(ReadableStore):
    """`base`, of which the ranges `lost` hold nothing that is worth reading: every read that touches them fails."""

    def __init__(self, base: ReadableStore, lost: Extents) -> None:
        self.base, self.lost = base, lost
        self.size_bytes, self.sector_size, self.parallel_reads = base.size_bytes, base.sector_size, base.parallel_reads

    def read_into(self, offset: int, buffer: memoryview) -> None:
        self._refuse(offset, offset + len(buffer))
        self.base.read_into(offset, buffer)

    def read_runs(self, runs: Sequence[tuple[int, int]], buffer: memoryview) -> None:
        for start, end in runs:
            self._refuse(start, end)
        self.base.read_runs(runs, buffer)

    def _refuse(self, start: int, end: int) -> None:
        if self.lost.clipped(start, end):
            raise ReadFailed(start, end - start, "it was lost when this was saved from the drive")

    def uncached(self) -> ReadableStore:
        return LostStore(self.base.uncached(), self.lost)

    def extents_with_data(self) -> Extents:
        return self.base.extents_with_data().union(self.lost)

    def known_lost(self, start: int, end: int) -> Extents:
        return self.lost.clipped(start, end).union(self.base.known_lost(start, end))

    def places_below(self, start: int, end: int) -> list[tuple[int, int]]:
        return self.base.places_below(start, end)

    def close(self) -> None:
        self.base.close()
