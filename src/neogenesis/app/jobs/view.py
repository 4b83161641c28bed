"""The list of jobs, and the sheet for a new one."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton, QDialog, QFormLayout, QLineEdit, QVBoxLayout, QWidget

from neogenesis.app.parts.controls import button, clear, label, row, scrolled, stack
from neogenesis.app.parts.stop import StopView
from neogenesis.app.parts.tag import paint_tag
from neogenesis.app.theme.icons import paint_icon
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import tr
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job import ROUTE, Job
from neogenesis.core.job.route import position, stop_titled

_ELIDE = Qt.TextElideMode.ElideRight
_NEXT = {
    "survey": "Seal and survey the old drive",
    "plan": "Plan the new drive",
    "transfer": "Copy and check",
    "swap": "Exchange the drives, then first boot and handover",
    "first-boot": "Start the machine",
    "handover": "Hand over",
}


class JobCard(QAbstractButton):
    """One job: ticket, customer, where it stands on its route, promise, what comes next."""

    def __init__(self, job: Job, busy: str, tags: tuple[int | None, int | None]) -> None:
        super().__init__()
        self.job, self.busy, self.tags = job, busy, tags
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(f"{job.ticket} {job.customer}")
        self.setToolTip(tr("Open this job"))

    def sizeHint(self) -> QSize:
        return QSize(look().px(600), look().px(90))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        job = self.job
        hot = self.hasFocus() or self.underMouse()
        painter.setPen(QPen(look().colour("accent" if hot else "line"), 2 if self.hasFocus() else 1))
        painter.setBrush(look().colour("ground" if job.closed else "surface"))
        painter.drawRoundedRect(area, 8, 8)
        pad = look().px(16)
        half = area.width() * 0.5
        line = look().metrics().height() + look().px(4)
        top = area.top() + look().px(12)

        def put(
            x: float,
            y: float,
            width: float,
            text: str,
            token: str,
            bold: bool = False,
            small: bool = False,
            right: bool = False,
        ) -> None:
            font = look().font(SMALL, bold) if small else look().font(bold=bold)
            painter.setFont(font)
            painter.setPen(look().colour(token))
            metrics = look().metrics(SMALL, bold) if small else look().metrics(bold=bold)
            align = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
            painter.drawText(QRectF(x, y, width, line), align, metrics.elidedText(text, _ELIDE, int(width)))

        put(
            area.left() + pad, top, half - pad, f"{job.ticket}   {job.customer}", "muted" if job.closed else "ink", True
        )
        put(area.left() + pad, top + line, half - pad, job.machine, "muted")
        put(area.left() + pad, top + 2 * line, half - pad, job.wish, "muted", small=True)
        x = area.left() + half + pad
        self._paint_tags(painter, area.right() - pad, area.center().y())
        width = area.right() - x - pad - look().px(90)
        stop = stop_titled(job.stop)
        if job.closed:
            put(x, top, width, tr("Handed over"), "good", True)
        elif self.busy:
            put(x, top, width, self.busy, "accent", True)
        else:
            put(x, top, width, tr(_NEXT.get(job.stop, stop.title)), "ink", True)
        promise = tr("promised {0}").format(job.promise) if job.promise else tr("no promise")
        put(x, top + 2 * line, width, promise, "muted", small=True)
        self._paint_route(painter, x, top + line + look().metrics().height() / 2, min(width, look().px(240)))

    def _paint_tags(self, painter: QPainter, right: float, middle: float) -> None:
        """Old drive, arrow, new drive."""
        side = look().px(24)
        x = right - 3 * side
        for tag in self.tags:
            if tag is not None:
                paint_tag(painter, tag, QRectF(x, middle - side / 2, side, side))
            x += 2 * side
        if None not in self.tags:
            arrow = look().px(14)
            place = QRectF(right - 1.5 * side - arrow / 2, middle - arrow / 2, arrow, arrow)
            paint_icon(painter, "arrow-right", place, "muted")

    def _paint_route(self, painter: QPainter, left: float, middle: float, width: float) -> None:
        reached = len(ROUTE) if self.job.closed else position(self.job.stop)
        step, r = width / (len(ROUTE) - 1), look().px(4)
        for index in range(len(ROUTE)):
            x = left + r + index * (step - 2 * r / len(ROUTE))
            done = index < reached
            here = index == reached
            painter.setPen(QPen(look().colour("accent" if done or here else "free"), 1.6))
            painter.setBrush(look().colour("accent" if done else "surface"))
            painter.drawEllipse(QRectF(x - r, middle - r, 2 * r, 2 * r))
            if index + 1 < len(ROUTE):
                end = left + r + (index + 1) * (step - 2 * r / len(ROUTE))
                painter.setPen(QPen(look().colour("accent" if done else "free"), 1.6))
                painter.drawLine(round(x + r), round(middle), round(end - r), round(middle))


class JobsView(StopView):
    """Open jobs first, by their promise; those handed over below."""

    job_asked = pyqtSignal(str)
    new_asked = pyqtSignal()

    def __init__(self) -> None:
        super().__init__(tr("Jobs"))
        self.cards: list[JobCard] = []
        self._list = QVBoxLayout()
        self._list.setSpacing(look().px(10))
        inner = QWidget()
        layout = QVBoxLayout(inner)
        layout.setContentsMargins(0, 0, look().px(6), 0)
        layout.addLayout(self._list)
        layout.addStretch(1)
        self.new = button(tr("New job"), self.new_asked.emit, "main", tr("Take in another machine  Ctrl+N"))
        self.body.addWidget(scrolled(inner), 1)
        self.body.addLayout(row(None, self.new))

    def show_jobs(
        self, jobs: list[Job], busy: Callable[[Job], str], tags: Callable[[Job], tuple[int | None, int | None]]
    ) -> None:
        window = self.window()
        held = window.focusWidget() if window else None
        focused = next((c.job.ticket for c in self.cards if c is held), None)
        clear(self._list)
        self.cards = []
        open_jobs = [j for j in jobs if not j.closed]
        self.subtitle.say(
            tr("{0} open, {1} handed over").format(len(open_jobs), len(jobs) - len(open_jobs)) if jobs else ""
        )
        if not jobs:
            self._list.addWidget(label(tr("No jobs yet. Take in the first machine with “New job”."), "muted"))
        for job in jobs:
            card = JobCard(job, busy(job), tags(job))
            card.clicked.connect(lambda _, ticket=job.ticket: self.job_asked.emit(ticket))
            self._list.addWidget(card)
            self.cards.append(card)
        if focused is not None:
            self.focus_on(focused)

    def focus_on(self, ticket: str) -> None:
        """Give the keyboard to a job's card, or to the first one."""
        cards = [c for c in self.cards if c.job.ticket == ticket] or self.cards
        if cards:
            cards[0].setFocus()


class NewJobSheet(QDialog):
    """Takes in a machine. `take` may refuse; then its sentence is shown and nothing is lost."""

    def __init__(self, parent: QWidget, take: Callable[[Job], None]) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("New job"))
        self._take = take
        self.fields = {
            "ticket": (QLineEdit(), tr("Ticket"), tr("the number on the tag")),
            "customer": (QLineEdit(), tr("Customer"), ""),
            "machine": (QLineEdit(), tr("Machine"), ""),
            "promise": (QLineEdit(), tr("Promised for"), tr("day and time")),
            "wish": (QLineEdit(), tr("What the customer wants"), ""),
        }
        form = QFormLayout()
        form.setSpacing(look().px(10))
        for field, title, hint in self.fields.values():
            field.setPlaceholderText(hint)
            field.setMinimumWidth(look().px(320))
            form.addRow(label(title), field)
        self._fault = label("", "stop", wrap=True)
        done = button(tr("Take in"), self._done, "main")
        done.setDefault(True)
        layout = stack(form, self._fault, row(None, button(tr("Cancel"), self.reject), done), gap=14, margin=20)
        self.setLayout(layout)

    def _done(self) -> None:
        values = {name: field.text().strip() for name, (field, _, _) in self.fields.items()}
        try:
            self._take(msgspec.convert(values, Job))
        except NeogenesisError as error:
            self._fault.setText(error.sentence())
        else:
            self.accept()
