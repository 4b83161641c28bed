"""How much faster a machine became: two measured times, and what follows from them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from neogenesis.core.job.model import LogEntry


@dataclass(frozen=True, slots=True)
class Improvement:
    """Seconds before and after, each the median of `runs` runs measured by `method`."""

    before_s: float
    after_s: float
    runs: int = 1
    method: str = "stopwatch"

    @property
    def ratio(self) -> float:
        """How many times as fast."""
        return self.before_s / self.after_s

    @property
    def saved_percent(self) -> float:
        """How much less waiting."""
        return 100 * (1 - self.after_s / self.before_s)

    def sentence(self) -> str:
        """`198 s before, 36 s now: 5.5 times as fast, 82 % less waiting (median of 3 runs, stopwatch)`."""
        times = f"{self.before_s:g} s before, {self.after_s:g} s now"
        how = f"{f'median of {self.runs} runs' if self.runs > 1 else 'one run'}, {self.method}"
        if self.after_s >= self.before_s:
            return f"{times}: not faster ({how})"
        return f"{times}: {self.ratio:.1f} times as fast, {self.saved_percent:.0f} % less waiting ({how})"


def improvement_of(log: Sequence[LogEntry]) -> Improvement | None:
    """From the latest figures `before_s` and `after_s` in a logbook; None unless both were measured."""
    before = next((e for e in reversed(log) if _positive(e, "before_s")), None)
    after = next((e for e in reversed(log) if _positive(e, "after_s")), None)
    if before is None or after is None:
        return None
    runs = min(int(e.figures.get("runs", 1)) for e in (before, after))
    return Improvement(float(before.figures["before_s"]), float(after.figures["after_s"]), runs)


def _positive(entry: LogEntry, name: str) -> bool:
    value = entry.figures.get(name)
    return isinstance(value, int | float) and value > 0
