"""Makes a plan from a survey of the old drive and what is known of the new one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec

from neogenesis.core.errors import BadArgument, Refused
from neogenesis.core.estimate import estimate, gentleness
from neogenesis.core.extent import Extents
from neogenesis.core.filesystem.members import Member
from neogenesis.core.judgement import judgement
from neogenesis.core.plan.appliance import Appliance
from neogenesis.core.plan.gates import gates_of, members_of
from neogenesis.core.plan.intents import (
    appliance_gates,
    appliance_policy,
    appliance_reason,
    beside_layout,
    exact_layout,
    relocates,
    split_afterwards,
    split_findings,
    split_policy,
)
from neogenesis.core.plan.layout import NewId, carried, make_layout
from neogenesis.core.plan.model import DriveSource, ImageSource, Layout, Plan, Target
from neogenesis.core.plan.operations import plan_operations
from neogenesis.core.plan.policy import Policy
from neogenesis.core.plan.steps import Copy, MakeVolume, Prepare, Step
from neogenesis.core.plan.tables import table_writes
from neogenesis.core.survey import Finding, Survey, Surveyed
from neogenesis.core.units import MIB, both_text


def make_set_plan(ends: Sequence[tuple[Surveyed, Target]], policy: Policy, new_id: NewId) -> Plan:
    """One plan for the drives of a set, each copied exactly onto its own new one; the others stand in `also`.

    Raises Refused as `make_plan`, BadArgument for another intent or for a drive that is no fellow.
    """
    if policy.intent != "exact":
        raise BadArgument("Drives of one set are copied together exactly.", "Add --intent exact.")
    members = [members_of(source.survey) for source, _ in ends]
    sets = {m.set_id for m in members[0]}
    for (source, _), theirs in zip(ends, members, strict=True):
        if not sets & {m.set_id for m in theirs}:
            name = source.survey.drive.path
            raise BadArgument(f"“{name}” is no fellow of the first drive.", "Name the drives of one set.")
    plans = []
    for index, (source, target) in enumerate(ends):
        others = tuple(m for n, theirs in enumerate(members) if n != index for m in theirs)
        plans.append(make_plan(source, target, policy, new_id, others))
    return msgspec.structs.replace(plans[0], also=tuple(plans[1:]))


def make_plan(
    source: Surveyed, target: Target, policy: Policy, new_id: NewId, fellows: tuple[Member, ...] = ()
) -> Plan:
    """A plan for `policy`; raises Refused when no layout exists or the intent does not suit the drive.

    `fellows` are the others of a set that are copied at the same time.

    Gates that are closed do not stop planning: they are in the plan, and a transfer refuses.
    """
    survey = source.survey
    appliance = policy.appliance
    if appliance is not None:
        policy = appliance_policy(survey, policy, appliance)
    if policy.intent == "split":
        policy = split_policy(survey, policy)
    _refuse_other_sectors(survey, target, policy)
    if policy.intent == "exact":
        layout, reasons = exact_layout(survey, target)
    elif policy.intent == "beside":
        layout, reasons = beside_layout(survey, policy, target, new_id)
    else:
        _refuse_hopeless(survey)
        layout, reasons = make_layout(survey, policy, target.size_bytes, target.sector_size, new_id)
    operations = plan_operations(source, layout, policy)
    carried_numbers = {p.from_partition for p in layout.partitions}
    left = tuple(p.number for p in survey.partitions if p.number not in carried_numbers)
    copied = sum(o.bytes for o in operations if isinstance(o, Copy))
    prepared = sum(1 for o in operations if isinstance(o, Prepare | MakeVolume))
    if policy.intent in ("replace", "split"):
        reasons += _more_reasons(survey, layout, policy)
    if policy.intent != "exact" or relocates(survey, policy):
        table_writes(layout, None if policy.intent == "beside" else survey.table)
    if appliance is not None:
        layout = _as_appliance(layout, appliance)
        operations = plan_operations(source, layout, policy)
        reasons.append(appliance_reason(appliance))
    lost = survey.lost if policy.intent == "exact" else _lost(source, layout, operations)
    if lost:
        reasons.append(
            f"{both_text(lost.total)} of what is carried over were lost when it was saved from the old drive; they "
            "become zeros, and the survey names the files on them."
        )
    afterwards = split_afterwards(survey) if policy.intent == "split" else ()
    findings = (*_findings(layout, survey, operations), *_backup_table(survey, target, policy))
    gates = gates_of(survey, target, layout, operations, fellows, policy.alone)
    return Plan(
        intent=policy.intent,
        source=ImageSource(survey=survey) if survey.drive.changed_ns else DriveSource(survey=survey),
        target=target,
        policy=policy,
        layout=layout,
        left_behind=left,
        operations=tuple(operations),
        gates=(*gates, *appliance_gates(appliance, layout)) if appliance else gates,
        reasons=tuple(reasons),
        findings=(*findings, *split_findings(survey)) if policy.intent == "split" else findings,
        estimate=estimate(
            survey.drive,
            target.drive,
            copied,
            prepared,
            copied,
            gentle=gentleness(survey.health),
        ),
        scratch_bytes=sum(_scratch_bytes(source, o) for o in operations if isinstance(o, Prepare | MakeVolume)),
        afterwards=(*afterwards, *(appliance.afterwards if appliance else ())),
        lost=tuple(lost),
        fellows=fellows,
    )


def _lost(source: Surveyed, layout: Layout, operations: list[Step]) -> Extents:
    """What of that which is carried over is missing from the source."""
    lost = source.survey.lost
    if not lost:
        return lost
    carried = [(o.start_bytes, o.start_bytes + o.bytes) for o in operations if isinstance(o, Copy) and not o.partition]
    found = Extents.of(carried)
    for partition in layout.partitions:
        old = source.survey.partition(partition.from_partition or 0)
        if old is not None:
            used = source.allocations.get(old.number)
            whole = Extents.of([(old.start_bytes, old.end_bytes)])
            found = found.union(used.shifted(old.start_bytes) if used is not None else whole)
    return found.intersection(lost)


def _as_appliance(layout: Layout, appliance: Appliance) -> Layout:
    """The layout with the types that the class names; a copy sector for sector stays as it is, and is only checked."""
    if appliance.rest != "last":
        return layout
    wanted = {p.number: w.type_id for p, w in zip(layout.partitions, appliance.partitions, strict=False)}
    parts = tuple(msgspec.structs.replace(p, type_id=wanted.get(p.number, p.type_id)) for p in layout.partitions)
    return msgspec.structs.replace(layout, partitions=parts)


#: Volumes that do not record the size of sectors, as long as their blocks are whole ones.
_FREE_OF_SECTORS = frozenset({"ext2", "ext3", "ext4", "swap"})


def _refuse_other_sectors(survey: Survey, target: Target, policy: Policy) -> None:
    """A new table and volumes that know nothing of sectors can stand on any; everything else is refused."""
    old, new = survey.drive.sector_size, target.sector_size
    if old == new or policy.intent == "beside":
        return
    fault = "a copy sector for sector keeps the old ones"
    if policy.intent in ("replace", "split"):
        fault = "the table is of the old kind" if survey.table.kind != "gpt" else ""
        for partition in carried(survey, policy) if not fault else ():
            volume = partition.volume
            if volume.kind not in _FREE_OF_SECTORS:
                fault = f"{partition.title} ({volume.kind}) is made for the old ones"
            elif volume.block_bytes % new or partition.size_bytes % new:
                fault = f"{partition.title} has blocks of {volume.block_bytes} bytes"
    if fault:
        raise Refused(
            "sector-size",
            f"The old drive has sectors of {old} bytes and the new one of {new}, and {fault}; "
            "what was made for one does not start on the other.",
            f"Take a drive, or a mode of this drive, with sectors of {old} bytes.",
        )


def _refuse_hopeless(survey: Survey) -> None:
    if not survey.partitions:
        raise Refused(
            "nothing-to-copy",
            "The old drive has no partitions that could be read; there is no plan.",
            "Check that it is the right drive; if it is, plan with --intent exact.",
        )
    damage = next(
        (
            f
            for f in survey.findings
            if f.code in ("partitions-overlap", "partition-beyond-end", "mbr-logical-chain", "mbr-logical-outside")
        ),
        None,
    )
    if damage:
        raise Refused("table-damaged", f"The table of the old drive is damaged: {damage.text}", damage.remedy)


def _scratch_bytes(source: Surveyed, operation: Prepare | MakeVolume) -> int:
    """Room for what preparing a volume changes: its tables, and what a smaller size pushes to another place."""
    if isinstance(operation, MakeVolume):
        return operation.bytes // 4096 + 64 * MIB
    if operation.action == "patch":
        return MIB
    allocation = source.allocations.get(operation.from_partition)
    moved = 0
    if operation.action == "shrink" and allocation is not None:
        moved = allocation.clipped(operation.bytes, max(operation.bytes, allocation.end)).total
    return 2 * moved + operation.bytes // 4096 + 64 * MIB


def _more_reasons(survey: Survey, layout: Layout, policy: Policy) -> list[str]:
    reasons = []
    if survey.drive.sector_size != layout.sector_size:
        reasons.append(
            f"The table is made anew for sectors of {layout.sector_size} bytes; the volumes carried do not record any. "
            "Whether the machine starts from such a drive depends on its loader."
        )
    if policy.identity == "keep":
        reasons.append("Identities are kept: the old drive leaves the machine, so nothing else has them.")
    else:
        reasons.append("The new drive gets identities of its own; loaders that name the old ones need a repair.")
    if survey.table.kind == "mbr" and layout.size_bytes > (1 << 32) * layout.sector_size:
        reasons.append("This kind of table reaches only 2 TiB; the rest of the new drive stays unused.")
    if policy.machine == "legacy" and survey.table.kind == "gpt":
        reasons.append("The table is GPT; a legacy machine starts from it only with a loader made for that.")
    if policy.machine == "uefi" and survey.table.kind == "mbr":
        reasons.append("The table is the old kind; a UEFI machine starts from it only in legacy mode.")
    return reasons


def _backup_table(survey: Survey, target: Target, policy: Policy) -> Iterator[Finding]:
    """An exact copy onto a larger drive keeps the table's backup where the old drive ended."""
    stays = policy.intent == "exact" and survey.table.kind == "gpt" and not relocates(survey, policy)
    if stays and target.size_bytes > survey.drive.size_bytes:
        yield Finding(
            code="backup-table",
            severity="caution",
            text="The backup of the table stays where the old drive ended: what lies behind it cannot be used yet.",
            remedy="Plan with --relocate-table to have it at the end of the new drive.",
        )


def _findings(layout: Layout, survey: Survey, operations: list[Step]) -> tuple[Finding, ...]:
    found = list(survey.findings)
    caution = judgement().fill_caution_percent
    for partition in layout.partitions:
        if partition.role not in ("system", "data") or not partition.used_bytes:
            continue
        old = survey.partition(partition.from_partition or 0)
        if old is None or not old.volume.understood:
            continue
        percent = 100 * partition.used_bytes / partition.size_bytes
        if percent > caution:
            better = -(-partition.used_bytes * 100 // caution)
            found.append(
                Finding(
                    code="planned-full",
                    severity="caution",
                    partition=partition.number,
                    text=f"{partition.title} is {percent:.0f} % full on the new drive.",
                    remedy=f"Plan {caution} % or less: give it {both_text(better)}.",
                )
            )
    for operation in operations:
        if not isinstance(operation, Prepare):
            continue
        if operation.action in ("grow", "shrink") and operation.volume_kind == "ntfs":
            found.append(
                Finding(
                    code="resized",
                    severity="note",
                    partition=operation.partition,
                    text="The resized volume is checked before anything is written, and its flag for a check at "
                    "the next start is taken off again.",
                    remedy="A first start may still look slower than usual.",
                )
            )
        moved = layout.partition(operation.partition or 0)
        if operation.action == "patch" and moved is not None and moved.role == "recovery":
            found.append(
                Finding(
                    code="recovery-moved",
                    severity="note",
                    partition=moved.number,
                    text=f"{moved.title} moves, and the system remembers where it was.",
                    remedy="At first boot, check that recovery is still registered.",
                )
            )
    return tuple(found)
