"""GUID partition tables. Source: UEFI Specification 2.10, chapter 5.3."""

from __future__ import annotations

import re
import struct
import zlib
from collections.abc import Sequence
from dataclasses import dataclass

from neogenesis.core.errors import Damaged
from neogenesis.core.store import ReadableStore
from neogenesis.core.table.model import Partition, TableWrite
from neogenesis.core.units import MIB, round_up

SIGNATURE = b"EFI PART"
GPT_ENTRY_COUNT = 128
_HEADER = struct.Struct("<8sIIIIQQQQ16sQIII")  # table 5.5, 92 bytes
_ENTRY = struct.Struct("<16s16sQQQ72s")  # table 5.6, 128 bytes
_GUID = re.compile(r"[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}")
_LARGEST_ARRAY = 16 * MIB
_REVISION = 0x00010000


@dataclass(frozen=True, slots=True)
class GptCopy:
    """One valid header with its entries; LBAs are as written."""

    my_lba: int
    alternate_lba: int
    first_usable_lba: int
    last_usable_lba: int
    disk_id: str
    entry_count: int
    partitions: tuple[Partition, ...]


def guid_text(raw: bytes) -> str:
    """The mixed-endian GUID in its usual capitals (appendix A of the specification)."""
    a, b, c = struct.unpack("<IHH", raw[:8])
    return f"{a:08X}-{b:04X}-{c:04X}-{raw[8:10].hex().upper()}-{raw[10:].hex().upper()}"


def guid_bytes(text: str) -> bytes:
    """Raises ValueError for what is no GUID."""
    if not _GUID.fullmatch(text):
        raise ValueError(f"“{text[:40]}” is no identity")
    a, b, c, d, e = text.split("-")
    return struct.pack("<IHH", int(a, 16), int(b, 16), int(c, 16)) + bytes.fromhex(d + e)


def read_copy(store: ReadableStore, sector_size: int, lba: int) -> GptCopy:
    """The table whose header stands at `lba`; raises Damaged with what is wrong, or ReadFailed."""
    at = lba * sector_size
    raw = store.read(at, sector_size)
    (
        signature,
        revision,
        header_size,
        header_crc,
        _,
        my_lba,
        alternate,
        first,
        last,
        disk,
        entries_lba,
        count,
        entry_size,
        entries_crc,
    ) = _HEADER.unpack_from(raw)
    if signature != SIGNATURE:
        raise Damaged("GPT header", at, "the signature is missing")
    if not _HEADER.size <= header_size <= sector_size or revision >> 16 != 1:
        raise Damaged("GPT header", at, f"its size {header_size} or revision {revision:#x} is impossible")
    blanked = raw[:16] + b"\0\0\0\0" + raw[20:header_size]
    if zlib.crc32(blanked) != header_crc:
        raise Damaged("GPT header", at, "its checksum does not match")
    if my_lba != lba:
        raise Damaged("GPT header", at, f"it says that it stands at sector {my_lba}")
    if entry_size < _ENTRY.size or entry_size % 8 or not 0 < count * entry_size <= _LARGEST_ARRAY:
        raise Damaged("GPT header", at, f"{count} entries of {entry_size} bytes are impossible")
    if first > last:
        raise Damaged("GPT header", at, "its usable range is empty")
    array_at = entries_lba * sector_size
    if array_at + count * entry_size > store.size_bytes:
        raise Damaged("GPT entries", array_at, "they lie beyond the end of the drive")
    array = store.read(array_at, count * entry_size)
    if zlib.crc32(array) != entries_crc:
        raise Damaged("GPT entries", array_at, "their checksum does not match")
    partitions = []
    for index in range(count):
        kind, unique, start, end, attributes, name = _ENTRY.unpack_from(array, index * entry_size)
        if kind == bytes(16):
            continue
        text = name.decode("utf-16-le", "replace").partition("\0")[0]
        partitions.append(
            Partition(
                number=index + 1,
                start_bytes=start * sector_size,
                size_bytes=(end - start + 1) * sector_size,
                type_id=guid_text(kind),
                unique_id=guid_text(unique),
                name=text,
                attributes=attributes,
            )
        )
    return GptCopy(my_lba, alternate, first, last, guid_text(disk), count, tuple(partitions))


def _array_sectors(entry_count: int, sector_size: int) -> int:
    return round_up(entry_count * _ENTRY.size, sector_size) // sector_size


def gpt_usable(size_bytes: int, sector_size: int, entry_count: int = GPT_ENTRY_COUNT) -> tuple[int, int]:
    """Bytes [start, end) that partitions may use on a drive of that size."""
    sectors = size_bytes // sector_size
    array = _array_sectors(max(entry_count, GPT_ENTRY_COUNT), sector_size)
    return (2 + array) * sector_size, max(0, sectors - 1 - array) * sector_size


def protective_mbr(sectors: int, boot_code: bytes) -> bytes:
    """Sector 0 as chapter 5.2.3 wants it; `boot_code` fills the first 440 bytes."""
    entry = struct.pack("<B3sB3sII", 0, b"\0\x02\0", 0xEE, b"\xff\xff\xff", 1, min(sectors - 1, 0xFFFFFFFF))
    return boot_code[:440].ljust(446, b"\0") + entry + bytes(48) + b"\x55\xaa"


def build_gpt(
    size_bytes: int,
    sector_size: int,
    disk_id: str,
    partitions: Sequence[Partition],
    entry_count: int = GPT_ENTRY_COUNT,
    boot_code: bytes = b"",
) -> tuple[TableWrite, ...]:
    """The steps that put the table on a drive, backup first.

    A cut after any step leaves either no table that a machine would use, or a whole one: the primary header,
    which makes the table count, is written after everything it points at. Raises ValueError for partitions
    that lie outside the usable range or overlap.
    """
    sectors = size_bytes // sector_size
    entry_count = max(entry_count, GPT_ENTRY_COUNT, *(p.number for p in partitions), 1)
    usable_start, usable_end = gpt_usable(size_bytes, sector_size, entry_count)
    array = bytearray(_array_sectors(entry_count, sector_size) * sector_size)
    last_end = usable_start
    for partition in sorted(partitions, key=lambda p: p.start_bytes):
        if partition.start_bytes < last_end or partition.end_bytes > usable_end or partition.size_bytes <= 0:
            raise ValueError(f"partition {partition.number} does not fit the table")
        if partition.start_bytes % sector_size or partition.size_bytes % sector_size:
            raise ValueError(f"partition {partition.number} does not start and end on a sector")
        last_end = partition.end_bytes
        _ENTRY.pack_into(
            array,
            (partition.number - 1) * _ENTRY.size,
            guid_bytes(partition.type_id),
            guid_bytes(partition.unique_id),
            partition.start_bytes // sector_size,
            partition.end_bytes // sector_size - 1,
            partition.attributes,
            partition.name.encode("utf-16-le", "surrogatepass")[:72].ljust(72, b"\0"),
        )
    entries = bytes(array)
    entries_crc = zlib.crc32(entries[: entry_count * _ENTRY.size])
    array_sectors = len(entries) // sector_size

    def header(my_lba: int, alternate_lba: int, entries_lba: int) -> bytes:
        fields = [
            SIGNATURE,
            _REVISION,
            _HEADER.size,
            0,
            0,
            my_lba,
            alternate_lba,
            usable_start // sector_size,
            usable_end // sector_size - 1,
            guid_bytes(disk_id),
            entries_lba,
            entry_count,
            _ENTRY.size,
            entries_crc,
        ]
        fields[3] = zlib.crc32(_HEADER.pack(*fields))
        return _HEADER.pack(*fields).ljust(sector_size, b"\0")

    last = sectors - 1
    backup_entries = last - array_sectors
    mbr = protective_mbr(sectors, boot_code).ljust(sector_size, b"\0")
    return (
        TableWrite("backup entries", ((backup_entries * sector_size, entries),)),
        TableWrite("backup header", ((last * sector_size, header(last, 1, backup_entries)),)),
        TableWrite("primary entries", ((2 * sector_size, entries),)),
        TableWrite("primary header", ((sector_size, header(1, last, 2)),)),
        TableWrite("protective first sector", ((0, mbr),)),
    )
