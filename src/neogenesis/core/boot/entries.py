"""A machine's own list of boot entries: from a text listing of a Linux start, and as a record of a job.

Source of the listing's form: the manual page of `efibootmgr` and its output with `-v`; entries as UEFI 2.10, 3.1.3.
"""

from __future__ import annotations

import re
from typing import ClassVar

import msgspec

from neogenesis.core.boot.devpath import FilePath, HardDrive, parse_path
from neogenesis.core.errors import BadRecord
from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import BootEntry
from neogenesis.core.record import Record, refuse_faults

_LARGEST, _MOST_ENTRIES = 4 << 20, 1000
_ENTRY = re.compile(r"Boot([0-9A-Fa-f]{4})(\*?) ?(.*)")
_ORDER = re.compile(r"BootOrder:\s*([0-9A-Fa-f,\s]*)$")
_NEXT = re.compile(r"BootNext:\s*([0-9A-Fa-f]{4})\s*$")
_NUMBER = re.compile(r"[0-9A-Fa-f]{4}")
#: Where the path of an entry begins when no tab stands before it.
_PATH = re.compile(r"\s(?=(?:HD|PciRoot|Acpi|VenHw|FvFile|Fv|BBS|VenMsg|MemoryMapped|Uri|File|Path|USB|Sata|NVMe)\()")


class BootList(Record, frozen=True, kw_only=True):
    """Entries, their order, and the one that is started once; numbers are four hexadecimal digits."""

    SCHEMA: ClassVar[str] = "neogenesis.boot-entries/1"

    schema: str = SCHEMA
    boot_entries: tuple[BootEntry, ...] = ()
    boot_order: tuple[str, ...] = ()
    boot_next: str | None = None
    secure_start: bool | None = None


def read_listing(text: str) -> BootList:
    """From what `efibootmgr -v` printed; lines of other kinds are passed over. Raises BadRecord when none is there."""
    if len(text) > _LARGEST:
        raise BadRecord("The listing is too long to be one of boot entries.", "Give what efibootmgr -v printed.")
    entries: list[BootEntry] = []
    order: tuple[str, ...] = ()
    following = None
    for line in text.splitlines():
        if found := _ORDER.match(line.strip()):
            order = tuple(n.strip().upper() for n in found[1].split(",") if n.strip())
        elif found := _NEXT.match(line.strip()):
            following = found[1].upper()
        elif found := _ENTRY.match(line.strip()):
            label, path = _label_and_path(found[3])
            entries.append(BootEntry(number=found[1].upper(), label=label, device_path=path, active=bool(found[2])))
    made = BootList(boot_entries=tuple(entries), boot_order=order, boot_next=following)
    if not entries:
        raise BadRecord(
            "There is no boot entry in this text.",
            "Start the machine with a Linux stick and copy what efibootmgr -v says.",
        )
    refuse_faults(faults_of(made), "listing")
    return made


def _label_and_path(rest: str) -> tuple[str, str]:
    if "\t" in rest:
        label, path = rest.split("\t", 1)
    else:
        at = _PATH.search(" " + rest)
        label, path = (rest[: at.start() - 1], rest[at.start() :]) if at and at.start() else (rest, "")
        if at and not at.start():
            label, path = "", rest
    return label.strip(), path.strip()


def faults_of(one: BootList) -> list[str]:
    """What cannot be used, each by its field; empty when all of it can."""
    found = [f"“boot_entries” has {len(one.boot_entries)}"] if len(one.boot_entries) > _MOST_ENTRIES else []
    numbers = [e.number.upper() for e in one.boot_entries]
    named = [*numbers, *one.boot_order, *([one.boot_next] if one.boot_next else [])]
    found += [f"“{n[:20]}” is no number of an entry" for n in named if not _NUMBER.fullmatch(n)]
    found += [f"“{n}” stands there {numbers.count(n)} times" for n in dict.fromkeys(numbers) if numbers.count(n) > 1]
    return found


def with_entries(machine: Machine | None, known: BootList | None) -> Machine | None:
    """The machine as its own list says it starts; a usual machine where nothing else of it is known."""
    if known is None:
        return machine
    plain = machine or Machine(schema=Machine.SCHEMA, make="", model="", firmware="uefi")
    return msgspec.structs.replace(
        plain,
        boot_entries=known.boot_entries,
        boot_order=known.boot_order,
        boot_next=known.boot_next,
        secure_start=plain.secure_start if known.secure_start is None else known.secure_start,
    )


def target_text(entry: BootEntry) -> str:
    """Where an entry leads, in a few words of the path itself; empty for a path that cannot be read."""
    try:
        nodes = parse_path(entry.device_path) if entry.device_path else ()
    except BadRecord:
        return ""
    hard = next((n for n in nodes if isinstance(n, HardDrive)), None)
    file = next((n for n in nodes if isinstance(n, FilePath)), None)
    parts = [f"{hard.kind} {hard.partition} {hard.signature[:8].lower()}"] if hard is not None else []
    return " ".join([*parts, *([file.path] if file is not None else [])]) or entry.device_path[:60]


def made_by_hand(number: str, label: str, partition_id: str, partition: int, path: str) -> BootEntry:
    """An entry for a loader on a partition that is known by its identity."""
    node = f"HD({partition},GPT,{partition_id.lower()})/File({path or chr(92)})"
    return BootEntry(number=number.upper(), label=label, device_path=node)


def free_number(known: BootList) -> str:
    """The lowest number that no entry has."""
    used = {e.number.upper() for e in known.boot_entries}
    return next(n for n in (f"{i:04X}" for i in range(0x10000)) if n not in used)
