"""From a layout to the steps that make a drive of it. The same survey, layout and policy always give the same steps."""

from __future__ import annotations

from neogenesis.core.drive import TABLE_AREA_BYTES
from neogenesis.core.extent import Extents
from neogenesis.core.judgement import judgement
from neogenesis.core.plan.intents import relocates
from neogenesis.core.plan.model import Layout, LayoutPartition
from neogenesis.core.plan.policy import Policy
from neogenesis.core.plan.steps import ClearTable, Copy, Discard, MakeVolume, Prepare, Step, Verify, WriteTable
from neogenesis.core.survey import PartitionFacts, Survey, Surveyed
from neogenesis.core.units import MIB, binary_text

_NEW_VOLUME_BYTES = 64 * MIB


def plan_operations(source: Surveyed, layout: Layout, policy: Policy) -> list[Step]:
    """Volumes are made ready before the old table goes, and the new table comes when everything was read back."""
    prepare: list[Step] = []
    if policy.intent == "exact":
        copies = _exact_copy(source.survey)
        table = "Write the last and the first MiB, where the table is"
        if relocates(source.survey, policy):
            table = "Write the first MiB, and the table anew with its backup at the end of the new drive"
    else:
        prepare = [step for p in layout.partitions if (step := _preparation(source.survey, p)) is not None]
        copies = [*_loader(source.survey, layout), *(_copy(source, p) for p in layout.partitions)]
        table = "Write the new table, backup first"
    clear: list[Step] = [ClearTable(id="clear-table", text="Clear the old table of the new drive")]
    if policy.discard:
        clear.append(Discard(id="discard", text="Tell the new drive that nothing on it is needed"))
    total = sum(c.bytes for c in copies)
    return [
        *prepare,
        *clear,
        *copies,
        Verify(id="verify", text="Read everything back and compare", bytes=total),
        WriteTable(id="write-table", text=table),
    ]


def _exact_copy(survey: Survey) -> list[Copy]:
    """The middle; the ends, where tables live, come last of all."""
    middle = survey.drive.size_bytes - 2 * TABLE_AREA_BYTES
    if middle <= 0:
        return []
    text = "Copy sector for sector"
    return [Copy(id="copy", text=text, mode="raw", start_bytes=TABLE_AREA_BYTES, bytes=middle)]


def _loader(survey: Survey, layout: Layout) -> list[Copy]:
    """What stands between an old table and the first partition."""
    carried = any(p.from_partition is not None for p in layout.partitions)
    if not carried or survey.table.kind != "mbr" or not any(survey.table.boot_code):
        return []
    first = min(p.start_bytes for p in survey.partitions)
    room = min(p.start_bytes for p in layout.partitions)
    sector = survey.drive.sector_size
    length = min(first, room, MIB) - sector
    if length <= 0:
        return []
    text = "Copy the loader that stands before the first partition"
    return [Copy(id="copy-loader", text=text, mode="raw", start_bytes=sector, bytes=length)]


def _preparation(survey: Survey, new: LayoutPartition) -> Prepare | MakeVolume | None:
    """Making, resizing, or noting the new place in a boot sector; None when the volume is carried untouched."""
    old = _old(survey, new)
    ident = f"prepare-{new.number}"
    if old is None:
        text = f"Make an empty volume, {binary_text(new.size_bytes)}"
        kind = new_volume_kind(new.type_id)
        return MakeVolume(
            id=ident, text=text, partition=new.number, volume_kind=kind, label=new.title, bytes=new.size_bytes
        )
    place_counts = old.volume.understood and old.volume.kind in ("ntfs", "vfat", "exfat")
    if new.size_bytes == old.size_bytes and not (place_counts and new.start_bytes != old.start_bytes):
        return None
    text = f"Note the new place of {new.title} in its boot sector"
    action = "patch"
    if new.size_bytes != old.size_bytes:
        action = "grow" if new.size_bytes > old.size_bytes else "shrink"
        size = binary_text(new.size_bytes)
        text = f"Grow {new.title} to {size}" if action == "grow" else f"Shrink {new.title} to {size}"
    return Prepare(
        id=ident,
        text=text,
        partition=new.number,
        from_partition=old.number,
        action=action,  # type: ignore[arg-type]
        volume_kind=old.volume.kind,
        bytes=new.size_bytes,
    )


def new_volume_kind(type_id: str) -> str:
    """The filesystem of a new volume, by the type that its partition got."""
    return "ntfs" if type_id.startswith(("EBD0A0A2", "0x07")) else "ext4"


def _copy(source: Surveyed, new: LayoutPartition) -> Copy:
    old = _old(source.survey, new)
    ident = f"copy-{new.number}"
    if old is None:
        return Copy(
            id=ident,
            text=f"Write the new volume {new.title}",
            partition=new.number,
            mode="used",
            volume_kind=new_volume_kind(new.type_id),
            bytes=min(_NEW_VOLUME_BYTES, new.size_bytes),
        )
    allocation = source.allocations.get(old.number)
    how = "used blocks only" if allocation is not None else "every byte"
    if old.volume.kind == "swap" and allocation is not None:
        how = "made anew with its identity"
    return Copy(
        id=ident,
        text=f"Copy {new.title}: {how}",
        partition=new.number,
        from_partition=old.number,
        mode="used" if allocation is not None else "raw",
        volume_kind=old.volume.kind,
        bytes=_copied_bytes(allocation, min(old.size_bytes, new.size_bytes)) + _new_tables(old, new.size_bytes),
    )


def _new_tables(old: PartitionFacts, size: int) -> int:
    """What a volume that grows writes for its own tables in what is new."""
    return round(max(0, size - old.size_bytes) * old.volume.table_share)


def _copied_bytes(allocation: Extents | None, size: int) -> int:
    if allocation is None:
        return size
    return allocation.joined(judgement().copy_gap_bytes).clipped(0, size).total


def _old(survey: Survey, new: LayoutPartition) -> PartitionFacts | None:
    return survey.partition(new.from_partition) if new.from_partition is not None else None
