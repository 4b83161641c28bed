"""What can be mended on a drive so that it starts, each as a change that can be undone.

A remedy is done on an overlay of the drive; what differs there afterwards is what it writes, byte for byte.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import ClassVar, Literal, Protocol, get_args

from neogenesis.core.boot.drives import BootDrive, by_partition_id, by_uuid
from neogenesis.core.boot.forecast import architecture_of, mode_of
from neogenesis.core.boot.identity import (
    LETTERS,
    menus,
    replace_references,
    restamp_table,
    restamp_volume,
    rewrite,
    text_pairs,
)
from neogenesis.core.boot.program import FALLBACK, read_program
from neogenesis.core.boot.store import STORES, BootStore, partition_in, read_store, referred, renamed
from neogenesis.core.errors import BadArgument, Damaged
from neogenesis.core.machine import Machine
from neogenesis.core.record import Record
from neogenesis.core.store import WritableRangeView, WritableStore
from neogenesis.core.survey import PartitionFacts
from neogenesis.core.table.gpt import guid_bytes, protective_mbr

Code = Literal[
    "fallback-loader",
    "active-partition",
    "restamp-table",
    "restamp-volume",
    "store-identity",
    "menu-identity",
    "drive-letters",
    "check-flag",
    "recovery-record",
    "startup-partition",
    "protective-sector",
]
CODES: tuple[Code, ...] = get_args(Code)
Risk = Literal["low", "some", "high"]
#: An identity behind the words by which a menu looks for it: 36 characters, or those of NTFS and FAT.
_LOOKED_FOR = re.compile(
    rb"(?:--fs-uuid(?:\s+--\S+)*\s+|search\.fs_uuid\s+|UUID=)"
    rb"([0-9A-Fa-f]{8}-[0-9A-Fa-f-]{27}|[0-9A-Fa-f]{16}|[0-9A-Fa-f]{4}-[0-9A-Fa-f]{4})\b"
)
#: Where systems keep a loader of their own, and where it belongs on a start-up partition.
_KEPT_LOADERS = (
    ("Windows/Boot/EFI/bootmgfw.efi", "EFI/Microsoft/Boot/bootmgfw.efi"),
    ("Meridian/System/Boot/start.efi", "EFI/Meridian/start.efi"),
    ("boot/grub/x86_64-efi/core.efi", "EFI/BOOT/BOOTX64.EFI"),
    ("usr/lib/systemd/boot/efi/systemd-bootx64.efi", "EFI/systemd/systemd-bootx64.efi"),
    ("usr/lib/grub/x86_64-efi/monolithic/grubx64.efi", "EFI/BOOT/BOOTX64.EFI"),
)
#: What boot code may take of the first sector; entries and signature stand behind it.
_CODE_BYTES = 440
_RECOVERY_RECORD, _LARGEST_RECORD = "Windows/System32/Recovery/ReAgent.xml", 1 << 20
_RECOVERY_PLACE = re.compile(rb'offset="(\d+)" guid="\{([0-9A-Fa-f-]{36})\}"')
#: Types of hidden volumes are those of open ones with this bit.
_HIDDEN, _HIDDEN_BIT = (0x11, 0x14, 0x16, 0x17, 0x1B, 0x1C, 0x1E), 0x10
_RESTAMPED = ("ntfs", "vfat", "exfat", "ext2", "ext3", "ext4", "swap")


class Tools(Protocol):
    """What the distribution's utilities do to a volume."""

    def copy_file(self, volume: WritableStore, source: str, target: str) -> None:
        """Copy a file inside a FAT volume, making folders; raises ToolFailed."""
        ...

    def put_file(self, volume: WritableStore, data: bytes, target: str) -> None:
        """Put a file into a FAT volume, making folders; raises ToolFailed."""
        ...

    def make_fat(self, volume: WritableStore, label: str) -> None: ...

    def clear_check_flag(self, volume: WritableStore) -> None: ...

    def new_identity(self, volume: WritableStore, uuid: str) -> None:
        """Of an ext volume; raises ToolFailed."""
        ...


@dataclass(frozen=True, slots=True)
class Remedy:
    """`do` changes an overlay of the drive."""

    code: Code
    text: str
    risk: Risk
    drive: BootDrive
    do: Callable[[WritableStore, Tools], None]


class RemedyRow(Record, frozen=True, kw_only=True):
    """`writes` holds every byte that will change, half-open; `changes` is the digest of what stands there and will."""

    code: str
    text: str
    drive: str
    risk: Risk
    writes: tuple[tuple[int, int], ...]
    changes: str = ""
    undo: bool = True


class Remedies(Record, frozen=True, kw_only=True):
    SCHEMA: ClassVar[str] = "neogenesis.remedies/1"

    schema: str = SCHEMA
    remedies: tuple[RemedyRow, ...]


def remedies_for(
    drives: Sequence[BootDrive], machine: Machine | None, ids_of: Callable[[BootDrive], Callable[[], str]]
) -> Iterator[Remedy]:
    """What would help these drives in this machine; `ids_of` gives what makes new identities for a drive, each time."""
    for place, drive in enumerate(drives):
        drive.place = place
    for drive in drives:
        for code in CODES:
            found = remedy_for(code, drive, drives, machine, ids_of(drive))
            if found is not None and _is_wanted(code, drive, drives):
                yield found


def _is_wanted(code: Code, drive: BootDrive, drives: Sequence[BootDrive]) -> bool:
    """New identities only where something else has the same one; the first drive keeps its own."""
    before = drives[: drives.index(drive)]
    if code == "restamp-table":
        own = drive.survey.table.disk_id.casefold()
        return bool(own) and any(d.survey.table.disk_id.casefold() == own for d in before)
    if code == "restamp-volume":
        return any(len(by_uuid([*before, drive], p.volume.uuid)) > 1 for p in _restampable(drive))
    return True


def remedy_for(
    code: Code, drive: BootDrive, drives: Sequence[BootDrive], machine: Machine | None, new_id: Callable[[], str]
) -> Remedy | None:
    """That remedy for that drive; None where there is nothing to mend in that way."""
    makers: dict[Code, Callable[[], Remedy | None]] = {
        "fallback-loader": lambda: _fallback_loader(drive, machine),
        "active-partition": lambda: _active_partition(drive, drives, machine),
        "restamp-table": lambda: _restamp_table(drive, new_id),
        "restamp-volume": lambda: _restamp_volumes(drive, new_id),
        "store-identity": lambda: _store_identity(drive, drives),
        "menu-identity": lambda: _menu_identity(drive, drives),
        "drive-letters": lambda: _drive_letters(drive),
        "check-flag": lambda: _check_flag(drive),
        "recovery-record": lambda: _recovery_record(drive),
        "startup-partition": lambda: _startup_partition(drive, machine),
        "protective-sector": lambda: _protective_sector(drive),
    }
    return makers[code]()


def checked_code(code: str) -> Code:
    """Raises BadArgument for a code that there is not."""
    known = next((c for c in CODES if c == code), None)
    if known is not None:
        return known
    raise BadArgument(f"There is no remedy “{code}”.", f"There are: {', '.join(CODES)}.")


# Each


def _fallback_loader(drive: BootDrive, machine: Machine | None) -> Remedy | None:
    architecture = architecture_of(machine)
    name = FALLBACK.get(architecture, "BOOTX64.EFI")
    for facts in drive.startups():
        if drive.find(facts.number, f"EFI/BOOT/{name}") is not None:
            return None
    for facts in drive.startups():
        loader = _a_loader(drive, facts, architecture)
        if loader is not None:
            return Remedy(
                "fallback-loader",
                f"Copies {loader} to \\EFI\\BOOT\\{name}: the path that every UEFI machine tries.",
                "low",
                drive,
                lambda store, tools, p=facts, f=loader: tools.copy_file(  # type: ignore[misc]
                    WritableRangeView(store, p.start_bytes, p.size_bytes), f, f"EFI/BOOT/{name}"
                ),
            )
    return None


def _a_loader(drive: BootDrive, facts: PartitionFacts, architecture: str) -> str | None:
    """The best program of that partition: one that needs nothing beside it first."""
    found: list[tuple[int, str]] = []
    for path, most in menus(drive, facts):
        if path.casefold().endswith(".efi"):
            spelled = drive.find(facts.number, path)
            data = drive.read(facts.number, path, most) if spelled else None
            program = read_program(data) if data else None
            if spelled and program is not None and program.architecture == architecture:
                found.append((1 if "shim" in program.names else 0, spelled))
    return min(found)[1] if found else None


def _active_partition(drive: BootDrive, drives: Sequence[BootDrive], machine: Machine | None) -> Remedy | None:
    table = drive.survey.table
    if table.kind != "mbr" or mode_of(drives, machine) != "legacy" or any(p.bootable for p in drive.survey.partitions):
        return None
    for facts in drive.survey.partitions:
        sector = drive.sector(facts.start_bytes)
        if facts.logical or facts.number > 4 or sector[510:512] != b"\x55\xaa" or not any(sector[90:510]):
            continue
        place, kind = 446 + 16 * (facts.number - 1), int(facts.type_id, 16)

        def do(store: WritableStore, tools: Tools, at: int = place, kind: int = kind) -> None:
            store.write(at, b"\x80")
            if kind in _HIDDEN:
                store.write(at + 4, bytes((kind & ~_HIDDEN_BIT,)))

        text = f"Marks {facts.title} as active: the boot code goes on there."
        if kind in _HIDDEN:
            text = f"Marks {facts.title} as active and no longer hidden: the boot code goes on there."
        return Remedy("active-partition", text, "low", drive, do)
    return None


def _restamp_table(drive: BootDrive, new_id: Callable[[], str]) -> Remedy | None:
    if drive.survey.table.kind == "none":
        return None

    def do(store: WritableStore, tools: Tools) -> None:
        replace_references(drive, store, restamp_table(drive, store, new_id))

    text = "New identities for the disk and its partitions, with every reference to them on this drive."
    return Remedy("restamp-table", text, "some", drive, do)


def _restampable(drive: BootDrive) -> list[PartitionFacts]:
    return [p for p in drive.survey.partitions if p.volume.kind in _RESTAMPED and p.volume.uuid]


def _restamp_volumes(drive: BootDrive, new_id: Callable[[], str]) -> Remedy | None:
    volumes = _restampable(drive)
    if not volumes:
        return None

    def do(store: WritableStore, tools: Tools) -> None:
        pairs: list[tuple[bytes, bytes]] = []
        for facts in volumes:
            pairs += restamp_volume(facts, store, new_id, tools.new_identity)
        replace_references(drive, store, pairs)

    names = ", ".join(p.title for p in volumes)
    return Remedy("restamp-volume", f"New identities for {names}, with every reference to them.", "some", drive, do)


def _stores(drive: BootDrive) -> Iterator[tuple[PartitionFacts, str, BootStore]]:
    for facts in drive.survey.partitions:
        tree = drive.tree(facts.number)
        path = next((found for s in STORES if (found := drive.find(facts.number, s)) is not None), None)
        store = read_store(tree, path) if tree is not None and path is not None else None
        if path is not None and store is not None:
            yield facts, path, store


def _store_identity(drive: BootDrive, drives: Sequence[BootDrive]) -> Remedy | None:
    """An entry that refers to a partition which is gone, while this drive has the system that it means."""
    for _, _, store in _stores(drive):
        first = store.first
        if first is None or referred(drives, first.system_device):
            continue
        path = first.path.replace("\\", "/")
        system = next((p for p in drive.survey.partitions if path and drive.find(p.number, path) is not None), None)
        if system is None:
            continue
        lost = [named for e in (first.system_device, first.device) if any(named := partition_in(e))]
        pairs = [(old, new) for old in lost if (new := renamed(old, drive, system))]
        if pairs:
            return _pointing("store-identity", f"Points the boot store at {system.title} of this drive.", drive, pairs)
    return None


def _pointing(code: Code, text: str, drive: BootDrive, pairs: Sequence[tuple[bytes, bytes]]) -> Remedy | None:
    """A remedy that puts other identities into what refers to them; None without any."""

    def do(store: WritableStore, tools: Tools) -> None:
        replace_references(drive, store, list(dict.fromkeys(pairs)))

    return Remedy(code, text, "some", drive, do) if pairs else None


def _menu_identity(drive: BootDrive, drives: Sequence[BootDrive]) -> Remedy | None:
    """A menu that looks for a volume which is gone, while this drive has one system of that kind."""
    pairs: list[tuple[bytes, bytes]] = []
    for facts in drive.survey.partitions:
        for path, most in menus(drive, facts):
            spelled = drive.find(facts.number, path)
            data = drive.read(facts.number, path, most) if spelled else None
            for wanted in _wanted(data or b""):
                if by_uuid(drives, wanted) or by_partition_id(drives, wanted):
                    continue
                found = _successor(drive, wanted)
                if found is not None:
                    pairs += text_pairs(wanted, found)
    return _pointing("menu-identity", "Points the menus of this drive at its own system volume.", drive, pairs)


def _wanted(data: bytes) -> list[str]:
    """Identities that a menu, or a script inside a loader, looks for."""
    text = data
    if data[:2] == b"MZ":
        program = read_program(data)
        text = (program.config + "\n" + program.memory_config).encode() if program is not None else b""
    return list(dict.fromkeys(m.decode() for m in _LOOKED_FOR.findall(text)))


def _successor(drive: BootDrive, wanted: str) -> str | None:
    """The one volume of the drive whose identity is written in the same form, and that holds a system."""
    alike = [
        p
        for p in drive.survey.partitions
        if len(p.volume.uuid) == len(wanted) and p.volume.uuid.count("-") == wanted.count("-") and p.role != "startup"
    ]
    systems = [p for p in alike if p.volume.system_family is not None] or alike
    return systems[0].volume.uuid if len(systems) == 1 else None


def _drive_letters(drive: BootDrive) -> Remedy | None:
    """The letter that a system starts from belongs to a volume that is gone: it may take another one for its own."""
    pairs: list[tuple[bytes, bytes]] = []
    for facts in drive.survey.partitions:
        tree, path = drive.tree(facts.number), drive.find(facts.number, LETTERS)
        if tree is None or path is None:
            continue
        try:
            devices = tree.hive(path, [("MountedDevices", 0)])[0]
        except Damaged:
            continue
        old = devices.raw("\\DosDevices\\C:") if devices is not None else b""
        new = _letter_mark(drive, facts)
        is_gone = old not in (_letter_mark(drive, p) for p in drive.survey.partitions)
        if new and len(old) == len(new) and is_gone:
            pairs.append((old, new))
    text = "Gives the system's own volume the letter that it starts from, in the system's records."
    return _pointing("drive-letters", text, drive, pairs)


def _letter_mark(drive: BootDrive, facts: PartitionFacts) -> bytes:
    """How the family's records name a volume: by partition GUID, or by disk signature and place."""
    table = drive.survey.table
    with suppress(ValueError):
        if table.kind == "gpt":
            return b"DMIO:ID:" + guid_bytes(facts.unique_id)
        return int(table.disk_id, 16).to_bytes(4, "little") + facts.start_bytes.to_bytes(8, "little")
    return b""


def _recovery_record(drive: BootDrive) -> Remedy | None:
    """The NT family's record of where its recovery stands: place in bytes and identity of the disk, as text."""
    recoveries = [p for p in drive.survey.partitions if p.role == "recovery"]
    if len(recoveries) != 1 or drive.survey.table.kind != "gpt":
        return None
    for facts in drive.survey.partitions:
        path = drive.find(facts.number, _RECOVERY_RECORD)
        data = drive.read(facts.number, path, _LARGEST_RECORD) if path is not None else None
        new = _with_recovery(data or b"", recoveries[0].start_bytes, drive.survey.table.disk_id)
        if path is None or data is None or new is None or new == data:
            continue

        def do(store: WritableStore, tools: Tools, f: PartitionFacts = facts, p: str = path, n: bytes = new) -> None:
            rewrite(drive, f, p, store, n)

        text = f"Tells the system on {facts.title} where its recovery stands now."
        return Remedy("recovery-record", text, "some", drive, do)
    return None


def _with_recovery(data: bytes, start_bytes: int, disk_id: str) -> bytes | None:
    """The record with that place, as long as before: space between its elements gives way. None where it cannot be."""
    found = _RECOVERY_PLACE.search(data)
    if found is None or not data.isascii():
        return None
    place = b'offset="%d" guid="{%s}"' % (start_bytes, disk_id.lower().encode())
    if found[0].lower() == place:
        return None
    new = data[: found.start()] + place + data[found.end() :]
    while len(new) > len(data):
        shorter = re.sub(rb">\s(\s*)<", rb">\1<", new, count=len(new) - len(data))
        if shorter == new:
            return None
        new = shorter
    return new + b" " * (len(data) - len(new))


def _startup_partition(drive: BootDrive, machine: Machine | None) -> Remedy | None:
    """A start-up partition that cannot be read, or holds no loader, while the system's volume has one to give."""
    architecture = architecture_of(machine)
    name = FALLBACK.get(architecture, "BOOTX64.EFI")
    startups = [p for p in drive.survey.partitions if p.role == "startup"]
    if len(startups) != 1 or _a_loader(drive, startups[0], architecture) is not None:
        return None
    facts = startups[0]
    for system in drive.survey.partitions:
        for place, target in _KEPT_LOADERS:
            data = drive.read(system.number, place) if system.number != facts.number else None
            program = read_program(data) if data else None
            if data is None or program is None or program.architecture != architecture:
                continue

            def do(store: WritableStore, tools: Tools, d: bytes = data, t: str = target) -> None:
                volume = WritableRangeView(store, facts.start_bytes, facts.size_bytes)
                tools.make_fat(volume, "START")
                for path in dict.fromkeys((t, f"EFI/BOOT/{name}")):
                    tools.put_file(volume, d, path)

            text = f"Makes the start-up partition anew, with the loader that {system.title} keeps."
            return Remedy("startup-partition", text, "high", drive, do)
    return None


def _protective_sector(drive: BootDrive) -> Remedy | None:
    """Without its protective entry a firmware does not believe the table (UEFI 2.10, section 5.2.3)."""
    table = drive.survey.table
    if table.kind != "gpt" or "gpt-protective-missing" not in table.problems:
        return None
    sectors = drive.survey.drive.size_bytes // drive.survey.drive.sector_size

    def do(store: WritableStore, tools: Tools) -> None:
        store.write(_CODE_BYTES, protective_mbr(sectors, b"")[_CODE_BYTES:512])

    text = "Writes the protective entry of the first sector anew; without it firmware does not believe the table."
    return Remedy("protective-sector", text, "low", drive, do)


def _check_flag(drive: BootDrive) -> Remedy | None:
    marked = [
        p for p in drive.survey.partitions if p.volume.kind == "ntfs" and p.volume.dirty and not p.volume.hibernated
    ]
    if not marked:
        return None

    def do(store: WritableStore, tools: Tools) -> None:
        for facts in marked:
            tools.clear_check_flag(WritableRangeView(store, facts.start_bytes, facts.size_bytes))

    names = ", ".join(p.title for p in marked)
    text = f"Takes the mark off {names} that asks for a check at the next start; check the volume first."
    return Remedy("check-flag", text, "some", drive, do)
