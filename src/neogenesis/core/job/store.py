"""Where jobs live: a database through SQLAlchemy, and one dossier folder for each job.

What was committed survives a cut at any moment. Who opens the database is the bench (`bench/records`).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import msgspec
from sqlalchemy import Connection, Engine, delete, func, or_, select
from sqlalchemy.exc import DBAPIError, IntegrityError
from sqlalchemy.orm import Session

from neogenesis.core.errors import BadArgument, BadRecord, CannotRecord
from neogenesis.core.job.model import Glance, Job, LogEntry, first_broken
from neogenesis.core.job.old_drive import FILE as OLD_DRIVE
from neogenesis.core.job.old_drive import KeptDrive, load_kept
from neogenesis.core.job.tables import JobRow, LogRow, SittingRow
from neogenesis.core.job.ticket import FILE as DOSSIER
from neogenesis.core.job.ticket import Dossier, checked_ticket, folder_name, older_folder_name, refuse_foreign
from neogenesis.core.record import load, save, to_json

_MOST_TRIES = 50
#: What begins with an entry `...-start`, and must end with one that says how.
WORKS = ("transfer", "image", "restore", "rescue", "salvage", "stick", "remedy", "undo")
#: How kinds of entries end that say how long work ended.
_ENDS = ("-done", "-partial", "-stopped", "-failed", "-refused", "-mismatch")
_JOB_FIELDS = tuple(Job.__struct_fields__)


class JobStore:
    """All jobs of a bench. `folder` holds the dossiers; the database's engine is handed in."""

    def __init__(self, folder: Path, engine: Engine, trouble: str = "", url: str = "") -> None:
        """`trouble` says in words what happened when the database was opened; tables must be up to date.

        `url` is that of a database that is not the file in `folder`.
        """
        self.folder, self._engine, self.trouble, self.url = folder, engine, trouble, url
        self._watch: Connection | None = None
        self._version = 0

    def close(self) -> None:
        if self._watch is not None:
            self._watch.close()
        self._engine.dispose()

    def changed_elsewhere(self) -> bool:
        """Whether anything was written since this was asked last, by this program or another; cheap in a file."""
        if self._engine.dialect.name != "sqlite":
            return True
        if self._watch is None:
            self._watch = self._engine.connect()
        version = int(self._watch.exec_driver_sql("PRAGMA data_version").scalar() or 0)
        self._watch.rollback()
        changed, self._version = version != self._version, version
        return changed

    def last_entries(self) -> dict[str, int]:
        """The number of the latest entry of every logbook."""
        with Session(self._engine) as session:
            rows = session.execute(select(LogRow.ticket, func.max(LogRow.number)).group_by(LogRow.ticket))
            return {str(row[0]): int(row[1]) for row in rows}

    def dossier(self, ticket: str) -> Path:
        """The folder of a job, made when it is asked for. Raises BadRecord where it cannot be had, or is another's."""
        folder = self.folder / "jobs" / folder_name(ticket)
        about = folder / DOSSIER
        try:
            if about.exists():
                refuse_foreign(load(about, Dossier, "dossier"), ticket)
                return folder
            if not folder.exists():
                self._take_older(ticket, folder)
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise BadRecord(
                f"The dossier of {ticket} cannot be opened ({error.strerror}).", "Check its folder."
            ) from error
        with suppress(BadRecord):  # on a full disk: it is written the next time
            save(about, Dossier(ticket=ticket))
        return folder

    def _take_older(self, ticket: str, folder: Path) -> None:
        """Move what an older version kept under a name that is this ticket's alone; what two share stays as it is."""
        name = older_folder_name(ticket)
        older = self.folder / "jobs" / name
        if name == folder.name or not older.is_dir() or (older / DOSSIER).exists():
            return
        with Session(self._engine) as session:
            names = Counter(older_folder_name(other) for other in session.scalars(select(JobRow.ticket)))
        if names[name] <= 1:
            older.rename(folder)

    def kept_drives(self) -> dict[str, KeptDrive]:
        """Old drives that stayed with the shop, by the name of their job's folder."""
        found = {path.parent.name: load_kept(path.parent) for path in (self.folder / "jobs").glob(f"*/{OLD_DRIVE}")}
        return {name: kept for name, kept in found.items() if kept is not None}

    def adopt_kept_drives(self) -> None:
        """Old drives that stayed with the shop before the register knew of them. Raises CannotRecord."""
        with Session(self._engine) as session:
            tickets = list(session.scalars(select(JobRow.ticket).where(JobRow.closed, JobRow.kept == "")))
        for ticket in tickets:
            kept = load_kept(self.folder / "jobs" / folder_name(ticket))
            if kept is not None:
                self.update(ticket, kept=kept.ended or "here", kept_until=kept.until)

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
        """Raises BadArgument when the ticket is none or taken, CannotRecord when it cannot be written."""
        checked_ticket(job.ticket)
        with _writing(), Session(self._engine) as session:
            session.add(JobRow(**{name: getattr(job, name) for name in _JOB_FIELDS}))
            try:
                session.commit()
            except IntegrityError as error:
                raise BadArgument(f"There is a job “{job.ticket}” already.", "Give it another ticket.") from error

    def update(self, ticket: str, **changes: Any) -> Job:
        """Change fields of a job; returns it as it is now. Raises CannotRecord when it cannot be written."""
        with _writing(), Session(self._engine) as session:
            row = session.get(JobRow, ticket)
            if row is None:
                raise BadArgument(f"There is no job “{ticket}”.", "Pick one from the list.")
            for name, value in changes.items():
                setattr(row, name, value)
            session.commit()
            return _job(row)

    def unfinished(self) -> list[str]:
        """Tickets whose logbook says that something began and not how it ended."""
        starts = LogRow.kind.in_([f"{work}-start" for work in WORKS])
        says = or_(starts, *(LogRow.kind.endswith(ending) for ending in _ENDS))
        rows = select(LogRow.ticket, LogRow.kind, LogRow.figures).where(says).order_by(LogRow.ticket, LogRow.number)
        left: dict[str, list[tuple[str, str]]] = {}
        with Session(self._engine) as session:
            for ticket, kind, figures in session.execute(rows):
                begun, run = left.setdefault(ticket, []), _run_in(figures)
                what = kind.removesuffix("-start")
                if what in WORKS:
                    begun[:] = [b for b in begun if b != (what, "")]
                    begun.append((what, run))
                else:
                    begun[:] = [b for b in begun if not _is_end_of(b, kind, run)]
        return [ticket for ticket, begun in left.items() if begun]

    def sit(self, ticket: str, window: str) -> None:
        """A window has this job open from now on."""
        with _writing(), Session(self._engine) as session:
            session.merge(SittingRow(ticket=ticket, window=window))
            session.commit()

    def leave(self, window: str) -> None:
        """A window has no job open any more."""
        with _writing(), Session(self._engine) as session:
            session.execute(delete(SittingRow).where(SittingRow.window == window))
            session.commit()

    def sitting(self, ticket: str) -> list[str]:
        """The windows that have a job open, also those that ended without leaving it."""
        with Session(self._engine) as session:
            return list(session.scalars(select(SittingRow.window).where(SittingRow.ticket == ticket)))

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
        """Add an entry that carries the hash of the one before; it is also added to the dossier's `logbook.jsonl`.

        The end of a run is written once, whoever finds it. Raises CannotRecord when it cannot be written; then nothing
        of it is on record.
        """
        run = str(figures.get("run", "")) if kind.endswith(_ENDS) else ""
        for _ in range(_MOST_TRIES):
            with _writing(), Session(self._engine) as session:
                written = _end_of(session, ticket, run) if run else None
                if written is not None:
                    return written
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
        with suppress(OSError, BadRecord), (self.dossier(ticket) / "logbook.jsonl").open("ab") as file:
            file.write(msgspec.json.encode(entry) + b"\n")
        return entry

    def broken_entry(self, ticket: str) -> int | None:
        """As `first_broken`, of the logbook as it stands now."""
        return first_broken(ticket, self.log(ticket))


@contextmanager
def _writing() -> Iterator[None]:
    """What the database says when it takes nothing, in words; an entry that is there already is told by itself."""
    try:
        yield
    except IntegrityError:
        raise
    except DBAPIError as error:
        words = str(error.orig).splitlines()[0][:120] if error.orig else "no answer"
        raise CannotRecord(
            f"The logbook of the bench cannot be written ({words}); nothing was begun and nothing of it is on record.",
            "Free space, or close what else uses it, and do it again.",
        ) from error


def _end_of(session: Session, ticket: str, run: str) -> LogEntry | None:
    """The entry that says how a run ended, if there is one."""
    ends = or_(*(LogRow.kind.endswith(ending) for ending in _ENDS))
    rows = session.scalars(select(LogRow).where(LogRow.ticket == ticket, ends, LogRow.figures.contains(run)))
    return next((_entry(row) for row in rows if _run_in(row.figures) == run), None)


def _run_in(figures: str) -> str:
    """The run that an entry is about, empty in those from before runs had names."""
    found = msgspec.json.decode(figures)
    return str(found.get("run", "")) if isinstance(found, dict) else ""


def _is_end_of(begun: tuple[str, str], kind: str, run: str) -> bool:
    """By its run; where neither has one, by its kind."""
    what, its_run = begun
    return its_run == run if its_run or run else kind.startswith(f"{what}-")


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
