"""The machine profiles of a bench: those that ship with the program, and its own in the folder `machines`."""

from __future__ import annotations

import re
from importlib.resources import files
from pathlib import Path

from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.machine import Machine, read_machine
from neogenesis.core.record import save

_SUFFIX = ".machine.json"
_LARGEST_BYTES = 4 << 20


def known_machines(bench: Path) -> tuple[list[Machine], list[str]]:
    """All profiles by their titles, the bench's own before those that ship; and what is wrong with those left out."""
    found: dict[str, Machine] = {}
    faults = []
    own = bench / "machines"
    shipped = files("neogenesis").joinpath("data/machines")
    places = sorted(own.glob(f"*{_SUFFIX}")) if own.is_dir() else []
    for path in (*places, *sorted((f for f in shipped.iterdir() if f.name.endswith(_SUFFIX)), key=lambda f: f.name)):
        try:
            if isinstance(path, Path) and path.stat().st_size > _LARGEST_BYTES:
                raise BadRecord(f"The machine “{path.name}” is too large to be one of ours.", "Give the right file.")
            machine = read_machine(path.read_bytes(), f"machine “{path.name}”")
        except OSError as error:
            faults.append(f"The machine “{path.name}” cannot be read ({error.strerror}).")
        except BadRecord as error:
            faults.append(error.sentence())
        else:
            found.setdefault(machine.title, machine)
    return sorted(found.values(), key=lambda m: m.title.casefold()), faults


def keep_machine(bench: Path, machine: Machine) -> Path:
    """Put a profile of one's own on record; raises BadArgument for one without make or model, or BadRecord."""
    if not machine.make.strip() or not machine.model.strip():
        raise BadArgument("A machine needs its make and its model.", "Read both off the plate.")
    folder = bench / "machines"
    try:
        folder.mkdir(exist_ok=True)
    except OSError as error:
        raise BadRecord(f"“{folder}” cannot be made ({error.strerror}).", "Check the folder of the bench.") from error
    name = re.sub(r"[^\w-]+", "-", machine.title, flags=re.UNICODE).strip("-").casefold() or "machine"
    path = folder / f"{name}{_SUFFIX}"
    if path.exists():
        raise BadArgument(f"There is a profile of {machine.title} already.", "Choose it from the list.")
    save(path, machine)
    return path
