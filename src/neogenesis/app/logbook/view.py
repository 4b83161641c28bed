"""Checks of the stop in view, the logbook, and a field for notes."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import clear, label, notice, rule, scrolled
from neogenesis.app.parts.stop import Check
from neogenesis.app.theme.look import look
from neogenesis.app.words import clock_of, day_of
from neogenesis.core.job import LogEntry

_MOST_SHOWN = 200


class LogbookView(QWidget):
    """To the right of the stop; can be folded away."""

    note_written = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._checks_title = label(tr("Checks"), "head")
        self._checks = QVBoxLayout()
        self._checks.setSpacing(look().px(10))
        self._rule = rule()
        self._log = QVBoxLayout()
        self._log.setSpacing(look().px(9))
        self.note = QLineEdit()
        self.note.setPlaceholderText(tr("Add a note"))
        self.note.setToolTip(tr("Write a note into the logbook  Ctrl+L"))
        self.note.setAccessibleName(tr("Note for the logbook"))
        self.note.returnPressed.connect(self._write)
        self.note.textChanged.connect(self._typed)
        self._drafts: dict[str, str] = {}
        inner = QWidget()
        layout = QVBoxLayout(inner)
        layout.setContentsMargins(look().px(16), look().px(18), look().px(16), look().px(10))
        layout.setSpacing(look().px(12))
        layout.addWidget(self._checks_title)
        layout.addLayout(self._checks)
        layout.addWidget(self._rule)
        layout.addWidget(label(tr("Logbook"), "head"))
        layout.addLayout(self._log)
        layout.addStretch(1)
        scroll = scrolled(inner)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addWidget(scroll, 1)
        foot = QHBoxLayout()
        foot.setContentsMargins(look().px(16), look().px(6), look().px(16), look().px(12))
        foot.addWidget(self.note)
        outer.addLayout(foot)
        self._checked: list[Check] | None = None
        self._shown: tuple[list[LogEntry], int | None] = ([], None)

    def take_drafts(self, drafts: dict[str, str]) -> None:
        """What is typed as a note belongs to the job in front."""
        self._drafts = {}
        self.note.setText(drafts.get("logbook", ""))
        self._drafts = drafts

    def _typed(self, text: str) -> None:
        if text:
            self._drafts["logbook"] = text
        else:
            self._drafts.pop("logbook", None)

    def show_log(self, entries: Sequence[LogEntry], broken: int | None) -> None:
        """Newest first. `broken` is the first entry whose seal does not hold. What stands there already stays."""
        today = datetime.now().date().isoformat()
        before, shown = self._shown
        new = entries[len(before) :]
        grown = broken is None and shown is None and bool(before) and list(entries[: len(before)]) == before
        self._shown = (list(entries), broken)
        if grown and all(entry.at[:10] == today for entry in new):
            for entry in new:
                self._log.insertLayout(0, self._line(entry))
            return
        clear(self._log)
        if broken is not None:
            text = tr("Entry {0} was changed after it was written.").format(broken)
            self._log.addWidget(notice("stop", text, tr("The dossier's logbook.jsonl holds a second copy.")))
        day = today
        for entry in reversed(entries[-_MOST_SHOWN:]):
            if entry.at[:10] != day:
                day = entry.at[:10]
                self._log.addWidget(label(day_of(entry.at), "small"))
            self._log.addLayout(self._line(entry))

    def _line(self, entry: LogEntry) -> QHBoxLayout:
        """When, and what."""
        line = QHBoxLayout()
        line.setSpacing(look().px(8))
        at = label(clock_of(entry.at), "muted")
        at.setFixedWidth(look().metrics(mono=False).horizontalAdvance("00:00 "))
        at.setToolTip(f"{entry.at}  {entry.who}")
        line.addWidget(at, 0, Qt.AlignmentFlag.AlignTop)
        words = label(entry.text if entry.kind == "note" else said(entry.text), wrap=True, copyable=True)
        words.setToolTip(f"{entry.at}  {entry.who}")
        line.addWidget(words, 1)
        return line

    def show_checks(self, checks: Sequence[Check]) -> None:
        if list(checks) == self._checked:
            return
        self._checked = list(checks)
        clear(self._checks)
        for check in checks:
            self._checks.addWidget(notice(check.severity, check.text, check.remedy))
        for widget in (self._checks_title, self._rule):
            widget.setVisible(bool(checks))

    def _write(self) -> None:
        text = self.note.text().strip()
        if text:
            self.note.clear()
            self.note_written.emit(text)
