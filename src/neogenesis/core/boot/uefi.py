"""The way of a UEFI firmware to a loader: boot-next, boot order, then the fallback path of each drive.

Source: UEFI 2.10, sections 3.1.1 (boot manager), 3.1.2 (short-form paths), 3.1.3 (load options), 3.5.1.1 (removable
media).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from neogenesis.core.boot.devpath import FilePath, HardDrive, OtherNode, parse_path
from neogenesis.core.boot.drives import BootDrive, Place, is_usb
from neogenesis.core.boot.program import FALLBACK
from neogenesis.core.errors import BadRecord
from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import BootEntry

_OWN = ("fv(", "fvfile(", "venhw(", "memorymapped(")


@dataclass(frozen=True, slots=True)
class Attempt:
    """One thing that the firmware tries. `place` is None where nothing of it is there; `why` says so.

    `unusual` is for what only some firmware tries.
    """

    entry: str
    text: str
    place: Place | None
    path: str
    why: str = ""
    unusual: bool = False


def attempts(drives: Sequence[BootDrive], machine: Machine | None, architecture: str) -> Iterator[Attempt]:
    """In the order of the firmware."""
    entries = {e.number.casefold(): e for e in machine.boot_entries} if machine is not None else {}
    order = list(machine.boot_order) if machine is not None else []
    if machine is not None and not order:
        order = [e.number for e in machine.boot_entries]
    if machine is not None and machine.boot_next:
        entry = entries.get(machine.boot_next.casefold())
        if entry is not None:
            yield from _of_entry(drives, entry, architecture, "Next start")
    for number in order:
        entry = entries.get(number.casefold())
        if entry is None:
            yield Attempt(number, f"Entry {number}", None, "", "there is no such entry")
        elif not entry.active:
            yield Attempt(number, _named(entry), None, "", "it is switched off")
        else:
            yield from _of_entry(drives, entry, architecture, _named(entry))
    for drive in sorted(drives, key=lambda d: not is_usb(d.slot)):  # what can be pulled out comes first
        yield from _fallbacks(drive, architecture, "", f"Fallback path of {drive.title}")


def _named(entry: BootEntry) -> str:
    return f"Entry {entry.number} “{entry.label}”"


def _of_entry(drives: Sequence[BootDrive], entry: BootEntry, architecture: str, text: str) -> Iterator[Attempt]:
    try:
        nodes = parse_path(entry.device_path)
    except BadRecord as error:
        yield Attempt(entry.number, text, None, "", error.text)
        return
    hard = next((n for n in nodes if isinstance(n, HardDrive)), None)
    file = next((n for n in nodes if isinstance(n, FilePath)), None)
    if hard is not None:
        places = list(_matching(drives, hard))
        if not places:
            yield Attempt(entry.number, text, None, "", "its partition is on none of the drives")
            return
        path = file.path if file is not None else f"\\EFI\\BOOT\\{FALLBACK.get(architecture, 'BOOTX64.EFI')}"
        yield Attempt(entry.number, text, places[0], path)
    elif any(isinstance(n, OtherNode) and n.text.casefold().startswith(_OWN) for n in nodes):
        yield Attempt(entry.number, text, None, "", "it is a program of the firmware itself")
    elif file is not None:
        found = [(d, p) for d in drives for p in d.startups() if d.find(p.number, file.path) is not None]
        if found:
            yield Attempt(entry.number, text, found[0], file.path)
        else:
            yield Attempt(entry.number, text, None, "", f"{file.path} is on none of the drives")
    else:
        for drive in _whole(drives, nodes):
            yield from _fallbacks(drive, architecture, entry.number, text)


def _matching(drives: Sequence[BootDrive], node: HardDrive) -> Iterator[Place]:
    """By partition identity for GPT, by disk signature and number for MBR."""
    for drive in drives:
        for facts in drive.survey.partitions:
            if node.kind == "GPT":
                if drive.survey.table.kind == "gpt" and facts.unique_id.casefold() == node.signature.casefold():
                    yield drive, facts
            elif (
                drive.survey.table.kind == "mbr"
                and facts.number == node.partition
                and _number(drive.survey.table.disk_id) == _number(node.signature)
            ):
                yield drive, facts


def _number(text: str) -> int:
    try:
        return int(text, 16)
    except ValueError:
        return -1


def _whole(drives: Sequence[BootDrive], nodes: Sequence[object]) -> list[BootDrive]:
    """A path that only names a socket: the drive with that number, else all of them in their order."""
    for node in nodes:
        text = node.text.casefold() if isinstance(node, OtherNode) else ""
        for kind in ("sata(", "ata(", "scsi(", "usb(", "slot("):
            if text.startswith(kind):
                port = text[len(kind) :].split(",")[0].rstrip(")")
                at = int(port, 0) if port.isdecimal() or port.startswith("0x") else -1
                return [drives[at]] if 0 <= at < len(drives) else list(drives)
    return list(drives)


def _fallbacks(drive: BootDrive, architecture: str, number: str, text: str) -> Iterator[Attempt]:
    name = FALLBACK.get(architecture, "BOOTX64.EFI")
    startups = drive.startups()
    if not startups:
        yield Attempt(number, text, None, "", "it has no start-up partition")
    for facts in startups:
        yield Attempt(number, text, (drive, facts), f"\\EFI\\BOOT\\{name}")
    known = {p.number for p in startups}
    for facts in drive.survey.partitions:
        if facts.volume.kind == "vfat" and facts.number not in known:
            yield Attempt(number, text, (drive, facts), f"\\EFI\\BOOT\\{name}", unusual=True)
