"""The dock shelf."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QModelIndex, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QMouseEvent, QPainter, QPen, QResizeEvent
from PyQt6.QtWidgets import QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from neogenesis.app.desk.bench import Dock
from neogenesis.app.language import said, tr
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.parts.rows import RowsModel
from neogenesis.app.parts.tag import paint_tag
from neogenesis.app.theme.look import BODY, SMALL, look
from neogenesis.app.words import HEALTH_SEVERITY, bus_name, health_word, nominal, tail

_NARROWEST, _WIDEST = 192, 320
_GAP = 10
_ELIDE = Qt.TextElideMode.ElideRight


@dataclass(frozen=True, slots=True)
class Words:
    """A piece of text with its look."""

    text: str
    token: str
    size: int = SMALL
    bold: bool = False
    mono: bool = False

    def metrics(self) -> QFontMetrics:
        return look().metrics(self.size, self.bold, self.mono)

    def width(self) -> int:
        return self.metrics().horizontalAdvance(self.text)


@dataclass(frozen=True, slots=True)
class Line:
    """`near` stands where reading begins, `far` at the other end."""

    near: Words
    far: Words

    def width(self) -> int:
        return self.near.width() + self.far.width() + (look().px(8) if self.far.text else 0)


def lines_of(dock: Dock, use: str) -> tuple[Line, ...]:
    """What a card says: who the drive is, what it is, and what may happen to it; nothing of an empty dock."""
    docked = dock.docked
    if docked is None:
        return ()
    drive, reading, verdict = docked.drive, docked.drive.reading, docked.health.verdict
    name = Words(drive.model or docked.name.rsplit("/", 1)[-1], "ink", BODY, bold=True)
    size = f"{nominal(drive.size_bytes)}  {bus_name(drive.bus)}" if drive.size_bytes else "–"
    health = "" if verdict == "unknown" else health_word(verdict)
    heat = f"{reading.temperature_c:.0f} °C" if reading and reading.temperature_c is not None else ""
    if not dock.present:
        state = Words(tr("pulled out"), "caution")
    elif docked.trouble:
        state = Words(tr("in use here") if drive.mounted else tr("cannot be opened"), "caution")
    else:
        state = Words(use, "good" if use == tr("sealed") else "stop")
    return (
        Line(name, Words(tail(drive.serial), "ink", BODY, mono=True)),
        Line(Words(size, "muted"), Words(health, HEALTH_SEVERITY.get(verdict, "muted"))),
        Line(state, Words(heat, "muted")),
    )


@dataclass(frozen=True, slots=True)
class Card:
    """One dock. `use` says what may happen to its drive: sealed, may be written, being written."""

    dock: Dock
    use: str
    lines: tuple[Line, ...]

    @classmethod
    def of(cls, dock: Dock, use: str) -> Card:
        return cls(dock, use, lines_of(dock, use))

    @property
    def spoken(self) -> str:
        drive = self.dock.docked.drive if self.dock.docked else None
        return f"{drive.model} {tail(drive.serial)} {self.use}" if drive else tr("dock empty")

    @property
    def hint(self) -> str:
        docked = self.dock.docked
        if docked is None:
            return ""
        return said(docked.trouble) if docked.trouble else tr("Show all about this drive")

    def width(self) -> int:
        """Pixels that its words ask for, within bounds."""
        wide = max((line.width() for line in self.lines), default=0) + look().px(62)
        return min(max(wide, look().px(_NARROWEST)), look().px(_WIDEST))


class CardsModel(RowsModel[Card]):
    """Only a card of which something is different is told to the view."""

    def key(self, row: Card) -> None:
        """Docks stay where they are, whatever is in them."""

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if role == Qt.ItemDataRole.ToolTipRole:
            return self.rows[index.row()].hint
        return super().data(index, role)

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        """An empty dock cannot be chosen."""
        return super().flags(index) if self.rows[index.row()].dock.docked else Qt.ItemFlag.NoItemFlags


class CardDelegate(QStyledItemDelegate):
    """Paints a dock: its tag, three lines about the drive, dashed when it was pulled out."""

    def __init__(self, shelf: ShelfView) -> None:
        super().__init__(shelf)
        self._shelf = shelf

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(self._shelf.card_width(index.row()), look().px(68))

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        if painter is None:
            return
        card: Card = index.data(Qt.ItemDataRole.UserRole)
        painter.save()
        follow_direction(painter, option.rect)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(option.rect).adjusted(1, 1, -1, -1)
        ghost = not card.dock.present
        dashed = QPen(look().colour("free"), 1.2, Qt.PenStyle.DashLine)
        painter.setPen(dashed if ghost else QPen(look().colour("line"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush if ghost else look().colour("ground"))
        if option.state & QStyle.StateFlag.State_HasFocus:
            painter.setPen(QPen(look().colour("accent"), 2))
        painter.drawRoundedRect(area, 7, 7)
        if card.dock.docked is None:
            painter.setPen(look().colour("muted"))
            painter.setFont(look().font(SMALL))
            draw_text(painter, area, Qt.AlignmentFlag.AlignCenter, tr("dock empty"))
        else:
            self._paint_words(painter, area, card, ghost)
        painter.restore()

    def _paint_words(self, painter: QPainter, area: QRectF, card: Card, ghost: bool) -> None:
        side = look().px(28)
        paint_tag(
            painter, card.dock.tag, QRectF(area.left() + look().px(9), area.center().y() - side / 2, side, side), ghost
        )
        left, right = area.left() + look().px(47), area.right() - look().px(10)
        tall = area.height() / 3.0
        for index, line in enumerate(card.lines):
            row = QRectF(left, area.top() + 2 + index * (tall - 1), right - left, tall)
            taken = 0
            for words in (line.far, line.near):
                if not words.text:
                    continue
                painter.setPen(look().colour(words.token))
                painter.setFont(look().font(words.size, words.bold, words.mono))
                at_right = words is line.far
                text = words.metrics().elidedText(words.text, _ELIDE, int(row.width() - taken))
                align = Qt.AlignmentFlag.AlignRight if at_right else Qt.AlignmentFlag.AlignLeft
                draw_text(painter, row.adjusted(0, 0, -taken, 0), align | Qt.AlignmentFlag.AlignVCenter, text)
                taken = words.width() + look().px(8)


class ShelfView(QListView):
    """All docks side by side; scrolls sideways when there are many. Arrow keys go along, Return shows a drive."""

    drive_asked = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("shelf")
        self.setFlow(QListView.Flow.LeftToRight)
        self.setWrapping(False)
        self.setSpacing(_GAP // 2)
        self.setHorizontalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setResizeMode(QListView.ResizeMode.Adjust)
        self.setSelectionMode(QListView.SelectionMode.NoSelection)
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Docks"))
        self.setFixedHeight(look().px(88))
        self.setContentsMargins(0, 0, 0, 0)
        self.setViewportMargins(look().px(11), look().px(5), look().px(11), 0)
        self._model = CardsModel(self)
        self.setModel(self._model)
        self.setItemDelegate(CardDelegate(self))
        self.activated.connect(self._ask)
        self.clicked.connect(self._ask)

    @property
    def cards(self) -> list[Card]:
        return self._model.rows

    def show_docks(self, docks: list[tuple[Dock, str]]) -> None:
        """Each dock with what may happen to its drive."""
        self._model.show([Card.of(dock, use) for dock, use in docks])
        self.setFixedHeight(look().px(88 if len(docks) <= 6 else 98))

    def card_width(self, number: int) -> int:
        """What a card asks for, or an equal part of the room when all have more than enough."""
        viewport = self.viewport()
        room = viewport.width() if viewport is not None else self.width()
        each = room // max(1, len(self.cards)) - _GAP
        widths = [card.width() for card in self.cards]
        return each if all(each >= width for width in widths) else max(widths[number], min(each, look().px(_WIDEST)))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.scheduleDelayedItemsLayout()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        super().mouseMoveEvent(event)
        if event is not None:
            over = self.indexAt(event.position().toPoint())
            full = over.isValid() and self.cards[over.row()].dock.docked is not None
            self.setCursor(Qt.CursorShape.PointingHandCursor if full else Qt.CursorShape.ArrowCursor)

    def _ask(self, index: QModelIndex) -> None:
        card: Card | None = index.data(Qt.ItemDataRole.UserRole)
        if card is not None and card.dock.docked:
            self.drive_asked.emit(card.dock)

    def bring(self, dock: Dock | None) -> None:
        """Let a drive's card be in sight, where there are more than fit."""
        found = (n for n, card in enumerate(self.cards) if dock and card.dock.docked and card.dock.tag == dock.tag)
        number = next(found, None)
        if number is not None:
            self.scrollTo(self._model.index(number), QListView.ScrollHint.EnsureVisible)
