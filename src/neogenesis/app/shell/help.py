"""F1: what this stop is for, how it is used, and every shortcut."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from neogenesis.app.command.actions import Action
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.controls import label, native_keys, rule, scrolled
from neogenesis.app.theme.look import look

_WIDE = 940
_SAFETY = mark(
    "Before a machine is opened: mains power off and unplugged, battery discharged to 25 % or less where cells can be "
    "reached, then disconnected first. Follow the maker's service manual and local rules; where licensed practice is "
    "required, leave it to those who have it."
)


class HelpOverlay(QWidget):
    """Lies over the window until a key is pressed or it is clicked away."""

    def __init__(self, window: QWidget, title: str, texts: Sequence[str], actions: list[Action]) -> None:
        """`actions` are those that belong to where the window is now."""
        super().__init__(window)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        card = QWidget()
        card.setObjectName("card")
        card.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        inner = QVBoxLayout(card)
        inner.setContentsMargins(look().px(26), look().px(20), look().px(26), look().px(20))
        inner.setSpacing(look().px(10))
        inner.addWidget(label(title, "title"))
        for text in texts:
            inner.addWidget(label(said(text), wrap=True))
        inner.addWidget(rule())
        grid = QGridLayout()
        grid.setHorizontalSpacing(look().px(18))
        grid.setVerticalSpacing(look().px(4))
        keyed = [a for a in actions if a.shortcut and not a.key.startswith("stop-")]
        half = -(-len(keyed) // 2)
        for index, action in enumerate(keyed):
            column = 2 * (index // half)
            grid.addWidget(label(action.keys, "muted"), index % half, column)
            grid.addWidget(label(said(action.title), wrap=True), index % half, column + 1)
        grid.addWidget(label(f"{native_keys('Alt+1')} … {native_keys('Alt+9')}", "muted"), half, 0)
        grid.addWidget(label(tr("Go to a stop")), half, 1)
        for column in (1, 3):
            grid.setColumnStretch(column, 1)
        inner.addLayout(grid)
        inner.addWidget(rule())
        inner.addWidget(label(tr(_SAFETY), "small", wrap=True))
        inner.addWidget(label(tr("Any key closes this."), "small"))
        self._inner = inner
        self._scroll = scrolled(card)
        self._scroll.setParent(self)
        self.setAccessibleName(tr("Help: {0}").format(title))
        self.setGeometry(window.rect())
        window.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        parent = self.parentWidget()
        if event is not None and event.type() == QEvent.Type.Resize and parent is not None:
            self.setGeometry(parent.rect())
        return super().eventFilter(watched, event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """In the middle, as tall as what it says, and scrolled where that is taller than the window."""
        super().resizeEvent(event)
        margin = look().px(40)
        width = min(look().px(_WIDE), self.width() - 2 * margin)
        height = min(self._inner.totalHeightForWidth(width - 4) + 4, self.height() - 2 * margin)
        self._scroll.setGeometry((self.width() - width) // 2, (self.height() - height) // 2, width, height)

    def focusNextPrevChild(self, next: bool) -> bool:
        """The keyboard stays here until it is closed."""
        return False

    def paintEvent(self, event: QPaintEvent | None) -> None:
        QPainter(self).fillRect(self.rect(), look().colour("ground", 0.86))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        bar = self._scroll.verticalScrollBar()
        steps = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: 8, Qt.Key.Key_PageUp: -8}
        step = steps.get(Qt.Key(event.key())) if event is not None else None
        if step is not None and bar is not None and bar.maximum() > 0:
            bar.setValue(bar.value() + step * look().px(24))
        else:
            self.close()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self.close()
