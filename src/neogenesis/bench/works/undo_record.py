"""What a remedy has changed on a drive, kept so that it can be put back byte for byte."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar, Literal

from blake3 import blake3

from neogenesis.core.drive import Drive, Identity
from neogenesis.core.errors import BadRecord
from neogenesis.core.record import Record
from neogenesis.core.store import ReadableStore

#: Changes are told and compared in pieces of this many bytes.
PIECE = 512


class Change(Record, frozen=True, kw_only=True):
    """`before` and `after` are hexadecimal; both are as long as each other."""

    start: int
    before: str
    after: str


class UndoRecord(Record, frozen=True, kw_only=True):
    """What stood there before, with the digests of both: BLAKE3 over the pieces in their order.

    `state` is `begun` until all is written and read back; then it is `finished`, or `undone` again.
    """

    SCHEMA: ClassVar[str] = "neogenesis.undo/1"

    schema: str = SCHEMA
    code: str
    drive: Identity
    size_bytes: int
    changes: tuple[Change, ...]
    before_digest: str
    after_digest: str
    state: Literal["begun", "finished", "undone"] = "finished"

    @property
    def rows(self) -> list[tuple[int, bytes, bytes]]:
        """Place, what stood there, what was written; raises ValueError for what is not hexadecimal."""
        return [(c.start, bytes.fromhex(c.before), bytes.fromhex(c.after)) for c in self.changes]


def record_of(code: str, drive: Drive, changes: Sequence[tuple[int, bytes, bytes]]) -> UndoRecord:
    before, after = blake3(), blake3()
    for _, old, new in changes:
        before.update(old)
        after.update(new)
    rows = tuple(Change(start=at, before=old.hex(), after=new.hex()) for at, old, new in changes)
    return UndoRecord(
        code=code,
        drive=drive.identity,
        size_bytes=drive.size_bytes,
        changes=rows,
        before_digest=before.hexdigest(),
        after_digest=after.hexdigest(),
        state="begun",
    )


def check_record(made: UndoRecord, name: str) -> None:
    """Raises BadRecord unless it holds together as a whole."""
    before, after, at = blake3(), blake3(), 0
    try:
        for change in made.changes:
            old, new = bytes.fromhex(change.before), bytes.fromhex(change.after)
            if len(old) != len(new) or change.start < at or change.start + len(old) > made.size_bytes:
                raise ValueError
            at = change.start + len(old)
            before.update(old)
            after.update(new)
        if (before.hexdigest(), after.hexdigest()) != (made.before_digest, made.after_digest):
            raise ValueError
    except ValueError as error:
        raise BadRecord(f"The record “{name}” is damaged; nothing was written.", "Restore a copy of it.") from error


def in_pieces(changes: Sequence[tuple[int, bytes, bytes]]) -> list[tuple[int, tuple[bytes, bytes]]]:
    """Each piece may hold what was written, or, where the remedy was cut off, what stood there before."""
    return [
        (at + n, (new[n : n + PIECE], old[n : n + PIECE]))
        for at, old, new in changes
        for n in range(0, len(old), PIECE)
    ]


def what_is_held(store: ReadableStore, made: UndoRecord) -> Literal["before", "after", "half", "other"]:
    """What of a remedy the drive holds."""
    pieces = in_pieces(made.rows)
    found = [(store.read(at, len(new)), new, old) for at, (new, old) in pieces]
    if any(there not in (new, old) for there, new, old in found):
        return "other"
    if all(there == old for there, _, old in found):
        return "before"
    return "after" if all(there == new for there, new, _ in found) else "half"
