"""What a person hears who looks elsewhere: how far the work is, in the title and at the tray, and how it ended."""

from __future__ import annotations

from datetime import datetime

from PyQt6.QtCore import QObject, QTimer
from PyQt6.QtWidgets import QMainWindow, QSystemTrayIcon

from neogenesis.app.desk.desks import Desks
from neogenesis.app.jobs.running import Running, running_of
from neogenesis.app.language import said

_LOOK_MS = 1000


class News(QObject):
    """Of one window. The tray has an icon only while something runs or has just ended, and makes no sound."""

    def __init__(self, window: QMainWindow, desks: Desks, name: str) -> None:
        super().__init__(window)
        self._window, self._desks, self._name = window, desks, name
        self._tray: QSystemTrayIcon | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(_LOOK_MS)
        self._timer.timeout.connect(self.look)
        desks.ended.connect(self._ended)
        desks.changed.connect(lambda *_: self.look())
        self.look()

    def rename(self, name: str) -> None:
        self._name = name
        self.look()

    def look(self) -> None:
        """Say what runs now."""
        now = datetime.now()
        running = [running_of(desk, now) for desk in self._desks.running()]
        head = " · ".join(_short(one) for one in running[:2]) + (" …" if len(running) > 2 else "")
        self._window.setWindowTitle(f"{head} · Neogenesis" if running else f"Neogenesis · {self._name}")
        if running and not self._timer.isActive():
            self._timer.start()
        elif not running:
            self._timer.stop()
        if running or self._tray is not None:
            tray = self._shown_tray()
            if tray is not None:
                tray.setToolTip("\n".join(map(_long, running)) or f"Neogenesis · {self._name}")

    def _shown_tray(self) -> QSystemTrayIcon | None:
        if self._tray is None and QSystemTrayIcon.isSystemTrayAvailable():
            self._tray = QSystemTrayIcon(self._window.windowIcon(), self._window)
            self._tray.activated.connect(lambda _: self._window.activateWindow())
            self._tray.show()
        return self._tray

    def _ended(self, ticket: str, text: str) -> None:
        self.look()
        tray = None if self._window.isActiveWindow() else self._shown_tray()
        if tray is not None:
            tray.showMessage(f"Neogenesis · {ticket}", said(text))

    def close(self) -> None:
        self._timer.stop()
        if self._tray is not None:
            self._tray.hide()


def _short(one: Running) -> str:
    return one.ticket if one.share is None else f"{one.ticket} {100 * one.share:.0f} %"


def _long(one: Running) -> str:
    share = "" if one.share is None else f"{100 * one.share:.0f} %"
    return "  ".join(filter(None, (one.ticket, one.what, share, one.pace, one.ends)))
