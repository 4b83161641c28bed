"""The soundings of a running transfer: how long reads take, by place."""

from __future__ import annotations

from collections.abc import Sequence
from math import log10

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import tr
from neogenesis.app.theme.look import SMALL, look

_DECADES = (1e-3, 1e-2, 1e-1, 1.0, 10.0)
#: A sounding stands for the stretch since the one before, unless that was farther away than this share.
_SAME_STRETCH = 0.03
_MOST_CROSSES = 12
_DECADE_NAMES = ("1 ms", "10 ms", "100 ms", "1 s", "10 s")


class SoundingsTrace(QWidget):
    """Read latency against place on the old drive, drawn downwards like depths, and what was lost."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._size = 1
        self._points: Sequence[tuple[int, float]] = ()
        self._lost: Sequence[tuple[int, int]] = ()
        self._postponed: Sequence[tuple[int, int]] = ()
        self._place = 0
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("How long each read took, by place"))

    def minimumSizeHint(self) -> QSize:
        return QSize(200, look().px(80))

    def show_points(
        self,
        size_bytes: int,
        points: Sequence[tuple[int, float]],
        lost: Sequence[tuple[int, int]],
        place: int,
        postponed: Sequence[tuple[int, int]] = (),
    ) -> None:
        self._size, self._points, self._place = max(1, size_bytes), points, place
        self._lost, self._postponed = lost, postponed
        self.update()

    def _depth(self, seconds: float) -> float:
        """0 at the surface (1 ms or less), 1 at the bottom (10 s)."""
        return min(1.0, max(0.0, (log10(max(seconds, 1e-4)) + 3) / 4))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(look().font(SMALL))
        edge = look().metrics(SMALL).horizontalAdvance("100 ms") + look().px(8)
        area = QRectF(self.rect()).adjusted(0, look().px(4), -edge, -look().px(4))
        deepest = max((seconds for _, seconds in self._points), default=0.1)
        shown = 1.0 if deepest > 0.9 else 0.75
        for value, name in zip(_DECADES, _DECADE_NAMES, strict=True):
            depth = self._depth(value) / shown
            if depth > 1.001:
                continue
            y = area.top() + area.height() * depth
            painter.setPen(QPen(look().colour("line"), 1))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(look().colour("muted"))
            painter.drawText(QRectF(area.right() + look().px(6), y - 8, edge, 16), Qt.AlignmentFlag.AlignVCenter, name)
        columns = max(1, int(area.width()))
        deep = [0.0] * (columns + 1)
        before = 0
        for place, seconds in self._points:
            at = min(columns, int(columns * place / self._size))
            near = 0 <= at - before <= columns * _SAME_STRETCH
            for pixel in range(before + 1 if near and at > before else at, at + 1):
                deep[pixel] = max(deep[pixel], self._depth(seconds) / shown)
            before = at
        shape = QPainterPath(area.topLeft())
        for index, depth in enumerate(deep):
            shape.lineTo(area.left() + index, area.top() + area.height() * min(1.0, depth))
        shape.lineTo(area.right(), area.top())
        shape.closeSubpath()
        painter.fillPath(shape, look().role("system", 0.45))
        painter.setPen(QPen(look().role("system"), 1.2))
        painter.drawPath(shape)
        self._paint_marks(painter, area)
        if self._place > 0:
            x = area.left() + area.width() * min(1.0, self._place / self._size)
            painter.setPen(QPen(look().colour("accent"), 2))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))

    def _paint_marks(self, painter: QPainter, area: QRectF) -> None:
        """What waits as a dashed line at the bottom; what is lost as a cross, or where there is much of it, a bar."""
        painter.setPen(QPen(look().colour("caution"), 3, Qt.PenStyle.DotLine))
        for start, end in self._postponed:
            left, right = (area.left() + area.width() * at / self._size for at in (start, end))
            painter.drawLine(QPointF(left, area.bottom()), QPointF(max(right, left + 2), area.bottom()))
        crossed = len(self._lost) <= _MOST_CROSSES
        painter.setPen(QPen(look().colour("stop"), 2 if crossed else 3))
        for start, end in self._lost:
            left, right = (area.left() + area.width() * at / self._size for at in (start, end))
            if not crossed:
                painter.drawLine(QPointF(left, area.bottom() - 5), QPointF(left, area.bottom()))
                continue
            x = (left + right) / 2
            for dx in (-5, 5):
                painter.drawLine(QPointF(x - dx, area.bottom() - 11), QPointF(x + dx, area.bottom() - 1))
