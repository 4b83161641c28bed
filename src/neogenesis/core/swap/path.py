"""The steps of one job, in an order that is safe: shared ones once, and only what it needs."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Literal

from neogenesis.core.errors import BadArgument
from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import Fastener, Purpose, Step
from neogenesis.core.swap.faults import check_steps, is_battery
from neogenesis.core.swap.numbers import numbers
from neogenesis.core.swap.order import ordered, required

Phase = Literal["opening", "work", "closing"]
Count = tuple[str, int]
PURPOSES: tuple[Purpose, ...] = ("open", "drive", "memory")

_OUT = {
    "remove": "Take out {0}",
    "lift": "Lift {0}",
    "unplug": "Unplug {0}",
    "slide": "Slide out {0}",
    "pry": "Pry loose {0}",
    "drain": "Drain: {0}",
    "photograph": "Photograph {0}",
    "check": "Check: {0}",
}
_IN = {
    "remove": "Put back {0}",
    "lift": "Lower {0}",
    "unplug": "Plug in {0}",
    "slide": "Slide in {0}",
    "pry": "Close {0}",
    "drain": "Nothing to undo: {0}",
    "photograph": "Compare with the photograph: {0}",
    "check": "Check again: {0}",
}


@dataclass(frozen=True, slots=True)
class Row:
    """A step as it is done in one phase. `fasteners` come out or go in, `loosened` ones are captive and stay.

    `seconds` is planned; `wait_s` how long nothing may be done at its end; `text` is whole, `pattern` and `what` are
    its two halves.
    """

    phase: Phase
    step: Step
    pattern: str
    what: str
    fasteners: tuple[Count, ...]
    loosened: tuple[Count, ...]
    seconds: float
    wait_s: float = 0.0

    @property
    def text(self) -> str:
        return self.pattern.format(self.what)

    @property
    def pieces(self) -> int:
        return sum(count for _, count in self.fasteners)

    @property
    def is_idle(self) -> bool:
        """Whether hands have nothing to do: what was only checked, drained or photographed is not undone."""
        return self.phase == "closing" and self.step.do == "drain" and not self.step.back


@dataclass(frozen=True, slots=True)
class Path:
    """`closing` undoes `opening` and `work` in reverse."""

    machine: Machine
    opening: tuple[Row, ...]
    work: tuple[Row, ...]
    closing: tuple[Row, ...]

    @property
    def rows(self) -> tuple[Row, ...]:
        return (*self.opening, *self.work, *self.closing)

    @property
    def pieces(self) -> int:
        """Fasteners that come out."""
        return sum(row.pieces for row in (*self.opening, *self.work))

    @property
    def cautions(self) -> tuple[str, ...]:
        """Codes, those of its kind and of the machine first, then as the steps bring them."""
        of_machine = cautions_of(self.machine)
        if not self.opening and not self.work and self.machine.steps:
            return ()
        of_steps = (code for row in (*self.opening, *self.work) for code in row.step.cautions)
        return tuple(dict.fromkeys((*of_machine, *of_steps)))

    @property
    def tools(self) -> tuple[str, ...]:
        """What is held in the hand, in the order in which it is first needed."""
        fasteners = {f.id: f for f in self.machine.fasteners}
        found: list[str] = []
        for row in (*self.opening, *self.work):
            heads = [fasteners[i].head for i, _ in (*row.fasteners, *row.loosened)]
            found += [t for t in (row.step.tool or "", *heads) if t]
        return tuple(dict.fromkeys(found))


def has_battery(machine: Machine) -> bool:
    """As the profile or one of its steps says; else whether machines of its kind usually have one."""
    if machine.has_battery or any(is_battery(step) for step in machine.steps):
        return True
    return machine.has_battery is None and machine.kind in numbers().of_kind["usual_battery"]


def cautions_of(machine: Machine) -> tuple[str, ...]:
    """Of its kind, whatever its profile names, and those that the profile adds."""
    kinds = numbers().of_kind
    cells = kinds["battery"] if has_battery(machine) else ()
    own = machine.openings.cautions if machine.openings is not None else ()
    of_kind = kinds.get(machine.kind, ())
    mains = tuple(code for code in of_kind if code == "mains")  # power goes first: the plug, then the cells
    return tuple(dict.fromkeys((*mains, *cells, *of_kind, *own)))


def path_of(machine: Machine, purposes: Collection[Purpose] | None = None, bays: Collection[str] | None = None) -> Path:
    """What is done for these purposes, None for everything; of steps for single bays only those of `bays`, if given.

    Raises BadRecord for a profile whose steps cannot be true.
    """
    check_steps(machine)
    wanted = None if purposes is None else set(purposes)
    steps, _ = ordered(machine)
    goals = {s.id for s in steps if _is_wanted(s, wanted, bays)}
    needed = goals.union(*(required(machine, s) for s in steps if s.id in goals)) if goals else goals
    chosen = [s for s in steps if s.id in needed]
    first_work = next((n for n, s in enumerate(chosen) if _is_work(s)), len(chosen))
    opening = [s for n, s in enumerate(chosen) if "open" in s.purposes or (not s.purposes and n < first_work)]
    opened = {s.id for s in opening}
    work = [s for s in chosen if s.id not in opened]
    by_id = {f.id: f for f in machine.fasteners}
    out = tuple(_row("opening", s, by_id) for s in opening), tuple(_row("work", s, by_id) for s in work)
    closing = tuple(_row("closing", s, by_id) for s in reversed((*opening, *work)))
    return Path(machine, *out, closing)


def purposes_of(text: str) -> set[Purpose]:
    """`drive,memory` as purposes; raises BadArgument for any other word."""
    found: set[Purpose] = set()
    for word in text.split(","):
        known = next((p for p in PURPOSES if p == word.strip().casefold()), None)
        if known is None:
            raise BadArgument(f"“{word.strip()}” is no purpose of opening a machine.", "Give drive, memory, or both.")
        found.add(known)
    return found


def bays_of(machine: Machine, names: Collection[str]) -> set[str]:
    """Those names, which bays of the machine have; raises BadArgument."""
    for name in names:
        if all(bay.name != name for bay in machine.bays):
            known = ", ".join(bay.name for bay in machine.bays) or "none"
            raise BadArgument(f"There is no bay “{name}” in this machine.", f"Its bays: {known}.")
    return set(names)


def _is_work(step: Step) -> bool:
    return bool(step.purposes) and "open" not in step.purposes


def _is_wanted(step: Step, purposes: set[Purpose] | None, bays: Collection[str] | None) -> bool:
    if bays is not None and step.bay is not None and step.bay not in bays:
        return False
    return purposes is None or not _is_work(step) or bool(purposes & set(step.purposes))


def _row(phase: Phase, step: Step, fasteners: dict[str, Fastener]) -> Row:
    seconds, out = numbers().seconds, phase != "closing"
    counts = [
        (fasteners[held], fasteners[held].count) if isinstance(held, str) else (fasteners[held.id], held.count)
        for held in step.fasteners
    ]
    free = tuple((f.id, n) for f, n in counts if not f.captive)
    captive = tuple((f.id, n) for f, n in counts if f.captive)
    pieces = sum(n for _, n in counts)
    wait = step.wait_s if step.wait_s is not None else numbers().wait.get(step.do, 0.0)
    planned = seconds.of(step.do) + pieces * (seconds.screw_out if out else seconds.screw_in)
    pattern, what = (_OUT if out else _IN)[step.do], step.what
    if not out and step.back:
        pattern, what = "{0}", step.back
    if not out and step.do == "drain":
        wait = planned = 0.0
    if not out and step.do in ("check", "photograph"):
        wait = 0.0
    return Row(phase, step, pattern, what, free, captive, planned + wait, wait if out else 0.0)
