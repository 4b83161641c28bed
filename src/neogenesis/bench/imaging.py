"""Images of connected drives, and putting an image onto one or several new drives."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec

from neogenesis.bench.clock import BenchClock
from neogenesis.bench.drives import clock_factor, confirm_tail, open_sealed, same_bytes
from neogenesis.bench.planning import load_plan, new_id, usable_target
from neogenesis.bench.transferring import carry_out
from neogenesis.bench.worker import only_worker, steered_by_signals
from neogenesis.core.errors import BadArgument, Mismatch, NeogenesisError
from neogenesis.core.image.make import Imaged, ImageRun, UsedStore, ranges_in_use
from neogenesis.core.plan import Plan, Policy, make_plan
from neogenesis.core.record import save
from neogenesis.core.store import ReadableStore, SharedStore
from neogenesis.core.survey import Surveyed, survey_drive
from neogenesis.core.transfer import Control, Event, Outcome, RunFiles, load_manifest, verify_against
from neogenesis.core.transfer.identify import check_tail
from neogenesis.core.transfer.run import Verify
from neogenesis.core.units import MIB, both_text

_LEAST_PART_BYTES = MIB


def make_image(
    drive: str,
    out: Path,
    level: int,
    progress: Callable[[int, int], None] = lambda done, total: None,
    part_bytes: int | None = None,
) -> Imaged:
    """Image a drive; goes on with one that was interrupted. Raises NeogenesisError with its exit status.

    With `part_bytes` the image is kept in files of at most that size.
    """
    out = out.absolute()
    if part_bytes is not None and part_bytes < _LEAST_PART_BYTES:
        raise BadArgument(
            f"Parts of {both_text(part_bytes)} are too small.", f"Make them {both_text(_LEAST_PART_BYTES)} or more."
        )
    if not out.parent.is_dir():
        raise BadArgument(f"There is no folder “{out.parent}”.", "Make it first.")
    control = Control()
    clock = BenchClock(clock_factor(drive))
    opened = open_sealed(drive)
    try:
        with only_worker(out), steered_by_signals(control):
            surveyed = survey_drive(opened.store, opened.drive)
            return ImageRun(surveyed, opened.store, out, level, control, clock, progress, part_bytes).run()
    finally:
        opened.close()


def verify_record(record: Path, name: str) -> int:
    """Read a drive back against a manifest; returns the bytes compared. Raises Mismatch, BadRecord or BadArgument.

    The drive that an image was made from may hold leftovers where nothing is in use; they were not imaged.
    """
    manifest = load_manifest(record)
    opened = open_sealed(name, manifest.target.sector_size)
    try:
        try:
            return verify_against(manifest, opened.store)
        except Mismatch:
            source = manifest.source
            imaged = opened.drive.serial == source.serial if source.serial else same_bytes(source.path, name)
            if manifest.survey is None or not imaged:
                raise
            used = ranges_in_use(survey_drive(opened.store, opened.drive))
            return verify_against(manifest, UsedStore(opened.store, used))
    finally:
        opened.close()


@dataclass(frozen=True, slots=True)
class Restored:
    """What became of one target: its outcome, or why it dropped out."""

    target: str
    outcome: Outcome | None
    error: NeogenesisError | None


def restore_image(
    image: str,
    targets: Sequence[str],
    tails: Sequence[str],
    policy: Policy,
    resume: bool,
    verify: Verify,
    tell: Callable[[Event], None] = lambda event: None,
) -> list[Restored]:
    """Put an image onto every target, reading it once. All gates of all targets are asked before anything is written.

    Afterwards each target has an outcome of its own. Raises NeogenesisError while nothing has been written.
    """
    if len({str(Path(t).resolve()) for t in targets}) != len(targets):
        raise BadArgument("A target is named twice.", "Name each new drive once.")
    opened = open_sealed(image)
    control = Control()
    try:
        surveyed = survey_drive(opened.store, opened.drive)
        plans = [_plan_for(surveyed, target, policy, tails) for target in targets]
        paths = [_plan_path(Path(image), plan) for plan in plans]
        for path, plan in zip(paths, plans, strict=True):
            if not (resume and path.exists()):
                save(path, plan)
        store: ReadableStore = SharedStore(opened.store) if len(targets) > 1 else opened.store
        found: list[Restored] = [Restored(t, None, None) for t in targets]

        def run(index: int) -> None:
            name = targets[index]

            def tell_of(event: Event) -> None:
                tell(msgspec.structs.replace(event, target=name))

            try:
                outcome = _transfer(store, surveyed, paths[index], control, resume, verify, tell_of)
                found[index] = Restored(name, outcome, None)
                tell_of(Event(event="note", code="target-done", text="Copied and checked."))
            except NeogenesisError as error:
                found[index] = Restored(name, None, error)
                tell_of(Event(event="note", code="target-dropped", text=error.text, remedy=error.remedy))

        with steered_by_signals(control):
            threads = [threading.Thread(target=run, args=(n,), name=f"restore-{n}") for n in range(len(targets))]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        return found
    finally:
        opened.close()


def _plan_for(surveyed: Surveyed, target: str, policy: Policy, tails: Sequence[str]) -> Plan:
    known = usable_target(surveyed, target)
    if known.drive is None:
        raise BadArgument(f"“{target}” is no drive.", "Name a drive.")
    expected = confirm_tail(known.drive)
    typed = next((t for t in tails if t.casefold() == expected.casefold()), tails[0] if tails else "")
    check_tail(typed, expected)
    return make_plan(surveyed, known, policy, new_id)


def _plan_path(image: Path, plan: Plan) -> Path:
    drive = plan.target.drive
    tail = confirm_tail(drive) if drive else "drive"
    safe = "".join(c if c.isalnum() else "_" for c in tail)
    return image.absolute().with_name(f"{image.name}.onto-{safe}.json")


def _transfer(
    store: ReadableStore,
    surveyed: Surveyed,
    path: Path,
    control: Control,
    resume: bool,
    verify: Verify,
    tell: Callable[[Event], None],
) -> Outcome:
    plan = load_plan(path)
    if plan.target.drive is None:
        raise BadArgument("The plan names no drive.", "Restore again without --resume.")
    own = Control()
    own.checkpoint = control.checkpoint  # type: ignore[method-assign]
    clock = BenchClock(clock_factor(plan.target.drive.path))
    with only_worker(path):
        known = (surveyed, surveyed.survey.drive)
        return carry_out(plan, RunFiles(path), store, lambda: known, own, clock, tell, resume, verify)
