"""The job in front of the technician: its record and what each of its stops knows."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.bench import Bench, Dock
from neogenesis.app.handover.model import HandoverModel
from neogenesis.app.keep.model import KeepModel
from neogenesis.app.plan.model import PlanModel
from neogenesis.app.survey.model import SurveyModel
from neogenesis.app.transfer.model import TransferModel
from neogenesis.core.job import Job, LogEntry
from neogenesis.core.job.route import position


class OpenJob(QObject):
    """Holds the models of the stops; `changed` tells that the record of the job is another one."""

    changed = pyqtSignal()

    def __init__(self, bench: Bench, ticket: str) -> None:
        super().__init__()
        self.bench, self.ticket = bench, ticket
        self.dossier = bench.store.dossier(ticket)
        self.survey = SurveyModel(self)
        self.plan = PlanModel(self)
        self.transfer = TransferModel(self)
        self.handover = HandoverModel(self)
        self.keep = KeepModel(self)
        bench.jobs_changed.connect(self.changed)

    @property
    def job(self) -> Job:
        return self.bench.store.job(self.ticket)

    def log(self) -> list[LogEntry]:
        return self.bench.store.log(self.ticket)

    def record(self, kind: str, text: str, **figures: object) -> None:
        self.bench.record(self.ticket, kind, text, **figures)

    def advance(self, stop: str) -> None:
        """Move the job on to a stop; it never moves back by itself."""
        if position(self.job.stop) < position(stop):
            self.bench.update(self.ticket, stop=stop)

    def choose_drive(self, which: str, name: str) -> None:
        """Say which connected drive is the `old_drive` or the `new_drive` of this job."""
        self.bench.update(self.ticket, **{which: name})
        dock = self.bench.dock_of(name)
        drive = dock.docked.drive if dock and dock.docked else None
        text = f"{drive.model} {drive.serial}".strip() if drive else name
        self.record("drive", f"{'Old' if which == 'old_drive' else 'New'} drive: {text}")

    def old_dock(self) -> Dock | None:
        return self.bench.dock_of(self.job.old_drive) if self.job.old_drive else None

    def new_dock(self) -> Dock | None:
        return self.bench.dock_of(self.job.new_drive) if self.job.new_drive else None

    def note(self, stop: str, text: str) -> None:
        """A free note that goes to the logbook."""
        if text.strip():
            self.record("note", text.strip(), stop=stop)

    def close(self) -> None:
        """Let go of what is being watched; a transfer that runs goes on."""
        self.bench.jobs_changed.disconnect(self.changed)
        self.transfer.close()
        self.keep.close()
