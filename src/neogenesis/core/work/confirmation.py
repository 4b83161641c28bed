"""What a person agreed to: one work on one drive as it was put in, and nothing else."""

from __future__ import annotations

from typing import Any, ClassVar

import msgspec
from blake3 import blake3

from neogenesis.core.drive import Drive, Identity
from neogenesis.core.errors import Refused
from neogenesis.core.record import Record

_SHORT = 8


class Confirmation(Record, frozen=True, kw_only=True):
    """`work` is the hash of exactly what will run (`work_hash`, or that of a plan).

    `held` is the mark of what stood on the new drive (`core.drive.mark`), `insertion` how this putting in of it is told
    from any other; either is empty where it is not known. `run` names this one run in records and events.
    """

    SCHEMA: ClassVar[str] = "neogenesis.confirmation/1"

    schema: str = SCHEMA
    work: str
    target: Identity
    source: Identity | None = None
    held: str = ""
    insertion: str = ""
    ticket: str = ""
    who: str = ""
    at: str = ""
    run: str = ""


def work_hash(kind: str, **facts: Any) -> str:
    """What tells one work from every other: BLAKE3 over its kind and all that decides what it does."""
    return blake3(msgspec.json.encode([kind, facts], order="sorted")).hexdigest()


def short_hash(work: str) -> str:
    """So much of a work's hash as a person compares."""
    return work[:_SHORT]


def refuse_other_work(confirmed: Confirmation, work: str) -> None:
    """Raises Refused unless what is about to run is what was confirmed."""
    if confirmed.work != work:
        raise Refused(
            "not-confirmed",
            f"What would run now ({short_hash(work)}) is not what was confirmed ({short_hash(confirmed.work)}); "
            "nothing was written.",
            "Look at it as it is now, and confirm that.",
        )


def refuse_other_drive(confirmed: Confirmation, drive: Drive, insertion: str) -> None:
    """Raises Refused unless `drive`, put in as it is now, is the one that was confirmed."""
    if not confirmed.target.is_same(drive.identity):
        raise Refused(
            "not-confirmed",
            "The new drive is not the one that was confirmed; nothing was written.",
            "Connect that one, or confirm the one that is here.",
        )
    if confirmed.insertion and insertion and confirmed.insertion != insertion:
        raise Refused(
            "insertion",
            "The new drive was taken out or exchanged after it was confirmed; nothing was written.",
            "Look at what is in the dock now, and confirm it again.",
        )


def refuse_other_contents(confirmed: Confirmation, held: str) -> None:
    """Raises Refused when the new drive holds something else by now than when it was confirmed."""
    if confirmed.held and confirmed.held != held:
        raise Refused(
            "target-changed",
            "The new drive holds something else than when it was confirmed; nothing was written.",
            "Look at what it holds now, and confirm it again.",
        )
