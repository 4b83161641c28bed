"""What cannot be true of a machine's profile, whatever machine it is: every fault, by field."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator

from neogenesis.core.machine.model import Bay, Machine, MemoryBoard, Outline

_LARGEST_MM = 2000
_NOT_M2 = ("2.5", "3.5", "optical", "pata-2.5", "emmc-module", "soldered")


def contradictions(machine: Machine) -> Iterator[str]:
    """One sentence part for each fault, each with the field that holds it."""
    yield from _twice("bays", (b.name for b in machine.bays))
    yield from _twice("fasteners", (f.id for f in machine.fasteners))
    yield from _twice("steps", (s.id for s in machine.steps))
    for n, bay in enumerate(machine.bays):
        for text in _of_bay(bay):
            yield f"“bays[{n}].{text}"
    if machine.memory is not None:
        yield from _of_memory(machine.memory)
    yield from _of_fasteners(machine)
    if machine.outline is not None:
        yield from _of_outline(machine.outline)


def _twice(field: str, names: Iterable[str]) -> Iterator[str]:
    for name, count in Counter(names).items():
        if count > 1:
            yield f"“{field}” names “{name}” {count} times"
        if not name.strip():
            yield f"“{field}” has one without a name"


def _of_bay(bay: Bay) -> Iterator[str]:
    for field in ("lengths_mm", "key"):
        if bay.kind in _NOT_M2 and getattr(bay, field):
            yield f"{field}” is for M.2, and the kind is {bay.kind}"
    if bay.thickness_mm and bay.kind in ("m2", "msata", "emmc-module"):
        yield f"thickness_mm” is for bays, and the kind is {bay.kind}"
    if bay.caddy_mm is not None and bay.kind != "optical":
        yield f"caddy_mm” is for optical bays, and the kind is {bay.kind}"
    if bay.double_sided and bay.clearance_below_mm == 0:
        yield "double_sided” is true, and clearance_below_mm is 0"


def _of_memory(board: MemoryBoard) -> Iterator[str]:
    most, soldered, each = board.max_gb, board.soldered_gb, board.max_per_slot_gb
    if most is not None and soldered is not None and soldered > most:
        yield f"“memory.soldered_gb” is {soldered:g}, more than max_gb {most:g}"
    if most is not None and each is not None and each > most:
        yield f"“memory.max_per_slot_gb” is {each:g}, more than max_gb {most:g}"


def _of_outline(outline: Outline) -> Iterator[str]:
    for field in ("width_mm", "height_mm"):
        if not 0 < getattr(outline, field) <= _LARGEST_MM:
            yield f"“outline.{field}” is {getattr(outline, field):g}, and a machine is 0 to {_LARGEST_MM} large"
    for n, mark in enumerate(outline.marks):
        if not (0 <= mark.x0 < mark.x1 <= 1 and 0 <= mark.y0 < mark.y1 <= 1):
            yield f"“outline.marks[{n}]” leaves the outline, which goes from 0 to 1, or has no size"


def _of_fasteners(machine: Machine) -> Iterator[str]:
    counts = {f.id: f.count for f in machine.fasteners}
    for n, one in enumerate(machine.fasteners):
        for field in ("x", "y"):
            value = getattr(one, field)
            if value is not None and value > 1:
                yield f"“fasteners[{n}].{field}” is {value:g}, and goes from 0 to 1"
        if one.spots and len(one.spots) != one.count:
            yield f"“fasteners[{n}].spots” has {len(one.spots)} places for {one.count} pieces"
        if any(not 0 <= v <= 1 for spot in one.spots for v in spot):
            yield f"“fasteners[{n}].spots” leaves the outline, which goes from 0 to 1"
    for n, step in enumerate(machine.steps):
        for held in step.fasteners:
            id_, count = (held, None) if isinstance(held, str) else (held.id, held.count)
            if id_ not in counts:
                yield f"“steps[{n}].fasteners” names “{id_}”, which there is not"
            elif count is not None and count > counts[id_]:
                yield f"“steps[{n}].fasteners” takes {count} of “{id_}”, and there are {counts[id_]}"
