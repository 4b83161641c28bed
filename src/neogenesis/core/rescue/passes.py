"""The passes of a rescue, each with more patience than the one before.

`matters`: what matters most, by asking for it: table, metadata of the volumes, folders of people.
`out`: large reads on the way out from the beginning; at trouble it skips ahead by growing steps.
`back`: what was skipped, on the way back from the end, up to the trouble.
`rest`: what is still untried, without skipping.
`edges`: postponed ranges are divided until 4 KiB, so that good edges are had.
`singles`: what is left, sector by sector.
`again`: lost sectors a few times more.

A place that cannot be read is postponed, not hammered at; one that reads slowly is left for `rest`.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing

from neogenesis.core.drive import Drive
from neogenesis.core.errors import Damaged, ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.rescue.fetch import CAREFUL_BYTES, Fetcher
from neogenesis.core.store import RangeView, ReadableStore
from neogenesis.core.survey import Surveyed, survey_drive
from neogenesis.core.system import Trees, is_of_people
from neogenesis.core.units import KIB, round_down, round_up

PASSES = ("matters", "out", "back", "rest", "edges", "singles", "again")
_FIRST_SKIP = 256 * KIB
_SMALL = 4 * KIB
#: A range that failed is asked for again in so many parts: a failing request costs seconds, a good one next to nothing.
_PARTS = 8
_MOST_FILES = 200_000


class RescueStore(ReadableStore):
    """The failing drive as a survey sees it: what was rescued comes from the new drive, the rest by asking for it."""

    def __init__(self, fetcher: Fetcher) -> None:
        self._fetcher = fetcher
        self.size_bytes, self.sector_size = fetcher.source.size_bytes, fetcher.source.sector_size

    def read_into(self, offset: int, buffer: memoryview) -> None:
        end = offset + len(buffer)
        if offset < 0 or end > self.size_bytes:
            raise ReadFailed(offset, len(buffer), "outside the drive")
        sector, found = self.sector_size, self._fetcher.map
        first, last = round_down(offset, sector), min(round_up(end, sector), self.size_bytes)
        if found.ranges_between(first, last, "postponed") or found.ranges_between(first, last, "lost"):
            raise ReadFailed(offset, len(buffer), "it could not be read yet")
        for start, stop in found.ranges_between(first, last, "untried").chunks(CAREFUL_BYTES):
            if not self._fetcher.fetch(start, stop):
                raise ReadFailed(start, stop - start, "it could not be read yet")
        self._fetcher.target.read_into(offset, buffer)


def matters(fetcher: Fetcher, drive: Drive, trees: Trees) -> Surveyed:
    """A survey through the rescue reads what matters most; then the folders of people, then all that is in use."""
    store = RescueStore(fetcher)
    surveyed = survey_drive(store, drive, trees)
    for start, end in _people(store, surveyed, trees):
        _take(fetcher, Extents.of([(start, end)]))
    for partition in surveyed.survey.partitions:
        allocation = surveyed.allocations.get(partition.number)
        if allocation is not None:
            _take(fetcher, allocation.shifted(partition.start_bytes).joined(64 * KIB))
    return surveyed


def _people(store: RescueStore, surveyed: Surveyed, trees: Trees) -> Iterator[tuple[int, int]]:
    for partition in surveyed.survey.partitions:
        if not partition.volume.understood:
            continue
        try:
            with closing(trees(RangeView(store, partition.start_bytes, partition.size_bytes))) as tree:
                for path, _, inode in tree.walk(_MOST_FILES):
                    if is_of_people(path):
                        for start, end in tree.byte_runs(inode):
                            yield partition.start_bytes + start, partition.start_bytes + end
        except Damaged:
            continue  # what is in use is read all the same, in the order of its place


def _take(fetcher: Fetcher, wanted: Extents) -> None:
    """Read a set of ranges once, in order, without going back to what failed."""
    source, found = fetcher.source, fetcher.map
    for start, end in wanted.widened(source.sector_size, source.size_bytes):
        for first, last in found.ranges_between(start, end, "untried").chunks(fetcher.step):
            if found.state_at(first) == "untried":
                fetcher.fetch(first, last)
                if fetcher.slow:
                    break  # what is left of this stretch comes later


def out(fetcher: Fetcher) -> None:
    furthest = max(_FIRST_SKIP, fetcher.source.size_bytes // 100)
    for start, end in fetcher.map.ranges("untried"):
        at, skip = start, _FIRST_SKIP
        while at < end:
            stop = min(end, round_down(at, CAREFUL_BYTES) + fetcher.step)
            good = fetcher.fetch(at, stop)
            at = stop
            if good and not fetcher.slow:
                skip = _FIRST_SKIP
            else:
                at = min(end, at + skip)
                skip = min(skip * 2, furthest)


def back(fetcher: Fetcher) -> None:
    for start, end in list(fetcher.map.ranges("untried"))[::-1]:
        at = end
        while at > start:
            first = max(start, round_up(at, CAREFUL_BYTES) - CAREFUL_BYTES)
            if not fetcher.fetch(first, at) or fetcher.slow:
                break
            at = first


def rest(fetcher: Fetcher) -> None:
    for start, end in fetcher.map.ranges("untried").chunks(CAREFUL_BYTES):
        fetcher.fetch(start, end)


def edges(fetcher: Fetcher) -> None:
    for start, end in fetcher.map.ranges("postponed").chunks(CAREFUL_BYTES):
        _divide(fetcher, start, end)


def _divide(fetcher: Fetcher, start: int, end: int) -> None:
    """The parts of a range that failed as a whole."""
    least = max(_SMALL, fetcher.source.sector_size)
    if end - start <= least:
        return
    step = max(least, round_up((end - start) // _PARTS, least))
    at = start
    while at < end:
        stop = min(end, round_down(at, step) + step)
        if not fetcher.fetch(at, stop):
            _divide(fetcher, at, stop)
        at = stop


def singles(fetcher: Fetcher) -> None:
    sector = fetcher.source.sector_size
    for start, end in fetcher.map.ranges("postponed").widened(sector, fetcher.source.size_bytes).chunks(sector):
        if not fetcher.fetch(start, end):
            fetcher.map.mark(start, end, "lost")


def again(fetcher: Fetcher, times: int) -> None:
    for _ in range(times):
        for start, end in fetcher.map.ranges("lost").chunks(fetcher.source.sector_size):
            if not fetcher.fetch(start, end):
                fetcher.map.mark(start, end, "lost")
