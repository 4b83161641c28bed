"""One command of ours as a process of its own: begun, heard to its end, and taken up again by a window opened later."""

from __future__ import annotations

import os
import signal
import subprocess
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer

from neogenesis.app.desk.events import EventFile
from neogenesis.bench.processes import worker
from neogenesis.core.work import Event

_POLL_MS = 150


class Errand(QObject):
    """`heard` is called with every event, `over` once when the process has ended and everything was heard."""

    def __init__(self, parent: QObject, heard: Callable[[Event], None], over: Callable[[], None]) -> None:
        super().__init__(parent)
        self._heard, self._over = heard, over
        self._child: subprocess.Popen[bytes] | None = None
        self._process = 0
        self._path = Path()
        self._events = EventFile(self._path)
        self._timer = QTimer(self)
        self._timer.setInterval(_POLL_MS)
        self._timer.timeout.connect(self._poll)

    @property
    def process(self) -> int:
        return self._process

    @property
    def is_watched(self) -> bool:
        return self._timer.isActive()

    def begin(self, arguments: Sequence[str], events: Path, cwd: Path | None = None) -> None:
        """Run `neogenesis` with these arguments; it tells its events there, its last words beside. Raises OSError."""
        self._path, self._events = events, EventFile(events)
        arguments = [*arguments, "--events", str(events)]
        self._child = worker.start_command(arguments, errors_beside(events), cwd)
        self._process = self._child.pid
        self._timer.start()

    def join(self, events: Path, process: int) -> None:
        """Listen to one that another window began, from its first word; `over` is called at once if it has ended."""
        self._path, self._events, self._child, self._process = events, EventFile(events), None, process
        self._listen()
        if self.lives:
            self._timer.start()

    @property
    def lives(self) -> bool:
        if self._child is not None:
            return self._child.poll() is None
        try:
            command = Path(f"/proc/{self._process}/cmdline").read_bytes()
        except OSError:
            return False
        return self._process > 0 and str(self._path).encode() in command

    @property
    def last_words(self) -> str:
        """What it said on its standard error, on one line."""
        with suppress(OSError):
            return " ".join(errors_beside(self._path).read_text("utf-8", "replace").split())
        return ""

    def stop(self) -> None:
        """Ask it to end at a safe point."""
        if self.lives:
            with suppress(ProcessLookupError):
                os.kill(self._process, signal.SIGTERM)

    def close(self) -> None:
        """Listen no more; the process goes on."""
        self._timer.stop()

    def _poll(self) -> None:
        alive = self.lives
        self._listen()
        if not alive:
            self._listen()
            self._timer.stop()
            self._child = None
            self._over()

    def _listen(self) -> None:
        for event in self._events.news():
            self._heard(event)


def errors_beside(events: Path) -> Path:
    return events.with_name(f"{events.name.removesuffix('.events.jsonl')}.errors")
