"""The dock shelf."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton, QHBoxLayout, QScrollArea, QWidget

from neogenesis.app.bench import Dock
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import clear
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.parts.tag import paint_tag
from neogenesis.app.theme.look import BODY, SMALL, look
from neogenesis.app.words import HEALTH_SEVERITY, bus_name, health_word, nominal, tail

_NARROWEST, _WIDEST = 192, 320
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


class DockCard(QAbstractButton):
    """One dock. `use` says what may happen to its drive: sealed, may be written, being written."""

    def __init__(self) -> None:
        super().__init__()
        self._shown: tuple[Dock, str] | None = None
        self.show_dock(Dock(), "")

    def show_dock(self, dock: Dock, use: str) -> None:
        if (dock, use) == self._shown:
            return
        self._shown = (dock, use)
        self.dock, self.use, self.lines = dock, use, lines_of(dock, use)
        wide = max((line.width() for line in self.lines), default=0) + look().px(62)
        self.setMinimumWidth(min(max(wide, look().px(_NARROWEST)), look().px(_WIDEST)))
        self.update()
        drive = dock.docked.drive if dock.docked else None
        if drive is None:
            self.setAccessibleName(tr("dock empty"))
            self.setToolTip("")
            self.unsetCursor()
            self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        else:
            self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            self.setAccessibleName(f"{drive.model} {tail(drive.serial)} {use}")
            self.setToolTip(
                said(dock.docked.trouble) if dock.docked and dock.docked.trouble else tr("Show all about this drive")
            )
            self.setCursor(Qt.CursorShape.PointingHandCursor)

    def sizeHint(self) -> QSize:
        return QSize(look().px(290), look().px(66))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        ghost = not self.dock.present
        dashed = QPen(look().colour("free"), 1.2, Qt.PenStyle.DashLine)
        painter.setPen(dashed if ghost else QPen(look().colour("line"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush if ghost else look().colour("ground"))
        if self.hasFocus():
            painter.setPen(QPen(look().colour("accent"), 2))
        painter.drawRoundedRect(area, 7, 7)
        if self.dock.docked is None:
            painter.setPen(look().colour("muted"))
            painter.setFont(look().font(SMALL))
            draw_text(painter, area, Qt.AlignmentFlag.AlignCenter, tr("dock empty"))
            return
        side = look().px(28)
        paint_tag(painter, self.dock.tag, QRectF(look().px(10), area.center().y() - side / 2, side, side), ghost)
        left, right = look().px(48), area.right() - look().px(10)
        tall = area.height() / 3.0
        for index, line in enumerate(self.lines):
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


class ShelfView(QScrollArea):
    """All docks side by side; scrolls sideways when there are many."""

    drive_asked = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("surface")
        self._row = QWidget()
        self._row.setObjectName("surface")
        self._row.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._layout = QHBoxLayout(self._row)
        self._layout.setContentsMargins(look().px(16), look().px(10), look().px(16), look().px(10))
        self._layout.setSpacing(look().px(10))
        self.setWidget(self._row)
        self.setWidgetResizable(True)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setFixedHeight(look().px(88))
        self.cards: list[DockCard] = []

    def show_docks(self, docks: list[tuple[Dock, str]]) -> None:
        """Each dock with what may happen to its drive; only a card of which something is different is touched."""
        if len(docks) != len(self.cards):
            clear(self._layout)
            self.cards = [DockCard() for _ in docks]
            for card in self.cards:
                card.clicked.connect(lambda _, card=card: card.dock.docked and self.drive_asked.emit(card.dock))
                self._layout.addWidget(card)
                card.show()
        for card, (dock, use) in zip(self.cards, docks, strict=True):
            card.show_dock(dock, use)
        self.setFixedHeight(look().px(88 if len(docks) <= 6 else 98))

    def bring(self, dock: Dock | None) -> None:
        """Let a drive's card be in sight, where there are more than fit."""
        card = next((c for c in self.cards if dock is not None and c.dock.docked and c.dock.tag == dock.tag), None)
        if card is not None:
            self.ensureWidgetVisible(card, look().px(20), 0)
