"""What follows a clean system: steps that need hands or run alone, their order, and the way that decides the end."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from typing import ClassVar

import msgspec

from neogenesis.core.handed import handed
from neogenesis.core.record import Record, StrictRecord


class AfterStep(StrictRecord, frozen=True, kw_only=True):
    """`hands` and `alone` are usual minutes; `needs` are codes of steps that come before."""

    code: str
    text: str
    hands: float
    alone: float
    needs: tuple[str, ...] = ()
    caution: str = ""
    families: tuple[str, ...] = ()


class _Steps(StrictRecord, frozen=True, kw_only=True):
    steps: tuple[AfterStep, ...]


class Timed(Record, frozen=True, kw_only=True):
    """Seconds since the epoch by the bench's clock: when a step was begun, and when it ended."""

    begun: float | None = None
    ended: float | None = None


class AfterwardsRecord(Record, frozen=True, kw_only=True):
    """`steps` by code; `left_out` are codes of steps that this job does without."""

    SCHEMA: ClassVar[str] = "neogenesis.afterwards/1"

    schema: str = SCHEMA
    steps: dict[str, Timed] = {}
    left_out: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Scheduled:
    """Minutes from now: `start` to `hands_end` wants a person, then it runs alone to `end`.

    `critical`: it decides the end of all. A step that has ended lies before now.
    """

    step: AfterStep
    start: float
    hands_end: float
    end: float
    critical: bool = False
    done: bool = False


@cache
def after_steps() -> tuple[AfterStep, ...]:
    """Those that ship; raises LookupError when they were not handed over, ValueError when they go in a circle."""
    steps = msgspec.convert(tomllib.loads(handed("afterwards.toml")), _Steps).steps
    _in_order(steps)
    return steps


def steps_for(family: str, left_out: tuple[str, ...] = ()) -> tuple[AfterStep, ...]:
    """Of a system of that family; what is left out is needed by nothing."""
    return tuple(
        msgspec.structs.replace(s, needs=tuple(n for n in s.needs if n not in left_out))
        for s in after_steps()
        if s.code not in left_out and (not s.families or family in s.families)
    )


def _in_order(steps: tuple[AfterStep, ...]) -> list[AfterStep]:
    """Each behind what it needs; raises ValueError when that cannot be."""
    left, found, known = list(steps), list[AfterStep](), {s.code for s in steps}
    while left:
        ready = next((s for s in left if all(n not in known or n in {f.code for f in found} for n in s.needs)), None)
        if ready is None:
            raise ValueError("the steps need one another in a circle")
        left.remove(ready)
        found.append(ready)
    return found


def schedule(steps: tuple[AfterStep, ...], timed: Mapping[str, Timed], now: float) -> list[Scheduled]:
    """One person at one machine: hands do one thing at a time, what runs alone does so beside. Minutes from `now`.

    Of the steps that could be begun, the one with the longest way behind it comes first. What has been begun goes on.
    """
    order = _in_order(steps)
    tail = {s.code: 0.0 for s in order}
    for step in reversed(order):
        after = [tail[s.code] for s in order if step.code in s.needs]
        tail[step.code] = step.hands + step.alone + max(after, default=0.0)
    found: dict[str, Scheduled] = {}
    free = 0.0
    for step in order:
        one = timed.get(step.code, Timed())
        if one.ended is not None:
            begun = (one.begun if one.begun is not None else one.ended) - now
            found[step.code] = Scheduled(step, begun / 60, (one.ended - now) / 60, (one.ended - now) / 60, done=True)
        elif one.begun is not None:
            begun = (one.begun - now) / 60
            hands = max(begun + step.hands, begun)
            found[step.code] = Scheduled(step, begun, hands, max(hands + step.alone, 0.0))
            free = max(free, hands, 0.0)
    left = [s for s in order if s.code not in found]
    while left:
        ready = [s for s in left if all(n in found or n not in tail for n in s.needs)]
        at = {s.code: max([free, *(found[n].end for n in s.needs if n in found)]) for s in ready}
        first = min(ready, key=lambda s: (at[s.code], -tail[s.code]))
        start = max(0.0, at[first.code])
        hands = start + first.hands
        found[first.code] = Scheduled(first, start, hands, hands + first.alone)
        free = hands
        left.remove(first)
    return _with_critical([found[s.code] for s in order])


def _with_critical(found: list[Scheduled]) -> list[Scheduled]:
    """Back from the last end, by what each step had to wait for: another step's end, or the hands."""
    critical: set[str] = set()
    current = max((s for s in found if not s.done), key=lambda s: s.end, default=None)
    while current is not None:
        critical.add(current.step.code)
        start = current.start
        before = [s for s in found if not s.done and s.step.code not in critical]
        current = next(
            (s for s in before if abs(s.end - start) < 1e-6 and s.step.code in _needs_of(critical, found)),
            next((s for s in before if abs(s.hands_end - start) < 1e-6), None),
        )
        if start <= 0:
            break
    return [Scheduled(s.step, s.start, s.hands_end, s.end, s.step.code in critical, s.done) for s in found]


def _needs_of(codes: set[str], found: list[Scheduled]) -> set[str]:
    return {n for s in found if s.step.code in codes for n in s.step.needs}


def end_of(found: list[Scheduled]) -> float:
    """Minutes from now until everything has ended; 0 when it has."""
    return max((s.end for s in found if not s.done), default=0.0)


def hands_left(found: list[Scheduled]) -> float:
    """Minutes that still want a person."""
    return sum(s.hands_end - max(0.0, s.start) for s in found if not s.done and s.hands_end > 0)


def free_until(found: list[Scheduled]) -> float:
    """Minutes from now in which nothing here wants hands: time for another bench."""
    wanted = [max(0.0, s.start) for s in found if not s.done and s.hands_end > 0]
    return min(wanted, default=0.0)


def fits_between(found: list[Scheduled], minutes: float) -> Scheduled | None:
    """The first step that could be begun now and wants hands for at most so long."""
    now = [s for s in found if not s.done and s.start == 0 and 0 < s.hands_end <= minutes]
    return min(now, key=lambda s: -s.end, default=None)
