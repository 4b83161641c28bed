"""What can be mended on a drive so that it starts, each as a change that can be undone.

A remedy is done on an overlay of the drive; what differs there afterwards is what it writes, byte for byte. It changes
fields that were parsed, in volumes that are closed and files that are kept as they are; anything else is refused.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress

from neogenesis.core.boot.drives import BootDrive, Place, by_partition_id, by_uuid, partition_name
from neogenesis.core.boot.forecast import architecture_of, mode_of
from neogenesis.core.boot.identity import restamp_table, restamp_volume
from neogenesis.core.boot.loader import follow
from neogenesis.core.boot.program import FALLBACK
from neogenesis.core.boot.references import (
    LETTERS,
    Reference,
    Renaming,
    below,
    letters_of,
    named_by,
    references,
    refuse_closed,
    rename,
    rewrite,
    rewrite_values,
    texts,
)
from neogenesis.core.boot.remedy import CODES, Code, Remedy, Tools
from neogenesis.core.boot.root import read_mounts
from neogenesis.core.boot.store import STORES, BootStore, partition_in, read_store, referred, renamed
from neogenesis.core.errors import Damaged, ReadFailed, Refused
from neogenesis.core.filesystem.ntfs import check_flag_places, journal_is_closed, without_check_flag
from neogenesis.core.machine import Machine
from neogenesis.core.store import RangeView, WritableRangeView, WritableStore
from neogenesis.core.survey import PartitionFacts
from neogenesis.core.table.gpt import guid_bytes, protective_mbr

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
_RECOVERY_RECORD, _LARGEST_RECORD, _LARGEST_TEXT = "Windows/System32/Recovery/ReAgent.xml", 1 << 20, 4 << 20
_RECOVERY_PLACE = re.compile(rb'offset="(\d{1,19})" guid="\{([0-9A-Fa-f-]{36})\}"')
#: Types of hidden volumes are those of open ones with this bit.
_HIDDEN, _HIDDEN_BIT = (0x11, 0x14, 0x16, 0x17, 0x1B, 0x1C, 0x1E), 0x10
_RESTAMPED = ("ntfs", "vfat", "exfat", "ext2", "ext3", "ext4", "swap")
#: Words of boot code that only says that it does not start, and of code that goes on.
_SAYS_NO = (b"is not a bootable", b"on-System disk", b"not bootable", b"o operating system")
_GOES_ON = (b"GRUB", b"BOOTMGR", b"NTLDR", b"LDLINUX", b"ISOLINUX")
_FAT_IDENTITY = re.compile(r"[0-9A-F]{4}-[0-9A-F]{4}")


def remedies_for(
    drives: Sequence[BootDrive], machine: Machine | None, ids_of: Callable[[BootDrive], Callable[[], str]]
) -> Iterator[Remedy]:
    """What might help these drives in this machine; `ids_of` gives what makes new identities for a drive, each time."""
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
        "fallback-loader": lambda: _fallback_loader(drive, drives, machine),
        "active-partition": lambda: _active_partition(drive, drives, machine),
        "restamp-table": lambda: _restamp_table(drive, drives, new_id),
        "restamp-volume": lambda: _restamp_volumes(drive, drives, new_id),
        "store-identity": lambda: _store_identity(drive, drives),
        "menu-identity": lambda: _menu_identity(drive, drives),
        "drive-letters": lambda: _drive_letters(drive),
        "check-flag": lambda: _check_flag(drive),
        "recovery-record": lambda: _recovery_record(drive),
        "startup-partition": lambda: _startup_partition(drive, machine),
        "protective-sector": lambda: _protective_sector(drive),
    }
    return makers[code]()


# Each


def _fallback_loader(drive: BootDrive, drives: Sequence[BootDrive], machine: Machine | None) -> Remedy | None:
    architecture = architecture_of(machine)
    name = FALLBACK.get(architecture, "BOOTX64.EFI")
    for facts in drive.startups():
        if drive.find(facts.number, f"EFI/BOOT/{name}") is not None:
            return None
    for facts in drive.startups():
        loader = _best_loader(drives, (drive, facts), f"EFI/BOOT/{name}", architecture)
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


def _best_loader(drives: Sequence[BootDrive], home: Place, target: str, architecture: str) -> str | None:
    """The program of that partition which comes furthest when it stands at `target`; none that leads nowhere known."""
    drive, facts = home
    found: list[tuple[int, str]] = []
    for path in below(drive, facts, (".efi",)):
        there, program = drive.program(facts.number, path)
        if not there or program is None or program.architecture != architecture:
            continue
        is_known = program.is_grub or ".linux" in program.sections or bool({"systemd-boot", "shim"} & program.names)
        if not is_known and not path.casefold().endswith("microsoft/boot/bootmgfw.efi"):
            continue
        reached = follow(drives, home, target, program, architecture)
        found.append(({True: 0, None: 1, False: 2}[reached.starts], path))
    return min(found)[1] if found else None


def _active_partition(drive: BootDrive, drives: Sequence[BootDrive], machine: Machine | None) -> Remedy | None:
    table = drive.survey.table
    if table.kind != "mbr" or mode_of(drives, machine) != "legacy" or any(p.bootable for p in drive.survey.partitions):
        return None
    able: list[tuple[bool, int, PartitionFacts]] = []
    for facts in drive.survey.partitions:
        sector = drive.sector(facts.start_bytes)
        says_no = any(words in sector for words in _SAYS_NO)
        if facts.logical or facts.number > 4 or sector[510:512] != b"\x55\xaa" or says_no or not any(sector[90:510]):
            continue
        able.append((not any(words in sector for words in _GOES_ON), facts.number, facts))
    if not able:
        return None
    facts = min(able, key=lambda one: one[:2])[2]
    place, kind = 446 + 16 * (facts.number - 1), int(facts.type_id, 16)

    def do(store: WritableStore, tools: Tools) -> None:
        store.write(place, b"\x80")
        if kind in _HIDDEN:
            store.write(place + 4, bytes((kind & ~_HIDDEN_BIT,)))

    text = f"Marks {facts.title} as active: the boot code goes on there."
    if kind in _HIDDEN:
        text = f"Marks {facts.title} as active and no longer hidden: the boot code goes on there."
    return Remedy("active-partition", text, "low", drive, do)


def _restamp_table(drive: BootDrive, drives: Sequence[BootDrive], new_id: Callable[[], str]) -> Remedy | None:
    """Partitions that a system on another drive goes by, and that are there only once, keep their identity."""
    if drive.survey.table.kind == "none":
        return None
    others = [d for d in drives if d is not drive]
    kept = [p.unique_id for p in drive.survey.partitions if _is_meant_by(others, p)]

    def do(store: WritableStore, tools: Tools) -> None:
        rename(drive, store, restamp_table(drive, store, new_id, kept))

    text = "New identities for the disk and its partitions, with every reference to them on this drive."
    return Remedy("restamp-table", text, "some", drive, do)


def _is_meant_by(others: Sequence[BootDrive], facts: PartitionFacts) -> bool:
    if not facts.unique_id or by_partition_id(others, facts.unique_id):
        return False
    with suppress(ValueError):
        letter = b"DMIO:ID:" + guid_bytes(facts.unique_id)
        if any(letter in letters_of(other) for other in others):
            return True
    return any(facts.unique_id.casefold() in named_by(other, "partition") for other in others)


def _restampable(drive: BootDrive) -> list[PartitionFacts]:
    return [p for p in drive.survey.partitions if p.volume.kind in _RESTAMPED and p.volume.uuid]


def _restamp_volumes(drive: BootDrive, drives: Sequence[BootDrive], new_id: Callable[[], str]) -> Remedy | None:
    """Beside other drives only volumes that are there twice: what is there once is what somebody looks for."""
    others = [d for d in drives if d is not drive]
    every = _restampable(drive)
    once = {p.number for p in every if p.volume.uuid not in [q.volume.uuid for q in every if q.number < p.number]}
    volumes = [p for p in every if not others or by_uuid(others, p.volume.uuid) or p.number not in once]
    if not others and len(once) < len(every):
        volumes = [p for p in every if p.number not in once]
    if not volumes:
        return None

    def do(store: WritableStore, tools: Tools) -> None:
        names = Renaming()
        for facts in volumes:
            refuse_closed(drive, facts)
            new = restamp_volume(facts, store, new_id, tools.new_identity)
            if new and facts.number in once:  # of two that are alike, references mean the first
                names.volumes[facts.volume.uuid.casefold()] = new
        rename(drive, store, names)

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
    for facts, spelled, store in _stores(drive):
        first = store.first
        if first is None or referred(drives, first.system_device):
            continue
        path = first.path.replace("\\", "/")
        system = next((p for p in drive.survey.partitions if path and drive.find(p.number, path) is not None), None)
        if system is None:
            continue
        pairs = {
            element: new
            for element in (first.system_device, first.device)
            if (new := _pointed(element, drive, system)) is not None
        }
        if not pairs:
            continue

        def do(
            store: WritableStore,
            tools: Tools,
            f: PartitionFacts = facts,
            p: str = spelled,
            e: dict[bytes, bytes] = pairs,
        ) -> None:
            rewrite_values(drive, f, p, store, e)

        return Remedy("store-identity", f"Points the boot store at {system.title} of this drive.", "some", drive, do)
    return None


def _pointed(element: bytes, drive: BootDrive, system: PartitionFacts) -> bytes | None:
    """A device element that means that partition; None where it cannot be made one."""
    named = partition_in(element)
    new = renamed(named, drive, system) if any(named) else b""
    if not new:
        return None
    made = element[:0x20] + new + element[0x20 + len(new) :]
    if drive.survey.table.kind == "gpt" and len(element) >= 0x48:
        with suppress(ValueError):
            made = made[:0x38] + guid_bytes(drive.survey.table.disk_id) + made[0x48:]
    return made


def _menu_identity(drive: BootDrive, drives: Sequence[BootDrive]) -> Remedy | None:
    """Menus and lists of mounts that name what is gone, while this drive has the one thing that each of them means."""

    def fresh(one: Reference) -> str | None:
        there = by_uuid(drives, one.value) if one.kind == "volume" else by_partition_id(drives, one.value)
        return None if there else _successor(drive, one)

    def named() -> Iterator[Reference]:
        for facts in drive.survey.partitions:
            for path in dict.fromkeys(texts(drive, facts)):
                data = drive.read(facts.number, path, _LARGEST_TEXT) or b""
                yield from references(data, path.endswith("fstab"))
            for path in below(drive, facts, (".efi",)):
                _, program = drive.program(facts.number, path)
                if program is not None:
                    text = f"{program.config}\n{program.memory_config}\n{program.command_line}"
                    yield from references(text.encode())

    names = Renaming()
    for one in named():
        new = fresh(one)
        if new is not None:
            (names.volumes if one.kind == "volume" else names.partitions)[one.value.casefold()] = new
    if not (names.volumes or names.partitions):
        return None

    def do(store: WritableStore, tools: Tools) -> None:
        rename(drive, store, names, fresh)

    return Remedy("menu-identity", "Points the menus of this drive at its own system volume.", "some", drive, do)


def _successor(drive: BootDrive, one: Reference) -> str | None:
    """What a reference to something that is gone can only mean on this drive, by its meaning; None where it is open."""
    volumes = drive.survey.partitions
    if one.meaning in ("swap", "resume"):
        able = [p for p in volumes if p.volume.kind == "swap"]
    elif one.meaning in ("mount:/boot/efi", "mount:/efi"):
        able = [p for p in volumes if p.role == "startup" and p.volume.kind == "vfat"]
    elif one.meaning in ("search", "root", "mount:/"):
        able = [p for p in volumes if p.volume.kind not in ("swap", "none") and p.role != "startup"]
        able = [p for p in able if _identity(drive, p, one) is not None]
        able = [p for p in able if p.volume.system_family is not None] or able
    else:
        return None
    return _identity(drive, able[0], one) if len(able) == 1 else None


def _identity(drive: BootDrive, facts: PartitionFacts, one: Reference) -> str | None:
    """In the form in which it is referred to; None where it has none of that form."""
    text = facts.volume.uuid if one.kind == "volume" else partition_name(drive, facts)
    return text if len(text) == len(one.value) and text.count("-") == one.value.count("-") else None


def _drive_letters(drive: BootDrive) -> Remedy | None:
    """The letter that a system starts from belongs to a volume that is gone: it may take another one for its own."""
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
        if not new or len(old) != len(new) or not is_gone:
            continue

        def do(
            store: WritableStore,
            tools: Tools,
            f: PartitionFacts = facts,
            p: str = path,
            o: bytes = old,
            n: bytes = new,
        ) -> None:
            rewrite_values(drive, f, p, store, {o: n})

        text = "Gives the system's own volume the letter that it starts from, in the system's records."
        return Remedy("drive-letters", text, "some", drive, do)
    return None


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
    """A start-up partition that cannot be read, or holds no program, while the system's volume has one to give."""
    architecture = architecture_of(machine)
    name = FALLBACK.get(architecture, "BOOTX64.EFI")
    startups = [p for p in drive.survey.partitions if p.role == "startup"]
    if len(startups) != 1:
        return None
    facts = startups[0]
    if drive.tree(facts.number) is not None and next(below(drive, facts, (".efi",)), None) is not None:
        return None
    holds = [n for n in drive.names(facts.number, "") if n.casefold() not in ("efi", "system volume information")]
    for system in drive.survey.partitions:
        for place, target in _KEPT_LOADERS:
            if system.number == facts.number or drive.find(system.number, place) is None:
                continue
            data = drive.read(system.number, place)
            _, program = drive.program(system.number, place)
            if data is None or program is None or program.architecture != architecture:
                continue
            identity = _wanted_startup(drive, facts)

            def do(store: WritableStore, tools: Tools, d: bytes = data, t: str = target, i: str = identity) -> None:
                if holds:
                    text = f"{facts.title} holds other things ({', '.join(holds[:3])}); nothing was written."
                    raise Refused("not-empty", text, "Copy them out first, and make it anew by hand.")
                volume = WritableRangeView(store, facts.start_bytes, facts.size_bytes)
                tools.make_fat(volume, "START", i)
                for path in dict.fromkeys((t, f"EFI/BOOT/{name}")):
                    tools.put_file(volume, d, path)

            text = f"Makes the start-up partition anew, with the loader that {system.title} keeps."
            return Remedy("startup-partition", text, "high", drive, do)
    return None


def _wanted_startup(drive: BootDrive, facts: PartitionFacts) -> str:
    """The identity that the drive's systems mount it by, else its own; empty where neither is known."""
    for system in drive.survey.partitions:
        data = drive.read(system.number, "etc/fstab", _LARGEST_TEXT)
        for mount in read_mounts((data or b"").decode("utf-8", "replace")):
            wanted = mount.device.removeprefix("UUID=").strip("\"'").upper()
            if mount.point in ("/boot/efi", "/efi") and _FAT_IDENTITY.fullmatch(wanted):
                return wanted
    own = facts.volume.uuid.upper()
    return own if _FAT_IDENTITY.fullmatch(own) else ""


def _protective_sector(drive: BootDrive) -> Remedy | None:
    """Without its protective entry a firmware does not believe the table (UEFI 2.10, section 5.2.3)."""
    if drive.survey.table.kind != "gpt" or drive.has_believed_table:
        return None
    first = drive.sector(0)
    kinds = [first[446 + 16 * n + 4] for n in range(4)] if first[510:512] == b"\x55\xaa" else []
    if any(kind not in (0, 0xEE) for kind in kinds):
        return None
    sectors = drive.survey.drive.size_bytes // drive.survey.drive.sector_size

    def do(store: WritableStore, tools: Tools) -> None:
        store.write(_CODE_BYTES, protective_mbr(sectors, b"")[_CODE_BYTES:512])

    text = "Writes the protective entry of the first sector anew; without it firmware does not believe the table."
    return Remedy("protective-sector", text, "low", drive, do)


def _check_flag(drive: BootDrive) -> Remedy | None:
    """Only of volumes whose journal is closed: with work in it, the mark is true."""
    marked = [p for p in drive.survey.partitions if p.volume.kind == "ntfs" and p.volume.dirty]
    marked = [p for p in marked if not p.volume.hibernated]
    if not marked:
        return None

    def do(store: WritableStore, tools: Tools) -> None:
        for facts in marked:
            view = WritableRangeView(store, facts.start_bytes, facts.size_bytes)
            try:
                if not journal_is_closed(RangeView(store, facts.start_bytes, facts.size_bytes)):
                    text = f"The journal of {facts.title} is still open: the mark is true; nothing was written."
                    raise Refused("volume-open", text, "Start its system once and let it check the volume.")
                places = check_flag_places(view)
            except (Damaged, ReadFailed) as error:
                text = f"{facts.title} cannot be looked at ({error.text}); nothing was written."
                raise Refused("damaged", text, "Let its own system check the volume.") from error
            for at in places:
                view.write(at, without_check_flag(view.read(at, 2)))

    names = ", ".join(p.title for p in marked)
    text = f"Takes the mark off {names} that asks for a check at the next start; check the volume first."
    return Remedy("check-flag", text, "some", drive, do)
