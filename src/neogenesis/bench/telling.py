"""Events of any long work, written where the window or a script listens; exactly one of them is the outcome."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Literal

import msgspec

from neogenesis.bench.clock import BenchClock
from neogenesis.core.errors import BadArgument, NeogenesisError
from neogenesis.core.transfer import Event

_PROGRESS_SECONDS = 0.2
Ending = Literal["done", "refused", "partial", "mismatch", "stopped", "failed"]
OUTCOMES: dict[int, Ending] = {
    3: "refused",
    4: "partial",
    5: "mismatch",
    6: "stopped",
}


def _nothing_more() -> Event:
    return Event(event="progress")


class Teller:
    """Writes events; progress not more often than five times a second."""

    def __init__(self, write: Callable[[bytes], object], clock: BenchClock) -> None:
        self._write, self._clock = write, clock
        self._told = 0.0
        self._first: tuple[float, int] | None = None

    def tell(self, event: Event) -> None:
        """Events are a courtesy: a full disk must not stop work that could go on."""
        time_s, wall = event.time_s or round(self._clock.now(), 3), event.wall or self._clock.wall()
        event = msgspec.structs.replace(event, time_s=time_s, wall=wall)
        with suppress(OSError):
            self._write(msgspec.json.encode(event) + b"\n")

    def progress(self, phase: str, done: int, total: int, more: Callable[[], Event] = _nothing_more) -> None:
        """How far it is, if it is time to say so; the rate is the average since the first time.

        `more` gives an event whose other fields are told along; it is asked only when it is needed.
        """
        now = self._clock.now()
        if self._first is None:
            self._first = (now, done)
        if now - self._told < _PROGRESS_SECONDS * self._clock.pace and done < total:
            return
        self._told = now
        since, before = self._first
        rate = (done - before) / max(1e-3, now - since)
        left = (total - done) / rate if rate > 0 else 0.0
        self.tell(
            msgspec.structs.replace(
                more(),
                event="progress",
                phase=phase,
                copied_bytes=done,
                total_bytes=total,
                rate_bytes_per_s=rate,
                left_s=(0.8 * left, 1.4 * left),
            )
        )


@contextmanager
def telling(events: str | None, pace: float = 1.0) -> Iterator[Teller]:
    """A teller for a file, for standard output (`-`), or for nobody. Tells the outcome of what is done inside.

    `pace` is how much faster than the wall clock the time of the drives goes.
    """
    clock = BenchClock(pace)
    if events is None:
        yield Teller(lambda data: None, clock)
        return
    try:
        file = None if events == "-" else Path(events).open("ab", buffering=0)  # noqa: SIM115 - closed below
    except OSError as error:
        raise BadArgument(f"“{events}” cannot be written ({error.strerror}).", "Name another file.") from error
    teller = Teller(file.write if file else _to_stdout, clock)
    try:
        teller.tell(Event(event="start", figures={"pace": pace}))
        yield teller
        teller.tell(Event(event="outcome", outcome="done", text="Done."))
    except NeogenesisError as error:
        kind: Ending = OUTCOMES.get(error.exit_status, "failed")
        code = str(getattr(error, "code", ""))
        teller.tell(Event(event="outcome", outcome=kind, text=error.text, remedy=error.remedy, code=code))
        raise
    finally:
        if file:
            file.close()


def _to_stdout(data: bytes) -> None:
    sys.stdout.buffer.write(data)
    sys.stdout.buffer.flush()
