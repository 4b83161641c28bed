"""A job and its log entries as records."""

from __future__ import annotations

from typing import Any

from blake3 import blake3

from neogenesis.core.record import Record, to_json


class Job(Record, frozen=True, kw_only=True):
    """`stop` is the key of the stop where the job is; `old_drive` and `new_drive` are DRIVE arguments."""

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
