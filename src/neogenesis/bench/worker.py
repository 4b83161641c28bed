"""A transfer as a process: what `neogenesis transfer` runs, and how others start it, watch it and steer it.

SIGTERM and SIGINT stop it at a safe point, SIGUSR1 pauses it, SIGUSR2 lets it go on. A lock beside the plan is held
as long as the process lives, so anyone can see whether a transfer is under way.
"""

from __future__ import annotations

import fcntl
import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from types import FrameType
from typing import IO

import msgspec

from neogenesis.bench.clock import BenchClock
from neogenesis.bench.drives import OpenDrive, clock_factor, confirm_tail, open_sealed
from neogenesis.bench.names import named, write_names
from neogenesis.bench.planning import hash_of, load_plan
from neogenesis.bench.telling import OUTCOMES, Ending
from neogenesis.bench.transferring import carry_out
from neogenesis.core.errors import BadRecord, NeogenesisError, Refused
from neogenesis.core.extent import Extents
from neogenesis.core.filesystem.names import files_touching
from neogenesis.core.plan import Plan
from neogenesis.core.survey import Drive, Surveyed, survey_drive
from neogenesis.core.transfer import Control, Event, Outcome, RunFiles
from neogenesis.core.transfer.identify import check_tail
from neogenesis.core.transfer.journal import belongs_to
from neogenesis.core.transfer.run import Verify
from neogenesis.core.units import both_text

#: Workers that this process started: remembered until they end, since whoever asked for them may be gone by then.
_children: list[subprocess.Popen[bytes]] = []


def _lock_path(plan: Path) -> Path:
    return plan.with_name(f"{plan.stem}.lock")


@contextmanager
def only_worker(plan: Path) -> Iterator[None]:
    """Hold the lock of this plan and write the process id into it; raises Refused when another has it."""
    try:
        descriptor = os.open(_lock_path(plan), os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
    except OSError as error:
        raise BadRecord(
            f"The folder of the plan cannot be written to ({error.strerror}); nothing was written.",
            "Put the plan where its journal can stand beside it.",
        ) from error
    try:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            raise Refused(
                "in-use",
                "A transfer of this plan is already under way; nothing more was written.",
                "Watch that one, or stop it first.",
            ) from error
        os.ftruncate(descriptor, 0)
        os.pwrite(descriptor, str(os.getpid()).encode(), 0)
        yield
    finally:
        os.close(descriptor)


def running_worker(plan: Path) -> int | None:
    """Process id of the transfer of `plan` that is under way now, if any."""
    try:
        descriptor = os.open(_lock_path(plan), os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return None
    try:
        fcntl.flock(descriptor, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except OSError:
        text = os.pread(descriptor, 32, 0).decode("ascii", "replace")
        return int(text) if text.isdigit() else None
    finally:
        os.close(descriptor)
    return None


def start_worker(plan: Path, tail: str, resume: bool, verify: Verify = "full") -> subprocess.Popen[bytes]:
    """Start a transfer that outlives this process; its last words go to `NAME.errors` beside the plan."""
    arguments = ["transfer", str(plan), "--confirm", tail, "--verify", verify]
    return start_command([*arguments, "--resume"] if resume else arguments, plan.with_name(f"{plan.stem}.errors"))


def start_command(arguments: Sequence[str], errors_path: Path) -> subprocess.Popen[bytes]:
    """Start this program with `arguments` as a process that outlives its parent."""
    _children[:] = [child for child in _children if child.poll() is None]
    with errors_path.open("wb") as errors:
        child = subprocess.Popen(
            [sys.executable, "-m", "neogenesis", *arguments],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=errors,
            start_new_session=True,
        )
    _children.append(child)
    return child


def last_words(plan: Path) -> str:
    """What the last worker of this plan said on its standard error, on one line."""
    try:
        return " ".join(plan.with_name(f"{plan.stem}.errors").read_text("utf-8", "replace").split())
    except OSError:
        return ""


def has_journal(plan_path: Path) -> bool:
    """Whether a transfer of the plan that stands there has been begun."""
    try:
        return belongs_to(RunFiles(plan_path).journal, hash_of(load_plan(plan_path)))
    except BadRecord:
        return False


def steer(plan: Path, order: str) -> bool:
    """Send `pause`, `go-on` or `stop` to the transfer under way; False when there is none."""
    process = running_worker(plan)
    if process is None:
        return False
    number = {"pause": signal.SIGUSR1, "go-on": signal.SIGUSR2, "stop": signal.SIGTERM}[order]
    with suppress(ProcessLookupError):
        os.kill(process, number)
        return True
    return False


def run_transfer(
    plan_path: Path, tail: str, resume: bool, verify: Verify, also: Callable[[Event], None] = lambda event: None
) -> Outcome:
    """Run a plan in this process. Events go to the file beside the plan, and to `also`.

    Exactly one outcome event is told, whatever happens. Raises NeogenesisError with its exit status.
    """
    plan_path = plan_path.absolute()
    plan = load_plan(plan_path)
    target = plan.target.drive
    if target is not None:
        check_tail(tail, confirm_tail(target))
    control = Control()
    files = RunFiles(plan_path)
    _check_room(plan, plan_path)
    with only_worker(plan_path), steered_by_signals(control):
        try:
            log = files.events.open("ab" if resume else "wb", buffering=0)
        except OSError as error:
            raise BadRecord(f"“{files.events}” cannot be written ({error.strerror}).", "Free space there.") from error
        with log:
            tell = _teller(log, also)
            try:
                outcome = _run(plan, files, control, tell, resume, verify)
            except NeogenesisError as error:
                kind: Ending = OUTCOMES.get(error.exit_status, "failed")
                code = str(getattr(error, "code", ""))
                tell(Event(event="outcome", outcome=kind, text=error.text, remedy=error.remedy, code=code))
                raise
            except BaseException:
                tell(
                    Event(
                        event="outcome",
                        outcome="failed",
                        text="The transfer ended unexpectedly.",
                        remedy="Run it again with --resume; the old drive is untouched.",
                    )
                )
                raise
            tell(_final(outcome))
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


def _final(outcome: Outcome) -> Event:
    figures = {
        "verified_bytes": outcome.verified_bytes,
        "seconds": round(outcome.seconds, 1),
        "manifest_hash": outcome.manifest_hash,
        "lost": outcome.lost,
    }
    lost = sum(end - start for start, end in outcome.lost)
    text = "Everything was copied and checked."
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


def _teller(log: IO[bytes], also: Callable[[Event], None]) -> Callable[[Event], None]:
    """Events are a courtesy: a full disk must not stop a transfer that could go on."""

    def tell(event: Event) -> None:
        if not event.wall:
            event = msgspec.structs.replace(event, wall=BenchClock().wall())
        with suppress(OSError):
            log.write(msgspec.json.encode(event) + b"\n")
        also(event)

    return tell


def _run(
    plan: Plan, files: RunFiles, control: Control, tell: Callable[[Event], None], resume: bool, verify: Verify
) -> Outcome:
    old, new = plan.source.survey.drive, plan.target.drive
    clock = BenchClock(clock_factor(old.path, new.path if new else old.path))
    source = open_sealed(old.path, old.sector_size)
    try:

        def source_now() -> tuple[Surveyed, Drive]:
            return survey_drive(source.store, source.drive), source.drive

        outcome = carry_out(plan, files, source.store, source_now, control, clock, tell, resume, verify)
        if outcome.lost:
            _name_files(plan, files, source, outcome, tell)
        return outcome
    finally:
        source.close()


def _name_files(
    plan: Plan, files: RunFiles, source: OpenDrive, outcome: Outcome, tell: Callable[[Event], None]
) -> None:
    """Say which files lie on what could not be read, and keep the list beside the plan."""
    parts = plan.source.survey.partitions
    volumes = [(p.number, p.start_bytes, p.size_bytes) for p in parts if p.volume.understood]
    touched = list(files_touching(source.store, volumes, Extents.of(outcome.lost)))
    if touched:
        tell(named(touched))
    with suppress(BadRecord):  # the copy is done, and its lost ranges are on record; names can be worked out again
        write_names(files.names, touched)


@contextmanager
def steered_by_signals(control: Control) -> Iterator[None]:
    """Let signals steer `control` while a transfer runs; a second SIGINT changes nothing."""
    orders: dict[int, Callable[[], None]] = {
        signal.SIGTERM: lambda: control.stop("asked to stop"),
        signal.SIGINT: lambda: control.stop("asked to stop from the keyboard"),
        signal.SIGUSR1: control.pause,
        signal.SIGUSR2: control.go_on,
    }

    def handle(number: int, frame: FrameType | None) -> None:
        orders[number]()

    before = {number: signal.signal(number, handle) for number in orders}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
