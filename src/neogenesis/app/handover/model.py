"""What the Handover stop shows: the report made from the job's records, and the two measured times."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.work import Failure, failure_of
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job import Improvement, Report, improvement_of, report_from_records
from neogenesis.core.transfer import RunFiles

if TYPE_CHECKING:
    from neogenesis.app.open_job import OpenJob


class HandoverModel(QObject):
    """`report` is None until a transfer has ended; `failure` says what is wrong with its records."""

    changed = pyqtSignal()

    def __init__(self, desk: OpenJob) -> None:
        super().__init__(desk)
        self._desk = desk
        self.report: Report | None = None
        self.failure: Failure | None = None
        self._made_from: tuple[int, int, int] | None = None

    @property
    def pdf_path(self) -> str:
        return str(self._desk.dossier / "report.pdf")

    @property
    def picture_path(self) -> str:
        return str(self._desk.dossier / "plan.png")

    def refresh(self) -> None:
        """Make the report anew when the records it is made from have changed."""
        path = RunFiles(self._desk.plan.path).manifest
        plan = self._desk.plan.written
        log = self._desk.log()
        if plan is None or not path.exists():
            self.report = self._made_from = None
            return
        stamp = path.stat()
        made_from = (stamp.st_mtime_ns, stamp.st_size, len(log))
        if made_from == self._made_from:
            return
        self._made_from = made_from
        self.report = self.failure = None
        try:
            self.report = report_from_records(self._desk.job, plan, path, log)
        except NeogenesisError as error:
            self.failure = failure_of(error)

    @property
    def improvement(self) -> Improvement | None:
        return improvement_of(self._desk.log())

    def measured(self, which: str) -> float | None:
        """The latest `before_s` or `after_s` of the logbook."""
        for entry in reversed(self._desk.log()):
            value = entry.figures.get(which)
            if isinstance(value, int | float):
                return float(value)
        return None

    def measure(self, before_s: float | None, after_s: float | None, runs: int) -> None:
        """Record start times that were measured at the machine."""
        figures = {k: v for k, v in (("before_s", before_s), ("after_s", after_s)) if v}
        if figures:
            words = {"before_s": "before", "after_s": "now"}
            text = ", ".join(f"{value:g} s {words[key]}" for key, value in figures.items())
            self._desk.record("measure", f"Start of the machine: {text}", runs=runs, **figures)
            self.changed.emit()

    def printed(self, path: str) -> None:
        self._desk.record("report", "Customer's report written", file=path)
        self.changed.emit()

    def hand_over(self) -> None:
        """Close the job; its records stay."""
        self._desk.record("handover", "Handed over; the old drive is with the customer")
        self._desk.bench.update(self._desk.ticket, stop="handover", closed=True)
        self.changed.emit()
