"""The jobs that are open or at work. What runs belongs to the bench: it is heard to its end whatever is in front."""

from __future__ import annotations

from contextlib import suppress
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.desk.bench import Bench, Dock
from neogenesis.app.language import tr
from neogenesis.bench.processes import worker
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job import Job
from neogenesis.core.job.ticket import folder_name

if TYPE_CHECKING:
    from neogenesis.app.desk.open_job import OpenJob


class Desks(QObject):
    """`changed` tells of which job what is different, named as `OpenJob` does; `ended` how work of a job ended."""

    changed = pyqtSignal(str, str)
    ended = pyqtSignal(str, str)

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self._bench = bench
        self._open: dict[str, OpenJob] = {}
        self._front = ""

    def find_running(self) -> None:
        """Take up what other windows began and what ended while no window was there; each end is written once.

        A job whose dossier cannot be opened is left alone; the list shows it all the same.
        """
        for ticket in self._bench.store.unfinished():
            with suppress(NeogenesisError):
                self._desk(ticket)
        for job in self._bench.jobs():
            if not job.closed and job.ticket not in self._open and self._is_running(job.ticket):
                self._desk(job.ticket)
        self._drop_idle()

    def _is_running(self, ticket: str) -> bool:
        plan = self._bench.store.folder / "jobs" / folder_name(ticket) / "plan.json"
        return worker.running_worker(plan) is not None

    def hear_others(self) -> None:
        """Another window or a command wrote into the records: what it began or ended is taken up here as well."""
        for desk in self._open.values():
            desk.hear_others()
        self.find_running()

    def open(self, ticket: str) -> OpenJob:
        """The job in front from now on. Raises BadArgument for a ticket that there is not."""
        desk = self._desk(ticket)
        self._front = ticket
        self._drop_idle()
        self._bench.sit(ticket)
        return desk

    def leave(self) -> None:
        """No job is in front any more; what is under way stays."""
        self._front = ""
        self._bench.sit("")
        self._drop_idle()

    def running(self) -> list[OpenJob]:
        """Jobs of which something is under way."""
        return [desk for desk in self._open.values() if desk.is_busy]

    def running_of(self, ticket: str) -> OpenJob | None:
        desk = self._open.get(ticket)
        return desk if desk is not None and desk.is_busy else None

    def _desk(self, ticket: str) -> OpenJob:
        desk = self._open.get(ticket)
        if desk is None:
            from neogenesis.app.desk.open_job import OpenJob  # with all that the stops know

            self._bench.forget(ticket)
            desk = self._open[ticket] = OpenJob(self._bench, ticket)
            desk.changed.connect(lambda what: self.changed.emit(ticket, what))
            desk.ended.connect(lambda text: self._ended(ticket, text))
        return desk

    def _ended(self, ticket: str, text: str) -> None:
        self.ended.emit(ticket, text)
        self.changed.emit(ticket, "job")

    def _drop_idle(self) -> None:
        for ticket, desk in list(self._open.items()):
            if ticket != self._front and not desk.is_busy:
                del self._open[ticket]
                desk.close()
                desk.deleteLater()

    def close(self) -> None:
        for desk in self._open.values():
            desk.close()
        self._open = {}
        self._bench.sit("")

    # What is said of drives and jobs

    def use(self, dock: Dock, front: OpenJob | None) -> str:
        """What may happen to a drive: all are sealed but the new drive of the job in front, and what is written to."""
        if dock.docked is not None and (self._bench.is_written(dock) or self._is_begun(dock)):
            return tr("being written")
        new = front.new_dock() if front is not None else None
        if front is None or new is None or dock.tag != new.tag or front.job.closed or front.plan.out_of_date:
            return tr("sealed")
        return tr("sealed") if self._bench.held(dock, front.ticket) else tr("may be written")

    def _is_begun(self, dock: Dock) -> bool:
        """Whether work that this window watches is on its way to that drive, before it holds the claim."""
        for desk in self.running():
            new = desk.new_dock()
            if desk.transfer.is_active and new is not None and new.tag == dock.tag:
                return True
            if desk.keep.is_active and dock.docked and dock.docked.name in desk.keep.written_to:
                return True
        return False

    def busy(self, job: Job) -> str:
        """What is under way of a job, in words; empty for nothing."""
        desk = self.running_of(job.ticket)
        if desk is None:
            return ""
        if desk.transfer.is_active:
            return tr("Transfer under way")
        return tr("{0} under way").format(tr(desk.keep.title)) if desk.keep.is_active else tr("Being read")

    def tags(self, job: Job) -> tuple[int | None, int | None]:
        """Bench tags of the job's old and new drive, of those that are connected."""
        old, new = self._bench.dock_of(job, "old"), self._bench.dock_of(job, "new")
        return (old.tag if old and old.present else None, new.tag if new and new.present else None)
