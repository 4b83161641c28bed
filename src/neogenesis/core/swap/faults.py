"""What cannot be true of the steps of a profile: every fault by its field, before a screw is turned."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import Step
from neogenesis.core.record import refuse_faults
from neogenesis.core.swap.numbers import numbers
from neogenesis.core.swap.order import ordered, required

#: More steps than any machine has.
MOST_STEPS = 2000
_EXTERNAL = ("mains", "charger", "adapter", "adaptor", "dock", "power cord", "power lead", "supply")


def check_steps(machine: Machine, what: str = "machine") -> None:
    """Raises BadRecord that names every fault."""
    refuse_faults(list(step_faults(machine)), what)


def step_faults(machine: Machine) -> Iterator[str]:
    """One sentence part for each fault, each with the field that holds it."""
    if len(machine.steps) > MOST_STEPS:
        yield f"“steps” has {len(machine.steps)} entries, and at most {MOST_STEPS} are read"
        return
    yield from _cautions(machine)
    yield from _counts(machine)
    yield from _parts(machine)
    yield from _needs(machine)
    yield from _battery(machine)


def _cautions(machine: Machine) -> Iterator[str]:
    known = numbers().cautions
    openings = machine.openings.cautions if machine.openings is not None else ()
    for code in openings:
        if code not in known:
            yield f"“openings.cautions” names “{code}”, which there is not"
    for n, step in enumerate(machine.steps):
        for code in step.cautions:
            if code not in known:
                yield f"“steps[{n}].cautions” names “{code}”, which there is not"
        for code in step.aids:
            if code not in numbers().aids:
                yield f"“steps[{n}].aids” names “{code}”, which there is not"


def _counts(machine: Machine) -> Iterator[str]:
    """No group gives more fasteners than it has."""
    there = {f.id: f.count for f in machine.fasteners}
    for n, fastener in enumerate(machine.fasteners):
        if fastener.count < 1:
            yield f"“fasteners[{n}].count” is {fastener.count}, and a group has at least one"
    out: Counter[str] = Counter()
    for n, step in enumerate(machine.steps):
        for held in step.fasteners:
            id_, count = (held, there.get(held, 0)) if isinstance(held, str) else (held.id, held.count)
            if id_ not in there:
                yield f"“steps[{n}].fasteners” names “{id_}”, which there is not"
                continue
            if count < 1:
                yield f"“steps[{n}].fasteners” takes {count} of “{id_}”"
            out[id_] += max(0, count)
    for id_, count in out.items():
        if count > there[id_]:
            yield f"“steps” take {count} of “{id_}” out, and there are {there[id_]}"


def _parts(machine: Machine) -> Iterator[str]:
    """A part comes off once."""
    off: dict[str, int] = {}
    for n, step in enumerate(machine.steps):
        for part in step.parts_off:
            key = part.casefold()
            if key in off:
                yield f"“steps[{n}].parts_off” takes “{part}” off, which “steps[{off[key]}]” took off already"
            off.setdefault(key, n)


def _needs(machine: Machine) -> Iterator[str]:
    ids = {s.id.casefold() for s in machine.steps}
    parts = {p.casefold() for s in machine.steps for p in s.parts_off}
    bays = {b.name for b in machine.bays}
    for n, step in enumerate(machine.steps):
        for need in step.needs:
            if need.casefold() not in ids and need.casefold() not in parts:
                yield f"“steps[{n}].needs” names “{need}”, which no step is and no step takes off"
        if step.bay is not None and step.bay not in bays:
            yield f"“steps[{n}].bay” names “{step.bay}”, which there is not"
    for tip in machine.tips:
        if tip.step.casefold() not in ids:
            yield f"“tips” names the step “{tip.step}”, which there is not"
    _, stuck = ordered(machine)
    if stuck:
        yield f"“steps” wait for each other in a circle: {', '.join(f'“{s.id}”' for s in stuck)}"


def is_battery(step: Step) -> bool:
    """Whether it is the step that takes the battery from the board."""
    text = f"{step.id} {step.what}".casefold()
    return step.do in ("unplug", "remove", "slide", "lift") and ("battery" in text or "batteries" in text)


def _battery(machine: Machine) -> Iterator[str]:
    """First off, last on."""
    steps, _ = ordered(machine)
    last = next((n for n, s in reversed(list(enumerate(steps))) if is_battery(s)), None)
    if last is None:
        return
    battery, inside = steps[last], False
    before = required(machine, battery)
    for step in steps[:last]:
        if is_battery(step):
            continue
        works = bool({"drive", "memory"} & set(step.purposes)) and "open" not in step.purposes
        unplugs = step.do == "unplug" and not _is_external(step)
        if step.id not in before and (unplugs or (works and inside)):
            yield f"“steps” has “{step.id}” before “{battery.id}”: the battery comes off first and goes on last"
        inside = inside or (not works and (bool(step.parts_off) or step.do in ("pry", "lift")))


def _is_external(step: Step) -> bool:
    text = f"{step.id} {step.what}".casefold()
    return "mains" in step.cautions or any(word in text for word in _EXTERNAL)
