"""The one way in which long work runs: steered by signals, alone on its record, with events and exactly one end.

SIGTERM, SIGINT, SIGHUP, and a reader of its events on standard output who goes away, stop it at a safe point; SIGUSR1
pauses it, SIGUSR2 lets it go on. A lock beside its record is held as long as the process lives, so anyone can see
whether it is under way.
"""

from __future__ import annotations

import fcntl
import os
import signal
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from types import FrameType
from typing import Literal, TypeVar

import msgspec

from neogenesis.bench.processes.awake import kept_awake
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.processes.telling import EventsTo, Teller, writers
from neogenesis.bench.processes.utilities import ended_by
from neogenesis.core.errors import BadRecord, NeogenesisError, Refused
from neogenesis.core.work import Control, Event, Frame

T = TypeVar("T")
Kind = Literal["transfer", "fresh", "image", "restore", "rescue", "salvage", "remedy", "undo", "size-check"]
Ending = Literal["done", "refused", "partial", "mismatch", "stopped", "failed"]
#: Why the computer must not sleep, as the desktop shows it.
_WHY: dict[Kind, str] = {
    "transfer": "A drive is being copied",
    "fresh": "A drive is being made anew",
    "image": "A drive is being imaged",
    "restore": "An image is being written to a drive",
    "rescue": "A failing drive is being read",
    "salvage": "Files are being copied off a drive",
    "remedy": "A drive is being mended",
    "undo": "A drive is being put back as it was",
    "size-check": "A stick is being tested",
}
#: Works that people call otherwise.
_CALLED = {"fresh": "clean start"}
_ENDINGS: dict[int, Ending] = {3: "refused", 4: "partial", 5: "mismatch", 6: "stopped"}


@dataclass(frozen=True, slots=True)
class Running:
    """What the work is given. `frame` is for the core, `teller` for progress that is told from here."""

    frame: Frame
    teller: Teller
    clock: BenchClock


def _done(result: object) -> Event:
    return Event(event="outcome", outcome="done", text="Done.")


def run_work(
    kind: Kind,
    body: Callable[[Running], T],
    record: Path | None = None,
    events: Sequence[EventsTo] = (),
    clock: BenchClock | None = None,
    ended: Callable[[T], Event] = _done,
    begins: bool = True,
    check_only: bool = False,
    run: str = "",
) -> T:
    """Run `body` in this process and tell exactly one outcome, whatever happens. Raises NeogenesisError.

    `record` is the file that the work belongs to: two at a time are refused. `begins` is False where the work itself
    tells that it begins. With `check_only` nothing is told and nothing kept: the body only asks its gates. `run` is
    told with the outcome, so that its end is found whatever else was told.
    """
    control, clock = Control(), clock or BenchClock()
    with ExitStack() as stack:
        stack.enter_context(steered_by_signals(control))
        stack.enter_context(ended_by(control.checkpoint))
        if check_only:
            if record is not None and running_worker(record) is not None:
                raise _under_way(record)
            teller = Teller([], clock)
            return body(Running(Frame(control, clock, teller.tell), teller, clock))
        if record is not None:
            stack.enter_context(only_worker(record))
        stack.enter_context(kept_awake(_WHY[kind]))
        gone = partial(control.stop, "whoever read its events has gone")
        teller = Teller(stack.enter_context(writers(events, gone)), clock)
        if begins:
            teller.tell(Event(event="start", phase=kind, figures={"pace": clock.pace, "run": run}))
        try:
            result = body(Running(Frame(control, clock, teller.tell), teller, clock))
        except NeogenesisError as error:
            ending: Ending = _ENDINGS.get(error.exit_status, "failed")
            code = str(getattr(error, "code", ""))
            figures = {"run": run}
            teller.tell(
                Event(event="outcome", outcome=ending, text=error.text, remedy=error.remedy, code=code, figures=figures)
            )
            raise
        except BaseException:
            remedy = "Run the same command again, a transfer with --resume; the old drive is untouched."
            work = _CALLED.get(kind, kind)
            text = f"The {work} ended unexpectedly."
            teller.tell(Event(event="outcome", outcome="failed", text=text, remedy=remedy, figures={"run": run}))
            raise
        end = ended(result)
        teller.tell(msgspec.structs.replace(end, figures={**end.figures, "run": run}))
        return result


def lock_path(record: Path) -> Path:
    return record.with_name(f"{record.stem}.lock")


@contextmanager
def only_worker(record: Path) -> Iterator[None]:
    """Hold the lock of this record and write the process id into it; raises Refused when another has it."""
    try:
        descriptor = os.open(lock_path(record), os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
    except OSError as error:
        raise BadRecord(
            f"The folder of “{record.name}” cannot be written to ({error.strerror}); nothing was written.",
            "Put it where its records can stand beside it.",
        ) from error
    try:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            raise _under_way(record) from error
        os.ftruncate(descriptor, 0)
        os.pwrite(descriptor, str(os.getpid()).encode(), 0)
        yield
    finally:
        os.close(descriptor)


def running_worker(record: Path) -> int | None:
    """Process id of the work on a record (a plan, an image, a map) that is under way now, if any."""
    try:
        descriptor = os.open(lock_path(record), os.O_RDONLY | os.O_CLOEXEC)
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


def _under_way(record: Path) -> Refused:
    return Refused(
        "in-use",
        f"Work on “{record.name}” is already under way; nothing more was written.",
        "Watch that one, or stop it first.",
    )


@contextmanager
def steered_by_signals(control: Control) -> Iterator[None]:
    """Let signals steer `control` while work runs; a second SIGINT changes nothing."""
    orders: dict[int, Callable[[], None]] = {
        signal.SIGTERM: lambda: control.stop("asked to stop"),
        signal.SIGINT: lambda: control.stop("asked to stop from the keyboard"),
        signal.SIGHUP: lambda: control.stop("its terminal was closed"),
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
