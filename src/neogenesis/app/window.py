"""The main window: which job and which stop is in front, and the wiring between its parts."""

from __future__ import annotations

import msgspec
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QCloseEvent, QIcon, QResizeEvent
from PyQt6.QtWidgets import QDialog, QMainWindow

from neogenesis.app.bench import Bench, Dock, login_name
from neogenesis.app.command.actions import Actions
from neogenesis.app.command.declared import declared
from neogenesis.app.command.field import CommandField, everything
from neogenesis.app.desks import Desks
from neogenesis.app.frame import Frame
from neogenesis.app.jobs.sheet import JobSheet
from neogenesis.app.jobs.view import HELP as JOBS_HELP
from neogenesis.app.keep.view import KeepSheet
from neogenesis.app.language import said
from neogenesis.app.news import News
from neogenesis.app.open_job import OpenJob
from neogenesis.app.overlay.help import HelpOverlay
from neogenesis.app.parts.stop import StopView
from neogenesis.app.preferences.appearance import Appearance
from neogenesis.app.preferences.sheet import PreferencesSheet
from neogenesis.app.settings import Settings
from neogenesis.app.shelf.sheet import DriveSheet
from neogenesis.app.stops import STOPS
from neogenesis.app.theme.icons import icon_pixmap
from neogenesis.app.theme.look import look
from neogenesis.core.job import Shop, first_broken, stop_titled
from neogenesis.core.job.route import position

_NARROW = 1180


class MainWindow(QMainWindow):
    """One window on one bench."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self.bench = bench
        self.desks = Desks(bench)
        self.appearance = Appearance(bench)
        self.job: OpenJob | None = None
        self.stop = ""
        self.views: dict[str, StopView] = {}
        self.setWindowIcon(QIcon(icon_pixmap("ship-wheel", 64, "accent")))
        self.actions_ = Actions(self, declared(self))
        self._build()
        self.appearance.place(self)
        self.appearance.changed.connect(self._rebuild)
        bench.drives_changed.connect(self._drives_changed)
        bench.jobs_changed.connect(self._jobs_changed)
        bench.log_changed.connect(self._show_log)
        self.desks.changed.connect(self._desk_changed)
        self.desks.ended.connect(lambda *_: self._show_shelf())
        bench.watch()
        self.desks.find_running()
        self.news = News(self, self.desks, bench.name)
        self.show_jobs()

    # Building

    def _build(self) -> None:
        """All parts, from nothing; also after the look changed."""
        frame = self.frame = Frame(self.bench.store.trouble)
        self.rail, self.shelf, self.logbook, self.jobs_view = frame.rail, frame.shelf, frame.logbook, frame.jobs
        self.centre, self.views = frame.centre, {}
        if self.job is not None:
            self.logbook.take_drafts(self.job.drafts)
        self.setCentralWidget(frame)
        frame.show()
        self.rail.stop_asked.connect(self.show_stop)
        self.rail.jobs_asked.connect(self.show_jobs)
        self.rail.menu_asked.connect(lambda place: self.actions_.menu(self).popup(place))
        self.jobs_view.job_asked.connect(self.open_job)
        self.jobs_view.new_asked.connect(self.new_job)
        self.jobs_view.edit_asked.connect(self.edit_job)
        self.jobs_view.shelf_asked.connect(self.bench.shelve)
        self.jobs_view.reopen_asked.connect(self.bench.reopen)
        self.shelf.drive_asked.connect(self.show_drive)
        self.logbook.note_written.connect(lambda text: self.job and self.job.note(self.stop, text))
        self._show_shelf()
        self._fold_logbook()

    def _build_stops(self, job: OpenJob) -> None:
        self.views = {key: spec.build(job) for key, spec in STOPS.items()}
        for view in self.views.values():
            view.keep_asked.connect(self.show_keep)
        self.frame.add_stops(self.views)

    def _drop_stops(self) -> None:
        self.frame.drop_stops(self.views)
        self.views = {}

    def _rebuild(self) -> None:
        """The same place again, with the new look."""
        stop, before = self.stop, self.jobs_view
        self._drop_stops()
        self._build()
        self.jobs_view.take_search(before)
        if self.job is None:
            self.show_jobs()
        else:
            self._build_stops(self.job)
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
        self.jobs_view.show_jobs(jobs, self.desks.busy, self.desks.tags, self.desks.running())
        self.centre.setCurrentWidget(self.jobs_view)
        self._fold_logbook()
        self._show_shelf()
        self.actions_.refresh()
        if arriving:
            self.jobs_view.focus_on(came_from)

    def open_job(self, ticket: str) -> None:
        if self.job is not None:
            self._drop_stops()
        self.job = self.desks.open(ticket)
        self.logbook.take_drafts(self.job.drafts)
        self._build_stops(self.job)
        self._show_job()
        self.show_stop("handover" if self.job.job.closed else self.job.job.stop)

    def show_stop(self, key: str) -> None:
        view = self.views.get(key)
        if view is None or self.job is None:
            return
        self.stop = key
        view.refresh()
        self.centre.setCurrentWidget(view)
        view.enter()
        main = view.main_widget()
        if main is not None:
            main.setFocus()
        self._show_marks()
        self._fold_logbook()

    # Sheets

    def _open(self, sheet: QDialog) -> None:
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.open()

    def show_keep(self) -> None:
        """The sheet for an image, a restore, a rescue or a salvage; once begun it is watched at Transfer."""
        if self.job is not None:
            sheet = KeepSheet(self, self.job)
            sheet.begun.connect(lambda: self.show_stop("transfer"))
            self._open(sheet)

    def new_job(self) -> None:
        sheet = JobSheet(self, self.bench.add_job)
        sheet.accepted.connect(lambda: self.open_job(sheet.ticket))
        self._open(sheet)

    def _chosen_ticket(self) -> str:
        """The job in front, or the one chosen on the list."""
        chosen = self.jobs_view.chosen
        return self.job.ticket if self.job else (chosen.job.ticket if chosen else "")

    def has_chosen_job(self) -> bool:
        return bool(self._chosen_ticket())

    def edit_job(self, ticket: str = "") -> None:
        """Change what is known of a job."""
        ticket = ticket or self._chosen_ticket()
        if ticket:
            self._open(JobSheet(self, self.bench.edit_job, self.bench.job(ticket)))

    def show_drive(self, dock: Dock) -> None:
        self._open(DriveSheet(self, dock))

    def show_preferences(self) -> None:
        settings = self.appearance.settings
        self._open(PreferencesSheet(self, settings, self.bench.shop, self._take_preferences, login_name()))

    def _take_preferences(self, settings: Settings, shop: Shop) -> None:
        if shop != self.bench.shop:
            self.bench.keep_shop(shop)
            self.news.rename(self.bench.name)
        kept = msgspec.structs.replace(settings, logbook=self.appearance.settings.logbook)
        self.appearance.keep(kept)

    def show_command(self) -> None:
        field = CommandField(self, everything(self))
        place = self.mapToGlobal(self.rect().center())
        field.move(place.x() - field.width() // 2, self.mapToGlobal(self.rect().topLeft()).y() + look().px(70))
        field.accepted.connect(lambda: (found := field.chosen()) and found.do())
        self._open(field)
        field.field.setFocus()

    def show_help(self) -> None:
        title = said(stop_titled(self.stop).title if self.stop else "Jobs")
        texts = STOPS[self.stop].help if self.stop else JOBS_HELP
        overlay = HelpOverlay(self, title, texts, self.actions_.here())
        overlay.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        overlay.show()
        overlay.setFocus()

    def main_action(self) -> None:
        view = self.views.get(self.stop)
        if view is not None:
            view.main_action()

    # Showing

    def _drives_changed(self) -> None:
        self._show_shelf()
        self._show_marks()
        if self.job is None:
            self._jobs_changed()

    def _desk_changed(self, ticket: str) -> None:
        """Something of a job is different; only the one in front has stops to show it."""
        if self.job is None:
            self._jobs_changed()
        elif self.job.ticket == ticket:
            self._show_marks()
            self._show_shelf()

    def _jobs_changed(self) -> None:
        if self.job is None:
            self.show_jobs()
        else:
            self._show_job()
            view = self.views.get(self.stop)
            if view is not None:
                view.refresh()

    def _show_job(self) -> None:
        if self.job is not None:
            job = self.job.job
            self.rail.show_job(job.ticket, job.customer, job.machine)
            self._show_marks()
            self._show_log()
            self._show_shelf()

    def _show_marks(self) -> None:
        if self.job is None or not self.views:
            return
        job = self.job.job
        marks = {key: mark for key, view in self.views.items() if (mark := view.marks()) is not None}
        self.rail.show_standing(position(job.stop), self.stop, job.closed, marks)
        view = self.views.get(self.stop)
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
        fits = self.width() >= look().px(_NARROW) if wanted is None else wanted
        self.frame.show_logbook(self.job is not None and fits)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fold_logbook()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Transfers go on; what is only being looked at is let go."""
        self.appearance.remember_place(self)
        self.bench.stop_watching()
        self.desks.close()
        self.bench.work.close()
        self.news.close()
        super().closeEvent(event)
