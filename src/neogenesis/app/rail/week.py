"""What is promised when, while no job is open: the days ahead as a line with stations, a mark for each job."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta

from PyQt6.QtCore import QDateTime, QEvent, QLocale, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QHelpEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QToolTip, QWidget

from neogenesis.app.language import tr
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import moment_of
from neogenesis.core.job import Job

_DAYS = 7
_MOST_MARKS = 6


@dataclass(frozen=True, slots=True)
class Day:
    """`late` is for the row of what should have been done already."""

    title: str
    tickets: tuple[str, ...]
    late: bool = False
    today: bool = False


def days_of(jobs: Iterable[Job], now: datetime) -> list[Day]:
    """Overdue, today and the days behind it, and what is promised later, of open jobs; rows of no use are left out."""
    due = sorted((moment, job.ticket) for job in jobs if not job.closed and (moment := moment_of(job.promise)))
    late = tuple(ticket for moment, ticket in due if moment < now)
    ahead = [(moment, ticket) for moment, ticket in due if moment >= now]
    days = [Day(tr("Overdue"), late, late=True)] if late else []
    for offset in range(_DAYS):
        day = now.date() + timedelta(days=offset)
        named = {0: tr("Today"), 1: tr("Tomorrow")}.get(offset)
        title = named or QLocale().toString(QDateTime(datetime(day.year, day.month, day.day)).date(), "ddd d")
        tickets = tuple(ticket for moment, ticket in ahead if moment.date() == day)
        days.append(Day(title, tickets, today=offset == 0))
    later = tuple(ticket for moment, ticket in ahead if moment.date() >= now.date() + timedelta(days=_DAYS))
    return [*days, Day(tr("Later"), later)] if later else days


class WeekLine(QWidget):
    """Paints the days; the tickets stand in the tooltip of a row."""

    def __init__(self) -> None:
        super().__init__()
        self.days: list[Day] = []

    def show_days(self, days: list[Day]) -> None:
        if days != self.days:
            self.days = days
            rows = [f"{day.title}: {', '.join(day.tickets) or tr('nothing')}" for day in days]
            self.setAccessibleName(tr("Promised") + ". " + "; ".join(rows))
            self.setMinimumHeight(self.sizeHint().height())
            self.update()

    def _row(self) -> int:
        return look().metrics().height() + look().px(13)

    def sizeHint(self) -> QSize:
        return QSize(look().px(180), self._row() * max(1, len(self.days)))

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent):
            number = event.pos().y() // self._row()
            tickets = self.days[number].tickets if 0 <= number < len(self.days) else ()
            QToolTip.showText(event.globalPos(), ", ".join(tickets), self)
            return True
        return super().event(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        x, r, row = look().px(24), look().px(5), self._row()
        for number, day in enumerate(self.days):
            middle = number * row + row / 2
            token = "stop" if day.late else ("accent" if day.tickets else "free")
            if number + 1 < len(self.days):
                painter.setPen(QPen(look().colour("free"), 2))
                painter.drawLine(QPointF(x, middle + r), QPointF(x, middle + row - r))
            painter.setPen(QPen(look().colour(token), 2))
            painter.setBrush(look().colour(token) if day.tickets else look().colour("surface"))
            painter.drawEllipse(QPointF(x, middle), r, r)
            painter.setFont(look().font(bold=day.today or day.late))
            painter.setPen(look().colour("stop" if day.late else ("ink" if day.tickets or day.today else "muted")))
            place = QRectF(x + look().px(16), middle - row / 2, self.width(), row)
            draw_text(painter, place, Qt.AlignmentFlag.AlignVCenter, day.title)
            self._paint_marks(painter, day, middle, token)

    def _paint_marks(self, painter: QPainter, day: Day, middle: float, token: str) -> None:
        """One small upright for each job, from the right; a figure where they would be too many."""
        right = self.width() - look().px(18)
        if len(day.tickets) > _MOST_MARKS:
            painter.setFont(look().font(SMALL, bold=True))
            painter.setPen(look().colour(token))
            place = QRectF(0, middle - self._row() / 2, right, self._row())
            align = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
            draw_text(painter, place, align, str(len(day.tickets)))
            return
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look().colour(token))
        for number in range(len(day.tickets)):
            mark = QRectF(right - (number + 1) * look().px(7), middle - look().px(6), look().px(4), look().px(12))
            painter.drawRoundedRect(mark, 1.5, 1.5)
