"""Changing the steps and fasteners of a profile, one thing at a time, with undo.

Each function gives a new profile and leaves the old one; whether it can be true is asked elsewhere.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, get_args

import msgspec

from neogenesis.core.errors import BadArgument
from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import Doing, Fastener, Outline, SomeOf, Step
from neogenesis.core.swap.tray import places
from neogenesis.core.undo import Undo

_MOST_PIECES = 200
_USUAL_MM = (330.0, 230.0)


class Draft:
    """A profile that is being changed. Changes that belong together, such as letters typed, are one to undo."""

    def __init__(self, machine: Machine) -> None:
        self.machine = machine
        self.undoing = Undo[Machine]()
        self._together: object = None

    def change(self, machine: Machine, together: object = None) -> None:
        """Another state; with the same `together` as the change before, both are undone at once."""
        if machine == self.machine:
            return
        if together is None or together != self._together:
            self.undoing.remember(self.machine)
        else:
            self.undoing.changed()
        self._together, self.machine = together, machine

    def undo(self) -> None:
        self.machine, self._together = self.undoing.undo(self.machine), None

    def redo(self) -> None:
        self.machine, self._together = self.undoing.redo(self.machine), None


def add_step(machine: Machine, at: int) -> Machine:
    """An empty step at that place."""
    names = {s.id for s in machine.steps}
    id_ = next(name for n in range(1, len(names) + 2) if (name := f"step-{n}") not in names)
    new = Step(id=id_, do="remove", what="", purposes=("open",))
    return _with_steps(machine, (*machine.steps[:at], new, *machine.steps[at:]))


def remove_step(machine: Machine, at: int) -> Machine:
    """Without it; tips of it go with it."""
    if not 0 <= at < len(machine.steps):
        return machine
    gone = machine.steps[at].id
    left = _with_steps(machine, (*machine.steps[:at], *machine.steps[at + 1 :]))
    return msgspec.structs.replace(left, tips=tuple(t for t in machine.tips if t.step != gone))


def move_step(machine: Machine, at: int, by: int) -> Machine:
    to = at + by
    if not (0 <= at < len(machine.steps) and 0 <= to < len(machine.steps)):
        return machine
    steps = list(machine.steps)
    steps[at], steps[to] = steps[to], steps[at]
    return _with_steps(machine, tuple(steps))


def change_step(machine: Machine, at: int, values: Mapping[str, Any]) -> Machine:
    """With what was typed: fields of a step by name, `fasteners` as `name` or `name count`, `purpose` as one word."""
    if not 0 <= at < len(machine.steps):
        return machine
    fields = {k: values[k] for k in ("do", "what", "cautions", "parts_off", "needs", "aids", "wait_s") if k in values}
    fields |= {k: values[k] or None for k in ("tool", "bay", "back") if k in values}
    if fields.get("do", "remove") not in get_args(Doing):
        del fields["do"]
    if "fasteners" in values:
        fields["fasteners"] = tuple(_held(text) for text in values["fasteners"])
    if "purpose" in values:
        before = machine.steps[at].purposes
        kept = values["purpose"] in before if values["purpose"] else not before
        fields["purposes"] = before if kept else (values["purpose"],) if values["purpose"] else ()
    step = msgspec.structs.replace(machine.steps[at], **fields)
    return _with_steps(machine, (*machine.steps[:at], step, *machine.steps[at + 1 :]))


def _held(text: str) -> str | SomeOf:
    name, _, count = text.rpartition(" ")
    return SomeOf(id=name, count=int(count)) if name and count.isdecimal() else text


def add_fastener(machine: Machine) -> Machine:
    """One piece in the middle."""
    names = {f.id for f in machine.fasteners}
    id_ = next(name for n in range(1, len(names) + 2) if (name := f"screws-{n}") not in names)
    return msgspec.structs.replace(machine, fasteners=(*machine.fasteners, Fastener(id=id_, x=0.5, y=0.5)))


def remove_fastener(machine: Machine, id_: str) -> Machine:
    """Without the group, also in the steps that name it."""
    steps = tuple(
        msgspec.structs.replace(
            s, fasteners=tuple(h for h in s.fasteners if (h if isinstance(h, str) else h.id) != id_)
        )
        for s in machine.steps
    )
    left = tuple(f for f in machine.fasteners if f.id != id_)
    return msgspec.structs.replace(machine, fasteners=left, steps=steps)


def change_fastener(machine: Machine, id_: str, values: Mapping[str, Any]) -> Machine:
    """With what was typed; another name is followed in the steps. Raises BadArgument for a count that is none."""
    fields = {k: values[k] for k in ("id", "head", "length_mm", "place") if k in values}
    fields |= {k: values[k] or None for k in ("hidden_under", "odd") if k in values}
    if "captive" in values:
        fields["captive"] = values["captive"] == "yes"
    if "cover_reused" in values:
        fields["cover_reused"] = {"yes": True, "no": False}.get(values["cover_reused"])
    if "count" in values:
        text = str(values["count"]).strip()
        if not text.isdecimal() or not 1 <= int(text) <= _MOST_PIECES:
            raise BadArgument(f"“{text}” is no number of fasteners.", f"Type 1 to {_MOST_PIECES}.")
        fields["count"] = int(text)
    found = []
    for fastener in machine.fasteners:
        if fastener.id == id_:
            new = msgspec.structs.replace(fastener, **fields)
            fastener = _with_spots(machine, fastener, new)
        found.append(fastener)
    changed = msgspec.structs.replace(machine, fasteners=tuple(found))
    return _renamed(changed, id_, str(fields.get("id", id_)))


def _with_spots(machine: Machine, before: Fastener, after: Fastener) -> Fastener:
    """Places that were set by hand stay, as many as there are pieces; new ones lie beside the last."""
    if not before.spots or after.count == before.count:
        return after
    spots = list(before.spots[: after.count])
    while len(spots) < after.count:
        x, y = spots[-1]
        spots.append((min(1.0, x + 0.05), y))
    return msgspec.structs.replace(after, spots=tuple(spots))


def _renamed(machine: Machine, old: str, new: str) -> Machine:
    if old == new:
        return machine
    steps = []
    for step in machine.steps:
        held = tuple(
            new if h == old else SomeOf(id=new, count=h.count) if isinstance(h, SomeOf) and h.id == old else h
            for h in step.fasteners
        )
        steps.append(msgspec.structs.replace(step, fasteners=held))
    return _with_steps(machine, tuple(steps))


def place_piece(machine: Machine, id_: str, piece: int, x: float, y: float) -> Machine:
    """Put one piece of a group to a place; the others stay where they are drawn."""
    found = []
    for fastener in machine.fasteners:
        if fastener.id == id_:
            spots = list(places(machine)[id_])
            if 0 <= piece < len(spots):
                spots[piece] = (round(min(max(x, 0.0), 1.0), 3), round(min(max(y, 0.0), 1.0), 3))
            fastener = msgspec.structs.replace(fastener, spots=tuple(spots), x=spots[0][0], y=spots[0][1])
        found.append(fastener)
    return msgspec.structs.replace(machine, fasteners=tuple(found))


def change_machine(machine: Machine, values: Mapping[str, Any]) -> Machine:
    """Its size as it lies, in millimetres, and how it lies."""
    before = machine.outline or Outline(width_mm=_USUAL_MM[0], height_mm=_USUAL_MM[1])
    wide, tall = values.get("width_mm") or before.width_mm, values.get("height_mm") or before.height_mm
    outline = msgspec.structs.replace(before, width_mm=wide, height_mm=tall, lies=values.get("lies") or "")
    return msgspec.structs.replace(machine, outline=outline)


def _with_steps(machine: Machine, steps: tuple[Step, ...]) -> Machine:
    return msgspec.structs.replace(machine, steps=steps)
