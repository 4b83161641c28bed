"""How to ask a drive for its bytes: in which sizes, how many requests at a time, and past the page cache or not.

A better request size is often the cheapest way to more speed, and which one is better differs from dock to dock, so
it is measured for about a second before a long copy begins.
"""

from __future__ import annotations

import mmap
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from neogenesis.core.errors import ReadFailed
from neogenesis.core.store.file import FileFace
from neogenesis.core.units import KIB, MIB, round_down

_SIZES = (256 * KIB, MIB, 4 * MIB)
_SAMPLE_BYTES = 8 * MIB
_BUDGET_SECONDS = 1.5
_SIDE_BY_SIDE = 3
#: Another way must be that much faster than the plain one to be worth its difference.
_WORTH = 1.10


@dataclass(frozen=True, slots=True)
class ReadWay:
    """`request_bytes` is the largest single request; `side_by_side` whether several may be under way at once."""

    request_bytes: int = 4 * MIB
    side_by_side: bool = False
    direct: bool = False
    bytes_per_s: float = 0.0


def ways() -> tuple[ReadWay, ...]:
    """What is tried, the plain way first."""
    plain = ReadWay()
    others = [
        ReadWay(size, side_by_side, direct)
        for direct in (False, True)
        for side_by_side in (False, True)
        for size in reversed(_SIZES)
    ]
    return (plain, *(way for way in others if way != plain))


def best_way(measured: Sequence[ReadWay]) -> ReadWay:
    """The fastest, or the first (the plain way) unless another is clearly faster."""
    plain = measured[0]
    fastest = max(measured, key=lambda way: way.bytes_per_s)
    return fastest if fastest.bytes_per_s > plain.bytes_per_s * _WORTH else plain


def choose_way(store: FileFace, seconds: Callable[[], float]) -> ReadWay:
    """Measure and let `store` read in the best way; a drive with a bad place keeps the plain one.

    `seconds` is a clock. Reads at most 100 MiB, spread over the drive so that no sample finds another's in a cache.
    """
    began, found = seconds(), list[ReadWay]()
    all_ways = ways()
    stride = round_down(store.size_bytes // len(all_ways), MIB)
    if stride < _SAMPLE_BYTES:
        return ReadWay()
    for index, way in enumerate(all_ways):
        if seconds() - began > _BUDGET_SECONDS and found:
            break
        try:
            rate = _rate(store, way, index * stride, seconds)
        except ReadFailed:
            store.use(ReadWay())
            return ReadWay()
        found.append(ReadWay(way.request_bytes, way.side_by_side, way.direct, rate))
    best = best_way(found)
    store.use(best)
    return best


def _rate(store: FileFace, way: ReadWay, start: int, seconds: Callable[[], float]) -> float:
    store.use(way)
    end = start + _SAMPLE_BYTES
    store.drop_cached(start, end)
    places = iter(range(start, end, way.request_bytes))
    taking, failures = threading.Lock(), list[ReadFailed]()

    def work() -> None:
        buffer = memoryview(mmap.mmap(-1, way.request_bytes))
        while not failures:
            with taking:
                place = next(places, None)
            if place is None:
                return
            try:
                store.read_into(place, buffer[: min(way.request_bytes, end - place)])
            except ReadFailed as error:
                failures.append(error)

    began = seconds()
    threads = [threading.Thread(target=work, name="measure") for _ in range(_SIDE_BY_SIDE if way.side_by_side else 1)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    if failures:
        raise failures[0]
    return _SAMPLE_BYTES / max(1e-6, seconds() - began)
