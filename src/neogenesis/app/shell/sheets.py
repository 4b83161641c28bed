"""The sheets that open over the window, and what is done with what they bring back."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog

from neogenesis.app.command.field import CommandField, everything
from neogenesis.app.desk.bench import Dock
from neogenesis.app.jobs.sheet import JobSheet
from neogenesis.app.jobs.view import HELP as JOBS_HELP
from neogenesis.app.language import said
from neogenesis.app.settings import Settings
from neogenesis.app.shell.help import HelpOverlay
from neogenesis.app.stops import STOPS
from neogenesis.app.theme.look import look
from neogenesis.bench.processes.folders import login_name
from neogenesis.core.job import Shop, stop_titled

if TYPE_CHECKING:
    from neogenesis.app.shell.commanded import CommandedWindow


class Sheets:
    """Of one window. Each sheet is let go when it is closed."""

    def __init__(self, window: CommandedWindow) -> None:
        self._window = window

    def _open(self, sheet: QDialog) -> None:
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.open()

    def show_keep(self) -> None:
        """For an image, a restore, a rescue or a salvage; once begun it is watched at Transfer."""
        job = self._window.job
        if job is not None:
            from neogenesis.app.keep.view import KeepSheet

            sheet = KeepSheet(self._window, job)
            sheet.begun.connect(lambda: self._window.show_stop("transfer"))
            self._open(sheet)

    def new_job(self) -> None:
        sheet = JobSheet(self._window, self._window.bench.add_job)
        sheet.accepted.connect(lambda: self._window.open_job(sheet.ticket))
        self._open(sheet)

    def edit_job(self, ticket: str = "") -> None:
        """Change what is known of a job: of the one named, the one in front, or the one chosen on the list."""
        ticket = ticket or self._window.chosen_ticket()
        if ticket:
            bench = self._window.bench
            self._open(JobSheet(self._window, bench.edit_job, bench.job(ticket)))

    def show_drive(self, dock: Dock) -> None:
        from neogenesis.app.shelf.sheet import DriveSheet

        self._open(DriveSheet(self._window, dock))

    def show_preferences(self) -> None:
        from neogenesis.app.preferences.sheet import PreferencesSheet

        settings, shop = self._window.appearance.settings, self._window.bench.shop
        self._open(PreferencesSheet(self._window, settings, shop, self._take_preferences, login_name()))

    def _take_preferences(self, settings: Settings, shop: Shop) -> None:
        window = self._window
        if shop != window.bench.shop:
            window.bench.keep_shop(shop)
            window.news.rename(window.bench.name)
        window.appearance.keep(msgspec.structs.replace(settings, logbook=window.appearance.settings.logbook))

    def show_doctor(self) -> None:
        """What this machine can do, and what will not work on it."""
        from neogenesis.app.shell.doctor import DoctorSheet

        store = self._window.bench.store
        self._open(DoctorSheet(self._window, self._window.bench.work, store.url or str(store.folder)))

    def show_library(self) -> None:
        """System images and packages of the bench, and what a source offers."""
        from neogenesis.app.library.model import LibraryModel
        from neogenesis.app.library.sheet import LibrarySheet

        window = self._window
        settings = window.appearance.settings
        model = LibraryModel(window, window.bench, settings.library_source)
        sheet = LibrarySheet(window, model)
        sheet.source_taken.connect(window.appearance.remember_source)
        sheet.finished.connect(model.deleteLater)
        self._open(sheet)
        model.look()

    def show_command(self) -> None:
        window = self._window
        field = CommandField(window, everything(window))
        place = window.mapToGlobal(window.rect().center())
        top = window.mapToGlobal(window.rect().topLeft()).y()
        field.move(place.x() - field.width() // 2, top + look().px(70))
        field.accepted.connect(lambda: (found := field.chosen()) and found.do())
        self._open(field)
        field.field.setFocus()

    def show_help(self) -> None:
        window = self._window
        title = said(stop_titled(window.stop).title if window.stop else "Jobs")
        texts = STOPS[window.stop].help if window.stop else JOBS_HELP
        overlay = HelpOverlay(window, title, texts, window.actions_.here())
        overlay.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        overlay.show()
        overlay.setFocus()
