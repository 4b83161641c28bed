"""When a failing drive is left alone for a while: when it is hot, and when it stalls.

Heat makes marginal places worse, and a drive that stalls is busy with itself; both pass by waiting. The numbers are
in the judgement file.
"""

from __future__ import annotations

from collections.abc import Callable

from neogenesis.core.judgement import judgement

Temperature = Callable[[], float | None]


class Rests:
    """Asked after every read. `wait` lets seconds pass and may raise Stopped; `tell` hears why the drive rests."""

    def __init__(
        self,
        temperature: Temperature = lambda: None,
        wait: Callable[[float], None] = lambda seconds: None,
        tell: Callable[[str], None] = lambda reason: None,
    ) -> None:
        self._temperature, self._wait, self._tell = temperature, wait, tell
        self.celsius: float | None = None
        self._numbers = judgement().rescue
        self._next_rest_s = self._numbers.rest_s
        self._next_look_s = 0.0
        self.rested_s = 0.0

    def after_read(self, took_s: float, now_s: float) -> None:
        """A read took `took_s`; `now_s` is the time by the work's own clock."""
        if took_s >= self._numbers.stall_s:
            self._rest(self._next_rest_s, f"the drive stalled for {took_s:.0f} s")
            self._next_rest_s = min(self._next_rest_s * 2, self._numbers.longest_rest_s)
        elif took_s < 1.0:
            self._next_rest_s = self._numbers.rest_s
        if now_s >= self._next_look_s:
            waited = self._cool()
            in_vain = waited >= self._numbers.longest_cooling_s
            self._next_look_s = now_s + waited + (waited if in_vain else self._numbers.look_s)

    def _cool(self) -> float:
        """Wait until the drive is cool again, but never for ever: a hot dock cools nothing. Returns the seconds."""
        self.celsius, waited, numbers = self._temperature(), 0.0, self._numbers
        if self.celsius is None or self.celsius <= numbers.hot_celsius:
            return 0.0
        while self.celsius is not None and self.celsius > numbers.cool_celsius and waited < numbers.longest_cooling_s:
            self._rest(numbers.rest_s, f"it is {self.celsius:.0f} °C hot")
            waited += numbers.rest_s
            self.celsius = self._temperature()
        return waited

    def _rest(self, seconds: float, why: str) -> None:
        self._tell(f"The drive rests: {why}.")
        self._wait(seconds)
        self.rested_s += seconds
