"""Price against room against waiting: each mark is a set that fits, its shape tells how long a start takes; the line
joins the sets that nothing cheaper outdoes in room without more waiting."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from itertools import pairwise
from typing import Literal

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import tr
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import nominal, seconds_text
from neogenesis.core.fit.lists import name_of
from neogenesis.core.fit.numbers import numbers
from neogenesis.core.fit.sets import DriveSet

Shape = Literal["circle", "square", "diamond"]
_NEAR_PX = 14
_R = 4.5
_MOST_TICKS = 5
#: Shapes by waiting, the least first.
_SHAPES: tuple[Shape, ...] = ("circle", "square", "diamond")


@dataclass(frozen=True, slots=True)
class Dot:
    """`x` the price, `y` the room in bytes, `seconds` what a start takes, or waits for its drive."""

    set: DriveSet
    x: float
    y: float
    seconds: float
    shape: Shape
    chosen: bool
    affordable: bool


@dataclass(frozen=True, slots=True)
class TradeoffScene:
    """Ordered by price. `front` are the places of those on the line; `groups` the shapes with their middle seconds."""

    dots: tuple[Dot, ...]
    front: tuple[int, ...]
    groups: tuple[tuple[Shape, float], ...]
    budget: float | None
    whole_start: bool

    @property
    def chosen(self) -> int | None:
        return next((n for n, d in enumerate(self.dots) if d.chosen), None)

    def beside(self, step: int) -> DriveSet | None:
        """The next set on the line, from the chosen one."""
        if not self.front:
            return None
        at = self.chosen
        price = self.dots[at].x if at is not None else self.dots[self.front[0]].x
        ahead = [n for n in self.front if (self.dots[n].x > price if step > 0 else self.dots[n].x < price)]
        if not ahead:
            return None
        return self.dots[ahead[0] if step > 0 else ahead[-1]].set


def tradeoff_scene(
    sets: Sequence[DriveSet],
    seconds: Sequence[float],
    chosen: DriveSet | None,
    budget: Decimal | None,
    whole_start: bool,
) -> TradeoffScene:
    """`seconds` of each set, in its order. Those that nobody would tell apart by waiting are of one shape."""
    mine = frozenset(chosen.placed) if chosen is not None else frozenset()
    bounds = _bounds(seconds)
    dots = sorted(
        (
            Dot(
                one,
                float(one.cost),
                float(one.room_bytes),
                wait,
                _SHAPES[min(sum(wait > b for b in bounds), len(_SHAPES) - 1)],
                frozenset(one.placed) == mine,
                budget is None or one.cost <= budget,
            )
            for one, wait in zip(sets, seconds, strict=True)
        ),
        key=lambda d: (d.x, -d.y),
    )
    front, most = [], -1.0
    for n, dot in enumerate(dots):
        if dot.shape == "circle" and dot.y > most:
            front.append(n)
            most = dot.y
    groups = []
    for shape in _SHAPES:
        waits = sorted(d.seconds for d in dots if d.shape == shape)
        if waits:
            groups.append((shape, waits[len(waits) // 2]))
    return TradeoffScene(
        tuple(dots), tuple(front), tuple(groups), None if budget is None else float(budget), whole_start
    )


def _bounds(seconds: Sequence[float]) -> list[float]:
    """Where a start waits so much longer than the one before that it is felt."""
    ordered = sorted(set(seconds))
    return [one for one, other in pairwise(ordered) if other - one > numbers().set.near_s]


def ticks(low: float, high: float) -> list[float]:
    """Doublings of 1, 2.5 or 5 between two ends of a scale of ratios, few enough to be read."""
    start = 10 ** math.floor(math.log10(max(low, 1e-9)))
    found = [start * 2**k for k in range(40) if low <= start * 2**k <= high]
    while len(found) > _MOST_TICKS:
        found = found[::2]
    return found


class TradeoffCanvas(QWidget):
    """Left and Right go along the line, a click chooses a mark; `chosen` brings the set."""

    chosen = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Room against price and waiting"))
        self.scene = TradeoffScene((), (), (), None, False)

    def minimumSizeHint(self) -> QSize:
        return QSize(200, look().px(130))

    def show_scene(self, scene: TradeoffScene) -> None:
        self.scene = scene
        at = scene.chosen
        self.setAccessibleDescription(self._spoken(scene.dots[at]) if at is not None else "")
        self.update()

    def _spoken(self, dot: Dot) -> str:
        names = " + ".join(name_of(m.part) for m in dot.set.matches)
        return f"{names}: {dot.x:.2f}, {nominal(dot.set.room_bytes)}, {seconds_text(round(dot.seconds, 1))}"

    # Places

    @property
    def _plot(self) -> QRectF:
        return QRectF(look().px(52), look().px(22), self.width() - look().px(66), self.height() - look().px(64))

    def _ends(self) -> tuple[float, float, float, float]:
        xs, ys = [max(d.x, 1.0) for d in self.scene.dots], [d.y for d in self.scene.dots]
        return min(xs) / 1.15, max(xs) * 1.15, min(ys) / 1.3, max(ys) * 1.3

    def place(self, dot: Dot) -> QPointF:
        """Cheap at the left, much room at the top; both scales are of ratios."""
        return self._at(max(dot.x, 1.0), dot.y)

    def _at(self, x: float, y: float) -> QPointF:
        low_x, high_x, low_y, high_y = self._ends()
        area = self._plot
        across = math.log(x / low_x) / math.log(high_x / low_x)
        up = math.log(y / low_y) / math.log(high_y / low_y)
        return QPointF(area.left() + area.width() * across, area.bottom() - area.height() * up)

    # Painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(look().font(SMALL))
        painter.setPen(look().colour("muted"))
        if not self.scene.dots:
            words = tr("No set of parts fits, or none has room enough.")
            painter.drawText(QRectF(self.rect()), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, words)
            return
        self._paint_scales(painter)
        self._paint_budget(painter)
        self._paint_dots(painter)
        self._paint_legend(painter)
        if self.hasFocus():
            painter.setPen(QPen(look().colour("accent"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 6, 6)

    def _paint_scales(self, painter: QPainter) -> None:
        low_x, high_x, low_y, high_y = self._ends()
        area = self._plot
        middle, right = Qt.AlignmentFlag.AlignCenter, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        for room in ticks(low_y, high_y):
            y = self._at(low_x, room).y()
            painter.setPen(QPen(look().colour("line"), 1))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(look().colour("muted"))
            place = QRectF(0, y - look().px(9), area.left() - look().px(6), look().px(18))
            painter.drawText(place, right, nominal(int(room)))
        for price in ticks(low_x, high_x):
            x = self._at(price, low_y).x()
            painter.setPen(look().colour("muted"))
            place = QRectF(x - look().px(30), area.bottom() + look().px(3), look().px(60), look().px(16))
            painter.drawText(place, middle, f"{price:g}")
        painter.setPen(QPen(look().colour("line"), 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())
        painter.setPen(look().colour("muted"))
        head = QRectF(0, 0, self.width(), look().px(18))
        painter.drawText(head, Qt.AlignmentFlag.AlignVCenter, tr("room against price"))

    def _paint_budget(self, painter: QPainter) -> None:
        low, high, low_y, _ = self._ends()
        budget = self.scene.budget
        if budget is None or not low <= budget <= high:
            return
        area = self._plot
        x = self._at(budget, low_y).x()
        painter.setPen(QPen(look().colour("caution"), 1.2, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
        painter.setPen(look().colour("caution"))
        place = QRectF(x - look().px(84), area.bottom() - look().px(20), look().px(80), look().px(18))
        painter.drawText(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, tr("budget"))

    def _paint_dots(self, painter: QPainter) -> None:
        painter.setPen(QPen(look().colour("accent"), 1.6))
        for one, other in pairwise([self.place(self.scene.dots[n]) for n in self.scene.front]):
            painter.drawLine(one, other)
        for dot in sorted(self.scene.dots, key=lambda d: d.chosen):
            painter.setPen(QPen(look().colour("accent" if dot.affordable else "muted"), 1.4))
            painter.setBrush(look().colour("accent" if dot.chosen else "ground"))
            _paint_shape(painter, dot.shape, self.place(dot), look().px(_R + 2 if dot.chosen else _R))
        at = self.scene.chosen
        if at is not None:
            self._paint_name(painter, self.scene.dots[at])

    def _paint_legend(self, painter: QPainter) -> None:
        """Below the scale of prices: which shape waits how long."""
        y = self.height() - look().px(12)
        x = float(look().px(4))
        painter.setFont(look().font(SMALL))
        words = tr("a start:") if self.scene.whole_start else tr("waiting at a start:")
        for shape, seconds in (("", 0.0), *self.scene.groups):
            text = seconds_text(round(seconds, 0 if seconds >= 10 else 1)) if shape else words
            if shape:
                painter.setPen(QPen(look().colour("accent"), 1.4))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                _paint_shape(painter, shape, QPointF(x + look().px(5), y), look().px(_R))  # type: ignore[arg-type]
                x += look().px(14)
            painter.setPen(look().colour("muted"))
            wide = look().metrics(SMALL).horizontalAdvance(text) + look().px(10)
            painter.drawText(QRectF(x, y - look().px(9), wide, look().px(18)), Qt.AlignmentFlag.AlignVCenter, text)
            x += wide

    def _paint_name(self, painter: QPainter, dot: Dot) -> None:
        text = " + ".join(str(m.part.model or m.part.id) for m in dot.set.matches)
        place = self.place(dot)
        wide = look().metrics(SMALL, bold=True).horizontalAdvance(text) + 4
        left = min(max(place.x() - wide / 2, 0.0), self.width() - wide)
        above = place.y() - look().px(28)
        y = above if above > look().px(16) else place.y() + look().px(11)
        painter.setFont(look().font(SMALL, bold=True))
        painter.setPen(look().colour("ink"))
        painter.drawText(QRectF(left, y, wide, look().px(17)), Qt.AlignmentFlag.AlignCenter, text)

    # Hands

    def _near(self, point: QPointF) -> Dot | None:
        def far(dot: Dot) -> float:
            gap = self.place(dot) - point
            return gap.x() ** 2 + gap.y() ** 2

        if not self.scene.dots:
            return None
        dot = min(self.scene.dots, key=far)
        return dot if far(dot) <= look().px(_NEAR_PX) ** 2 else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        dot = self._near(event.position()) if event is not None else None
        if dot is not None:
            self.chosen.emit(dot.set)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        dot = self._near(event.position()) if event is not None else None
        self.setToolTip(self._spoken(dot) if dot is not None else "")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(Qt.Key(event.key())) if event is not None else None
        if step is None:
            super().keyPressEvent(event)
            return
        found = self.scene.beside(step)
        if found is not None:
            self.chosen.emit(found)


def _paint_shape(painter: QPainter, shape: Shape, middle: QPointF, r: float) -> None:
    if shape == "circle":
        painter.drawEllipse(middle, r, r)
    elif shape == "square":
        painter.drawRect(QRectF(middle.x() - r * 0.9, middle.y() - r * 0.9, r * 1.8, r * 1.8))
    else:
        corners = [QPointF(0, -r * 1.2), QPointF(r * 1.2, 0), QPointF(0, r * 1.2), QPointF(-r * 1.2, 0)]
        painter.drawPolygon(QPolygonF([middle + c for c in corners]))
