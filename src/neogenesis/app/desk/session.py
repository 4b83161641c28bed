"""What is on record of one job, and which drives it means: what the models of its stops are built upon."""

from __future__ import annotations

import uuid
from datetime import datetime
from pathlib import Path

import msgspec
from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.desk.bench import Bench, Dock
from neogenesis.core.drive import Drive, Identity
from neogenesis.core.errors import BadArgument
from neogenesis.core.job import Job, LogEntry, Which
from neogenesis.core.job.route import position
from neogenesis.core.job.saved import Saved, saved_in
from neogenesis.core.record import save
from neogenesis.core.work import Confirmation

_YOUNG_S = 3.0


def new_run() -> str:
    """A name for one run of one work, by which its end is found."""
    return uuid.uuid4().hex


class Session(QObject):
    """`drives_chosen` tells that the job means another old or new drive from now on.

    `drafts` keeps what was typed and not yet taken, by the name of its field.
    """

    drives_chosen = pyqtSignal()

    def __init__(self, bench: Bench, ticket: str) -> None:
        super().__init__()
        self.bench, self.ticket = bench, ticket
        self.dossier = bench.store.dossier(ticket)
        self.drafts = bench.drafts(ticket)

    @property
    def job(self) -> Job:
        return self.bench.job(self.ticket)

    def log(self) -> list[LogEntry]:
        return self.bench.log(self.ticket)

    def record(self, kind: str, text: str, **figures: object) -> None:
        self.bench.record(self.ticket, kind, text, **figures)

    def advance(self, stop: str) -> None:
        """Move the job on to a stop; it never moves back by itself."""
        if position(self.job.stop) < position(stop):
            self.bench.update(self.ticket, stop=stop)

    # The two drives

    def choose_drive(self, which: Which, name: str) -> None:
        """Say which connected drive is the old or the new one of this job; it is known by who it is from then on."""
        dock = self.bench.dock_named(name)
        drive = dock.docked.drive if dock and dock.docked else None
        identity = msgspec.json.encode(drive.identity).decode() if drive else ""
        if dock is not None:
            self.bench.meet(dock)
        self.bench.update(self.ticket, **{f"{which}_drive": name, f"{which}_identity": identity})
        text = f"{drive.model} {drive.serial}".strip() if drive else name
        self.record("drive", f"{'Old' if which == 'old' else 'New'} drive: {text}")
        self.drives_chosen.emit()

    def dock(self, which: Which) -> Dock | None:
        """Where that drive is now, or was last."""
        return self.bench.dock_of(self.job, which)

    def old_dock(self) -> Dock | None:
        return self.dock("old")

    def new_dock(self) -> Dock | None:
        return self.dock("new")

    def place(self, which: Which) -> str:
        """The DRIVE argument by which it is reached now; empty while it is not connected."""
        dock = self.dock(which)
        return dock.docked.name if dock and dock.present and dock.docked else ""

    def means(self, which: Which, drive: Drive) -> bool:
        """Whether `drive` is the one that this job means; a record from before identities were kept says yes."""
        identity = self.job.identity(which)
        return identity is None or identity.is_same(drive.identity)

    def learn(self, which: Which, drive: Drive) -> None:
        """Put on record who a drive is, where only its place was known."""
        if self.job.identity(which) is None:
            identity = msgspec.json.encode(drive.identity).decode()
            self.bench.update(self.ticket, **{f"{which}_identity": identity})

    def saved(self) -> tuple[Saved, ...]:
        """Files that hold what was on the old drive, the newest first, as long as they are there."""
        return tuple(one for one in saved_in(self.log()) if Path(one.place).is_file())

    def is_young(self, run: str) -> bool:
        """Whether the beginning of a run is on record since a moment ago: whoever wrote it may be starting it still."""
        entry = next((e for e in self.log() if e.figures.get("run") == run), None)
        if entry is None or not run:
            return False
        try:
            age = datetime.fromisoformat(self.bench.clock.wall()) - datetime.fromisoformat(entry.at)
        except (ValueError, TypeError):
            return False
        return 0 <= age.total_seconds() < _YOUNG_S

    # What a person agrees to

    def confirmation(
        self, work: str, dock: Dock | None, held: str = "", source: Identity | None = None
    ) -> Confirmation:
        """That this work may write to the drive in that dock, as it is put in now, and to nothing else.

        Raises BadArgument when no drive is there.
        """
        if dock is None or not dock.present or dock.docked is None:
            raise BadArgument(
                "The drive that was confirmed is not connected; nothing was begun.", "Put it into a dock."
            )
        return Confirmation(
            work=work,
            target=dock.docked.drive.identity,
            source=source,
            held=held,
            insertion=dock.docked.insertion,
            ticket=self.ticket,
            who=self.bench.me,
            at=self.bench.clock.wall(),
            run=new_run(),
        )

    def keep_confirmation(self, confirmed: Confirmation) -> Path:
        """On file, for the worker that is begun with it. Raises BadRecord."""
        path = self.dossier / f"confirmed-{confirmed.run[:8]}.json"
        save(path, confirmed)
        return path

    @property
    def records_place(self) -> str:
        """The bench whose records a worker of this job uses: its folder, or the URL of its database."""
        return self.bench.store.url or str(self.bench.store.folder)

    def note(self, stop: str, text: str) -> None:
        """A free note that goes to the logbook."""
        if text.strip():
            self.record("note", text.strip(), stop=stop)
