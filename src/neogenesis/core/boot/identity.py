"""New identities for tables and volumes; `Renaming` holds what references to them must follow.

All of it is written into an overlay of the drive: what differs there afterwards is what a remedy writes.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable, Collection
from contextlib import suppress

from neogenesis.core.boot.drives import BootDrive
from neogenesis.core.boot.references import Renaming
from neogenesis.core.errors import Damaged, Refused
from neogenesis.core.store import WritableRangeView, WritableStore
from neogenesis.core.survey import PartitionFacts
from neogenesis.core.table.gpt import SIGNATURE, guid_bytes

#: What makes a table one that is not stamped anew: its copies would not agree, or not be told apart.
UNSOUND = frozenset(
    (
        "gpt-primary-damaged",
        "gpt-backup-damaged",
        "gpt-copies-differ",
        "gpt-both-damaged",
        "gpt-backup-misplaced",
        "gpt-protective-missing",
        "partition-beyond-end",
        "partitions-overlap",
    )
)


# Tables


def restamp_table(
    drive: BootDrive, store: WritableStore, new_id: Callable[[], str], kept: Collection[str] = ()
) -> Renaming:
    """New identities of the disk and its partitions, in both copies; partitions of `kept` identities keep theirs.

    Raises Refused for a table whose copies are not both sound.
    """
    problems = UNSOUND & set(drive.survey.table.problems)
    if problems:
        text = f"The table is not sound ({', '.join(sorted(problems))}): it is not stamped anew; nothing was written."
        raise Refused("table-unsound", text, "Copy the drive to another one; its table is made anew there.")
    if drive.survey.table.kind == "mbr":
        return _restamp_mbr(drive, store, new_id)
    sector = drive.survey.drive.sector_size
    held = {guid_bytes(text) for text in kept if text}
    fresh: dict[bytes, bytes] = {}

    def renewed(raw: bytes, zero: str) -> bytes:
        """An identity of zeros names nothing: it gets one of its own, and no reference follows it."""
        if raw in held:
            return raw
        key = raw if any(raw) else zero.encode()
        if key not in fresh:
            fresh[key] = guid_bytes(new_id())
        return fresh[key]

    try:
        for lba in (1, store.size_bytes // sector - 1):
            _restamp_copy(store, sector, lba, renewed)
    except Damaged as error:
        text = f"The table is not sound ({error.text}); nothing was written."
        raise Refused("table-unsound", text, "Copy the drive to another one.") from error
    known = {old: new for old, new in fresh.items() if len(old) == 16}
    names = Renaming(raw=known)
    for facts in drive.survey.partitions:
        with suppress(ValueError):
            raw = guid_bytes(facts.unique_id)
            if any(raw) and raw in known:
                names.partitions[facts.unique_id.casefold()] = _guid(known[raw])
    return names


def _restamp_mbr(drive: BootDrive, store: WritableStore, new_id: Callable[[], str]) -> Renaming:
    old, new = store.read(440, 4), guid_bytes(new_id())[:4]
    store.write(440, new)
    names = Renaming()
    if not any(old):
        return names
    before, after = (f"{int.from_bytes(raw, 'little'):08x}" for raw in (old, new))
    for facts in drive.survey.partitions:
        names.partitions[f"{before}-{facts.number:02x}"] = f"{after}-{facts.number:02x}"
    names.signature = (old, new)
    return names


def _guid(raw: bytes) -> str:
    a, b, c = struct.unpack("<IHH", raw[:8])
    return f"{a:08X}-{b:04X}-{c:04X}-{raw[8:10].hex().upper()}-{raw[10:].hex().upper()}"


def _restamp_copy(store: WritableStore, sector: int, lba: int, renewed: Callable[[bytes, str], bytes]) -> None:
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
            array[at + 16 : at + 32] = renewed(bytes(array[at + 16 : at + 32]), f"entry {n}")
    head[56:72] = renewed(bytes(head[56:72]), "disk")
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
) -> str:
    """A new identity of a volume, as it is written in texts; empty where it got none.

    `new_ext` writes one into an ext volume, checksums and all. Raises ToolFailed.
    """
    kind = facts.volume.kind
    fresh = guid_bytes(new_id())
    view = WritableRangeView(store, facts.start_bytes, facts.size_bytes)
    if kind == "ntfs":
        serial = fresh[:8]
        for place in (0, facts.volume.size_bytes - 512, facts.size_bytes - 512):
            sector = bytearray(view.read(place, 512))
            if sector[3:11] == b"NTFS    ":
                sector[0x48:0x50] = serial
                view.write(place, bytes(sector))
        return f"{int.from_bytes(serial, 'little'):016X}"
    if kind == "vfat":
        serial = fresh[:4]
        number = int.from_bytes(serial, "little")
        wide = view.read(0x52, 5) == b"FAT32"
        per_sector, copy = (int.from_bytes(view.read(at, 2), "little") for at in (11, 0x32))
        backup = per_sector * copy if wide else 0
        for place in dict.fromkeys((0, backup)):
            view.write(place + (0x43 if wide else 0x27), serial)
        return f"{number >> 16:04X}-{number & 0xFFFF:04X}"
    if kind == "exfat":
        return _restamp_exfat(view, fresh[:4])
    if kind.startswith("ext"):
        new = _guid(fresh).lower()
        new_ext(view, new)
        return new
    if kind == "swap":
        page = next((size for size in (4096, 8192, 16384, 65536) if view.read(size - 10, 10) == b"SWAPSPACE2"), 0)
        if page:
            view.write(1024 + 12, fresh)
            raw = fresh.hex()
            return f"{raw[:8]}-{raw[8:12]}-{raw[12:16]}-{raw[16:20]}-{raw[20:]}"
    return ""


def _restamp_exfat(view: WritableRangeView, serial: bytes) -> str:
    """Main and backup boot region with their checksum sectors. Source: exFAT 1.00, section 3.4."""
    shift = view.read(108, 1)[0]
    if not 9 <= shift <= 12:
        return ""
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
    return f"{number >> 16:04X}-{number & 0xFFFF:04X}"
