"""Plans without an old drive: a recipe's table with new volumes, empty or filled from a system image."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence

import msgspec
from blake3 import blake3

from neogenesis.core.estimate import NOTHING_FILLED, Filled, estimate
from neogenesis.core.plan.gates import gates_of
from neogenesis.core.plan.model import NOTHING, FreshSource, Layout, LayoutPartition, Plan, SystemImage, Target
from neogenesis.core.plan.policy import Policy
from neogenesis.core.plan.recipe import Recipe, RecipePart, RecipeWishes, reasons_of, recipe_layout
from neogenesis.core.plan.steps import ClearTable, Copy, MakeVolume, RangeWrite, Step, Verify, WriteRanges, WriteTable
from neogenesis.core.plan.tables import table_writes
from neogenesis.core.units import MIB, binary_text, both_text

_EMPTY_VOLUME_BYTES = 64 * MIB
_GAP = MIB
_RECORDS_MIB, _SPARE_PERCENT = 16, 115
#: An ext volume has a record of 256 bytes for each file, as many as mke2fs.conf(5) gives: one for 16 KiB of the volume.
_INODE_BYTES, _BYTES_FOR_INODE, _SPARE_INODES = 256, 16 << 10, 2000
_SAID_FILES = 1000
_KINDS = ("vfat", "ntfs", "ext4", "exfat", "swap")


class Filling:
    """What a system image puts onto a recipe's volumes: bytes and files by the key of a part, and what stands before.

    `core` goes into the sectors behind the first one, where loaders of legacy machines live. `mounts` tells that ext
    volumes are filled through the kernel, which takes an administrator; else their utility fills them.
    """

    def __init__(
        self,
        image: SystemImage,
        bytes_by_key: Mapping[str, int],
        boot_code: bytes,
        core: bytes,
        files_by_key: Mapping[str, int],
        mounts: bool = True,
    ) -> None:
        self.image, self.bytes_by_key, self.boot_code, self.core = image, bytes_by_key, boot_code, core
        self.files_by_key, self.mounts = files_by_key, mounts


def make_fresh_plan(
    recipe: Recipe,
    wishes: RecipeWishes,
    target: Target,
    new_id: Callable[[], str],
    filling: Filling | None = None,
) -> Plan:
    """A plan for a recipe; raises Refused when the drive, or a volume for what goes onto it, is too small."""
    if filling is not None:
        recipe = _with_room(recipe, filling)
    layout, parts = recipe_layout(recipe, wishes, target.size_bytes, target.sector_size, new_id)
    source = FreshSource(
        recipe=recipe.name,
        title=recipe.title,
        system=filling.image if filling is not None else None,
        boot_code=filling.boot_code if filling is not None else b"",
    )
    operations = _operations(layout, parts, filling, new_id)
    table_writes(layout, None, source.boot_code)
    total = sum(s.bytes for s in operations if isinstance(s, Copy))
    made = [s for s in operations if isinstance(s, MakeVolume)]
    filled = _filled(recipe, filling) if filling is not None else NOTHING_FILLED
    reasons = reasons_of(recipe, [parts[p.number] for p in layout.partitions])
    return Plan(
        intent="fresh",
        source=source,
        target=target,
        policy=Policy(intent="fresh", spare_percent=wishes.spare_percent),
        layout=layout,
        left_behind=(),
        operations=tuple(operations),
        gates=gates_of(NOTHING, target, layout, operations),
        reasons=(*reasons, *_how_filled(filled)),
        findings=(),
        estimate=estimate(NOTHING.drive, target.drive, total, len(made), total, filled),
        scratch_bytes=2 * total + sum(s.bytes // 4096 for s in made),
    )


def _filled(recipe: Recipe, filling: Filling) -> Filled:
    ext = {part.key for part in recipe.parts if part.kind == "ext4"}
    slow = 0 if filling.mounts else sum(n for key, n in filling.files_by_key.items() if key in ext)
    return Filled(sum(filling.bytes_by_key.values()), sum(filling.files_by_key.values()), slow)


def _how_filled(filled: Filled) -> tuple[str, ...]:
    """Said where it counts: the difference is minutes from a thousand files on."""
    if filled.slow_files < _SAID_FILES:
        return ()
    return (
        f"{filled.slow_files} files are put onto ext volumes by their utility, since this account may not mount; an "
        "administrator is several times as quick.",
    )


def room_beside(size_bytes: int, filled_bytes: int) -> int:
    """What else a volume of that size can take, with a little to spare for its own records."""
    return max(0, (size_bytes - _RECORDS_MIB * MIB) * 100 // _SPARE_PERCENT - filled_bytes)


def _with_room(recipe: Recipe, filling: Filling) -> Recipe:
    """The recipe with volumes that hold what goes onto them, with a little to spare for their own records."""
    parts = []
    for part in recipe.parts:
        filled = filling.bytes_by_key.get(part.key, 0)
        filled += filling.files_by_key.get(part.key, 0) * _INODE_BYTES if part.kind == "ext4" else 0
        least = max(part.least_mib, filled * _SPARE_PERCENT // 100 // MIB + _RECORDS_MIB) if filled else part.least_mib
        size = max(part.size_mib, least) if part.size_mib else 0
        parts.append(msgspec.structs.replace(part, least_mib=least, size_mib=size))
    return msgspec.structs.replace(recipe, parts=tuple(parts))


def _inodes(kind: str, size_bytes: int, files: int) -> int:
    """How many records of files an ext volume is to have where its utility's own number may not do; else 0."""
    wanted = files * _SPARE_PERCENT // 100 + _SPARE_INODES
    return wanted if kind == "ext4" and files and wanted > size_bytes // _BYTES_FOR_INODE else 0


def edges_of(places: Iterable[LayoutPartition]) -> tuple[tuple[int, int], ...]:
    """Where filesystems, pools and mirrors announce themselves in a partition: its first and its last MiB."""
    found = []
    for place in places:
        edge = min(MIB, place.size_bytes)
        found += [(place.start_bytes, place.start_bytes + edge), (place.end_bytes - edge, place.end_bytes)]
    return tuple(found)


def _operations(
    layout: Layout, parts: Mapping[int, RecipePart], filling: Filling | None, new_id: Callable[[], str]
) -> list[Step]:
    made, copies = list[Step](), list[Step]()
    for place in layout.partitions:
        part = parts[place.number]
        if part.kind == "none":
            continue
        filled = filling.bytes_by_key.get(part.key) if filling is not None else None
        files = filling.files_by_key.get(part.key, 0) if filling is not None else 0
        what = f"Make {place.title} ({part.kind}), {binary_text(place.size_bytes)}"
        if filled is not None:
            what += f", and put {both_text(filled)} of files onto it"
        made.append(
            MakeVolume(
                id=f"prepare-{place.number}",
                text=what,
                partition=place.number,
                volume_kind=part.kind,
                label=part.label,
                volume_id=new_id(),
                tree=part.key if filled is not None else "",
                whole=True,
                bytes=place.size_bytes,
                inodes=_inodes(part.kind, place.size_bytes, files),
            )
        )
        copies.append(
            Copy(
                id=f"copy-{place.number}",
                text=f"Write {place.title}",
                partition=place.number,
                mode="used",
                volume_kind=part.kind,
                bytes=min(_EMPTY_VOLUME_BYTES + (filled or 0), place.size_bytes),
            )
        )
    core: list[Step] = []
    if filling is not None and filling.core:
        before = blake3(bytes(len(filling.core))).hexdigest()  # the table area is cleared before
        ranges = (RangeWrite(start_bytes=layout.sector_size, data=filling.core, before=before),)
        core = [WriteRanges(id="loader", text="Write the loader before the first partition", ranges=ranges)]
    total = sum(c.bytes for c in copies)
    return [
        *made,
        ClearTable(
            id="clear-table",
            text="Clear the old table of the new drive, and what announces old volumes",
            ranges=edges_of(p for p in layout.partitions if parts[p.number].kind == "none"),
        ),
        *copies,
        *core,
        Verify(id="verify", text="Read everything back and compare", bytes=total),
        WriteTable(id="write-table", text="Write the new table, backup first"),
    ]


def fresh_faults(plan: Plan) -> Sequence[str]:
    """What a plan without an old drive may not ask for; empty when it is one that a recipe could have given."""
    faults = []
    source = plan.source
    if not isinstance(source, FreshSource) or plan.intent != "fresh":
        return ["names nothing to copy from"]
    if len(source.boot_code) > 446:
        faults.append("has boot code that is longer than a first sector holds")
    first = min((p.start_bytes for p in plan.layout.partitions), default=_GAP)
    for step in plan.operations:
        if isinstance(step, MakeVolume):
            if step.volume_kind not in _KINDS:
                faults.append(f"makes a volume of the kind “{step.volume_kind[:20]}”")
            if step.tree and source.system is None:
                faults.append("fills a volume, and names no system image")
        elif isinstance(step, WriteRanges):
            if any(r.start_bytes < plan.layout.sector_size or r.start_bytes + len(r.data) > first for r in step.ranges):
                faults.append("writes a loader into a partition")
        elif isinstance(step, Copy):
            if step.from_partition is not None or step.partition is None:
                faults.append("copies from a drive that it does not name")
        elif not isinstance(step, ClearTable | Verify | WriteTable):
            faults.append(f"has a step “{step.kind}”")
    return faults
