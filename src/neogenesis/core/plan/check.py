"""Whether a plan that was read back can be run at all. Asked of the whole plan, before the first act of a transfer.

A plan file is as hostile as a damaged drive: it can have been edited, cut, or made by another version. Here stands what
the file alone tells; what only the drives can tell is asked at admission (`core/transfer/admission`).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import pairwise

from neogenesis.core.errors import BadRecord, Refused
from neogenesis.core.plan.fresh import edges_of
from neogenesis.core.plan.gates import members_of
from neogenesis.core.plan.intents import layout_as_it_is, relocates
from neogenesis.core.plan.model import FreshSource, Layout, LayoutPartition, Plan
from neogenesis.core.plan.steps import (
    ClearTable,
    Copy,
    Discard,
    MakeVolume,
    Prepare,
    Step,
    Verify,
    WriteRanges,
    WriteTable,
)
from neogenesis.core.plan.tables import plan_table_writes
from neogenesis.core.survey import Survey
from neogenesis.core.table import Partition

#: The largest drive that anything here reckons with; figures beyond it are no sizes.
_LARGEST_BYTES = 1 << 60
_LARGEST_NUMBER = 1024
_LARGEST_TYPE, _LARGEST_SIGNATURE = 0xFF, 0xFFFFFFFF
_MOST_ENTRIES = 1 << 17
_SECTORS = (512, 1024, 2048, 4096)
#: A plan without these was not made by us: they are asked of every one.
_NEEDED_GATES = frozenset({"source-mounted"})
_NEEDED_WITH_A_DRIVE = frozenset({"target-is-source", "target-mounted", "target-holds"})


def check_plan(plan: Plan, name: str) -> Plan:
    """The plan itself; raises BadRecord that names every fault at once."""
    faults = list(_faults(plan))
    if faults:
        more = f"; and {len(faults) - 6} more" if len(faults) > 6 else ""
        raise BadRecord(
            f"The plan “{name}” cannot be run: {'; '.join(faults[:6])}{more}. Nothing was written.",
            "Plan again; a plan is not meant to be edited by hand.",
        )
    return plan


def _faults(plan: Plan) -> Iterator[str]:
    yield from _faults_alone(plan)
    yield from _fellow_faults(plan)


def _faults_alone(plan: Plan) -> Iterator[str]:
    layout, survey, target = plan.layout, plan.source.survey, plan.target
    basic = [*_drive_faults(plan), *_partition_faults(survey.partitions, "the old drive")]
    if any(sector not in _SECTORS for sector in (layout.sector_size, target.sector_size)):
        yield from basic  # nothing more can be worked out
        return
    if plan.intent == "exact":
        expected = layout_as_it_is(survey, target.size_bytes, target.sector_size)
        basic += [] if layout == expected else ["its layout is not that of the old drive"]
        if target.size_bytes < survey.drive.size_bytes:
            basic.append("the new drive is smaller than the old one")
    else:
        basic += _layout_faults(layout, survey)
        basic += _kind_faults(plan)
    yield from basic
    if not basic:
        yield from _table_faults(plan)
        yield from _step_faults(plan)
    yield from _gate_faults(plan)


def _fellow_faults(plan: Plan) -> Iterator[str]:
    """The drives of a set stand in it with plans of their own, and nothing is called a fellow that is not there."""
    there = [m for also in plan.also for m in members_of(also.source.survey)]
    if list(plan.fellows) != there:
        yield "it names fellows that it does not copy"
    for also in plan.also:
        if also.intent != "exact" or plan.intent != "exact" or also.also:
            yield "it copies a fellow in another way than exactly"
        yield from _faults_alone(also)
    places = [p.path for one in (plan, *plan.also) for p in (one.source.survey.drive, one.target.drive) if p]
    if plan.also and len(set(places)) != len(places):
        yield "it names a drive twice"


def _drive_faults(plan: Plan) -> Iterator[str]:
    layout, target, drive = plan.layout, plan.target, plan.target.drive
    old = plan.source.survey.drive
    sized = [
        ("the layout", layout.size_bytes, layout.sector_size),
        ("the new drive", target.size_bytes, target.sector_size),
    ]
    if any(not 0 <= start < end <= old.size_bytes for start, end in (*plan.lost, *plan.source.survey.lost)):
        yield "it names lost ranges that are none"
    if not isinstance(plan.source, FreshSource):
        sized.append(("the old drive", old.size_bytes, old.sector_size))
    elif plan.intent != "fresh":
        yield "it copies, and names nothing to copy from"
    for what, size, sector in sized:
        if not 0 < size <= _LARGEST_BYTES:
            yield f"{size} bytes is no size for {what}"
        if sector not in _SECTORS:
            yield f"{what} has sectors of {sector} bytes"
    if (layout.size_bytes, layout.sector_size) != (target.size_bytes, target.sector_size):
        yield "its layout is for another size than its new drive"
    if drive is not None and (drive.size_bytes, drive.sector_size) != (target.size_bytes, target.sector_size):
        yield "it names a new drive of another size than its own"
    if not 0 <= plan.source.survey.table.entry_count <= _MOST_ENTRIES:
        yield "the table of the old drive has an impossible number of entries"


def _partition_faults(partitions: Sequence[Partition], where: str) -> Iterator[str]:
    """What no table can say, not even a damaged one."""
    for p in partitions:
        if not 0 < p.number <= _LARGEST_NUMBER:
            yield f"{where} has a partition with the number {p.number}"
        if not 0 <= p.start_bytes <= _LARGEST_BYTES or not 0 <= p.size_bytes <= _LARGEST_BYTES:
            yield f"partition {p.number} of {where} has an impossible place or size"
        if not 0 <= p.attributes < 1 << 64:
            yield f"partition {p.number} of {where} has impossible attributes"


def _layout_faults(layout: Layout, survey: Survey) -> Iterator[str]:
    seen, ids = set[int](), Counter[str]()
    old_ids = Counter(p.unique_id.casefold() for p in survey.partitions)
    if layout.table == "mbr" and layout.disk_id and not _is_number(layout.disk_id, _LARGEST_SIGNATURE):
        yield "the identity of the new drive is none that this kind of table can say"
    yield from _partition_faults(layout.partitions, "the layout")
    for p in layout.partitions:
        named = f"partition {p.number}"
        if p.number in seen:
            yield f"{named} stands in the layout twice"
        seen.add(p.number)
        ids[p.unique_id.casefold()] += 1
        if p.unique_id and ids[p.unique_id.casefold()] > max(1, old_ids[p.unique_id.casefold()]):
            yield f"{named} has the identity of another one"
        if layout.table == "mbr" and not _is_number(p.type_id, _LARGEST_TYPE):
            yield f"{named} has a type that this kind of table cannot say"
        if layout.table != "none" and p.start_bytes < layout.sector_size:
            yield f"{named} lies over the table"
        if p.start_bytes % layout.sector_size or (p.size_bytes % layout.sector_size and layout.table != "none"):
            yield f"{named} does not start and end on a sector"
        if p.size_bytes <= 0 or p.end_bytes > layout.size_bytes:
            yield f"{named} does not lie inside the new drive"
        if p.from_partition is not None and survey.partition(p.from_partition) is None:
            yield f"{named} comes from partition {p.from_partition}, which the old drive does not have"
    ordered = sorted(layout.partitions, key=lambda p: p.start_bytes)
    for one, other in pairwise(ordered):
        if other.start_bytes < one.end_bytes:
            yield f"partitions {one.number} and {other.number} overlap"


def _is_number(text: str, most: int) -> bool:
    """Whether a hexadecimal text is a number up to `most`."""
    try:
        return 0 <= int(text, 16) <= most
    except ValueError:
        return False


def _kind_faults(plan: Plan) -> Iterator[str]:
    """The kind of table follows from the old drive, or from the machine; nobody chooses it in the file."""
    old = plan.source.survey.table.kind
    wanted = {"replace": old, "split": old, "beside": "mbr" if plan.policy.machine == "legacy" else "gpt"}
    kind = wanted.get(plan.intent, plan.layout.table)
    if plan.layout.table != kind:
        yield f"its table is of the kind {plan.layout.table}, where it must be {kind}"


def _table_faults(plan: Plan) -> Iterator[str]:
    if plan.intent == "exact" and not relocates(plan.source.survey, plan.policy):
        return
    try:
        plan_table_writes(plan)
    except Refused as error:
        yield error.text.removesuffix("; nothing was written.")
    except (ValueError, OverflowError):
        yield "an identity in its table is none"


_ORDER = (Prepare, MakeVolume, ClearTable, Discard, Copy, WriteRanges, Verify, WriteTable)


def _step_faults(plan: Plan) -> Iterator[str]:
    steps, layout = plan.operations, plan.layout
    if len({s.id for s in steps}) != len(steps) or any(not s.id or len(s.id) > 64 for s in steps):
        yield "its steps do not have an id each"
    for needed in (ClearTable, Verify, WriteTable):
        if sum(isinstance(s, needed) for s in steps) != 1:
            yield f"it has not one step “{needed.__struct_config__.tag}”"
    places = [max(1, _ORDER.index(type(s))) for s in steps]
    if places != sorted(places):
        yield "its steps are in an order that is not safe"
    for step in steps:
        yield from _fault_of(step, plan)
    if plan.intent != "exact":
        copied = [s.partition for s in steps if isinstance(s, Copy) and s.partition is not None]
        made = {s.partition for s in steps if isinstance(s, MakeVolume)}
        bare = {p.number for p in layout.partitions if plan.intent == "fresh" and p.number not in made}
        if sorted(copied) != sorted(p.number for p in layout.partitions if p.number not in bare):
            yield "it does not copy every partition of its layout once"


def _bare_edges(plan: Plan) -> tuple[tuple[int, int], ...]:
    """What a clean start clears besides the table."""
    made = {s.partition for s in plan.operations if isinstance(s, MakeVolume)}
    return edges_of(p for p in plan.layout.partitions if p.number not in made) if plan.intent == "fresh" else ()


def _fault_of(step: Step, plan: Plan) -> Iterator[str]:
    layout, survey = plan.layout, plan.source.survey
    named = f"the step “{step.id}”"
    if not 0 <= step.bytes <= _LARGEST_BYTES:
        yield f"{named} has an impossible size"
    if isinstance(step, WriteRanges):
        for one in step.ranges:
            if one.start_bytes < 0 or not one.data or one.start_bytes + len(one.data) > layout.size_bytes:
                yield f"{named} writes outside the new drive"
        return
    if isinstance(step, ClearTable) and step.ranges != _bare_edges(plan):
        yield f"{named} clears other places than partitions without a volume have"
    if not isinstance(step, Prepare | MakeVolume | Copy):
        return
    if step.partition is None:
        yield from _bare_copy_faults(step, plan, named)
        return
    new = layout.partition(step.partition)
    if new is None or plan.intent == "exact":
        yield f"{named} is for a partition that the plan does not lay out"
        return
    old_number = None if isinstance(step, MakeVolume) else step.from_partition
    if new.from_partition != old_number:
        yield f"{named} takes another partition than the layout says"
        return
    old = survey.partition(old_number) if old_number is not None else None
    if isinstance(step, Prepare) and old is not None and not _fits(step, old.size_bytes, new):
        yield f"{named} does not fit the layout"
    if old is not None and step.volume_kind != old.volume.kind:
        yield f"{named} is for another kind of volume"
    if isinstance(step, Copy):
        prepared = {s.partition for s in plan.operations if isinstance(s, Prepare | MakeVolume)}
        if new.number not in prepared and (old is None or old.size_bytes != new.size_bytes):
            yield f"{named} copies a volume that was not made ready"


def _bare_copy_faults(step: Step, plan: Plan, named: str) -> Iterator[str]:
    """A copy of the drive itself: inside both drives, and where no partition is laid out unless all is copied."""
    if not isinstance(step, Copy):
        yield f"{named} names no partition"
        return
    end = step.start_bytes + step.bytes
    limit = min(plan.layout.size_bytes, plan.source.survey.drive.size_bytes)
    inside = plan.intent != "exact" and any(
        p.start_bytes < end and step.start_bytes < p.end_bytes for p in plan.layout.partitions
    )
    if step.start_bytes < 0 or step.bytes <= 0 or end > limit or inside:
        yield f"{named} does not lie where it may"


def _fits(step: Prepare, old_bytes: int, new: LayoutPartition) -> bool:
    """Whether growing grows, and so on."""
    right = {"grow": new.size_bytes > old_bytes, "shrink": new.size_bytes < old_bytes}
    return step.bytes == new.size_bytes and right.get(step.action, new.size_bytes == old_bytes)


def _gate_faults(plan: Plan) -> Iterator[str]:
    needed = _NEEDED_GATES | (_NEEDED_WITH_A_DRIVE if plan.target.drive is not None else {"target-missing"})
    if isinstance(plan.source, FreshSource):
        needed -= {"source-mounted", "target-is-source"}
    missing = needed - {g.code for g in plan.gates}
    if missing:
        yield f"its gates are not complete ({', '.join(sorted(missing))} missing)"
