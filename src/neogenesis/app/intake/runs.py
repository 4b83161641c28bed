"""The runs of a stopwatch as a strip of bars: each with its log-in mark, the median through all that count."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import tr
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import seconds_text
from neogenesis.core.intake import Timing, When

_MIDDLE = Qt.AlignmentFlag.AlignVCenter
_MOST = 8


@dataclass(frozen=True, slots=True)
class Bar:
    """One run, to scale: `share` and `login_share` of the longest run shown."""

    when: When
    number: int
    seconds: float
    share: float
    login_share: float | None
    struck: str

    @property
    def spoken(self) -> str:
        text = seconds_text(self.seconds)
        return tr("{0}, struck out: {1}").format(text, self.struck) if self.struck else text


@dataclass(frozen=True, slots=True)
class RunsScene:
    """`medians` by when, each as seconds and as its share of the longest run."""

    bars: tuple[Bar, ...]
    medians: tuple[tuple[When, float, float], ...]


def runs_scene(before: Timing | None, after: Timing | None) -> RunsScene:
    """The latest runs of both, those before the work first."""
    timings = [t for t in (before, after) if t is not None]
    longest = max((run.seconds for t in timings for run in t.runs[-_MOST:]), default=0.0)
    bars, medians = [], []
    for timing in timings:
        first = max(0, len(timing.runs) - _MOST)
        for number, run in enumerate(timing.runs[first:], first):
            login = None if run.login_s is None else run.login_s / longest
            bars.append(Bar(timing.when, number, run.seconds, run.seconds / longest, login, run.struck))
        if timing.median_s is not None and longest:
            medians.append((timing.when, timing.median_s, min(1.0, timing.median_s / longest)))
    return RunsScene(tuple(bars), tuple(medians))


class RunsStrip(QWidget):
    """Up and Down choose a run; `strike_asked` tells which one should no longer count, or count again."""

    strike_asked = pyqtSignal(str, int)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.scene = RunsScene((), ())
        self.chosen: int | None = None
        self.setAccessibleName(tr("Runs of the stopwatch"))

    @property
    def _bar(self) -> float:
        return look().px(20)

    @property
    def _gap(self) -> float:
        return look().px(7)

    def sizeHint(self) -> QSize:
        tall = max(1, len(self.scene.bars)) * (self._bar + self._gap) + look().metrics(SMALL).height() + look().px(6)
        return QSize(look().px(300), round(tall))

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(200), self.sizeHint().height())

    def show_scene(self, scene: RunsScene) -> None:
        if len(scene.bars) != len(self.scene.bars):
            self.updateGeometry()
        self.scene = scene
        if self.chosen is not None and self.chosen >= len(scene.bars):
            self.chosen = None
        self.setAccessibleDescription("; ".join(bar.spoken for bar in scene.bars))
        self.update()

    def _place(self, row: int) -> QRectF:
        return QRectF(0, row * (self._bar + self._gap) + 2, self.width() - look().px(86), self._bar)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self.scene.bars:
            painter.setPen(look().colour("muted"))
            painter.setFont(look().font())
            draw_text(painter, QRectF(self.rect()), _MIDDLE, tr("Not timed yet."))
            return
        for row, bar in enumerate(self.scene.bars):
            self._paint_bar(painter, bar, self._place(row), row == self.chosen)
        self._paint_medians(painter)

    def _paint_bar(self, painter: QPainter, bar: Bar, place: QRectF, chosen: bool) -> None:
        colour = look().role("data" if bar.when == "before" else "system")
        filled = QRectF(place.left(), place.top(), max(3.0, place.width() * bar.share), place.height())
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QBrush(colour, Qt.BrushStyle.BDiagPattern) if bar.struck else colour)
        painter.drawRoundedRect(filled, 3, 3)
        if bar.login_share is not None and not bar.struck:
            painter.setPen(QPen(look().colour("raised"), 2))
            x = place.left() + place.width() * bar.login_share
            painter.drawLine(QPointF(x, place.top() + 2), QPointF(x, place.bottom() - 2))
        if chosen:
            painter.setPen(QPen(look().colour("accent" if self.hasFocus() else "line"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(filled.adjusted(-1, -2, 1, 2), 4, 4)
        painter.setPen(look().colour("muted" if bar.struck else "ink"))
        painter.setFont(look().font(bold=not bar.struck))
        beside = QRectF(place.right() + look().px(10), place.top(), look().px(76), place.height())
        draw_text(painter, beside, _MIDDLE, seconds_text(bar.seconds))

    def _paint_medians(self, painter: QPainter) -> None:
        tall = self._bar + self._gap
        for when, seconds, share in self.scene.medians:
            rows = [n for n, bar in enumerate(self.scene.bars) if bar.when == when]
            x = self._place(0).width() * share
            top, bottom = self._place(rows[0]).top() - 2, rows[-1] * tall + self._bar + look().px(5)
            painter.setPen(QPen(look().colour("accent"), 2))
            painter.drawLine(QPointF(x, top), QPointF(x, bottom))
            if rows[-1] != len(self.scene.bars) - 1:
                continue  # only the lowest has room for its words
            painter.setPen(look().colour("accent"))
            painter.setFont(look().font(SMALL))
            words = tr("median {0}").format(seconds_text(seconds))
            wide = look().metrics(SMALL).horizontalAdvance(words) + 4
            left = min(max(0.0, x - wide / 2), self.width() - wide)
            draw_text(painter, QRectF(left, bottom, wide, look().metrics(SMALL).height()), _MIDDLE, words)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key, last = Qt.Key(event.key()), len(self.scene.bars) - 1
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(key)
        if step is not None and last >= 0:
            self.chosen = 0 if self.chosen is None else min(max(self.chosen + step, 0), last)
            self.update()
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.chosen is not None:
            self._ask_to_strike()
        else:
            super().keyPressEvent(event)

    def _ask_to_strike(self) -> None:
        if self.chosen is not None:
            bar = self.scene.bars[self.chosen]
            self.strike_asked.emit(bar.when, bar.number)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self.scene.bars:
            row = int(event.position().y() / (self._bar + self._gap))
            self.chosen = row if row < len(self.scene.bars) else None
            self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        self._ask_to_strike()
