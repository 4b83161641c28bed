"""The list of jobs, with what runs now above it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from PyQt6.QtCore import QModelIndex, QObject, QPoint, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QPainter, QPen, QResizeEvent
from PyQt6.QtWidgets import (
    QApplication,
    QLineEdit,
    QListView,
    QMenu,
    QStackedWidget,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QWidget,
)

from neogenesis.app.jobs.model import JobRow, JobsModel, Show, rows_of, wanted
from neogenesis.app.jobs.running import RunningStrip
from neogenesis.app.language import mark, tr
from neogenesis.app.parts.controls import Choice, button, label, row, stack
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.parts.stop import StopView
from neogenesis.app.parts.tag import paint_tag
from neogenesis.app.stops import STOPS
from neogenesis.app.theme.icons import paint_icon
from neogenesis.app.theme.look import SMALL, look
from neogenesis.core.job import ROUTE, Glance, Job

if TYPE_CHECKING:
    from neogenesis.app.desk.open_job import OpenJob

_ELIDE = Qt.TextElideMode.ElideRight
_SHOW: tuple[tuple[Show, str], ...] = (
    ("all", mark("All")),
    ("open", mark("Open", "jobs")),
    ("mine", mark("Mine", "jobs")),
    ("waiting", mark("Waiting", "jobs")),
    ("overdue", mark("Overdue")),
    ("closed", mark("Handed over")),
    ("archived", mark("Archived")),
)


def _next_step(job: Job) -> str:
    return STOPS[job.stop].next_step


class JobDelegate(QStyledItemDelegate):
    """Paints a job: ticket, customer, where it stands on its route, promise, what comes next."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.tall = False

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(look().px(420), self.height(self.tall))

    def height(self, tall: bool) -> int:
        """Of one card; a tall one also says what its logbook says last."""
        return 3 * self._line() + look().px(34) + (self._line() + look().px(6) if tall else 0)

    def _line(self) -> int:
        return look().metrics().height() + look().px(4)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        if painter is None:
            return
        shown: JobRow = index.data(Qt.ItemDataRole.UserRole)
        painter.save()
        follow_direction(painter, option.rect)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        chosen = bool(option.state & QStyle.StateFlag.State_HasFocus)
        hot = chosen or bool(option.state & QStyle.StateFlag.State_MouseOver)
        area = QRectF(option.rect).adjusted(1, 1, -1, -look().px(9))
        painter.setPen(QPen(look().colour("accent" if hot else "line"), 2 if chosen else 1))
        painter.setBrush(look().colour("ground" if shown.job.closed else "surface"))
        painter.drawRoundedRect(area, 8, 8)
        self._paint_words(painter, area, shown)
        painter.restore()

    def _paint_words(self, painter: QPainter, area: QRectF, shown: JobRow) -> None:
        job, pad, line = shown.job, look().px(16), self._line()
        top, half = area.top() + look().px(12), area.width() * 0.5
        left, right = area.left() + pad, area.left() + half + pad

        def put(
            x: float, y: float, width: float, text: str, token: str, bold: bool = False, small: bool = False
        ) -> None:
            painter.setFont(look().font(SMALL, bold) if small else look().font(bold=bold))
            painter.setPen(look().colour(token))
            metrics = look().metrics(SMALL, bold) if small else look().metrics(bold=bold)
            align = Qt.AlignmentFlag.AlignLeft
            draw_text(painter, QRectF(x, y, width, line), align, metrics.elidedText(text, _ELIDE, int(width)))

        wide = area.right() - right - pad - (look().px(90) if shown.tags != (None, None) else 0)
        put(left, top, half - pad, f"{job.ticket}   {job.customer}", "muted" if job.closed else "ink", True)
        put(left, top + line, half - pad, job.machine, "muted")
        put(left, top + 2 * line, half - pad, job.wish, "muted", small=True)
        put(right, top, wide, shown.headline, shown.tone, True)
        put(right, top + 2 * line, wide, shown.promise, "stop" if shown.overdue else "muted", shown.overdue, True)
        middle = top + line + look().metrics().height() / 2
        self._paint_route(painter, right, middle, min(wide, look().px(240)), shown)
        if self.tall and shown.latest:
            below = top + 3 * line + look().px(4)
            painter.setPen(QPen(look().colour("line"), 1))
            painter.drawLine(QPointF(left, below), QPointF(area.right() - pad, below))
            put(left, below + look().px(6), area.width() - 2 * pad, shown.latest, "muted", small=True)
        self._paint_tags(painter, area.right() - pad, area.center().y(), shown.tags)

    def _paint_tags(self, painter: QPainter, right: float, middle: float, tags: tuple[int | None, int | None]) -> None:
        """Old drive, arrow, new drive."""
        side = look().px(24)
        x = right - 3 * side
        for tag in tags:
            if tag is not None:
                paint_tag(painter, tag, QRectF(x, middle - side / 2, side, side))
            x += 2 * side
        if None not in tags:
            arrow = look().px(14)
            place = QRectF(right - 1.5 * side - arrow / 2, middle - arrow / 2, arrow, arrow)
            paint_icon(painter, "arrow-right", place, "muted", points=True)

    def _paint_route(self, painter: QPainter, left: float, middle: float, width: float, shown: JobRow) -> None:
        step, r = width / (len(ROUTE) - 1), look().px(4)
        for index in range(len(ROUTE)):
            x = left + r + index * (step - 2 * r / len(ROUTE))
            done, here = index < shown.reached, index == shown.reached
            painter.setPen(QPen(look().colour("accent" if done or here else "free"), 1.6))
            painter.setBrush(look().colour("accent" if done else "surface"))
            painter.drawEllipse(QRectF(x - r, middle - r, 2 * r, 2 * r))
            if index + 1 < len(ROUTE):
                end = left + r + (index + 1) * (step - 2 * r / len(ROUTE))
                painter.setPen(QPen(look().colour("accent" if done else "free"), 1.6))
                painter.drawLine(round(x + r), round(middle), round(end - r), round(middle))


def _copy(text: str) -> None:
    board = QApplication.clipboard()
    if board is not None:
        board.setText(text)


HELP = (
    mark("Each card is a job: its ticket, where it stands on its route, what comes next and when it was promised."),
    mark(
        "Return opens the job that has the frame; the arrow keys move it. A right click or the menu key offers to "
        "change, archive or remove a job."
    ),
    mark(
        "Above the list stands what runs now, of whatever job. The line at the left shows what is promised on which "
        "day."
    ),
)


class JobList(QListView):
    """`menu_asked` says where: under the mouse, or by keyboard on the job that has the frame."""

    menu_asked = pyqtSignal(QPoint)
    resized = pyqtSignal()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.resized.emit()

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is not None:
            keyboard = event.reason() == QContextMenuEvent.Reason.Keyboard
            self.menu_asked.emit(self.visualRect(self.currentIndex()).center() if keyboard else event.pos())


class JobsView(StopView):
    """What runs now, then the jobs: those that are overdue first, those handed over last."""

    job_asked = pyqtSignal(str)
    new_asked = pyqtSignal()
    edit_asked = pyqtSignal(str)
    shelf_asked = pyqtSignal(str, str)
    reopen_asked = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__(tr("Jobs"))
        self._all: list[JobRow] = []
        self.list = JobList()
        self.model = JobsModel(self.list)
        self.list.setModel(self.model)
        self._delegate = JobDelegate(self.list)
        self.list.setItemDelegate(self._delegate)
        self.list.setMouseTracking(True)
        self.list.setUniformItemSizes(True)
        self.list.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.list.setAccessibleName(tr("Jobs"))
        self.list.setObjectName("plain")
        self.list.activated.connect(self._open)
        self.list.clicked.connect(self._open)
        self.list.menu_asked.connect(self._show_menu)
        self.list.resized.connect(self._fit_cards)
        self.search = QLineEdit()
        self.search.setPlaceholderText(tr("Ticket, customer, machine…"))
        self.search.setAccessibleName(tr("Search the jobs"))
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _: self._filter())
        self.search.returnPressed.connect(self.list.setFocus)
        self.which = Choice()
        for key, text in _SHOW:
            self.which.addItem(tr(text, "jobs" if key in ("open", "mine", "waiting") else ""), key)
        self.which.setAccessibleName(tr("Which jobs are shown"))
        self.which.currentIndexChanged.connect(lambda _: self._filter())
        self.running = RunningStrip()
        self.running.job_asked.connect(self.job_asked)
        self._empty = label("", "muted", wrap=True)
        nothing = QWidget()
        nothing.setLayout(stack(self._empty, None))
        self._pages = QStackedWidget()
        self._pages.addWidget(self.list)
        self._pages.addWidget(nothing)
        self.new = button(tr("New job"), self.new_asked.emit, "main", tr("Take in another machine  Ctrl+N"))
        above = row(gap=10)
        above.addWidget(self.search, 1)
        above.addWidget(self.which)
        above.addWidget(self.new)
        self.body.addLayout(above)
        self.body.addWidget(self.running)
        self._undo_text = label("", "muted")
        self.undo = button(tr("Bring it back"), self._bring_back)
        self._undo_bar = QWidget()
        self._undo_bar.setLayout(row(self._undo_text, self.undo, None, gap=12))
        self._undo_bar.hide()
        self._removed = ""
        self.body.addWidget(self._undo_bar)
        self.body.addWidget(self._pages, 1)

    def show_jobs(
        self,
        jobs: list[Job],
        busy: Callable[[Job], str],
        tags: Callable[[Job], tuple[int | None, int | None]],
        running: Sequence[OpenJob],
        glances: Mapping[str, Glance],
        me: str,
        due: Mapping[str, str],
    ) -> None:
        self._all = rows_of(jobs, busy, tags, _next_step, datetime.now(), glances, me, due)
        still_open, closed, late = (len(wanted(self._all, which, "")) for which in ("open", "closed", "overdue"))
        still_open -= sum(row.drive_due for row in self._all)
        words = tr("{0} open, {1} handed over").format(still_open, closed)
        overdue = tr("{0} overdue").format(late) + ", " if late else ""
        self.subtitle.say(overdue + words if jobs else "")
        self.running.show_running(running)
        self._filter()

    def _filter(self) -> None:
        kept = self.list.currentIndex().data(Qt.ItemDataRole.UserRole)
        rows = wanted(self._all, self.which.currentData(), self.search.text())
        self.model.show(rows)
        self._fit_cards()
        self._pages.setCurrentIndex(0 if rows else 1)
        if not self._all:
            self._empty.setText(tr("No jobs yet. Take in the first machine with “New job”, Ctrl+N."))
        elif not rows:
            self._empty.setText(tr("No job fits. Empty the search, or choose “All”."))
        if kept is not None:
            self._choose(kept.job.ticket)

    def _fit_cards(self) -> None:
        """A few jobs have room to say more."""
        delegate = self._delegate
        tall = len(self.model.rows) * delegate.height(True) <= self.list.height()
        if tall != delegate.tall:
            delegate.tall = tall
            self.list.setUniformItemSizes(False)  # it would keep the size of before
            self.list.setUniformItemSizes(True)
            self.model.layoutChanged.emit()

    @property
    def chosen(self) -> JobRow | None:
        """The job that has the frame."""
        found: JobRow | None = self.list.currentIndex().data(Qt.ItemDataRole.UserRole)
        return found

    def menu_for(self, shown: JobRow) -> QMenu:
        """What can be done with a job, without opening it."""
        ticket, menu = shown.job.ticket, QMenu(self)
        menu.addAction(tr("Open"), lambda: self.job_asked.emit(ticket))
        menu.addAction(tr("Change…"), lambda: self.edit_asked.emit(ticket))
        if shown.job.closed:
            menu.addAction(tr("Reopen"), lambda: self.reopen_asked.emit(ticket))
        if shown.job.shelf == "archived":
            menu.addAction(tr("Back on the list"), lambda: self.shelf_asked.emit(ticket, ""))
        else:
            menu.addAction(tr("Archive"), lambda: self.shelf_asked.emit(ticket, "archived"))
        remove = menu.addAction(tr("Remove from the list"), lambda: self.remove(ticket))
        if remove is not None:
            remove.setEnabled(not shown.busy)
        menu.addSeparator()
        menu.addAction(tr("Copy as text"), lambda: _copy(shown.spoken))
        return menu

    def _show_menu(self, place: QPoint) -> None:
        shown, viewport = self.list.indexAt(place).data(Qt.ItemDataRole.UserRole), self.list.viewport()
        if shown is not None and viewport is not None:
            menu = self.menu_for(shown)
            menu.aboutToHide.connect(menu.deleteLater)
            menu.popup(viewport.mapToGlobal(place))

    def remove(self, ticket: str) -> None:
        """Take a job out of sight; a line offers to bring it back."""
        self.shelf_asked.emit(ticket, "removed")
        self._removed = ticket
        self._undo_text.setText(tr("{0} was removed from the list; its records stay.").format(ticket))
        self._undo_bar.show()

    def _bring_back(self) -> None:
        if self._removed:
            self.shelf_asked.emit(self._removed, "")
            self._removed = ""
            self._undo_bar.hide()

    def _open(self, index: QModelIndex) -> None:
        shown = index.data(Qt.ItemDataRole.UserRole)
        if shown is not None:
            self.job_asked.emit(shown.job.ticket)

    def _choose(self, ticket: str) -> None:
        number = self.model.number_of(ticket)
        if number is None and self.model.rows:
            number = 0
        if number is not None:
            self.list.setCurrentIndex(self.model.index(number))

    def take_search(self, other: JobsView) -> None:
        """Go on with what was searched for before the look changed."""
        self.search.setText(other.search.text())
        self.which.setCurrentIndex(other.which.currentIndex())

    def focus_on(self, ticket: str) -> None:
        """Give the keyboard to a job, or to the first one."""
        self._choose(ticket)
        self.list.setFocus()
