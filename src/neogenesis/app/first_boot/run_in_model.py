"""What the window knows of a run-in of the new drive: the last one, and the one that goes on."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure, Handle, failure_of
from neogenesis.app.fit.model import FitModel
from neogenesis.app.survey.looks import LooksModel
from neogenesis.bench.works.run_in import Heard, places_on, run_in_at
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.fit.match import rated_in
from neogenesis.core.fit.part import Part
from neogenesis.core.record import load, save
from neogenesis.core.run_in import Compared, RunIn, compared, sentences
from neogenesis.core.units import rate_text


class RunInModel(QObject):
    """`heard` is the newest of the run under way, `told` all of its paces so far."""

    changed = pyqtSignal()
    moved = pyqtSignal()

    def __init__(self, session: Session, looks: LooksModel, fit: FitModel) -> None:
        super().__init__(session)
        self._session, self._looks, self._fit = session, looks, fit
        self._path = session.dossier / "run-in.json"
        self.failure: Failure | None = None
        self._found = self._load()
        self.heard: Heard | None = None
        self.told: list[Heard] = []
        self._handle: Handle | None = None

    def _load(self) -> RunIn | None:
        if not self._path.exists():
            return None
        try:
            return load(self._path, RunIn, "run-in")
        except NeogenesisError as error:
            self.failure = failure_of(error)
            return None

    @property
    def found(self) -> RunIn | None:
        """Of the drive that is the new one now; one of another drive says nothing."""
        identity = self._session.job.identity("new")
        other = identity is not None and self._found is not None and self._found.serial not in ("", identity.serial)
        return None if other else self._found

    @property
    def is_busy(self) -> bool:
        return self._handle is not None

    @property
    def part(self) -> Part | None:
        """What was chosen at Fit, with its rated figures, as far as its bay lets them through."""
        chosen = self._fit.chosen
        return rated_in(chosen.system.part, chosen.system.bay) if chosen is not None else None

    @property
    def rows(self) -> tuple[Compared, ...]:
        return compared(self.found, self.part, self._looks.profile) if self.found is not None else ()

    @property
    def sentences(self) -> tuple[str, ...]:
        return sentences(self.found, self.part) if self.found is not None else ()

    def places(self) -> list[str]:
        """Where it may be measured: volumes of the new drive that are mounted, or the simulated drive itself."""
        new = self._session.place("new")
        return places_on(new) if new else []

    def begin(self, place: str, seconds: float) -> None:
        """Measure in that folder; the answer comes later through `changed`."""
        if self.is_busy or not place:
            return
        old = self._session.job.identity("old")
        refused = (old.serial,) if old is not None and old.serial else ()
        self.failure, self.heard, self.told = None, None, []
        asked = (place, refused, seconds)
        self._handle = self._session.bench.work.in_process(self._ended, run_in_at, *asked, heard=self._hear)
        self.changed.emit()

    def stop(self) -> None:
        """Its process ends, and the scratch file with it."""
        if self._handle is not None:
            self._handle.give_up()
            self._handle, self.heard = None, None
            self.changed.emit()

    def _hear(self, heard: Heard) -> None:
        self.heard = heard
        self.told.append(heard)
        self.moved.emit()

    def _ended(self, found: RunIn | Failure) -> None:
        self._handle = self.heard = None
        if isinstance(found, Failure):
            self.failure = found
        else:
            self._found = found
            save(self._path, found)
            pace = found.stride_write_bytes_per_s or 0.0
            self._session.record(
                "run-in", f"Run-in: {rate_text(pace)} written in one go", bytes_per_s=round(pace), serial=found.serial
            )
        self.changed.emit()

    def close(self) -> None:
        self.stop()
