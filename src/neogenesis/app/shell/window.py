"""The main window: which job and which stop is in front, and the wiring between its parts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QPoint, QTimer
from PyQt6.QtGui import QCloseEvent, QIcon, QResizeEvent

from neogenesis.app.command.actions import Actions
from neogenesis.app.command.declared import declared
from neogenesis.app.desk.bench import Bench
from neogenesis.app.desk.desks import Desks
from neogenesis.app.language import said
from neogenesis.app.parts.stop import StopView, StopViews
from neogenesis.app.preferences.appearance import Appearance
from neogenesis.app.shell.ahead import Ahead
from neogenesis.app.shell.commanded import CommandedWindow
from neogenesis.app.shell.frame import Frame
from neogenesis.app.shell.news import News
from neogenesis.app.shell.sheets import Sheets
from neogenesis.app.stops import STOPS
from neogenesis.app.theme.icons import icon_pixmap
from neogenesis.app.theme.look import look
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job import first_broken
from neogenesis.core.job.route import position

if TYPE_CHECKING:
    from neogenesis.app.desk.open_job import OpenJob

_NARROW = 1180
_LOAD_AFTER_MS = 150
#: What decides about the use of a drive (see `Desks.use`).
_SAY_WHAT_IS_WRITTEN = ("job", "survey", "plan", "transfer", "keep")


class MainWindow(CommandedWindow):
    """One window on one bench."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self.bench = bench
        self.desks = Desks(bench)
        self.appearance = Appearance(bench)
        self.job: OpenJob | None = None
        self.stop = ""
        self.views = StopViews(self._build_stop)
        self.setWindowIcon(QIcon(icon_pixmap("ship-wheel", 64, "accent")))
        self.sheets = Sheets(self)
        self.actions_ = Actions(self, declared(self))
        self._build()
        self.appearance.place(self)
        self.appearance.changed.connect(self._rebuild)
        bench.drives_changed.connect(self._drives_changed)
        bench.jobs_changed.connect(self._jobs_changed)
        bench.log_changed.connect(self._show_log)
        bench.others_wrote.connect(self._hear_others)
        bench.cannot_record.connect(lambda _: self.frame.say_trouble(self._trouble()))
        self.desks.changed.connect(self._desk_changed)
        self.desks.ended.connect(lambda *_: self._show_shelf())
        bench.watch()
        self.desks.find_running()
        self.news = News(self, self.desks, bench.name)
        self.show_jobs()
        self._ahead = Ahead()
        QTimer.singleShot(_LOAD_AFTER_MS, self._ahead.begin)

    # Building

    def _build(self) -> None:
        """All parts, from nothing; also after the look changed."""
        frame = self.frame = Frame(self._trouble())
        self.rail, self.shelf, self.logbook, self.jobs_view = frame.rail, frame.shelf, frame.logbook, frame.jobs
        self.centre = frame.centre
        self.views.clear()
        if self.job is not None:
            self.logbook.take_drafts(self.job.drafts)
        self.setCentralWidget(frame)
        frame.show()
        self.rail.stop_asked.connect(self.show_stop)
        self.rail.keep_asked.connect(self.sheets.show_keep)
        self.rail.jobs_asked.connect(self.show_jobs)
        self.rail.menu_asked.connect(self._show_menu)
        self.jobs_view.job_asked.connect(self.open_job)
        self.jobs_view.new_asked.connect(self.sheets.new_job)
        self.jobs_view.edit_asked.connect(self.sheets.edit_job)
        self.jobs_view.shelf_asked.connect(self.bench.shelve)
        self.jobs_view.reopen_asked.connect(self.bench.reopen)
        self.shelf.drive_asked.connect(self.sheets.show_drive)
        self.logbook.take_note_by(lambda text: self.job.note(self.stop, text) if self.job is not None else None)
        self._show_shelf()
        self._fold_logbook()

    def say_trouble(self, sentence: str) -> None:
        """What could not be done, above everything, until something else is to be said there."""
        self.frame.say_trouble(said(sentence))

    def _trouble(self) -> str:
        """What the bench has to say at the top: what is wrong with its records."""
        return self.bench.cannot_write or self.bench.trouble

    def _hear_others(self) -> None:
        """Another window, or a command, wrote: what is shown here is as it is now."""
        self.desks.hear_others()
        self._show_shelf()
        self._show_marks()

    def _show_menu(self, place: QPoint) -> None:
        menu = self.actions_.menu(self)
        menu.aboutToHide.connect(menu.deleteLater)
        menu.popup(place)

    def _build_stop(self, key: str) -> StopView:
        """A stop is built when it is first gone to."""
        assert self.job is not None
        view = STOPS[key].view()(self.job, self.centre)
        view.keep_asked.connect(self.sheets.show_keep)
        view.stop_asked.connect(self.show_stop)
        self.centre.addWidget(view)
        view.refresh()
        return view

    def _drop_stops(self) -> None:
        self.frame.drop_stops(self.views.built())
        self.views.clear()

    def _rebuild(self) -> None:
        """The same place again, with the new look."""
        stop, before = self.stop, self.jobs_view
        self._drop_stops()
        self._build()
        self.jobs_view.take_search(before)
        if self.job is None:
            self.show_jobs()
        else:
            self._show_job()
            self.show_stop(stop)

    # Going places

    def show_jobs(self) -> None:
        arriving = self.centre.currentWidget() is not self.jobs_view or not self.jobs_view.model.rows
        came_from = self.job.ticket if self.job is not None else ""
        if self.job is not None:
            self.job = None
            self._drop_stops()
            self.desks.leave()
        self.stop = ""
        jobs = self.bench.jobs()
        self.rail.show_bench(self.bench.name, [job for job in jobs if job.shelf != "archived"])
        glances = self.bench.glances(anew=arriving)
        due, running = self.bench.drives_due(), self.desks.running()
        self.jobs_view.show_jobs(jobs, self.desks.busy, self.desks.tags, running, glances, self.bench.me, due)
        self.centre.setCurrentWidget(self.jobs_view)
        self._fold_logbook()
        self._show_shelf()
        self.actions_.refresh()
        if arriving:
            self.jobs_view.focus_on(came_from)

    def open_job(self, ticket: str) -> None:
        try:
            desk = self.desks.open(ticket)  # what it tells meanwhile is still heard by the stops of the job before
        except NeogenesisError as error:
            self.frame.say_trouble(said(error.sentence()))
            return
        if self.job is not None:
            self._drop_stops()
        self.job = desk
        self.logbook.take_drafts(self.job.drafts)
        self._show_job()
        self.shelf.bring(self.job.old_dock())
        self.show_stop("handover" if self.job.job.closed else self.job.job.stop)

    def show_stop(self, key: str) -> None:
        if self.job is None or key not in STOPS:
            return
        self.stop, view = key, self.views[key]
        view.refresh()
        self.centre.setCurrentWidget(view)
        view.enter()
        main = view.main_widget()
        if main is not None:
            main.setFocus()
        self._show_marks()
        self._fold_logbook()

    def chosen_ticket(self) -> str:
        """The job in front, or the one chosen on the list; empty for none."""
        chosen = self.jobs_view.chosen
        return self.job.ticket if self.job else (chosen.job.ticket if chosen else "")

    def main_action(self) -> None:
        view = self.views.front(self.stop)
        if view is not None:
            view.main_action()

    # Showing

    def _drives_changed(self) -> None:
        self._show_shelf()
        self._show_marks()
        if self.job is None:
            self._jobs_changed()

    def _desk_changed(self, ticket: str, what: str) -> None:
        """Something of a job is different; only the one in front has stops to show it."""
        if self.job is None:
            self._jobs_changed()
        elif self.job.ticket == ticket:
            self._show_marks()
            if what in _SAY_WHAT_IS_WRITTEN:
                self._show_shelf()

    def _jobs_changed(self) -> None:
        if self.job is None:
            self.show_jobs()
        else:
            self._show_job()
            view = self.views.front(self.stop)
            if view is not None:
                view.refresh()

    def _show_job(self) -> None:
        if self.job is not None:
            job = self.job.job
            self.rail.show_job(job.ticket, job.customer, job.machine)
            self.rail.show_elsewhere(self.bench.is_open_elsewhere(job.ticket))
            self._show_marks()
            self._show_log()
            self._show_shelf()

    def _show_marks(self) -> None:
        if self.job is None:
            return
        job = self.job.job
        marks = {key: mark for key, spec in STOPS.items() if (mark := spec.marks(self.job)) is not None}
        decide = self.job.decide
        self.rail.show_added(() if job.closed else decide.added)
        self.rail.show_standing(position(job.stop), self.stop, job.closed, marks, decide.skipped)
        view = self.views.front(self.stop)
        if view is not None:
            self.logbook.show_checks(view.checks())
        self.actions_.refresh()

    def _show_log(self) -> None:
        if self.job is not None:
            log = self.job.log()
            self.logbook.show_log(log, first_broken(self.job.ticket, log))

    def _show_shelf(self) -> None:
        self.shelf.show_docks([(dock, self.desks.use(dock, self.job)) for dock in self.bench.docks()])

    # The logbook beside the stop

    def focus_note(self) -> None:
        self.frame.show_logbook(True)
        self.logbook.note.setFocus()

    def switch_logbook(self) -> None:
        self.appearance.fold_logbook(not self.logbook.isHidden())
        self._fold_logbook()

    def _fold_logbook(self) -> None:
        wanted = self.appearance.settings.logbook
        view = self.views.front(self.stop)
        roomy = self.width() >= look().px(_NARROW) and not (view is not None and view.needs_room)
        fits = roomy if wanted is None else wanted
        self.frame.show_logbook(self.job is not None and fits)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fold_logbook()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Transfers go on; what is only being looked at is let go."""
        self.appearance.remember_place(self)
        self._ahead.end()
        self.bench.stop_watching()
        self.desks.close()
        self.bench.work.close()
        self.news.close()
        super().closeEvent(event)
