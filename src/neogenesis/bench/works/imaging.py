"""Images of connected drives, and putting an image onto one or several new drives."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from contextlib import closing, nullcontext
from dataclasses import dataclass
from itertools import combinations
from pathlib import Path

import msgspec

from neogenesis.bench.drives import OpenDrive, confirm_tail, open_sealed, open_source, pace_of, same_bytes
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.processes.telling import EventsTo
from neogenesis.bench.processes.work import Running, only_worker, run_work
from neogenesis.bench.register import Consent, allow_output
from neogenesis.bench.works.planning import load_plan, new_id, usable_target
from neogenesis.bench.works.transferring import carry_out, final
from neogenesis.core.drive import refuse_mounted, refuse_wrong_tail
from neogenesis.core.errors import BadArgument, BadRecord, Mismatch, NeogenesisError, OnlyChecked
from neogenesis.core.image.make import Imaged, ImageFiles, ImageRun, UsedStore, ranges_in_use
from neogenesis.core.plan import Plan, Policy, make_plan
from neogenesis.core.record import save
from neogenesis.core.store import LiveStore, ReadableStore, SharedStore, WatchedStore
from neogenesis.core.survey import Surveyed, survey_drive
from neogenesis.core.system import LostFile
from neogenesis.core.transfer import RunFiles, Verify, load_manifest, verify_against
from neogenesis.core.units import MIB, both_text
from neogenesis.core.work import Event, Frame, Outcome, SharedControl, work_hash

_LEAST_PART_BYTES = MIB


def make_image(
    drive: str,
    out: Path,
    level: int,
    part_bytes: int | None = None,
    events: Sequence[EventsTo] = (),
    bench: str = "",
    check_only: bool = False,
    run: str = "",
    verify: Verify = "full",
    check_all: bool = False,
    region_map: Path | None = None,
) -> Imaged:
    """Image a drive; goes on with one that was interrupted. Raises NeogenesisError with its exit status.

    With `part_bytes` the image is kept in files of at most that size. A finished image is never written over.
    """
    out = out.absolute()
    if not ImageFiles(out).journal.exists():
        allow_output(out, "image", (drive,), bench)
    if part_bytes is not None and part_bytes < _LEAST_PART_BYTES:
        raise BadArgument(
            f"Parts of {both_text(part_bytes)} are too small.", f"Make them {both_text(_LEAST_PART_BYTES)} or more."
        )
    if not out.parent.is_dir():
        raise BadArgument(f"There is no folder “{out.parent}”.", "Make it first.")
    with closing(open_source(drive, grip="hold", region_map=region_map)) as opened:
        refuse_mounted(opened.drive)
        if check_only:
            raise OnlyChecked

        def body(running: Running) -> Imaged:
            frame = running.frame
            store = LiveStore(opened.store, frame.control.checkpoint)
            store.begin()

            def look() -> Surveyed:
                return survey_drive(WatchedStore(store, frame.control.checkpoint), opened.drive, open_tree)

            return ImageRun(
                look,
                store,
                out,
                level,
                frame.control,
                frame.clock,
                running.teller.progress,
                part_bytes,
                verify,
                check_all,
            ).run()

        clock = BenchClock(opened.hardware.pace, opened.hardware.passed_s)
        return run_work("image", body, out, events, clock, _imaged, run=run)


def _imaged(done: Imaged) -> Event:
    if not done.lost:
        text = "Done." if done.verified_bytes else "Done; nothing was read back."
        return Event(event="outcome", outcome="done", text=text)
    lost = sum(end - start for start, end in done.lost)
    return Event(event="outcome", outcome="partial", text=f"Done, but {lost} bytes could not be read.", lost_bytes=lost)


def verify_record(record: Path, name: str, progress: Callable[[int, int], None] = lambda done, total: None) -> int:
    """Read a drive back against a manifest; returns the bytes compared. Raises Mismatch, BadRecord or BadArgument.

    The drive that an image was made from may hold leftovers where nothing is in use; they were not imaged.
    """
    manifest = load_manifest(record)
    total = manifest.chunks.total

    def told(done: int) -> None:
        progress(done, total)

    opened = open_sealed(name, manifest.head.target.sector_size)
    try:
        try:
            return verify_against(manifest, opened.store, open_tree, told)
        except Mismatch:
            source = manifest.head.source
            imaged = opened.drive.serial == source.serial if source.serial else same_bytes(source.path, name)
            if manifest.head.survey is None or not imaged:
                raise
            used = ranges_in_use(survey_drive(opened.store, opened.drive, open_tree))
            return verify_against(manifest, UsedStore(opened.store, used), open_tree, told)
    finally:
        opened.close()


def refuse_one_drive_twice(targets: Sequence[str]) -> None:
    """Raises BadArgument where two names lead to the same bytes."""
    if any(same_bytes(one, other) for one, other in combinations(targets, 2)):
        raise BadArgument("A target is named twice, or two of them are one drive.", "Name each new drive once.")


def restore_work(image: Path, policy: Policy) -> str:
    """What is agreed to when an image is put onto drives: that image as it is now, in that way. Raises BadArgument."""
    try:
        status = image.stat()
    except OSError as error:
        raise BadArgument(f"The image “{image}” cannot be read ({error.strerror}).", "Check the name.") from error
    held = [str(image.absolute()), status.st_size, status.st_mtime_ns]
    return work_hash("restore", image=held, policy=msgspec.to_builtins(policy))


@dataclass(frozen=True, slots=True)
class Restored:
    """What became of one target: its outcome, or why it dropped out; the files that lost something, the records, and
    what is to be known of it.
    """

    target: str
    outcome: Outcome | None
    error: NeogenesisError | None
    lost_files: tuple[LostFile, ...] = ()
    records: RunFiles | None = None
    cautions: tuple[str, ...] = ()


def restore_image(
    image: str,
    targets: Sequence[str],
    consents: Sequence[Consent],
    policy: Policy,
    resume: bool,
    verify: Verify,
    events: Sequence[EventsTo] = (),
) -> list[Restored]:
    """Put an image onto every target, reading it once. All gates of all targets are asked before anything is written.

    Afterwards each target has an outcome of its own. Raises NeogenesisError while nothing has been written.
    """
    refuse_one_drive_twice(targets)
    check_only = any(consent.check_only for consent in consents)
    run = next((c.confirmed.run for c in consents if c.confirmed is not None), "")
    with closing(open_source(image, grip="hold")) as opened:

        def body(running: Running) -> list[Restored]:
            surveyed = survey_drive(opened.store, opened.drive, open_tree, lost=opened.lost)
            plans = _plans_for(Path(image), surveyed, targets, consents, policy, resume)
            store: ReadableStore = SharedStore(opened.store) if len(targets) > 1 else opened.store
            return _restore_all(opened, store, surveyed, plans, targets, consents, running, resume, verify)

        clock = BenchClock(pace_of(*targets))
        return run_work("restore", body, None, events, clock, _restored, check_only=check_only, run=run)


def _restored(found: list[Restored]) -> Event:
    failed = [one for one in found if one.error is not None]
    if not failed:
        return Event(event="outcome", outcome="done", text="Done.")
    names = ", ".join(one.target for one in failed)
    error = failed[0].error
    return Event(
        event="outcome", outcome="failed", text=f"{names} dropped out: {error.text if error else ''}", remedy="Resume."
    )


def _plans_for(
    image: Path,
    surveyed: Surveyed,
    targets: Sequence[str],
    consents: Sequence[Consent],
    policy: Policy,
    resume: bool,
) -> list[tuple[Path, Plan]]:
    """A plan for each target, in a file named after both its ends; when gone on with, the one that stands there."""
    made = [_plan_for(surveyed, target, policy, c.tail) for target, c in zip(targets, consents, strict=True)]
    paths = [_plan_path(image, plan) for plan in made]
    if len(set(paths)) != len(paths):
        raise BadArgument(
            "Two of the targets have the same serial, model and size and cannot be told apart.",
            "Restore onto them one after the other.",
        )
    found = []
    for path, plan, consent in zip(paths, made, consents, strict=True):
        if not (resume and path.exists()):
            if not consent.check_only:
                save(allow_output(path, "plan", (str(image), *targets), consent.bench), plan)
            found.append((path, plan))
            continue
        old = load_plan(path)
        found.append((path, old))
        same = old.target.drive is not None and plan.target.drive is not None
        if not same or old.target.drive.identity != plan.target.drive.identity:  # type: ignore[union-attr]
            raise BadRecord(f"“{path.name}” is a plan for another drive; nothing was written.", "Move it away.")
    return found


def _restore_all(
    opened: OpenDrive,
    store: ReadableStore,
    surveyed: Surveyed,
    plans: Sequence[tuple[Path, Plan]],
    targets: Sequence[str],
    consents: Sequence[Consent],
    running: Running,
    resume: bool,
    verify: Verify,
) -> list[Restored]:
    found: list[Restored] = [Restored(t, None, None) for t in targets]
    several = len(targets) > 1

    def run(index: int) -> None:
        name, (path, plan), consent = targets[index], plans[index], consents[index]

        def tell_of(event: Event) -> None:
            running.frame.tell(msgspec.structs.replace(event, target=name))

        control = SharedControl(running.frame.control) if several else running.frame.control
        frame = Frame(control, running.clock, tell_of)
        try:
            files = RunFiles(path)
            with nullcontext() if consent.check_only else only_worker(path):
                outcome = carry_out(
                    plan, files, opened, store, name, consent, frame, resume, verify, surveyed, "restore"
                )
            losses = surveyed.survey.inherited_losses
            cautions = tuple(f"{f.text} {f.remedy}" for f in plan.findings if f.code == "backup-table")
            files_lost = losses.files if losses is not None else ()
            found[index] = Restored(name, outcome, None, files_lost, files, cautions)
            tell_of(Event(event="note", code="target-done", text=final(outcome, verify).text))
        except OnlyChecked:
            found[index] = Restored(name, None, None)
        except NeogenesisError as error:
            found[index] = Restored(name, None, error)
            tell_of(Event(event="note", code="target-dropped", text=error.text, remedy=error.remedy))

    threads = [threading.Thread(target=run, args=(n,), name=f"restore-{n}") for n in range(len(targets))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return found


def _plan_for(surveyed: Surveyed, target: str, policy: Policy, tail: str | None) -> Plan:
    known = usable_target(surveyed, target)
    if known.drive is None:
        raise BadArgument(f"“{target}” is no drive.", "Name a drive.")
    if tail is not None:
        refuse_wrong_tail(tail, confirm_tail(known.drive))
    return make_plan(surveyed, known, policy, new_id)


def _plan_path(image: Path, plan: Plan) -> Path:
    """Named after the drive in full: two drives can end alike."""
    drive = plan.target.drive
    tail = confirm_tail(drive) if drive else "drive"
    safe = "".join(c if c.isalnum() else "_" for c in tail)
    key = drive.identity.key if drive else ""
    return image.absolute().with_name(f"{image.name}.onto-{safe}-{key}.json")
