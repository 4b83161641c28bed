"""Reading whatever table a drive carries, and saying what is wrong with it."""

from __future__ import annotations

from dataclasses import replace

from neogenesis.core.errors import Damaged, ReadFailed
from neogenesis.core.store import ReadableStore
from neogenesis.core.table import gpt, mbr
from neogenesis.core.table.model import Partition, Problem, Table
from neogenesis.core.table.spanned import spanned_problems
from neogenesis.core.table.types import MBR_PROTECTIVE

_STALE = Problem(
    "gpt-stale",
    "caution",
    "The drive has an MBR table, and a GPT that is left over from before; the MBR counts.",
    "The new drive gets only the one that counts.",
)


def guess_sector_size(store: ReadableStore) -> int:
    """The sector size that an image's table was made for: where a GPT header stands, else the store's own."""
    for size in (512, 4096):
        for at in (size, store.size_bytes // size * size - size):
            try:
                if at > 0 and store.read(at, 8) == gpt.SIGNATURE:
                    return size
            except ReadFailed:
                continue
    return store.sector_size


def read_table(store: ReadableStore, sector_size: int) -> Table:
    """The table of a drive, and what says that it tells only half."""
    table = _read_table(store, sector_size)
    return replace(table, problems=(*table.problems, *spanned_problems(store, table.partitions)))


def _read_table(store: ReadableStore, sector_size: int) -> Table:
    """The table of a drive. Damage becomes problems; only ReadFailed of the first sector becomes one as well."""
    if store.size_bytes < 2 * sector_size:
        return Table("none", sector_size)
    try:
        first = store.read(0, max(512, sector_size))[:512]
    except ReadFailed as error:
        first = b""
        unreadable = [
            Problem(
                "table-unreadable", "stop", f"The first sector cannot be read: {error.text}", "Image the drive first."
            )
        ]
    else:
        unreadable = []
    entries = mbr.raw_entries(first) if first else []
    marked = first[510:512] == b"\x55\xaa"
    protective = marked and any(e[1] == MBR_PROTECTIVE for e in entries)
    table = _read_gpt(store, sector_size, protective)
    stale = table is not None and marked and not protective and any(e[1] for e in entries) and mbr.plausible(first)
    if stale:  # systems and firmware go by the first sector: the GPT is left over from before
        table = None
    if table is None and first and mbr.plausible(first) and not protective:
        partitions, problems, disk_id = mbr.read_mbr(store, sector_size, first)
        if stale:
            problems = [*problems, _STALE]
        table = Table("mbr", sector_size, disk_id, tuple(partitions), tuple(problems))
    if table is None:
        problems = list(unreadable)
        if protective:
            problems.append(
                Problem(
                    "gpt-both-damaged",
                    "stop",
                    "Both copies of the GPT are missing or damaged.",
                    "Use exact or salvage; do not let the machine repair it.",
                )
            )
        return Table("none", sector_size, problems=tuple(problems), boot_code=first[:440])
    problems = [*unreadable, *table.problems]
    if table.kind == "gpt" and first:
        if not protective:
            problems.append(
                Problem(
                    "gpt-protective-missing",
                    "caution",
                    "The protective first sector of the GPT is missing.",
                    "The new drive gets a proper one.",
                )
            )
        elif sum(1 for e in entries if e[1]) > 1:
            problems.append(
                Problem(
                    "gpt-hybrid",
                    "caution",
                    "The first sector also lists partitions for legacy machines.",
                    "The new drive gets a plain protective first sector; use exact to keep the mixture.",
                )
            )
    problems += _misplaced(table, store.size_bytes)
    ordered = tuple(sorted(table.partitions, key=lambda p: (p.start_bytes, p.number)))
    return replace(table, partitions=ordered, problems=tuple(problems), boot_code=first[:440])


def _read_gpt(store: ReadableStore, sector_size: int, protective: bool) -> Table | None:
    last = store.size_bytes // sector_size - 1
    primary, primary_fault = _try(store, sector_size, 1)
    backup_lba = last
    if primary and 1 < primary.alternate_lba < last:
        backup_lba = primary.alternate_lba
    backup, backup_fault = _try(store, sector_size, backup_lba)
    if backup is None and backup_lba != last:
        backup, backup_fault = _try(store, sector_size, last)
    used = primary or backup
    if used is None:
        return None
    problems = []
    if primary is None:
        if not protective and "signature" in primary_fault:
            # Left over at the end of a drive that was given another table since.
            first = store.read(0, 512)
            if mbr.plausible(first):
                return None
        problems.append(
            Problem(
                "gpt-primary-damaged",
                "caution",
                f"The first copy of the GPT is damaged ({primary_fault}); the backup at the end of the drive was used.",
                "The new drive gets both copies anew.",
            )
        )
    elif backup is None:
        problems.append(
            Problem(
                "gpt-backup-damaged",
                "caution",
                f"The backup of the GPT is damaged ({backup_fault}).",
                "The new drive gets both copies anew.",
            )
        )
    elif backup.partitions != primary.partitions or backup.disk_id != primary.disk_id:
        problems.append(
            Problem(
                "gpt-copies-differ",
                "caution",
                "The two copies of the GPT differ; the first one was used.",
                "Check the list of partitions against what the customer expects.",
            )
        )
    elif backup.my_lba != last:
        problems.append(
            Problem(
                "gpt-backup-misplaced",
                "note",
                "The backup of the GPT is not at the end of the drive.",
                "The new drive gets it at its end.",
            )
        )
    return Table(
        "gpt",
        sector_size,
        used.disk_id,
        used.partitions,
        tuple(problems),
        "primary" if primary else "backup",
        used.entry_count,
        first_usable_bytes=used.first_usable_lba * sector_size,
    )


def _try(store: ReadableStore, sector_size: int, lba: int) -> tuple[gpt.GptCopy | None, str]:
    try:
        return gpt.read_copy(store, sector_size, lba), ""
    except Damaged as error:
        return None, error.text.rstrip(".")
    except ReadFailed:
        return None, "it cannot be read"


def _misplaced(table: Table, size_bytes: int) -> list[Problem]:
    problems: list[Problem] = []
    remedy = "Do not plan from this table; image the drive exactly."
    previous: Partition | None = None
    for partition in sorted(table.partitions, key=lambda p: p.start_bytes):
        if partition.size_bytes <= 0 or partition.end_bytes > size_bytes:
            problems.append(
                Problem(
                    "partition-beyond-end",
                    "stop",
                    f"Partition {partition.number} does not lie inside the drive.",
                    remedy,
                    partition.number,
                )
            )
        if previous and partition.start_bytes < previous.end_bytes:
            problems.append(
                Problem(
                    "partitions-overlap",
                    "stop",
                    f"Partitions {previous.number} and {partition.number} overlap.",
                    remedy,
                    partition.number,
                )
            )
        previous = partition
    return problems
