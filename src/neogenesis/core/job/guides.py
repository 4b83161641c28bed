"""What the window's guides say, for a command: waiting, the first start, what follows, and what is looked at before it
goes out. Answer of `neogenesis guide`."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from typing import ClassVar, Literal, get_args

from neogenesis.core.boot.after import first_boot_texts
from neogenesis.core.decide.numbers import numbers as decide_numbers
from neogenesis.core.job.model import LogEntry
from neogenesis.core.machine import Machine
from neogenesis.core.record import Record
from neogenesis.core.reinstall.afterwards import steps_for
from neogenesis.core.swap import answer_for
from neogenesis.core.swap.numbers import numbers

Part = Literal["waiting", "first-start", "afterwards", "handover"]
PARTS: tuple[Part, ...] = get_args(Part)


class GuideItem(Record, frozen=True, kw_only=True):
    """Seconds at the 10th and 90th percentile; `hands` wants a person; `settled_by` says what is on record of it."""

    code: str
    text: str
    seconds_p10: float = 0.0
    seconds_p90: float = 0.0
    hands: bool = False
    settled_by: str | None = None


class Guide(Record, frozen=True, kw_only=True):
    SCHEMA: ClassVar[str] = "neogenesis.guide/1"

    schema: str = SCHEMA
    part: Part
    items: tuple[GuideItem, ...]


def guide_for(part: Part, machine: Machine | None, log: Sequence[LogEntry] = (), has: Collection[str] = ()) -> Guide:
    """`has` names what the job is about: `fresh`, `memory`, `second`, `recovery`, `encrypted`, `old`."""
    makers: dict[Part, Callable[[], Iterator[GuideItem]]] = {
        "waiting": lambda: _waiting(machine, has),
        "first-start": lambda: _first_start(machine, has),
        "afterwards": _afterwards,
        "handover": lambda: _handover(log, has),
    }
    return Guide(part=part, items=tuple(makers[part]()))


def _waiting(machine: Machine | None, has: Collection[str]) -> Iterator[GuideItem]:
    mains = machine is not None and machine.openings is not None and machine.openings.first_start_needs_mains
    applies = {"always": True, "mains": mains, "memory": "memory" in has, "fresh": "fresh" in has}
    for wait in numbers().waiting:
        if applies.get(wait.when, False):
            yield GuideItem(code=wait.code, text=wait.text, seconds_p10=wait.normal_s[0], seconds_p90=wait.normal_s[2])


def _first_start(machine: Machine | None, has: Collection[str]) -> Iterator[GuideItem]:
    if machine is not None:
        told = {fact.code: fact.text for fact in answer_for(machine).facts}
        for code in ("first_start_needs_mains", "cover_sensor"):
            if code in told:
                yield GuideItem(code=code, text=told[code], hands=True)
    yield from _waiting(machine, has)
    for number, message in enumerate(first_boot_texts().messages, 1):
        steps = " ".join(message.then)
        yield GuideItem(code=f"message-{number}", text=f"{message.shows}: {message.means} {steps}", hands=True)


def _afterwards() -> Iterator[GuideItem]:
    """Usual minutes are on record; their spread is that of updates, which most of them are."""
    low, middle, high = decide_numbers().alone.updates
    for step in steps_for(""):
        seconds = 60 * (step.hands + step.alone)
        yield GuideItem(
            code=step.code,
            text=step.text,
            seconds_p10=round(seconds * low / middle),
            seconds_p90=round(seconds * high / middle),
            hands=step.hands > 0,
        )


def _handover(log: Sequence[LogEntry], has: Collection[str]) -> Iterator[GuideItem]:
    seen: dict[str, str] = {}
    for entry in log:
        if entry.kind == "after-check":
            code = str(entry.figures.get("code", ""))
            if entry.text.startswith("Seen:"):
                seen[code] = f"{entry.who}, {entry.at}"
            else:
                seen.pop(code, None)
    for check in first_boot_texts().checks:
        if not check.when or check.when in has:
            yield GuideItem(code=check.code, text=check.text, hands=True, settled_by=seen.get(check.code))
