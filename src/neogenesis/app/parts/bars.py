"""Two bars for a time before and after."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import said, tr
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.theme.look import SMALL, look
from neogenesis.core.job import Improvement


class BeforeAfter(QWidget):
    """How long a start took and takes, to scale, and what that means."""

    def __init__(self) -> None:
        super().__init__()
        self._improvement: Improvement | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(look().px(240), look().px(96))

    def show_improvement(self, improvement: Improvement) -> None:
        self._improvement = improvement
        self.setAccessibleName(said(improvement.sentence()))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        found = self._improvement
        if found is None:
            return
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left, tall = look().px(60), look().px(18)
        room = self.width() - left - look().px(80)
        longest = max(found.before_s, found.after_s)
        for index, (name, seconds, role) in enumerate(
            ((tr("before"), found.before_s, "data"), (tr("after"), found.after_s, "system"))
        ):
            y = index * (tall + look().px(5))
            painter.setFont(look().font(SMALL))
            painter.setPen(look().colour("muted"))
            draw_text(painter, QRectF(0, y, left, tall), Qt.AlignmentFlag.AlignVCenter, name)
            wide = max(2.0, room * seconds / longest)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(look().role(role))
            painter.drawRoundedRect(QRectF(left, y, wide, tall), 3, 3)
            painter.setPen(look().colour("ink"))
            painter.setFont(look().font(bold=True))
            place = QRectF(left + wide + look().px(8), y, look().px(80), tall)
            draw_text(painter, place, Qt.AlignmentFlag.AlignVCenter, f"{seconds:g} s")
        painter.setPen(look().colour("muted"))
        painter.setFont(look().font(SMALL))
        y = 2 * (tall + look().px(5))
        flags = Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap
        draw_text(painter, QRectF(0, y + look().px(4), self.width(), self.height() - y), flags, said(found.sentence()))
