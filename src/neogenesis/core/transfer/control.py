"""Pausing and stopping a transfer, and the time it goes by."""

from __future__ import annotations

import threading
from typing import Protocol

from neogenesis.core.errors import Stopped


class Clock(Protocol):
    """Seconds that only go forward; simulated drives make them pass faster."""

    def now(self) -> float: ...

    def wall(self) -> str:
        """The time of day in ISO 8601, for records."""
        ...


class Control:
    """One token for all threads of a transfer: stop once and for all, or pause and go on."""

    def __init__(self) -> None:
        self._stop_reason = ""
        self._running = threading.Event()
        self._running.set()

    def stop(self, reason: str) -> None:
        """Ask all threads to end at the next safe point; the first reason stays."""
        self._stop_reason = self._stop_reason or reason
        self._running.set()

    def pause(self) -> None:
        if not self._stop_reason:
            self._running.clear()

    def go_on(self) -> None:
        self._running.set()

    @property
    def paused(self) -> bool:
        return not self._running.is_set()

    def checkpoint(self) -> None:
        """Wait while paused; raises Stopped once a stop was asked for."""
        while not self._running.wait(0.2):
            pass
        if self._stop_reason:
            raise Stopped(
                f"Stopped safely: {self._stop_reason}. The old drive is untouched; the new one has no table yet.",
                "Run the transfer again with --resume to go on.",
            )
