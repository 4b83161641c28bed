"""Why a machine is slow or full: what explains it, the strongest first, each with its evidence and what it would take.

Rules and thresholds stand in the judgement file. What only a person can see is said as a question.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from neogenesis.core.judgement import judgement
from neogenesis.core.survey.filling import Filling, kinds
from neogenesis.core.survey.model import Survey
from neogenesis.core.survey.profile import SpeedProfile
from neogenesis.core.system.inside import Inside
from neogenesis.core.units import both_text, rate_text


@dataclass(frozen=True, slots=True)
class Explanation:
    """`weight` from 0 to 1 ranks it; `takes` says what it would take away, or what to ask."""

    code: str
    weight: float
    text: str
    evidence: str
    takes: str


@dataclass(frozen=True, slots=True)
class AtTheMachine:
    """What was asked and measured when the machine was taken in; None where it was not."""

    symptoms: tuple[str, ...] = ()
    memory_gb: float | None = None
    hottest_c: float | None = None
    battery_wear_percent: float | None = None


def explanations(
    survey: Survey,
    profile: SpeedProfile | None,
    fillings: Sequence[Filling],
    inside: Sequence[Inside],
    machine: AtTheMachine,
) -> tuple[Explanation, ...]:
    """All that explains slowness or fullness, from what is known so far."""
    found = [
        *_of_drive(survey, profile),
        *_of_room(survey, fillings),
        *_of_machine(survey, inside, machine),
    ]
    return tuple(sorted(found, key=lambda e: -e.weight))


def _of_drive(survey: Survey, profile: SpeedProfile | None) -> Iterator[Explanation]:
    if survey.health.image_first:
        yield Explanation(
            "failing",
            1.0,
            "The drive is failing and tries again and again.",
            survey.health.why,
            "An image first, then a new drive. No more testing.",
        )
    mechanical = survey.drive.rotational or (profile is not None and profile.mechanical)
    if mechanical:
        seek = profile.median_seek_s if profile is not None else None
        evidence = f"it needs {seek * 1000:.0f} ms to find a place" if seek else "it says so itself"
        yield Explanation(
            "mechanical",
            0.7,
            "The drive is mechanical: every small file costs a movement.",
            evidence,
            "A solid-state drive: most of the waiting.",
        )
    if profile is None:
        return
    if profile.slow_share >= judgement().why.slow_zone_share:
        names = {p.number: p.title for p in survey.partitions}
        percent = round(100 * profile.slow_share)
        where = ", ".join(dict.fromkeys(names[n] for z in profile.zones for n in z.partitions if n in names))
        yield Explanation(
            "slow-zone",
            0.9,
            "Part of the drive reads far slower than the rest.",
            f"{percent} % of it, in {where}" if where else f"{percent} % of it",
            "A new drive; copy the good parts first.",
        )
    if profile.link and profile.median_bytes_per_s is not None:
        yield Explanation(
            "link",
            0.2,
            "Here the dock or cable sets the pace, not the drive.",
            f"{rate_text(profile.median_bytes_per_s)} everywhere, just below {profile.link}",
            "Nothing at the machine; a faster dock for the copy.",
        )


def _of_room(survey: Survey, fillings: Sequence[Filling]) -> Iterator[Explanation]:
    numbers = judgement().why
    for partition in survey.partitions:
        volume = partition.volume
        if partition.role not in ("system", "data") or not volume.understood or not volume.size_bytes:
            continue
        percent = 100 * volume.used_bytes / volume.size_bytes
        if percent >= numbers.full_percent:
            free = both_text(max(0, volume.size_bytes - volume.used_bytes))
            yield Explanation(
                "nearly-full",
                0.6 + (0.2 if partition.role == "system" else 0.0) * (percent / 100),
                f"{partition.title} is nearly full.",
                f"{percent:.0f} % used, {free} left",
                "A larger drive, or clearing what can be made again.",
            )
        if volume.dirty or volume.hibernated:
            yield Explanation(
                "unclean",
                0.3,
                f"{partition.title} was not shut down fully.",
                "sleeping" if volume.hibernated else "marked as unclean",
                "Shutting it down fully, with fast start off.",
            )
    for filling in fillings:
        if filling.metadata_runs >= numbers.many_metadata_runs:
            yield Explanation(
                "fragmented",
                0.45 if survey.drive.rotational else 0.15,
                "The list of all files lies in many pieces; looking anything up takes longer.",
                f"{filling.metadata_runs} pieces",
                "A copy that is laid out anew, or a solid-state drive, where it hardly matters.",
            )
        yield from _reclaimable(filling)


def _reclaimable(filling: Filling) -> Iterator[Explanation]:
    for kind in kinds():
        share = next((s for s in filling.kinds if s.name == kind.code), None)
        if not kind.clear or share is None or not filling.size_bytes:
            continue
        part = share.bytes / filling.size_bytes
        if part >= judgement().why.reclaim_share:
            yield Explanation(
                f"clear-{kind.code}",
                min(0.5, 0.2 + part),
                f"Much of it could be cleared: {kind.title}.",
                f"{both_text(share.bytes)} in {share.files:,} files",
                kind.clear,
            )


def _of_machine(survey: Survey, inside: Sequence[Inside], machine: AtTheMachine) -> Iterator[Explanation]:
    numbers = judgement().why
    if machine.memory_gb is not None and machine.memory_gb <= numbers.little_memory_gb:
        yield Explanation(
            "little-memory",
            0.65,
            "There is little memory: the system uses the drive in its place.",
            f"{machine.memory_gb:g} GB fitted",
            "More memory, if the machine takes it; a fast drive hides some of it.",
        )
    if machine.hottest_c is not None and machine.hottest_c >= numbers.hot_celsius:
        yield Explanation(
            "hot",
            0.55,
            "It runs hot and slows itself down.",
            f"{machine.hottest_c:.0f} °C under load",
            "Dust out, new paste; while it is open anyway.",
        )
    wear = machine.battery_wear_percent
    if wear is not None and wear >= numbers.worn_battery_percent:
        yield Explanation(
            "worn-battery",
            0.3,
            "The battery is worn; some machines slow down with it.",
            f"{wear:.0f} % of it is gone",
            "A new battery, or trying it on mains.",
        )
    programs = max((len(one.programs) for one in inside), default=0)
    if programs >= numbers.many_programs:
        yield Explanation(
            "many-programs",
            0.25,
            "Many programs are installed; what starts along was not counted.",
            f"{programs} programs",
            "Asking which are used; looking at what starts along.",
        )
    if "malware" in machine.symptoms:
        yield Explanation(
            "malware",
            0.95,
            "Malware is suspected; only a person can tell.",
            "the customer says so",
            "Check with a tool that you trust, from a stick. Confirmed: a fresh system, files checked.",
        )
