"""What is normal at the first start after fitting parts, for how long, and when to worry."""

from __future__ import annotations

from collections.abc import Callable
from time import monotonic

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, QTimer
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import button, clear, label, notice, row, scrolled, stack
from neogenesis.app.swap.prints import old_drive_words
from neogenesis.app.swap.words import clock_text
from neogenesis.app.theme.look import SMALL, look
from neogenesis.core.swap.numbers import Wait, numbers

_TICK_MS = 500
#: Mistakes that show at the first start.
_AT_START = ("dark-long", "dead", "beeps", "fans")


class FirstStart(QWidget):
    """A clock that runs from the moment the button was pressed, against what is normal."""

    def __init__(self, desk: OpenJob, print_label: Callable[[], object]) -> None:
        super().__init__()
        self._desk, self._model = desk, desk.swap
        label_button = button(tr("Drive label…"), print_label, "", tr("For its sleeve  Ctrl+Shift+J"))
        self._since: float | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(_TICK_MS)
        self._timer.timeout.connect(self._show_time)
        self._head = label("", "title", wrap=True)
        self._more = label("", "muted", wrap=True)
        self.clock = label("0 s", "figure")
        self.verdict = label("", "head", wrap=True)
        self.run = button(tr("Started now"), self._start, "", tr("The clock runs from here"))
        self._bands = QVBoxLayout()
        self._bands.setSpacing(look().px(16))
        at = row(self.clock, self.verdict, self.run, gap=look().px(20))
        at.setStretch(1, 1)
        self._troubles = QVBoxLayout()
        self._troubles.setSpacing(look().px(10))
        self._old = label("", wrap=True)
        troubles = QWidget()
        troubles.setLayout(stack(label(tr("If it does not come"), "head"), self._troubles, None))
        drive = QWidget()
        drive.setLayout(stack(label(tr("The old drive"), "head"), self._old, row(label_button, None), None))
        below = row(scrolled(troubles), drive, gap=look().px(28))
        below.setStretch(0, 3)
        below.setStretch(1, 2)
        body = stack(self._head, self._more, self._bands, at, below, gap=look().px(14))
        body.setStretch(4, 1)
        self.setLayout(body)
        self.bands: list[WaitBand] = []

    def refresh(self) -> None:
        guide = self._model.guide
        if guide is None:
            return
        ledger = guide.where.ledger
        named = sum(one.count for one in (*ledger.never_out, *ledger.named))
        whole = tr("Closed, with nothing left over")
        self._head.setText(tr("Closed; {0} named with a reason").format(named) if named else whole)
        self._more.setText(
            tr("{0} fasteners out, {1} back in, {2} min with hands on it. Now the first start: what is normal.").format(
                ledger.out, ledger.back, max(1, round(guide.spent_s / 60))
            )
        )
        clear(self._bands)
        self.bands = [WaitBand(wait) for wait in self._model.waits()]
        for band in self.bands:
            self._bands.addWidget(band)
        clear(self._troubles)
        for mistake in numbers().mistakes:
            if mistake.code in _AT_START:
                steps = " ".join(said(text) for text in mistake.undo)
                self._troubles.addWidget(notice("note", mistake.shows, f"{said(mistake.usually)} {steps}"))
        self._old.setText(tr("Into its sleeve, labelled; it {0}.").format(old_drive_words(self._desk)))
        self._show_time()

    def _start(self) -> None:
        self._since = monotonic()
        self._timer.start()
        self._show_time()

    @property
    def seconds(self) -> float | None:
        return None if self._since is None else monotonic() - self._since

    def _show_time(self) -> None:
        seconds = self.seconds
        self.clock.setText(clock_text(seconds or 0))
        self.show_at(seconds)

    def show_at(self, seconds: float | None) -> None:
        """Where that is against each of what is normal."""
        for band in self.bands:
            band.show_at(seconds)
        waits = self._model.waits()
        if seconds is None or not waits:
            self.verdict.setText("")
            return
        worry, usual = max(w.worry_s for w in waits), max(w.normal_s[2] for w in waits)
        if seconds > worry:
            text, kind = tr("Longer than is normal: switch it off and look at the known mistakes."), "stop"
        elif seconds > usual:
            text, kind = tr("Longer than usual. Wait until {0}.").format(clock_text(worry)), "caution"
        else:
            text, kind = tr("This is normal. Do not open it again."), "good"
        self.verdict.setText(text)
        self.verdict.setProperty("kind", kind)
        style = self.verdict.style()
        if style is not None:
            style.unpolish(self.verdict)
            style.polish(self.verdict)


class WaitBand(QWidget):
    """One thing that is normal: from, usual, up to, and the mark from which on to worry, on a scale of square roots."""

    def __init__(self, wait: Wait) -> None:
        super().__init__()
        self.wait = wait
        self._at: float | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(said(wait.text))
        low, _, high = wait.normal_s
        self.setAccessibleDescription(f"{clock_text(low)} – {clock_text(high)}, {clock_text(wait.worry_s)}")

    def sizeHint(self) -> QSize:
        return QSize(look().px(400), look().px(66))

    def show_at(self, seconds: float | None) -> None:
        self._at = seconds
        self.update()

    def x_of(self, seconds: float) -> float:
        """Where a time stands; the place of worry is at four fifths."""
        share = (max(0.0, seconds) / self.wait.worry_s) ** 0.5 * 0.8
        return float(look().px(6) + min(1.0, share) * (self.width() - look().px(12)))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(look().font())
        painter.setPen(look().colour("ink"))
        metrics = look().metrics()
        text = metrics.elidedText(said(self.wait.text), Qt.TextElideMode.ElideRight, self.width())
        painter.drawText(QRectF(0, 0, self.width(), metrics.height()), Qt.AlignmentFlag.AlignVCenter, text)
        self.setToolTip(said(self.wait.text) if text != said(self.wait.text) else "")
        y, tall = look().px(34), look().px(9)
        low, usual, high = self.wait.normal_s
        painter.setPen(QPen(look().colour("line"), 2))
        painter.drawLine(QPointF(self.x_of(0), y), QPointF(self.width() - look().px(6), y))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look().colour("good", 0.35))
        painter.drawRoundedRect(QRectF(self.x_of(low), y - tall / 2, self.x_of(high) - self.x_of(low), tall), 4, 4)
        painter.setBrush(look().colour("good"))
        painter.drawEllipse(QPointF(self.x_of(usual), y), tall * 0.55, tall * 0.55)
        worry = self.x_of(self.wait.worry_s)
        painter.setPen(QPen(look().colour("stop"), 2))
        painter.drawLine(QPointF(worry, y - tall), QPointF(worry, y + tall))
        painter.setFont(look().font(SMALL))
        for seconds, token in ((high, "muted"), (self.wait.worry_s, "stop")):
            painter.setPen(look().colour(token))
            word = tr("worry after {0}") if token == "stop" else tr("up to {0}")
            box = QRectF(self.x_of(seconds) - look().px(70), y + tall, look().px(140), look().px(18))
            painter.drawText(box, Qt.AlignmentFlag.AlignHCenter, word.format(clock_text(seconds)))
        if self._at is not None:
            x = self.x_of(self._at)
            painter.setPen(QPen(look().colour("ink"), 2.4))
            painter.drawLine(QPointF(x, y - tall * 1.2), QPointF(x, y + tall * 1.2))
