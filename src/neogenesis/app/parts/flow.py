"""A row that breaks into further rows where the window is narrow or the text large."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtWidgets import QLayout, QLayoutItem, QWidget


class FlowRow(QLayout):
    """Items from left to right, further rows below. `at_right` lets every row end at the right edge.

    Items that were added as one group stay together.
    """

    def __init__(self, gap: int = 8, at_right: bool = False) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self._gap, self._at_right = gap, at_right
        self._heights: dict[int, int] = {}
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem | None) -> None:
        if item is not None:
            self._items.append(item)

    def group(self, *widgets: QWidget) -> QWidget:
        """Widgets that belong on one row."""
        from neogenesis.app.parts.controls import row

        box = QWidget()
        box.setLayout(row(*widgets, gap=self._gap))
        self.addWidget(box)
        return box

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        if width not in self._heights:
            self._heights[width] = self._arrange(QRect(0, 0, width, 0), place=False)
        return self._heights[width]

    def invalidate(self) -> None:
        """An item is another one, or wants another size."""
        self._heights = {}
        super().invalidate()

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._arrange(rect, place=True)

    def sizeHint(self) -> QSize:
        shown = self._shown()
        wide = sum(i.sizeHint().width() for i in shown) + self._gap * max(0, len(shown) - 1)
        return QSize(wide, max((i.sizeHint().height() for i in shown), default=0))

    def minimumSize(self) -> QSize:
        shown = self._shown()
        return QSize(
            max((i.minimumSize().width() for i in shown), default=0),
            max((i.minimumSize().height() for i in shown), default=0),
        )

    def _shown(self) -> list[QLayoutItem]:
        return [i for i in self._items if not i.isEmpty()]

    def _arrange(self, rect: QRect, place: bool) -> int:
        """Put the items into `rect` where `place` says so; returns the height that they take."""
        rows: list[list[QLayoutItem]] = [[]]
        used = 0
        for item in self._shown():
            wide = item.sizeHint().width()
            if rows[-1] and used + wide > rect.width():
                rows.append([])
                used = 0
            rows[-1].append(item)
            used += wide + self._gap
        y = rect.top()
        for items in rows:
            tall = max((i.sizeHint().height() for i in items), default=0)
            total = sum(i.sizeHint().width() for i in items) + self._gap * max(0, len(items) - 1)
            x = rect.left() + (max(0, rect.width() - total) if self._at_right else 0)
            for item in items:
                size = item.sizeHint()
                if place:
                    wide = min(size.width(), rect.width())
                    item.setGeometry(QRect(QPoint(x, y + (tall - size.height()) // 2), QSize(wide, size.height())))
                x += size.width() + self._gap
            y += tall + self._gap
        return y - rect.top() - (self._gap if rows[-1] or len(rows) > 1 else 0)
