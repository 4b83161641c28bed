"""What the customer is told at the end, as plain sections; how it is printed is decided elsewhere."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from blake3 import blake3

from neogenesis.core.errors import BadRecord
from neogenesis.core.intake import START_UP, Intake, compared
from neogenesis.core.job.deeds import (
    again_taken,
    came_with_drive,
    cut_short,
    deeds,
    frees_old_drive,
    is_over,
    reasons_taken,
    way_taken,
)
from neogenesis.core.job.extras import extras_in
from neogenesis.core.job.improvement import improvement_of
from neogenesis.core.job.model import Job, LogEntry
from neogenesis.core.plan import Plan
from neogenesis.core.plan.model import FreshSource
from neogenesis.core.record import load
from neogenesis.core.reinstall.giving import NOT_HERE_REASONS, OF_THE_SYSTEM
from neogenesis.core.reinstall.returned import GivingBack
from neogenesis.core.system import not_here_lines
from neogenesis.core.transfer import Manifest, load_manifest
from neogenesis.core.transfer.manifest import missed_share
from neogenesis.core.transfer.steps import SAMPLE_CHUNKS
from neogenesis.core.units import binary_text, both_text, duration_text, files_text


@dataclass(frozen=True, slots=True)
class Section:
    """A heading with sentences, or rows of name and value."""

    heading: str
    sentences: tuple[str, ...] = ()
    rows: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Report:
    title: str
    subtitle: str
    sections: tuple[Section, ...]


@dataclass(frozen=True, slots=True)
class CopyRecords:
    """What a finished transfer left behind; `returned` is what a clean start gave back."""

    plan: Plan
    manifest: Manifest
    manifest_hash: str
    returned: GivingBack | None = None


def report_from_records(
    job: Job, plan: Plan | None, manifest: Path, log: list[LogEntry], intake: Intake = Intake()
) -> Report | None:
    """The customer's report, from a plan and the manifest at that path where both are there, and from the logbook.

    None while nothing has ended. Raises BadRecord for a manifest that is damaged or was changed.
    """
    if plan is not None and manifest.exists():
        return make_report(job, _copy_records(plan, manifest, log), log, intake)
    way = way_taken(log)
    return report_without_copy(job, way, log, intake) if is_over(way, log) else None


def _copy_records(plan: Plan, manifest: Path, log: list[LogEntry]) -> CopyRecords:
    loaded = load_manifest(manifest)
    manifest_hash = blake3().update_mmap(manifest).hexdigest()
    recorded = next((e.figures["manifest_hash"] for e in reversed(log) if e.figures.get("manifest_hash")), None)
    if recorded and recorded != manifest_hash:
        raise BadRecord(
            "The manifest is not the one that the transfer wrote; it was changed since.",
            "Restore it from a copy before a report is handed out.",
        )
    return CopyRecords(plan, loaded, manifest_hash, _returned(manifest))


def _returned(manifest: Path) -> GivingBack | None:
    """What was given back to people by the same work; None where nothing was. Raises BadRecord for a damaged record."""
    path = manifest.with_name(manifest.name.replace(".manifest.json", ".returned.json"))
    return load(path, GivingBack, "record of what returned") if path != manifest and path.exists() else None


def make_report(job: Job, copy: CopyRecords, log: list[LogEntry], intake: Intake = Intake()) -> Report:
    """The report of a finished transfer, from its records alone."""
    plan, manifest, returned = copy.plan, copy.manifest, copy.returned
    fresh = plan.source if isinstance(plan.source, FreshSource) else None
    has_old = fresh is None or came_with_drive(job, intake)
    finished = next((e for e in reversed(log) if e.kind.startswith("transfer-") and "seconds" in e.figures), None)
    seconds = float(finished.figures.get("seconds", 0)) if finished else 0.0
    measured = [("Copied" if fresh is None else "Written", both_text(manifest.chunks.total))]
    if seconds:
        what = "Time for copying and checking" if fresh is None else "Time for writing and checking"
        measured.append((what, duration_text(seconds)))
    return Report(
        title=f"Report for {job.customer}",
        subtitle=f"{job.machine} · ticket {job.ticket} · {manifest.head.created[:10]}",
        sections=(
            Section("What was done", (*_copied(copy, fresh, has_old), *deeds(log))),
            Section("Before and after", rows=(*_sizes(plan), *_measured(log, intake), *measured)),
            *((Section("What could not be read", (_unread(copy, fresh),)),) if has_old or returned else ()),
            *_not_returned(returned),
            *(_old_drive(intake) if has_old else ()),
            *_opened(log),
            *_with_the_machine(intake),
            *_again(log),
            Section("What you should still do", tuple(_still_to_do(copy, fresh, has_old, log, intake))),
            Section(
                "Proof",
                rows=(
                    ("Manifest", f"{len(manifest.chunks):,} checksums (BLAKE3)"),
                    ("Checksum of the manifest", copy.manifest_hash),
                    ("Written by", manifest.head.program),
                    *_hands(log),
                ),
            ),
        ),
    )


def _copied(copy: CopyRecords, fresh: FreshSource | None, has_old: bool) -> list[str]:
    """What the transfer did, as sentences."""
    plan = copy.plan
    old, new = plan.source.survey.drive, plan.target
    target = _name(new.drive.model if new.drive else "", new.drive.serial if new.drive else "")
    if fresh is not None:
        system = fresh.system.name if fresh.system is not None else "empty volumes"
        done = [f"The drive {target} was made anew, with {system}. {_checked(copy.manifest)}"]
        if copy.returned is not None:
            done.append(copy.returned.sentence())
        elif has_old:
            done.append("Nothing was copied from the old drive by this.")
    else:
        moved = [p for p in plan.layout.partitions if p.from_partition is not None]
        done = [
            f"Your system and files were moved from the old drive ({_name(old.model, old.serial)}, "
            f"{both_text(old.size_bytes)}) to the new one ({target}, {both_text(new.size_bytes)}).",
            f"{len(moved)} partitions were carried over. {_checked(copy.manifest)}",
        ]
    if plan.left_behind:
        names = [p.title for p in plan.source.survey.partitions if p.number in plan.left_behind]
        done.append(f"Left on the old drive, as agreed: {', '.join(names)}.")
    return done


def _sizes(plan: Plan) -> Iterator[tuple[str, str]]:
    """Of each volume that was carried over and that a person sees."""
    for partition in plan.layout.partitions:
        was = plan.source.survey.partition(partition.from_partition) if partition.from_partition is not None else None
        if was is not None and partition.role in ("system", "data"):
            old, new = binary_text(was.size_bytes), binary_text(partition.size_bytes)
            free = binary_text(max(0, partition.size_bytes - partition.used_bytes))
            sizes = f"{old} before, {new} now"
            yield partition.title, f"{old} before, {new} now, {free} of it free" if was.volume.understood else sizes


def _still_to_do(
    copy: CopyRecords, fresh: FreshSource | None, has_old: bool, log: list[LogEntry], intake: Intake
) -> Iterator[str]:
    is_empty = fresh is not None and fresh.system is None
    if is_empty:
        yield "Have a system installed on the new drive: its volumes are empty."
    else:
        yield "Start the machine a few times and open what matters most to you."
    saved = copy.returned is not None or any(e.kind in ("salvage-done", "salvage-partial") for e in log)
    if fresh is not None and has_old and not saved and intake.must_survive in ("everything", "files"):
        yield "Have your files brought back: they are only on the old drive still."
        return
    if not is_empty:
        yield "Make a backup from the new drive, and have it checked."
    if has_old:
        yield from _disposal(intake)


def _unread(copy: CopyRecords, fresh: FreshSource | None) -> str:
    lost = sum(end - start for start, end in copy.manifest.head.lost)
    if lost:
        return (
            f"{both_text(lost)} of the old drive could not be read. They are listed in the job's dossier; files that "
            "lie there may be damaged."
        )
    if fresh is None:
        return "Everything on the old drive that was in use could be read."
    return "The old drive was not read for this." if copy.returned is None else "Only your files were read for this."


def _measured(log: list[LogEntry], intake: Intake) -> list[tuple[str, str]]:
    """What was measured before and after."""
    improvement = improvement_of(log)
    rows = [("Start of the machine", improvement.sentence())] if improvement else []
    others = (row for row in compared(intake) if row.title != START_UP)
    return rows + [(row.title, f"{row.before} before, {row.after} now") for row in others]


def report_without_copy(job: Job, way: str, log: list[LogEntry], intake: Intake = Intake()) -> Report:
    """The report of a job that ended without a transfer, the way it was decided."""
    rows = _measured(log, intake)
    moves = frees_old_drive(way)
    reasons = reasons_taken(log) if way in ("refer", "nothing-yet") else ()
    unread = cut_short(log)
    day, title = log[-1].at[:10] if log else "", "Where the drive is"
    where = _old_drive(intake) if moves else (Section(title, (_STAYS.get(way, _IN_PLACE),)),)
    return Report(
        title=f"Report for {job.customer}",
        subtitle=f"{job.machine} · ticket {job.ticket} · {day}",
        sections=(
            Section("What was done", (*_without_copy(way, log), *deeds(log), *reasons)),
            *((Section("Before and after", rows=tuple(rows)),) if rows else ()),
            *((Section("What could not be read", unread),) if unread else ()),
            *where,
            *_opened(log),
            *_with_the_machine(intake),
            *_again(log),
            Section("What you should still do", (*_STILL.get(way, _STILL[""]), *(_disposal(intake) if moves else ()))),
            *((Section("Proof", rows=tuple(_hands(log))),) if _hands(log) else ()),
        ),
    )


def _without_copy(way: str, log: list[LogEntry]) -> tuple[str, ...]:
    if way == "repair-start" and not any(e.kind == "remedy-done" for e in log):
        return ("The start of the machine was looked at; no drive was exchanged.",)
    return _DONE.get(way, ())


_DONE = {
    "do-less": ("Nothing was copied and no drive was exchanged: the machine did not need it.",),
    "repair-start": ("The start of the machine was repaired; no drive was exchanged.",),
    "repair-cause": ("What made it slow was put right; no drive was exchanged.",),
    "refer": ("Nothing was tried on your drive here: it goes to a recovery laboratory.",),
    "nothing-yet": ("Nothing was done yet: something has to come first.",),
    "replace-machine": ("Another machine takes its place.",),
}
_IN_PLACE = "It is in the machine, where it was."
_STAYS = {"refer": "It goes to the laboratory, or back with the machine, as you decide. It is unchanged."}
_STILL: dict[str, tuple[str, ...]] = {
    "": ("Open what matters most to you from the copy.", "Make a second copy of it, and have it checked."),
    "do-less": ("Come back if it is slow or full again.", "Make a backup, and have it checked."),
    "repair-start": ("Start it a few times, once after it was off overnight.", "Make a backup, and have it checked."),
    "repair-cause": ("Come back if it is slow or full again.", "Make a backup, and have it checked."),
    "refer": ("Do not switch the machine on with this drive in it.",),
    "nothing-yet": ("Come back when that is done; until then nothing is at risk that was not before.",),
}


def _again(log: list[LogEntry]) -> tuple[Section, ...]:
    """What has to be set up again, as it was said when the way was decided."""
    rows = tuple((one, "as it was said before the work") for one in again_taken(log))
    return (Section("What has to be set up again", rows=rows),) if rows else ()


def _old_drive(intake: Intake) -> tuple[Section, ...]:
    return (Section("Where the old drive is", (_OLD_DRIVE[intake.later.old_parts].format(intake.later.kept_weeks),)),)


def _disposal(intake: Intake) -> tuple[str, ...]:
    return _DISPOSE.get(intake.later.old_parts, ())


_OLD_DRIVE = {
    "": "It goes back with the machine, unchanged. Keep it for some weeks; it is your last copy.",
    "returned": "It goes back with the machine, unchanged. Keep it for some weeks; it is your last copy.",
    "kept": "It stays with us, unchanged, for {0} weeks. Then it is wiped, unless you ask for it before.",
    "wiped": "It stays with us until you have confirmed that everything is there. Then it is wiped.",
}
_LATER = ("Hand the old drive to a proper disposal service once you no longer need it.",)
_DISPOSE = {"": _LATER, "returned": _LATER}


def _opened(log: list[LogEntry]) -> tuple[Section, ...]:
    """How often the machine was opened, and that everything went back, or what did not."""
    closed = [e for e in log if e.kind == "swap-done"]
    if not closed:
        return ()
    out, back = (sum(int(e.figures.get(key, 0)) for e in closed) for key in ("out", "back"))
    sentences = [f"Of {out} fasteners that came out, {back} went back."]
    sentences += [f"{line}." for e in closed for line in e.figures.get("named", ())]
    sentences += [f"Agreed beside it: {title}." for title, _ in extras_in(log)]
    return (Section("The machine was opened", tuple(sentences)),)


def _with_the_machine(intake: Intake) -> tuple[Section, ...]:
    """What came with it goes back with it."""
    if not intake.came_with:
        return ()
    back = [b.what for b in intake.came_with if b.back]
    rows = [("Given back", ", ".join(back))] if back else []
    missing = [b.what for b in intake.came_with if not b.back]
    rows += [("Still with us", ", ".join(missing))] if missing else []
    return (Section("What came with the machine", rows=tuple(rows)),)


def _not_returned(returned: GivingBack | None) -> tuple[Section, ...]:
    """Of a clean start what of people's files is not on the new drive, and why."""
    if returned is None:
        return ()
    rows = [(line, "to be had from where it is") for line in not_here_lines(returned.not_here, "")]
    reasons: dict[str, list[int]] = {}
    elsewhere = {*NOT_HERE_REASONS.values(), OF_THE_SYSTEM}
    for one in returned.left_out:
        if one.why not in elsewhere and one.files:
            count = reasons.setdefault(one.why, [0, 0])
            count[0] += one.files
            count[1] += one.size_bytes
    rows += [(f"{files_text(files)}, {both_text(size)}", why) for why, (files, size) in reasons.items()]
    damaged = [one for one in returned.files if one.lost_bytes]
    rows += [(f"{files_text(len(damaged))}", "damaged where it could not be read")] if damaged else []
    rows += [(files_text(one.files), one.what) for one in returned.not_kept]
    return (Section("What of your files did not come back as it was", rows=tuple(rows)),) if rows else ()


def _hands(log: list[LogEntry]) -> list[tuple[str, str]]:
    """Who did it, as the logbook has it."""
    people = list(dict.fromkeys(entry.who for entry in log if entry.who))
    return [("Done by", ", ".join(people))] if people else []


def _checked(manifest: Manifest) -> str:
    copied = manifest.chunks.total
    if manifest.head.verified_bytes <= 0:
        return "What was written was not read back."
    if manifest.head.verified_bytes < copied * 0.99:
        share = 100 * missed_share(SAMPLE_CHUNKS)
        return (
            f"A sample of {both_text(manifest.head.verified_bytes)} was read back and compared: had more than "
            f"{share:.1f} % been wrong, it would have been found 99 times out of 100."
        )
    return "Everything that was written was read back and compared."


def _name(model: str, serial: str) -> str:
    return " ".join(filter(None, (model, f"··{serial[-4:]}" if serial else ""))) or "no name"
