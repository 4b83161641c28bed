"""The time that a transfer goes by: the machine's own, or that of simulated drives, which passes faster."""

from __future__ import annotations

import time
from datetime import datetime


class BenchClock:
    """Never goes backwards, whatever is done to the time of day."""

    def __init__(self, pace: float = 1.0) -> None:
        self.pace = pace
        self._started = time.monotonic()

    def now(self) -> float:
        return (time.monotonic() - self._started) * self.pace

    def wall(self) -> str:
        return datetime.now().astimezone().isoformat(timespec="seconds")
