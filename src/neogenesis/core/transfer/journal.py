"""The journal: an append-only file from which a transfer goes on after any kind of end.

Each line is eight hexadecimal digits of CRC-32, a space, and a JSON array. Chunk lines count only when a
`sync` line follows: then the new drive had confirmed them. A torn last line is what a cut leaves and is cut off;
anything else that does not add up means that the file was damaged.
"""

from __future__ import annotations

import os
import zlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec

from neogenesis.core.errors import BadRecord
from neogenesis.core.transfer.chunks import Chunk, ChunkLog

SCHEMA = "neogenesis.journal/1"
StoredChunk = tuple[Chunk, int, list[int]]


class JournalState:
    """What a journal says has happened."""

    def __init__(self) -> None:
        self.plan_hash = ""
        self._placed: dict[int, tuple[int, list[int]]] = {}
        self.chunks = ChunkLog()
        self.lost: list[tuple[int, int]] = []
        self.stored: dict[int, tuple[int, list[int]]] = {}
        self.prepared: set[int] = set()
        self.cleared = False
        self.copied = False
        self.verified = False
        self.verified_bytes = 0
        self.done = False

    def apply(self, line: list[Any], pending: list[Chunk]) -> None:
        """One line; raises KeyError, ValueError, TypeError or IndexError when it makes no sense."""
        kind = line[0]
        if kind == "begin":
            if line[1] != SCHEMA:
                raise ValueError(f"schema {line[1]}")
            self.plan_hash = str(line[2])
        elif kind == "chunk":
            digest = bytes.fromhex(line[3])
            if len(digest) != 32 or not 0 <= line[1] < line[2]:
                raise ValueError("an impossible chunk")
            pending.append(Chunk(int(line[1]), int(line[2]), digest))
            if len(line) == 6:
                self._placed[int(line[1])] = (int(line[4]), [int(length) for length in line[5]])
        elif kind == "sync":
            for chunk in pending:
                self.chunks.add(chunk)
            pending.clear()
            self.stored |= self._placed
            self._placed = {}
        elif kind == "lost":
            self.lost.append((int(line[1]), int(line[2])))
        elif kind == "prepared":
            self.prepared.add(int(line[1]))
        elif kind == "forget":
            self.chunks.forget(int(line[1]), int(line[2]))
        elif kind == "verified":
            self.verified, self.verified_bytes = True, int(line[1])
        elif kind in ("cleared", "copied", "done"):
            setattr(self, kind, True)
        else:
            raise ValueError(f"an unknown line “{kind}”")


class Journal:
    """An open journal. Lines are on the medium when `append` has returned."""

    def __init__(self, path: Path, state: JournalState, size: int) -> None:
        self.path = path
        self.state = state
        try:
            self._descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o644)
            os.ftruncate(self._descriptor, size)
            os.lseek(self._descriptor, 0, os.SEEK_END)
        except OSError as error:
            raise BadRecord(
                f"The journal “{path}” cannot be written ({error.strerror}).", "Free space there."
            ) from error

    @classmethod
    def start(cls, path: Path, plan_hash: str) -> Journal:
        """A new journal; one that stood there is replaced."""
        journal = cls(path, JournalState(), 0)
        journal.append([["begin", SCHEMA, plan_hash]])
        return journal

    @classmethod
    def resume(cls, path: Path, plan_hash: str) -> Journal:
        """Go on with the journal at `path`; raises BadRecord when it is damaged or belongs to another plan."""
        try:
            raw = path.read_bytes()
        except OSError as error:
            raise BadRecord(
                f"The journal “{path.name}” cannot be read ({error.strerror}).", "Check the folder."
            ) from error
        state, size = read_state(raw, path.name)
        if not size:
            return cls.start(path, plan_hash)
        if state.plan_hash != plan_hash:
            raise BadRecord(
                f"The journal “{path.name}” belongs to another plan; nothing was written.",
                "Use the plan that the transfer was started with, or delete the journal and start over.",
            )
        return cls(path, state, size)

    def append(self, lines: Sequence[list[Any]]) -> None:
        """Apply and store `lines`; raises BadRecord when the folder takes no more."""
        pending: list[Chunk] = []
        text = b"".join(_encode(line) for line in lines)
        try:
            view = memoryview(text)
            while view:
                view = view[os.write(self._descriptor, view) :]
            os.fdatasync(self._descriptor)
        except OSError as error:
            raise BadRecord(
                f"The journal “{self.path}” cannot be written ({error.strerror}); the transfer cannot go on safely.",
                "Free space there and run the transfer again with --resume.",
            ) from error
        for line in lines:
            self.state.apply(line, pending)

    def add_chunks(self, chunks: Sequence[Chunk], lost: Sequence[tuple[int, int]]) -> None:
        """Record chunks that the new drive has confirmed, and source ranges that could not be read."""
        lines: list[list[Any]] = [["chunk", c.start, c.end, c.digest.hex()] for c in chunks]
        lines += [["lost", start, end] for start, end in lost]
        self.append([*lines, ["sync"]])

    def add_stored(self, stored: Sequence[StoredChunk], lost: Sequence[tuple[int, int]]) -> None:
        """As `add_chunks`, for chunks that stand in an image file: from `at` on, in pieces of these lengths."""
        lines: list[list[Any]] = [["chunk", c.start, c.end, c.digest.hex(), at, lengths] for c, at, lengths in stored]
        lines += [["lost", start, end] for start, end in lost]
        self.append([*lines, ["sync"]])

    def close(self) -> None:
        os.close(self._descriptor)


def _encode(line: list[Any]) -> bytes:
    text = msgspec.json.encode(line)
    return b"%08x %s\n" % (zlib.crc32(text), text)


def read_state(raw: bytes, name: str) -> tuple[JournalState, int]:
    """The state, and how many bytes of `raw` are whole lines; raises BadRecord for damage before the last line."""
    state, pending = JournalState(), list[Chunk]()
    at = 0
    while at < len(raw):
        end = raw.find(b"\n", at)
        line = raw[at : end if end >= 0 else len(raw)]
        try:
            if end < 0 or line[8:9] != b" " or int(line[:8], 16) != zlib.crc32(line[9:]):
                raise ValueError("checksum")
            state.apply(msgspec.json.decode(line[9:], type=list), pending)
        except (ValueError, KeyError, TypeError, IndexError, msgspec.MsgspecError) as error:
            if end < 0 or raw.find(b"\n", end + 1) < 0:
                return state, at
            raise BadRecord(
                f"The journal “{name}” is damaged at byte {at}; nothing was written.",
                "Delete it and start the transfer over; the old drive is untouched.",
            ) from error
        at = end + 1
    return state, at


def belongs_to(path: Path, plan_hash: str) -> bool:
    """Whether a journal stands at `path` that was begun for the plan with this hash; reads its first line only."""
    try:
        with path.open("rb") as file:
            state, _ = read_state(file.readline(4096), path.name)
    except (OSError, BadRecord):
        return False
    return state.plan_hash == plan_hash
