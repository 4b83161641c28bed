"""Checks of the stop in view, the logbook, and a field for notes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from neogenesis.app.language import said, tr
from neogenesis.app.logbook.lines import LogList, lines_of
from neogenesis.app.parts.controls import clear, label, notice, rule, scrolled, stack
from neogenesis.app.parts.stop import Check
from neogenesis.app.theme.look import look
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job import LogEntry


class LogbookView(QWidget):
    """To the right of the stop; can be folded away."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._checks = QVBoxLayout()
        self._checks.setSpacing(look().px(10))
        inner = QWidget()
        self._above = stack(label(tr("Checks"), "head"), self._checks, gap=look().px(12))
        self._above.setContentsMargins(look().px(16), look().px(18), look().px(16), look().px(2))
        inner.setLayout(self._above)
        self._top = scrolled(inner)
        self._top.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._rule = QWidget()
        self._rule.setLayout(stack(rule()))
        title = label(tr("Logbook"), "head")
        title.setContentsMargins(look().px(16), look().px(12), look().px(16), look().px(6))
        self._broken = QVBoxLayout()
        self._broken.setContentsMargins(look().px(16), 0, look().px(16), 0)
        self.list = LogList()
        self.note = QLineEdit()
        self.note.setPlaceholderText(tr("Add a note"))
        self.note.setToolTip(tr("Write a note into the logbook  Ctrl+L"))
        self.note.setAccessibleName(tr("Note for the logbook"))
        self.note.returnPressed.connect(self._write)
        self.note.textChanged.connect(self._typed)
        self._drafts: dict[str, str] = {}
        self._take_note: Callable[[str], object] = lambda text: None
        foot = QHBoxLayout()
        foot.setContentsMargins(look().px(16), look().px(6), look().px(16), look().px(12))
        foot.addWidget(self.note)
        outer = stack(self._top, self._rule, title, self._broken, gap=0)
        outer.addWidget(self.list, 1)
        outer.addLayout(foot)
        self.setLayout(outer)
        self._rule.setContentsMargins(look().px(16), look().px(10), look().px(16), 0)
        self._checked: list[Check] | None = None
        self._first_broken: int | None = None
        self.show_checks([])

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
        """Newest first. `broken` is the first entry whose seal does not hold."""
        self.list.lines.grow_to(lines_of(entries, datetime.now().date().isoformat()))
        if broken != self._first_broken:
            self._first_broken = broken
            clear(self._broken)
            if broken is not None:
                text = tr("Entry {0} was changed after it was written.").format(broken)
                self._broken.addWidget(notice("stop", text, tr("The dossier's logbook.jsonl holds a second copy.")))

    def show_checks(self, checks: Sequence[Check]) -> None:
        if list(checks) == self._checked:
            return
        self._checked = list(checks)
        clear(self._checks)
        for check in checks:
            line = notice(check.severity, check.text, check.remedy)
            self._checks.addWidget(line)
            line.show()  # a layout counts no line that waits to be shown
        for widget in (self._top, self._rule):
            widget.setVisible(bool(checks))
        self._fit_checks()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit_checks()

    def _fit_checks(self) -> None:
        """As tall as they are, but at most three fifths; what is more is scrolled to."""
        above = self._above
        above.invalidate()
        wanted = above.heightForWidth(self.width()) if above.hasHeightForWidth() else above.sizeHint().height()
        self._top.setFixedHeight(min(wanted, self.height() * 3 // 5))

    def _write(self) -> None:
        """What the logbook does not take stays in the field."""
        text = self.note.text().strip()
        if not text:
            return
        try:
            self._take_note(text)
        except NeogenesisError as error:
            self.note.setToolTip(said(error.sentence()))
            return
        self.note.setToolTip("")
        self.note.clear()

    def take_note_by(self, take: Callable[[str], object]) -> None:
        """Where a note goes; it may raise NeogenesisError, and then it is kept here."""
        self._take_note = take
