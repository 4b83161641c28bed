"""Telling a bad place from a drive that is gone."""

from __future__ import annotations

from collections.abc import Sequence

from neogenesis.core.errors import ReadFailed
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
