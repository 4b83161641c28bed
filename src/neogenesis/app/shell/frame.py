"""How the window is divided: rail, stop, logbook, and the dock shelf below them."""

from __future__ import annotations

from collections.abc import Iterable

from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from neogenesis.app.jobs.view import JobsView
from neogenesis.app.logbook.view import LogbookView
from neogenesis.app.parts.centre import CentreFrame
from neogenesis.app.parts.controls import clear, notice, rule, scrolled, upright
from neogenesis.app.parts.stop import StopView
from neogenesis.app.rail.view import RailView
from neogenesis.app.shelf.view import ShelfView
from neogenesis.app.theme.look import look


class Frame(QWidget):
    """The parts of the window. Built anew when its look changes; `trouble` is what the bench has to say at the top."""

    def __init__(self, trouble: str) -> None:
        super().__init__()
        self.rail = RailView()
        self.rail.setFixedWidth(min(look().px(198), 250))
        self.shelf = ShelfView()
        self.logbook = LogbookView()
        self.logbook.setFixedWidth(look().px(302))
        self.jobs = JobsView()
        self.centre = QStackedWidget()
        self.centre.addWidget(self.jobs)
        middle = QVBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        self._trouble = QWidget()
        self._trouble.setContentsMargins(look().px(28), look().px(14), look().px(28), 0)
        self._trouble_line = QVBoxLayout(self._trouble)
        middle.addWidget(self._trouble)
        self.say_trouble(trouble)
        middle.addWidget(scrolled(CentreFrame(self.centre)), 1)  # with large text, a stop may be taller than its place
        across = QHBoxLayout()
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        across.addWidget(self.rail)
        across.addWidget(upright())
        across.addLayout(middle, 1)
        self._edge = upright()
        across.addWidget(self._edge)
        across.addWidget(self.logbook)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addLayout(across, 1)
        outer.addWidget(rule())
        outer.addWidget(self.shelf)

    def say_trouble(self, text: str) -> None:
        """What is wrong with the records, above everything; empty for nothing."""
        clear(self._trouble_line)
        if text:
            self._trouble_line.addWidget(notice("caution", text))
        self._trouble.setVisible(bool(text))

    def drop_stops(self, views: Iterable[StopView]) -> None:
        for view in views:
            self.centre.removeWidget(view)
            view.hide()
            view.deleteLater()

    def show_logbook(self, shown: bool) -> None:
        self.logbook.setVisible(shown)
        self._edge.setVisible(shown)
