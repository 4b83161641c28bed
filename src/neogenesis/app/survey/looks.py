"""What the Survey stop knows beyond the survey: systems inside, what fills it, its speed, its readings over time."""

from __future__ import annotations

import re

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure, Handle
from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.survey.model import SurveyModel
from neogenesis.bench.inside import looking
from neogenesis.bench.inside.looking import Counted
from neogenesis.core.drive.history import HealthEntry, add_to_history, load_history
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job import Which
from neogenesis.core.record import load, save
from neogenesis.core.survey.filling import Filling
from neogenesis.core.survey.profile import Sounding, SpeedProfile
from neogenesis.core.survey.why import AtTheMachine, Explanation, explanations
from neogenesis.core.units import both_text, rate_text

_NUMBER = re.compile(r"\d+(?:[.,]\d+)?")


class LooksModel(QObject):
    """`counted` and `soundings` are what is heard while a look goes on; each look is kept in the dossier."""

    changed = pyqtSignal()
    moved = pyqtSignal()

    def __init__(self, session: Session, survey: SurveyModel, intake: IntakeModel) -> None:
        super().__init__(session)
        self._session, self._survey, self._intake = session, survey, intake
        self.failure: Failure | None = None
        self.counting: int | None = None
        self.counted: Counted | None = None
        self.sounding = False
        self.soundings: list[Sounding] = []
        self._handle: Handle | None = None
        self._fillings: dict[int, Filling] = {}
        self._profile: SpeedProfile | None = None
        self._loaded_for = ""
        session.bench.drives_changed.connect(self._keep_readings)
        survey.changed.connect(self._survey_changed)
        self._keep_readings()

    @property
    def is_busy(self) -> bool:
        return self.counting is not None or self.sounding

    def _survey_changed(self) -> None:
        if self._fingerprint() != self._loaded_for:
            self.failure = None

    def _fingerprint(self) -> str:
        record = self._survey.record
        return record.fingerprint if record is not None else ""

    def _load(self) -> None:
        """What was found before of the drive as it is now."""
        fingerprint = self._fingerprint()
        if fingerprint == self._loaded_for:
            return
        self._loaded_for, self._fillings, self._profile = fingerprint, {}, None
        if not fingerprint:
            return
        for path in self._session.dossier.glob("fills-*.json"):
            try:
                filling = load(path, Filling, "count of files")
            except NeogenesisError:
                continue
            if filling.fingerprint == fingerprint:
                self._fillings[filling.partition] = filling
        speed = self._session.dossier / "speed.json"
        if speed.exists():
            try:
                profile = load(speed, SpeedProfile, "speed profile")
            except NeogenesisError:
                return
            self._profile = profile if profile.fingerprint == fingerprint else None

    @property
    def fillings(self) -> dict[int, Filling]:
        self._load()
        return self._fillings

    @property
    def profile(self) -> SpeedProfile | None:
        self._load()
        return self._profile

    # What fills it

    @property
    def fillable(self) -> list[int]:
        record = self._survey.record
        return looking.fillable(record) if record is not None else []

    def count(self, number: int) -> None:
        """Count the files of a partition; the answer comes later through `changed`."""
        record, place = self._survey.record, self._session.place("old")
        if self.is_busy or record is None or not place:
            return
        self.counting, self.counted, self.failure = number, None, None
        self._handle = self._session.bench.work.in_process(
            self._was_counted, looking.what_fills, place, record, number, heard=self._hear_count
        )
        self.changed.emit()

    def _hear_count(self, counted: Counted) -> None:
        self.counted = counted
        self.moved.emit()

    def _was_counted(self, found: Filling | Failure) -> None:
        self.counting = None
        if isinstance(found, Failure):
            self.failure = found
        else:
            self.fillings[found.partition] = found
            save(self._session.dossier / f"fills-{found.partition}.json", found)
            self._session.record("fills", f"Files counted: {both_text(found.bytes)}", files=found.files)
        self.changed.emit()

    # How fast it reads

    def measure_speed(self) -> None:
        """Sample the drive; the answer comes later through `changed`."""
        record, place = self._survey.record, self._session.place("old")
        if self.is_busy or record is None or not place:
            return
        self.sounding, self.soundings, self.failure = True, [], None
        self._handle = self._session.bench.work.in_process(
            self._was_sounded, looking.read_speed, place, record, heard=self._hear_sounding
        )
        self.changed.emit()

    def _hear_sounding(self, sounding: Sounding) -> None:
        self.soundings.append(sounding)
        self.moved.emit()

    def _was_sounded(self, found: SpeedProfile | Failure) -> None:
        self.sounding = False
        if isinstance(found, Failure):
            self.failure = found
        else:
            self._load()
            self._profile = found
            save(self._session.dossier / "speed.json", found)
            usual = rate_text(found.median_bytes_per_s) if found.median_bytes_per_s is not None else "–"
            self._session.record("speed", f"Reading speed sampled: {usual}")
        self.changed.emit()

    def give_up(self) -> None:
        """Leave the drive alone; nothing of this look is kept."""
        if self.is_busy and self._handle is not None:
            self._handle.give_up()
            self._handle, self.counting, self.sounding = None, None, False
            self.changed.emit()

    # Health

    def history(self, which: Which) -> tuple[HealthEntry, ...]:
        return load_history(self._session.dossier / f"health-{which}.jsonl")

    def _keep_readings(self) -> None:
        """A reading that differs from the last one is kept, of the old and of the new drive."""
        sides: tuple[Which, ...] = ("old", "new")
        for which in sides:
            dock = self._session.dock(which)
            drive = dock.docked.drive if dock is not None and dock.present and dock.docked else None
            if drive is None or drive.reading is None or self._session.job.closed:
                continue
            entry = HealthEntry(at=self._session.bench.clock.wall(), reading=drive.reading)
            try:
                added = add_to_history(self._session.dossier / f"health-{which}.jsonl", entry)
            except NeogenesisError:
                continue
            if added:
                self.changed.emit()

    # Why

    @property
    def explanations(self) -> tuple[Explanation, ...]:
        record = self._survey.record
        if record is None:
            return ()
        inside = list(self._survey.inside.values())
        return explanations(record, self.profile, list(self.fillings.values()), inside, self._at_the_machine())

    def _at_the_machine(self) -> AtTheMachine:
        intake = self._intake.intake

        def number(code: str) -> float | None:
            figure = intake.figure(code)
            found = _NUMBER.search(figure.text) if figure is not None else None
            return float(found.group().replace(",", ".")) if found else None

        return AtTheMachine(intake.symptoms, number("memory"), number("temperature"), intake.battery.wear_percent)
