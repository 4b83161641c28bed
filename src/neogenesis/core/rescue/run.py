"""The passes of a rescue.

`first`: what matters most, by asking for it: table, metadata of the volumes, folders of people.
`forward`: large reads in one gentle direction; at trouble it skips ahead by growing steps.
`backward`: what was skipped, from the other side, up to the trouble.
`sweep`: what is still untried, without skipping.
`trim`: postponed ranges are halved until 4 KiB.
`scrape`: what is left, sector by sector.
`retry`: lost sectors a few times more.

A place that cannot be read is postponed, not hammered at; one that reads slowly is left for the sweep. A drive that no
longer answers at all is not a drive with many bad places: the last failures are taken back, and the rescue stops until
it is connected again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from neogenesis.core.errors import NeogenesisError, ReadFailed, Stopped
from neogenesis.core.extent import Extents
from neogenesis.core.filesystem import VolumeTree
from neogenesis.core.judgement import judgement
from neogenesis.core.rescue.map import RescueMap
from neogenesis.core.rescue.rest import Rests
from neogenesis.core.store import RangeView, ReadableStore, WritableStore, still_answers
from neogenesis.core.survey import Drive, Surveyed, survey_drive
from neogenesis.core.transfer.control import Clock, Control
from neogenesis.core.transfer.pipeline import data_runs, write_runs
from neogenesis.core.units import KIB, MIB, round_down, round_up

PASSES = ("first", "forward", "backward", "sweep", "trim", "scrape", "retry")
_LARGE, _CAREFUL, _SMALL = MIB, 128 * KIB, 4 * KIB
#: So much without trouble, and reads grow large again.
_CLEAN_BYTES = 64 * MIB
_FIRST_SKIP = 256 * KIB
_SILENT_AFTER = 4
_PROBES = 24
_SAVE_SECONDS = 5.0
_PEOPLE = ("users/", "home/", "documents and settings/")
_MOST_FILES = 200_000


class RescueStore(ReadableStore):
    """The failing drive as a survey sees it: what was rescued comes from the new drive, the rest by asking for it."""

    def __init__(self, rescue: Rescue) -> None:
        self._rescue = rescue
        self.size_bytes, self.sector_size = rescue.source.size_bytes, rescue.source.sector_size

    def read_into(self, offset: int, buffer: memoryview) -> None:
        end = offset + len(buffer)
        if offset < 0 or end > self.size_bytes:
            raise ReadFailed(offset, len(buffer), "outside the drive")
        sector, found = self.sector_size, self._rescue.map
        first, last = round_down(offset, sector), min(round_up(end, sector), self.size_bytes)
        if found.ranges_between(first, last, "postponed") or found.ranges_between(first, last, "lost"):
            raise ReadFailed(offset, len(buffer), "it could not be read yet")
        for start, stop in found.ranges_between(first, last, "untried").chunks(_CAREFUL):
            try:
                good = self._rescue.fetch(start, stop)
            except ReadFailed:
                raise
            except NeogenesisError as error:  # would not come through the library that lists files, so it is kept
                self._rescue.ended_by = self._rescue.ended_by or error
                good = False
            if not good:
                raise ReadFailed(start, stop - start, "it could not be read yet")
        self._rescue.target.read_into(offset, buffer)


class Rescue:
    """One rescue of `source` onto `target`, with its map. Not safe to be called from several threads."""

    def __init__(
        self,
        source: ReadableStore,
        target: WritableStore,
        found: RescueMap,
        control: Control,
        clock: Clock,
        save: Callable[[RescueMap], None],
        tell: Callable[[str, RescueMap], None] = lambda name, found: None,
        retries: int = 2,
        rests: Rests | None = None,
        busy_s: Callable[[], float] | None = None,
    ) -> None:
        """`busy_s` is a clock that tells how long reads take, where the drive has one of its own."""
        self.source, self.target, self.map = source, target, found
        self.control, self.clock, self._save, self._tell, self.retries = control, clock, save, tell, retries
        self.requested_bytes = 0
        self._buffer = memoryview(bytearray(_LARGE))
        self._last_save = clock.now()
        self._saving_takes = 0.0
        self._failures: list[tuple[int, int]] = []
        self._good: int | None = None
        self._clean = 0
        self._slow = False
        self._usual: dict[int, float] = {}
        self.slowest_read_s = 0.0
        self.place = 0
        self.rests, self._busy_s = rests or Rests(), busy_s or clock.now
        self.current_pass = ""
        self.surveyed: Surveyed | None = None
        self.ended_by: NeogenesisError | None = None

    def run(self, drive: Drive, passes: Sequence[str] = PASSES) -> None:
        """Do the passes in their order; raises Stopped or WriteFailed with the map saved."""
        steps: dict[str, Callable[[], None]] = {
            "first": lambda: self._first(drive),
            "forward": self._forward,
            "backward": self._backward,
            "sweep": self._sweep,
            "trim": self._trim,
            "scrape": self._scrape,
            "retry": self._retry,
        }
        try:
            for name in PASSES:
                if name in passes:
                    self.current_pass = name
                    self._tell(name, self.map)
                    steps[name]()
                    self._save_now()
            if "scrape" in passes and not self.map.total("untried"):
                self._zero_lost()
            self._tell(self.current_pass, self.map)
        finally:
            self._save_now()

    # One read

    def fetch(self, start: int, end: int) -> bool:
        """Read a range of at most 1 MiB and put it onto the new drive; False when it could not be read."""
        self.control.checkpoint()
        piece = self._buffer[: end - start]
        began = self._busy_s()
        self.requested_bytes += end - start
        try:
            self.source.read_into(start, piece)
        except ReadFailed:
            self._clean = 0
            self._failures.append((start, end))
            self.map.mark(start, end, "postponed")
            if len(self._failures) >= _SILENT_AFTER:
                self._ask_whether_alive()
            self._after(end, self._busy_s() - began)
            return False
        took = self._busy_s() - began
        self._slow = self._is_slow(end - start, took)
        self._failures.clear()
        self._clean = 0 if self._slow else self._clean + end - start
        self._good = start
        write_runs(self.target, start, piece, data_runs(piece))
        self.map.mark(start, end, "read")
        self._after(end, took)
        return True

    def _after(self, place: int, took: float) -> None:
        """Every read, good or bad, is told, and may be followed by a rest."""
        self.place, self.slowest_read_s = place, max(self.slowest_read_s, took)
        self._tell(self.current_pass, self.map)
        self._save_sometimes()
        self.rests.after_read(took, self.clock.now())

    def _is_slow(self, length: int, took: float) -> bool:
        """Against what reads of that length usually take on this drive; slow ones do not change what is usual."""
        numbers, usual = judgement().rescue, self._usual.get(length)
        slow = took > max(numbers.slow_least_s, numbers.slow_times * (usual or 0.0))
        if not slow:
            self._usual[length] = took if usual is None else 0.9 * usual + 0.1 * took
        return slow

    def _ask_whether_alive(self) -> None:
        """Read again what could be read before; when that fails too, the drive is gone and nothing counts as bad."""
        alive = still_answers([(self.source, place) for place in self._known_places()])
        for start, end in () if alive else self._failures:
            self.map.mark(start, end, "untried")
        self._failures.clear()
        if alive:
            return
        raise Stopped(
            "The old drive no longer answers; what was read so far is safe, with its map.",
            "Let it rest and cool down, connect it again, and run the same command.",
        )

    def _known_places(self) -> list[int]:
        """Places that could be read, the latest and one at each end; where none is known, some all over the drive."""
        known = [] if self._good is None else [self._good]
        read = self.map.ranges("read").array
        if len(read):
            known += [int(read[0, 0]), int(read[-1, 0])]
        if known:
            return known
        sector = self.source.sector_size
        return [round_down(self.source.size_bytes * n // _PROBES, sector) for n in range(1, _PROBES)]

    def _save_sometimes(self) -> None:
        """A large map takes long to write: at most a twentieth of the time goes into it."""
        now = self.clock.now()
        if now - self._last_save > max(_SAVE_SECONDS * self.clock.pace, 20 * self._saving_takes):
            self._save_now()

    def _save_now(self) -> None:
        began = self.clock.now()
        self.target.sync()
        self._save(self.map)
        self._last_save = self.clock.now()
        self._saving_takes = self._last_save - began

    # Passes

    def _first(self, drive: Drive) -> None:
        """A survey through the rescue reads what matters most; then the folders of people."""
        store = RescueStore(self)
        try:
            self.surveyed = survey_drive(store, drive)
        except NeogenesisError:
            self._end_if_told()
            return
        self._end_if_told()
        for start, end in self._people(store, self.surveyed):
            self._take(Extents.of([(start, end)]))
        self._end_if_told()
        for partition in self.surveyed.survey.partitions:
            allocation = self.surveyed.allocations.get(partition.number)
            if allocation is not None:
                self._take(allocation.shifted(partition.start_bytes).joined(64 * KIB))

    def _end_if_told(self) -> None:
        """Raise what ended a read that was made for the survey or for listing files: a stop, or a full new drive."""
        if self.ended_by is not None:
            raise self.ended_by

    def _people(self, store: ReadableStore, surveyed: Surveyed) -> Iterator[tuple[int, int]]:
        for partition in surveyed.survey.partitions:
            if not partition.volume.understood:
                continue
            try:
                tree = VolumeTree(RangeView(store, partition.start_bytes, partition.size_bytes))
                for count, (path, _, inode) in enumerate(tree.walk()):
                    if count >= _MOST_FILES:
                        break
                    self._end_if_told()
                    if path.casefold().startswith(_PEOPLE):
                        for start, end in tree.byte_runs(inode):
                            yield partition.start_bytes + start, partition.start_bytes + end
            except NeogenesisError:
                self._end_if_told()

    def _take(self, wanted: Extents) -> None:
        """Read a set of ranges once, in order, without going back to what failed."""
        sector = self.source.sector_size
        wanted = wanted.widened(sector, self.source.size_bytes)
        for start, end in wanted:
            for first, last in self.map.ranges_between(start, end, "untried").chunks(self._step()):
                if self.map.state_at(first) == "untried":
                    self.fetch(first, last)
                    if self._slow:
                        break  # what is left of this stretch comes with the sweep

    def _step(self) -> int:
        return _LARGE if self._clean >= _CLEAN_BYTES else _CAREFUL

    def _forward(self) -> None:
        for start, end in self.map.ranges("untried"):
            at, skip = start, _FIRST_SKIP
            while at < end:
                stop = min(end, round_down(at, _CAREFUL) + self._step())
                good = self.fetch(at, stop)
                at = stop
                if good and not self._slow:
                    skip = _FIRST_SKIP
                else:
                    at = min(end, at + skip)
                    skip = min(skip * 2, max(_FIRST_SKIP, self.source.size_bytes // 100))

    def _backward(self) -> None:
        for start, end in list(self.map.ranges("untried"))[::-1]:
            at = end
            while at > start:
                first = max(start, round_up(at, _CAREFUL) - _CAREFUL)
                if first >= at:
                    first = max(start, at - _CAREFUL)
                if not self.fetch(first, at) or self._slow:
                    break
                at = first

    def _sweep(self) -> None:
        for start, end in self.map.ranges("untried").chunks(_CAREFUL):
            self.fetch(start, end)

    def _trim(self) -> None:
        for start, end in self.map.ranges("postponed").chunks(_CAREFUL):
            self._halve(start, end)

    def _halve(self, start: int, end: int) -> None:
        """Both halves of a range that failed as a whole."""
        least = max(_SMALL, self.source.sector_size)
        if end - start <= least:
            return
        middle = start + max(least, round_down((end - start) // 2, least))
        for first, last in ((start, middle), (middle, end)):
            if not self.fetch(first, last):
                self._halve(first, last)

    def _scrape(self) -> None:
        sector = self.source.sector_size
        for start, end in self.map.ranges("postponed").widened(sector, self.source.size_bytes).chunks(sector):
            if not self.fetch(start, end):
                self.map.mark(start, end, "lost")

    def _retry(self) -> None:
        sector = self.source.sector_size
        for _ in range(self.retries):
            for start, end in self.map.ranges("lost").chunks(sector):
                if not self.fetch(start, end):
                    self.map.mark(start, end, "lost")

    def _zero_lost(self) -> None:
        """What is lost stands as zeros, not as whatever the new drive held before."""
        for start, end in self.map.ranges("lost").union(self.map.ranges("postponed")):
            self.target.write_zeros(start, end)
