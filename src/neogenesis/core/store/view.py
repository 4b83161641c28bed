"""A range of another store, seen as a store of its own: one partition of a drive."""

from __future__ import annotations

from collections.abc import Sequence

from neogenesis.core.errors import ReadFailed, WriteFailed
from neogenesis.core.extent import Extents
from neogenesis.core.store.base import ReadableStore, WritableStore


class RangeView(ReadableStore):
    """Bytes [start, start + size_bytes) of `base`. What lies beyond the end of `base` cannot be read."""

    def __init__(self, base: ReadableStore, start: int, size_bytes: int) -> None:
        self.base = base
        self.start = start
        self.size_bytes = size_bytes
        self.sector_size = base.sector_size
        self.parallel_reads = base.parallel_reads

    def read_into(self, offset: int, buffer: memoryview) -> None:
        if offset < 0 or offset + len(buffer) > self.size_bytes:
            raise ReadFailed(offset, len(buffer), "outside the partition")
        self.base.read_into(self.start + offset, buffer)

    def read_runs(self, runs: Sequence[tuple[int, int]], buffer: memoryview) -> None:
        if any(start < 0 or end > self.size_bytes for start, end in runs):
            raise ReadFailed(runs[0][0], len(buffer), "outside the partition")
        self.base.read_runs([(self.start + start, self.start + end) for start, end in runs], buffer)

    def uncached(self) -> ReadableStore:
        return RangeView(self.base.uncached(), self.start, self.size_bytes)

    def places_below(self, start: int, end: int) -> list[tuple[int, int]]:
        return self.base.places_below(self.start + start, self.start + end)

    def digest_of(self, offset: int, data: memoryview) -> bytes:
        return self.base.digest_of(self.start + offset, data)

    def known_lost(self, start: int, end: int) -> Extents:
        return self.base.known_lost(self.start + start, self.start + end).shifted(-self.start)

    def extents_with_data(self) -> Extents:
        return self.base.extents_with_data().clipped(self.start, self.start + self.size_bytes).shifted(-self.start)


class WritableRangeView(RangeView, WritableStore):
    """A range of a writable store; writes outside the range are refused."""

    base: WritableStore

    def __init__(self, base: WritableStore, start: int, size_bytes: int) -> None:
        super().__init__(base, start, size_bytes)
        self.makes_holes = base.makes_holes

    def write(self, offset: int, data: memoryview | bytes) -> None:
        if offset < 0 or offset + len(data) > self.size_bytes:
            raise WriteFailed(offset, "outside the range that the plan names")
        self.base.write(self.start + offset, data)

    def write_zeros(self, start: int, end: int) -> None:
        if start < 0 or end > self.size_bytes:
            raise WriteFailed(start, "outside the range that the plan names")
        self.base.write_zeros(self.start + start, self.start + end)

    def _flush(self) -> None:
        self.base.sync()
