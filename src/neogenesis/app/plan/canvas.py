"""The two columns of a plan with ribbons between them."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import said, tr
from neogenesis.app.parts.column import GAUGE_WIDTH, paint_column, paint_gauge, paint_ribbon
from neogenesis.app.parts.heading import Heading
from neogenesis.app.parts.strata import FREE, Placed, Stratum, neighbour, place_strata, spread
from neogenesis.app.theme.look import BODY, SMALL, look
from neogenesis.app.words import exact

_GRIP_REACH = 5
_STEPS = {
    Qt.KeyboardModifier.NoModifier: 1 << 30,
    Qt.KeyboardModifier.ShiftModifier: 10 << 30,
    Qt.KeyboardModifier.ControlModifier: 1 << 20,
}


_ELIDE = Qt.TextElideMode.ElideRight


class PlanCanvas(QWidget):
    """Old and new drive side by side, ribbons between them, and a grip on every boundary that can move.

    It only asks: `boundary_moved` (partition above the grip, its wanted size), `step_asked` (partition, difference
    in bytes), `toggled` and `size_asked` are answered by whoever holds the plan.
    """

    chosen_changed = pyqtSignal(object)
    drag_began = pyqtSignal()
    boundary_moved = pyqtSignal(int, object)
    drag_ended = pyqtSignal()
    step_asked = pyqtSignal(int, object)
    toggled = pyqtSignal(int)
    size_asked = pyqtSignal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("Old drive and new drive"))
        self.old: list[Stratum] = []
        self.new: list[Stratum] = []
        self.old_heading, self.new_heading = Heading(), Heading()
        self.notes: dict[int, tuple[str, str]] = {}
        self.grips: frozenset[int] = frozenset()
        self.chosen: int | None = None
        self.editable = False
        self._hover: int | None = None
        self._drag: tuple[int, float, int, float] | None = None

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(420), look().px(200))

    def show_plan(
        self,
        old: list[Stratum],
        new: list[Stratum],
        headings: tuple[Heading, Heading],
        notes: dict[int, tuple[str, str]],
        grips: frozenset[int],
        editable: bool,
    ) -> None:
        """`notes` say below a new partition's size what became of it, with the token of their colour."""
        self.old, self.new, self.notes, self.grips, self.editable = old, new, notes, grips, editable
        self.old_heading, self.new_heading = headings
        self.update()

    def choose(self, number: int | None) -> None:
        """Choose a partition of the old drive, by its number there."""
        if number != self.chosen:
            self.chosen = number
            self.chosen_changed.emit(number)
            self.update()

    # Places

    def _columns(self) -> tuple[list[Placed], list[Placed]]:
        top = look().px(52)
        width = min(look().px(110), self.width() * 0.15)
        side = self._label_width()
        least = look().metrics().height() + 2
        bottom = self.height() - top - 4
        old = QRectF(side + GAUGE_WIDTH + 8, top, width, bottom)
        new = QRectF(self.width() - side - GAUGE_WIDTH - 8 - width, top, width, bottom)
        return place_strata(self.old, old, least, 3), place_strata(self.new, new, least, 3)

    def _label_width(self) -> float:
        return min(look().px(176), self.width() * 0.24)

    def _grip_at(self, x: float, y: float) -> Placed | None:
        for item in self._columns()[1]:
            if item.stratum.number not in self.grips:
                continue
            edge = item.rect.bottom() + 1.5
            if abs(y - edge) <= _GRIP_REACH and item.rect.left() - 6 <= x <= item.rect.right() + 6:
                return item
        return None

    # Painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.paint_on(painter)

    def paint_on(self, painter: QPainter) -> None:
        """Everything; the report prints the same picture."""
        old, new = self._columns()
        side = self._label_width()
        if old:
            left = old[0].rect.left()
            self.old_heading.paint(
                painter, left, 2, (new[0].rect.left() if new else self.width()) - left - look().px(12)
            )
            paint_gauge(
                painter,
                self.old,
                QRectF(
                    left - GAUGE_WIDTH - 6, old[0].rect.top(), GAUGE_WIDTH, old[-1].rect.bottom() - old[0].rect.top()
                ),
            )
        if new:
            left = new[0].rect.left()
            self.new_heading.paint(painter, left, 2, self.width() - left)
            paint_gauge(
                painter,
                self.new,
                QRectF(
                    new[0].rect.right() + 6, new[0].rect.top(), GAUGE_WIDTH, new[-1].rect.bottom() - new[0].rect.top()
                ),
            )
        olds = {p.stratum.number: p for p in old if p.stratum.number is not None}
        chosen_new = None
        for item in new:
            number = item.stratum.from_number
            source = olds.get(number) if number is not None else None
            if source is not None:
                chosen = self.chosen == item.stratum.from_number
                paint_ribbon(painter, source.rect, item.rect, item.stratum.role, 0.42 if chosen else 0.22)
                if chosen:
                    chosen_new = item.stratum.number
        paint_column(painter, old, self.chosen)
        paint_column(painter, new, chosen_new)
        for item in new:
            if item.stratum.number in self.grips and self.editable:
                self._paint_grip(painter, item)
        self._paint_labels(painter, old, 0, side - 2, right=True)
        self._paint_labels(painter, new, self.width() - side + 4, side - 4, right=False)

    def _paint_grip(self, painter: QPainter, item: Placed) -> None:
        hot = self._hover == item.stratum.number
        wide, tall = look().px(40), look().px(9)
        place = QRectF(item.rect.center().x() - wide / 2, item.rect.bottom() + 1.5 - tall / 2, wide, tall)
        painter.setPen(QPen(look().colour("ink" if hot else "muted"), 1))
        painter.setBrush(look().colour("raised"))
        painter.drawRoundedRect(place, tall / 2, tall / 2)
        for dx in (-4, 0, 4):
            x = place.center().x() + dx
            painter.drawLine(QPointF(x, place.top() + 2.5), QPointF(x, place.bottom() - 2.5))

    def _paint_labels(self, painter: QPainter, placed: list[Placed], left: float, width: float, right: bool) -> None:
        name_metrics, figures, small = look().metrics(bold=True), look().metrics(), look().metrics(SMALL)
        line = name_metrics.height()
        heights = []
        for item in placed:
            lines = 1 if item.rect.height() < line * 1.9 else 2
            note = not right and item.stratum.number in self.notes
            heights.append(line * lines + (small.height() if note else 0) + 1)
        tops = spread(
            [p.rect.center().y() - h / 2 for p, h in zip(placed, heights, strict=True)],
            heights,
            look().px(50),
            self.height(),
        )
        align = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
        for item, top in zip(placed, tops, strict=True):
            stratum = item.stratum
            free = stratum.role == FREE
            size = exact(stratum.size_bytes)
            one_line = item.rect.height() < line * 1.9
            painter.setPen(look().colour("muted" if free or stratum.faded else "ink"))
            painter.setFont(look().font(BODY, bold=not free))
            room = width - (figures.horizontalAdvance(size) + look().px(10) if one_line else 0)
            name = name_metrics.elidedText(tr("free") if free else said(stratum.title), _ELIDE, int(room))
            if one_line:
                taken = name_metrics.horizontalAdvance(name)
                start = left + width - taken - figures.horizontalAdvance(size) - look().px(10) if right else left
                painter.drawText(QPointF(start, top + name_metrics.ascent()), name)
                painter.setPen(look().colour("muted"))
                painter.setFont(look().font(BODY))
                painter.drawText(QPointF(start + taken + look().px(10), top + name_metrics.ascent()), size)
                y = top + line
            else:
                painter.drawText(QRectF(left, top, width, line), align, name)
                painter.setPen(look().colour("muted"))
                painter.setFont(look().font(BODY))
                painter.drawText(QRectF(left, top + line, width, line), align, size)
                y = top + 2 * line
            if not right and stratum.number in self.notes:
                text, token = self.notes[stratum.number]
                painter.setPen(look().colour(token))
                painter.setFont(look().font(SMALL))
                painter.drawText(QPointF(left, y + small.ascent()), small.elidedText(text, _ELIDE, int(width)))

    # Hands

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        x, y = event.position().x(), event.position().y()
        grip = self._grip_at(x, y) if self.editable else None
        if grip is not None and grip.stratum.number is not None:
            per_pixel = grip.stratum.size_bytes / max(1.0, grip.rect.height())
            self._drag = (grip.stratum.number, y, grip.stratum.size_bytes, per_pixel)
            self.drag_began.emit()
            self.choose(grip.stratum.from_number)
            return
        old, new = self._columns()
        for item in (*old, *new):
            if item.rect.contains(x, y):
                number = item.stratum.number if item in old else item.stratum.from_number
                if number is not None:
                    self.choose(number)
                return

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        x, y = event.position().x(), event.position().y()
        if self._drag is not None:
            number, began, size, per_pixel = self._drag
            self.boundary_moved.emit(number, int(size + (y - began) * per_pixel))
            return
        grip = self._grip_at(x, y) if self.editable else None
        hover = grip.stratum.number if grip else None
        if hover != self._hover:
            self._hover = hover
            if hover is None:
                self.unsetCursor()
            else:
                self.setCursor(Qt.CursorShape.SplitVCursor)
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._drag is not None:
            self._drag = None
            self.drag_ended.emit()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if self.chosen is not None:
            self.size_asked.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key = Qt.Key(event.key())
        step = _STEPS.get(event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier)
        if key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.choose(neighbour(self.old, self.chosen, 1 if key == Qt.Key.Key_Down else -1))
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and step and self.chosen is not None and self.editable:
            self.step_asked.emit(self.chosen, step if key == Qt.Key.Key_Right else -step)
        elif key == Qt.Key.Key_Space and self.chosen is not None and self.editable:
            self.toggled.emit(self.chosen)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.chosen is not None:
            self.size_asked.emit()
        else:
            super().keyPressEvent(event)
