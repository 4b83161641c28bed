"""Where every partition goes on the new drive."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from neogenesis.core.errors import Refused
from neogenesis.core.filesystem import RESIZABLE_KINDS
from neogenesis.core.plan.model import Layout, LayoutPartition
from neogenesis.core.plan.policy import Policy
from neogenesis.core.plan.solver import Share, solve
from neogenesis.core.survey import PartitionFacts, Survey
from neogenesis.core.table import gpt_usable
from neogenesis.core.table.types import GPT_LINUX_DATA, GPT_NT_DATA, MBR_LINUX_DATA, MBR_NT_DATA
from neogenesis.core.units import MIB, both_text, round_up

_MBR_SECTORS = 1 << 32
#: Makes a GUID in capitals; randomness comes from outside the core.
NewId = Callable[[], str]


@dataclass(slots=True)
class Slot:
    """A partition on its way to a place. `source` is None for a new volume; `moved_to_end` follows a free gap.

    `pinned` is a size that a person asked for: it is not touched again.
    """

    number: int
    source: PartitionFacts | None
    wanted_bytes: int
    least_bytes: int
    weight: int = 0
    moved_to_end: bool = False
    pinned: bool = False

    @property
    def gap_units(self) -> int:
        """Logical partitions need one unit before them for their record."""
        return 1 if self.source is not None and self.source.logical else 0

    @property
    def wanted_units(self) -> int:
        return -(-self.wanted_bytes // MIB)


def is_resizable(partition: PartitionFacts) -> bool:
    """Whether the engine can give the volume another size."""
    volume = partition.volume
    return volume.understood and not volume.fixed and volume.kind in RESIZABLE_KINDS


def room_units(survey: Survey, size_bytes: int, sector_size: int, spare_percent: int) -> tuple[int, int]:
    """First unit, and the unit behind the last, that partitions may use. One unit is 1 MiB."""
    if survey.table.kind == "gpt":
        start, end = gpt_usable(size_bytes, sector_size, survey.table.entry_count)
    elif survey.table.kind == "mbr":
        start, end = sector_size, min(size_bytes, _MBR_SECTORS * sector_size)
    else:
        return 0, size_bytes // MIB
    end = min(end, size_bytes - size_bytes * spare_percent // 100)
    return -(-start // MIB), end // MIB


def carried(survey: Survey, policy: Policy) -> list[PartitionFacts]:
    """The partitions that move, in their order of place."""
    known = {p.number for p in survey.partitions}
    for number in (*policy.leave, *policy.sizes):
        if number not in known:
            raise Refused("no-such-partition", f"The old drive has no partition {number}.", "Check the numbers.")
    return [
        p
        for p in survey.partitions
        if p.number not in policy.leave and not (policy.recovery == "leave" and p.role == "recovery")
    ]


def growing(partitions: Sequence[PartitionFacts], policy: Policy) -> tuple[dict[int, int], str]:
    """Weights by partition number, and the reason in words."""
    resizable = [p for p in partitions if is_resizable(p) or p.volume.encrypted]
    if policy.grow == "none":
        return {}, "No volume grows; the new space stays free."
    if isinstance(policy.grow, int):
        chosen = next((p for p in partitions if p.number == policy.grow), None)
        if chosen is None:
            raise Refused(
                "no-such-partition", f"Partition {policy.grow} does not move, so it cannot grow.", "Choose another."
            )
        if chosen not in resizable:
            raise Refused(
                "cannot-grow",
                f"{chosen.title} ({chosen.volume.kind}) cannot be given another size.",
                "Choose another partition, or --grow none.",
            )
        return {chosen.number: 1}, f"{chosen.title} takes the new space, as asked."
    if policy.grow == "share":
        sharing = [p for p in resizable if p.role in ("system", "data") and is_resizable(p)]
        if sharing:
            return {
                p.number: -(-p.size_bytes // MIB) for p in sharing
            }, "System and data volumes share the new space by their size."
    for role, what in (("system", "System"), ("data", "No system was found, so the largest data volume")):
        found = [p for p in resizable if p.role == role and (role == "system" or is_resizable(p))]
        if found:
            largest = max(found, key=lambda p: p.size_bytes)
            return {largest.number: 1}, f"{what} ({largest.title}) takes the new space."
    return {}, "No volume here can be given another size, so the new space stays free."


def make_layout(
    survey: Survey, policy: Policy, size_bytes: int, sector_size: int, new_id: NewId
) -> tuple[Layout, list[str]]:
    """The layout and its reasons; raises Refused with the figures when there is not enough room."""
    reasons: list[str] = []
    slots, weights, reason = _slots(survey, policy, size_bytes, reasons)
    first, last = room_units(survey, size_bytes, sector_size, policy.spare_percent)
    room = last - first - sum(s.gap_units for s in slots)
    if sum(s.wanted_units for s in slots) > room:
        reason = "The new drive is smaller, so volumes give up free space, each by how much it has."
    reasons.append(reason)
    _choose_weights(slots, weights, room)
    shares = [Share(s.wanted_units, -(-s.least_bytes // MIB), s.weight) for s in slots]
    sizes = solve(shares, room)
    if sizes is None:
        as_it_is = size_bytes >= survey.drive.size_bytes and sector_size == survey.drive.sector_size
        raise _too_small(slots, room, policy, as_it_is)
    free = room - sum(sizes)
    unit = first
    placed: list[LayoutPartition] = []
    fresh = policy.identity == "fresh"
    gpt = survey.table.kind == "gpt"
    for slot, units in zip(slots, sizes, strict=True):
        if slot.moved_to_end and free:
            unit += free
            free = 0
        unit += slot.gap_units
        exact = slot.weight == 0 and units == slot.wanted_units
        size = slot.wanted_bytes if exact else units * MIB
        placed.append(_placed(slot, survey, unit * MIB, size, new_id, fresh and gpt))
        unit += units
    if policy.spare_percent:
        reasons.append(f"{policy.spare_percent} % of the new drive stays unallocated as spare area.")
    layout = Layout(
        table=survey.table.kind,
        disk_id=new_id() if fresh and gpt else survey.table.disk_id,
        sector_size=sector_size,
        size_bytes=size_bytes,
        partitions=tuple(sorted(placed, key=lambda p: p.start_bytes)),
    )
    return layout, reasons


def _slots(
    survey: Survey, policy: Policy, size_bytes: int, reasons: list[str]
) -> tuple[list[Slot], dict[int, int], str]:
    partitions = carried(survey, policy)
    weights, reason = growing(partitions, policy)
    grows_at = min(
        (i for i, p in enumerate(partitions) if p.role == "system" or p.number in weights), default=len(partitions)
    )
    staying: list[Slot] = []
    moved: list[Slot] = []
    for index, partition in enumerate(partitions):
        wanted = partition.size_bytes
        least = wanted
        if is_resizable(partition) and partition.role in ("system", "data") and not partition.volume.dirty:
            least = min(wanted, partition.volume.smallest_bytes)
        slot = Slot(partition.number, partition, wanted, least)
        if partition.number in policy.sizes:
            slot.pinned = True
            slot.wanted_bytes = slot.least_bytes = _asked_size(partition, policy.sizes[partition.number])
        behind = policy.recovery == "end" and partition.role == "recovery" and index > grows_at
        if behind and not partition.logical:
            slot.moved_to_end = True
            moved.append(slot)
        else:
            staying.append(slot)
    if policy.data_volume_bytes:
        number = _free_number(survey, {s.number for s in staying + moved})
        size = round_up(policy.data_volume_bytes, MIB)
        staying.append(Slot(number, None, size, size))
        reasons.append(f"A new data volume of {both_text(size)} is added.")
    if moved:
        reasons.append("Recovery stands at the end, so that it never blocks a volume that grows.")
    return staying + moved, weights, reason


def _asked_size(partition: PartitionFacts, asked: int) -> int:
    size = asked if asked == partition.size_bytes else round_up(asked, MIB)
    if size == partition.size_bytes:
        return size
    if not is_resizable(partition):
        raise Refused("cannot-resize", f"{partition.title} cannot be given another size.", "Leave its size as it is.")
    if size < partition.volume.smallest_bytes:
        raise Refused(
            "too-small",
            f"{partition.title} needs at least {both_text(partition.volume.smallest_bytes)}; "
            f"{both_text(size)} is too small.",
            "Give it more.",
        )
    return size


def _choose_weights(slots: list[Slot], weights: dict[int, int], room: int) -> None:
    """Room to spare goes to those that grow; a shortage is taken from every volume by its free space."""
    fixed = sum(s.wanted_units for s in slots)
    for slot in slots:
        asked = slot.source is None or slot.least_bytes == slot.wanted_bytes
        if fixed <= room:
            slot.weight = weights.get(slot.number, 0) if not slot.pinned else 0
        elif not asked:
            slot.weight = max(1, (slot.wanted_bytes - slot.least_bytes) // MIB)


def _free_number(survey: Survey, used: set[int]) -> int:
    if survey.table.kind != "mbr":
        return max(used, default=0) + 1
    extended = 1 if any(p.logical for p in survey.partitions) else 0
    free = [n for n in range(1, 5) if n not in used]
    if len(free) <= extended:
        raise Refused(
            "table-full",
            "The table of the new drive has no room for another partition.",
            "Leave a partition behind, or do without the new data volume.",
        )
    return free[-1]


def data_type(survey: Survey, gpt: bool) -> tuple[str, str]:
    """Type id and filesystem of a new data volume: what the largest system on the old drive can read."""
    systems = [p for p in survey.partitions if p.volume.system_family]
    largest = max(systems, key=lambda p: p.size_bytes, default=None)
    if largest is not None and largest.volume.system_family == "linux":
        return (GPT_LINUX_DATA if gpt else f"0x{MBR_LINUX_DATA:02x}"), "ext4"
    return (GPT_NT_DATA if gpt else f"0x{MBR_NT_DATA:02x}"), "ntfs"


def _placed(slot: Slot, survey: Survey, start: int, size: int, new_id: NewId, fresh: bool) -> LayoutPartition:
    source = slot.source
    if source is None:
        gpt = survey.table.kind == "gpt"
        return LayoutPartition(
            number=slot.number,
            start_bytes=start,
            size_bytes=size,
            role="data",
            type_id=data_type(survey, gpt)[0],
            unique_id=new_id() if gpt else "",
            name="Data" if gpt else "",
            from_partition=None,
            title="Data",
        )
    return LayoutPartition(
        number=slot.number,
        start_bytes=start,
        size_bytes=size,
        role=source.role,
        type_id=source.type_id,
        unique_id=new_id() if fresh else source.unique_id,
        name=source.name,
        from_partition=source.number,
        attributes=source.attributes,
        logical=source.logical,
        bootable=source.bootable,
        used_bytes=source.volume.used_bytes,
        title=source.title,
    )


def _too_small(slots: Sequence[Slot], room: int, policy: Policy, as_it_is: bool) -> Refused:
    """A refusal with what is needed, what is there, and who could give it.

    `as_it_is` says that the drive holds the old one sector for sector: only the rounding to whole MiB is too much.
    """
    needed = sum(-(-min(s.least_bytes, s.wanted_bytes) // MIB) for s in slots) * MIB
    missing = needed - room * MIB
    large = sorted(slots, key=lambda s: -s.least_bytes)
    givers = [s for s in large if s.source and s.source.role in ("data", "recovery", "system")][:3]
    named = "; ".join(
        f"partition {s.number}, {s.source.title if s.source else 'Data'}, needs {both_text(s.least_bytes)}"
        f"{' and cannot be shrunk' if s.source and not is_resizable(s.source) else ''}"
        f"{' and cannot be shrunk while it is unclean' if s.source and s.source.volume.dirty else ''}"
        for s in givers
    )
    remedy = "Use the intent exact: for a copy sector for sector there is room. Or leave" if as_it_is else "Leave"
    spare = " or plan less spare area" if policy.spare_percent else ""
    return Refused(
        "too-small",
        f"The new drive is too small: {both_text(needed)} needed, {both_text(max(0, room) * MIB)} there, "
        f"{both_text(missing)} missing{f' ({named})' if named else ''}.",
        f"{remedy} one of them behind with --leave, free space on the old drive{spare}, or take a larger drive.",
    )
