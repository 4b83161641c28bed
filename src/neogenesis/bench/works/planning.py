"""Surveys and plans of drives that are connected: what the command line and the window both call."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations
from pathlib import Path

import msgspec
from blake3 import blake3

from neogenesis.bench.drives import OpenDrive, open_sealed, provider_of, same_bytes
from neogenesis.bench.inside.surveying import survey
from neogenesis.bench.processes.reader import open_tree
from neogenesis.core.drive import Drive, Identity
from neogenesis.core.errors import BadArgument, BadRecord, Refused
from neogenesis.core.image.make import ImageFiles
from neogenesis.core.job.saved import Saved
from neogenesis.core.plan import Plan, Policy, check_plan, make_plan, make_set_plan
from neogenesis.core.plan.model import Target
from neogenesis.core.record import load, to_json
from neogenesis.core.survey import Survey, Surveyed, survey_drive
from neogenesis.core.transfer import RunFiles, table_mark
from neogenesis.core.transfer.manifest import load_manifest_head
from neogenesis.core.transfer.regions import load_regions
from neogenesis.core.units import binary_text, both_text
from neogenesis.core.work.journal import belongs_to


def new_id() -> str:
    """A fresh GUID, as tables write them."""
    return str(uuid.uuid4()).upper()


def target_of(name: str, source_sector_size: int) -> Target:
    """What is known of the new drive before it is written to, with what it holds."""
    provider_of(name).refuse_as_target(name)
    opened = open_sealed(name)
    try:
        found = survey_drive(opened.store, opened.drive, open_tree).survey
        sector_size = opened.drive.sector_size if opened.hardware.has_own_sectors else source_sector_size
        return Target(
            size_bytes=opened.drive.size_bytes,
            sector_size=sector_size,
            drive=_with_sector_size(opened, sector_size),
            table_mark=table_mark(opened.store),
            holds=holdings(found),
        )
    finally:
        opened.close()


def _with_sector_size(opened: OpenDrive, sector_size: int) -> Drive:
    return msgspec.structs.replace(opened.drive, sector_size=sector_size, changed_ns=0)


def holdings(found: Survey) -> tuple[str, ...]:
    """What would be lost if the drive were written to, by name and size."""
    return tuple(
        f"{p.title}, {binary_text(p.size_bytes)}"
        + (f", {binary_text(p.volume.used_bytes)} used" if p.volume.understood else "")
        for p in found.partitions
    )


def plan_for(source: Surveyed, target: str | None, target_size: int | None, policy: Policy) -> Plan:
    """A plan for a connected new drive, or for a size; raises Refused."""
    sector_size = source.survey.drive.sector_size
    if target is None:
        size = (target_size or 0) // sector_size * sector_size
        return make_plan(source, Target(size_bytes=size, sector_size=sector_size), policy, new_id)
    return make_plan(source, usable_target(source, target), policy, new_id)


def plan_for_set(ends: Sequence[tuple[str, str]], policy: Policy) -> Plan:
    """One plan for the drives of a set, each with its own new drive. Raises Refused or BadArgument."""
    surveyed = [survey(old) for old, _ in ends]
    every = [name for pair in ends for name in pair]
    if any(same_bytes(one, other) for one, other in combinations(every, 2)):
        raise BadArgument("A drive is named twice.", "Name each old drive and each new one once.")
    targets = [usable_target(found, new) for found, (_, new) in zip(surveyed, ends, strict=True)]
    return make_set_plan(list(zip(surveyed, targets, strict=True)), policy, new_id)


def usable_target(source: Surveyed, target: str) -> Target:
    """What is known of a drive that may become the new one; raises Refused when it is in use or the old one."""
    if same_bytes(source.survey.drive.path, target):
        raise Refused(
            "target-is-source",
            f"“{target}” is the old drive itself; it is sealed.",
            "Choose another drive as the new one.",
        )
    known = target_of(target, source.survey.drive.sector_size)
    if known.drive is not None and known.drive.mounted:
        raise Refused(
            "mounted",
            f"“{target}” is mounted or in use by this machine; nothing was written.",
            "Unmount it, after making sure that it is the right one.",
        )
    return known


def load_plan(path: Path) -> Plan:
    """Raises BadRecord for anything that is no plan of ours, or none that can be run."""
    return check_plan(load(path, Plan, "plan"), path.name)


def refuse_begun(path: Path, force: bool) -> None:
    """Raises Refused for the file of a plan whose transfer was begun and not finished: another plan would end that."""
    journal = RunFiles(path).journal
    if force or not path.exists() or not journal.exists():
        return
    try:
        begun = belongs_to(journal, hash_of(load_plan(path))) and not RunFiles(path).manifest.exists()
    except BadRecord:
        return
    if begun:
        raise Refused(
            "exists",
            f"A transfer by the plan “{path.name}” was begun and is not finished; nothing was written.",
            "Go on with it (transfer --resume), name another file, or add --force to give it up.",
        )


def hash_of(plan: Plan) -> str:
    """What ties a journal and a manifest to their plan."""
    return blake3(to_json(plan)).hexdigest()


def describe(plan: Plan) -> str:
    """The plan in a few lines of words."""
    lines = [
        f"{plan.source.survey.drive.model or Path(plan.source.survey.drive.path).name} onto "
        f"{both_text(plan.target.size_bytes)}: {both_text(plan.estimate.bytes_to_copy)} to copy"
    ]
    for p in plan.layout.partitions:
        lines.append(f"  {p.number:>2}  {p.title:<24} {p.role:<9} {both_text(p.size_bytes)}")
    new = plan.target.drive
    if new is not None:
        who = " ".join(filter(None, (new.model or Path(new.path).name, new.serial, f"({new.path})")))
        lines.append(f"  onto {who}; lost on it: {'; '.join(plan.target.holds) or 'nothing'}")
    lines += [f"  {reason}" for reason in plan.reasons]
    lines += [f"  afterwards: {step}" for step in plan.afterwards]
    return "\n".join(lines)


@dataclass(frozen=True, slots=True)
class PlanEnds:
    """What a plan is made from. `lost_bytes` of what the old drive held are not in what was saved from it."""

    source: Surveyed
    target: Target
    lost_bytes: int = 0


def plan_ends(old: str, new: str) -> PlanEnds:
    """Both drives, read; raises Refused when the new one cannot be one."""
    source = survey(old)
    return PlanEnds(source, usable_target(source, new))


def plan_ends_saved(saved: Saved, region_map: Path, old: Identity | None, new: str) -> PlanEnds:
    """As `plan_ends`, from an image or a rescue of the `old` drive.

    Raises Refused when the record beside it says that it is of another drive, BadRecord when there is none.
    """
    if saved.kind == "image":
        of: Identity | None = load_manifest_head(ImageFiles(Path(saved.place)).manifest).source.identity
    else:
        of = load_regions(region_map).source
    if old is not None and of is not None and not of.is_same(old):
        raise Refused(
            "other-drive",
            f"“{saved.place}” was saved from another drive than this job's old one; nothing was written.",
            "Save this job's drive again, or read the old drive itself.",
        )
    source = survey(saved.place, region_map=region_map if saved.kind == "rescue" else None)
    return PlanEnds(source, usable_target(source, new), source.survey.lost.total)
