"""What was measured before and after: how much faster, and what a report of a battery says of another machine."""

from __future__ import annotations

import re
from dataclasses import dataclass

from neogenesis.core.intake.model import Intake, Timing
from neogenesis.core.intake.options import options


@dataclass(frozen=True, slots=True)
class Compared:
    """Something measured twice; `ratio` is how many times as much it was before, None where that says nothing."""

    title: str
    before: str
    after: str
    ratio: float | None = None


def timed_twice(intake: Intake) -> tuple[tuple[Timing, Timing], ...]:
    """What was timed before and after, each with runs that count."""
    found = []
    for before in intake.timings:
        after = intake.timing(before.name, "after") if before.when == "before" else None
        if after is not None and before.median_s and after.median_s:
            found.append((before, after))
    return tuple(found)


def compared(intake: Intake) -> tuple[Compared, ...]:
    """Timings and figures that were taken before and after."""
    rows = []
    for before, after in timed_twice(intake):
        one, other = before.median_s or 0.0, after.median_s or 0.0
        count = min(len(before.counted), len(after.counted))
        runs = f"median of {count} runs" if count > 1 else "one run"
        rows.append(Compared(before.name, f"{one:g} s", f"{other:g} s ({runs}, {after.method})", one / other))
    for kind in options().figure:
        was, now = intake.figure(kind.code), intake.figure(kind.code, "after")
        if kind.compare and was is not None and now is not None:
            rows.append(Compared(kind.title, f"{was.text} {kind.unit}".strip(), f"{now.text} {kind.unit}".strip()))
    return tuple(rows)


def of_another_machine(intake: Intake) -> str:
    """What is strange about the battery's report, as a sentence; empty for nothing."""
    named = intake.battery.machine
    plate = intake.plate.title
    if not named or not plate:
        return ""
    words = {w for w in re.split(r"\W+", plate.casefold()) if w}
    if words & {w for w in re.split(r"\W+", named.casefold()) if w}:
        return ""
    return f"The battery report is of “{named}”, and this machine is “{plate}”."
