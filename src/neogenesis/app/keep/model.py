"""One image, restore, rescue or salvage of a job, run by a worker that outlives the window.

What is under way is kept in a small record in the dossier, so that a window opened later finds it again.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import ClassVar, Literal

import msgspec
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from neogenesis.app.desk.errand import Errand
from neogenesis.app.desk.session import Session, new_run
from neogenesis.app.desk.work import Failure, failure_of
from neogenesis.app.keep.heard import Heard
from neogenesis.app.language import mark
from neogenesis.bench.works.imaging import restore_work
from neogenesis.bench.works.media import media_work
from neogenesis.bench.works.rescuing import rescue_work
from neogenesis.core.errors import CannotRecord, NeogenesisError
from neogenesis.core.job.saved import RESCUE_MAP
from neogenesis.core.plan import Policy
from neogenesis.core.record import Record, load, save
from neogenesis.core.work import Event

Kind = Literal["image", "restore", "rescue", "salvage", "stick"]
#: What goes from a file onto one or several drives; all else reads the old drive.
ONTO: tuple[Kind, ...] = ("restore", "stick")
State = Literal["ready", "running", "stopping", "ended"]
_AGAIN_MS = 1000
_WORDS = {
    "image": mark("Image"),
    "restore": mark("Restore"),
    "rescue": mark("Rescue"),
    "salvage": mark("Copying files out"),
    "stick": mark("Installer stick"),
}


class Kept(Record, frozen=True, kw_only=True):
    """What was begun: its kind, where it goes to (for a restore, what it comes from), its process and its run."""

    SCHEMA: ClassVar[str] = "neogenesis.kept/1"

    schema: str = SCHEMA
    kind: Kind
    place: str
    targets: tuple[str, ...] = ()
    process: int = 0
    run: str = ""


class KeepModel(QObject):
    """`changed` comes when it begins and ends, `moved` when only figures moved."""

    changed = pyqtSignal()
    moved = pyqtSignal()
    ended = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self.state: State = "ready"
        self.kept = Kept(kind="image", place="")
        self.heard = Heard()
        self.failure: Failure | None = None
        #: Whether other work of the job is under way, as its owner knows.
        self.busy_elsewhere: Callable[[], bool] = lambda: False
        self._record = session.dossier / "keep.json"
        self._errand = Errand(self, self._hear, self._over)
        self._attach()

    @property
    def kind(self) -> Kind:
        return self.kept.kind

    @property
    def title(self) -> str:
        """What is or was done, in words."""
        return _WORDS[self.kind]

    @property
    def is_active(self) -> bool:
        return self.state in ("running", "stopping")

    @property
    def written_to(self) -> tuple[str, ...]:
        """Drives that what is under way writes to."""
        return (*self.kept.targets, self.kept.place) if self.kind == "rescue" else self.kept.targets

    @property
    def map_path(self) -> Path:
        return self._session.dossier / RESCUE_MAP

    def _events_of(self, run: str) -> Path:
        """Where one run tells its events; no two share a file."""
        return self._session.dossier / (f"keep-{run[:8]}.events.jsonl" if run else "keep.events.jsonl")

    def look_again(self) -> None:
        """Another window may have begun something."""
        if not self.is_active:
            before = self.kept
            self._attach()
            if self.kept != before:
                self.changed.emit()

    def _attach(self) -> None:
        """Find again what another window began."""
        if not self._record.exists():
            return
        try:
            kept = load(self._record, Kept, "record of what was begun")
        except NeogenesisError:
            return
        if kept == self.kept and self.state == "ended":
            return
        if not kept.process and self._session.is_young(kept.run):  # another window is starting it
            QTimer.singleShot(_AGAIN_MS, self.look_again)
            return
        self.kept, self.heard, self.failure = kept, Heard(), None
        self._errand.join(self._events_of(kept.run), kept.process)
        if self._errand.lives:
            self.state = "running"
        else:
            self._conclude(note=False)

    def start(
        self,
        kind: Kind,
        place: str,
        tails: Sequence[str] = (),
        targets: Sequence[str] = (),
        check_size: bool = False,
    ) -> None:
        """`place` is the image file, the folder, or the drive or image file that a rescue goes onto.

        For a restore or a stick it is the image that is put onto `targets`, each confirmed by one of `tails`; with
        `check_size` a stick is first tested for being as large as it says. It is on record before it is begun;
        `failure` says why it could not be.
        """
        old = self._session.place("old")
        self.look_again()
        if self.is_active or self.busy_elsewhere() or not place or not (old or kind in ONTO):
            return
        unfinished = self.failure is not None and self.kept.kind == kind and self.kept.place == place
        again = unfinished and self.kept.targets == tuple(targets)
        self.heard, self.failure = Heard(), None
        run = new_run()
        command = "media" if kind == "stick" else kind
        arguments = [command, place, *targets] if kind in ONTO else [command, old, place]
        if kind == "stick":
            arguments += ["--layout", "fitting"]
        if check_size and not again:
            arguments += ["--check-size", "quick"]
        for tail in tails:
            arguments += ["--confirm", tail]
        if kind == "rescue":
            arguments += ["--map", str(self.map_path)]
        if kind in ONTO and again:
            arguments.append("--resume")
        arguments += ["--bench", self._session.records_place]
        if kind in ("image", "salvage"):
            arguments += ["--run", run]
        cwd = self._session.dossier if kind == "stick" else None  # where its plan is kept
        try:
            for path in self._confirmed(kind, place, targets, run):
                arguments += ["--confirmed", str(path)]
            self.kept = Kept(kind=kind, place=place, targets=tuple(targets), run=run)
            self._record_begin(kind, place, run)
            save(self._record, self.kept)
            self._errand.begin(arguments, self._events_of(run), cwd)
            self.kept = Kept(kind=kind, place=place, targets=tuple(targets), process=self._errand.process, run=run)
            save(self._record, self.kept)
        except NeogenesisError as error:
            self.failure = failure_of(error)
            if not self._errand.is_watched:
                self.changed.emit()
                return
        except OSError as error:
            self.failure = Failure(f"It could not be begun ({error.strerror}).", "Try again.")
            self._session.record(f"{kind}-failed", self.failure.sentence(), run=run)
            self.changed.emit()
            return
        self.state = "running"
        if kind in ("rescue", "restore"):
            self._session.advance("transfer")
        self.changed.emit()

    def _record_begin(self, kind: Kind, place: str, run: str) -> None:
        """Raises CannotRecord; then it is not begun."""
        name, what = Path(place).name, f"{kind}-start"
        if kind == "restore":
            self._session.record(what, f"Restore begun, from {name}", place=place, run=run)
        elif kind == "stick":
            self._session.record(what, f"Installer stick begun, from {name}", place=place, run=run)
        else:
            self._session.record(what, f"{_WORDS[kind]} begun, to {name}", place=place, run=run)

    def _confirmed(self, kind: Kind, place: str, targets: Sequence[str], run: str) -> list[Path]:
        """The records of what was agreed to, one for each drive that is written to. Raises NeogenesisError."""
        bench, paths = self._session.bench, []
        if kind == "rescue":
            dock, old = bench.dock_named(place), self._session.old_dock()
            if dock is None or old is None or old.docked is None:
                return []  # an image file, which is made
            source = old.docked.drive.identity
            made = [self._session.confirmation(rescue_work(source), dock, source=source)]
        elif kind in ONTO:
            image = Path(place)
            work = media_work(image, "fitting") if kind == "stick" else restore_work(image, Policy(intent="exact"))
            made = [self._session.confirmation(work, bench.dock_named(target)) for target in targets]
        else:
            made = []
        for number, one in enumerate(made):
            named = msgspec.structs.replace(one, run=run if len(made) == 1 else f"{run}-{number}")
            path = self._session.dossier / f"confirmed-{run[:8]}-{number}.json"
            save(path, named)
            paths.append(path)
        return paths

    def stop(self) -> None:
        """Ask it to end at a safe point; the same work goes on from there when it is started again."""
        if self.state == "running" and self._errand.lives:
            self._errand.stop()
            self.state = "stopping"
            self.changed.emit()

    def dismiss(self) -> None:
        """Put what has ended out of sight; its records stay in the dossier."""
        if not self.is_active:
            self._record.unlink(missing_ok=True)
            self.state, self.heard, self.failure = "ready", Heard(), None
            self.changed.emit()

    def close(self) -> None:
        self._errand.close()

    def _hear(self, event: Event) -> None:
        self.heard = self.heard.after(event)
        self.moved.emit()

    def _over(self) -> None:
        self._conclude(note=True)

    def _conclude(self, note: bool) -> None:
        """It has ended: say how, and write it into the logbook, once, whoever finds it."""
        self.state = "ended"
        outcome = self.heard.outcome
        if outcome is None:
            text = self._errand.last_words
            self.failure = Failure(text or "It was cut off; the old drive is untouched.", "Start it again to go on.")
        elif outcome.outcome not in ("done", "partial"):
            self.failure = Failure(outcome.text, outcome.remedy, outcome.code)
        if note or self._end_is_missing():
            self._note_end()
        self.changed.emit()

    def _note_end(self) -> None:
        """Tried again until it is on record."""
        outcome = self.heard.outcome
        text = outcome.text if outcome else (self.failure.text if self.failure else "")
        run = {"run": self.kept.run} if self.kept.run else {}
        try:
            self._session.record(f"{self.kind}-{outcome.outcome if outcome else 'failed'}", text, **run)
        except CannotRecord:
            QTimer.singleShot(_AGAIN_MS, self._note_end)
            return
        if outcome is not None and outcome.outcome in ("done", "partial") and self._fills_the_new_drive():
            self._session.advance("swap")
        self.ended.emit(text)

    def _fills_the_new_drive(self) -> bool:
        """Whether what has ended was written to a drive, and not into a file."""
        if self.kind == "rescue":
            return self._session.bench.dock_named(self.kept.place) is not None
        return self.kind == "restore"

    def _end_is_missing(self) -> bool:
        """Whether the logbook says that it began, and not how it ended."""
        log = self._session.log()
        if self.kept.run:
            kinds = [e.kind for e in log if e.figures.get("run") == self.kept.run]
            return len(kinds) == 1
        latest = [e.kind for e in log if e.kind.startswith(f"{self.kind}-")]
        return bool(latest) and latest[-1] == f"{self.kind}-start"
