"""What this machine can do for the bench, as a sheet: what is missing first, each with how it is had."""

from __future__ import annotations

from PyQt6.QtWidgets import QApplication, QDialog, QVBoxLayout, QWidget

from neogenesis.app.desk.work import Failure, Work
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import button, clear, label, notice, row, scrolled
from neogenesis.app.theme.look import look
from neogenesis.bench.inside.doctor import Examined, examine


class DoctorSheet(QDialog):
    """Looks when it is opened, and again when it is asked to."""

    def __init__(self, parent: QWidget, work: Work, bench: str) -> None:
        super().__init__(parent)
        self._work, self._place = work, bench
        self.found: Examined | None = None
        self.setWindowTitle(tr("This machine"))
        self.setModal(True)
        self.resize(look().px(760), look().px(680))
        self.summary = label("", "title", wrap=True)
        self._rows = QVBoxLayout()
        self._rows.setSpacing(look().px(12))
        inner = QWidget()
        inner.setLayout(self._rows)
        self.again = button(tr("Look again"), self.refresh)
        self.copy = button(tr("Copy"), self._copy)
        close = button(tr("Close"), self.accept, "main")
        close.setFocus()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(*(look().px(22),) * 4)
        layout.setSpacing(look().px(14))
        layout.addWidget(self.summary)
        layout.addWidget(scrolled(inner), 1)
        layout.addLayout(row(self.again, self.copy, None, close, gap=10))
        self.refresh()

    def refresh(self) -> None:
        self.summary.setText(tr("Looking at this machine…"))
        self.again.setEnabled(False)
        self._work.in_thread(self._show, examine, self._place)

    def _show(self, found: Examined | Failure) -> None:
        self.again.setEnabled(True)
        clear(self._rows)
        if isinstance(found, Failure):
            self.summary.setText(found.sentence())
            return
        self.found = found
        missing = sum(not item.ok for item in found.items)
        self.summary.setText(
            tr("Everything that the program can use is there.")
            if found.is_well
            else tr("Not everything will work here: missing {0} of {1}.").format(missing, len(found.items))
        )
        for item in found.items:
            self._rows.addWidget(notice("good" if item.ok else "caution", item.text, item.do))
        self._rows.addStretch(1)

    def _copy(self) -> None:
        clipboard = QApplication.clipboard()
        if clipboard is not None and self.found is not None:
            lines = [f"{'+' if i.ok else '-'} {said(i.text)} {said(i.do)}".rstrip() for i in self.found.items]
            clipboard.setText("\n".join(lines))
