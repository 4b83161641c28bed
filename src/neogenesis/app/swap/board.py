"""What is read at arm's length: the step in front, the machine with what is lit, the tray, and how far it is.

One board stands in the window; another one can stand on a second screen. Both follow the same model.
"""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QImageReader, QPainter, QPaintEvent, QPen, QPixmap, QResizeEvent
from PyQt6.QtWidgets import QLabel, QSizePolicy, QStackedWidget, QVBoxLayout, QWidget

from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import Elided, clear, label, notice, row, scrolled, stack
from neogenesis.app.swap.canvas import Course, MachineCanvas, TrayCanvas
from neogenesis.app.swap.model import SwapModel
from neogenesis.app.swap.pieces import PieceMark
from neogenesis.app.swap.words import clock_text, cover_text, kind_text, minutes_text, row_text
from neogenesis.app.theme.icons import paint_icon
from neogenesis.app.theme.look import BODY, FIGURE, TEXT_PERCENTS, TITLE, look
from neogenesis.core.swap.guide import Guide
from neogenesis.core.swap.numbers import numbers
from neogenesis.core.swap.tray import kinds

_PHOTO = QSize(344, 228)
_RIGHT, _RIGHT_SHARE = 368, 0.38


class GuideBoard(QWidget):
    """Shows; it takes no orders. `subject` is a line about the job, for where there is no heading above it."""

    def __init__(self, model: SwapModel) -> None:
        super().__init__()
        self._model = model
        self.head = label("", "title", wrap=True)
        self.more = label("", "", wrap=True)
        self.more.setFont(look().font(TITLE if look().percent == TEXT_PERCENTS[0] else BODY))
        self.clock = Countdown()
        self.canvas, self.tray, self.course = MachineCanvas(), TrayCanvas(), Course()
        self.lines = QVBoxLayout()
        self.lines.setSpacing(look().px(14))
        self.below = MachineCanvas()
        lines = QWidget()
        room = stack(self.lines, self.below, None, margin=look().px(8), gap=look().px(14))
        room.setStretch(1, 20)
        lines.setLayout(room)
        self._pages = QStackedWidget()
        self._pages.addWidget(self.canvas)
        self._pages.addWidget(scrolled(lines))
        self._legend, self._beside = QVBoxLayout(), QVBoxLayout()
        for layout in (self._legend, self._beside):
            layout.setSpacing(look().px(6))
        self._tray_head = label(tr("Tray"), "head")
        self._next = Elided("", "head")
        self._next_word = label(tr("Next"), "muted")
        side = QWidget()
        at_right = stack(
            row(self._tray_head, label(tr("lay each where it came from"), "small"), None),
            self.tray,
            self._legend,
            self._beside,
            None,
            gap=look().px(10),
        )
        side.setLayout(at_right)
        self._figures = label("", "muted")
        words = row(self.head, self.clock, gap=look().px(16))
        words.setStretch(0, 1)
        self._side_frame = scrolled(side)
        self._side_frame.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        across = row(self._pages, self._side_frame, gap=look().px(24))
        across.setStretch(0, 1)
        following = row(self._next_word, self._next, self._figures, gap=look().px(10))
        following.setStretch(1, 1)
        body = stack(words, self.more, across, self.course, following, gap=look().px(8))
        body.setStretch(2, 1)
        self.setLayout(body)
        model.changed.connect(self.refresh)
        model.ticked.connect(self._show_clock)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.tray.setFixedHeight(min(look().px(190), max(100, round(self._pages.height() * 0.58))))
        self._side_frame.setFixedWidth(min(look().px(_RIGHT), round(self.width() * _RIGHT_SHARE)))

    def refresh(self) -> None:
        guide = self._model.guide
        if guide is None:
            return
        self.canvas.show_guide(guide)
        self.below.show_guide(guide)
        self.below.setVisible(guide.where.trouble is not None or guide.is_through)
        self.tray.show_guide(guide)
        spoken = minutes_text(guide.spent_s, guide.planned_s)
        self.course.show_guide(guide, spoken)
        at = guide.where.row if guide.preparing is None else -1
        place = tr("step {0} of {1}").format(min(at + 1, len(guide.rows)), len(guide.rows))
        self._figures.setText(f"{place}  ·  {spoken}" if at >= 0 else spoken)
        following = guide.row if guide.pending else guide.following
        self._next.say(row_text(following)[0] if following is not None else tr("closed, and everything counted"))
        self._show_words(guide)
        self._show_legend(guide)
        self._show_beside(guide)
        self._show_clock()

    # In large

    def _show_words(self, guide: Guide) -> None:
        where = guide.where
        clear(self.lines)
        self._pages.setCurrentIndex(1)
        if where.stopped:
            caution = numbers().cautions["swollen"]
            self._say(said(caution.title), said(caution.text), "stop")
            self._line("stop", tr("The work ends here. The job stays as it is; nothing was lost."))
        elif where.trouble is not None:
            self._say(said(where.trouble.shows), "", "caution")
            for n, text in enumerate(where.trouble.undo):
                self._line(
                    "good" if n < where.trouble.done else "here" if n == where.trouble.done else "later", said(text)
                )
        elif guide.preparing is not None:
            self._say(tr("Make ready"), "", "")
            for n, item in enumerate(guide.prepare):
                state = "good" if n < where.ready else "here" if n == where.ready else "later"
                self._line(state, said(item.text), said(item.why) if n == where.ready else "")
        elif guide.pending:
            caution = numbers().cautions[guide.pending]
            self._say(said(caution.title), said(caution.text), "stop")
            for code in guide.path.cautions:
                state = "good" if code in where.acknowledged else "here" if code == guide.pending else "later"
                one = numbers().cautions[code]
                self._line(state, said(one.title), said(one.text) if state != "here" else "")
            self._line("note", said(numbers().defers))
        elif guide.row is not None:
            head, more = row_text(guide.row)
            self._say(head, more, "")
            self._pages.setCurrentIndex(0)
        else:
            self._show_end(guide)

    def _show_end(self, guide: Guide) -> None:
        ledger, left = guide.where.ledger, guide.left_over
        known = kinds(guide.record.machine)
        counts = tr("{0} out, {1} back in").format(ledger.out, ledger.back)
        if left:
            self._say(tr("Something is left in the tray"), tr("Put it in, or say why it stays out."), "stop")
            for id_, count in left:
                self._line("stop", f"{count} × {kind_text(known[id_])}")
        else:
            out = sum(one.count for one in (*ledger.never_out, *ledger.named))
            head = tr("Counted; {0} named with a reason").format(out) if out else tr("Nothing is left over")
            self._say(head, counts, "caution" if out else "good")
        for one in (*ledger.never_out, *ledger.named):
            self._line("caution", f"{one.count} × {kind_text(known[one.id])}", said(one.reason))

    def _say(self, head: str, more: str, kind: str) -> None:
        self.head.setText(head)
        self.head.setProperty("kind", kind or "title")
        size = (
            FIGURE
            if look().metrics(FIGURE, bold=True).horizontalAdvance(head) < self.width() - look().px(110)
            else TITLE
        )
        self.head.setStyleSheet(f"font-size: {look().px(size)}px; font-weight: bold;")
        self.more.setText(more)
        self.more.setVisible(bool(more))

    def _line(self, state: str, text: str, more: str = "") -> None:
        self.lines.addWidget(BigLine(state, text, more))

    def _show_clock(self) -> None:
        guide = self._model.guide
        wait = guide.must_wait_s if guide is not None else 0.0
        left = self._model.left_s
        self.clock.setVisible(wait > 0)
        self.clock.show_time(wait if left is None else left, wait, left is not None)

    # Beside it

    def _show_legend(self, guide: Guide) -> None:
        """How many of each kind are out of how many, of the groups of this step; else of all that lie in the tray."""
        clear(self._legend)
        known, ledger = kinds(guide.record.machine), guide.where.ledger
        closing = guide.row is not None and guide.row.phase == "closing"
        shown = [(id_, done, whole) for id_, done, whole in guide.open_counts]
        if not shown or guide.preparing is not None or guide.pending:
            shown = [(id_, count, count) for id_, count in ledger.tray]
        for id_, done, whole in shown:
            line = row(PieceMark(known[id_], (done > 0 and not closing) or ledger.in_tray(id_) > 0), gap=look().px(8))
            words = label(kind_text(known[id_]), wrap=True)
            line.addWidget(words, 1)
            line.addWidget(label(tr("{0} of {1}").format(done, whole) if shown else "", "head"))
            self._legend.addLayout(line)

    def _show_beside(self, guide: Guide) -> None:
        """What hides a screw, which way round, what was agreed, and the photographs of this step."""
        clear(self._beside)
        current = guide.row
        if current is None or guide.pending:
            return
        known = kinds(guide.record.machine)
        for id_, _ in (*current.fasteners, *current.loosened):
            cover = cover_text(known[id_])
            if cover:
                self._beside.addWidget(notice("caution", cover))
            if known[id_].captive:
                self._beside.addWidget(notice("note", tr("captive: they only loosen, and stay in")))
        for code in current.step.aids:
            self._beside.addWidget(notice("note", said(numbers().aids[code].text)))
        if guide.is_last_look:
            openings = guide.record.machine.openings
            sensor = "sensor" if openings is not None and openings.cover_sensor else "no-sensor"
            for thing in numbers().look:
                if thing.when in ("always", sensor):
                    self._beside.addWidget(notice("note", said(thing.text)))
        if current.phase == "work":
            for extra in self._model.agreed:
                self._beside.addWidget(notice("note", tr("Agreed: {0}").format(said(extra.title))))
        shots = self._model.photographs_of(current)
        if shots:
            self._beside.addLayout(_strip(shots))


def _strip(shots: list[Path]) -> QVBoxLayout:
    """The latest photograph of a step, beside the machine."""
    line = row(gap=look().px(8))
    for path in shots[-1:]:
        shown = QLabel()
        shown.setFixedSize(look().px(_PHOTO.width()), look().px(_PHOTO.height()))
        reader = QImageReader(str(path))
        reader.setAutoTransform(True)
        if reader.size().isValid():
            reader.setScaledSize(reader.size().scaled(shown.size(), Qt.AspectRatioMode.KeepAspectRatio))
        image = reader.read()
        if image.isNull():
            shown.setText(path.name)
            shown.setWordWrap(True)
        else:
            shown.setPixmap(QPixmap.fromImage(image))
        shown.setAccessibleName(path.name)
        line.addWidget(shown)
    line.addStretch(1)
    return stack(label(tr("As it was when it was opened"), "small"), line, gap=look().px(4))


class BigLine(QWidget):
    """A line of a list that is read at arm's length: done, here, later, or a severity."""

    def __init__(self, state: str, text: str, more: str) -> None:
        super().__init__()
        self.state = state
        words = label(text, "muted" if state in ("later", "good") else "", wrap=True)
        if state in ("here", "stop", "caution"):
            words.setStyleSheet(
                f"font-size: {look().px(TITLE)}px; font-weight: {'bold' if state == 'here' else 'normal'};"
            )
        inner = stack(words, gap=2)
        if more:
            inner.addWidget(label(more, "muted", wrap=True))
        mark = _StateMark(state)
        line = row(mark, inner, gap=look().px(12))
        line.setAlignment(mark, Qt.AlignmentFlag.AlignTop)
        line.setStretch(1, 1)
        self.setLayout(line)


class _StateMark(QWidget):
    def __init__(self, state: str) -> None:
        super().__init__()
        self._state = state
        self.setFixedSize(look().px(26), look().px(26))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(3, 3, -3, -3)
        icons = {"good": "check", "stop": "octagon-x", "caution": "triangle-alert", "note": "info"}
        if self._state in icons:
            paint_icon(painter, icons[self._state], box, "accent" if self._state == "note" else self._state)
            return
        painter.setPen(QPen(look().colour("accent" if self._state == "here" else "line"), 2.4))
        painter.setBrush(look().colour("accent_soft" if self._state == "here" else "ground"))
        painter.drawEllipse(box.adjusted(2, 2, -2, -2))


class Countdown(QWidget):
    """Seconds that must pass, as a ring that empties."""

    def __init__(self) -> None:
        super().__init__()
        self._left, self._whole, self._runs = 0.0, 0.0, False
        side = look().px(84)
        self.setFixedSize(side, side)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.hide()

    def show_time(self, left_s: float, whole_s: float, runs: bool) -> None:
        self._left, self._whole, self._runs = left_s, whole_s, runs
        self.setAccessibleName(clock_text(left_s))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(5, 5, -5, -5)
        painter.setPen(QPen(look().colour("line"), 6))
        painter.drawEllipse(box)
        if self._whole > 0:
            painter.setPen(QPen(look().colour("accent" if self._runs else "muted"), 6))
            painter.drawArc(box, 90 * 16, round(360 * 16 * self._left / self._whole))
        painter.setPen(look().colour("ink"))
        painter.setFont(look().font(TITLE, bold=True))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, clock_text(self._left))
