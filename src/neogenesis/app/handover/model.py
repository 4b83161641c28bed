"""What the Handover stop shows: the report made from the job's records, and the two measured times."""

from __future__ import annotations

from datetime import datetime

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure, failure_of
from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.language import mark
from neogenesis.app.plan.model import PlanModel
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.intake import Belonging
from neogenesis.core.intake.change import given_back
from neogenesis.core.job import Improvement, Report, improvement_of, report_from_records
from neogenesis.core.job.deeds import FOR_CUSTOMER, came_with_drive, frees_old_drive, way_taken
from neogenesis.core.job.old_drive import End, KeptDrive, ended, kept_drive, load_kept, save_kept
from neogenesis.core.record import to_json
from neogenesis.core.transfer import RunFiles

#: How start times are measured, as `Improvement` says it.
_METHOD = mark("stopwatch")


def _measured(before_s: float | None, after_s: float | None) -> str:
    if before_s and after_s:
        return f"Start of the machine: {before_s:g} s before, {after_s:g} s now"
    return f"Start of the machine before: {before_s:g} s" if before_s else f"Start of the machine now: {after_s:g} s"


class HandoverModel(QObject):
    """`report` is None until something has ended; `failure` says what is wrong with its records."""

    changed = pyqtSignal()

    def __init__(self, session: Session, plan: PlanModel, intake: IntakeModel) -> None:
        super().__init__(session)
        self._session, self._plan, self._intake = session, plan, intake
        self.report: Report | None = None
        self.failure: Failure | None = None
        self._made_from: tuple[int, int, int, int] | None = None

    @property
    def pdf_path(self) -> str:
        return str(self._session.dossier / "report.pdf")

    @property
    def picture_path(self) -> str:
        return str(self._session.dossier / "plan.png")

    def refresh(self) -> None:
        """Make the report anew when the records it is made from have changed."""
        path = RunFiles(self._plan.path).manifest
        plan = self._plan.written
        log = self._session.log()
        stamp = path.stat() if plan is not None and path.exists() else None
        written = (stamp.st_mtime_ns, stamp.st_size) if stamp is not None else (0, 0)
        made_from = (*written, len(log), hash(to_json(self._intake.intake)))
        if made_from == self._made_from:
            return
        self._made_from = made_from
        self.report = self.failure = None
        try:
            self.report = report_from_records(self._session.job, plan, path, log, self._intake.intake)
        except NeogenesisError as error:
            self.failure = failure_of(error)

    def tell(self, text: str) -> None:
        """Something that was done, as the customer reads it on the report."""
        if text.strip():
            self._session.record(FOR_CUSTOMER, text.strip())
            self.changed.emit()

    @property
    def improvement(self) -> Improvement | None:
        return improvement_of(self._session.log())

    def measured(self, which: str) -> float | None:
        """The latest `before_s` or `after_s` of the logbook."""
        for entry in reversed(self._session.log()):
            value = entry.figures.get(which)
            if isinstance(value, int | float):
                return float(value)
        return None

    def measure(self, before_s: float | None, after_s: float | None, runs: int, hands_s: float | None = None) -> None:
        """Record start times that were measured at the machine, and how long hands were on it."""
        figures = {k: v for k, v in (("before_s", before_s), ("after_s", after_s)) if v}
        if figures:
            self._session.record("measure", _measured(before_s, after_s), runs=runs, **figures)
        if hands_s:
            self._session.record("measure", f"Hands on it: {hands_s / 60:.0f} min", hands_s=hands_s)
        if figures or hands_s:
            self.changed.emit()

    def printed(self, path: str) -> None:
        self._session.record("report", "Customer's report written", file=path)
        self.changed.emit()

    @property
    def came_with(self) -> tuple[Belonging, ...]:
        return self._intake.intake.came_with

    def give_back(self, what: str, back: bool) -> None:
        """Something that came with the machine goes back to the customer, or does not."""
        self._intake.put(given_back(self._intake.intake, what, back))
        self.changed.emit()

    @property
    def has_freed_drive(self) -> bool:
        """Whether the way that was decided leaves an old drive over."""
        came = came_with_drive(self._session.job, self._intake.intake)
        return came and frees_old_drive(way_taken(self._session.log()))

    @property
    def kept_drive(self) -> KeptDrive | None:
        """The old drive, where it stayed here."""
        return load_kept(self._session.dossier)

    def end_drive(self, how: End) -> None:
        """It was given back, or wiped. Raises BadArgument on the day of the handover, and BadRecord."""
        kept = self.kept_drive
        if kept is not None:
            save_kept(self._session.dossier, ended(kept, how, datetime.now().date()))
            self._session.bench.update(self._session.ticket, kept=how)
            wiped = how == "wiped"
            self._session.record("old-drive", f"Old drive {'wiped' if wiped else 'given back'}: {kept.drive}", how=how)
            self.changed.emit()

    def hand_over(self) -> None:
        """Close the job; its records stay."""
        missing = [b.what for b in self.came_with if not b.back]
        freed = self.has_freed_drive
        stays = freed and self._intake.intake.later.old_parts in ("kept", "wiped")
        text = "Handed over; the old drive is with us" if stays else "Handed over; the old drive is with the customer"
        text = text if freed else "Handed over"
        self._session.record("handover", text, **({"not_given_back": missing} if missing else {}))
        dock, later = self._session.old_dock(), self._intake.intake.later
        drive = dock.docked.drive if dock is not None and dock.docked else None
        name = f"{drive.model} {drive.serial}".strip() if drive is not None else ""
        kept = kept_drive(later, name, datetime.now().date()) if freed else None
        if kept is not None:
            save_kept(self._session.dossier, kept)
        here = {"kept": "here" if kept is not None else "", "kept_until": kept.until if kept is not None else ""}
        self._session.bench.update(self._session.ticket, stop="handover", closed=True, **here)
        self.changed.emit()
