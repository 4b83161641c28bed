"""The steps of a plan one below the other: those that are done, the one that is being done, those to come."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QWidget

from neogenesis.app.language import tr
from neogenesis.app.parts.controls import Elided, SeverityMark, clear, label, stack
from neogenesis.app.theme.look import look


class StepList(QWidget):
    def __init__(self) -> None:
        super().__init__()
        self._steps: tuple[str, ...] = ()
        self._now = -1
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(look().px(10))
        self._grid.setVerticalSpacing(look().px(9))
        self._grid.setColumnStretch(1, 1)
        self.setLayout(stack(self._grid, None))

    def show_steps(self, steps: Sequence[str], now: int) -> None:
        """`now` is the index of the one that is being done."""
        if self._steps == tuple(steps) and self._now == now:
            return
        self._steps, self._now = tuple(steps), now
        clear(self._grid)
        for number, text in enumerate(self._steps):
            mark = SeverityMark("good") if number < now else label("▸" if number == now else "·", "muted")
            words = Elided(text, "head" if number == now else "muted" if number > now else "")
            if number == now:
                words.setAccessibleDescription(tr("is being done"))
            self._grid.addWidget(mark, number, 0, Qt.AlignmentFlag.AlignCenter)
            self._grid.addWidget(words, number, 1)
