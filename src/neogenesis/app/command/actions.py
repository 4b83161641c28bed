"""Everything that can be done, declared once: shortcuts, menu, command field, help and tests are made from it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QObject
from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu, QWidget

from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import native_keys


@dataclass(frozen=True, slots=True)
class Action:
    """`group` is where the menu lists it; `available` says whether it can be done now, `here` whether it fits."""

    key: str
    title: str
    shortcut: str
    group: str
    do: Callable[[], object]
    available: Callable[[], bool] = lambda: True
    here: Callable[[], bool] = lambda: True

    @property
    def keys(self) -> str:
        """Its shortcut as this desktop writes it."""
        return native_keys(self.shortcut)


class Actions(QObject):
    """The actions of one window, with their shortcuts switched on."""

    def __init__(self, window: QWidget, declared: Sequence[Action]) -> None:
        super().__init__(window)
        self._window = window
        self.declared = tuple(declared)
        keys = [a.shortcut for a in declared if a.shortcut]
        if len(set(keys)) != len(keys):
            raise ValueError("a shortcut is declared twice")
        self.made = {action.key: self._made(action) for action in declared}

    def _made(self, action: Action) -> QAction:
        made = QAction(said(action.title), self._window)
        if action.shortcut:
            made.setShortcut(QKeySequence(action.shortcut))
        made.triggered.connect(lambda _, a=action: self.run(a))
        self._window.addAction(made)
        return made

    def run(self, action: Action) -> None:
        if action.available():
            action.do()

    def refresh(self) -> None:
        """Titles in the language of now; what cannot be done now is switched off, with its shortcut."""
        for action in self.declared:
            made = self.made[action.key]
            made.setText(said(action.title))
            made.setEnabled(action.available())

    def available(self) -> list[Action]:
        return [a for a in self.declared if a.available()]

    def here(self) -> list[Action]:
        """Those that belong to what is in front, whether or not they can be done this moment."""
        return [a for a in self.declared if a.here()]

    def menu(self, parent: QWidget) -> QMenu:
        """All of them by group, a line between two groups."""
        self.refresh()
        menu, group = QMenu(parent), ""
        menu.setAccessibleName(tr("Menu"))
        for action in self.declared:
            made = self.made[action.key]
            if group and action.group != group:
                menu.addSeparator()
            if action.here() or not action.group.startswith("stop "):
                menu.addAction(made)
                group = action.group
        return menu
