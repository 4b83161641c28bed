"""A stop that only takes a note yet."""

from __future__ import annotations

from PyQt6.QtWidgets import QPlainTextEdit, QVBoxLayout, QWidget

from neogenesis.app.language import said, tr
from neogenesis.app.open_job import OpenJob
from neogenesis.app.parts.controls import button, clear, label, notice, row
from neogenesis.app.parts.drafts import keep_draft
from neogenesis.app.parts.stop import Check, StopView
from neogenesis.app.theme.look import look
from neogenesis.core.job.route import Stop


class LaterView(StopView):
    """Says what the stop will do, and writes a note to the logbook."""

    def __init__(self, desk: OpenJob, stop: Stop) -> None:
        super().__init__(said(stop.title))
        self._desk, self._stop = desk, stop
        self.note = QPlainTextEdit()
        self.note.setPlaceholderText(tr("What was done or seen here"))
        self.note.setAccessibleName(tr("Note"))
        self.note.setTabChangesFocus(True)
        self.note.setMaximumHeight(look().px(180))
        keep_draft(desk.drafts, f"note {stop.key}", self.note)
        self.note.textChanged.connect(self._typed)
        self.save = button(tr("Write note to logbook"), self._save, "main", tr("Ctrl+Return"))
        self._steps = QVBoxLayout()
        self._steps.setSpacing(look().px(8))
        self.body.addWidget(label(said(stop.what), wrap=True))
        self.body.addLayout(self._steps)
        self.body.addWidget(label(tr("Until this stop is built, a note keeps what happened here."), "muted", wrap=True))
        self.body.addWidget(self.note)
        self.body.addLayout(row(None, self.save))
        self.body.addStretch(1)
        self._typed()

    def refresh(self) -> None:
        """At first boot, what the plan says must follow at the machine."""
        clear(self._steps)
        plan = self._desk.plan.written
        for step in plan.afterwards if plan is not None and self._stop.key == "first-boot" else ():
            self._steps.addWidget(notice("caution", step))

    def checks(self) -> list[Check]:
        plan = self._desk.plan.written
        steps = plan.afterwards if plan is not None and self._stop.key == "first-boot" else ()
        return [Check("caution", step) for step in steps]

    def main_action(self) -> None:
        self.save.click()

    def main_widget(self) -> QWidget | None:
        return self.note

    def _typed(self) -> None:
        self.save.setEnabled(bool(self.note.toPlainText().strip()))

    def _save(self) -> None:
        self._desk.note(self._stop.key, self.note.toPlainText())
        self.note.clear()
