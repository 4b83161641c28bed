"""The intake's stopwatch at First boot: the same start, timed again, with what was measured before beside it."""

from __future__ import annotations

from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QDialog, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.intake.watch_page import WatchPage
from neogenesis.app.language import tr
from neogenesis.app.parts.bars import BeforeAfter
from neogenesis.app.parts.controls import label, stack
from neogenesis.app.theme.look import look


class StopwatchSheet(QDialog):
    """Runs count as those after the work; both medians are drawn as soon as there are two."""

    def __init__(self, parent: QWidget, desk: OpenJob) -> None:
        super().__init__(parent)
        self._desk = desk
        self.setWindowTitle(tr("Stopwatch"))
        self.resize(look().px(760), look().px(620))
        self.page = WatchPage(desk.intake)
        self.page.back.setText(tr("Close"))
        self.page.back_asked.connect(self.accept)
        self.bars = BeforeAfter()
        waits = tr("Usual after a copy: the first start takes longer, since devices are found anew. Time the second.")
        self.setLayout(stack(label(waits, "muted", wrap=True), self.page, self.bars, margin=look().px(18)))
        QShortcut(QKeySequence("F5"), self, self.page.press.click)
        desk.intake.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        self.page.refresh()
        improvement = self._desk.handover.improvement
        self.bars.setVisible(improvement is not None)
        if improvement is not None:
            self.bars.show_improvement(improvement)
