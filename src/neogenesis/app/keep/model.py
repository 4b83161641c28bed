"""One image, rescue or salvage of a job's old drive, run by a worker that outlives the window."""

from __future__ import annotations

import os
import signal
import subprocess
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from neogenesis.app.transfer.events import EventFile
from neogenesis.app.work import Failure
from neogenesis.bench import worker
from neogenesis.core.transfer import Event

if TYPE_CHECKING:
    from neogenesis.app.open_job import OpenJob

Kind = Literal["image", "rescue", "salvage"]
State = Literal["ready", "running", "stopping", "ended"]
_POLL_MS = 150


class KeepModel(QObject):
    """`latest` is the last progress heard, `outcome` how it ended."""

    changed = pyqtSignal()
    moved = pyqtSignal()

    def __init__(self, desk: OpenJob) -> None:
        super().__init__(desk)
        self._desk = desk
        self.state: State = "ready"
        self.kind: Kind = "image"
        self.latest: Event | None = None
        self.outcome: Event | None = None
        self.failure: Failure | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self._path = desk.dossier / "keep.events.jsonl"
        self._events = EventFile(self._path)
        self._timer = QTimer(self)
        self._timer.setInterval(_POLL_MS)
        self._timer.timeout.connect(self._poll)

    @property
    def is_active(self) -> bool:
        return self.state in ("running", "stopping")

    def start(self, kind: Kind, place: str, tail: str = "") -> None:
        """`place` is the image file, the folder, or the drive or image file that a rescue goes onto."""
        old = self._desk.job.old_drive
        if self.is_active or not old or not place:
            return
        self.kind, self.latest, self.outcome, self.failure = kind, None, None, None
        self._path.unlink(missing_ok=True)
        self._events = EventFile(self._path)
        arguments = [kind, old, place, "--events", str(self._path)]
        if kind == "rescue":
            arguments += ["--map", str(self._desk.dossier / "rescue.map.json"), "--confirm", tail]
        self._process = worker.start_command(arguments, self._path.with_name("keep.errors"))
        self.state = "running"
        words = {"image": "Image", "rescue": "Rescue", "salvage": "Copying files out"}
        self._desk.record(f"{kind}-start", f"{words[kind]} begun, to {place}")
        self._timer.start()
        self.changed.emit()

    def stop(self) -> None:
        """Ask it to end at a safe point; the same work goes on from there when it is started again."""
        if self._process is not None and self.state == "running":
            with suppress(ProcessLookupError):
                os.kill(self._process.pid, signal.SIGTERM)
            self.state = "stopping"
            self.changed.emit()

    def close(self) -> None:
        self._timer.stop()

    def _poll(self) -> None:
        heard = self._listen()
        if self._process is not None and self._process.poll() is not None:
            self._listen()
            self._timer.stop()
            self._conclude()
        elif heard:
            self.moved.emit()

    def _listen(self) -> bool:
        heard = False
        for event in self._events.news():
            heard = True
            if event.event == "outcome":
                self.outcome = event
            elif event.event == "progress":
                self.latest = event
        return heard

    def _conclude(self) -> None:
        self.state = "ended"
        self._process = None
        outcome = self.outcome
        if outcome is None:
            said = self._path.with_name("keep.errors")
            text = Path(said).read_text("utf-8", "replace").strip() if said.exists() else ""
            self.failure = Failure(text or "It was cut off; the old drive is untouched.", "Start it again to go on.")
        elif outcome.outcome not in ("done", "partial"):
            self.failure = Failure(outcome.text, outcome.remedy, outcome.code)
        text = outcome.text if outcome else (self.failure.text if self.failure else "")
        self._desk.record(f"{self.kind}-{outcome.outcome if outcome else 'failed'}", text)
        self.changed.emit()
