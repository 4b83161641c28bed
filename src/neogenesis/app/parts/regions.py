"""A drive as a core sample of what was read of it, from its first byte at the top to its last at the bottom."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QBrush, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import tr
from neogenesis.app.parts.column import paint_gauge
from neogenesis.app.parts.strata import Stratum
from neogenesis.app.parts.tag import paint_tag
from neogenesis.app.theme.look import look

#: Letters of an outline from the best to the worst: where one pixel shows several, the worst counts.
RANK = "rupl"


def ranges_of(outline: str, letter: str, size_bytes: int) -> list[tuple[int, int]]:
    """Byte ranges of the stretches with that letter, neighbours joined."""
    found: list[tuple[int, int]] = []
    count = max(1, len(outline))
    for index, seen in enumerate(outline):
        if seen != letter:
            continue
        start, end = index * size_bytes // count, (index + 1) * size_bytes // count
        if found and found[-1][1] == start:
            found[-1] = (found[-1][0], end)
        else:
            found.append((start, end))
    return found


class RegionColumn(QWidget):
    """Read is solid, what waits is pale, postponed is hatched, lost reaches out of the column on its right."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("What has been read of the drive, by place"))
        self._outline, self._share, self._tag = "", 0.0, None
        self._strata: Sequence[Stratum] = ()

    _tag: int | None

    def sizeHint(self) -> QSize:
        return QSize(min(look().px(118), 140), look().px(240))

    def show_regions(self, outline: str, place_share: float, tag: int | None, strata: Sequence[Stratum]) -> None:
        """`place_share` is where the drive is being read now, from 0 to 1."""
        self._outline, self._share, self._tag, self._strata = outline, place_share, tag, strata
        self.update()

    def letters(self, rows: int) -> str:
        """The worst letter of each of `rows` equal stretches."""
        outline = self._outline or "u"
        found = []
        for row in range(rows):
            first = row * len(outline) // rows
            last = max(first + 1, -(-(row + 1) * len(outline) // rows))
            found.append(max(outline[first:last], key=RANK.index))
        return "".join(found)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        width, side = look().px(58), look().px(24)
        column = QRectF(16, 3, width, self.height() - look().px(34) - 6)
        paint_gauge(painter, self._strata, QRectF(4, column.top(), 5, column.height()))
        painter.fillRect(column, look().role("system", 0.14))
        letters = self.letters(max(1, int(column.height())))
        start = 0
        for row in range(1, len(letters) + 1):
            if row == len(letters) or letters[row] != letters[start]:
                self._paint_run(painter, column, letters[start], start, row, len(letters))
                start = row
        painter.setPen(QPen(look().role("system"), 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(column, 3, 3)
        if 0 < self._share < 1:
            y = column.top() + column.height() * self._share
            painter.setPen(QPen(look().colour("accent"), 2))
            painter.drawLine(QPointF(column.left() - 5, y), QPointF(column.right() + 5, y))
        if self._tag is not None:
            paint_tag(painter, self._tag, QRectF(column.center().x() - side / 2, self.height() - side - 3, side, side))

    def _paint_run(self, painter: QPainter, column: QRectF, letter: str, first: int, last: int, rows: int) -> None:
        top = column.top() + column.height() * first / rows
        rect = QRectF(column.left(), top, column.width(), column.height() * (last - first) / rows)
        if letter == "r":
            painter.fillRect(rect, look().role("system"))
        elif letter == "p":
            tall = rect.adjusted(0, -0.5, 0, 0.5)
            painter.fillRect(tall, look().colour("ground"))
            painter.fillRect(tall, QBrush(look().colour("caution"), Qt.BrushStyle.FDiagPattern))
            painter.fillRect(QRectF(rect.right() + 2, top - 1, 8, max(2.0, rect.height())), look().colour("caution"))
        elif letter == "l":
            reach = look().px(16)
            painter.fillRect(rect.adjusted(0, -0.5, reach, 0.5), look().colour("stop"))
