"""An old drive that stays with the shop after the handover: until when, and what became of it."""

from __future__ import annotations

from datetime import date, timedelta
from pathlib import Path
from typing import ClassVar, Literal

import msgspec

from neogenesis.core.errors import BadArgument, NeogenesisError
from neogenesis.core.intake.model import Later
from neogenesis.core.record import Record, load, save

FILE = "old-drive.json"
End = Literal["", "returned", "wiped"]


class KeptDrive(Record, frozen=True, kw_only=True):
    """`since` is the day of the handover, `until` that from which on it may be wiped, empty until somebody confirms."""

    SCHEMA: ClassVar[str] = "neogenesis.old-drive/1"

    schema: str = SCHEMA
    drive: str
    since: str
    until: str = ""
    ended: End = ""
    ended_at: str = ""

    def is_due(self, today: date) -> bool:
        """Whether somebody should see to it."""
        return not self.ended and bool(self.until) and today.isoformat() >= self.until


def kept_drive(later: Later, drive: str, today: date) -> KeptDrive | None:
    """For what was agreed at Intake; None where it goes back with the machine. What is to be wiped is kept as long."""
    if later.old_parts not in ("kept", "wiped"):
        return None
    weeks = timedelta(weeks=max(1, later.kept_weeks))
    return KeptDrive(drive=drive, since=today.isoformat(), until=(today + weeks).isoformat())


def ended(kept: KeptDrive, how: End, today: date) -> KeptDrive:
    """Given back, or wiped: never on the day of the handover. Raises BadArgument."""
    if kept.ended:
        raise BadArgument("The old drive was seen to already.", "Look at the logbook.")
    if how == "wiped" and today.isoformat() <= kept.since:
        raise BadArgument(
            "The old drive is not wiped on the day of the handover; nothing was written.",
            "Wait until the customer has started the machine a few times.",
        )
    return msgspec.structs.replace(kept, ended=how, ended_at=today.isoformat())


def load_kept(dossier: Path) -> KeptDrive | None:
    """None where there is none, or where its record cannot be read."""
    path = dossier / FILE
    if not path.exists():
        return None
    try:
        return load(path, KeptDrive, "record of the old drive")
    except NeogenesisError:
        return None


def save_kept(dossier: Path, kept: KeptDrive) -> None:
    """Raises BadRecord."""
    save(dossier / FILE, kept)
