"""After a clean system: what is left, what runs alone, what decides the end, and the time that it really took."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime

from PyQt6.QtCore import QRectF, QSize, Qt, QTimer
from PyQt6.QtGui import QBrush, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QCheckBox, QDialog, QGridLayout, QSizePolicy, QWidget

from neogenesis.app.first_boot.model import FirstBootModel
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import button, clear, label, row, scrolled, stack
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import clock
from neogenesis.core.reinstall.afterwards import Scheduled, Timed, end_of, free_until, hands_left

_TICK_MS = 10_000


@dataclass(frozen=True, slots=True)
class Bar:
    """A step on the time line; minutes from its left edge. `kind` is hands, alone or done."""

    row: int
    start: float
    end: float
    kind: str
    critical: bool


def bars_of(found: list[Scheduled]) -> tuple[list[Bar], float]:
    """All bars, and how many minutes they take from the first to the last."""
    first = min((s.start for s in found), default=0.0)
    bars = []
    for number, one in enumerate(found):
        if one.done:
            bars.append(Bar(number, one.start - first, max(one.end - first, one.start - first + 0.5), "done", False))
            continue
        bars.append(Bar(number, one.start - first, one.hands_end - first, "hands", one.critical))
        if one.end > one.hands_end:
            bars.append(Bar(number, one.hands_end - first, one.end - first, "alone", one.critical))
    return bars, max((b.end for b in bars), default=1.0)


class TimeLine(QWidget):
    """Hands full, what runs alone hatched, the way that decides the end with a strong edge."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("When each step is done"))
        self.bars: list[Bar] = []
        self._rows, self._total, self._now = 1, 1.0, 0.0

    def sizeHint(self) -> QSize:
        return QSize(look().px(330), look().px(34) * self._rows)

    def show_steps(self, found: list[Scheduled]) -> None:
        self.bars, self._total = bars_of(found)
        self._rows = max(1, len(found))
        self._now = -min((s.start for s in found), default=0.0)
        self.setMinimumHeight(look().px(34) * self._rows)
        self.update()

    def rect_of(self, bar: Bar) -> QRectF:
        """Where a bar stands."""
        tall, wide = self.height() / self._rows, max(1.0, self.width() - look().px(4))
        left, right = (wide * m / self._total for m in (bar.start, bar.end))
        return QRectF(left, bar.row * tall + tall * 0.2, max(3.0, right - left), tall * 0.6)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if 0 < self._now < self._total:
            x = self.width() * self._now / self._total
            painter.setPen(QPen(look().colour("ink"), 1, Qt.PenStyle.DashLine))
            painter.drawLine(int(x), 0, int(x), self.height())
        for bar in self.bars:
            rect = self.rect_of(bar)
            colour = look().colour("good" if bar.kind == "done" else "accent")
            painter.setPen(Qt.PenStyle.NoPen)
            if bar.kind == "alone":
                painter.setBrush(look().colour("accent_soft"))
                painter.drawRect(rect)
                painter.setBrush(QBrush(colour, Qt.BrushStyle.BDiagPattern))
            else:
                painter.setBrush(colour)
            painter.drawRect(rect)
            if bar.critical:
                painter.setPen(QPen(look().colour("ink"), 2))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(rect)
        painter.setPen(look().colour("muted"))
        painter.setFont(look().font(SMALL))
        end = tr("{0} min").format(round(self._total - self._now))
        area = QRectF(0, self.height() - look().px(16), self.width(), look().px(16))
        draw_text(painter, area, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom, end)


class AfterwardsSheet(QDialog):
    """Each step is begun and ended by a click; what was measured stays with the job."""

    def __init__(self, parent: QWidget, model: FirstBootModel) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._model = model
        self.setWindowTitle(tr("After the system"))
        self.resize(look().px(1000), look().px(720))
        self._sum = label("", "head", wrap=True)
        self._more = label("", "muted", wrap=True)
        self._others = label("", "muted", wrap=True, copyable=True)
        self.line = TimeLine()
        self.buttons: dict[str, QWidget] = {}
        self._grid = QGridLayout()
        self._grid.setVerticalSpacing(0)
        self._grid.setHorizontalSpacing(look().px(12))
        holder = QWidget()
        across = row(gap=look().px(16))
        across.addLayout(self._grid, 5)
        across.addWidget(self.line, 4)
        holder.setLayout(across)
        self._caution = label("", "caution", wrap=True)
        self.all = button(tr("All steps again"), lambda: self._do(model.take_all_steps))
        key = tr("Full: hands. Hatched: runs alone. A strong edge: decides the end.")
        body = stack(
            self._sum,
            self._more,
            self._others,
            scrolled(holder),
            self._caution,
            row(label(key, "small"), None, self.all, button(tr("Close"), self.accept, "main")),
            gap=look().px(10),
            margin=look().px(18),
        )
        body.setStretch(3, 1)
        self.setLayout(body)
        self._timer = QTimer(self)
        self._timer.setInterval(_TICK_MS)
        self._timer.timeout.connect(self.refresh)
        self._timer.start()
        self.refresh()

    def refresh(self) -> None:
        found = self._model.afterwards()
        self.all.setVisible(bool(self._model.steps.left_out))
        self.line.show_steps(found)
        clear(self._grid)
        self.buttons = {}
        for n, one in enumerate(found):
            self._row(n, one)
        end, hands = end_of(found), hands_left(found)
        if end <= 0:
            self._sum.setText(tr("Everything has been done."))
        else:
            at = clock(datetime.fromtimestamp(self._model.seconds() + end * 60))
            self._sum.setText(
                tr("Ends about {0}: {1} min, of which {2} min want hands.").format(at, round(end), round(hands))
            )
        free = free_until(found)
        self._more.setText(
            tr("Nothing here wants hands for {0} min: time for another bench.").format(round(free)) if free >= 1 else ""
        )
        others = self._model.meanwhile()
        self._others.setText(tr("At other benches: {0}").format("  ·  ".join(others)))
        self._others.setVisible(bool(others))
        cautions = [one.step.caution for one in found if one.step.caution and not one.done and one.start <= 0]
        self._caution.setText(" ".join(map(said, cautions)))

    def _row(self, n: int, one: Scheduled) -> None:
        code, timed = one.step.code, self._model.steps.steps.get(one.step.code, Timed())
        wanted = QCheckBox()
        wanted.setChecked(True)
        wanted.setToolTip(tr("Without a tick this job does without it"))
        wanted.setAccessibleName(said(one.step.text))
        wanted.clicked.connect(lambda _, c=code: self._do(lambda: self._model.leave_out(c)))
        text = label(said(one.step.text), "muted" if one.done else "", wrap=True)
        text.setMinimumHeight(look().px(34))
        if one.done:
            taken = (timed.ended or 0) - (timed.begun if timed.begun is not None else timed.ended or 0)
            act: QWidget = label(tr("{0} min").format(round(taken / 60)), "good")
        elif timed.begun is not None:
            act = button(tr("Ended"), lambda c=code: self._do(lambda: self._model.end_step(c)), "main")
        else:
            act = button(tr("Begin"), lambda c=code: self._do(lambda: self._model.begin_step(c)))
        self.buttons[code] = act
        self._grid.addWidget(wanted, n, 0)
        self._grid.addWidget(text, n, 1)
        self._grid.addWidget(act, n, 2)
        self._grid.setColumnStretch(1, 1)

    def _do(self, change: Callable[[], None]) -> None:
        change()
        self.refresh()
