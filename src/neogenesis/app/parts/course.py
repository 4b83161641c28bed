"""The course of a long work: how deep it has got against time, and where it was meant to be by now.

Drawn downwards like everything that is sounded here: it begins at the surface, top left, and ends on the ground. The
wedge is what was forecast before it began, the line what happened, the cone what is to come as it looks now. A line
above the wedge is late, one below it early.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import tr
from neogenesis.app.theme.look import SMALL, look
from neogenesis.core.units import duration_text

Point = tuple[float, float]


@dataclass(frozen=True, slots=True)
class CourseScene:
    """All in shares of the plot: 0 to 1 from left to right in time, and from the surface to the ground in bytes.

    `bands` are (upper, lower, role) of what is carried one after the other; `span_s` is how much time is shown.
    """

    track: tuple[Point, ...]
    wedge: tuple[Point, ...] = ()
    cone: tuple[Point, ...] = ()
    bands: tuple[tuple[float, float, str], ...] = ()
    span_s: float = 1.0


def course_scene(
    points: Sequence[tuple[float, float]],
    total: float,
    forecast_s: tuple[float, float] | None = None,
    left_s: tuple[float, float] | None = None,
    parts: Sequence[tuple[float, str]] = (),
) -> CourseScene:
    """`points` are (seconds, bytes done); `forecast_s` the range planned for all of it, `left_s` that for the rest.

    `parts` are bytes and role of what is carried, in its order.
    """
    if total <= 0 or not points:
        return CourseScene(())
    start, (now, done) = points[0][0], points[-1]
    ends = [now - start, *(forecast_s or ()), *((now - start + left_s[1],) if left_s else ())]
    span = max(max(ends) * 1.04, 1.0)

    def at(seconds: float, depth: float) -> Point:
        return min(1.0, max(0.0, seconds / span)), min(1.0, max(0.0, depth / total))

    track = tuple(at(t - start, d) for t, d in points)
    wedge = (at(0, 0), at(forecast_s[0], total), at(forecast_s[1], total)) if forecast_s else ()
    cone: tuple[Point, ...] = ()
    if left_s and done < total:
        cone = (at(now - start, done), at(now - start + left_s[0], total), at(now - start + left_s[1], total))
    bands, upper = [], 0.0
    whole = sum(size for size, _ in parts) or 1.0
    for size, role in parts:
        lower = upper + size / whole
        bands.append((upper, lower, role))
        upper = lower
    return CourseScene(track, wedge, cone, tuple(bands), span)


class CoursePlot(QWidget):
    """Paints one course."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.scene = CourseScene(())
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("How far it is, against time and forecast"))

    def minimumSizeHint(self) -> QSize:
        return QSize(200, look().px(80))

    def show_course(self, scene: CourseScene) -> None:
        self.scene = scene
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(look().font(SMALL))
        line, strip = look().metrics(SMALL).height(), look().px(7)
        area = QRectF(self.rect()).adjusted(strip + look().px(8), 2, -2, -line - 4)
        scene = self.scene
        for upper, lower, role in scene.bands:
            top, height = area.top() + area.height() * upper, area.height() * (lower - upper)
            painter.fillRect(QRectF(0, top, strip, max(1.0, height - 1)), look().role(role))
        painter.setPen(QPen(look().colour("line"), 1))
        painter.drawLine(area.topLeft(), area.topRight())
        painter.drawLine(area.bottomLeft(), area.bottomRight())
        self._paint_times(painter, area, line)

        def place(point: Point) -> QPointF:
            return QPointF(area.left() + area.width() * point[0], area.top() + area.height() * point[1])

        def shape(points: Sequence[Point]) -> QPainterPath:
            path = QPainterPath(place(points[0]))
            for point in points[1:]:
                path.lineTo(place(point))
            return path

        if scene.wedge:
            painter.fillPath(shape(scene.wedge), look().colour("muted", 0.16))
        if scene.cone:
            painter.setPen(QPen(look().colour("accent"), 1.4, Qt.PenStyle.DotLine))
            for far in scene.cone[1:]:
                painter.drawLine(place(scene.cone[0]), place(far))
        if len(scene.track) > 1:
            step = max(1, len(scene.track) // max(1, int(area.width())))
            painter.setPen(QPen(look().colour("accent"), 2.4))
            painter.drawPath(shape([*scene.track[::step], scene.track[-1]]))
        if scene.track:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(look().colour("accent"))
            painter.drawEllipse(place(scene.track[-1]), look().px(4), look().px(4))

    def _paint_times(self, painter: QPainter, area: QRectF, line: int) -> None:
        """A few round times along the ground."""
        if not self.scene.track:
            return
        span = self.scene.span_s
        step = next((s for s in _STEPS_S if span / s <= _MOST_TIMES), span / 2)
        at = step
        while at < span * 0.97:
            x = area.left() + area.width() * at / span
            painter.setPen(QPen(look().colour("line"), 1))
            painter.drawLine(QPointF(x, area.bottom() - 4), QPointF(x, area.bottom()))
            painter.setPen(look().colour("muted"))
            text = QRectF(x - 60, area.bottom() + 2, 120, line)
            painter.drawText(text, Qt.AlignmentFlag.AlignHCenter, duration_text(at))
            at += step


_MOST_TIMES = 5
_STEPS_S = (1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 1800, 3600, 7200, 14_400, 28_800, 86_400)
