"""A run-in: what a new drive gives, measured on a scratch file for a short time, beside what it is rated for.

Three questions in our own words: its *long stride* (one long read or write), its *short steps* (single blocks of
4096 bytes, one after the other, at places taken by chance) and its *staying power* (writing until its cache runs out).
Nothing but the scratch file is written, and that has gone when the run ends, whatever ends it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from statistics import median
from typing import ClassVar, Literal, Protocol

import numpy as np

from neogenesis.core.errors import Refused
from neogenesis.core.fit.part import Part
from neogenesis.core.record import Record
from neogenesis.core.survey.profile import SpeedProfile
from neogenesis.core.units import MIB, both_text, rate_text

STEP_BYTES = 4096
STRIDE_BYTES = 4 * MIB
LEAST_BYTES = 64 * MIB
_SAMPLE_SECONDS = 0.1
_MOST_SAMPLES = 2000
_PLACES = 1 << 16
#: Shares of the time for writing on and on, for reading, and for small blocks read and written.
_SHARES = (0.6, 0.16, 0.12, 0.12)
#: A fall to less than this share of the pace before it is the end of a cache.
_FALL = 0.67
_SIDE = 4
#: Less than this share of a rated figure is worth a word.
_SHORT_OF = 0.7

Phase = Literal["staying", "stride-read", "steps-read", "steps-write"]
Figure = Literal["stride-read", "stride-write", "staying", "steps-read", "steps-write"]
#: In words, the figures as well as what goes on.
TITLES: dict[Figure, str] = {
    "stride-read": "Long stride, reading",
    "stride-write": "Long stride, writing",
    "staying": "Staying power",
    "steps-read": "Short steps, reading",
    "steps-write": "Short steps, writing",
}
Ended = Literal["whole", "time", "stopped"]


class Scratch(Protocol):
    """A file of `size_bytes` that may be written over and over, and the drive's own clock."""

    size_bytes: int

    def write(self, at: int, data: memoryview) -> None:
        """To the medium, or as near to it as the system lets; raises WriteFailed."""
        ...

    def read(self, at: int, buffer: memoryview) -> None:
        """From the medium; raises ReadFailed."""
        ...

    def sync(self) -> None: ...

    def seconds(self) -> float: ...


class Paced(Record, frozen=True, kw_only=True):
    """The pace when `at_bytes` had been written in all."""

    at_bytes: int
    bytes_per_s: float


class RunIn(Record, frozen=True, kw_only=True):
    """`past_cache` says that the system's own cache was gone round. `cache_bytes` is how much was written when the pace
    fell, None where it did not fall. What was not come to is None. Temperatures in degrees Celsius."""

    SCHEMA: ClassVar[str] = "neogenesis.run-in/1"

    schema: str = SCHEMA
    when: str = ""
    serial: str = ""
    bus: str = ""
    scratch_bytes: int
    written_bytes: int
    seconds: float
    ended: Ended
    past_cache: bool
    samples: tuple[Paced, ...]
    stride_write_bytes_per_s: float | None
    stride_read_bytes_per_s: float | None = None
    steps_read_per_s: float | None = None
    steps_write_per_s: float | None = None
    cache_bytes: int | None = None
    staying_bytes_per_s: float | None
    temperature_before_c: float | None = None
    temperature_after_c: float | None = None

    @property
    def through_usb(self) -> bool:
        """Then the bridge may set the pace, and a rating says nothing of the drive."""
        return self.bus.startswith("usb")


Tell = Callable[[Phase, Paced], object]


def run_in(
    scratch: Scratch,
    past_cache: bool,
    seconds: float = 60.0,
    most_bytes: int | None = None,
    tell: Tell = lambda phase, paced: None,
    goes_on: Callable[[], bool] = lambda: True,
) -> RunIn:
    """Measure for about `seconds` by the drive's own clock, writing `most_bytes` at most, by default as many as fit.

    Raises Refused when there is too little room to say anything, WriteFailed, ReadFailed.
    """
    size = min(scratch.size_bytes, most_bytes or scratch.size_bytes) // STRIDE_BYTES * STRIDE_BYTES
    if size < LEAST_BYTES:
        raise Refused(
            "no-room",
            f"There is too little free room for a run-in: {both_text(scratch.size_bytes)}, of which only a part "
            "may be used; nothing was written.",
            "Free some room on that volume, or take another folder.",
        )
    run = _Run(scratch, size, tell, goes_on)
    stay, stride, reading, writing = (share * seconds for share in _SHARES)
    run.stay(stay)
    read = run.stride(stride)
    read_steps = run.steps("steps-read", reading)
    write_steps = run.steps("steps-write", writing)
    cache, before, after = knee(run.samples)
    return RunIn(
        scratch_bytes=size,
        written_bytes=run.written,
        seconds=round(scratch.seconds() - run.began, 3),
        ended="stopped" if run.stopped else ("whole" if run.written >= size else "time"),
        past_cache=past_cache,
        samples=tuple(_thinned(run.samples)),
        stride_write_bytes_per_s=before,
        stride_read_bytes_per_s=read,
        steps_read_per_s=read_steps,
        steps_write_per_s=write_steps,
        cache_bytes=cache,
        staying_bytes_per_s=after,
    )


class _Run:
    """One run: its clock, what was written, and whether anybody stopped it."""

    def __init__(self, scratch: Scratch, size: int, tell: Tell, goes_on: Callable[[], bool]) -> None:
        self._scratch, self._size, self._tell, self._goes_on = scratch, size, tell, goes_on
        self.began = scratch.seconds()
        self.written, self.samples, self.stopped = 0, list[Paced](), False
        self._told = 0.0
        self._chance = np.random.default_rng(1)

    def _until(self, end: float) -> bool:
        self.stopped = self.stopped or not self._goes_on()
        return not self.stopped and self._scratch.seconds() < end

    def stay(self, seconds: float) -> None:
        """Write on and on; every piece is another one, since some drives keep equal ones only once."""
        scratch, piece = self._scratch, memoryview(bytearray(self._chance.bytes(STRIDE_BYTES)))
        marks = np.frombuffer(piece, dtype=np.uint64).reshape(-1, STEP_BYTES // 8)[:, 0]
        end, since, then = self.began + seconds, 0, self.began
        while self.written < self._size and self._until(end):
            marks[:] = self.written
            scratch.write(self.written, piece)
            self.written += STRIDE_BYTES
            since += STRIDE_BYTES
            now = scratch.seconds()
            if now - then >= _SAMPLE_SECONDS:
                self._sample("staying", since, now - then)
                since, then = 0, now
        scratch.sync()
        now = scratch.seconds()
        if since and now > then:
            self._sample("staying", since, now - then)

    def _sample(self, phase: Phase, length: int, seconds: float) -> None:
        paced = Paced(at_bytes=self.written, bytes_per_s=length / seconds)
        self.samples.append(paced)
        self._tell(phase, paced)

    def _tell_now(self, phase: Phase, done: int, began: float) -> None:
        """The mean pace since `began`, as often as a sample is taken."""
        now = self._scratch.seconds()
        if now - self._told >= _SAMPLE_SECONDS:
            self._told = now
            self._tell(phase, Paced(at_bytes=done, bytes_per_s=done / max(1e-9, now - began)))

    def stride(self, seconds: float) -> float | None:
        """Bytes a second of one long read of what was written."""
        scratch, buffer = self._scratch, memoryview(bytearray(STRIDE_BYTES))
        began, done = scratch.seconds(), 0
        while done + STRIDE_BYTES <= self.written and self._until(began + seconds):
            scratch.read(done, buffer)
            done += STRIDE_BYTES
            self._tell_now("stride-read", done, began)
        return done / max(1e-9, scratch.seconds() - began) if done else None

    def steps(self, phase: Literal["steps-read", "steps-write"], seconds: float) -> float | None:
        """Blocks a second, one after the other, at places taken by chance among those written."""
        scratch, block = self._scratch, memoryview(bytearray(self._chance.bytes(STEP_BYTES)))
        places = self.written // STEP_BYTES
        some = (self._chance.integers(places, size=_PLACES) * STEP_BYTES).tolist() if places else []
        began, count = scratch.seconds(), 0
        while places and self._until(began + seconds):
            at = some[count % _PLACES]
            if phase == "steps-read":
                scratch.read(at, block)
            else:
                scratch.write(at, block)
            count += 1
            self._tell_now(phase, count * STEP_BYTES, began)
        if phase == "steps-write" and count:
            scratch.sync()
        return count / max(1e-9, scratch.seconds() - began) if count else None


def knee(samples: Sequence[Paced]) -> tuple[int | None, float | None, float | None]:
    """Where the pace falls for good: bytes written until then, the usual pace before, and after.

    The split that explains most of the scatter of the logarithms of the pace (two levels, least squares); it counts
    when the level after it is below two thirds of the one before. Without one, both paces are the same.
    """
    if not samples:
        return None, None, None
    rates = [s.bytes_per_s for s in samples]
    whole = float(median(rates))
    if len(samples) < 2 * _SIDE:
        return None, whole, whole
    logs = np.log(np.maximum(rates, 1.0))
    counts = np.arange(1, len(logs))
    left = np.cumsum(logs)[:-1]
    right = logs.sum() - left
    explained = left**2 / counts + right**2 / (len(logs) - counts)
    inner = explained[_SIDE - 1 : len(logs) - _SIDE]
    at = int(np.argmax(inner)) + _SIDE
    before, after = float(median(rates[:at])), float(median(rates[at:]))
    if after >= _FALL * before:
        return None, whole, whole
    return samples[at - 1].at_bytes, before, after


def _thinned(samples: Sequence[Paced]) -> Sequence[Paced]:
    step = -(-len(samples) // _MOST_SAMPLES)
    return samples[::step] if step > 1 else samples


class Compared(Record, frozen=True, kw_only=True):
    """A figure beside what the part is rated for and what the old drive gave; None where nobody says."""

    code: Figure
    measured: float | None
    rated: float | None = None
    old: float | None = None
    through_usb: bool = False

    @property
    def is_short(self) -> bool:
        """Of its rating, whatever the reason."""
        return self.measured is not None and self.rated is not None and self.measured < _SHORT_OF * self.rated

    @property
    def falls_short(self) -> bool:
        """As the drive is connected it should give more."""
        return self.is_short and not self.through_usb


def compared(found: RunIn, part: Part | None = None, old: SpeedProfile | None = None) -> tuple[Compared, ...]:
    """Every figure of a run-in; strides and staying power in bytes a second, steps in blocks a second."""
    old_steps = 1 / old.median_seek_s if old is not None and old.median_seek_s else None
    staying = part.sustained_write_bytes_per_s if part and found.cache_bytes is not None else None
    rows: tuple[tuple[Figure, float | None, float | None, float | None], ...] = (
        (
            "stride-read",
            found.stride_read_bytes_per_s,
            part.read_bytes_per_s if part else None,
            old.median_bytes_per_s if old else None,
        ),
        ("stride-write", found.stride_write_bytes_per_s, part.write_bytes_per_s if part else None, None),
        ("staying", found.staying_bytes_per_s, staying, None),
        ("steps-read", found.steps_read_per_s, None, old_steps),
        ("steps-write", found.steps_write_per_s, None, None),
    )
    return tuple(
        Compared(code=code, measured=measured, rated=rated, old=before, through_usb=found.through_usb)
        for code, measured, rated, before in rows
    )


def figure_text(code: Figure, value: float | None) -> str:
    """`1.3 GB/s` or `29,300 blocks/s`; a dash for what was not come to."""
    if value is None:
        return "–"
    return f"{value:,.0f} blocks/s" if code.startswith("steps") else rate_text(value)


def sentences(found: RunIn, part: Part | None = None) -> tuple[str, ...]:
    """What a run-in says, in plain words."""
    told = []
    if found.cache_bytes is not None and found.stride_write_bytes_per_s and found.staying_bytes_per_s:
        told.append(
            f"Its cache ran out after {both_text(found.cache_bytes)}: from {rate_text(found.stride_write_bytes_per_s)} "
            f"to {rate_text(found.staying_bytes_per_s)}."
        )
    elif found.samples:
        told.append(f"It kept its pace over {both_text(found.written_bytes)}: no cache ran out.")
    if found.cache_bytes is None and part is not None and (part.cache_bytes or 0) > found.written_bytes:
        told.append(
            "Less was written than its cache is rated for; more room or more time would show what is behind it."
        )
    rows = compared(found, part)
    if any(row.falls_short for row in rows):
        told.append("It gives clearly less than it is rated for: look at socket, cable and dock before the drive.")
    elif any(row.is_short for row in rows):
        told.append("It stands behind USB here, which sets the pace; its rating holds in a socket of its own.")
    if found.temperature_after_c is not None and found.temperature_before_c is not None:
        told.append(f"{found.temperature_before_c:.0f} °C before, {found.temperature_after_c:.0f} °C after.")
    if not found.past_cache:
        told.append("The system's cache could not be gone round here, so reading looks faster than it is.")
    return tuple(told)
