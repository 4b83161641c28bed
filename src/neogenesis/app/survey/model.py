"""What the Survey stop shows."""

from __future__ import annotations

from typing import Literal

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.language import mark
from neogenesis.app.session import Session
from neogenesis.app.work import Failure, Handle, failure_of
from neogenesis.bench import planning
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.record import load, save
from neogenesis.core.survey import Survey, Surveyed
from neogenesis.core.units import both_text

#: A verdict as the logbook says it.
_VERDICTS = {
    "unknown": mark("not known"),
    "sound": mark("sound"),
    "ageing": mark("ageing"),
    "copy-now": mark("failing"),
    "lost-cause": mark("does not answer"),
}


State = Literal["no-drive", "absent", "ready", "reading", "done"]


class SurveyModel(QObject):
    """`record` is the survey on file, `surveyed` the one with allocations that a plan needs, once read again."""

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._record: Survey | None = None
        self._surveyed: Surveyed | None = None
        self.failure: Failure | None = None
        self.reading = False
        self._handle: Handle | None = None
        self._path = session.dossier / "survey.json"
        if self._path.exists():
            try:
                self._record = load(self._path, Survey, "survey")
            except NeogenesisError as error:
                self.failure = failure_of(error)

    @property
    def record(self) -> Survey | None:
        """The survey on file, if it is one of the drive that the job means now."""
        return None if self.is_outdated else self._record

    @property
    def is_outdated(self) -> bool:
        """Whether the survey on file is one of another drive."""
        return self._record is not None and not self._session.means("old", self._record.drive)

    @property
    def surveyed(self) -> Surveyed | None:
        """As `record`, with the allocations that a plan needs; None until it was read again."""
        return None if self.is_outdated else self._surveyed

    @property
    def state(self) -> State:
        job = self._session.job
        if self.reading:
            return "reading"
        if self.record is not None:
            return "done"
        if not job.old_drive:
            return "no-drive"
        dock = self._session.old_dock()
        return "ready" if dock and dock.present else "absent"

    def choose(self, name: str) -> None:
        self.failure = None
        self._session.choose_drive("old", name)
        self.changed.emit()

    def start(self) -> None:
        """Read the old drive, sealed; the answer comes later through `changed`."""
        place = self._session.place("old")
        if self.reading or not place:
            return
        self.reading, self.failure = True, None
        self.changed.emit()
        self._handle = self._session.bench.work.in_process(self._read, planning.survey, place)

    def give_up(self) -> None:
        """Leave the drive alone: what was being read ends at once, and nothing of it is kept."""
        if self.reading and self._handle is not None:
            self._handle.give_up()
            self._handle, self.reading = None, False
            self._session.record("survey-stopped", "Survey given up")
            self.changed.emit()

    def _read(self, found: Surveyed | Failure) -> None:
        self.reading = False
        if isinstance(found, Failure):
            self.failure = found
            self._session.record("survey-failed", found.sentence())
        elif not self._session.means("old", found.survey.drive):  # another drive was chosen, or put there, meanwhile
            self.failure = Failure(
                "The drive that was read is not the one that this job means; its survey was dropped.",
                "Check which drive is in the dock, and survey again.",
            )
        else:
            self._surveyed, self._record = found, found.survey
            self._session.learn("old", found.survey.drive)
            save(self._path, found.survey)
            survey = found.survey
            cautions = sum(1 for f in survey.findings if f.severity != "note")
            self._session.record(
                "survey",
                f"Survey finished: {both_text(survey.used_bytes)} used, health: {_VERDICTS[survey.health.verdict]}",
                used_bytes=survey.used_bytes,
                partitions=len(survey.partitions),
                cautions=cautions,
            )
            self._session.advance("plan")
        self.changed.emit()
