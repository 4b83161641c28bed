"""The ways as lanes of time: solid where hands are on it, pale where it runs alone, a ring where the machine is opened,
and how long it takes 8 times of 10."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import mark, said, tr, trn
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.theme.icons import paint_icon
from neogenesis.app.theme.look import SMALL, look
from neogenesis.core.decide import Decision
from neogenesis.core.decide.way import Way
from neogenesis.core.decide.ways import Considered

WAY_NAMES: dict[str, str] = {
    "replace": mark("Replace"),
    "split": mark("Split"),
    "beside": mark("Beside"),
    "exact": mark("Exact"),
    "salvage": mark("Salvage"),
    "fresh": mark("Fresh"),
    "do-less": mark("Do less"),
    "replace-machine": mark("Another machine"),
    "repair-start": mark("Repair the start"),
    "repair-cause": mark("Repair the cause"),
    "refer": mark("Refer it"),
    "nothing-yet": mark("Nothing yet"),
}
_FOR_SOME: tuple[Way, ...] = ("repair-start", "repair-cause", "refer", "nothing-yet")
_ELIDE = Qt.TextElideMode.ElideRight
_MIDDLE = Qt.AlignmentFlag.AlignVCenter
_STEPS_H = (0.25, 0.5, 1, 2, 4, 8, 12, 24, 48, 96)
_MOST_TICKS = 6


@dataclass(frozen=True, slots=True)
class Stretch:
    """From `start` to `end` in seconds; `hands` with somebody at it, `opens` where the machine is opened."""

    start: float
    end: float
    hands: bool
    opens: bool


@dataclass(frozen=True, slots=True)
class Lane:
    way: Way
    title: str
    below: str
    stretches: tuple[Stretch, ...]
    low_s: float
    high_s: float
    cost: str
    again: str
    allowed: bool
    recommended: bool
    risk: str

    @property
    def spoken(self) -> str:
        parts = (self.title, self.below, self.cost, self.again, tr("recommended") if self.recommended else "")
        return ", ".join(p for p in parts if p)


@dataclass(frozen=True, slots=True)
class LanesScene:
    """`span_s` is how far the scale reaches, `tick_s` the distance of its lines."""

    lanes: tuple[Lane, ...]
    span_s: float
    tick_s: float

    def neighbour(self, way: str, step: int) -> str:
        ways = [lane.way for lane in self.lanes]
        if not ways:
            return ""
        at = ways.index(way) + step if way in ways else 0
        return ways[min(max(at, 0), len(ways) - 1)]


def lanes_scene(decision: Decision, considered: Mapping[Way, Considered]) -> LanesScene:
    """What is possible first, the recommended one above all; ways that belong to other complaints are left out."""
    rows = sorted(
        (w for w in decision.ways if w.allowed or w.way not in _FOR_SOME),
        key=lambda w: (w.way != decision.recommended, w.way != decision.runner_up, not w.allowed),
    )
    lanes = []
    for row in rows:
        again = ", ".join(said(a) for a in row.again)
        openings = trn("opened once", "opened {0} times", row.openings).format(row.openings)
        below = openings if row.openings else tr("stays closed")
        lanes.append(
            Lane(
                row.way,
                tr(WAY_NAMES[row.way]),
                below if row.allowed else tr("not possible"),
                tuple(_stretches(considered[row.way])),
                row.seconds_p10,
                row.seconds_p90,
                row.cost_p50,
                (again or tr("nothing")) if row.allowed else said(row.reasons[0]),
                row.allowed,
                row.way == decision.recommended,
                row.risk,
            )
        )
    span = max(
        (max(lane.high_s, lane.stretches[-1].end if lane.stretches else 0) for lane in lanes if lane.allowed),
        default=3600,
    )
    tick = next((h for h in _STEPS_H if span / 3600 / h <= _MOST_TICKS), _STEPS_H[-1]) * 3600
    return LanesScene(tuple(lanes), span, tick)


def _stretches(one: Considered) -> list[Stretch]:
    """Pieces of one kind that follow each other are one stretch; openings stay apart."""
    found: list[Stretch] = []
    at = 0.0
    for number, piece in enumerate(one.pieces):
        end, opens = at + piece.spread[1], number < one.openings
        last = found[-1] if found else None
        if last is not None and (last.hands, last.opens) == (piece.hands, opens) and not opens:
            found[-1] = Stretch(last.start, end, last.hands, last.opens)
        else:
            found.append(Stretch(at, end, piece.hands, opens))
        at = end
    return found


class LanesCanvas(QWidget):
    """Up and Down choose a way; `chosen_changed` tells which."""

    chosen_changed = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("The ways, by time"))
        self.scene = LanesScene((), 3600, 3600)
        self.chosen = ""

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(400), look().px(36) * max(1, len(self.scene.lanes)) + look().px(26))

    def show_scene(self, scene: LanesScene) -> None:
        self.scene = scene
        if self.chosen not in {lane.way for lane in scene.lanes} and scene.lanes:
            self.chosen = scene.lanes[0].way
        self._tell()
        self.update()

    def _tell(self) -> None:
        lane = next((x for x in self.scene.lanes if x.way == self.chosen), None)
        self.setAccessibleDescription(lane.spoken if lane is not None else "")

    def choose(self, way: str) -> None:
        if way and way != self.chosen:
            self.chosen = way
            self._tell()
            self.update()
            self.chosen_changed.emit(way)

    # Places

    @property
    def _head(self) -> float:
        return look().px(24)

    def _row(self, number: int) -> QRectF:
        tall = min(look().px(58), (self.height() - self._head) / max(1, len(self.scene.lanes)))
        return QRectF(0, self._head + number * tall, self.width(), tall)

    @property
    def _axis(self) -> tuple[float, float]:
        """Left and right edge of the time scale."""
        return look().px(142), self.width() - look().px(232)

    def _x(self, seconds: float) -> float:
        left, right = self._axis
        return left + (right - left) * min(1.0, seconds / max(1.0, self.scene.span_s))

    # Painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_scale(painter)
        for number, lane in enumerate(self.scene.lanes):
            self._paint_lane(painter, lane, self._row(number))

    def _paint_scale(self, painter: QPainter) -> None:
        _, right = self._axis
        painter.setFont(look().font(SMALL))
        at = 0.0
        while at <= self.scene.span_s + 1:
            x = self._x(at)
            painter.setPen(QPen(look().colour("line"), 1))
            painter.drawLine(QPointF(x, self._head - look().px(4)), QPointF(x, self.height()))
            painter.setPen(look().colour("muted"))
            place = QRectF(x - look().px(30), 0, look().px(60), look().px(18))
            draw_text(painter, place, Qt.AlignmentFlag.AlignCenter, f"{at / 3600:g} h")
            at += self.scene.tick_s
        painter.setPen(look().colour("muted"))
        draw_text(painter, QRectF(right + look().px(12), 0, look().px(70), look().px(18)), _MIDDLE, tr("costs"))
        draw_text(painter, QRectF(right + look().px(88), 0, look().px(140), look().px(18)), _MIDDLE, tr("to do again"))

    def _paint_lane(self, painter: QPainter, lane: Lane, row: QRectF) -> None:
        if lane.way == self.chosen:
            painter.setPen(QPen(look().colour("accent" if self.hasFocus() else "line"), 2 if self.hasFocus() else 1))
            painter.setBrush(look().colour("raised"))
            painter.drawRoundedRect(row.adjusted(1, 2, -1, -2), 6, 6)
        painter.setOpacity(1.0 if lane.allowed else 0.5)
        self._paint_words(painter, lane, row)
        if lane.allowed:
            self._paint_time(painter, lane, row)
        painter.setOpacity(1.0)

    def _paint_words(self, painter: QPainter, lane: Lane, row: QRectF) -> None:
        small = look().metrics(SMALL)
        name = QRectF(row.left() + look().px(10), row.center().y() - look().px(19), look().px(128), look().px(20))
        painter.setPen(look().colour("ink"))
        painter.setFont(look().font(bold=lane.recommended))
        draw_text(painter, name, _MIDDLE, look().metrics(bold=True).elidedText(lane.title, _ELIDE, int(name.width())))
        painter.setFont(look().font(SMALL))
        painter.setPen(look().colour("muted"))
        name.translate(0, look().px(19))
        draw_text(painter, name, _MIDDLE, small.elidedText(lane.below, _ELIDE, int(name.width())))
        _, right = self._axis
        cost = QRectF(right + look().px(12), row.top(), look().px(68), row.height())
        painter.setFont(look().font(bold=True))
        painter.setPen(look().colour("ink"))
        if lane.allowed:
            draw_text(painter, cost, _MIDDLE, lane.cost)
        left = right + look().px(88)
        if lane.allowed and lane.risk != "low":
            token = "stop" if lane.risk == "high" else "caution"
            icon = "octagon-x" if lane.risk == "high" else "triangle-alert"
            paint_icon(painter, icon, QRectF(left, row.center().y() - 8, 16, 16), token)
            left += look().px(20)
        again = QRectF(left, row.top() + 4, row.right() - left - look().px(6), row.height() - 8)
        painter.setFont(look().font(SMALL))
        painter.setPen(look().colour("muted"))
        lines = max(1, int(again.height() // small.height()))
        text = (
            lane.again
            if small.horizontalAdvance(lane.again) < again.width() * (lines - 0.4)
            else small.elidedText(lane.again, _ELIDE, int(again.width() * max(0.9, lines - 0.6)))
        )
        draw_text(painter, again, _MIDDLE | Qt.TextFlag.TextWordWrap, text)

    def _paint_time(self, painter: QPainter, lane: Lane, row: QRectF) -> None:
        tall = look().px(16)
        top = row.center().y() - tall + look().px(2)
        colour = "system" if lane.recommended else "recovery" if lane.way == self.chosen else "reserved"
        painter.setPen(Qt.PenStyle.NoPen)
        for stretch in lane.stretches:
            x, end = self._x(stretch.start), self._x(stretch.end)
            painter.setBrush(look().role(colour, 1.0 if stretch.hands else 0.35))
            painter.drawRoundedRect(QRectF(x, top, max(2.0, end - x - 1), tall), 2, 2)
        for stretch in lane.stretches:
            if stretch.opens:
                middle = QPointF(self._x((stretch.start + stretch.end) / 2), top + tall / 2)
                painter.setBrush(look().colour("raised"))
                painter.setPen(QPen(look().colour("ink"), 1.6))
                painter.drawEllipse(middle, 5, 5)
                painter.setPen(Qt.PenStyle.NoPen)
        y = top + tall + look().px(8)
        low, high = self._x(lane.low_s), self._x(lane.high_s)
        painter.setPen(QPen(look().colour("ink"), 1.4))
        painter.drawLine(QPointF(low, y), QPointF(high, y))
        for x in (low, high):
            painter.drawLine(QPointF(x, y - 4), QPointF(x, y + 4))

    # Hands

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
        else:
            self.choose(self.scene.neighbour(self.chosen, step))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        for number, lane in enumerate(self.scene.lanes):
            if event is not None and self._row(number).contains(event.position()):
                self.choose(lane.way)
