"""Reading around what cannot be read."""

from __future__ import annotations

from neogenesis.core.errors import ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.store.base import ReadableStore


def read_or_narrow(store: ReadableStore, place: int, buffer: memoryview, sector: int) -> list[tuple[int, int]]:
    """Fill `buffer`; what cannot be read becomes zeros and is returned as ranges of the store, sector by sector."""
    try:
        store.read_into(place, buffer)
        return []
    except ReadFailed:
        length = len(buffer)
        start = place // sector * sector
        if length <= sector and start + sector >= place + length:
            buffer[:] = bytes(length)
            return [(place, place + length)]
    half = max(sector, (length // 2 + sector - 1) // sector * sector)
    cut = min(length, (place + half) // sector * sector - place)
    if not 0 < cut < length:
        cut = min(length, (start + sector) - place)
    lost = read_or_narrow(store, place, buffer[:cut], sector)
    return _merge(lost + read_or_narrow(store, place + cut, buffer[cut:], sector))


def _merge(ranges: list[tuple[int, int]]) -> list[tuple[int, int]]:
    return list(Extents.of(ranges))
