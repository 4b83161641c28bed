"""Everything that can be done, declared once: menus, the command field, the help overlay and tests are made from it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QObject
from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QWidget

from neogenesis.app.words import tr


@dataclass(frozen=True, slots=True)
class Action:
    """`group` is where the help lists it; `available` says whether it can be done now."""

    key: str
    title: str
    shortcut: str
    group: str
    do: Callable[[], object]
    available: Callable[[], bool] = lambda: True


class Actions(QObject):
    """The actions of one window, with their shortcuts switched on."""

    def __init__(self, window: QWidget, declared: list[Action]) -> None:
        super().__init__(window)
        self.declared = declared
        keys = [a.shortcut for a in declared if a.shortcut]
        if len(set(keys)) != len(keys):
            raise ValueError("a shortcut is declared twice")
        for action in declared:
            made = QAction(tr(action.title), window)
            if action.shortcut:
                made.setShortcut(QKeySequence(action.shortcut))
            made.triggered.connect(lambda _, a=action: self.run(a))
            window.addAction(made)

    def run(self, action: Action) -> None:
        if action.available():
            action.do()

    def available(self) -> list[Action]:
        return [a for a in self.declared if a.available()]
