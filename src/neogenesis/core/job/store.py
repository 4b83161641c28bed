"""Where jobs live: a database through SQLAlchemy, and one dossier folder for each job.

What was committed survives a cut at any moment. Who opens the database is the bench (`bench/records`).
"""

from __future__ import annotations

import re
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec
from sqlalchemy import Engine, exists, func, or_, select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from neogenesis.core.errors import BadArgument, CannotRecord
from neogenesis.core.job.model import Glance, Job, LogEntry, first_broken
from neogenesis.core.job.old_drive import FILE as OLD_DRIVE
from neogenesis.core.job.old_drive import KeptDrive, load_kept
from neogenesis.core.job.tables import JobRow, LogRow
from neogenesis.core.record import to_json

_MOST_TRIES = 50
#: How kinds of entries end that say how long work ended.
_ENDS = ("-done", "-partial", "-stopped", "-failed", "-refused", "-mismatch")
_JOB_FIELDS = tuple(Job.__struct_fields__)


class JobStore:
    """All jobs of a bench. `folder` holds the dossiers; the database's engine is handed in."""

    def __init__(self, folder: Path, engine: Engine, trouble: str = "") -> None:
        """`trouble` says in words what happened when the database was opened; tables must be up to date."""
        self.folder, self._engine, self.trouble = folder, engine, trouble

    def close(self) -> None:
        self._engine.dispose()

    def folder_name(self, ticket: str) -> str:
        return re.sub(r"[^\w.-]", "_", ticket).strip(".") or "_"

    def dossier(self, ticket: str) -> Path:
        """The folder of a job, made when it is asked for."""
        folder = self.folder / "jobs" / self.folder_name(ticket)
        folder.mkdir(parents=True, exist_ok=True)
        return folder

    def kept_drives(self) -> dict[str, KeptDrive]:
        """Old drives that stayed with the shop, by the name of their job's folder."""
        found = {path.parent.name: load_kept(path.parent) for path in (self.folder / "jobs").glob(f"*/{OLD_DRIVE}")}
        return {name: kept for name, kept in found.items() if kept is not None}

    def jobs(self) -> list[Job]:
        """Open jobs first, each by its promise; without those that were removed from sight."""
        with Session(self._engine) as session:
            kept = select(JobRow).where(JobRow.shelf != "removed")
            rows = session.scalars(kept.order_by(JobRow.closed, JobRow.promise, JobRow.ticket)).all()
            return [_job(row) for row in rows]

    def job(self, ticket: str) -> Job:
        """Raises BadArgument for a ticket that there is not."""
        with Session(self._engine) as session:
            row = session.get(JobRow, ticket)
            if row is None:
                raise BadArgument(f"There is no job “{ticket}”.", "Pick one from the list.")
            return _job(row)

    def add(self, job: Job) -> None:
        """Raises BadArgument when the ticket is empty or taken."""
        if not job.ticket.strip():
            raise BadArgument("A job needs a ticket.", "Type the number on the tag.")
        with Session(self._engine) as session:
            session.add(JobRow(**{name: getattr(job, name) for name in _JOB_FIELDS}))
            try:
                session.commit()
            except IntegrityError as error:
                raise BadArgument(f"There is a job “{job.ticket}” already.", "Give it another ticket.") from error

    def update(self, ticket: str, **changes: Any) -> Job:
        """Change fields of a job; returns it as it is now."""
        with Session(self._engine) as session:
            row = session.get(JobRow, ticket)
            if row is None:
                raise BadArgument(f"There is no job “{ticket}”.", "Pick one from the list.")
            for name, value in changes.items():
                setattr(row, name, value)
            session.commit()
            return _job(row)

    def unfinished(self) -> list[str]:
        """Tickets whose logbook says that something began and not how it ended."""
        began = select(LogRow.ticket, func.max(LogRow.number).label("last")).where(LogRow.kind.endswith("-start"))
        starts = began.group_by(LogRow.ticket).subquery()
        says_how = or_(*(LogRow.kind.endswith(ending) for ending in _ENDS))
        ended = exists().where(LogRow.ticket == starts.c.ticket, LogRow.number > starts.c.last, says_how)
        with Session(self._engine) as session:
            return list(session.scalars(select(starts.c.ticket).where(~ended)))

    def log(self, ticket: str) -> list[LogEntry]:
        """Entries in the order in which they were made."""
        with Session(self._engine) as session:
            rows = session.scalars(select(LogRow).where(LogRow.ticket == ticket).order_by(LogRow.number)).all()
            return [_entry(row) for row in rows]

    def glances(self) -> dict[str, Glance]:
        """Of every job with a logbook: its latest entry, and everybody who wrote into it."""
        last = select(LogRow.ticket, func.max(LogRow.number).label("last")).group_by(LogRow.ticket).subquery()
        latest = select(LogRow.ticket, LogRow.at, LogRow.kind, LogRow.text).join(
            last, (LogRow.ticket == last.c.ticket) & (LogRow.number == last.c.last)
        )
        with Session(self._engine) as session:
            people: dict[str, set[str]] = {}
            for ticket, who in session.execute(select(LogRow.ticket, LogRow.who).distinct()):
                people.setdefault(ticket, set()).add(who)
            return {
                ticket: Glance(at, kind, text, frozenset(people.get(ticket, ())))
                for ticket, at, kind, text in session.execute(latest)
            }

    def append(self, ticket: str, at: str, who: str, kind: str, text: str, **figures: Any) -> LogEntry:
        """Add an entry that carries the hash of the one before; it is also added to the dossier's `logbook.jsonl`."""
        for _ in range(_MOST_TRIES):
            with Session(self._engine) as session:
                last = session.scalars(
                    select(LogRow).where(LogRow.ticket == ticket).order_by(LogRow.number.desc()).limit(1)
                ).first()
                entry = LogEntry(
                    number=(last.number if last else 0) + 1,
                    at=at,
                    who=who,
                    kind=kind,
                    text=text,
                    figures=figures,
                    previous=last.hash if last else "",
                )
                entry = msgspec.structs.replace(entry, hash=entry.seal(ticket))
                row = {name: getattr(entry, name) for name in LogEntry.__struct_fields__}
                session.add(LogRow(ticket=ticket, **{**row, "figures": to_json(figures).decode()}))
                try:
                    session.commit()
                    break
                except IntegrityError as error:
                    session.rollback()
                    if session.get(JobRow, ticket) is None:
                        raise BadArgument(f"There is no job “{ticket}”.", "Pick one from the list.") from error
                    continue  # another window was quicker with that number: take the next one
        else:
            raise CannotRecord("The logbook could not be written: too many write to it at once.", "Try again.")
        with suppress(OSError), (self.dossier(ticket) / "logbook.jsonl").open("ab") as file:
            file.write(msgspec.json.encode(entry) + b"\n")
        return entry

    def broken_entry(self, ticket: str) -> int | None:
        """As `first_broken`, of the logbook as it stands now."""
        return first_broken(ticket, self.log(ticket))


def _job(row: JobRow) -> Job:
    return Job(**{name: getattr(row, name) for name in _JOB_FIELDS})


def _entry(row: LogRow) -> LogEntry:
    return LogEntry(
        number=row.number,
        at=row.at,
        who=row.who,
        kind=row.kind,
        text=row.text,
        previous=row.previous,
        figures=msgspec.json.decode(row.figures),
        hash=row.hash,
    )
