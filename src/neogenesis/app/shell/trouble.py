"""When the window meets a bug of its own: it stays, says so in one sentence, and keeps a report that can be copied."""

from __future__ import annotations

import faulthandler
import logging
import os
import sys
import traceback
from contextlib import suppress
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType
from typing import IO

from PyQt6.QtCore import QT_VERSION_STR, Qt
from PyQt6.QtWidgets import QApplication, QDialog, QMessageBox, QPlainTextEdit, QWidget

from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import button, label, row, stack
from neogenesis.app.theme.look import look
from neogenesis.bench.records.bug_report import log_folder, versions
from neogenesis.core.errors import NeogenesisError

_LARGEST_BYTES, _KEPT = 1 << 20, 3
_log = logging.getLogger("neogenesis")


def log_path() -> Path:
    return log_folder() / "neogenesis.log"


def _version_line() -> str:
    """What a report of a fault must say first."""
    known = versions()
    return f"neogenesis {known['neogenesis']} · Python {known['python']} · Qt {QT_VERSION_STR} · {known['system']}"


class Handler:
    """Hears every exception that nothing in the window caught; without it one in a slot would end the program."""

    def __init__(self, window: QWidget) -> None:
        self._window = window
        self._sheet: TroubleSheet | None = None
        self._before = sys.excepthook
        self._files: list[logging.Handler] = []
        self._crashes: IO[str] | None = None
        with suppress(OSError):  # a full or read-only home takes no log; the window works all the same
            log_folder().mkdir(parents=True, exist_ok=True)
            file = RotatingFileHandler(log_path(), maxBytes=_LARGEST_BYTES, backupCount=_KEPT, encoding="utf-8")
            file.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(message)s"))
            _log.addHandler(file)
            self._files.append(file)
            self._crashes = (log_folder() / "crash.log").open("a", encoding="utf-8")
            faulthandler.enable(self._crashes)
        sys.excepthook = self.hear

    def hear(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        """Log it and say it; the window goes on."""
        if issubclass(kind, KeyboardInterrupt):
            self._before(kind, error, trace)
            return
        if isinstance(error, NeogenesisError):  # nothing is wrong with the program, but with what it was to do
            self._say(error)
            return
        text = "".join(traceback.format_exception(kind, error, trace))
        _log.error("%s\n%s", _version_line(), text)
        if self._sheet is not None and self._sheet.isVisible():
            self._sheet.add(text)
            return
        self._sheet = TroubleSheet(self._window, text)
        self._sheet.show()

    def _say(self, error: NeogenesisError) -> None:
        """In the window, where nothing nearer says it."""
        _log.warning("%s", error.sentence())
        said_in = getattr(self._window, "say_trouble", None)
        if callable(said_in):
            said_in(error.sentence())

    def close(self) -> None:
        sys.excepthook = self._before
        for file in self._files:
            _log.removeHandler(file)
            file.close()
        if self._crashes is not None:
            faulthandler.disable()
            self._crashes.close()


class TroubleSheet(QDialog):
    """One honest sentence, and the report for who can mend it."""

    def __init__(self, parent: QWidget, report: str) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("A fault in the program"))
        text = tr("The program met a fault of its own. What runs goes on, and nothing that was recorded is lost.")
        more = tr("If something looks odd now, close the window and open it again.")
        self.words = label(f"{text} {more}", wrap=True)
        self.report = QPlainTextEdit(f"{_version_line()}\n{report}")
        self.report.setReadOnly(True)
        self.report.setAccessibleName(tr("Report of the fault"))
        self.report.setFont(look().font(mono=True))
        where = label(tr("It is also in {0}").format(log_path()), "small", wrap=True, copyable=True)
        self.copy = button(tr("Copy report"), self._copy, "main")
        close = button(tr("Close"), self.accept)
        self.setLayout(stack(self.words, self.report, where, row(None, close, self.copy, gap=10), gap=14, margin=22))
        self.resize(look().px(640), look().px(420))

    def add(self, report: str) -> None:
        """Another one before the first was read."""
        self.report.appendPlainText(report)

    def _copy(self) -> None:
        board = QApplication.clipboard()
        if board is not None:
            board.setText(self.report.toPlainText())


def ask_again(error: NeogenesisError) -> bool:
    """Before there is a window: say why there is none, and whether to try again.

    False on a terminal, which says it, and where no one would see a window.
    """
    unseen = os.environ.get("QT_QPA_PLATFORM", "").partition(":")[0] in ("offscreen", "minimal")
    if unseen or (sys.stderr is not None and sys.stderr.isatty()):
        return False
    application = QApplication.instance() or QApplication(sys.argv[:1])
    box = QMessageBox(QMessageBox.Icon.Warning, "Neogenesis", said(error.sentence()))
    box.setTextFormat(Qt.TextFormat.PlainText)
    again = box.addButton(tr("Try again"), QMessageBox.ButtonRole.AcceptRole)
    box.addButton(tr("Close"), QMessageBox.ButtonRole.RejectRole)
    box.exec()
    del application
    return box.clickedButton() is again
