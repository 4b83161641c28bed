"""The intents that are not *replace*: exact, beside and split, each as what differs from it."""

from __future__ import annotations

import msgspec

from neogenesis.core.errors import Refused
from neogenesis.core.plan.appliance import Appliance, mismatches
from neogenesis.core.plan.layout import NewId, data_type, is_resizable
from neogenesis.core.plan.model import Gate, Layout, LayoutPartition, Target
from neogenesis.core.plan.policy import Policy
from neogenesis.core.survey import Finding, Survey
from neogenesis.core.table import gpt_usable
from neogenesis.core.units import MIB, both_text, round_down, round_up

_MBR_REACH_SECTORS = 1 << 32


def split_policy(survey: Survey, policy: Policy) -> Policy:
    """Leave the personal data where it is; raises Refused where there is nothing to divide."""
    data = tuple(p.number for p in survey.partitions if p.role == "data")
    if not data:
        raise Refused(
            "nothing-to-split",
            "The old drive has no data partition beside its system; there is nothing to leave on it.",
            "Use replace, or move the personal folders on the customer's machine first.",
        )
    if not any(p.role == "system" for p in survey.partitions):
        raise Refused(
            "no-system", "No system was found on the old drive, so there is nothing to move by a split.", "Use exact."
        )
    return msgspec.structs.replace(policy, leave=tuple(sorted({*policy.leave, *data})))


def split_findings(survey: Survey) -> tuple[Finding, ...]:
    """Both drives stay in one machine and carry the same identities until the old one is stamped anew."""
    return (
        Finding(
            code="two-drives-one-identity",
            severity="caution",
            text="Both drives will stay in the machine, and for now they carry the same identities.",
            remedy="Start once with the new drive alone. Then give the system partitions of the old drive new "
            "identities, so that the machine cannot start the wrong one.",
        ),
    )


def split_afterwards(survey: Survey) -> tuple[str, ...]:
    names = [p.title for p in survey.partitions if p.role in ("startup", "reserved", "system", "recovery")]
    return (
        "Start the machine with the new drive alone and see that it works.",
        f"Only then stamp new identities on the old drive's {', '.join(names)}; its data partitions keep theirs.",
        "Check that the machine still finds the personal folders where it expects them.",
    )


def exact_layout(survey: Survey, target: Target) -> tuple[Layout, list[str]]:
    """Everything where it was; raises Refused when the new drive is smaller."""
    missing = survey.drive.size_bytes - target.size_bytes
    if missing > 0:
        raise Refused(
            "too-small",
            f"The new drive is too small for a copy sector for sector: {both_text(survey.drive.size_bytes)} needed, "
            f"{both_text(target.size_bytes)} there, {both_text(missing)} missing.",
            "Take a drive of at least the same number of sectors.",
        )
    layout = layout_as_it_is(survey, target.size_bytes, target.sector_size)
    reasons = ["Sector for sector: nothing is interpreted, nothing changes its place or size."]
    if missing < 0:
        reasons.append(f"{both_text(-missing)} at the end of the new drive stay unused.")
    return layout, reasons


def layout_as_it_is(survey: Survey, size_bytes: int, sector_size: int) -> Layout:
    """The partitions of a drive, unchanged, on a drive of that size."""
    partitions = tuple(
        LayoutPartition(
            number=p.number,
            start_bytes=p.start_bytes,
            size_bytes=p.size_bytes,
            role=p.role,
            type_id=p.type_id,
            unique_id=p.unique_id,
            name=p.name,
            from_partition=p.number,
            attributes=p.attributes,
            logical=p.logical,
            bootable=p.bootable,
            used_bytes=p.volume.used_bytes,
            title=p.title,
        )
        for p in survey.partitions
    )
    return Layout(
        table=survey.table.kind,
        disk_id=survey.table.disk_id,
        sector_size=sector_size,
        size_bytes=size_bytes,
        partitions=partitions,
    )


def relocates(survey: Survey, policy: Policy) -> bool:
    """Whether the backup of the table is to stand at the end of the new drive."""
    return policy.relocate_table and survey.table.kind == "gpt"


def beside_layout(survey: Survey, policy: Policy, target: Target, new_id: NewId) -> tuple[Layout, list[str]]:
    """One new volume on a new table: GPT unless the machine is legacy; the filesystem by what will read it."""
    sector = target.sector_size
    legacy = policy.machine == "legacy"
    if legacy:
        start, end = MIB, round_down(min(target.size_bytes, _MBR_REACH_SECTORS * sector), MIB)
    else:
        first, last = gpt_usable(target.size_bytes, sector)
        start, end = round_up(first, MIB), round_down(last, MIB)
    end = min(end, round_down(target.size_bytes - target.size_bytes * policy.spare_percent // 100, MIB))
    size = round_up(policy.data_volume_bytes, MIB) if policy.data_volume_bytes else end - start
    if size <= 16 * MIB or start + size > end:
        raise Refused(
            "too-small",
            f"The new drive is too small: {both_text(max(size, 16 * MIB))} needed, "
            f"{both_text(max(0, end - start))} there.",
            "Ask for a smaller volume, or take a larger drive.",
        )
    type_id, kind = data_type(survey, gpt=not legacy)
    layout = Layout(
        table="mbr" if legacy else "gpt",
        disk_id=f"0x{new_id()[:8].lower()}" if legacy else new_id(),
        sector_size=sector,
        size_bytes=target.size_bytes,
        partitions=(
            LayoutPartition(
                number=1,
                start_bytes=start,
                size_bytes=size,
                role="data",
                type_id=type_id,
                unique_id="" if legacy else new_id(),
                name="" if legacy else "Data",
                from_partition=None,
                title="Data",
            ),
        ),
    )
    table = "a table that legacy machines read" if legacy else "GPT"
    reasons = [
        "The old drive stays in the machine as it is; nothing is copied from it.",
        f"The new drive gets {table} and one {kind} volume, which the system found on the old drive can read.",
    ]
    if legacy and target.size_bytes > _MBR_REACH_SECTORS * sector:
        reasons.append("That kind of table reaches only 2 TiB; the rest of the new drive stays unused.")
    return layout, reasons


def appliance_policy(survey: Survey, policy: Policy, appliance: Appliance) -> Policy:
    """Sector for sector, unless the last partition takes the new space: then the sizes that the class names."""
    if appliance.rest != "last" or not survey.partitions:
        return msgspec.structs.replace(policy, intent="exact")
    parts = survey.partitions
    wanted = zip(parts, appliance.partitions, strict=False)
    sizes = {p.number: w.size_mib * MIB for p, w in wanted if w.size_mib and w.size_mib * MIB != p.size_bytes}
    sizes = {n: s for n, s in sizes.items() if is_resizable(next(p for p in parts if p.number == n))}
    grow = parts[-1].number if is_resizable(parts[-1]) else "none"
    return msgspec.structs.replace(policy, intent="replace", leave=(), grow=grow, sizes=sizes, recovery="stay")


def appliance_reason(appliance: Appliance) -> str:
    rest = {
        "free": "the rest of the new drive stays free, as it must",
        "last": "its last partition takes the new space",
        "device": "the rest stays free until the device takes it itself",
    }[appliance.rest]
    return f"Planned for the device class “{appliance.title}”: {rest}."


def appliance_gates(appliance: Appliance, layout: Layout) -> tuple[Gate, ...]:
    """Whether the device would take the drive, and its table."""
    accepted = ", ".join(f"{gb} GB" for gb in appliance.capacities_gb)
    fits = appliance.accepts(layout.size_bytes)
    table = [(p.type_id, p.size_bytes) for p in layout.partitions]
    faults = mismatches(appliance, layout.table, table)
    return (
        Gate(
            code="appliance-capacity",
            open=fits,
            text=f"{appliance.title}: {both_text(layout.size_bytes)} is a capacity that it accepts."
            if fits
            else f"{appliance.title}: it accepts {accepted}, and this drive has {both_text(layout.size_bytes)}.",
            remedy="" if fits else "Take a drive of one of those capacities, or plan without the device class.",
        ),
        Gate(
            code="appliance-table",
            open=not faults,
            text=f"{appliance.title}: the new table is as it wants it."
            if not faults
            else f"{appliance.title}: it would not take the new table: {'; '.join(faults)}.",
            remedy="" if not faults else "Check that this is the device's own drive, or choose another device class.",
        ),
    )
