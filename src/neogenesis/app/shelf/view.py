"""The dock shelf."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton, QHBoxLayout, QScrollArea, QWidget

from neogenesis.app.bench import Dock
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import clear
from neogenesis.app.parts.tag import paint_tag
from neogenesis.app.theme.look import BODY, SMALL, look
from neogenesis.app.words import HEALTH_SEVERITY, bus_name, health_word, nominal, tail

_ELIDE = Qt.TextElideMode.ElideRight


class DockCard(QAbstractButton):
    """One dock. `use` says what may happen to its drive: sealed, may be written, being written."""

    def __init__(self, dock: Dock, use: str) -> None:
        super().__init__()
        self.dock, self.use = dock, use
        self.setMinimumWidth(look().px(192))
        drive = dock.docked.drive if dock.docked else None
        if drive is None:
            self.setAccessibleName(tr("dock empty"))
            self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        else:
            self.setAccessibleName(f"{drive.model} {tail(drive.serial)} {use}")
            self.setToolTip(
                said(dock.docked.trouble) if dock.docked and dock.docked.trouble else tr("Show all about this drive")
            )
            self.setCursor(Qt.CursorShape.PointingHandCursor)

    def sizeHint(self) -> QSize:
        return QSize(look().px(290), look().px(66))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
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
            painter.drawText(area, Qt.AlignmentFlag.AlignCenter, tr("dock empty"))
            return
        drive, side = self.dock.docked.drive, look().px(28)
        paint_tag(painter, self.dock.tag, QRectF(look().px(10), area.center().y() - side / 2, side, side), ghost)
        left, right = look().px(48), area.right() - look().px(10)
        line = area.height() / 3.0

        def put(
            index: int,
            text: str,
            token: str,
            size: int,
            at_right: bool,
            bold: bool = False,
            mono: bool = False,
            taken: float = 0,
        ) -> float:
            painter.setPen(look().colour(token))
            painter.setFont(look().font(size, bold, mono))
            row = QRectF(left, area.top() + 2 + index * (line - 1), right - left - taken, line)
            kind = look().metrics(size, bold, mono)
            text = kind.elidedText(text, _ELIDE, int(row.width()))
            align = Qt.AlignmentFlag.AlignRight if at_right else Qt.AlignmentFlag.AlignLeft
            painter.drawText(row, align | Qt.AlignmentFlag.AlignVCenter, text)
            return kind.horizontalAdvance(text) + look().px(8)

        taken = put(0, tail(drive.serial), "ink", BODY, True, mono=True) if drive.serial else 0
        put(0, drive.model or self.dock.docked.name.rsplit("/", 1)[-1], "ink", BODY, False, bold=True, taken=taken)
        size = f"{nominal(drive.size_bytes)}  {bus_name(drive.bus)}" if drive.size_bytes else "–"
        reading = drive.reading
        heat = f"{reading.temperature_c:.0f} °C" if reading and reading.temperature_c is not None else ""
        health = self.dock.docked.health.verdict
        words = "" if health == "unknown" else health_word(health)
        taken = put(1, words, HEALTH_SEVERITY.get(health, "muted"), SMALL, True)
        put(1, size, "muted", SMALL, False, taken=taken)
        if ghost:
            put(2, tr("pulled out"), "caution", SMALL, False)
        elif self.dock.docked.trouble:
            put(2, tr("in use here") if drive.mounted else tr("cannot be opened"), "caution", SMALL, False)
        else:
            put(2, self.use, "good" if self.use == tr("sealed") else "stop", SMALL, False)
        put(2, heat, "muted", SMALL, True)


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
        """Each dock with what may happen to its drive."""
        clear(self._layout)
        self.cards = []
        for dock, use in docks:
            card = DockCard(dock, use)
            card.clicked.connect(lambda _, d=dock: d.docked and self.drive_asked.emit(d))
            self._layout.addWidget(card)
            self.cards.append(card)
        self.setFixedHeight(look().px(88 if len(docks) <= 6 else 98))
