"""The one way in which long work runs: steered by signals, alone on its record, with events and exactly one end.

SIGTERM and SIGINT stop it at a safe point, SIGUSR1 pauses it, SIGUSR2 lets it go on. A lock beside its record is held
as long as the process lives, so anyone can see whether it is under way.
"""

from __future__ import annotations

import fcntl
import os
import signal
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from types import FrameType
from typing import Literal, TypeVar

from neogenesis.bench.processes.awake import kept_awake
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.processes.telling import EventsTo, Teller, writers
from neogenesis.core.errors import BadRecord, NeogenesisError, Refused
from neogenesis.core.work import Control, Event, Frame

T = TypeVar("T")
Kind = Literal["transfer", "fresh", "image", "restore", "rescue", "salvage"]
Ending = Literal["done", "refused", "partial", "mismatch", "stopped", "failed"]
#: Why the computer must not sleep, as the desktop shows it.
_WHY: dict[Kind, str] = {
    "transfer": "A drive is being copied",
    "fresh": "A drive is being made anew",
    "image": "A drive is being imaged",
    "restore": "An image is being written to a drive",
    "rescue": "A failing drive is being read",
    "salvage": "Files are being copied off a drive",
}
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
) -> T:
    """Run `body` in this process and tell exactly one outcome, whatever happens. Raises NeogenesisError.

    `record` is the file that the work belongs to: two at a time are refused. `begins` is False where the work itself
    tells that it begins.
    """
    control, clock = Control(), clock or BenchClock()
    with ExitStack() as stack:
        stack.enter_context(steered_by_signals(control))
        if record is not None:
            stack.enter_context(only_worker(record))
        stack.enter_context(kept_awake(_WHY[kind]))
        teller = Teller(stack.enter_context(writers(events)), clock)
        if begins:
            teller.tell(Event(event="start", phase=kind, figures={"pace": clock.pace}))
        try:
            result = body(Running(Frame(control, clock, teller.tell), teller, clock))
        except NeogenesisError as error:
            ending: Ending = _ENDINGS.get(error.exit_status, "failed")
            code = str(getattr(error, "code", ""))
            teller.tell(Event(event="outcome", outcome=ending, text=error.text, remedy=error.remedy, code=code))
            raise
        except BaseException:
            remedy = "Run the same command again, a transfer with --resume; the old drive is untouched."
            text = f"The {kind} ended unexpectedly."
            teller.tell(Event(event="outcome", outcome="failed", text=text, remedy=remedy))
            raise
        teller.tell(ended(result))
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
            raise Refused(
                "in-use",
                f"Work on “{record.name}” is already under way; nothing more was written.",
                "Watch that one, or stop it first.",
            ) from error
        os.ftruncate(descriptor, 0)
        os.pwrite(descriptor, str(os.getpid()).encode(), 0)
        yield
    finally:
        os.close(descriptor)


@contextmanager
def steered_by_signals(control: Control) -> Iterator[None]:
    """Let signals steer `control` while work runs; a second SIGINT changes nothing."""
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
