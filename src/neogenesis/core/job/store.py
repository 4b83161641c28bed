"""Where jobs live: a database through SQLAlchemy, and one dossier folder for each job.

What was committed survives a cut at any moment. A database that cannot be read is kept aside, never deleted.
"""

from __future__ import annotations

import re
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec
from sqlalchemy import ForeignKey, String, Text, create_engine, event, select
from sqlalchemy.exc import DatabaseError, IntegrityError
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column

from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.job.model import Job, LogEntry
from neogenesis.core.record import to_json


class _Base(DeclarativeBase):
    pass


class _JobRow(_Base):
    __tablename__ = "job"
    ticket: Mapped[str] = mapped_column(String(40), primary_key=True)
    customer: Mapped[str] = mapped_column(Text)
    machine: Mapped[str] = mapped_column(Text)
    promise: Mapped[str] = mapped_column(Text)
    wish: Mapped[str] = mapped_column(Text)
    intent: Mapped[str] = mapped_column(String(20))
    stop: Mapped[str] = mapped_column(String(20))
    old_drive: Mapped[str] = mapped_column(Text)
    new_drive: Mapped[str] = mapped_column(Text)
    closed: Mapped[bool]


class _LogRow(_Base):
    __tablename__ = "log"
    ticket: Mapped[str] = mapped_column(ForeignKey("job.ticket"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[str] = mapped_column(String(40))
    who: Mapped[str] = mapped_column(Text)
    kind: Mapped[str] = mapped_column(String(40))
    text: Mapped[str] = mapped_column(Text)
    figures: Mapped[str] = mapped_column(Text)
    previous: Mapped[str] = mapped_column(String(64))
    hash: Mapped[str] = mapped_column(String(64))


_JOB_FIELDS = tuple(Job.__struct_fields__)


class JobStore:
    """All jobs of a bench. `folder` holds the dossiers; `url` names the database, by default a file in it."""

    def __init__(self, folder: Path, url: str = "") -> None:
        """`trouble` says in words when an unreadable database was set aside; raises BadRecord when nothing works."""
        self.folder = folder
        self.trouble = ""
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise BadRecord(f"The folder “{folder}” cannot be made ({error.strerror}).", "Choose another.") from error
        file = folder / "jobs.db"
        self._url = url or f"sqlite:///{file}"
        try:
            self._open()
        except DatabaseError as error:
            if url:
                raise BadRecord("The database of jobs cannot be read.", "Check its server.") from error
            aside = _set_aside(file)
            self.trouble = (
                f"The database of jobs could not be read. It was kept as “{aside.name}”, nothing was deleted, and a "
                "new one was begun; the dossier folders are all still there."
            )
            self._open()

    def _open(self) -> None:
        self._engine = create_engine(self._url)
        if self._engine.dialect.name == "sqlite":

            @event.listens_for(self._engine, "connect")
            def _careful(connection: Any, record: Any) -> None:
                connection.execute("PRAGMA synchronous=FULL")
                connection.execute("PRAGMA foreign_keys=ON")

        try:
            _Base.metadata.create_all(self._engine)
            with Session(self._engine) as session:
                session.scalars(select(_JobRow)).all()
        except DatabaseError:
            self._engine.dispose()
            raise

    def close(self) -> None:
        self._engine.dispose()

    def dossier(self, ticket: str) -> Path:
        """The folder of a job, made when it is asked for."""
        folder = self.folder / "jobs" / (re.sub(r"[^\w.-]", "_", ticket).strip(".") or "_")
        folder.mkdir(parents=True, exist_ok=True)
        return folder

    def jobs(self) -> list[Job]:
        """Open jobs first, each by its promise."""
        with Session(self._engine) as session:
            rows = session.scalars(select(_JobRow).order_by(_JobRow.closed, _JobRow.promise, _JobRow.ticket)).all()
            return [_job(row) for row in rows]

    def job(self, ticket: str) -> Job:
        """Raises BadArgument for a ticket that there is not."""
        with Session(self._engine) as session:
            row = session.get(_JobRow, ticket)
            if row is None:
                raise BadArgument(f"There is no job “{ticket}”.", "Pick one from the list.")
            return _job(row)

    def add(self, job: Job) -> None:
        """Raises BadArgument when the ticket is empty or taken."""
        if not job.ticket.strip():
            raise BadArgument("A job needs a ticket.", "Type the number on the tag.")
        with Session(self._engine) as session:
            session.add(_JobRow(**{name: getattr(job, name) for name in _JOB_FIELDS}))
            try:
                session.commit()
            except IntegrityError as error:
                raise BadArgument(f"There is a job “{job.ticket}” already.", "Give it another ticket.") from error

    def update(self, ticket: str, **changes: Any) -> Job:
        """Change fields of a job; returns it as it is now."""
        with Session(self._engine) as session:
            row = session.get(_JobRow, ticket)
            if row is None:
                raise BadArgument(f"There is no job “{ticket}”.", "Pick one from the list.")
            for name, value in changes.items():
                setattr(row, name, value)
            session.commit()
            return _job(row)

    def log(self, ticket: str) -> list[LogEntry]:
        """Entries in the order in which they were made."""
        with Session(self._engine) as session:
            rows = session.scalars(select(_LogRow).where(_LogRow.ticket == ticket).order_by(_LogRow.number)).all()
            return [_entry(row) for row in rows]

    def append(self, ticket: str, at: str, who: str, kind: str, text: str, **figures: Any) -> LogEntry:
        """Add an entry that carries the hash of the one before; it is also added to the dossier's `logbook.jsonl`."""
        with Session(self._engine) as session:
            last = session.scalars(
                select(_LogRow).where(_LogRow.ticket == ticket).order_by(_LogRow.number.desc()).limit(1)
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
            session.add(_LogRow(ticket=ticket, **{**row, "figures": to_json(figures).decode()}))
            session.commit()
        with suppress(OSError), (self.dossier(ticket) / "logbook.jsonl").open("ab") as file:
            file.write(msgspec.json.encode(entry) + b"\n")
        return entry

    def broken_entry(self, ticket: str) -> int | None:
        """Number of the first entry whose hash or link is wrong; None when the chain holds."""
        previous = ""
        for expected, entry in enumerate(self.log(ticket), 1):
            if entry.number != expected or entry.previous != previous or entry.seal(ticket) != entry.hash:
                return entry.number
            previous = entry.hash
        return None


def _job(row: _JobRow) -> Job:
    return Job(**{name: getattr(row, name) for name in _JOB_FIELDS})


def _entry(row: _LogRow) -> LogEntry:
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


def _set_aside(file: Path) -> Path:
    """Rename an unreadable database to a free name beside it."""
    number = 1
    while (aside := file.with_name(f"{file.name}.unreadable-{number}")).exists():
        number += 1
    file.rename(aside)
    return aside
