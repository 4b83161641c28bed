"""What runs now, of whatever job: a line each with how far it is, how fast, and when it will end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from PyQt6.QtCore import QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton, QVBoxLayout, QWidget

from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import clear
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import clock, rate

if TYPE_CHECKING:
    from neogenesis.app.desk.open_job import OpenJob

_LOOK_MS = 500


@dataclass(frozen=True, slots=True)
class Running:
    """One line. `share` is None while nobody knows how far it is."""

    ticket: str
    what: str
    share: float | None = None
    pace: str = ""
    ends: str = ""


def running_of(desk: OpenJob, now: datetime) -> Running:
    """What is to be said of the work of a job."""
    if desk.transfer.is_active:
        progress = desk.transfer.progress
        words = {"verify": tr("reads back"), "copy": tr("copies"), "fill": tr("puts files together")}
        what = words.get(progress.phase, said(progress.now) or tr("begins"))
        if desk.transfer.state == "paused":
            what = tr("paused")
        total, left = progress.total_bytes, progress.left_s
        share = progress.copied_bytes / total if total else None
        return Running(desk.ticket, what, share, _pace(progress.rate_bytes_per_s), _ends(left, progress.pace, now))
    if desk.keep.is_active:
        heard = desk.keep.heard
        latest = heard.latest
        share = latest.copied_bytes / latest.total_bytes if latest and latest.total_bytes else None
        pace = _pace(latest.rate_bytes_per_s if latest else 0.0)
        ends = _ends(latest.left_s if latest else None, heard.pace, now)
        return Running(desk.ticket, tr(desk.keep.title), share, pace, ends)
    return Running(desk.ticket, tr("is being read"))


def _pace(bytes_per_s: float) -> str:
    return " ".join(rate(bytes_per_s)) if bytes_per_s else ""


def _ends(left_s: tuple[float, float] | None, pace: float, now: datetime) -> str:
    """Between two times of day; `pace` is how much faster than the wall clock the work's own time goes."""
    if left_s is None:
        return ""
    early, late = (clock(now + timedelta(seconds=s / max(pace, 1.0))) for s in left_s)
    return tr("ends {0}").format(early if early == late else f"{early}–{late}")


class RunningLine(QAbstractButton):
    """Opens its job."""

    def __init__(self) -> None:
        super().__init__()
        self.shown = Running("", "")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def show_running(self, shown: Running) -> None:
        if shown != self.shown:
            self.shown = shown
            share = "" if shown.share is None else f"{100 * shown.share:.0f} %"
            self.setAccessibleName(", ".join(filter(None, (shown.ticket, shown.what, share, shown.pace, shown.ends))))
            self.setToolTip(tr("Open this job"))
            self.update()

    def sizeHint(self) -> QSize:
        return QSize(look().px(420), look().metrics().height() + look().px(16))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area, shown = QRectF(self.rect()).adjusted(1, 1, -1, -1), self.shown
        hot = self.hasFocus() or self.underMouse()
        middle, width = area.center().y(), area.width()
        columns = (0.0, 0.12, 0.34, 0.66, 0.82, 1.0)

        def put(column: int, text: str, token: str, bold: bool = False, small: bool = False) -> None:
            left, right = area.left() + columns[column] * width, area.left() + columns[column + 1] * width
            painter.setFont(look().font(SMALL) if small else look().font(bold=bold))
            painter.setPen(look().colour(token))
            metrics = look().metrics(SMALL) if small else look().metrics(bold=bold)
            place = QRectF(left + look().px(8), area.top(), right - left - look().px(12), area.height())
            words = metrics.elidedText(text, Qt.TextElideMode.ElideRight, int(place.width()))
            draw_text(painter, place, Qt.AlignmentFlag.AlignVCenter, words)

        put(0, shown.ticket, "ink", True)
        put(1, shown.what, "accent")
        put(3, shown.pace, "muted", small=True)
        put(4, shown.ends, "ink", small=True)
        line = QRectF(area.left() + columns[2] * width, middle - look().px(3), 0.28 * width, look().px(6))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look().colour("free"))
        painter.drawRoundedRect(line, look().px(3), look().px(3))
        if shown.share is not None:
            line.setWidth(max(look().px(6), line.width() * min(1.0, shown.share)))
            painter.setBrush(look().colour("accent"))
            painter.drawRoundedRect(line, look().px(3), look().px(3))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(look().colour("accent" if hot else "line"), 2 if self.hasFocus() else 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())


class RunningStrip(QWidget):
    """One line for each job at work; no place is taken when nothing runs."""

    job_asked = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[RunningLine] = []
        self._desks: Sequence[OpenJob] = ()
        self._lines = QVBoxLayout(self)
        self._lines.setContentsMargins(0, 0, 0, look().px(6))
        self._lines.setSpacing(0)
        self._timer = QTimer(self)
        self._timer.setInterval(_LOOK_MS)
        self._timer.timeout.connect(self._look)
        self.setVisible(False)

    def show_running(self, desks: Sequence[OpenJob]) -> None:
        if [d.ticket for d in desks] != [d.ticket for d in self._desks]:
            clear(self._lines)
            self.lines = []
            for desk in desks:
                line = RunningLine()
                line.clicked.connect(lambda _, ticket=desk.ticket: self.job_asked.emit(ticket))
                self._lines.addWidget(line)
                self.lines.append(line)
        self._desks = list(desks)
        self.setVisible(bool(desks))
        self._look()
        if desks:
            self._timer.start()
        else:
            self._timer.stop()

    def _look(self) -> None:
        now = datetime.now()
        for line, desk in zip(self.lines, self._desks, strict=True):
            if desk.is_busy:
                line.show_running(running_of(desk, now))
