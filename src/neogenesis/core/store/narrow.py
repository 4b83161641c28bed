"""Reading around what cannot be read."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from neogenesis.core.errors import ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.judgement import judgement
from neogenesis.core.store.base import ReadableStore

#: A range that failed is read again in so many parts. Every failing request costs a drive seconds, a good one next to
#: nothing, so few levels matter more than few requests: a bad sector in 4 MiB is asked for six times.
_PARTS = 8


class PutOff(Exception):
    """A bad stretch took all the time that it may take now; `lost` is what is known of it, in bytes of the store."""

    def __init__(self, lost: list[tuple[int, int]]) -> None:
        super().__init__()
        self.lost = lost


class Patience:
    """The time that one bad stretch may take before it is put off. Begins to run when it is made."""

    def __init__(self, seconds: Callable[[], float]) -> None:
        """`seconds` is a clock."""
        self._seconds = seconds
        self._end = seconds() + judgement().stretch_seconds

    @property
    def is_over(self) -> bool:
        return self._seconds() > self._end


def read_or_narrow(
    store: ReadableStore,
    place: int,
    buffer: memoryview,
    sector: int,
    known_bad: bool = False,
    patience: Patience | None = None,
) -> list[tuple[int, int]]:
    """Fill `buffer`; what cannot be read becomes zeros and is returned as ranges of the store, sector by sector.

    Only the first read may come through a cache. Everything after a failure asks the medium itself, since the system
    reads and forgets whole pages where a single sector is bad. With `known_bad` the first read has failed already.
    What the store knows to be lost is not asked for. Raises PutOff when `patience` is over before all is known.
    """
    if not known_bad and _fills(store, place, buffer):
        return []
    end, medium = place + len(buffer), store.uncached()
    known, lost = medium.known_lost(place, end), list[tuple[int, int]]()
    try:
        if not known:
            _narrow(medium, place, buffer, sector, patience, lost)
        for start, stop in known:
            np.frombuffer(buffer[start - place : stop - place], dtype=np.uint8).fill(0)
            lost.append((start, stop))
        for start, stop in known.complement(end).clipped(place, end) if known else ():
            part = buffer[start - place : stop - place]
            if not _fills(medium, start, part):
                _narrow(medium, start, part, sector, patience, lost)
    except PutOff:
        raise PutOff(list(Extents.of(lost))) from None
    return list(Extents.of(lost))


def _narrow(
    store: ReadableStore,
    place: int,
    buffer: memoryview,
    sector: int,
    patience: Patience | None,
    lost: list[tuple[int, int]],
) -> int:
    """Add to `lost` what is lost of a range that failed as a whole, and fill in the rest; returns the bytes lost."""
    length = len(buffer)
    end = place + length
    if place // sector == (end - 1) // sector:
        buffer[:] = bytes(length)
        lost.append((place, end))
        return length
    step = max(sector, -(-length // (_PARTS * sector)) * sector)
    at, all_lost = place, 0
    while at < end:
        if patience is not None and patience.is_over:
            raise PutOff(lost)
        stop = min(end, (at // step + 1) * step)
        piece = buffer[at - place : stop - place]
        if not _fills(store, at, piece):
            here = _narrow(store, at, piece, sector, patience, lost)
            all_lost += here
            if here < stop - at and _fills(store, stop, buffer[stop - place :]):
                break  # a small fault, and behind it there is none
        at = stop
    return all_lost


def _fills(store: ReadableStore, place: int, buffer: memoryview) -> bool:
    try:
        store.read_into(place, buffer)
    except ReadFailed:
        return False
    return True
