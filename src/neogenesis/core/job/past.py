"""What a shop's own finished jobs say of its estimates: planned against actual, by kind of work.

The factor of a kind is exp(m * n / (n + k)), with m the median of ln(actual / planned) over its n jobs: drawn towards 1
as if k more jobs had ended as planned, where k falls from `strength` to nothing over the first `lets_go` jobs
(`data/decide.toml`). A median is not moved by slips of the hand, and counts as four times or a quarter at most. What is
planned is without the factor, or it would learn from itself and stop half way.
"""

from __future__ import annotations

import csv
import io
import math
import statistics
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from neogenesis.core.csv_rows import plain_row
from neogenesis.core.decide.numbers import numbers
from neogenesis.core.job.model import LogEntry

KINDS = ("copy", "hands", "opening")
_FAR = math.log(4)


@dataclass(frozen=True, slots=True)
class Outcome:
    """One kind of work of one job: seconds planned at the 10th, 50th and 90th percentile, and what it took."""

    ticket: str
    at: str
    kind: str
    planned: tuple[float, float, float]
    actual_s: float

    @property
    def within(self) -> bool:
        return self.planned[0] <= self.actual_s <= self.planned[2]


@dataclass(frozen=True, slots=True)
class Learned:
    """`within` of `jobs` ended within their range; `factor` is what its times are multiplied by."""

    kind: str
    jobs: int
    within: int
    factor: float


def outcomes_of(ticket: str, log: Sequence[LogEntry]) -> list[Outcome]:
    """Of a job that was handed over; none of any other, or where nothing was planned or measured."""
    if not any(e.kind == "handover" for e in log):
        return []
    found = []
    for kind, planned_in, done_in, key in (
        ("copy", "transfer-start", "transfer-done", "seconds"),
        ("hands", "decide", "measure", "hands_s"),
        ("opening", "swap-start", "swap-done", "hands_s"),
    ):
        planned = _last(log, planned_in, "planned")
        actual = _last(log, done_in, key)
        spread = planned[1].get(kind) if planned is not None and isinstance(planned[1], dict) else None
        done = actual is not None and isinstance(actual[1], int | float) and actual[1] > 0
        if actual is not None and done and spread is not None and _is_spread(spread):
            found.append(Outcome(ticket, actual[0], kind, (spread[0], spread[1], spread[2]), float(actual[1])))
    return found


def _last(log: Sequence[LogEntry], kind: str, key: str) -> tuple[str, Any] | None:
    """When it was written and what, of the latest entry of a kind that has it."""
    return next(((e.at, e.figures[key]) for e in reversed(log) if e.kind == kind and key in e.figures), None)


def _is_spread(value: Any) -> bool:
    return (
        isinstance(value, list | tuple)
        and len(value) == 3
        and all(isinstance(n, int | float) and not isinstance(n, bool) for n in value)
        and 0 < value[0] <= value[1] <= value[2]
    )


def learned(outcomes: Iterable[Outcome]) -> list[Learned]:
    """By kind of work, those that there are any of."""
    found = []
    every = list(outcomes)
    for kind in KINDS:
        mine = [o for o in every if o.kind == kind]
        if mine:
            logs = [math.log(o.actual_s / o.planned[1]) for o in mine]
            middle = min(max(statistics.median(logs), -_FAR), _FAR)
            jobs, learning = len(mine), numbers().learning
            pull = learning.strength * max(0.0, 1 - jobs / learning.lets_go)
            factor = math.exp(middle * jobs / (jobs + pull))
            found.append(Learned(kind, len(mine), sum(o.within for o in mine), factor))
    return found


def factors_of(outcomes: Iterable[Outcome]) -> tuple[tuple[str, float], ...]:
    """As the model of the ways takes them."""
    return tuple((one.kind, one.factor) for one in learned(outcomes))


def as_csv(outcomes: Iterable[Outcome]) -> str:
    """Without names of customers; seconds."""
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(("ticket", "at", "kind", "planned_p10_s", "planned_p50_s", "planned_p90_s", "actual_s", "within"))
    for o in outcomes:
        planned = (f"{n:.1f}" for n in o.planned)
        rows.writerow(plain_row((o.ticket, o.at, o.kind, *planned, f"{o.actual_s:.1f}", o.within)))
    return out.getvalue()
