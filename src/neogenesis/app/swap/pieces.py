"""Fasteners as they are painted everywhere: on the machine, in the tray, in the legend and on the paper mat."""

from __future__ import annotations

from math import cos, pi, sin

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from neogenesis.app.language import tr
from neogenesis.app.swap.words import SHAPE_WORDS
from neogenesis.app.theme.look import look
from neogenesis.core.swap.tray import Kind, Shape, State

_CORNERS: dict[Shape, tuple[int, float]] = {
    "hexagon": (6, 0.0),
    "diamond": (4, -90.0),
    "square": (4, -45.0),
    "triangle": (3, -90.0),
}


def shape_path(shape: Shape, centre: QPointF, radius: float) -> QPainterPath:
    """The outline of a head; all shapes look equally large."""
    path = QPainterPath()
    if shape in ("disc", "drop"):
        path.addEllipse(centre, radius, radius)
        if shape == "drop":
            tip = QPolygonF(
                [
                    centre + QPointF(-radius * 0.8, -radius * 0.6),
                    centre + QPointF(0, -radius * 1.7),
                    centre + QPointF(radius * 0.8, -radius * 0.6),
                ]
            )
            path.addPolygon(tip)
            path = path.simplified()
        return path
    count, first = _CORNERS[shape]
    reach = radius * {6: 1.1, 4: 1.25, 3: 1.35}[count]
    points = [
        centre
        + QPointF(reach * cos((first + 360 * i / count) * pi / 180), reach * sin((first + 360 * i / count) * pi / 180))
        for i in range(count)
    ]
    path.addPolygon(QPolygonF(points))
    path.closeSubpath()
    return path


def paint_sign(painter: QPainter, kind: Kind, centre: QPointF, radius: float, colour: QColor) -> None:
    """What the driver's head looks like."""
    reach = radius * 0.55
    painter.setPen(QPen(colour, max(1.2, radius * 0.2), Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
    arms = {"cross": 2, "star": 3, "bar": 1}.get(kind.sign)
    if arms is not None:
        for n in range(arms):
            angle = pi * n / arms + (pi / 2 if arms == 3 else 0)
            arm = QPointF(reach * cos(angle), reach * sin(angle))
            painter.drawLine(centre - arm, centre + arm)
        return
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if kind.sign == "socket":
        painter.drawPath(shape_path("hexagon", centre, reach * 0.8))
        return
    painter.setBrush(colour)
    painter.setPen(Qt.PenStyle.NoPen)
    dots = 5 if kind.sign == "five" else 1
    for n in range(dots):
        angle = 2 * pi * n / dots - pi / 2
        away = QPointF(reach * 0.8 * cos(angle), reach * 0.8 * sin(angle)) if dots > 1 else QPointF()
        painter.drawEllipse(centre + away, radius * 0.16, radius * 0.16)


def paint_piece(painter: QPainter, kind: Kind, centre: QPointF, radius: float, state: State, tray: bool) -> None:
    """One fastener; in the `tray` it is filled where it lies, on the machine where it still holds."""
    accent, ink, faint = look().colour("accent"), look().colour("ink"), look().colour("muted", 0.55)
    path = shape_path(kind.shape, centre, radius)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if state == "missing":
        painter.setPen(QPen(look().colour("stop"), 1.8, Qt.PenStyle.DotLine))
        painter.drawPath(path)
        reach = radius * 0.5
        painter.drawLine(centre + QPointF(-reach, -reach), centre + QPointF(reach, reach))
        painter.drawLine(centre + QPointF(-reach, reach), centre + QPointF(reach, -reach))
        return
    if tray:
        if state == "in-tray":
            painter.fillPath(path, accent)
            paint_sign(painter, kind, centre, radius, look().colour("accent_ink"))
        else:
            painter.setPen(QPen(faint, 1.2))
            painter.drawPath(path)
    elif state in ("here", "next"):
        painter.setBrush(look().colour("raised"))
        painter.setPen(QPen(accent if state == "next" else ink, max(2.0, radius * 0.2)))
        painter.drawPath(path)
        paint_sign(painter, kind, centre, radius, accent if state == "next" else ink)
    elif state == "in-tray":
        painter.setPen(QPen(faint, 1.2, Qt.PenStyle.DashLine))
        painter.drawPath(path)
    else:
        painter.setPen(QPen(faint, 1.2))
        painter.drawPath(path)
        paint_sign(painter, kind, centre, radius, faint)
    if kind.odd and (not tray or state == "in-tray"):
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(look().colour("caution"), 1.4))
        painter.drawEllipse(centre, radius * 1.55, radius * 1.55)


class PieceMark(QWidget):
    """The shape and sign of one group, for a legend."""

    def __init__(self, kind: Kind, done: bool) -> None:
        super().__init__()
        self._kind, self._done = kind, done
        self.setFixedSize(self.sizeHint())
        self.setAccessibleName(tr(SHAPE_WORDS[kind.shape]))

    def sizeHint(self) -> QSize:
        return QSize(look().px(26), look().px(26))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        centre = QRectF(self.rect()).center()
        paint_piece(painter, self._kind, centre, look().px(7.5), "in-tray" if self._done else "in-machine", True)
