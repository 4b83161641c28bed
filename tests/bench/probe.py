"""How long the event loop of a window stood still."""

from __future__ import annotations

import time

from PyQt6.QtCore import QTimer


class Probe:
    """The longest time for which the event loop did not turn, in seconds."""

    def __init__(self) -> None:
        self.worst_s = 0.0
        self._last = time.perf_counter()
        self._timer = QTimer()
        self._timer.setInterval(5)
        self._timer.timeout.connect(self._turn)

    def _turn(self) -> None:
        now = time.perf_counter()
        self.worst_s = max(self.worst_s, now - self._last - 0.005)
        self._last = now

    def start(self) -> None:
        self._last = time.perf_counter()
        self._timer.start()

    def stop(self) -> None:
        self._timer.stop()
