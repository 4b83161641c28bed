"""What stands above a column: whose it is."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.parts.tag import paint_tag
from neogenesis.app.theme.look import SMALL, look

_ELIDE = Qt.TextElideMode.ElideRight


class Heading:
    """What stands above a column: tag, name, and a line of figures."""

    def __init__(self, tag: int | None = None, name: str = "", figures: str = "") -> None:
        self.tag, self.name, self.figures = tag, name, figures

    def paint(self, painter: QPainter, left: float, top: float, width: float) -> None:
        side = look().px(26)
        if self.tag is not None:
            paint_tag(painter, self.tag, QRectF(left, top + 4, side, side))
        x = left + side + look().px(8)
        room = int(width - side - look().px(8))
        painter.setPen(look().colour("ink"))
        painter.setFont(look().font(bold=True))
        metrics = look().metrics(bold=True)
        painter.drawText(QPointF(x, top + metrics.ascent()), metrics.elidedText(self.name, _ELIDE, room))
        painter.setPen(look().colour("muted"))
        painter.setFont(look().font(SMALL))
        small = look().metrics(SMALL)
        painter.drawText(
            QPointF(x, top + metrics.height() + small.ascent() + 2), small.elidedText(self.figures, _ELIDE, room)
        )


class HeadingView(QWidget):
    """A heading as a widget of its own."""

    def __init__(self) -> None:
        super().__init__()
        self._heading = Heading()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(look().px(200), look().metrics(bold=True).height() + look().metrics(SMALL).height() + 6)

    def show_heading(self, tag: int | None, name: str, figures: str) -> None:
        self._heading = Heading(tag, name, figures)
        self.setAccessibleName(f"{name} {figures}")
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        self._heading.paint(QPainter(self), 0, 0, self.width())
