"""Tables in the first sector, with logical partitions in a chain of extended boot records.

Source: UEFI Specification 2.10, chapter 5.2.1, and the long-standing form of extended partitions: each record
holds one logical partition (relative to itself) and one link (relative to the extended partition).
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Sequence

from neogenesis.core.errors import ReadFailed
from neogenesis.core.store import ReadableStore
from neogenesis.core.table.model import Partition, Problem, TableWrite
from neogenesis.core.table.types import MBR_EXTENDED
from neogenesis.core.units import ALIGNMENT_BYTES

_ENTRY = struct.Struct("<B3sB3sII")
_MARK = b"\x55\xaa"
_MOST_LOGICAL = 128
_CHS = b"\xfe\xff\xff"  # "beyond what cylinders can say"
LARGEST_SECTOR = 0xFFFFFFFF

RawEntry = tuple[int, int, int, int]  # status, type, first sector, sectors
AddEntry = Callable[[int, "RawEntry", int, bool], None]


def raw_entries(sector: bytes) -> list[RawEntry]:
    """The four entries of a first sector or extended boot record."""
    found = []
    for index in range(4):
        status, _, kind, _, first, count = _ENTRY.unpack_from(sector, 446 + 16 * index)
        found.append((status, kind, first, count))
    return found


def plausible(sector: bytes) -> bool:
    """Whether a sector with the mark holds a table rather than a volume's own boot sector.

    Statuses other than 0x00 and 0x80 do not occur in tables, and some entry must be in use.
    """
    entries = raw_entries(sector)
    used = [e for e in entries if e[1]]
    return sector[510:512] == _MARK and all(e[0] in (0, 0x80) for e in entries) and bool(used)


def read_mbr(store: ReadableStore, sector_size: int, sector: bytes) -> tuple[list[Partition], list[Problem], str]:
    """Partitions, problems and disk id of the table in `sector` (the first of `store`)."""
    partitions: list[Partition] = []
    problems: list[Problem] = []
    signature = struct.unpack_from("<I", sector, 440)[0]

    def add(number: int, entry: RawEntry, base: int, logical: bool) -> None:
        status, kind, first, count = entry
        partitions.append(
            Partition(
                number=number,
                start_bytes=(base + first) * sector_size,
                size_bytes=count * sector_size,
                type_id=f"0x{kind:02x}",
                unique_id=f"{signature:08x}-{number:02x}",
                logical=logical,
                bootable=status == 0x80,
            )
        )

    extended: list[RawEntry] = []
    for index, entry in enumerate(raw_entries(sector)):
        if entry[1] in MBR_EXTENDED and entry[3]:
            extended.append(entry)
        elif entry[1] and entry[3]:
            add(index + 1, entry, 0, False)
    if len(extended) > 1:
        problems.append(
            Problem(
                "mbr-two-extended",
                "caution",
                "Two extended partitions; only the first is followed.",
                "Check the drive in the customer's machine before relying on its logical partitions.",
            )
        )
    if extended:
        _follow_chain(store, sector_size, extended[0], add, problems)
    return partitions, problems, f"0x{signature:08x}"


def _follow_chain(
    store: ReadableStore, sector_size: int, extended: RawEntry, add: AddEntry, problems: list[Problem]
) -> None:
    """Walk the extended boot records once each; whatever is wrong ends the walk and is said."""
    base, length = extended[2], extended[3]
    broken = "The chain of logical partitions {}; those behind it are not seen."
    remedy = "Image the drive exactly, or repair its table first."
    at, seen, number = base, set[int](), 5
    while True:
        fault = ""
        if at in seen:
            fault = "runs in a circle"
        elif len(seen) >= _MOST_LOGICAL:
            fault = f"is longer than {_MOST_LOGICAL}"
        elif not base <= at < base + length:
            fault = "leaves the extended partition"
        if not fault:
            seen.add(at)
            try:
                sector = store.read(at * sector_size, 512)
                if sector[510:512] != _MARK:
                    fault = "is broken"
            except ReadFailed:
                fault = "cannot be read"
        if fault:
            problems.append(Problem("mbr-logical-chain", "stop", broken.format(fault), remedy))
            return
        entries = raw_entries(sector)
        link = next((e for e in entries if e[1] in MBR_EXTENDED and e[3]), None)
        own = next((e for e in entries if e[1] and e[1] not in MBR_EXTENDED and e[3]), None)
        if own is not None:
            if at + own[2] + own[3] > base + length:
                problems.append(
                    Problem(
                        "mbr-logical-outside",
                        "stop",
                        f"Logical partition {number} reaches beyond the extended partition.",
                        remedy,
                        number,
                    )
                )
            add(number, own, at, True)
            number += 1
        if link is None:
            return
        at = base + link[2]


def build_mbr(
    size_bytes: int, sector_size: int, disk_id: str, partitions: Sequence[Partition], boot_code: bytes = b""
) -> tuple[TableWrite, ...]:
    """The steps that put the table on a drive: the chain of logical partitions first, the first sector last.

    Each logical partition needs one free alignment unit before it for its record. Raises ValueError for what
    the table cannot say.
    """
    primary = [p for p in partitions if not p.logical]
    logical = sorted((p for p in partitions if p.logical), key=lambda p: p.start_bytes)
    if len(primary) + bool(logical) > 4 or any(not 1 <= p.number <= 4 for p in primary):
        raise ValueError("more than four primary partitions")
    if any(p.end_bytes > size_bytes for p in partitions):
        raise ValueError("a partition lies beyond the end of the drive")

    def entry(partition: Partition, base: int) -> bytes:
        first = partition.start_bytes // sector_size - base
        count = partition.size_bytes // sector_size
        if max(first, count, first + base + count - 1) > LARGEST_SECTOR:
            raise ValueError("a partition lies beyond what this kind of table can say")
        status = 0x80 if partition.bootable else 0
        return _ENTRY.pack(status, _CHS, int(partition.type_id, 16), _CHS, first, count)

    slots = [bytes(16)] * 4
    for partition in primary:
        slots[partition.number - 1] = entry(partition, 0)
    steps: list[TableWrite] = []
    if logical:
        gap = ALIGNMENT_BYTES // sector_size
        records = [p.start_bytes // sector_size - gap for p in logical]
        base, end = records[0], logical[-1].end_bytes // sector_size
        pieces = []
        for index, partition in enumerate(logical):
            own = entry(partition, records[index])
            link = bytes(16)
            if index + 1 < len(logical):
                reach = logical[index + 1].end_bytes // sector_size - records[index + 1]
                link = _ENTRY.pack(0, _CHS, 0x05, _CHS, records[index + 1] - base, reach)
            sector = bytes(446) + own + link + bytes(32) + _MARK
            pieces.append((records[index] * sector_size, sector.ljust(sector_size, b"\0")))
        steps.append(TableWrite("chain of logical partitions", tuple(pieces)))
        free = next(i for i in range(4) if slots[i] == bytes(16))
        slots[free] = _ENTRY.pack(0, _CHS, 0x0F, _CHS, base, end - base)
    head = boot_code[:440].ljust(440, b"\0") + struct.pack("<IH", int(disk_id or "0", 16), 0)
    sector = (head + b"".join(slots) + _MARK).ljust(sector_size, b"\0")
    steps.append(TableWrite("first sector", ((0, sector),)))
    return tuple(steps)
