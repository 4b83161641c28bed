"""How far something is, as a line."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import tr
from neogenesis.app.parts.mirror import follow_direction
from neogenesis.app.theme.look import look


class ProgressLine(QWidget):
    """`token` colours what is done; a second share, drawn below the first, is what was read back."""

    def __init__(self) -> None:
        super().__init__()
        self._share, self._checked, self._token = 0.0, 0.0, "accent"
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Progress"))

    def sizeHint(self) -> QSize:
        return QSize(look().px(240), look().px(14))

    def show_share(self, share: float, checked: float = 0.0, token: str = "accent") -> None:
        self._share, self._checked, self._token = min(1.0, share), min(1.0, checked), token
        self.setAccessibleDescription(f"{100 * self._share:.0f} %")
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        wide, tall = float(self.width()), self.height() * 0.55
        painter.setBrush(look().colour("line"))
        painter.drawRoundedRect(QRectF(0, 0, wide, tall), 3, 3)
        painter.setBrush(look().colour(self._token))
        painter.drawRoundedRect(QRectF(0, 0, wide * self._share, tall), 3, 3)
        if self._checked:
            painter.setBrush(look().colour("good"))
            painter.drawRoundedRect(QRectF(0, tall + 2, wide * self._checked, self.height() - tall - 2), 1.5, 1.5)
