"""What must survive, by where it is: below the tide line, between the lines, or ashore.

The scene says what is drawn where; the canvas paints it and moves what a person moves.
"""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import mark, tr
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.theme.look import SMALL, TITLE, look
from neogenesis.core.intake import SHORES, Intake, Shore

_TITLES: dict[Shore, str] = {
    "here": mark("only on this machine"),
    "said": mark("said to be elsewhere"),
    "seen": mark("seen elsewhere by me"),
}
_TOKENS: dict[Shore, str] = {"here": "stop", "said": "caution", "seen": "good"}
_FEWEST_ROWS = 3
_ELIDE = Qt.TextElideMode.ElideRight
_MIDDLE = Qt.AlignmentFlag.AlignVCenter


@dataclass(frozen=True, slots=True)
class Item:
    """One thing that must survive, as it is drawn: in which third, in which row."""

    what: str
    where: str
    shore: Shore
    row: int

    @property
    def spoken(self) -> str:
        return f"{self.what}, {tr(_TITLES[self.shore])}" + (f", {self.where}" if self.where else "")


@dataclass(frozen=True, slots=True)
class ShoresScene:
    items: tuple[Item, ...]

    @property
    def rows(self) -> int:
        return max(_FEWEST_ROWS, *(self.count(shore) for shore in SHORES))

    def count(self, shore: Shore) -> int:
        return sum(item.shore == shore for item in self.items)

    def neighbour(self, chosen: str, step: int) -> str:
        """The thing above or below it, going on at the next shore; empty where there is none at all."""
        names = [i.what for i in sorted(self.items, key=lambda i: (SHORES.index(i.shore), i.row))]
        if not names:
            return ""
        if chosen not in names:
            return names[0]
        return names[min(max(names.index(chosen) + step, 0), len(names) - 1)]


def shores_scene(intake: Intake) -> ShoresScene:
    items = []
    for shore in SHORES:
        items += [Item(v.what, v.where, shore, row) for row, v in enumerate(intake.on_shore(shore))]
    return ShoresScene(tuple(items))


class ShoresCanvas(QWidget):
    """`moved` tells thing and steps to the right, `placed` thing and shore, `dropped` what goes off the list."""

    moved = pyqtSignal(str, int)
    placed = pyqtSignal(str, str)
    dropped = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.scene = ShoresScene(())
        self.chosen = ""
        self._dragged: QPointF | None = None
        self.setAccessibleName(tr("What must survive, by where it is"))
        self.setToolTip(tr("Left and Right move a thing, Up and Down choose one, Delete takes it off the list."))

    def sizeHint(self) -> QSize:
        return QSize(look().px(420), round(self._top + self.scene.rows * self._row + look().px(12)))

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(300), self.sizeHint().height())

    def show_scene(self, scene: ShoresScene) -> None:
        taller = scene.rows != self.scene.rows
        self.scene = scene
        if self.chosen not in {item.what for item in scene.items}:
            self.chosen = ""
        self.setAccessibleDescription("; ".join(item.spoken for item in scene.items))
        if taller:
            self.updateGeometry()
        self.update()

    # Places

    @property
    def _top(self) -> float:
        return look().metrics(TITLE, bold=True).height() + look().px(16)

    @property
    def _row(self) -> float:
        return look().metrics().height() + look().px(9)

    def _column(self, shore: Shore) -> QRectF:
        width = self.width() / len(SHORES)
        return QRectF(SHORES.index(shore) * width, 0, width, self.height())

    def place_of(self, item: Item) -> QRectF:
        column = self._column(item.shore)
        gap = look().px(8)
        return QRectF(column.left() + gap, self._top + item.row * self._row, column.width() - 2 * gap, self._row)

    @property
    def _mirrored(self) -> bool:
        return self.layoutDirection() == Qt.LayoutDirection.RightToLeft

    def _as_drawn(self, point: QPointF) -> QPointF:
        return QPointF(self.width() - point.x(), point.y()) if self._mirrored else point

    def _item_at(self, point: QPointF) -> Item | None:
        return next((item for item in self.scene.items if self.place_of(item).contains(point)), None)

    def _shore_at(self, point: QPointF) -> Shore:
        at = int(len(SHORES) * point.x() / max(1, self.width()))
        return SHORES[min(max(at, 0), len(SHORES) - 1)]

    # Painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_ground(painter)
        for shore in SHORES:
            self._paint_head(painter, shore)
        for item in self.scene.items:
            if self._dragged is None or item.what != self.chosen:
                self._paint_item(painter, item, self.place_of(item))
        if not self.scene.items:
            painter.setPen(look().colour("muted"))
            painter.setFont(look().font())
            below = QRectF(self.rect()).adjusted(look().px(14), self._top, -look().px(14), 0)
            flags = Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap
            draw_text(
                painter, below, flags, tr("Nothing on the list yet. Type it below, or take what is often forgotten.")
            )
        dragged = next((i for i in self.scene.items if i.what == self.chosen), None) if self._dragged else None
        if dragged is not None and self._dragged is not None:
            place = self.place_of(dragged)
            place.moveCenter(self._dragged)
            painter.fillRect(place, look().colour("raised", 0.9))
            self._paint_item(painter, dragged, place)

    def _paint_ground(self, painter: QPainter) -> None:
        """A beach: water over what is only here, falling dry towards what was seen elsewhere."""
        area = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        clip = QPainterPath()
        clip.addRoundedRect(area, look().px(8), look().px(8))
        painter.fillPath(clip, look().colour("raised"))
        water = QPainterPath(QPointF(area.left(), area.top() + self._top * 0.9))
        third, low = area.width() / 3, area.bottom()
        water.cubicTo(
            QPointF(area.left() + third * 0.8, area.top() + self._top * 0.9),
            QPointF(area.left() + third * 1.1, low - look().px(26)),
            QPointF(area.left() + third * 2, low - look().px(6)),
        )
        water.lineTo(area.left() + third * 2.3, low)
        water.lineTo(area.left(), low)
        water.closeSubpath()
        painter.setClipPath(clip)
        painter.fillPath(water, look().colour("accent_soft"))
        painter.setClipping(False)
        painter.setPen(QPen(look().colour("line"), 1))
        painter.drawPath(clip)
        painter.setPen(QPen(look().colour("line"), 1, Qt.PenStyle.DashLine))
        for shore in SHORES[1:]:
            x = self._column(shore).left()
            painter.drawLine(QPointF(x, area.top() + look().px(8)), QPointF(x, area.bottom() - look().px(8)))

    def _paint_head(self, painter: QPainter, shore: Shore) -> None:
        column, big = self._column(shore), look().metrics(TITLE, bold=True)
        gap, count = look().px(14), str(self.scene.count(shore))
        line = QRectF(column.left() + gap, look().px(6), column.width() - gap, big.height())
        painter.setPen(look().colour(_TOKENS[shore]))
        painter.setFont(look().font(TITLE, bold=True))
        draw_text(painter, line, _MIDDLE, count)
        line.setLeft(line.left() + big.horizontalAdvance(count) + look().px(10))
        painter.setPen(look().colour("muted"))
        painter.setFont(look().font())
        draw_text(painter, line, _MIDDLE, look().metrics().elidedText(tr(_TITLES[shore]), _ELIDE, int(line.width())))

    def _paint_item(self, painter: QPainter, item: Item, place: QRectF) -> None:
        inner = place.adjusted(look().px(8), 0, -look().px(6), 0)
        if item.what == self.chosen:
            pen = look().colour("accent" if self.hasFocus() else "line")
            painter.setPen(QPen(pen, 2 if self.hasFocus() else 1))
            painter.drawRoundedRect(place.adjusted(1, 1, -1, -1), look().px(5), look().px(5))
        metrics = look().metrics()
        painter.setPen(look().colour("ink"))
        painter.setFont(look().font())
        name = metrics.elidedText(item.what, _ELIDE, int(inner.width()))
        draw_text(painter, inner, _MIDDLE, name)
        inner.setLeft(inner.left() + metrics.horizontalAdvance(name) + look().px(8))
        if item.where and inner.width() > look().px(30):
            painter.setPen(look().colour("muted"))
            painter.setFont(look().font(SMALL))
            draw_text(painter, inner, _MIDDLE, look().metrics(SMALL).elidedText(item.where, _ELIDE, int(inner.width())))

    # Hands

    def choose(self, what: str) -> None:
        self.chosen = what
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key = Qt.Key(event.key())
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(key)
        side = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(key, 0) * (-1 if self._mirrored else 1)
        if step is not None:
            self.choose(self.scene.neighbour(self.chosen, step))
        elif side and self.chosen:
            self.moved.emit(self.chosen, side)
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.chosen:
            gone = self.chosen
            below, above = (self.scene.neighbour(gone, step) for step in (1, -1))
            self.choose(above if below == gone else below)
            self.dropped.emit(gone)
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        item = self._item_at(self._as_drawn(event.position())) if event is not None else None
        self.choose(item.what if item is not None else "")

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self.chosen:
            self._dragged = self._as_drawn(event.position())
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        dragged, self._dragged = self._dragged, None
        if event is not None and dragged is not None and self.chosen:
            self.placed.emit(self.chosen, self._shore_at(self._as_drawn(event.position())))
        self.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.update()
