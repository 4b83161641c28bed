"""The conditions that must hold before anything is written, as far as a plan can tell them.

The transfer asks the ones about the target again, from the drive itself, at the moment of writing.
"""

from __future__ import annotations

from collections.abc import Sequence

from neogenesis.core.drive import same_drive
from neogenesis.core.filesystem.members import Member
from neogenesis.core.judgement import judgement
from neogenesis.core.plan.model import Gate, Layout, Target
from neogenesis.core.plan.steps import Copy, Prepare, Step
from neogenesis.core.survey import Survey
from neogenesis.core.table.spanned import SPANNED_CODES
from neogenesis.core.units import both_text

#: So many of a set are named in words.
_MOST_NAMED = 8


def gates_of(
    survey: Survey,
    target: Target,
    layout: Layout,
    operations: Sequence[Step],
    fellows: Sequence[Member] = (),
    alone: bool = False,
) -> tuple[Gate, ...]:
    """All gates, open ones as well: they are what the technician can rely on.

    `fellows` are the others of a set that are copied together with this drive; `alone` as in `Policy`.
    """
    if not survey.drive.path:  # nothing is copied
        return tuple(g for g in _target_gates(survey, target) if g.code != "target-is-source")
    gates = [
        _gate(
            "source-mounted",
            not survey.drive.mounted,
            "The old drive is not in use.",
            "The old drive is mounted and changes while it is read.",
            "Unmount it.",
        )
    ]
    gates += _target_gates(survey, target)
    gates += _resize_gates(survey, operations)
    carries = any(isinstance(o, Copy) and o.from_partition is not None for o in operations)
    if carries and SPANNED_CODES & set(survey.table.problems):
        gates.append(
            Gate(
                code="spanned",
                open=False,
                text="The old drive does not stand alone: single partitions of it are of no use elsewhere.",
                remedy="Plan with --intent exact, and copy its fellows as well.",
            )
        )
    gates += [] if alone else _member_gates(survey, layout, carries, fellows)
    if carries:
        gates.append(_fill_gate(layout, target))
    return tuple(gates)


def members_of(survey: Survey) -> list[Member]:
    """The sets that volumes of a drive belong to, of which there are others."""
    return [p.volume.member for p in survey.partitions if p.volume.member and not p.volume.member.is_alone]


def _member_gates(survey: Survey, layout: Layout, carries: bool, fellows: Sequence[Member]) -> list[Gate]:
    """One for each volume that goes along and is of use only with others, open when all of them go."""
    carried = {p.from_partition for p in layout.partitions}
    gates = []
    if not carries and SPANNED_CODES & set(survey.table.problems):
        gates.append(
            Gate(
                code="member",
                open=False,
                text="The old drive is one of a group, and who its fellows are stands on none of them alone.",
                remedy="If they stay as they are and the new drive takes its place among them, plan with --alone.",
            )
        )
    for partition in survey.partitions:
        member = partition.volume.member
        if member is None or member.is_alone or (carries and partition.number not in carried):
            continue
        missing = member.missing(frozenset(f.own for f in fellows if f.set_id == member.set_id))
        gates.append(
            _gate(
                "member",
                not missing,
                f"{partition.title} and its fellows are copied together.",
                f"{partition.title} is {member.own} of {member.count} that are of use only together; not in "
                f"this plan: {', '.join(missing[:_MOST_NAMED])}.",
                "Connect them all, and plan with --intent exact and --with OLD=NEW for each; if they stay as they are "
                "and the new drive takes this one's place among them, with --alone.",
            )
        )
    return gates


def _gate(code: str, is_open: bool, yes: str, no: str, remedy: str) -> Gate:
    return Gate(code=code, open=is_open, text=yes if is_open else no, remedy="" if is_open else remedy)


def _target_gates(survey: Survey, target: Target) -> list[Gate]:
    drive = target.drive
    if drive is None:
        return [
            Gate(
                code="target-missing",
                open=False,
                text="The plan names a size, but no drive to write to.",
                remedy="Connect the new drive and plan again with it.",
            )
        ]
    holds = "; ".join(target.holds)
    return [
        _gate(
            "target-is-source",
            not same_drive(survey.drive, drive),
            "Old and new drive are two drives.",
            "The new drive is the old drive.",
            "Choose another drive as the new one.",
        ),
        _gate(
            "target-mounted",
            not drive.mounted,
            "The new drive is not in use.",
            "The new drive is mounted or in use.",
            "Unmount it, after making sure that it is the right one.",
        ),
        Gate(
            code="target-holds",
            open=True,
            text=f"The new drive holds something that will be lost: {holds}."
            if holds
            else "The new drive holds nothing.",
        ),
    ]


def _resize_gates(survey: Survey, operations: Sequence[Step]) -> list[Gate]:
    gates = []
    states = (
        (
            "encrypted",
            "is encrypted and can only be copied exactly",
            "Switch encryption off on the customer's machine and wait until it has finished, or plan with --grow none.",
        ),
        (
            "hibernated",
            "is hibernated: a sleeping system is stored in it",
            "Start the machine, switch fast start off and shut it down fully, or plan with --grow none.",
        ),
        (
            "dirty",
            "is unclean and must not be resized",
            "Start the machine and shut it down fully, or plan with --grow none.",
        ),
    )
    resized = {o.from_partition for o in operations if isinstance(o, Prepare) and o.action != "patch"}
    for name, clause, remedy in states:
        hit = next((p for p in survey.partitions if p.number in resized and getattr(p.volume, name)), None)
        if hit is not None:
            code = "unclean" if name == "dirty" else name
            gates.append(Gate(code=code, open=False, text=f"{hit.title} {clause}.", remedy=remedy))
    if not gates:
        text = "Every volume that changes its size is clean, fully shut down and not encrypted."
        gates.append(Gate(code="volumes-ready", open=True, text=text if resized else "No volume changes its size."))
    return gates


def _fill_gate(layout: Layout, target: Target) -> Gate:
    used = sum(p.used_bytes for p in layout.partitions if p.role in ("system", "data"))
    percent = 100 * used / layout.size_bytes
    mechanical = target.drive is not None and target.drive.rotational
    stop = judgement().fill_stop_percent
    return _gate(
        "fill",
        mechanical or percent <= stop,
        f"The new drive is {percent:.0f} % full at first: {both_text(used)} of {both_text(layout.size_bytes)}.",
        f"The new drive would be {percent:.0f} % full; a solid-state drive above {stop} % slows down and wears.",
        "Leave data behind, or take a larger drive.",
    )
