"""A job and its log entries as records."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import msgspec
from blake3 import blake3

from neogenesis.core.drive import Identity
from neogenesis.core.record import Record, to_json

#: One of the two drives of a job.
Which = Literal["old", "new"]


class Job(Record, frozen=True, kw_only=True):
    """`stop` is the key of the stop where the job is.

    `old_drive` and `new_drive` say where the drives were when they were chosen, as DRIVE arguments; `old_identity` and
    `new_identity` who they are, as JSON of an `Identity`, empty in records from before that was kept. `shelf` is where
    the job is kept: empty on the list, `archived`, or `removed` from sight; its logbook and dossier stay in any case.
    `kept` is `here` while the old drive stays with the shop after the handover, `kept_until` the day until when; empty
    while nobody has said so.
    """

    ticket: str
    customer: str
    machine: str
    promise: str = ""
    wish: str = ""
    intent: str = "replace"
    stop: str = "survey"
    old_drive: str = ""
    new_drive: str = ""
    closed: bool = False
    old_identity: str = ""
    new_identity: str = ""
    contact: str = ""
    shelf: str = ""
    kept: str = ""
    kept_until: str = ""

    def identity(self, which: Which) -> Identity | None:
        """Who the old or the new drive is, if that is on record."""
        text = self.old_identity if which == "old" else self.new_identity
        try:
            return msgspec.json.decode(text, type=Identity) if text else None
        except msgspec.MsgspecError:
            return None

    def place(self, which: Which) -> str:
        """Where that drive was when it was chosen; empty for none."""
        return self.old_drive if which == "old" else self.new_drive


class LogEntry(Record, frozen=True, kw_only=True):
    """One line of the logbook. `hash` covers everything else, `previous` is the hash of the entry before."""

    number: int
    at: str
    who: str
    kind: str
    text: str
    figures: dict[str, Any] = {}
    previous: str = ""
    hash: str = ""

    def seal(self, ticket: str) -> str:
        """What `hash` must be."""
        parts = [ticket, self.number, self.at, self.who, self.kind, self.text, self.figures, self.previous]
        return blake3(to_json(parts)).hexdigest()


@dataclass(frozen=True, slots=True)
class Glance:
    """What is seen of a logbook from afar: its latest entry, as in `LogEntry`, and who wrote into it."""

    at: str
    kind: str
    text: str
    people: frozenset[str]


def first_broken(ticket: str, entries: Sequence[LogEntry]) -> int | None:
    """Number of the first entry whose hash or link is wrong; None when the chain holds."""
    previous = ""
    for expected, entry in enumerate(entries, 1):
        if entry.number != expected or entry.previous != previous or entry.seal(ticket) != entry.hash:
            return entry.number
        previous = entry.hash
    return None
