"""A stopwatch with three marks: power, the log-in screen, usable. It goes by a clock that is never set back."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from neogenesis.core.intake import Run

Phase = Literal["ready", "starting", "logged-in"]


@dataclass(slots=True)
class Stopwatch:
    """`now` gives seconds that only go forward. With `with_login` False the second press ends the run."""

    now: Callable[[], float]
    with_login: bool = True
    phase: Phase = "ready"
    _began: float = 0.0
    _login: float | None = None

    def press(self, wall: str) -> Run | None:
        """One press of the key; the finished run with the last of them. `wall` is the time of day, for the record."""
        moment = self.now()
        if self.phase == "ready":
            self._began, self._login, self.phase = moment, None, "starting"
            return None
        if self.phase == "starting" and self.with_login:
            self._login, self.phase = moment - self._began, "logged-in"
            return None
        self.phase = "ready"
        return Run(seconds=round(moment - self._began, 1), login_s=_tenths(self._login), at=wall)

    def give_up(self) -> None:
        """Nothing of this run is kept."""
        self.phase = "ready"

    @property
    def running(self) -> bool:
        return self.phase != "ready"

    @property
    def elapsed_s(self) -> float:
        return self.now() - self._began if self.running else 0.0

    @property
    def login_s(self) -> float | None:
        return self._login if self.running else None


def _tenths(seconds: float | None) -> float | None:
    return None if seconds is None else round(seconds, 1)
