"""How far a transfer is, how fast it goes, and how long it will still take."""

from __future__ import annotations

from dataclasses import dataclass, field

from neogenesis.core.drive import Drive
from neogenesis.core.estimate import rate_of, remaining_seconds
from neogenesis.core.work import Clock, Event
from neogenesis.core.work.control import Resting

_SECONDS = 0.2


@dataclass
class Progress:
    """What has been done of the current phase (fill, copy or verify). Seconds of the transfer's clock.

    `verify_after` says that everything will be read back from `target` once it is copied; `forecast` is how long all of
    it was expected to take.
    """

    clock: Clock
    target: Drive
    verify_after: bool
    forecast: tuple[float, float] = (0.0, 0.0)
    phase: str = ""
    total: int = 0
    done: int = 0
    resumed: int = 0
    by_partition: dict[int, int] = field(default_factory=dict)
    _started: float = 0.0
    _told: float = 0.0
    _told_done: int = 0
    _rate: float = 0.0
    _slowest_read: float = 0.0
    _rested_at: float = 0.0

    def begin(self, phase: str, total: int) -> None:
        """A phase of `total` bytes begins."""
        self.phase, self.total, self.done, self.resumed = phase, total, 0, 0
        self.by_partition = {}
        self._started, self._told, self._told_done, self._rate = self.clock.now(), 0.0, 0, 0.0

    def skip(self, length: int, partition: int | None) -> None:
        """What an earlier run has done."""
        self.done += length
        self.resumed += length
        if partition is not None:
            self.by_partition[partition] = self.by_partition.get(partition, 0) + length

    def add(self, length: int, partition: int | None = None, read_seconds: float = 0.0) -> None:
        self.done += length
        self._slowest_read = max(self._slowest_read, read_seconds)
        if partition is not None:
            self.by_partition[partition] = self.by_partition.get(partition, 0) + length

    def rested(self, what: Resting) -> None:
        """Time at rest does not count against the rate."""
        if what == "paused":
            self._rested_at = self.clock.now()
        else:
            self._started += self.clock.now() - self._rested_at
            self._told = 0.0

    def event(self, place: int, target: int, partition: int | None) -> Event | None:
        """What there is to tell, if it is time to: at most five times a second."""
        now = self.clock.now()
        since = now - self._told
        if self._told and since < _SECONDS * self.clock.pace and self.done < self.total:
            return None
        if self._told and since > 0:
            latest = (self.done - self._told_done) / since
            self._rate = latest if not self._rate else 0.7 * self._rate + 0.3 * latest
        left = remaining_seconds(self.done - self.resumed, now - self._started, self.total - self.done, self._rate)
        if self.phase == "copy" and self.verify_after:
            # Reading back usually goes at the pace of the copy or faster, at best at that of the target's reads.
            fastest = rate_of(self.target).read[2]
            left = (left[0] + self.total / fastest, left[1] + self.total / max(self._rate, 1.0))
        if self.phase == "fill":  # most of the forecast is still to come, all of it at worst
            share = self.done / max(1, self.total)
            left = (max(left[0], self.forecast[0] * (1 - share)), left[1] + self.forecast[1])
        found = Event(
            event="progress",
            phase=self.phase,
            partition=partition,
            partition_bytes=self.by_partition.get(partition, 0) if partition is not None else 0,
            copied_bytes=self.done,
            total_bytes=self.total,
            rate_bytes_per_s=self._rate,
            slowest_read_s=self._slowest_read,
            place_bytes=place,
            target_bytes=target,
            left_s=left,
        )
        self._told, self._told_done, self._slowest_read = now, self.done, 0.0
        return found
