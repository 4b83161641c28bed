"""The time that a transfer goes by: the machine's own, or that of simulated drives, which passes faster."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import datetime


class BenchClock:
    """Never goes backwards, whatever is done to the time of day.

    `passed_s` are seconds that simulated drives let pass without anyone waiting for them.
    """

    def __init__(self, pace: float = 1.0, passed_s: Callable[[], float] = lambda: 0.0) -> None:
        self.pace, self._passed_s = pace, passed_s
        self._started = time.monotonic()

    def now(self) -> float:
        return (time.monotonic() - self._started) * self.pace + self._passed_s()

    def wall(self) -> str:
        return datetime.now().astimezone().isoformat(timespec="seconds")
