"""A transfer between connected drives: what `neogenesis transfer` runs, and a restore for each of its targets."""

from __future__ import annotations

import shutil
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import closing, nullcontext, suppress
from dataclasses import dataclass, replace
from pathlib import Path

import msgspec

from neogenesis.bench.drives import (
    Hardware,
    OpenDrive,
    OpenTarget,
    confirm_tail,
    open_source,
    pace_of,
    place_of,
    sighting_of,
)
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.processes.telling import EventsTo
from neogenesis.bench.processes.work import Running, only_worker, run_work
from neogenesis.bench.register import Asked, Consent, claimed
from neogenesis.bench.works.filling import filler_of
from neogenesis.bench.works.names import named, write_names
from neogenesis.bench.works.planning import hash_of, load_plan
from neogenesis.bench.works.tools import FilesystemTools
from neogenesis.core.drive import Drive, Sighting, refuse_wrong_tail
from neogenesis.core.errors import BadRecord, NeogenesisError, OnlyChecked, Refused
from neogenesis.core.extent import Extents
from neogenesis.core.plan import Plan
from neogenesis.core.plan.model import NOTHING, FreshSource
from neogenesis.core.store import MemoryStore, ReadableStore, WatchedStore
from neogenesis.core.survey import Surveyed, survey_drive
from neogenesis.core.system import LostFile, files_touching
from neogenesis.core.transfer import Ends, RunFiles, Transfer, Verify, planned_target
from neogenesis.core.units import GIB, binary_text, both_text, decimal_text
from neogenesis.core.work import Event, Frame, Outcome, SharedControl

_WORTH_MEASURING_BYTES = GIB
_LOOK_SECONDS = 15.0
#: How a copy was checked, where that was not all of it.
_CHECKED = {"sample": "a sample of it was checked", "none": "nothing of it was checked"}


@dataclass(frozen=True, slots=True)
class Found:
    """Where the drives of a plan are now, as a person says it; None to look where the plan saw them."""

    source: str | None = None
    target: str | None = None


def run_transfer(
    plan_path: Path,
    consent: Consent,
    resume: bool,
    verify: Verify,
    events: Sequence[EventsTo] = (),
    found: Found = Found(),
    unused: bool = False,
    fellows: Sequence[Consent] = (),
) -> Outcome:
    """Run a plan in this process. Events go to the file beside the plan, and to `events`.

    `fellows` are the consents to the other plans of a set, which are run one after the other once every gate of all of
    them was found open. `unused`: a person says that the old drive was not used since an earlier leg.

    Exactly one outcome event is told, whatever happens. Raises NeogenesisError with its exit status.
    """
    plan_path = plan_path.absolute()
    plan, files = load_plan(plan_path), RunFiles(plan_path)
    if plan.target.drive is not None and consent.tail is not None:
        refuse_wrong_tail(consent.tail, confirm_tail(plan.target.drive))
    planned = planned_target(plan)
    place = found.target or place_of(planned.path, planned.identity, "--target")
    _check_room(plan, plan_path)
    places = (EventsTo(str(files.events), anew=not resume), *events)
    run = consent.confirmed.run if consent.confirmed is not None else ""
    if isinstance(plan.source, FreshSource):
        return run_work(
            "fresh",
            lambda running: make_anew(plan, files, place, consent, running.frame, resume, verify),
            plan_path,
            places,
            BenchClock(pace_of(place)),
            lambda outcome: final(outcome, verify, "Everything was made and checked."),
            begins=False,
            check_only=consent.check_only,
            run=run,
        )
    old = plan.source.survey.drive
    old_place = found.source or place_of(old.path, old.identity, "--source")
    with closing(open_source(old_place, old.sector_size, "hold", lost=plan.source.survey.lost)) as source:

        def body(running: Running) -> Outcome:
            def first(consent: Consent, verify: Verify) -> Outcome:
                return _carry_one(plan, files, source, place, consent, running.frame, resume, verify, unused)

            others = list(zip(plan.also, fellows, strict=True))
            if others:  # every gate of all of them is asked before the first of them is written to
                with suppress(OnlyChecked):
                    first(replace(consent, check_only=True), "none")
            for also, agreed in others:
                with suppress(OnlyChecked):
                    _run_fellow(plan_path, plan, also, replace(agreed, check_only=True), running, resume, "none")
            outcome = first(consent, verify)
            for also, agreed in others:
                outcome = _together(outcome, _run_fellow(plan_path, plan, also, agreed, running, resume, verify))
            return outcome

        clock = BenchClock(max(source.hardware.pace, pace_of(place)))
        return run_work(
            "transfer",
            body,
            plan_path,
            places,
            clock,
            lambda outcome: final(outcome, verify),
            begins=False,
            check_only=consent.check_only,
            run=run,
        )


def _carry_one(
    plan: Plan,
    files: RunFiles,
    source: OpenDrive,
    place: str,
    consent: Consent,
    frame: Frame,
    resume: bool,
    verify: Verify,
    unused: bool = False,
) -> Outcome:
    """As `carry_out`, with the files named that lost something."""
    outcome = carry_out(plan, files, source, source.store, place, consent, frame, resume, verify, unused=unused)
    return _with_files(plan, files, source, outcome, frame.tell) if outcome.lost else outcome


def _run_fellow(
    plan_path: Path, plan: Plan, also: Plan, consent: Consent, running: Running, resume: bool, verify: Verify
) -> Outcome:
    """Another drive of a set; its records stand beside the plan, numbered from 2."""
    old, new = also.source.survey.drive, planned_target(also)
    if consent.tail is not None:
        refuse_wrong_tail(consent.tail, confirm_tail(new))
    files = RunFiles(plan_path.with_name(f"{plan_path.stem}.drive-{plan.also.index(also) + 2}.json"))
    with closing(open_source(place_of(old.path, old.identity, "--source"), old.sector_size, "hold")) as source:
        place = place_of(new.path, new.identity, "--target")
        return _carry_one(also, files, source, place, consent, running.frame, resume, verify)


def _together(one: Outcome, other: Outcome) -> Outcome:
    """How two drives of a set ended; the manifest is that of the first."""
    return Outcome(
        kind="partial" if one.lost or other.lost else "done",
        copied_bytes=one.copied_bytes + other.copied_bytes,
        verified_bytes=one.verified_bytes + other.verified_bytes,
        lost=(*one.lost, *other.lost),
        seconds=one.seconds + other.seconds,
        paused_seconds=one.paused_seconds + other.paused_seconds,
        manifest_hash=one.manifest_hash,
        finished_before=one.finished_before and other.finished_before,
        lost_files=(*one.lost_files, *other.lost_files),
    )


def _asked(plan: Plan, consent: Consent, kind: str, place: str, resume: bool, source: Sighting | None = None) -> Asked:
    """What a claim is asked for, to run that plan."""
    return Asked(
        consent.kind or kind,
        consent.work or hash_of(plan),
        place,
        plan.target.sector_size,
        plan.target.holds,
        source,
        plan.source.survey.fingerprint,
        resuming=resume,
    )


@dataclass(frozen=True, slots=True)
class Made:
    """What became of one drive of several that are made anew at once."""

    plan: Path
    outcome: Outcome | None
    error: NeogenesisError | None


def make_several(
    paths: Sequence[Path], consents: Sequence[Consent], resume: bool, verify: Verify, events: Sequence[EventsTo] = ()
) -> list[Made]:
    """Run several plans without an old drive side by side; each has an outcome of its own.

    Raises NeogenesisError while nothing has been written.
    """
    plans = [load_plan(path) for path in paths]
    for plan, consent in zip(plans, consents, strict=True):
        if consent.tail is not None:
            refuse_wrong_tail(consent.tail, confirm_tail(planned_target(plan)))
        _check_room(plan, paths[0])
    check_only = any(consent.check_only for consent in consents)
    found: list[Made | None] = [None] * len(paths)

    def body(running: Running) -> list[Made]:
        def one(index: int) -> None:
            plan, path = plans[index], paths[index]
            name = planned_target(plan).path

            def tell_of(event: Event) -> None:
                running.frame.tell(msgspec.structs.replace(event, target=name))

            frame = Frame(SharedControl(running.frame.control), running.clock, tell_of)
            try:
                with nullcontext() if check_only else only_worker(path):
                    outcome = make_anew(plan, RunFiles(path), name, consents[index], frame, resume, verify)
                found[index] = Made(path, outcome, None)
                tell_of(Event(event="note", code="target-done", text="Made and checked."))
            except OnlyChecked:
                found[index] = Made(path, None, None)
            except NeogenesisError as error:
                found[index] = Made(path, None, error)
                tell_of(Event(event="note", code="target-dropped", text=error.text, remedy=error.remedy))

        threads = [threading.Thread(target=one, args=(n,), name=f"fresh-{n}") for n in range(len(paths))]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        return [made for made in found if made is not None]

    clock = BenchClock(pace_of(*(planned_target(plan).path for plan in plans)))
    return run_work("fresh", body, None, events, clock, _all_made, check_only=check_only)


def _all_made(made: list[Made]) -> Event:
    failed = [one for one in made if one.error is not None]
    if not failed:
        return Event(event="outcome", outcome="done", text="Everything was made and checked.")
    error = failed[0].error
    text = f"{len(failed)} of {len(made)} drives dropped out: {error.text if error else ''}"
    return Event(event="outcome", outcome="failed", text=text, remedy="Resume.")


def make_anew(
    plan: Plan, files: RunFiles, place: str, consent: Consent, frame: Frame, resume: bool, verify: Verify
) -> Outcome:
    """Run a plan that has no old drive onto that which is at `place`: volumes are made, filled, and written."""
    system = plan.source.system if isinstance(plan.source, FreshSource) else None
    filled = None
    if system is not None:
        filled = filler_of(plan, system, files.work, frame.control.checkpoint)
    with claimed(consent, _asked(plan, consent, "fresh", place, resume)) as claim:
        nothing, target = MemoryStore(0, plan.target.sector_size), claim.target
        look = Surveyed(NOTHING, {}), NOTHING.drive
        ends = Ends(nothing, lambda: look, target.store, target.drive, None, claim.begin, consent.check_only)
        outcome = Transfer(plan, ends, files, FilesystemTools(filled), frame, verify).run(resume)
        target.store.settle()
    notes = filled.notes() if filled is not None else []
    for text in notes:
        frame.tell(Event(event="note", code="left-out", text=text))
    return msgspec.structs.replace(outcome, notes=tuple(notes))


def carry_out(
    plan: Plan,
    files: RunFiles,
    source: OpenDrive,
    store: ReadableStore,
    place: str,
    consent: Consent,
    frame: Frame,
    resume: bool,
    verify: Verify,
    surveyed: Surveyed | None = None,
    kind: str = "transfer",
    unused: bool = False,
) -> Outcome:
    """Run `plan` from an open drive, whose bytes come through `store`, onto that at `place`; raises NeogenesisError.

    `surveyed` saves several transfers from one image a survey each; without it the old drive is looked at again.
    """

    def look() -> tuple[Surveyed, Drive]:
        drive = msgspec.structs.replace(source.drive, changed_ns=source.hardware.changed_ns())
        return surveyed or survey_drive(WatchedStore(store, frame.control.checkpoint), drive, open_tree), drive

    with claimed(consent, _asked(plan, consent, kind, place, resume, sighting_of(source))) as claim:
        target = claim.target
        if not consent.check_only:
            _choose_reads(plan, source.hardware, frame)
        told = Frame(frame.control, frame.clock, _with_temperatures(source.hardware, target, frame.tell))
        ends = Ends(
            store, look, target.store, target.drive, source.hardware.busy_clock(), claim.begin, consent.check_only
        )
        outcome = Transfer(plan, ends, files, FilesystemTools(), told, verify, unused).run(resume)
        target.store.settle()
        claim.outcome = "lost" if outcome.lost else "done"
        return outcome


def _check_room(plan: Plan, plan_path: Path) -> None:
    """Raises Refused when the folder of the plan cannot hold what preparing volumes takes."""
    free = shutil.disk_usage(plan_path.parent).free
    if plan.scratch_bytes > free:
        raise Refused(
            "no-room",
            f"Preparing the volumes may take {both_text(plan.scratch_bytes)} beside the plan, and there are "
            f"{both_text(free)}; nothing was written.",
            "Free space there, or put the plan into another folder.",
        )


def final(outcome: Outcome, verify: Verify, well: str = "Everything was copied and checked.") -> Event:
    """How a transfer ended, in one sentence that claims no more than what was read back."""
    figures: dict[str, object] = {
        "verified_bytes": outcome.verified_bytes,
        "seconds": round(outcome.seconds, 1),
        "paused_seconds": round(outcome.paused_seconds, 1),
        "manifest_hash": outcome.manifest_hash,
        "lost": outcome.lost,
    }
    lost = sum(end - start for start, end in outcome.lost)
    text = well if verify == "full" else well.replace(" and checked", f", and {_CHECKED[verify]}")
    if outcome.finished_before:
        text = (
            "It was finished before, and the new drive still holds it."
            if verify == "full"
            else "It was finished before; a sample of the new drive is as it was left."
        )
    if outcome.lost:
        text = f"Copied, but {lost} bytes of the old drive could not be read."
    return Event(
        event="outcome",
        time_s=round(outcome.seconds, 3),
        outcome=outcome.kind,
        text=text,
        copied_bytes=outcome.copied_bytes,
        lost_bytes=lost,
        figures=figures,
    )


def _with_files(
    plan: Plan, files: RunFiles, source: OpenDrive, outcome: Outcome, tell: Callable[[Event], None]
) -> Outcome:
    """Say which files lie on what could not be read, and keep the list beside the plan."""
    parts = plan.source.survey.partitions
    volumes = [(p.number, p.start_bytes, p.size_bytes) for p in parts if p.volume.understood]
    touched = list(files_touching(source.store, volumes, Extents.of(outcome.lost), open_tree))
    if touched:
        tell(named(touched))
    with suppress(BadRecord):  # the copy is done, and its lost ranges are on record; names can be worked out again
        write_names(files.names, touched)
    return msgspec.structs.replace(outcome, lost_files=tuple(map(LostFile.of, touched)))


def _with_temperatures(source: Hardware, target: OpenTarget, tell: Callable[[Event], None]) -> Callable[[Event], None]:
    """Progress also tells how warm both drives are, looked at every few seconds."""
    looked, figures = [-_LOOK_SECONDS], dict[str, float | None]()

    def told(event: Event) -> None:
        if event.event == "progress":
            if time.monotonic() - looked[0] >= _LOOK_SECONDS:
                looked[0] = time.monotonic()
                new = target.hardware.temperature_c()
                figures.update(old_celsius=source.temperature_c(), new_celsius=new)
            event = msgspec.structs.replace(event, figures={**event.figures, **figures})
        tell(event)

    return told


def _choose_reads(plan: Plan, hardware: Hardware, frame: Frame) -> None:
    """Measure how the old drive is read best, where that is a real device, sound, and worth the second it takes."""
    worth = plan.estimate.bytes_to_copy >= _WORTH_MEASURING_BYTES
    sound = not plan.source.survey.health.is_failing
    way = hardware.best_way(frame.clock.now) if worth and sound else None
    if way is None:
        return
    several = "several at a time" if way.side_by_side else "one at a time"
    past = ", past the page cache" if way.direct else ""
    frame.tell(
        Event(
            event="note",
            code="read-way",
            text=f"Reads of {binary_text(way.request_bytes)}, {several}{past}: {decimal_text(int(way.bytes_per_s))}/s.",
            rate_bytes_per_s=way.bytes_per_s,
        )
    )
