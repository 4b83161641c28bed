"""Pausing and stopping long work, and the time it goes by."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Literal, Protocol

from neogenesis.core.errors import Stopped

Resting = Literal["paused", "resumed"]


class Clock(Protocol):
    """Seconds that only go forward; with simulated drives `pace` of them pass in one real second."""

    pace: float

    def now(self) -> float: ...

    def wall(self) -> str:
        """The time of day in ISO 8601, for records."""
        ...


class Control:
    """One token for all threads of a work: stop once and for all, or pause and go on."""

    def __init__(self) -> None:
        self.tell: Callable[[Resting], None] = lambda what: None
        self._resting = threading.Lock()
        self._stop_reason = ""
        self._running = threading.Event()
        self._running.set()
        self._rested_s = 0.0

    @property
    def rested_s(self) -> float:
        """Real seconds that the work has stood still since it began, because somebody paused it."""
        return self._rested_s

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
        """Wait while paused; raises Stopped once a stop was asked for.

        `tell` hears, in the thread that waits, when the work has really come to rest and when it goes on.
        """
        if self.paused:
            with self._resting:
                if self.paused:
                    self.tell("paused")
                    began = time.monotonic()
                    while not self._running.wait(0.2):
                        pass
                    self._rested_s += time.monotonic() - began
                    self.tell("resumed")
        if self._stop_reason:
            raise Stopped(
                f"Stopped safely: {self._stop_reason}. The old drive is untouched, and what was done is kept.",
                "Run the same command again to go on, a transfer with --resume.",
            )


class SharedControl(Control):
    """A token of its own for one of several works that are steered together by `first`."""

    def __init__(self, first: Control) -> None:
        super().__init__()
        self._first = first

    @property
    def rested_s(self) -> float:
        return self._rested_s + self._first.rested_s

    def checkpoint(self) -> None:
        self._first.checkpoint()
        super().checkpoint()
