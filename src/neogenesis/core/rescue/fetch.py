"""One gentle read of a failing drive, and what follows from it: the map, rests, and whether it still lives."""

from __future__ import annotations

import mmap
from collections.abc import Callable

from neogenesis.core.errors import ReadFailed, Stopped
from neogenesis.core.judgement import judgement
from neogenesis.core.rescue.map import RescueMap
from neogenesis.core.rescue.rest import Rests
from neogenesis.core.store import ReadableStore, WritableStore, still_answers
from neogenesis.core.transfer.pipeline import data_runs, write_runs
from neogenesis.core.units import KIB, MIB, round_down
from neogenesis.core.work import Clock, Control

LARGE_BYTES, CAREFUL_BYTES = MIB, 128 * KIB
#: So much without trouble, and reads grow large again.
_CLEAN_BYTES = 64 * MIB
_SILENT_AFTER = 4
_PROBES = 24
_SAVE_SECONDS = 5.0


class Fetcher:
    """Reads ranges of `source` past every cache and puts them onto `target`. For one thread at a time."""

    def __init__(
        self,
        source: ReadableStore,
        target: WritableStore,
        found: RescueMap,
        control: Control,
        clock: Clock,
        save: Callable[[RescueMap], None],
        heard: Callable[[], None],
        rests: Rests,
        busy_s: Callable[[], float] | None = None,
    ) -> None:
        """`heard` is called after every read. `busy_s` tells how long reads take, where the drive has such a clock."""
        self.source, self.target, self.map = source, target, found
        self.control, self.clock, self.rests = control, clock, rests
        self._medium = source.uncached()
        self._save, self._heard, self._busy_s = save, heard, busy_s or clock.now
        self._buffer = memoryview(mmap.mmap(-1, LARGE_BYTES))  # page-aligned, so that a device fills it directly
        self._last_save = clock.now()
        self._saving_takes = 0.0
        self._failures: list[tuple[int, int]] = []
        self._good: int | None = None
        self._clean = 0
        self._usual: dict[int, float] = {}
        self.slow = False
        self.slowest_read_s = 0.0
        self.requested_bytes = 0
        self.place = 0

    @property
    def step(self) -> int:
        """How much to ask for at once."""
        return LARGE_BYTES if self._clean >= _CLEAN_BYTES else CAREFUL_BYTES

    def fetch(self, start: int, end: int) -> bool:
        """Read a range of at most 1 MiB and put it onto the new drive; False when it could not be read.

        Raises Stopped, WriteFailed.
        """
        self.control.checkpoint()
        piece = self._buffer[: end - start]
        began = self._busy_s()
        self.requested_bytes += end - start
        try:
            self._medium.read_into(start, piece)
        except ReadFailed:
            self._clean = 0
            self._failures.append((start, end))
            self.map.mark(start, end, "postponed")
            if len(self._failures) >= _SILENT_AFTER:
                self._ask_whether_alive()
            self._after(end, self._busy_s() - began)
            return False
        took = self._busy_s() - began
        self.slow = self._is_slow(end - start, took)
        self._failures.clear()
        self._clean = 0 if self.slow else self._clean + end - start
        self._good = start
        runs = data_runs(piece)
        write_runs(self.target, start, piece, runs)
        self.map.mark(start, end, "read")
        if runs:
            self.map.remember(start, piece)
        self._after(end, took)
        return True

    def _after(self, place: int, took: float) -> None:
        """Every read, good or bad, is told, and may be followed by a rest."""
        self.place, self.slowest_read_s = place, max(self.slowest_read_s, took)
        self._heard()
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
            self.save()

    def save(self) -> None:
        """Only what the new drive has confirmed is put on record; raises WriteFailed and leaves the map before."""
        began = self.clock.now()
        self.target.sync()
        self._save(self.map)
        self._last_save = self.clock.now()
        self._saving_takes = self._last_save - began
