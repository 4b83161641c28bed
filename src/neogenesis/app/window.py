"""The main window: route rail, stop, logbook, dock shelf, and the wiring between them."""

from __future__ import annotations

import msgspec
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QCloseEvent, QIcon, QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QMainWindow, QStackedWidget, QSystemTrayIcon, QVBoxLayout, QWidget

from neogenesis.app.bench import Bench, Dock
from neogenesis.app.command.actions import Action, Actions
from neogenesis.app.command.field import CommandField, Found
from neogenesis.app.desks import Desks
from neogenesis.app.jobs.sheet import JobSheet
from neogenesis.app.jobs.view import HELP as JOBS_HELP
from neogenesis.app.jobs.view import JobsView
from neogenesis.app.keep.view import KeepSheet
from neogenesis.app.logbook.view import LogbookView
from neogenesis.app.open_job import OpenJob
from neogenesis.app.overlay.help import HelpOverlay
from neogenesis.app.parts.centre import CentreFrame
from neogenesis.app.parts.controls import notice, rule, scrolled, upright
from neogenesis.app.parts.stop import StopView
from neogenesis.app.rail.view import RailView
from neogenesis.app.settings import Settings, load_settings, save_settings
from neogenesis.app.shelf.sheet import DriveSheet
from neogenesis.app.shelf.view import ShelfView
from neogenesis.app.stops import STOPS
from neogenesis.app.theme.icons import icon_pixmap
from neogenesis.app.theme.look import TEXT_PERCENTS, look
from neogenesis.app.words import settle_locale, tail, tr
from neogenesis.core.job import ROUTE, first_broken
from neogenesis.core.job.route import position

_NARROW = 1180


class MainWindow(QMainWindow):
    """One window on one bench."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        settle_locale()
        self.bench = bench
        self.desks = Desks(bench)
        self.job: OpenJob | None = None
        self.stop = ""
        self.views: dict[str, StopView] = {}
        self._settings = load_settings(bench.store.folder)
        self._tray: QSystemTrayIcon | None = None
        self.setWindowTitle(f"Neogenesis · {bench.name}")
        self.setWindowIcon(QIcon(icon_pixmap("ship-wheel", 64, "accent")))
        self.setMinimumSize(1024, 680)
        self.resize(1280, 800)
        look().set(self._settings.theme, self._settings.percent)
        self.actions_ = Actions(self, self._declare())
        self._build()
        bench.drives_changed.connect(self._show_shelf)
        bench.drives_changed.connect(self._drives_changed)
        bench.jobs_changed.connect(self._jobs_changed)
        bench.log_changed.connect(self._show_log)
        self.desks.changed.connect(self._desk_changed)
        self.desks.ended.connect(self._work_ended)
        bench.watch()
        self.desks.find_running()
        self.show_jobs()

    # Building

    def _build(self) -> None:
        """All widgets, from nothing; also after the text scale changed."""
        self.rail = RailView(self.bench.name)
        self.rail.setFixedWidth(min(look().px(198), 250))
        self.shelf = ShelfView()
        self.logbook = LogbookView()
        self.logbook.setFixedWidth(look().px(302))
        if self.job is not None:
            self.logbook.take_drafts(self.job.drafts)
        self.jobs_view = JobsView()
        self.centre = QStackedWidget()
        self.centre.addWidget(self.jobs_view)
        scroll = scrolled(CentreFrame(self.centre))  # with large text, a stop may be taller than its place
        self._trouble = QVBoxLayout()
        middle = QVBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addLayout(self._trouble)
        middle.addWidget(scroll, 1)
        across = QHBoxLayout()
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        across.addWidget(self.rail)
        across.addWidget(upright())
        across.addLayout(middle, 1)
        self._logbook_edge = upright()
        across.addWidget(self._logbook_edge)
        across.addWidget(self.logbook)
        root = QWidget()
        outer = QVBoxLayout(root)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addLayout(across, 1)
        outer.addWidget(rule())
        outer.addWidget(self.shelf)
        self.setCentralWidget(root)
        self.views = {}
        if self.bench.store.trouble:
            box = QWidget()
            box.setContentsMargins(look().px(28), look().px(14), look().px(28), 0)
            line = QVBoxLayout(box)
            line.addWidget(notice("caution", self.bench.store.trouble))
            self._trouble.addWidget(box)
        self._connect()
        self._show_shelf()
        self._fold_logbook()

    def _connect(self) -> None:
        self.rail.stop_asked.connect(self.show_stop)
        self.rail.jobs_asked.connect(self.show_jobs)
        self.jobs_view.job_asked.connect(self.open_job)
        self.jobs_view.new_asked.connect(self.new_job)
        self.jobs_view.edit_asked.connect(self.edit_job)
        self.jobs_view.shelf_asked.connect(self.bench.shelve)
        self.jobs_view.reopen_asked.connect(self.bench.reopen)
        self.shelf.drive_asked.connect(self.show_drive)
        self.logbook.note_written.connect(self._note)

    def _build_stops(self, job: OpenJob) -> None:
        self.views = {key: spec.build(job) for key, spec in STOPS.items()}
        for view in self.views.values():
            view.keep_asked.connect(self.show_keep)
            self.centre.addWidget(view)

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

    def _drop_stops(self) -> None:
        for view in self.views.values():
            self.centre.removeWidget(view)
            view.hide()
            view.deleteLater()
        self.views = {}

    # Actions

    def _declare(self) -> list[Action]:
        in_job = self._in_job
        own = [
            Action(
                a.key, a.title, a.shortcut, spec.key, lambda a=a, k=spec.key: a.do(self.views[k]), self._at(spec.key)
            )
            for spec in STOPS.values()
            for a in spec.actions
        ]
        stops = [
            Action(f"stop-{s.key}", f"Go to {s.title}", f"Alt+{n}", "Go", lambda k=s.key: self.show_stop(k), in_job)
            for n, s in enumerate(ROUTE, 1)
        ]
        return [
            Action("command", "Find anything", "Ctrl+K", "Go", self.show_command),
            Action("jobs", "All jobs", "Alt+0", "Go", self.show_jobs),
            *stops,
            Action("new-job", "New job", "Ctrl+N", "Job", self.new_job),
            Action("edit-job", "Change the job", "Ctrl+E", "Job", self.edit_job),
            Action("main", "Do the stop's main action", "Ctrl+Return", "Job", self._main_action, in_job),
            Action("note", "Note for the logbook", "Ctrl+L", "Job", self._focus_note, in_job),
            Action("keep", "Image, rescue, restore, or copy files out", "Ctrl+I", "Job", self.show_keep, in_job),
            *own,
            Action("theme", "Day or night", "Ctrl+T", "Window", self.switch_theme),
            Action("logbook", "Show or fold the logbook", "Ctrl+B", "Window", self.switch_logbook),
            Action("larger", "Larger text", "Ctrl+=", "Window", lambda: self.scale(1)),
            Action("smaller", "Smaller text", "Ctrl+-", "Window", lambda: self.scale(-1)),
            Action("help", "Help for this stop", "F1", "Window", self.show_help),
            Action("quit", "Close the window; transfers go on", "Ctrl+Q", "Window", self.close),
        ]

    def _in_job(self) -> bool:
        return self.job is not None

    def _at(self, key: str):  # type: ignore[no-untyped-def]
        return lambda: self.job is not None and self.stop == key

    def _main_action(self) -> None:
        view = self.views.get(self.stop)
        if view is not None:
            view.main_action()

    def show_keep(self) -> None:
        """The sheet for an image, a restore, a rescue or a salvage; once begun it is watched at Transfer."""
        if self.job is None:
            return
        sheet = KeepSheet(self, self.job)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.begun.connect(lambda: self.show_stop("transfer"))
        sheet.open()

    def _focus_note(self) -> None:
        self.logbook.setVisible(True)
        self._logbook_edge.setVisible(True)
        self.logbook.note.setFocus()

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
        self.rail.show_bench([job for job in jobs if job.shelf != "archived"])
        self.jobs_view.show_jobs(jobs, self.desks.busy, self.desks.tags, self.desks.running())
        self.centre.setCurrentWidget(self.jobs_view)
        self._fold_logbook()
        self._show_shelf()
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

    def new_job(self) -> None:
        sheet = JobSheet(self, self.bench.add_job)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.accepted.connect(lambda: self.open_job(sheet.ticket))
        sheet.open()

    def edit_job(self, ticket: str = "") -> None:
        """Change what is known of a job: the one in front, or the one chosen on the list."""
        chosen = self.jobs_view.chosen
        ticket = ticket or (self.job.ticket if self.job else (chosen.job.ticket if chosen else ""))
        if ticket:
            sheet = JobSheet(self, self.bench.edit_job, self.bench.job(ticket))
            sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
            sheet.open()

    def show_drive(self, dock: Dock) -> None:
        DriveSheet(self, dock).open()

    def show_command(self) -> None:
        field = CommandField(self, self._everything())
        place = self.mapToGlobal(self.rect().center())
        field.move(place.x() - field.width() // 2, self.mapToGlobal(self.rect().topLeft()).y() + look().px(70))
        field.accepted.connect(lambda: (found := field.chosen()) and found.do())
        field.open()
        field.field.setFocus()

    def _everything(self) -> list[Found]:
        found = [
            Found(tr(a.title), "", a.shortcut, lambda a=a: self.actions_.run(a))
            for a in self.actions_.available()
            if a.key != "command"
        ]
        for job in self.bench.jobs():
            found.append(
                Found(f"{job.ticket} {job.customer}", tr("job"), job.machine, lambda t=job.ticket: self.open_job(t))
            )
        for dock in self.bench.docks():
            if dock.docked:
                drive = dock.docked.drive
                name = f"{drive.model} {tail(drive.serial)}"
                found.append(Found(name, tr("drive"), drive.serial, lambda d=dock: self.show_drive(d)))
        return found

    def show_help(self) -> None:
        title = next((s.title for s in ROUTE if s.key == self.stop), "Jobs")
        texts = STOPS[self.stop].help if self.stop else JOBS_HELP
        overlay = HelpOverlay(self, tr(title), texts, self.actions_.available())
        overlay.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        overlay.show()
        overlay.setFocus()

    # Showing

    def _drives_changed(self) -> None:
        self._show_marks()
        if self.job is None and self.stop == "":
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

    def _show_log(self) -> None:
        if self.job is not None:
            log = self.job.log()
            self.logbook.show_log(log, first_broken(self.job.ticket, log))

    def _show_shelf(self) -> None:
        self.shelf.show_docks([(dock, self.desks.use(dock, self.job)) for dock in self.bench.docks()])

    def _fold_logbook(self) -> None:
        wanted = self._settings.logbook
        shown = self.job is not None and (self.width() >= look().px(_NARROW) if wanted is None else wanted)
        self.logbook.setVisible(shown)
        self._logbook_edge.setVisible(shown)

    def _note(self, text: str) -> None:
        if self.job is not None:
            self.job.note(self.stop, text)

    def _work_ended(self, ticket: str, text: str) -> None:
        """Whatever is in front: the shelf and the list of jobs show it, and who is elsewhere hears of it."""
        self._show_shelf()
        if not self.isActiveWindow() and QSystemTrayIcon.isSystemTrayAvailable():
            if self._tray is None:
                self._tray = QSystemTrayIcon(self.windowIcon(), self)
            self._tray.show()
            self._tray.showMessage(f"Neogenesis · {ticket}", text)

    # Look

    def _keep(self, **changes: object) -> None:
        self._settings = msgspec.structs.replace(self._settings, **changes)
        save_settings(self.bench.store.folder, self._settings)

    def switch_theme(self) -> None:
        self._keep(theme="day" if look().tokens.name == "night" else "night")
        look().set(theme=self._settings.theme)
        self._rebuild()

    def switch_logbook(self) -> None:
        self._keep(logbook=self.logbook.isHidden())
        self._fold_logbook()

    def scale(self, step: int) -> None:
        at = TEXT_PERCENTS.index(self._settings.percent) if self._settings.percent in TEXT_PERCENTS else 0
        self._keep(percent=TEXT_PERCENTS[min(max(at + step, 0), len(TEXT_PERCENTS) - 1)])
        look().set(percent=self._settings.percent)
        self._rebuild()

    @property
    def settings(self) -> Settings:
        return self._settings

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fold_logbook()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Transfers go on; what is only being looked at is let go."""
        self.bench.stop_watching()
        self.desks.close()
        self.bench.work.close()
        if self._tray is not None:
            self._tray.hide()
        super().closeEvent(event)
