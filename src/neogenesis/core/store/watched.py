"""A store that asks, before every read, whether the work may go on."""

from __future__ import annotations

from collections.abc import Callable

from neogenesis.core.extent import Extents
from neogenesis.core.store.base import ReadableStore


class WatchedStore(ReadableStore):
    """`base`, with `checkpoint` called first: surveys and listings can be stopped and paused like all else."""

    def __init__(self, base: ReadableStore, checkpoint: Callable[[], None]) -> None:
        self.base, self._checkpoint = base, checkpoint
        self.size_bytes, self.sector_size = base.size_bytes, base.sector_size
        self.parallel_reads = base.parallel_reads

    def read_into(self, offset: int, buffer: memoryview) -> None:
        self._checkpoint()
        self.base.read_into(offset, buffer)

    def uncached(self) -> ReadableStore:
        return WatchedStore(self.base.uncached(), self._checkpoint)

    def known_lost(self, start: int, end: int) -> Extents:
        return self.base.known_lost(start, end)

    def extents_with_data(self) -> Extents:
        return self.base.extents_with_data()
