"""A part in its bay, drawn to scale from the side and from above; what is too much is marked and measured."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import tr
from neogenesis.app.theme.look import SMALL, look
from neogenesis.core.fit.drawing import Box, Drawing, Measure, View

#: How often larger heights are drawn than lengths, by how many millimetres all of it is high.
_TALLER = ((9.0, 5.0), (16.0, 2.0))
_MOST_ZOOM, _STEP = 8.0, 1.25
_FILL = {
    "cover": ("line", 1.0),
    "mainboard": ("line", 1.0),
    "socket": ("reserved", 0.8),
    "stand-off": ("reserved", 0.45),
    "board": ("system", 1.0),
    "chip": ("raised", 0.6),
    "case": ("system", 0.45),
    "caddy": ("reserved", 0.25),
    "post": ("ink", 0.8),
}
_ROLES = ("reserved", "system")


class Paper:
    """Where millimetres land: `scale` pixels for one along x, `taller` times that along y, from `origin`."""

    def __init__(self, origin: QPointF, scale: float, taller: float) -> None:
        self.origin, self.scale, self.taller = origin, scale, taller

    def at(self, x: float, y: float) -> QPointF:
        return QPointF(self.origin.x() + x * self.scale, self.origin.y() - y * self.scale * self.taller)

    def box(self, box: Box) -> QRectF:
        return QRectF(self.at(box.x0, box.y1), self.at(box.x1, box.y0))


def taller_for(view: View) -> float:
    _, bottom, _, top = view.span
    return next((times for most, times in _TALLER if top - bottom < most), 1.0)


def paint_view(painter: QPainter, view: View, paper: Paper, font: QFont) -> None:
    """Boxes, then what is too much, then measures with their figures."""
    painter.setFont(font)
    for box in view.boxes:
        if box.thing not in ("over", "bay", "chip"):
            _paint_box(painter, box, paper)
    for box in view.boxes:
        if box.thing == "chip":
            _paint_box(painter, box, paper)
        elif box.thing == "bay":
            painter.setPen(QPen(look().colour("muted"), 1, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(paper.box(box))
    for box in view.overlaps:
        painter.setPen(QPen(look().colour("stop"), 1.6))
        painter.setBrush(look().colour("stop", 0.45))
        painter.drawRect(paper.box(box))
    for measure in sorted(view.measures, key=lambda m: m.over):
        paint_measure(painter, measure, paper)


def _paint_box(painter: QPainter, box: Box, paper: Paper) -> None:
    token, alpha = _FILL[box.thing]
    colour = look().role(token, alpha) if token in _ROLES else look().colour(token, alpha)
    edge = look().role("system") if token in ("system", "raised") else look().colour("muted", 0.7)
    painter.setPen(QPen(edge, 1))
    painter.setBrush(colour)
    if box.thing == "stand-off" and paper.taller == 1.0 and abs((box.x1 - box.x0) - (box.y1 - box.y0)) < 0.01:
        painter.drawEllipse(paper.box(box))
    else:
        painter.drawRoundedRect(paper.box(box), 1.5, 1.5)


def paint_measure(painter: QPainter, measure: Measure, paper: Paper) -> None:
    """A line with two ends, and its length beside it."""
    one, other = paper.at(measure.x0, measure.y0), paper.at(measure.x1, measure.y1)
    painter.setPen(QPen(look().colour("stop" if measure.over else "muted"), 1.6 if measure.over else 1.1))
    painter.drawLine(one, other)
    across = abs(one.y() - other.y()) < 0.5
    tick = QPointF(0, 4) if across else QPointF(4, 0)
    for end in (one, other):
        painter.drawLine(end - tick, end + tick)
    if measure.over:
        font = painter.font()
        bold = QFont(font)
        bold.setBold(True)
        painter.setFont(bold)
    text = tr("{0} mm too much").format(f"{measure.mm:.2g}") if measure.over else f"{measure.mm:g} mm"
    middle = (one + other) / 2
    wide, tall = look().px(130), look().px(18)
    if measure.over and not across:
        wide = painter.fontMetrics().horizontalAdvance(text) + look().px(10)
        place = QRectF(max(0.0, middle.x() - wide - look().px(5)), middle.y() - tall / 2, wide, tall)
        painter.fillRect(place, look().colour("raised"))
        painter.drawText(place, Qt.AlignmentFlag.AlignCenter, text)
    elif across:
        place = QRectF(middle.x() - wide / 2, middle.y() - tall - 1, wide, tall)
        painter.drawText(place, Qt.AlignmentFlag.AlignCenter, text)
    else:
        place = QRectF(middle.x() + look().px(7), middle.y() - tall / 2, wide, tall)
        painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, text)
    if measure.over:
        painter.setFont(font)


class FitCanvas(QWidget):
    """Plus and minus or the wheel zoom, dragging or the arrow keys move, 0 shows all; R lays a ruler on it."""

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("Part and bay, drawn to scale"))
        self.setToolTip(tr("Plus and minus zoom, dragging moves, 0 shows all, R lays a ruler on it"))
        self.drawing: Drawing | None = None
        self.zoom = 1.0
        self.ruler = False
        self._shift = QPointF()
        self._held: QPoint | None = None

    def minimumSizeHint(self) -> QSize:
        return QSize(260, look().px(130))

    def show_drawing(self, drawing: Drawing | None, spoken: str) -> None:
        self.drawing = drawing
        self.setAccessibleDescription(spoken)
        self.update()

    # Places

    def _papers(self) -> list[tuple[View, Paper, str]]:
        """The view from the side above, the one from above below it, both in one scale."""
        if self.drawing is None:
            return []
        side, above = self.drawing.side, self.drawing.above
        taller = taller_for(side)
        left, low, right, high = side.span
        a_left, a_low, a_right, a_high = above.span
        wide_mm = max(right, a_right) - min(left, a_left)
        tall_mm = (high - low) * taller + (a_high - a_low)
        gap, words = look().px(22), look().px(34)
        room_x, room_y = self.width() - look().px(96), self.height() - gap - 2 * words
        both = min(room_x / wide_mm, room_y / tall_mm)
        alone = min(room_x / (right - left), (room_y + gap) / ((high - low) * taller))
        shows_both = both >= 0.55 * alone
        scale = (both if shows_both else alone) * self.zoom
        x = look().px(30) - min(left, a_left) * scale + self._shift.x()
        y = look().px(24) + high * scale * taller + self._shift.y()
        note = tr("from the side, heights {0} times").format(f"{taller:g}") if taller > 1 else tr("from the side")
        found = [(side, Paper(QPointF(x, y), scale, taller), note)]
        if shows_both:
            y += -low * scale * taller + gap + words / 2 + a_high * scale
            found.append((above, Paper(QPointF(x, y), scale, 1.0), tr("from above")))
        return found

    # Painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        font = look().font(SMALL)
        if self.drawing is None:
            painter.setFont(look().font())
            painter.setPen(look().colour("muted"))
            text = tr("The two have no shape in common that could be drawn.")
            painter.drawText(QRectF(self.rect()), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, text)
        for view, paper, note in self._papers():
            paint_view(painter, view, paper, font)
            left, low, _, _ = view.span
            place = paper.at(left, low)
            painter.setPen(look().colour("muted"))
            if view.usual:
                note = f"{note}  ·  {tr('sizes that are not stated are usual ones')}"
            box = QRectF(place.x(), place.y() + 3, self.width(), look().px(18))
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, note)
        if self.ruler and self._papers():
            self._paint_ruler(painter, self._papers()[0][1])
        if self.hasFocus():
            painter.setPen(QPen(look().colour("accent"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 6, 6)

    def _paint_ruler(self, painter: QPainter, paper: Paper) -> None:
        """Millimetres along the lower edge, in the scale of the drawing, from the connector on."""
        y = self.height() - look().px(24)
        painter.setBrush(look().colour("raised"))
        painter.setPen(QPen(look().colour("line"), 1))
        painter.drawRect(QRectF(0, y, self.width(), look().px(24)))
        painter.setPen(QPen(look().colour("ink"), 1))
        last = int((self.width() - paper.origin.x()) / paper.scale)
        for mm in range(int(-paper.origin.x() / paper.scale), last + 1):
            x = paper.at(mm, 0).x()
            tall = look().px(12 if mm % 10 == 0 else 8 if mm % 5 == 0 else 4)
            if paper.scale >= 2 or mm % 5 == 0:
                painter.drawLine(QPointF(x, y), QPointF(x, y + tall))
            if mm % 10 == 0:
                place = QRectF(x + 2, y + look().px(8), look().px(30), look().px(16))
                painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, str(mm))

    # Hands

    def set_zoom(self, zoom: float) -> None:
        self.zoom = min(max(zoom, 1.0), _MOST_ZOOM)
        if self.zoom == 1.0:
            self._shift = QPointF()
        self.update()

    def switch_ruler(self) -> None:
        self.ruler = not self.ruler
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key, step = event.key(), look().px(40)
        moves = {
            Qt.Key.Key_Left: QPointF(step, 0),
            Qt.Key.Key_Right: QPointF(-step, 0),
            Qt.Key.Key_Up: QPointF(0, step),
            Qt.Key.Key_Down: QPointF(0, -step),
        }
        if event.text() == "+":
            self.set_zoom(self.zoom * _STEP)
        elif event.text() == "-":
            self.set_zoom(self.zoom / _STEP)
        elif key == Qt.Key.Key_0:
            self.set_zoom(1.0)
        elif key == Qt.Key.Key_R:
            self.switch_ruler()
        elif key in moves:
            self._shift += moves[Qt.Key(key)]
            self.update()
        else:
            super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None:
            self.set_zoom(self.zoom * (_STEP if event.angleDelta().y() > 0 else 1 / _STEP))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self._held = event.pos()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._held is not None:
            self._shift += QPointF(event.pos() - self._held)
            self._held = event.pos()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._held = None
