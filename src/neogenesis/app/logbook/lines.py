"""The lines of a logbook: what each says, and how it is painted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from PyQt6.QtCore import QModelIndex, QRect, QRectF, QSize, Qt
from PyQt6.QtGui import QContextMenuEvent, QKeyEvent, QKeySequence, QPainter
from PyQt6.QtWidgets import (
    QApplication,
    QListView,
    QMenu,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
)

from neogenesis.app.language import said, tr
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.parts.rows import RowsModel
from neogenesis.app.theme.look import BODY, SMALL, look
from neogenesis.app.words import clock_of, day_of
from neogenesis.core.job import LogEntry

_MOST_SHOWN = 200
_WRAPPED = Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop


@dataclass(frozen=True, slots=True)
class LogLine:
    """An entry, or a day that stands above its entries: then there is no `entry`. `clock` is when, in words."""

    words: str
    clock: str = ""
    entry: LogEntry | None = None

    @property
    def spoken(self) -> str:
        return f"{self.clock} {self.words}".strip()

    @property
    def hint(self) -> str:
        """The exact time, and who wrote it."""
        return f"{self.entry.at}  {self.entry.who}" if self.entry else ""


def lines_of(entries: Sequence[LogEntry], today: str) -> list[LogLine]:
    """Newest first, with each day above its entries; that of `today` (ISO 8601) goes without saying."""
    lines, day = list[LogLine](), today
    for entry in reversed(entries[-_MOST_SHOWN:]):
        if entry.at[:10] != day:
            day = entry.at[:10]
            lines.append(LogLine(day_of(entry.at)))
        words = entry.text if entry.kind == "note" else said(entry.text)
        lines.append(LogLine(words, clock_of(entry.at), entry))
    return lines


class LogModel(RowsModel[LogLine]):
    """What has grown at its new end is put in; all other lines stay as they are."""

    def grow_to(self, lines: list[LogLine]) -> None:
        more = len(lines) - len(self.rows)
        if more > 0 and lines[more:] == self.rows:
            self.beginInsertRows(QModelIndex(), 0, more - 1)
            self.rows = lines
            self.endInsertRows()
        elif lines != self.rows:
            self.show(lines)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if role == Qt.ItemDataRole.ToolTipRole:
            return self.rows[index.row()].hint
        return super().data(index, role)


@lru_cache(maxsize=1024)
def _height(words: str, size: int, width: int, percent: int) -> int:
    """Pixels that `words` take when broken at `width`; `percent` is the text scale, for which it holds."""
    return look().metrics(size).boundingRect(QRect(0, 0, width, 1 << 16), int(_WRAPPED), words).height()


class LogDelegate(QStyledItemDelegate):
    """When at the near edge, and what beside it, over as many lines as it takes."""

    def __init__(self, log: LogList) -> None:
        super().__init__(log)
        self._log = log

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        line: LogLine = index.data(Qt.ItemDataRole.UserRole)
        viewport = self._log.viewport()
        wide = viewport.width() if viewport is not None else self._log.width()
        width = max(look().px(80), wide - self._taken(line))
        size = BODY if line.entry else SMALL
        return QSize(wide, _height(line.words, size, width, look().percent) + look().px(9))

    def _taken(self, line: LogLine) -> int:
        """Pixels for the time and around the words."""
        at = look().metrics().horizontalAdvance("00:00 ") + look().px(8) if line.entry else 0
        return 2 * look().px(16) + at

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        if painter is None:
            return
        line: LogLine = index.data(Qt.ItemDataRole.UserRole)
        painter.save()
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(option.rect, look().colour("accent_soft"))
        follow_direction(painter, QRectF(option.rect))
        edge, top = look().px(16), option.rect.top() + look().px(4)
        left, right = option.rect.left() + edge, option.rect.right() + 1 - edge
        tall = option.rect.bottom() - top
        painter.setPen(look().colour("muted"))
        if line.entry:
            painter.setFont(look().font())
            wide = self._taken(line) - 2 * edge
            draw_text(painter, QRectF(left, top, wide, tall), Qt.AlignmentFlag.AlignLeft, line.clock)
            left += wide
            painter.setPen(look().colour("ink"))
        else:
            painter.setFont(look().font(SMALL))
        draw_text(painter, QRectF(left, top, right - left, tall), _WRAPPED, line.words)
        painter.restore()


class LogList(QListView):
    """Lines can be chosen and copied."""

    def __init__(self) -> None:
        super().__init__()
        self.lines = LogModel(self)
        self.setModel(self.lines)
        self.setItemDelegate(LogDelegate(self))
        self.setObjectName("plain")
        self.setResizeMode(QListView.ResizeMode.Adjust)
        self.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setSelectionMode(QListView.SelectionMode.ExtendedSelection)
        self.setAccessibleName(tr("Logbook"))

    def chosen_text(self) -> str:
        """The lines that are chosen, or all of them when none is, as they stand."""
        chosen = sorted(index.row() for index in self.selectedIndexes()) or range(len(self.lines.rows))
        return "\n".join(self.lines.rows[number].spoken for number in chosen)

    def copy(self) -> None:
        board = QApplication.clipboard()
        if board is not None:
            board.setText(self.chosen_text())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is not None and self.lines.rows:
            menu = QMenu(self)
            menu.addAction(tr("Copy as text"), self.copy)
            menu.aboutToHide.connect(menu.deleteLater)
            menu.popup(event.globalPos())
