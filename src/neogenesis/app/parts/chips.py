"""Words that are switched on and off: quick with one hand, one stop of the Tab key for the whole row."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QPushButton, QSizePolicy, QWidget

from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.theme.look import look

_LEFT_TO_OTHERS = (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Return)


class _Chip(QPushButton):
    """One word. Its width leaves room for it in bold, so that nothing moves when it is switched."""

    def __init__(self, text: str) -> None:
        super().__init__(text)
        self.setCheckable(True)
        self.setAutoDefault(False)
        self.setProperty("kind", "chip")
        self.setMinimumWidth(look().metrics(bold=True).horizontalAdvance(text) + look().px(28))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrow keys belong to the row, Return to the window."""
        if event is not None and Qt.Key(event.key()) in _LEFT_TO_OTHERS:
            event.ignore()
        else:
            super().keyPressEvent(event)


class Chips(QWidget):
    """`switched` tells the code of the word that a person switched; with `one`, only one is on at a time, or none.

    The arrow keys go from word to word, Space switches.
    """

    switched = pyqtSignal(str)

    def __init__(self, name: str, options: Sequence[tuple[str, str]], one: bool = False) -> None:
        """`options` are codes and words; `name` is what a screen reader says before each of them."""
        super().__init__()
        self._one = one
        self.name = name
        self._flow = FlowRow(look().px(7))
        self.setLayout(self._flow)
        policy = QSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)
        self.chips: dict[str, QPushButton] = {}
        self.offer(options)

    def offer(self, options: Sequence[tuple[str, str]]) -> None:
        """These words from now on, none switched on; nothing happens when they are the same as before."""
        if [(c, b.text()) for c, b in self.chips.items()] == list(options):
            return
        for old in self.chips.values():
            self._flow.removeWidget(old)
            old.hide()
            old.deleteLater()
        self.chips = {}
        for code, words in options:
            chip = _Chip(words)
            chip.setAccessibleName(f"{self.name}: {words}")
            chip.clicked.connect(lambda _, code=code: self._clicked(code))
            self.chips[code] = chip
            self._flow.addWidget(chip)
        self._rove(next(iter(self.chips), ""))
        self.updateGeometry()

    def show_chosen(self, codes: Collection[str]) -> None:
        for code, chip in self.chips.items():
            chip.setChecked(code in codes)
        on = next((code for code in self.chips if code in codes), "")
        if on and not self.has_keyboard():
            self._rove(on)

    @property
    def chosen(self) -> tuple[str, ...]:
        return tuple(code for code, chip in self.chips.items() if chip.isChecked())

    def has_keyboard(self) -> bool:
        return any(chip.hasFocus() for chip in self.chips.values())

    def take_keyboard(self) -> None:
        current = next((c for c in self.chips.values() if c.focusPolicy() == Qt.FocusPolicy.StrongFocus), None)
        if current is not None:
            current.setFocus()

    def _clicked(self, code: str) -> None:
        if self._one and self.chips[code].isChecked():
            self.show_chosen((code,))
        self._rove(code)
        self.switched.emit(code)

    def _rove(self, code: str) -> None:
        """The Tab key stops at this one of the row."""
        for other, chip in self.chips.items():
            chip.setFocusPolicy(Qt.FocusPolicy.StrongFocus if other == code else Qt.FocusPolicy.ClickFocus)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        mirrored = self.layoutDirection() == Qt.LayoutDirection.RightToLeft
        forward, back = (Qt.Key.Key_Left, Qt.Key.Key_Right) if mirrored else (Qt.Key.Key_Right, Qt.Key.Key_Left)
        codes = list(self.chips)
        at = next((n for n, code in enumerate(codes) if self.chips[code].hasFocus()), None)
        step = {forward: 1, back: -1}.get(Qt.Key(event.key()))
        if at is None or step is None:
            super().keyPressEvent(event)
            return
        code = codes[min(max(at + step, 0), len(codes) - 1)]
        self._rove(code)
        self.chips[code].setFocus(Qt.FocusReason.TabFocusReason)
