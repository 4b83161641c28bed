"""The journal: an append-only file from which long work goes on after any kind of end.

Each line is eight hexadecimal digits of CRC-32, a space, and a JSON array. Chunk lines count only when a
`sync` line follows: then the medium had confirmed them. A torn last line is what a cut leaves and is cut off;
anything else that does not add up means that the file was damaged.
"""

from __future__ import annotations

import os
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import msgspec

from neogenesis.core.errors import BadRecord, CannotRecord
from neogenesis.core.work.chunks import Chunk, ChunkLog, StoredLog
from neogenesis.core.work.control import Clock, Control

SCHEMA = "neogenesis.journal/2"
_LONGEST_LINE = 1 << 20
_LONGEST_MS = 1 << 40
StoredChunk = tuple[Chunk, int, list[int]]


@dataclass(frozen=True, slots=True)
class JournalLimits:
    """What the figures of a journal may say at most: bytes of the target and of the old drive."""

    target_bytes: int = 1 << 60
    source_bytes: int = 1 << 60


_UNLIMITED = JournalLimits()


class JournalState:
    """What a journal says has happened. `steps` are ids of steps that are done, `begun` of some that were begun."""

    def __init__(self, limits: JournalLimits = _UNLIMITED) -> None:
        self._limits = limits
        self.plan_hash = ""
        self.chunks = ChunkLog()
        self.lost: list[tuple[int, int]] = []
        self.stored = StoredLog()
        self.steps: set[str] = set()
        self.begun: set[str] = set()
        self.verified_bytes = 0
        #: How often what was read back was not what had been written.
        self.times_wrong = 0
        #: Of every leg, the milliseconds that it worked and those that it was paused.
        self.legs: list[tuple[int, int]] = []
        self.done = False

    @property
    def worked_s(self) -> float:
        """Seconds of work in all legs, without pauses."""
        return sum(worked for worked, _ in self.legs) / 1000

    @property
    def paused_s(self) -> float:
        return sum(paused for _, paused in self.legs) / 1000

    def apply(self, line: list[Any], pending: list[StoredChunk]) -> None:
        """One line; raises KeyError, ValueError, TypeError or IndexError when it makes no sense."""
        kind = line[0]
        if kind == "begin":
            if line[1] != SCHEMA:
                raise ValueError(f"schema {line[1]}")
            self.plan_hash = str(line[2])
        elif kind == "chunk":
            pending.append(self._chunk(line))
        elif kind == "sync":
            for chunk, at, lengths in pending:
                self.chunks.add(chunk)
                if lengths:
                    self.stored.add(chunk.start, at, lengths)
            pending.clear()
        elif kind == "lost":
            self.lost.append(self._range(line, self._limits.source_bytes))
        elif kind == "forget":
            self._forget([self._range(line, self._limits.target_bytes)])
        elif kind == "wrong":
            self._forget([self._range([kind, *pair], self._limits.target_bytes) for pair in line[1]])
            self.times_wrong += 1
        elif kind == "step":
            self.steps.add(str(line[1]))
        elif kind == "undo":
            self.steps -= {str(name) for name in line[1]}
            self.done = False
        elif kind == "begun":
            self.begun.add(str(line[1]))
        elif kind == "verified":
            self.verified_bytes = _number(line[1], self._limits.target_bytes * 2)
        elif kind == "leg":
            self.legs.append((0, 0))
        elif kind == "time":
            self.legs[-1] = (_number(line[1], _LONGEST_MS), _number(line[2], _LONGEST_MS))
        elif kind == "done":
            self.done = True
        elif kind != "unused":  # what a person said of the time between two legs stands there to be read
            raise ValueError(f"an unknown line “{kind}”")

    def _forget(self, ranges: Sequence[tuple[int, int]]) -> None:
        self.chunks.forget(ranges)
        self.stored.forget(ranges)

    def _chunk(self, line: list[Any]) -> StoredChunk:
        digest = bytes.fromhex(line[3])
        start, end = self._range(line, self._limits.target_bytes)
        if len(digest) != 32:
            raise ValueError("an impossible digest")
        if len(line) == 4:
            return Chunk(start, end, digest), 0, []
        lengths = [_number(length, 1 << 32) for length in line[5]]
        if len(lengths) > 1 << 16:
            raise ValueError("an impossible chunk")
        return Chunk(start, end, digest), _number(line[4], 1 << 60), lengths

    def _range(self, line: list[Any], limit: int) -> tuple[int, int]:
        start, end = _number(line[1], limit), _number(line[2], limit)
        if start >= end:
            raise ValueError("an impossible range")
        return start, end


def _number(value: Any, most: int) -> int:
    if type(value) is not int or not 0 <= value <= most:
        raise ValueError(f"an impossible figure {value}")
    return value


class Leg:
    """One run of a work that may take several: the time since it began, as the journal keeps it."""

    def __init__(self, control: Control, clock: Clock) -> None:
        self._control, self._clock, self._began = control, clock, clock.now()

    def line(self) -> list[Any]:
        """Milliseconds of work and of pauses so far, by the work's own clock."""
        paused_s = self._control.rested_s * self._clock.pace
        worked_s = max(0.0, self._clock.now() - self._began - paused_s)
        return ["time", round(worked_s * 1000), round(paused_s * 1000)]


class Journal:
    """An open journal. Lines are on the medium when `append` has returned."""

    def __init__(self, path: Path, state: JournalState, size: int) -> None:
        self.path = path
        self.state = state
        self._finished: CannotRecord | None = None
        try:
            self._descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o644)
            os.ftruncate(self._descriptor, size)
            os.lseek(self._descriptor, 0, os.SEEK_END)
        except OSError as error:
            raise BadRecord(
                f"The journal “{path}” cannot be written ({error.strerror}); nothing was written.", "Free space there."
            ) from error

    @classmethod
    def start(cls, path: Path, plan_hash: str, limits: JournalLimits = _UNLIMITED) -> Journal:
        """A new journal; one that stood there is replaced."""
        journal = cls(path, JournalState(limits), 0)
        journal.append([["begin", SCHEMA, plan_hash]])
        return journal

    @classmethod
    def resume(cls, path: Path, plan_hash: str, limits: JournalLimits = _UNLIMITED) -> Journal:
        """Go on with the journal at `path`; raises BadRecord when it is damaged or belongs to another plan."""
        try:
            with path.open("rb") as file:
                state, size = read_state(file, path.name, limits)
        except OSError as error:
            raise BadRecord(
                f"The journal “{path.name}” cannot be read ({error.strerror}).", "Check the folder."
            ) from error
        if not size:
            return cls.start(path, plan_hash, limits)
        if state.plan_hash != plan_hash:
            raise BadRecord(
                f"The journal “{path.name}” belongs to another plan; nothing was written.",
                "Use the plan that the transfer was started with, or delete the journal and start over.",
            )
        return cls(path, state, size)

    def append(self, lines: Sequence[list[Any]]) -> None:
        """Apply and store `lines`; raises CannotRecord when the folder takes no more, and ever after."""
        self._write(b"".join(_encode(line) for line in lines))
        pending: list[StoredChunk] = []
        for line in lines:
            self.state.apply(line, pending)

    def _write(self, text: bytes | bytearray) -> None:
        if self._finished is not None:
            raise self._finished
        try:
            view = memoryview(text)
            while view:
                view = view[os.write(self._descriptor, view) :]
            os.fdatasync(self._descriptor)
        except OSError as error:
            self._finished = CannotRecord(
                f"The journal “{self.path}” cannot be written ({error.strerror}); the work cannot go on safely.",
                "Free space there and run the same command again, a transfer with --resume.",
            )
            raise self._finished from error

    def add_chunks(self, chunks: ChunkLog, lost: Sequence[tuple[int, int]], time: list[Any] | None = None) -> None:
        """Record chunks that the new drive has confirmed, source ranges that could not be read, and the leg's time."""
        last = [time] if time is not None else []
        encode, text = msgspec.json.Encoder().encode, bytearray()
        for start, end, digest in chunks:
            row = encode(("chunk", start, end, digest.hex()))
            text += b"%08x %s\n" % (zlib.crc32(row), row)
        for place in lost:
            text += _encode(["lost", *place])
        text += b"".join(_encode(line) for line in (["sync"], *last))
        self._write(text)
        self.state.chunks.append(chunks)
        self.state.lost += lost
        for line in last:
            self.state.apply(line, [])

    def add_stored(self, stored: Sequence[StoredChunk], lost: Sequence[tuple[int, int]], time: list[Any]) -> None:
        """As `add_chunks`, for chunks that stand in an image file: from `at` on, in pieces of these lengths."""
        lines: list[list[Any]] = [["chunk", c.start, c.end, c.digest.hex(), at, lengths] for c, at, lengths in stored]
        lines += [["lost", start, end] for start, end in lost]
        self.append([*lines, ["sync"], time])

    def close(self) -> None:
        os.close(self._descriptor)


def _encode(line: list[Any]) -> bytes:
    text = msgspec.json.encode(line)
    return b"%08x %s\n" % (zlib.crc32(text), text)


def read_state(file: IO[bytes], name: str, limits: JournalLimits = _UNLIMITED) -> tuple[JournalState, int]:
    """The state, and how many bytes of `file` are whole lines; raises BadRecord for damage before the last line.

    Read line by line, whatever the size of the drive.
    """
    state, pending = JournalState(limits), list[StoredChunk]()
    at, decoder = 0, msgspec.json.Decoder(list)
    while line := file.readline(_LONGEST_LINE):
        try:
            if line[-1:] != b"\n" or line[8:9] != b" " or int(line[:8], 16) != zlib.crc32(line[9:-1]):
                raise ValueError("checksum")
            state.apply(decoder.decode(line[9:-1]), pending)
        except (ValueError, KeyError, TypeError, IndexError, msgspec.MsgspecError) as error:
            if not at and b"neogenesis.journal/1" in line:
                raise BadRecord(
                    f"The journal “{name}” was begun by an older version; nothing was written.",
                    "Plan again and start the transfer over; the old drive is untouched.",
                ) from error
            if not file.read(1):
                return state, at
            raise BadRecord(
                f"The journal “{name}” is damaged at byte {at}; nothing was written.",
                "Delete it and start the transfer over; the old drive is untouched.",
            ) from error
        at += len(line)
    return state, at


def belongs_to(path: Path, plan_hash: str) -> bool:
    """Whether a journal stands at `path` that was begun for the plan with this hash; reads its first line only."""
    try:
        with path.open("rb") as file:
            first = file.readline(4096)
        line = msgspec.json.decode(first[9:], type=list)
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError):
        return False
    return len(line) == 3 and line[2] == plan_hash
