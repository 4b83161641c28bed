"""One read-only pass over a drive."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import ExitStack, closing
from dataclasses import dataclass, field
from functools import cache

import msgspec
from blake3 import blake3

from neogenesis.core.drive import TABLE_AREA_BYTES, Drive, judge, mark_of
from neogenesis.core.errors import Damaged
from neogenesis.core.extent import Extents
from neogenesis.core.filesystem import Volume, read_volume
from neogenesis.core.filesystem.encryption import Encryption, encryption_of
from neogenesis.core.filesystem.signature import peek
from neogenesis.core.judgement import judgement
from neogenesis.core.store import RangeView, ReadableStore
from neogenesis.core.survey.findings import all_findings
from neogenesis.core.survey.model import InheritedLosses, PartitionFacts, Survey, TableFacts, VolumeFacts
from neogenesis.core.survey.stalls import Stalled, StallWatch, stalling
from neogenesis.core.system import LISTED_KINDS, FileTree, LostFile, Trees, files_touching, with_system
from neogenesis.core.system.inside import Inside, look_inside
from neogenesis.core.table import Partition, Table, read_table, type_hint
from neogenesis.core.table.types import Role


@dataclass(frozen=True, slots=True)
class Surveyed:
    """The record, and by partition number what a copy must carry (relative to the partition); None: all of it.

    `inside` is empty unless the survey was asked to look inside the systems.
    """

    survey: Survey
    allocations: dict[int, Extents | None]
    inside: dict[int, Inside] = field(default_factory=dict)


def survey_drive(
    store: ReadableStore,
    drive: Drive,
    trees: Trees,
    inside: bool = False,
    now: Callable[[], float] = lambda: 0.0,
    lost: Extents | None = None,
) -> Surveyed:
    """Survey `store`; damaged contents become findings. Memory stays bounded whatever the size of the drive.

    A drive that stalls is left alone from then on, and its partitions are told by the table alone. `now` gives seconds
    by the drive's own time.
    `trees` opens the files of a volume. `inside` reads what the systems on it say of themselves as well. `lost` is what
    could not be read when this was saved from a drive, None where nothing tells; the files on it are named.
    """
    watch = StallWatch(store, now)
    table = read_table(store, drive.sector_size)
    partitions = table.partitions
    whole = table.kind == "none" and drive.size_bytes > 0
    if whole:
        partitions = (Partition(1, 0, drive.size_bytes, ""),)
    found: list[PartitionFacts] = []
    allocations: dict[int, Extents | None] = {}
    faults: dict[int, str] = {}
    unlisted: dict[int, str] = {}
    systems: dict[int, Inside] = {}
    for partition in partitions:
        try:
            volume, unlisted[partition.number], system = _look_inside(watch, partition, trees, inside)
        except Stalled:
            volume, system = Volume("none", partition.size_bytes, smallest_bytes=partition.size_bytes), None
        if system is not None:
            systems[partition.number] = system
        if whole and volume.kind == "none":
            continue
        encryption = None if watch.has_stalled else _encryption(store, partition, volume)
        found.append(_facts(partition, volume, _role(partition, volume), encryption))
        allocations[partition.number] = volume.allocation
        if volume.fault:
            faults[partition.number] = volume.fault
    found = _guess_encrypted_system(found)
    health = judge(drive.reading)
    if watch.has_stalled:
        health = stalling(health, watch.longest_s)
    losses = _losses(store, found, lost, trees) if lost is not None else None
    survey = Survey(
        drive=drive,
        table=TableFacts(
            kind=table.kind,
            disk_id=table.disk_id,
            problems=tuple(p.code for p in table.problems),
            copy=table.copy,
            entry_count=table.entry_count,
            boot_code=table.boot_code.rstrip(b"\0") if table.kind != "none" else b"",
        ),
        partitions=tuple(found),
        findings=all_findings(drive, table, found, faults, unlisted, health, losses),
        fingerprint=_fingerprint(store, table, [] if watch.has_stalled else found, allocations),
        health=health,
        inherited_losses=losses,
    )
    return Surveyed(survey, allocations, systems)


def _losses(store: ReadableStore, partitions: Sequence[PartitionFacts], lost: Extents, trees: Trees) -> InheritedLosses:
    volumes = [(p.number, p.start_bytes, p.size_bytes) for p in partitions if p.volume.understood]
    touched = files_touching(store, volumes, lost, trees) if lost else ()
    return InheritedLosses(bytes=lost.total, ranges=tuple(lost), files=tuple(map(LostFile.of, touched)))


def _look_inside(
    store: ReadableStore, partition: Partition, trees: Trees, inside: bool
) -> tuple[Volume, str, Inside | None]:
    """The volume, why its files could not be listed, if that is strange, and what its system says of itself."""
    size = min(partition.size_bytes, store.size_bytes - partition.start_bytes)
    hint = type_hint(partition.type_id) if partition.type_id else None
    if size < 4096 or (hint and hint.role == "reserved"):
        return Volume("none", max(0, size), smallest_bytes=partition.size_bytes), "", None
    view = RangeView(store, partition.start_bytes, size)
    with ExitStack() as opened:

        @cache
        def tree() -> FileTree:
            return opened.enter_context(closing(trees(view)))

        volume = read_volume(view, tree)
        if volume.fault or volume.kind not in LISTED_KINDS:
            return volume, "", None
        try:
            volume = with_system(volume, tree())
            return volume, "", look_inside(tree(), volume.system_family) if inside else None
        except Damaged as error:
            return volume, error.text, None


def _encryption(store: ReadableStore, partition: Partition, volume: Volume) -> Encryption | None:
    if not volume.encrypted:
        return None
    size = min(partition.size_bytes, store.size_bytes - partition.start_bytes)
    return encryption_of(RangeView(store, partition.start_bytes, size))


def _facts(partition: Partition, volume: Volume, role: Role, encryption: Encryption | None) -> PartitionFacts:
    return PartitionFacts(
        number=partition.number,
        start_bytes=partition.start_bytes,
        size_bytes=partition.size_bytes,
        type_id=partition.type_id,
        unique_id=partition.unique_id,
        name=partition.name,
        attributes=partition.attributes,
        logical=partition.logical,
        bootable=partition.bootable,
        role=role,
        volume=VolumeFacts(
            kind=volume.kind,
            size_bytes=volume.size_bytes,
            label=volume.label,
            uuid=volume.uuid,
            block_bytes=volume.block_bytes,
            used_bytes=volume.used_bytes,
            smallest_bytes=volume.smallest_bytes,
            dirty=volume.dirty,
            hibernated=volume.hibernated,
            encrypted=volume.encrypted,
            system_family=volume.system_family,
            system_name=volume.system_name,
            understood=volume.allocation is not None,
            fixed=volume.fixed,
            table_share=volume.table_share,
            encryption=encryption,
            member=volume.member,
        ),
    )


def _role(partition: Partition, volume: Volume) -> Role:
    hint = type_hint(partition.type_id) if partition.type_id else None
    if hint and hint.role not in ("unknown", "data"):
        return hint.role
    if volume.system_family:
        return "system"
    if volume.kind == "swap":
        return "swap"
    small = partition.size_bytes <= judgement().startup_largest_bytes
    if small and (volume.has_loader or partition.bootable) and volume.kind != "none":
        return "startup"
    if volume.kind == "none":
        return "data" if hint and hint.role == "data" else "unknown"
    return "data"


def _guess_encrypted_system(partitions: Sequence[PartitionFacts]) -> list[PartitionFacts]:
    """On a drive that starts something but shows no system, the largest encrypted volume is taken for it."""
    roles = {p.role for p in partitions}
    sealed = [p for p in partitions if p.volume.encrypted]
    if "system" in roles or not sealed or not roles & {"startup", "reserved"}:
        return list(partitions)
    chosen = max(sealed, key=lambda p: p.size_bytes)
    return [_with_role(p, "system") if p is chosen else p for p in partitions]


def _with_role(partition: PartitionFacts, role: Role) -> PartitionFacts:
    return msgspec.structs.replace(partition, role=role)


def _fingerprint(
    store: ReadableStore,
    table: Table,
    partitions: Sequence[PartitionFacts],
    allocations: dict[int, Extents | None],
) -> str:
    digest = blake3(table_mark(store).encode())
    for partition in partitions:
        size = min(64 << 10, partition.size_bytes, max(0, store.size_bytes - partition.start_bytes))
        digest.update(peek(store, partition.start_bytes, size))
        allocation = allocations[partition.number]
        if allocation is not None:
            digest.update(allocation.array.tobytes())
    return digest.hexdigest()


def table_mark(store: ReadableStore) -> str:
    """Digests of the first and the last MiB, 32 hexadecimal digits each: by these a drive's table is known again."""
    size = min(TABLE_AREA_BYTES, store.size_bytes)
    head, tail = peek(store, 0, size), peek(store, store.size_bytes - size, size)
    return mark_of(head, tail)
