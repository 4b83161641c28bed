"""Reading around what cannot be read."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from neogenesis.core.errors import ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.store.base import ReadableStore

#: A range that failed is read again in so many parts. Every failing request costs a drive seconds, a good one next to
#: nothing, so few levels matter more than few requests: a bad sector in 4 MiB is asked for six times.
_PARTS = 8


def read_or_narrow(
    store: ReadableStore, place: int, buffer: memoryview, sector: int, known_bad: bool = False
) -> list[tuple[int, int]]:
    """Fill `buffer`; what cannot be read becomes zeros and is returned as ranges of the store, sector by sector.

    Only the first read may come through a cache. Everything after a failure asks the medium itself, since the system
    reads and forgets whole pages where a single sector is bad. With `known_bad` the first read has failed already.
    What the store knows to be lost is not asked for.
    """
    if not known_bad and _fills(store, place, buffer):
        return []
    end, medium = place + len(buffer), store.uncached()
    known = medium.known_lost(place, end)
    if not known:
        return list(Extents.of(_narrowed(medium, place, buffer, sector)))
    lost = list(known)
    for start, stop in known:
        np.frombuffer(buffer[start - place : stop - place], dtype=np.uint8).fill(0)
    for start, stop in known.complement(end).clipped(place, end):
        lost += read_or_narrow(store, start, buffer[start - place : stop - place], sector)
    return list(Extents.of(lost))


def _narrowed(store: ReadableStore, place: int, buffer: memoryview, sector: int) -> Iterator[tuple[int, int]]:
    """What is lost of a range that failed as a whole; the rest of it is filled in."""
    length = len(buffer)
    end = place + length
    if place // sector == (end - 1) // sector:
        buffer[:] = bytes(length)
        yield place, end
        return
    step = max(sector, -(-length // (_PARTS * sector)) * sector)
    at = place
    while at < end:
        stop = min(end, (at // step + 1) * step)
        piece = buffer[at - place : stop - place]
        if not _fills(store, at, piece):
            lost = list(_narrowed(store, at, piece, sector))
            yield from lost
            if sum(b - a for a, b in lost) < stop - at and _fills(store, stop, buffer[stop - place :]):
                return  # a small fault, and behind it there is none
        at = stop


def _fills(store: ReadableStore, place: int, buffer: memoryview) -> bool:
    try:
        store.read_into(place, buffer)
    except ReadFailed:
        return False
    return True
