"""How the window looks and speaks for the person who uses it, kept from one start to the next."""

from __future__ import annotations

from contextlib import suppress

import msgspec
from PyQt6.QtCore import QByteArray, QObject, pyqtSignal
from PyQt6.QtWidgets import QMainWindow

from neogenesis.app.desk.bench import Bench
from neogenesis.app.language import LANGUAGE, system_language
from neogenesis.app.settings import Settings, load_settings, save_settings
from neogenesis.app.theme.look import TEXT_PERCENTS, look
from neogenesis.core.errors import NeogenesisError

_SMALLEST = (1024, 680)
_USUAL = (1280, 800)


class Appearance(QObject):
    """`changed` tells that everything is to be built anew."""

    changed = pyqtSignal()

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self._bench = bench
        self.settings = load_settings(bench.person, bench.store.folder)
        bench.pedal_learned.connect(lambda key: self.keep(msgspec.structs.replace(self.settings, pedal=key)))
        self._apply()

    def _apply(self) -> None:
        wanted = self.settings.language or system_language()
        if wanted != LANGUAGE.code:
            with suppress(NeogenesisError):  # its texts are damaged: then English
                LANGUAGE.speak(wanted)
        look().set(self.settings.theme, self.settings.percent)
        self._bench.technician = self.settings.technician
        self._bench.photo_folder = self.settings.photo_folder
        self._bench.pedal = self.settings.pedal

    def keep(self, settings: Settings) -> None:
        """Put on file, and show it if it can be seen."""
        before, self.settings = self.settings, settings
        save_settings(self._bench.person, settings)
        self._bench.technician = settings.technician
        self._bench.photo_folder = settings.photo_folder
        self._bench.pedal = settings.pedal
        if (before.theme, before.percent, before.language) != (settings.theme, settings.percent, settings.language):
            self._apply()
            self.changed.emit()

    def switch_theme(self) -> None:
        self.keep(msgspec.structs.replace(self.settings, theme="day" if self.settings.theme == "night" else "night"))

    def scale(self, step: int) -> None:
        """One size of text more or less."""
        at = TEXT_PERCENTS.index(self.settings.percent) if self.settings.percent in TEXT_PERCENTS else 0
        percent = TEXT_PERCENTS[min(max(at + step, 0), len(TEXT_PERCENTS) - 1)]
        self.keep(msgspec.structs.replace(self.settings, percent=percent))

    def fold_logbook(self, folded: bool) -> None:
        self.keep(msgspec.structs.replace(self.settings, logbook=not folded))

    def remember_source(self, source: str) -> None:
        """Where the library is filled from."""
        self.keep(msgspec.structs.replace(self.settings, library_source=source))

    # Where the window is

    def place(self, window: QMainWindow) -> None:
        """Where it was when it was closed, as far as there is still a screen for it; never larger than the screen."""
        screen = window.screen()
        room = screen.availableGeometry() if screen else None
        width, height = (room.width(), room.height()) if room else _USUAL
        window.setMinimumSize(min(_SMALLEST[0], width), min(_SMALLEST[1], height))
        window.resize(min(_USUAL[0], width), min(_USUAL[1], height))
        if self.settings.geometry:
            window.restoreGeometry(QByteArray.fromBase64(self.settings.geometry.encode()))

    def remember_place(self, window: QMainWindow) -> None:
        geometry = bytes(window.saveGeometry().toBase64().data()).decode()
        self.keep(msgspec.structs.replace(self.settings, geometry=geometry))
