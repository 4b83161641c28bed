"""Forecasts of connected drives: what `neogenesis forecast` and the window both call."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path

from msgspec.structs import replace

from neogenesis.bench.drives import open_source, same_bytes
from neogenesis.bench.emulator.variables import entries_in
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.records.cases import read_named
from neogenesis.core.boot import BootDrive, Forecast, forecast
from neogenesis.core.boot.entries import BootList, read_listing, with_entries
from neogenesis.core.errors import BadArgument
from neogenesis.core.machine import Machine, read_machine
from neogenesis.core.survey import survey_drive

_MOST_DRIVES = 32


def read_boot_machine(path: Path | None, entries: Path | None = None) -> Machine | None:
    """A machine file, with the boot entries of a list; raises BadArgument when one is not there, else BadRecord."""
    machine = read_machine(read_named(path, "machine"), f"machine “{path.name}”") if path is not None else None
    return with_entries(machine, read_entries(entries)) if entries is not None else machine


def read_entries(path: Path) -> BootList:
    """A machine's own list: a text listing, or the variable store of an emulated firmware. Raises as above."""
    data = read_named(path, "list of boot entries")
    return entries_in(data) if b"\0" in data[:4096] else read_listing(data.decode("utf-8", "replace"))


def in_slots(names: Sequence[str], machine: Machine | None, folder: Path | None = None) -> list[tuple[str, str]]:
    """Drives in the order of the machine's slots, each with its slot; those that no slot names come behind them.

    Without any names, the drives that the slots name. Raises BadArgument for none at all, or too many.
    """
    slots: list[tuple[str, str]] = []
    for one in machine.slots if machine is not None else ():
        path = str(folder / one.drive) if folder is not None and not Path(one.drive).is_absolute() else one.drive
        slots.append((path, one.name))
    if not names:
        found = slots
    else:
        left = list(names)
        found = []
        for path, slot in slots:
            match = next((name for name in left if name == path or same_bytes(name, path)), None)
            if match is not None:
                left.remove(match)
                found.append((match, slot))
        found += [(name, "") for name in left]
    if not found:
        raise BadArgument("No drive was named.", "Name the drives in the order of their slots.")
    if len(found) > _MOST_DRIVES:
        raise BadArgument(f"{len(found)} drives are too many.", f"Name at most {_MOST_DRIVES}.")
    return found


@contextmanager
def boot_drives(placed: Sequence[tuple[str, str]]) -> Iterator[list[BootDrive]]:
    """Sealed and surveyed; raises BadArgument or Refused."""
    with ExitStack() as opened:
        found = []
        for name, slot in placed:
            drive = open_source(name)
            opened.callback(drive.close)
            survey = survey_drive(drive.store, drive.drive, open_tree, now=drive.seconds, lost=drive.lost).survey
            made = BootDrive(name, survey, drive.store, open_tree, slot=slot)
            opened.callback(made.close)
            found.append(made)
        yield found


def forecast_drives(
    names: Sequence[str], machine_path: Path | None, entries: Path | None = None, legacy: bool = False
) -> Forecast:
    """What would start, with a legacy firmware where that is asked; raises NeogenesisError."""
    machine = read_boot_machine(machine_path, entries)
    if legacy:
        usual = Machine(schema=Machine.SCHEMA, make="", model="")
        machine = replace(machine or usual, firmware="legacy")
    placed = in_slots(names, machine, machine_path.parent if machine_path is not None else None)
    with boot_drives(placed) as drives:
        return forecast(drives, machine)
