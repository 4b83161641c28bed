"""The bench as the window sees it: connected drives with their tags, all jobs, and the one that is open."""

from __future__ import annotations

import getpass
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from neogenesis.app.work import Failure, Work
from neogenesis.bench.docks import Docked, Docks
from neogenesis.core.job import Job, JobStore, LogEntry
from neogenesis.core.work.control import Clock

_LOOK_MS = 1500


@dataclass(frozen=True, slots=True)
class Dock:
    """A place on the shelf: a drive that is there, the ghost of one that was pulled, or nothing."""

    docked: Docked | None = None
    tag: int = 0
    present: bool = False


class Bench(QObject):
    """Knows what is connected and what is to be done. Screens listen to it and send it orders."""

    drives_changed = pyqtSignal()
    jobs_changed = pyqtSignal()
    log_changed = pyqtSignal()

    def __init__(self, name: str, store: JobStore, docks: Docks, work: Work, clock: Clock) -> None:
        super().__init__()
        self.name, self.store, self.work, self.clock = name, store, work, clock
        self._docks = docks
        self._order: list[str] = []
        self._seen: dict[str, Docked] = {}
        self._present: tuple[str, ...] = ()
        self._looking = False
        self._timer = QTimer(self)
        self._timer.setInterval(_LOOK_MS)
        self._timer.timeout.connect(self.look)

    # Drives

    def watch(self) -> None:
        """Look at the docks now, and again every moment."""
        self._take(self._docks.drives())
        self._timer.start()

    def stop_watching(self) -> None:
        self._timer.stop()

    def look(self) -> None:
        if not self._looking:
            self._looking = True
            self.work.in_thread(self._looked, self._docks.drives)

    def _looked(self, found: list[Docked] | Failure) -> None:
        self._looking = False
        if not isinstance(found, Failure):
            self._take(found)

    def _take(self, found: list[Docked]) -> None:
        present = tuple(d.key for d in found)
        changed = present != self._present or any(self._seen.get(d.key) != d for d in found)
        for docked in found:
            self._seen[docked.key] = docked
            if docked.key not in self._order:
                self._order.append(docked.key)
        self._present = present
        if changed:
            self.drives_changed.emit()

    def docks(self) -> list[Dock]:
        """The shelf: drives and ghosts in the order of their tags, then empty docks."""
        shelf = [Dock(self._seen[key], tag, key in self._present) for tag, key in enumerate(self._order)]
        return shelf + [Dock() for _ in range(max(0, self._docks.count - len(shelf)))]

    def dock_of(self, name: str) -> Dock | None:
        """The drive that a job calls by that name, if it has ever been seen here."""
        return next((d for d in self.docks() if d.docked and name in (d.docked.name, d.docked.key)), None)

    # Jobs

    def jobs(self) -> list[Job]:
        return self.store.jobs()

    def add_job(self, job: Job) -> None:
        """Raises BadArgument when the ticket is empty or taken."""
        self.store.add(job)
        self.record(job.ticket, "intake", "Job taken in" + (f": {job.wish}" if job.wish else ""))
        self.jobs_changed.emit()

    def update(self, ticket: str, **changes: Any) -> Job:
        job = self.store.update(ticket, **changes)
        self.jobs_changed.emit()
        return job

    def record(self, ticket: str, kind: str, text: str, **figures: Any) -> LogEntry:
        """Append to a job's logbook."""
        entry = self.store.append(ticket, self.clock.wall(), technician(), kind, text, **figures)
        self.log_changed.emit()
        return entry

    def when_changed(self, listener: Callable[[], object]) -> None:
        """Hear of drives and jobs alike."""
        self.drives_changed.connect(listener)
        self.jobs_changed.connect(listener)


def technician() -> str:
    """Who is at the bench, as the system knows them."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return "technician"
