"""The command field: type a few letters of anything."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QModelIndex, QObject, QSize, Qt
from PyQt6.QtGui import QKeyEvent, QPainter
from PyQt6.QtWidgets import (
    QDialog,
    QLineEdit,
    QListView,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QWidget,
)

from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import stack
from neogenesis.app.parts.rows import RowsModel
from neogenesis.app.theme.look import BODY, SMALL, look
from neogenesis.app.words import tail

if TYPE_CHECKING:
    from neogenesis.app.shell.commanded import CommandedWindow


@dataclass(frozen=True, slots=True)
class Found:
    """Something that can be gone to or done; `kind` says what it is, `more` stands at the right."""

    title: str
    kind: str
    more: str
    do: Callable[[], object]

    @property
    def spoken(self) -> str:
        return ", ".join(filter(None, (self.title, self.kind, self.more)))


def matches(found: list[Found], typed: str) -> list[Found]:
    """Those that hold every typed word, or its letters in order; the closest first."""
    words = typed.casefold().split()
    scored = []
    for index, item in enumerate(found):
        text = f"{item.title} {item.kind} {item.more}".casefold()
        score = 0
        for word in words:
            at = text.find(word)
            if at >= 0:
                score += 0 if at == 0 or text[at - 1] == " " else 1
            elif _in_order(word, text):
                score += 5
            else:
                break
        else:
            scored.append((score, index, item))
    return [item for _, _, item in sorted(scored, key=lambda s: s[:2])]


def _in_order(letters: str, text: str) -> bool:
    rest = iter(text)
    return all(letter in rest for letter in letters)


class _Line(QStyledItemDelegate):
    """Title and kind at the left, the rest at the right."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(look().px(200), look().px(34))

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        if painter is None:
            return
        item: Found = index.data(Qt.ItemDataRole.UserRole)
        painter.save()
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(option.rect, look().colour("accent_soft"))
        area = option.rect.adjusted(look().px(8), 0, -look().px(8), 0)
        near, far = (Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignRight)
        middle = Qt.AlignmentFlag.AlignVCenter
        direction = option.direction

        def put(text: str, token: str, size: int, align: Qt.AlignmentFlag, left_out: int) -> int:
            painter.setFont(look().font(size))
            painter.setPen(look().colour(token))
            place = area.adjusted(left_out, 0, 0, 0) if align == near else area.adjusted(0, 0, -left_out, 0)
            place = QStyle.visualRect(direction, area, place)
            room = look().metrics(size).elidedText(text, Qt.TextElideMode.ElideRight, place.width())
            painter.drawText(place, QStyle.visualAlignment(direction, align) | middle, room)
            return left_out + look().metrics(size).horizontalAdvance(text) + look().px(8)

        wide = put(item.title, "ink", BODY, near, 0)
        put(item.kind, "muted", SMALL, near, wide)
        put(item.more, "muted", BODY, far, 0)
        painter.restore()


class CommandField(QDialog):
    """A field with a list below it. Return does the first one; arrows choose another."""

    def __init__(self, parent: QWidget, found: list[Found]) -> None:
        super().__init__(parent, Qt.WindowType.FramelessWindowHint | Qt.WindowType.Dialog)
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._found = found
        self._wanted: Found | None = None
        self.field = QLineEdit()
        self.field.setPlaceholderText(tr("Find an action, a job, a drive or a stop"))
        self.field.setAccessibleName(tr("Command"))
        self.field.textChanged.connect(self._filter)
        self.field.installEventFilter(self)
        self.list = QListView()
        self.list.setAccessibleName(tr("What fits"))
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.setUniformItemSizes(True)
        self._lines: RowsModel[Found] = RowsModel(self)
        self.list.setModel(self._lines)
        self.list.setItemDelegate(_Line(self.list))
        self.list.clicked.connect(self._take)
        self.setLayout(stack(self.field, self.list, gap=8, margin=12))
        self.resize(look().px(560), look().px(420))
        self._filter("")

    def _filter(self, typed: str) -> None:
        self._lines.show(matches(self._found, typed))
        self.list.setCurrentIndex(self._lines.index(0))

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
            if step:
                row = self.list.currentIndex().row() + step
                self.list.setCurrentIndex(self._lines.index(min(max(row, 0), self._lines.rowCount() - 1)))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._take(self.list.currentIndex())
                return True
        return super().eventFilter(watched, event)

    def _take(self, index: QModelIndex) -> None:
        if index.isValid():
            self._wanted = index.data(Qt.ItemDataRole.UserRole)
            self.accept()

    def chosen(self) -> Found | None:
        """What was chosen, after the field was closed."""
        return self._wanted


def everything(window: CommandedWindow) -> list[Found]:
    """All actions that can be done now, all jobs, all drives."""
    actions = window.actions_
    found = [
        Found(said(a.title), "", a.keys, lambda a=a: actions.run(a)) for a in actions.available() if a.key != "command"
    ]
    for job in window.bench.jobs():
        name = f"{job.ticket} {job.customer}"
        found.append(Found(name, tr("job"), job.machine, lambda t=job.ticket: window.open_job(t)))
    for dock in window.bench.docks():
        if dock.docked:
            drive = dock.docked.drive
            name = f"{drive.model} {tail(drive.serial)}"
            found.append(Found(name, tr("drive"), drive.serial, lambda d=dock: window.sheets.show_drive(d)))
    return found
