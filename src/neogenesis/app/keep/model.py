"""One image, restore, rescue or salvage of a job, run by a worker that outlives the window.

What is under way is kept in a small record in the dossier, so that a window opened later finds it again.
"""

from __future__ import annotations

import os
import signal
import subprocess
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import ClassVar, Literal

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure
from neogenesis.app.keep.heard import Heard
from neogenesis.app.language import mark
from neogenesis.app.transfer.events import EventFile
from neogenesis.bench.processes import worker
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job.saved import RESCUE_MAP
from neogenesis.core.record import Record, load, save

Kind = Literal["image", "restore", "rescue", "salvage", "stick"]
#: What goes from a file onto one or several drives; all else reads the old drive.
ONTO: tuple[Kind, ...] = ("restore", "stick")
State = Literal["ready", "running", "stopping", "ended"]
_POLL_MS = 150
_WORDS = {
    "image": mark("Image"),
    "restore": mark("Restore"),
    "rescue": mark("Rescue"),
    "salvage": mark("Copying files out"),
    "stick": mark("Installer stick"),
}


class Kept(Record, frozen=True, kw_only=True):
    """What was begun: its kind, where it goes to (for a restore, what it comes from), and its process."""

    SCHEMA: ClassVar[str] = "neogenesis.kept/1"

    schema: str = SCHEMA
    kind: Kind
    place: str
    targets: tuple[str, ...] = ()
    process: int = 0


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
        self._process: subprocess.Popen[bytes] | None = None
        self._record = session.dossier / "keep.json"
        self._path = session.dossier / "keep.events.jsonl"
        self._events = EventFile(self._path)
        self._timer = QTimer(self)
        self._timer.setInterval(_POLL_MS)
        self._timer.timeout.connect(self._poll)
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

    def _attach(self) -> None:
        """Find again what another window began."""
        if not self._record.exists():
            return
        try:
            self.kept = load(self._record, Kept, "record of what was begun")
        except NeogenesisError:
            return
        self._listen()
        if self._lives():
            self.state = "running"
            self._timer.start()
        else:
            self._conclude(note=False)

    def _lives(self) -> bool:
        if self._process is not None:
            return self._process.poll() is None
        try:
            command = Path(f"/proc/{self.kept.process}/cmdline").read_bytes()
        except OSError:
            return False
        return self.kept.process > 0 and str(self._path).encode() in command

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
        `check_size` a stick is first tested for being as large as it says.
        """
        old = self._session.place("old")
        if self.is_active or not place or not (old or kind in ONTO):
            return
        unfinished = self.failure is not None and self.kept.kind == kind and self.kept.place == place
        again = unfinished and self.kept.targets == tuple(targets)
        self.heard, self.failure = Heard(), None
        self._path.unlink(missing_ok=True)
        self._events = EventFile(self._path)
        command = "media" if kind == "stick" else kind
        arguments = [command, place, *targets] if kind in ONTO else [command, old, place]
        arguments += ["--events", str(self._path)]
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
        cwd = self._session.dossier if kind == "stick" else None  # where its plan is kept
        self._process = worker.start_command(arguments, self._path.with_name("keep.errors"), cwd)
        self.kept = Kept(kind=kind, place=place, targets=tuple(targets), process=self._process.pid)
        save(self._record, self.kept)
        self.state = "running"
        if kind in ("rescue", "restore"):
            self._session.advance("transfer")
        name, what = Path(place).name, f"{kind}-start"
        if kind == "restore":
            self._session.record(what, f"Restore begun, from {name}", place=place)
        elif kind == "stick":
            self._session.record(what, f"Installer stick begun, from {name}", place=place)
        else:
            self._session.record(what, f"{_WORDS[kind]} begun, to {name}", place=place)
        self._timer.start()
        self.changed.emit()

    def stop(self) -> None:
        """Ask it to end at a safe point; the same work goes on from there when it is started again."""
        if self.state == "running" and self._lives():
            with suppress(ProcessLookupError):
                os.kill(self.kept.process, signal.SIGTERM)
            self.state = "stopping"
            self.changed.emit()

    def dismiss(self) -> None:
        """Put what has ended out of sight; its records stay in the dossier."""
        if not self.is_active:
            self._record.unlink(missing_ok=True)
            self.state, self.heard, self.failure = "ready", Heard(), None
            self.changed.emit()

    def close(self) -> None:
        self._timer.stop()

    def _poll(self) -> None:
        alive = self._lives()
        heard = self._listen()
        if not alive:
            self._listen()
            self._timer.stop()
            self._conclude(note=True)
        elif heard:
            self.moved.emit()

    def _listen(self) -> bool:
        heard = False
        for event in self._events.news():
            heard = True
            self.heard = self.heard.after(event)
        return heard

    def _conclude(self, note: bool) -> None:
        """It has ended: say how, and write it into the logbook when it was watched."""
        self.state, self._process = "ended", None
        outcome = self.heard.outcome
        if outcome is None:
            said = self._path.with_name("keep.errors")
            text = said.read_text("utf-8", "replace").strip() if said.exists() else ""
            self.failure = Failure(text or "It was cut off; the old drive is untouched.", "Start it again to go on.")
        elif outcome.outcome not in ("done", "partial"):
            self.failure = Failure(outcome.text, outcome.remedy, outcome.code)
        text = outcome.text if outcome else (self.failure.text if self.failure else "")
        if note or self._end_is_missing():
            self._session.record(f"{self.kind}-{outcome.outcome if outcome else 'failed'}", text)
            if outcome is not None and outcome.outcome in ("done", "partial") and self._fills_the_new_drive():
                self._session.advance("swap")
            self.ended.emit(text)
        self.changed.emit()

    def _fills_the_new_drive(self) -> bool:
        """Whether what has ended was written to a drive, and not into a file."""
        if self.kind == "rescue":
            return self._session.bench.dock_named(self.kept.place) is not None
        return self.kind == "restore"

    def _end_is_missing(self) -> bool:
        """Whether the logbook says that it began, and not how it ended."""
        latest = [e.kind for e in self._session.log() if e.kind.startswith(f"{self.kind}-")]
        return bool(latest) and latest[-1] == f"{self.kind}-start"
