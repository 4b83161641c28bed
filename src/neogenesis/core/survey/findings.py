"""What a survey noticed, in words: what it means and what to do."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from neogenesis.core.drive import Drive, Health
from neogenesis.core.judgement import judgement
from neogenesis.core.survey.model import Finding, InheritedLosses, PartitionFacts, Severity
from neogenesis.core.table import Table
from neogenesis.core.table.spanned import SPANNED_CODES, UNNAMED_FELLOWS
from neogenesis.core.units import both_text

#: So many are named in words.
_MOST_FELLOWS = 8


def all_findings(
    drive: Drive,
    table: Table,
    partitions: Sequence[PartitionFacts],
    faults: Mapping[int, str],
    unlisted: Mapping[int, str],
    health: Health,
    losses: InheritedLosses | None = None,
) -> tuple[Finding, ...]:
    """Findings about the drive first, then by partition."""
    found = [
        Finding(code=p.code, severity=p.severity, text=p.text, remedy=p.remedy, partition=p.partition)
        for p in table.problems
    ]
    if any(p.code in SPANNED_CODES for p in table.problems):
        found.append(
            Finding(
                code="member",
                severity="stop",
                text="The drive is one of a group that is of use only together.",
                remedy="If its fellows stay as they are and the new drive takes its place among them, plan with "
                "--intent exact and --alone.",
                fellows=UNNAMED_FELLOWS,
            )
        )
    if drive.size_bytes == 0:
        found.append(_finding("drive-empty", "stop", "The drive has no bytes at all.", "Check cable and dock."))
    elif table.kind == "none" and not partitions:
        found.append(
            _finding(
                "no-table",
                "note",
                "The drive holds no partition table that could be read.",
                "If it should, do not write to it: image it exactly.",
            )
        )
    if drive.mounted:
        found.append(
            _finding(
                "mounted",
                "caution",
                "The drive is in use by this machine.",
                "Unmount it, so that nothing changes while it is read.",
            )
        )
    if health.is_failing:
        found.append(
            _finding(
                "health-failing",
                "stop",
                f"The drive is failing: {health.why}.",
                "Do not keep testing it. Image it first, gently, and decide from the image.",
            )
        )
    elif health.verdict == "ageing":
        found.append(_finding("health-ageing", "caution", f"The drive is ageing: {health.why}.", "Copy it soon."))
    if losses is not None and losses.bytes:
        files = f"; files that lie on it: {len(losses.files)}" if losses.files else ""
        found.append(
            _finding(
                "inherited-losses",
                "caution",
                f"{both_text(losses.bytes)} could not be read when this was saved from the old drive{files}.",
                "What is made from it lacks them too: try the old drive once more, or make them good from a backup.",
            )
        )
    for partition in partitions:
        found += _of_partition(partition, faults.get(partition.number, ""))
        why = unlisted.get(partition.number, "")
        if why:
            found.append(
                _finding(
                    "files-not-listed",
                    "caution",
                    f"{partition.title}: which system and files are on it could not be told. {why}",
                    "It can be carried over as it is; check it on the copy.",
                    partition.number,
                )
            )
    return tuple(found)


def _finding(code: str, severity: Severity, text: str, remedy: str, partition: int | None = None) -> Finding:
    return Finding(code=code, severity=severity, text=text, remedy=remedy, partition=partition)


def _of_partition(partition: PartitionFacts, fault: str) -> list[Finding]:
    volume, number, title = partition.volume, partition.number, partition.title
    found = []
    if fault:
        found.append(
            _finding(
                "volume-damaged",
                "stop",
                f"{title}: the volume is damaged. {fault}",
                "It can be carried over as it is. Repair it only on the copy.",
                number,
            )
        )
    elif volume.hibernated:
        found.append(
            _finding(
                "hibernated",
                "caution",
                f"{title}: a sleeping system is stored here; its files may be stale.",
                "Start the machine, switch fast start off, shut it down fully, then survey again.",
                number,
            )
        )
    if volume.dirty and not fault:
        found.append(
            _finding(
                "unclean",
                "caution",
                f"{title}: the volume is unclean; it was not shut down properly.",
                "Start the machine and shut it down fully. It can be copied as it is, but not resized.",
                number,
            )
        )
    if volume.encrypted:
        found.append(
            _finding(
                "encrypted",
                "caution",
                f"{title}: the volume is encrypted; it can only be copied exactly.",
                "Better: switch encryption off on the customer's machine, wait until it has finished, copy, "
                "check, switch it on again. Ask who holds the recovery key; never write the key down.",
                number,
            )
        )
    if volume.fixed:
        found.append(
            _finding(
                "fixed-size",
                "note",
                f"{title}: the volume has features that no utility resizes safely; it keeps its size.",
                "Let another volume take the new space, or add a new data volume.",
                number,
            )
        )
    member = volume.member
    if member is not None and not member.is_alone:
        found.append(
            Finding(
                code="member",
                severity="stop",
                text=f"{title}: one of {member.count} that are of use only together; it is {member.own}.",
                remedy=f"Move all of them in one plan, with --with: {', '.join(member.fellows[:_MOST_FELLOWS])}.",
                partition=number,
                fellows=member.fellows,
            )
        )
    elif volume.kind in ("raid", "lvm"):
        found.append(
            _finding(
                f"{volume.kind}-member",
                "note",
                f"{title}: a set of volumes of its own; it is carried as it is.",
                "The volumes inside keep their sizes.",
                number,
            )
        )
    size = volume.size_bytes
    if volume.understood and size and partition.role in ("system", "data"):
        percent = 100 * volume.used_bytes / size
        if percent > judgement().fill_caution_percent:
            found.append(
                _finding(
                    "nearly-full",
                    "note",
                    f"{title} is {percent:.0f} % full: {both_text(volume.used_bytes)} "
                    f"of {both_text(size)}. That alone explains slowness without a fault.",
                    "Give it more room on the new drive.",
                    number,
                )
            )
    return found
