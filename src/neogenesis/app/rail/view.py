"""The route rail."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Literal

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton, QSizePolicy, QVBoxLayout, QWidget

from neogenesis.app.language import said, tr, trn
from neogenesis.app.parts.controls import button, label
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.rail.week import WeekLine, days_of
from neogenesis.app.theme.icons import paint_icon
from neogenesis.app.theme.look import BODY, SMALL, look
from neogenesis.core.job import Job
from neogenesis.core.job.route import ROUTE, Added, Stop

Standing = Literal["done", "here", "ahead", "not-needed"]


class Station(QAbstractButton):
    """A stop on the line, or with number 0 something beside the stops. `worst` is the severity of what waits there,
    `count` how much of it."""

    def __init__(self, stop: Stop | Added, number: int) -> None:
        super().__init__()
        self.stop, self.number = stop, number
        self.standing: Standing = "ahead"
        self.shown = False
        self.worst, self.count = "", 0
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        keys = f"  Alt+{number}" if number else ""
        self.setToolTip(f"{said(stop.what)}{keys}")
        self.setText(said(stop.title))
        self.tell()

    def tell(self) -> None:
        """What a screen reader hears."""
        words = tr("{0}, not needed") if self.standing == "not-needed" else "{0}"
        self.setAccessibleName(words.format(self.text()))

    def sizeHint(self) -> QSize:
        return QSize(look().px(180), look().px(44))

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(120), look().metrics().height() + 6)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(self.rect())
        middle = area.center().y()
        if self.shown:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(look().colour("accent_soft"))
            painter.drawRoundedRect(area.adjusted(6, 2, -6, -2), 6, 6)
        if self.hasFocus():
            painter.setPen(QPen(look().colour("accent"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(area.adjusted(6, 2, -6, -2), 6, 6)
        x, r = look().px(28), look().px(7)
        done, ahead = look().colour("accent"), look().colour("line")
        line = QPen(done if self.standing in ("done", "here") else ahead, 2.5)
        if self.number != 1:
            painter.setPen(line)
            painter.drawLine(QPointF(x, 0), QPointF(x, middle - r))
        if self.number < len(ROUTE):
            painter.setPen(QPen(done if self.standing == "done" else ahead, 2.5))
            painter.drawLine(QPointF(x, middle + r), QPointF(x, area.bottom()))
        painter.setPen(QPen(done if self.standing != "ahead" else look().colour("muted"), 2))
        filled = self.standing == "done"
        painter.setBrush(done if filled else look().colour("surface"))
        if not self.number:
            painter.setPen(QPen(look().colour("accent"), 2))
            painter.drawRect(QRectF(x - r * 0.7, middle - r * 0.7, r * 1.4, r * 1.4))
        elif self.standing == "not-needed":
            painter.setPen(QPen(look().colour("muted"), 2))
            painter.drawLine(QPointF(x - r * 0.7, middle), QPointF(x + r * 0.7, middle))
        else:
            painter.drawEllipse(QPointF(x, middle), r, r)
        if self.standing == "here":
            painter.setBrush(done)
            painter.drawEllipse(QPointF(x, middle), r * 0.4, r * 0.4)
        quiet = self.standing in ("ahead", "not-needed") and not self.shown
        painter.setPen(look().colour("muted" if quiet else "ink"))
        painter.setFont(look().font(BODY, bold=self.shown))
        left = x + look().px(20)
        draw_text(
            painter, QRectF(left, 0, area.width() - left, area.height()), Qt.AlignmentFlag.AlignVCenter, self.text()
        )
        right = area.width() - look().px(18)
        painter.setFont(look().font(SMALL))
        if self.count:
            token = {"stop": "stop", "caution": "caution"}.get(self.worst, "muted")
            side = look().px(15)
            text = str(self.count)
            wide = look().metrics(SMALL).horizontalAdvance(text)
            painter.setPen(look().colour(token))
            place = QRectF(right - wide, 0, wide + 2, area.height())
            draw_text(painter, place, Qt.AlignmentFlag.AlignVCenter, text)
            name = "octagon-x" if self.worst == "stop" else "triangle-alert"
            paint_icon(painter, name, QRectF(right - wide - side - 4, middle - side / 2, side, side), token)
        else:
            painter.setPen(look().colour("muted"))
            place = QRectF(0, 0, right, area.height())
            align = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
            beside = tr("not needed") if self.standing == "not-needed" else str(self.number or "")
            title = look().metrics(BODY, bold=self.shown).horizontalAdvance(self.text())
            if left + title + look().metrics(SMALL).horizontalAdvance(beside) + look().px(6) > right:
                beside = ""  # the dash on the line says it too
            draw_text(painter, place, align, beside)


class RailView(QWidget):
    """Which job, and its stops as a line with stations."""

    stop_asked = pyqtSignal(str)
    keep_asked = pyqtSignal()
    jobs_asked = pyqtSignal()
    menu_asked = pyqtSignal(QPoint)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.back = button(tr("All jobs"), self.jobs_asked.emit, "plain", tr("Back to the list of jobs  Alt+0"))
        self.ticket = label("", "title", wrap=True)
        self.customer = label("", "muted", wrap=True)
        self.machine = label("", "muted", wrap=True)
        self.elsewhere = label(tr("Also open in another window"), "caution", wrap=True)
        self.elsewhere.hide()
        self.stations = [Station(stop, number) for number, stop in enumerate(ROUTE, 1)]
        self._line = QWidget()
        self._stops = QVBoxLayout(self._line)
        self._stops.setContentsMargins(0, 0, 0, 0)
        self._stops.setSpacing(0)
        self.added: list[Station] = []
        for station in self.stations:
            self._stops.addWidget(station)
            station.clicked.connect(lambda _, key=station.stop.key: self.stop_asked.emit(key))
        layout = QVBoxLayout(self)
        margin = look().px(16)
        layout.setContentsMargins(0, look().px(14), 0, look().px(12))
        layout.setSpacing(look().px(4))
        head = QVBoxLayout()
        head.setContentsMargins(margin, 0, margin, look().px(12))
        head.setSpacing(look().px(2))
        for widget in (self.ticket, self.customer, self.machine, self.elsewhere):
            head.addWidget(widget)
        layout.addLayout(head)
        layout.addWidget(self._line)
        self.week = WeekLine()
        layout.addWidget(self.week)
        layout.addStretch(1)
        foot = QVBoxLayout()
        foot.setContentsMargins(look().px(8), 0, look().px(8), 0)
        self.menu = button(tr("Menu"), self._ask_for_menu, "plain", tr("Everything that can be done here"))
        foot.addWidget(self.back)
        foot.addWidget(self.menu)
        layout.addLayout(foot)
        self.show_bench("", ())

    def _ask_for_menu(self) -> None:
        """Above its button, where there is room."""
        self.menu_asked.emit(self.menu.mapToGlobal(self.menu.rect().topLeft()))

    def show_bench(self, name: str, jobs: Sequence[Job]) -> None:
        """No job is open: what is promised when."""
        self.ticket.setText(name)
        count = sum(1 for job in jobs if not job.closed)
        self.customer.setText(trn("{0} open job", "{0} open jobs", count).format(count))
        self.machine.setText(tr("Ctrl+K finds anything, F1 helps."))
        self.week.show_days(days_of(jobs, datetime.now()))
        self.week.show()
        self._line.hide()
        self.back.hide()
        self.elsewhere.hide()

    def show_elsewhere(self, shown: bool) -> None:
        """Whether another window has this job open as well."""
        self.elsewhere.setVisible(shown)

    def show_job(self, ticket: str, customer: str, machine: str) -> None:
        self.ticket.setText(ticket)
        self.customer.setText(customer)
        self.machine.setText(machine)
        self._line.show()
        self.week.hide()
        self.back.show()

    def show_added(self, added: Sequence[Added]) -> None:
        """What the chosen way asks for between the stops."""
        if tuple(s.stop for s in self.added) == tuple(added):
            return
        for old in self.added:
            self._stops.removeWidget(old)
            old.hide()
            old.deleteLater()
        self.added = []
        for one in added:
            station = Station(one, 0)
            station.clicked.connect(lambda _: self.keep_asked.emit())
            before = next(s for s in self.stations if s.stop.key == one.before)
            self._stops.insertWidget(self._stops.indexOf(before), station)
            self.added.append(station)

    def show_standing(
        self,
        reached: int,
        shown: str,
        closed: bool,
        marks: dict[str, tuple[str, int]],
        skipped: frozenset[str] = frozenset(),
    ) -> None:
        """`reached` is the position of the job's stop; `marks` the worst severity and count by stop; `skipped` are the
        stops that the chosen way does without."""
        for index, station in enumerate(self.stations):
            station.standing = "done" if closed or index < reached else ("here" if index == reached else "ahead")
            if station.stop.key in skipped and station.standing != "here":
                station.standing = "not-needed"
            station.tell()
            station.shown = station.stop.key == shown
            station.worst, station.count = marks.get(station.stop.key, ("", 0))
            station.update()
