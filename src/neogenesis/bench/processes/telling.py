"""Events of any long work, written where the window or a script listens."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import msgspec

from neogenesis.bench.processes.clock import BenchClock
from neogenesis.core.errors import BadArgument
from neogenesis.core.work import Event

_PROGRESS_SECONDS = 0.2


@dataclass(frozen=True, slots=True)
class EventsTo:
    """A file that events are appended to, or begun anew; `-` is standard output. Or a listener, by whatever name."""

    place: str
    anew: bool = False
    listener: Callable[[bytes], object] | None = None


def _nothing_more() -> Event:
    return Event(event="progress")


class Teller:
    """Writes events; progress not more often than five times a second."""

    def __init__(self, writers: Sequence[Callable[[bytes], object]], clock: BenchClock) -> None:
        self._writers, self._clock = writers, clock
        self._told = 0.0
        self._first: tuple[float, int] | None = None
        self._phase = ""

    def tell(self, event: Event) -> None:
        """Events are a courtesy: a full disk must not stop work that could go on."""
        time_s, wall = event.time_s or round(self._clock.now(), 3), event.wall or self._clock.wall()
        line = msgspec.json.encode(msgspec.structs.replace(event, time_s=time_s, wall=wall)) + b"\n"
        for write in self._writers:
            with suppress(OSError):
                write(line)

    def progress(self, phase: str, done: int, total: int, more: Callable[[], Event] = _nothing_more) -> None:
        """How far it is, if it is time to say so; the rate is the average since the phase was first told of.

        `more` gives an event whose other fields are told along; it is asked only when it is needed.
        """
        now = self._clock.now()
        if self._first is None or self._phase != phase:
            self._first, self._phase = (now, done), phase
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
def writers(
    places: Sequence[EventsTo], gone: Callable[[], None] = lambda: None
) -> Iterator[list[Callable[[bytes], object]]]:
    """Where events go, open; raises BadArgument for a place that cannot be written.

    `gone` is called when nobody reads standard output any more.
    """
    opened = []
    try:
        found: list[Callable[[bytes], object]] = []
        for to in places:
            if to.listener is not None:
                found.append(to.listener)
                continue
            if to.place == "-":
                found.append(partial(_to_stdout, gone))
                continue
            try:
                file = Path(to.place).open("wb" if to.anew else "ab", buffering=0)  # noqa: SIM115 - closed below
            except OSError as error:
                raise BadArgument(
                    f"“{to.place}” cannot be written ({error.strerror}).", "Name another file."
                ) from error
            opened.append(file)
            found.append(file.write)
        yield found
    finally:
        for file in opened:
            file.close()


def _to_stdout(gone: Callable[[], None], data: bytes) -> None:
    try:
        sys.stdout.buffer.write(data)
        sys.stdout.buffer.flush()
    except BrokenPipeError:
        gone()
