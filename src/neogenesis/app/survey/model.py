"""What the Survey stop shows."""

from __future__ import annotations

from typing import Literal, TypeVar

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure, Handle, failure_of
from neogenesis.app.language import mark
from neogenesis.bench.inside import surveying
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.record import load, save
from neogenesis.core.survey import Survey, Surveyed
from neogenesis.core.survey.model import SystemsInside
from neogenesis.core.survey.together import changes
from neogenesis.core.system.inside import Inside
from neogenesis.core.units import both_text

#: A verdict as the logbook says it.
_VERDICTS = {
    "unknown": mark("not known"),
    "sound": mark("sound"),
    "ageing": mark("ageing"),
    "copy-now": mark("failing"),
    "lost-cause": mark("does not answer"),
}


R = TypeVar("R")
State = Literal["no-drive", "absent", "ready", "reading", "done"]


class SurveyModel(QObject):
    """`record` is the survey on file, `surveyed` the one with allocations that a plan needs, once read again."""

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._inside: SystemsInside | None = None
        self._first: Survey | None = None
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
        self._inside = self._on_file("inside.json", SystemsInside, "record of the systems inside")
        self._first = self._on_file("survey-first.json", Survey, "first survey")

    def _on_file(self, name: str, kind: type[R], what: str) -> R | None:
        """A record beside the survey; one that cannot be read is made again by the next survey."""
        path = self._session.dossier / name
        if not path.exists():
            return None
        try:
            return load(path, kind, what)
        except NeogenesisError:
            return None

    @property
    def inside(self) -> dict[int, Inside]:
        """What the systems on the drive say of themselves, by partition number; empty where nobody looked."""
        record = self.record
        if record is None or self._inside is None or self._inside.fingerprint != record.fingerprint:
            return {}
        return self._inside.systems

    @property
    def changes(self) -> tuple[str, ...]:
        """What the latest survey shows that the first one of this drive did not."""
        record, first = self.record, self._first
        if record is None or first is None or not first.drive.identity.is_same(record.drive.identity):
            return ()
        return changes(first, record)

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
        self._handle = self._session.bench.work.in_process(self._read, surveying.survey, place, None, True)

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
            before = (self._surveyed, self._record, self._inside)
            try:
                self._keep(found)
            except NeogenesisError as error:
                self.failure = failure_of(error)
                self._surveyed, self._record, self._inside = before
        self.changed.emit()

    def _keep(self, found: Surveyed) -> None:
        """On file and on record first: a survey that could not be kept is none. Raises BadRecord or CannotRecord."""
        before = self._record
        if before is not None and before.drive.identity.is_same(found.survey.drive.identity) and not self._first:
            self._first = before
            save(self._session.dossier / "survey-first.json", before)
        inside = SystemsInside(fingerprint=found.survey.fingerprint, systems=found.inside)
        save(self._session.dossier / "inside.json", inside)
        save(self._path, found.survey)
        self._session.learn("old", found.survey.drive)
        self._surveyed, self._record, self._inside = found, found.survey, inside
        survey = found.survey
        cautions = sum(1 for f in survey.findings if f.severity != "note")
        self._session.record(
            "survey",
            f"Survey finished: {both_text(survey.used_bytes)} used, health: {_VERDICTS[survey.health.verdict]}",
            used_bytes=survey.used_bytes,
            partitions=len(survey.partitions),
            cautions=cautions,
        )
        for line in self.changes:
            self._session.record("survey-changed", f"Since the first survey: {line}")
        self._session.advance("decide")
