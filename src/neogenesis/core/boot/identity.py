"""New identities for tables and volumes, with every reference to the old ones that stands on the drive.

All of it is written into an overlay of the drive: what differs there afterwards is what a remedy writes.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress

from neogenesis.core.boot.drives import BootDrive
from neogenesis.core.boot.store import STORES, partition_in, read_store
from neogenesis.core.errors import Damaged
from neogenesis.core.store import WritableRangeView, WritableStore
from neogenesis.core.survey import PartitionFacts
from neogenesis.core.table.gpt import SIGNATURE, guid_bytes

Pairs = Sequence[tuple[bytes, bytes]]
_LARGEST_TEXT, _LARGEST_PROGRAM, _LARGEST_STORE = 1 << 20, 64 << 20, 256 << 20
_MENUS = ("grub/grub.cfg", "boot/grub/grub.cfg", "boot/grub2/grub.cfg", "etc/fstab", "loader/loader.conf")
_DEEPEST = 3
#: Where the NT family keeps which volume bears which drive letter.
LETTERS = "Windows/System32/config/SYSTEM"


def menus(drive: BootDrive, facts: PartitionFacts) -> Iterator[tuple[str, int]]:
    """Files of a volume in which identities may stand as text, and as how much of it they are read."""
    for path in _MENUS:
        yield path, _LARGEST_TEXT
    for name in drive.names(facts.number, "loader/entries"):
        if name.endswith(".conf"):
            yield f"loader/entries/{name}", _LARGEST_TEXT
    yield from _programs(drive, facts, "EFI", 0)


def _programs(drive: BootDrive, facts: PartitionFacts, folder: str, depth: int) -> Iterator[tuple[str, int]]:
    for name in drive.names(facts.number, folder):
        path = f"{folder}/{name}"
        if name.casefold().endswith((".efi", ".cfg", ".conf")):
            yield path, _LARGEST_PROGRAM
        elif depth < _DEEPEST and "." not in name:
            yield from _programs(drive, facts, path, depth + 1)


def replace_references(drive: BootDrive, store: WritableStore, pairs: Pairs) -> list[str]:
    """In menus, fstab, loaders and boot stores, in place and of equal length; returns where."""
    changed = []
    for facts in drive.survey.partitions:
        places = [*menus(drive, facts), *((path, _LARGEST_STORE) for path in (*STORES, LETTERS))]
        for path, most in places:
            spelled = drive.find(facts.number, path)
            if spelled is not None and _replace(drive, facts, spelled, most, store, pairs):
                changed.append(f"{facts.title}: {spelled}")
    return changed


def _replace(drive: BootDrive, facts: PartitionFacts, path: str, most: int, store: WritableStore, pairs: Pairs) -> bool:
    """Where a file's bytes lie in runs of the volume, those that match are written over."""
    tree = drive.tree(facts.number)
    data = tree.read(path, most) if tree is not None else None
    new = data or b""
    for old, fresh in pairs:
        if len(old) == len(fresh):
            new = new.replace(old, fresh)
    return bool(data) and new != data and rewrite(drive, facts, path, store, new)


def rewrite(drive: BootDrive, facts: PartitionFacts, path: str, store: WritableStore, new: bytes) -> bool:
    """Other contents of the same length in a file's own place; False where it has none, or another length."""
    tree = drive.tree(facts.number)
    data = tree.read(path, len(new) + 1) if tree is not None else None
    runs = tree.runs_of(path) if tree is not None else []
    if data is None or len(data) != len(new) or not runs:
        return False
    at = 0
    for start, end in runs:
        length = min(end - start, len(data) - at)
        if length > 0 and new[at : at + length] != data[at : at + length]:
            store.write(facts.start_bytes + start, new[at : at + length])
        at += max(0, length)
    return True


def text_pairs(old: str, new: str) -> list[tuple[bytes, bytes]]:
    """As it may be written: as it is, in capitals, in small letters."""
    forms = dict.fromkeys((f(old), f(new)) for f in (str, str.upper, str.lower))
    return [(a.encode(), b.encode()) for a, b in forms]


# Tables


def restamp_table(drive: BootDrive, store: WritableStore, new_id: Callable[[], str]) -> Pairs:
    """New identities of the disk and its partitions, in both copies; returns what references must follow."""
    if drive.survey.table.kind == "mbr":
        old = store.read(440, 4)
        new = guid_bytes(new_id())[:4]
        store.write(440, new)
        numbers = (f"{int.from_bytes(old, 'little'):08x}", f"{int.from_bytes(new, 'little'):08x}")
        return [*text_pairs(*numbers), *_by_signature(drive, old, new)] if any(old) else []
    sector = drive.survey.drive.sector_size
    fresh: dict[bytes, bytes] = {}

    def renewed(raw: bytes) -> bytes:
        if raw not in fresh:
            fresh[raw] = guid_bytes(new_id())
        return fresh[raw]

    for lba in (1, store.size_bytes // sector - 1):
        with suppress(Damaged):
            _restamp_copy(store, sector, lba, renewed)
    pairs: list[tuple[bytes, bytes]] = list(fresh.items())
    for facts in drive.survey.partitions:
        with suppress(ValueError):
            raw = guid_bytes(facts.unique_id)
            if raw in fresh:
                pairs += text_pairs(facts.unique_id, _guid(fresh[raw]))
    return pairs


def _by_signature(drive: BootDrive, old: bytes, new: bytes) -> Iterator[tuple[bytes, bytes]]:
    """What the NT family's store and letters say of partitions, by place and signature of their disk."""
    for facts in drive.survey.partitions:
        start = facts.start_bytes.to_bytes(8, "little")
        yield old + start, new + start
        tree = drive.tree(facts.number)
        for path in STORES:
            spelled = drive.find(facts.number, path)
            store = read_store(tree, spelled) if tree is not None and spelled is not None else None
            for entry in store.entries if store is not None else ():
                for element in (entry.device, entry.system_device):
                    named = partition_in(element)
                    if len(named) == 28 and named[24:] == old:
                        yield named, named[:24] + new


def _guid(raw: bytes) -> str:
    a, b, c = struct.unpack("<IHH", raw[:8])
    return f"{a:08X}-{b:04X}-{c:04X}-{raw[8:10].hex().upper()}-{raw[10:].hex().upper()}"


def _restamp_copy(store: WritableStore, sector: int, lba: int, renewed: Callable[[bytes], bytes]) -> None:
    head = bytearray(store.read(lba * sector, sector))
    size = int.from_bytes(head[12:16], "little")
    if head[:8] != SIGNATURE or not 92 <= size <= sector:
        raise Damaged("GPT header", lba * sector, "it is not there")
    entries_lba, count, length = struct.unpack_from("<QII", head, 72)
    if count * length > 1 << 22 or length < 128 or (entries_lba * sector) + count * length > store.size_bytes:
        raise Damaged("GPT header", lba * sector, "its entries are impossible")
    array = bytearray(store.read(entries_lba * sector, count * length))
    for n in range(count):
        at = n * length
        if any(array[at : at + 16]):
            array[at + 16 : at + 32] = renewed(bytes(array[at + 16 : at + 32]))
    head[56:72] = renewed(bytes(head[56:72]))
    struct.pack_into("<I", head, 88, zlib.crc32(array))
    head[16:20] = bytes(4)
    struct.pack_into("<I", head, 16, zlib.crc32(bytes(head[:size])))
    store.write(entries_lba * sector, bytes(array))
    store.write(lba * sector, bytes(head))


# Volumes


def restamp_volume(
    facts: PartitionFacts,
    store: WritableStore,
    new_id: Callable[[], str],
    new_ext: Callable[[WritableStore, str], None],
) -> Pairs:
    """A new identity of a volume; `new_ext` writes one into an ext volume, checksums and all. Raises ToolFailed."""
    kind, old = facts.volume.kind, facts.volume.uuid
    fresh = guid_bytes(new_id())
    view = WritableRangeView(store, facts.start_bytes, facts.size_bytes)
    if kind == "ntfs":
        serial = fresh[:8]
        for place in (0, facts.volume.size_bytes - 512, facts.size_bytes - 512):
            sector = bytearray(view.read(place, 512))
            if sector[3:11] == b"NTFS    ":
                sector[0x48:0x50] = serial
                view.write(place, bytes(sector))
        return text_pairs(old, f"{int.from_bytes(serial, 'little'):016X}")
    if kind == "vfat":
        serial = fresh[:4]
        number = int.from_bytes(serial, "little")
        wide = view.read(0x52, 5) == b"FAT32"
        per_sector, copy = (int.from_bytes(view.read(at, 2), "little") for at in (11, 0x32))
        backup = per_sector * copy if wide else 0
        for place in dict.fromkeys((0, backup)):
            view.write(place + (0x43 if wide else 0x27), serial)
        return text_pairs(old, f"{number >> 16:04X}-{number & 0xFFFF:04X}")
    if kind == "exfat":
        return _restamp_exfat(view, old, fresh[:4])
    if kind.startswith("ext"):
        new = _guid(fresh).lower()
        new_ext(view, new)
        return text_pairs(old, new)
    if kind == "swap":
        page = next((size for size in (4096, 8192, 16384, 65536) if view.read(size - 10, 10) == b"SWAPSPACE2"), 0)
        if page:
            view.write(1024 + 12, fresh)
            raw = fresh.hex()
            return text_pairs(old, f"{raw[:8]}-{raw[8:12]}-{raw[12:16]}-{raw[16:20]}-{raw[20:]}")
    return []


def _restamp_exfat(view: WritableRangeView, old: str, serial: bytes) -> Pairs:
    """Main and backup boot region with their checksum sectors. Source: exFAT 1.00, section 3.4."""
    shift = view.read(108, 1)[0]
    if not 9 <= shift <= 12:
        return []
    sector = 1 << shift
    for first in (0, 12 * sector):
        view.write(first + 100, serial)
        region = view.read(first, 11 * sector)
        total = 0
        for n, byte in enumerate(region):
            if n not in (106, 107, 112):
                total = ((total & 1) << 31 | total >> 1) + byte & 0xFFFFFFFF
        view.write(first + 11 * sector, struct.pack("<I", total) * (sector // 4))
    number = int.from_bytes(serial, "little")
    return text_pairs(old, f"{number >> 16:04X}-{number & 0xFFFF:04X}")
