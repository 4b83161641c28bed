"""What the Survey stop shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.work import Failure, failure_of
from neogenesis.bench import planning
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.record import load, save
from neogenesis.core.survey import Survey, Surveyed
from neogenesis.core.units import both_text

if TYPE_CHECKING:
    from neogenesis.app.open_job import OpenJob

State = Literal["no-drive", "absent", "ready", "reading", "done"]


class SurveyModel(QObject):
    """`record` is the survey on file, `surveyed` the one with allocations that a plan needs, once read again."""

    changed = pyqtSignal()

    def __init__(self, desk: OpenJob) -> None:
        super().__init__(desk)
        self._desk = desk
        self.record: Survey | None = None
        self.surveyed: Surveyed | None = None
        self.failure: Failure | None = None
        self.reading = False
        self._path = desk.dossier / "survey.json"
        if self._path.exists():
            try:
                self.record = load(self._path, Survey, "survey")
            except NeogenesisError as error:
                self.failure = failure_of(error)

    @property
    def state(self) -> State:
        job = self._desk.job
        if self.reading:
            return "reading"
        if self.record is not None:
            return "done"
        if not job.old_drive:
            return "no-drive"
        dock = self._desk.old_dock()
        return "ready" if dock and dock.present else "absent"

    def choose(self, name: str) -> None:
        self._desk.choose_drive("old_drive", name)
        self.record = self.surveyed = self.failure = None
        self.changed.emit()

    def start(self) -> None:
        """Read the old drive, sealed; the answer comes later through `changed`."""
        if self.reading or not self._desk.job.old_drive:
            return
        self.reading, self.failure = True, None
        self.changed.emit()
        self._desk.bench.work.in_process(self._read, planning.survey, self._desk.job.old_drive)

    def _read(self, found: Surveyed | Failure) -> None:
        self.reading = False
        if isinstance(found, Failure):
            self.failure = found
            self._desk.record("survey-failed", found.sentence())
        else:
            self.surveyed, self.record = found, found.survey
            save(self._path, found.survey)
            survey = found.survey
            cautions = sum(1 for f in survey.findings if f.severity != "note")
            self._desk.record(
                "survey",
                f"Survey finished: {both_text(survey.used_bytes)} used, health {survey.health.verdict}",
                used_bytes=survey.used_bytes,
                partitions=len(survey.partitions),
                cautions=cautions,
            )
            self._desk.advance("plan")
        self.changed.emit()
