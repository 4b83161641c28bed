"""Telling a bad place from a drive that is gone."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from neogenesis.core.errors import ReadFailed, Stopped
from neogenesis.core.extent import Extents
from neogenesis.core.store.base import ReadableStore

#: A place that is bad only now and then must not pass for a drive that is gone.
_TIMES = 3


def still_answers(places: Sequence[tuple[ReadableStore, int]]) -> bool:
    """Whether the medium can be read at any of `places` (store, offset); best are those that could be read before."""
    for store, place in [*places] * _TIMES:
        length = min(store.sector_size, store.size_bytes - place)
        try:
            store.uncached().read(place, length)
        except ReadFailed:
            continue
        return True
    return False


@dataclass
class _Known:
    """Places that could be read: the first sector, and the latest of all."""

    first: int | None = None
    latest: int | None = None


class LiveStore(ReadableStore):
    """A whole drive, and whether it is still there.

    After each read that failed, what could be read before is asked for again, before anybody calls a sector lost: when
    that fails too the drive is gone, and Stopped is raised with `remedy`, which says how the work is gone on with.
    `checkpoint` is called then as well, so that a stop is heard in the middle of a bad stretch.
    """

    def __init__(
        self,
        base: ReadableStore,
        checkpoint: Callable[[], object] = lambda: None,
        remedy: str = "Connect it again and run the same command.",
        known: _Known | None = None,
    ) -> None:
        self.base, self._remedy, self._checkpoint, self._known = base, remedy, checkpoint, known or _Known()
        self.size_bytes, self.sector_size, self.parallel_reads = base.size_bytes, base.sector_size, base.parallel_reads

    def begin(self) -> None:
        """Take the first sector as known to be readable, if it is. Raises Stopped for a drive that is gone already."""
        size, sector = self.size_bytes, self.sector_size
        if not still_answers([(self.base, at) for at in (0, size // 2 // sector * sector, max(0, size - sector))]):
            raise self._gone()
        try:
            self.base.read(0, min(sector, size))
        except ReadFailed:
            return
        self._known.first = 0

    def read_into(self, offset: int, buffer: memoryview) -> None:
        try:
            self.base.read_into(offset, buffer)
        except ReadFailed:
            self._ask()
            raise
        self._known.latest = offset // self.sector_size * self.sector_size

    def read_runs(self, runs: Sequence[tuple[int, int]], buffer: memoryview) -> None:
        try:
            self.base.read_runs(runs, buffer)
        except ReadFailed:
            self._ask()
            raise
        self._known.latest = runs[-1][0] // self.sector_size * self.sector_size

    def _ask(self) -> None:
        self._checkpoint()
        known = [(self.base, at) for at in (self._known.latest, self._known.first) if at is not None]
        if known and not still_answers(known):
            raise self._gone()

    def _gone(self) -> Stopped:
        return Stopped("The old drive no longer answers; what was copied so far is kept.", self._remedy)

    def uncached(self) -> ReadableStore:
        return LiveStore(self.base.uncached(), self._checkpoint, self._remedy, self._known)

    def digest_of(self, offset: int, data: memoryview) -> bytes:
        return self.base.digest_of(offset, data)

    def known_lost(self, start: int, end: int) -> Extents:
        return self.base.known_lost(start, end)

    def extents_with_data(self) -> Extents:
        return self.base.extents_with_data()

    def places_below(self, start: int, end: int) -> list[tuple[int, int]]:
        return self.base.places_below(start, end)
