"""The NT family's boot store: which entry is started, and which partition it refers to.

The store is a registry hive, `\\EFI\\Microsoft\\Boot\\BCD` or `\\Boot\\BCD`. Object types and element numbers are as
published for the BCD WMI provider; a device element holds the identities of its partition and disk as bytes (GUIDs
little-endian first), which are looked for as a whole, so that its inner lengths need not be trusted.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass

from neogenesis.core.boot.drives import BootDrive, Place, everywhere
from neogenesis.core.errors import Damaged
from neogenesis.core.survey import PartitionFacts
from neogenesis.core.system.tree import FileTree, HiveKey, HiveValues
from neogenesis.core.table.gpt import guid_bytes

STORES = ("EFI/Microsoft/Boot/BCD", "Boot/BCD")
_MANAGER = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"
_DEFAULT, _ORDER, _DEVICE, _PATH, _SYSTEM_DEVICE, _TITLE = (
    *("23000003", "24000001", "11000001", "12000002", "21000001", "12000004"),
)
_ROOT, _TITLE_LANGUAGE, _INHERITED = "22000002", "12000005", "14000006"
#: Settings that every system loader of a store shares; an object of its own, which the family's template has.
LOADER_SETTINGS = "{6efb52bf-1766-41db-a6b3-0ee5eff72bd7}"
_MANAGER_TYPE, _LOADER_TYPE = 0x10100002, 0x10200003
_MOST_ENTRIES = 200
#: The kind of disk in a device element: 0 by GUID, 1 by the signature in its first sector.
_BY_SIGNATURE = 1


@dataclass(frozen=True, slots=True)
class StoreEntry:
    """`device` and `system_device` are the raw elements; `path` is the loader on the device."""

    id: str
    title: str
    path: str
    device: bytes
    system_device: bytes


@dataclass(frozen=True, slots=True)
class BootStore:
    """`first` is what is started unless somebody chooses; None when it is not there."""

    entries: tuple[StoreEntry, ...]
    first: StoreEntry | None


def read_store(tree: FileTree, path: str) -> BootStore | None:
    """None for a store that is missing or makes no sense."""
    try:
        objects = tree.hive(path, [("Objects", 3)])[0]
    except Damaged:
        return None
    if objects is None:
        return None
    by_id = {key.name.casefold(): key for key in objects.keys[:_MOST_ENTRIES]}
    manager = by_id.get(_MANAGER)
    order = _element(manager, _ORDER)
    wanted = [_text(_element(manager, _DEFAULT)), *(order.texts("Element") if order is not None else ())]
    entries = tuple(_entry(key) for key in by_id.values() if _element(key, _SYSTEM_DEVICE) is not None)
    known = {entry.id.casefold(): entry for entry in entries}
    first = next((known[w.casefold()] for w in wanted if w.casefold() in known), None)
    return BootStore(entries, first)


def _element(key: HiveKey | None, number: str) -> HiveKey | None:
    elements = next((k for k in key.keys if k.name.casefold() == "elements"), None) if key is not None else None
    return next((k for k in elements.keys if k.name.casefold() == number), None) if elements is not None else None


def _text(key: HiveKey | None) -> str:
    return key.text("Element") if key is not None else ""


def _entry(key: HiveKey) -> StoreEntry:
    raw = [(_element(key, n)) for n in (_DEVICE, _SYSTEM_DEVICE)]
    device, system = (k.raw("Element") if k is not None else b"" for k in raw)
    return StoreEntry(key.name, _text(_element(key, _TITLE)), _text(_element(key, _PATH)), device, system)


def referred(drives: Sequence[BootDrive], element: bytes) -> list[Place]:
    """The partitions, in the order of the firmware, whose identity stands in a device element."""
    found = []
    for drive, facts in everywhere(drives):
        mark = _mark(drive, facts.unique_id, drive.starts.get(facts.number, facts.start_bytes))
        if mark and all(piece in element for piece in mark):
            found.append((drive, facts))
    return found


def partition_in(element: bytes) -> bytes:
    """How a device element names its partition, behind its object, type, flags and size; empty for another device.

    A GUID; or on an MBR disk the first byte of the partition (8 bytes), what lies between, and the disk's signature.
    """
    if len(element) < 0x48:
        return b""
    return element[0x20:0x3C] if int.from_bytes(element[0x34:0x38], "little") == _BY_SIGNATURE else element[0x20:0x30]


def partition_element(partition_id: str, disk_id: str) -> bytes:
    """A device element for a partition of a GPT disk, both by GUID: no options, type 6, no flags, size, style 0."""
    head = bytes(16) + struct.pack("<IIII", 6, 0, 0x48, 0) + guid_bytes(partition_id)
    return (head + struct.pack("<II", 0, 0) + guid_bytes(disk_id)).ljust(0x58, b"\0")


def entry_for_system(
    entry_id: str, title: str, language: str, startup: bytes, system: bytes, has_settings: bool
) -> dict[str, HiveValues]:
    """What makes a store start the system of a new drive: keys of the hive with their values.

    `startup` and `system` are device elements; `has_settings` says whether the store holds what loaders share.
    """
    entry = f"{{{entry_id.lower()}}}"
    manager: dict[str, str | list[str] | bytes] = {
        _DEVICE: startup,
        _PATH: "\\EFI\\Microsoft\\Boot\\bootmgfw.efi",
        _DEFAULT: entry,
        _ORDER: [entry],
    }
    loader: dict[str, str | list[str] | bytes] = {
        _DEVICE: system,
        _PATH: "\\Windows\\system32\\winload.efi",
        _TITLE: title,
        **({_TITLE_LANGUAGE: language} if language else {}),
        _SYSTEM_DEVICE: system,
        _ROOT: "\\Windows",
        **({_INHERITED: [LOADER_SETTINGS]} if has_settings else {}),
    }
    found: dict[str, HiveValues] = {}
    for name, kind, elements in ((_MANAGER, _MANAGER_TYPE, manager), (entry, _LOADER_TYPE, loader)):
        found[f"Objects\\{name}\\Description"] = {"Type": kind}
        found |= {f"Objects\\{name}\\Elements\\{n}": {"Element": value} for n, value in elements.items()}
    return found


def renamed(named: bytes, drive: BootDrive, facts: PartitionFacts) -> bytes:
    """The same as `partition_in` gives, for a partition of this drive; empty where it would be of another kind."""
    with suppress(ValueError):
        if drive.survey.table.kind == "gpt" and len(named) == 16:
            return guid_bytes(facts.unique_id)
        if drive.survey.table.kind == "mbr" and len(named) == 28:
            signature = int(drive.survey.table.disk_id, 16).to_bytes(4, "little")
            return facts.start_bytes.to_bytes(8, "little") + named[8:24] + signature
    return b""


def _mark(drive: BootDrive, unique_id: str, start_bytes: int) -> tuple[bytes, ...]:
    if drive.survey.table.kind == "gpt":
        with suppress(ValueError):
            return (guid_bytes(unique_id),) if any(guid_bytes(unique_id)) else ()
        return ()
    with suppress(ValueError):
        disk = int(drive.survey.table.disk_id, 16).to_bytes(4, "little")
        return (start_bytes.to_bytes(8, "little"), disk) if any(disk) else ()  # zeros are no identity
    return ()
