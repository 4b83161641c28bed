"""The old drive as one large column with its labels."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import said, tr
from neogenesis.app.parts.column import GAUGE_WIDTH, paint_column, paint_gauge
from neogenesis.app.parts.strata import FREE, Placed, Stratum, neighbour, place_strata, spread
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import exact

_ELIDE = Qt.TextElideMode.ElideRight


class ColumnCanvas(QWidget):
    """One column with its labels to the right. Arrow keys and clicks choose a stratum."""

    chosen_changed = pyqtSignal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.strata: list[Stratum] = []
        self.chosen: int | None = None
        self.details: dict[int, str] = {}
        self.setAccessibleName(tr("The partitions of the drive"))

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(260), look().px(200))

    def show_strata(self, strata: list[Stratum], details: dict[int, str]) -> None:
        self.strata, self.details = strata, details
        numbers = [s.number for s in strata if s.number is not None]
        if self.chosen not in numbers:
            self.choose(None)
        self.update()

    def choose(self, number: int | None) -> None:
        if number != self.chosen:
            self.chosen = number
            self.chosen_changed.emit(number)
            self.update()

    def _placed(self) -> list[Placed]:
        height = look().metrics().height() + look().metrics(SMALL).height() + 4
        width = min(look().px(120), self.width() * 0.34)
        rect = QRectF(GAUGE_WIDTH + 10, 2, width, self.height() - 4)
        return place_strata(self.strata, rect, height, 3)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        placed = self._placed()
        if not placed:
            return
        first, last = placed[0].rect, placed[-1].rect
        paint_gauge(painter, self.strata, QRectF(1, first.top(), GAUGE_WIDTH, last.bottom() - first.top()))
        paint_column(painter, placed, self.chosen if self.hasFocus() or self.chosen is not None else None)
        x = placed[0].rect.right() + look().px(16)
        metrics, small = look().metrics(bold=True), look().metrics(SMALL)
        tall = metrics.height() + small.height()
        tops = spread([p.rect.center().y() - tall / 2 for p in placed], [tall] * len(placed), 0, self.height())
        for item, top in zip(placed, tops, strict=True):
            stratum = item.stratum
            room = int(self.width() - x - 2)
            free = stratum.role == FREE
            size = exact(stratum.size_bytes)
            figures = look().metrics()
            painter.setPen(look().colour("muted" if free else "ink"))
            painter.setFont(look().font(bold=not free))
            name = tr("free") if free else said(stratum.title)
            name = metrics.elidedText(name, _ELIDE, room - figures.horizontalAdvance(size) - look().px(12))
            painter.drawText(QPointF(x, top + metrics.ascent()), name)
            painter.setPen(look().colour("muted"))
            painter.setFont(look().font())
            painter.drawText(QPointF(x + metrics.horizontalAdvance(name) + look().px(12), top + metrics.ascent()), size)
            if stratum.number is not None:
                painter.setFont(look().font(SMALL))
                text = small.elidedText(self.details.get(stratum.number, ""), _ELIDE, room)
                painter.drawText(QPointF(x, top + metrics.height() + small.ascent()), text)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        for item in self._placed():
            if item.rect.top() <= event.position().y() <= item.rect.bottom() and item.stratum.number is not None:
                self.choose(item.stratum.number)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
            return
        self.choose(neighbour(self.strata, self.chosen, step))
