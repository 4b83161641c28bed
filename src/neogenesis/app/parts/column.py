"""Painting a column: strata, how full they are, what was copied, the true-scale gauge beside them, and ribbons."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QPainter, QPainterPath, QPen

from neogenesis.app.parts.strata import FREE, Placed, Stratum
from neogenesis.app.theme.look import look

GAUGE_WIDTH = 4


def paint_column(
    painter: QPainter, placed: Sequence[Placed], chosen: int | None = None, mark_scale: bool = True
) -> None:
    """Strata at their places. `chosen` is the number of the one that has the keyboard."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    for item in placed:
        _paint_stratum(painter, item, item.stratum.number is not None and item.stratum.number == chosen, mark_scale)


def _paint_stratum(painter: QPainter, item: Placed, chosen: bool, mark_scale: bool) -> None:
    stratum, rect = item.stratum, item.rect
    colour = look().role(stratum.role)
    radius = min(4.0, rect.height() / 3)
    shape = QPainterPath()
    shape.addRoundedRect(rect, radius, radius)
    if stratum.role == FREE:
        painter.setPen(QPen(look().colour("free"), 1, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(shape)
        return
    painter.save()
    if stratum.faded:
        painter.setOpacity(0.35)
    painter.fillPath(shape, look().colour("ground"))
    copying = stratum.filled is not None
    colour.setAlphaF(0.20 if copying else 0.26)
    painter.fillPath(shape, colour)
    level = QRectF(rect)
    if copying:
        level.setHeight(rect.height() * min(1.0, stratum.filled or 0.0))
    elif stratum.level is None:
        _hatch(painter, shape, stratum)
        level.setHeight(0)
    else:
        level.setTop(rect.bottom() - rect.height() * min(1.0, stratum.level))
    if level.height() > 0:
        painter.save()
        painter.setClipRect(level)
        painter.fillPath(shape, look().role(stratum.role))
        painter.restore()
    painter.setPen(QPen(look().role(stratum.role), 1.2))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPath(shape)
    if mark_scale and not item.to_scale and rect.height() >= 8:
        _mark_out_of_scale(painter, rect)
    painter.restore()
    if chosen:
        painter.setPen(QPen(look().colour("ink"), 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(rect.adjusted(-3, -1, 3, 1), radius + 2, radius + 2)


def _hatch(painter: QPainter, shape: QPainterPath, stratum: Stratum) -> None:
    """Contents that nobody can count: carried as they are."""
    painter.fillPath(shape, QBrush(look().role(stratum.role, 0.55), Qt.BrushStyle.BDiagPattern))


def _mark_out_of_scale(painter: QPainter, rect: QRectF) -> None:
    """Two short strokes through the right edge, as on a broken axis: taller than its true share."""
    middle = rect.center().y()
    for dy in (-2.5, 2.5):
        painter.setPen(QPen(look().colour("ground"), 3))
        painter.drawLine(QPointF(rect.right() - 5, middle + dy + 2), QPointF(rect.right() + 4, middle + dy - 2))
        painter.setPen(QPen(look().colour("muted"), 1.2))
        painter.drawLine(QPointF(rect.right() - 5, middle + dy + 2), QPointF(rect.right() + 4, middle + dy - 2))


def paint_gauge(painter: QPainter, strata: Sequence[Stratum], rect: QRectF) -> None:
    """The same drive at true scale: a thin line with the roles' colours."""
    total = max(1, max((s.end_bytes for s in strata), default=1))
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(look().colour("free", 0.6))
    painter.drawRect(rect)
    for stratum in strata:
        if stratum.role == FREE:
            continue
        top = rect.top() + rect.height() * stratum.start_bytes / total
        tall = rect.height() * stratum.size_bytes / total
        painter.setBrush(look().role(stratum.role, 0.4 if stratum.faded else 1.0))
        painter.drawRect(QRectF(rect.left(), top, rect.width(), max(0.8, tall)))


def paint_ribbon(painter: QPainter, old: QRectF, new: QRectF, role: str, strength: float) -> None:
    """What flows from a stratum of the old drive to where it lands on the new one."""
    path = QPainterPath(QPointF(old.right() + 4, old.top()))
    span = (new.left() - 4 - old.right() - 4) * 0.5
    left, right = old.right() + 4, new.left() - 4
    path.cubicTo(QPointF(left + span, old.top()), QPointF(right - span, new.top()), QPointF(right, new.top()))
    path.lineTo(QPointF(right, new.bottom()))
    path.cubicTo(QPointF(right - span, new.bottom()), QPointF(left + span, old.bottom()), QPointF(left, old.bottom()))
    path.closeSubpath()
    painter.fillPath(path, look().role(role, strength))
