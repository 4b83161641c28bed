"""The other drives of one machine: which they are, what was surveyed of them, and what they are to each other."""

from __future__ import annotations

from typing import ClassVar

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure, failure_of
from neogenesis.app.survey.model import SurveyModel
from neogenesis.bench.inside import surveying
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.record import Record, load, save
from neogenesis.core.survey import Survey, Surveyed
from neogenesis.core.survey.together import Together, together


class OtherDrives(Record, frozen=True, kw_only=True):
    """Surveys of the other drives, in the order in which they were added."""

    SCHEMA: ClassVar[str] = "neogenesis.other-drives/1"

    schema: str = SCHEMA
    surveys: tuple[Survey, ...] = ()


class OthersModel(QObject):
    """`reading` is the place of the drive that is being surveyed; empty for none."""

    changed = pyqtSignal()

    def __init__(self, session: Session, survey: SurveyModel) -> None:
        super().__init__(session)
        self._session, self._survey = session, survey
        self._path = session.dossier / "other-drives.json"
        self.failure: Failure | None = None
        self.reading = ""
        self.surveys: tuple[Survey, ...] = ()
        if self._path.exists():
            try:
                self.surveys = load(self._path, OtherDrives, "survey of the other drives").surveys
            except NeogenesisError as error:
                self.failure = failure_of(error)

    def add(self, place: str) -> None:
        """Survey another drive of this machine, sealed; the answer comes later through `changed`."""
        if not self.reading:
            self.reading, self.failure = place, None
            self._session.bench.work.in_process(self._read, surveying.survey, place, None, True)
            self.changed.emit()

    def _read(self, found: Surveyed | Failure) -> None:
        self.reading = ""
        if isinstance(found, Failure):
            self.failure = found
        else:
            new = found.survey
            kept = [s for s in self.surveys if not s.drive.identity.is_same(new.drive.identity)]
            self._keep((*kept, new))
            name = f"{new.drive.model} {new.drive.serial}".strip() or new.drive.path
            self._session.record("survey-other", f"Another drive of the machine surveyed: {name}")
        self.changed.emit()

    def drop(self, number: int) -> None:
        """It does not belong to this machine after all."""
        self._keep(tuple(s for n, s in enumerate(self.surveys) if n != number))
        self.changed.emit()

    def _keep(self, surveys: tuple[Survey, ...]) -> None:
        self.surveys = surveys
        save(self._path, OtherDrives(surveys=surveys))

    @property
    def everything(self) -> tuple[Survey, ...]:
        """The old drive and the others of its machine."""
        own = self._survey.record
        return ((own, *self.surveys) if own is not None else self.surveys) if self.surveys else ()

    @property
    def together(self) -> Together | None:
        return together(self.everything) if self.everything else None
