"""Bench tags: the letter, shape and colour that a connected drive carries on every screen."""

from __future__ import annotations

from math import cos, pi, sin

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from neogenesis.app.parts.mirror import draw_text
from neogenesis.app.theme.look import BODY, look
from neogenesis.app.theme.tokens import Shape, tag_look

_CORNERS = {
    "diamond": (4, -90.0),
    "hexagon": (6, 0.0),
    "square": (4, -45.0),
    "triangle": (3, -90.0),
    "pentagon": (5, -90.0),
}


def _outline(shape: Shape, rect: QRectF) -> QPainterPath:
    path = QPainterPath()
    centre, radius = rect.center(), rect.width() / 2
    if shape == "circle":
        path.addEllipse(rect.adjusted(1, 1, -1, -1))
        return path
    count, first = _CORNERS[shape]
    points = [
        QPointF(
            centre.x() + radius * cos((first + 360 * i / count) * pi / 180),
            centre.y() + radius * sin((first + 360 * i / count) * pi / 180) + (radius * 0.14 if count == 3 else 0),
        )
        for i in range(count)
    ]
    path.addPolygon(QPolygonF(points))
    path.closeSubpath()
    return path


def paint_tag(painter: QPainter, index: int, rect: QRectF, ghost: bool = False) -> None:
    """The tag with that number; a ghost is only outlined."""
    letter, shape, colour = tag_look(index)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    path = _outline(shape, rect)
    if ghost:
        painter.setPen(QPen(look().colour("muted"), 1.2, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
        painter.setPen(look().colour("muted"))
    else:
        painter.fillPath(path, QColor(colour))
        if look().tokens.name == "night":
            painter.strokePath(path, QPen(look().colour("muted"), 1.2))
        painter.setPen(QColor("#FFFFFF"))
    font = look().font(BODY, bold=True)
    font.setPixelSize(max(8, round(rect.height() * 0.44)))
    painter.setFont(font)
    place = rect.translated(0, rect.height() * (0.10 if shape == "triangle" else 0.0))
    draw_text(painter, place, Qt.AlignmentFlag.AlignCenter, letter)


class TagMark(QWidget):
    """A bench tag as a widget; hidden while there is none."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._index: int | None = None

    def show_tag(self, index: int | None) -> None:
        self._index = index
        self.setAccessibleName("" if index is None else tag_look(index)[0])
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(look().px(26), look().px(26))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._index is not None:
            painter = QPainter(self)
            paint_tag(painter, self._index, QRectF(self.rect()).adjusted(1, 1, -1, -1))
