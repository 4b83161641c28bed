"""The two columns of a transfer as they fill."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import tr
from neogenesis.app.parts.column import paint_column
from neogenesis.app.parts.strata import Placed, Stratum, place_strata
from neogenesis.app.parts.tag import paint_tag
from neogenesis.app.theme.look import SMALL, look
from neogenesis.core.judgement import judgement


class FillCanvas(QWidget):
    """Two columns that fill as the copy goes on, joined at the line where it is now."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("What has been copied"))
        self.old: list[Stratum] = []
        self.new: list[Stratum] = []
        self.tags: tuple[int | None, int | None] = (None, None)
        self.checked: float | None = None
        self.celsius: tuple[float | None, float | None] = (None, None)

    def sizeHint(self) -> QSize:
        return QSize(min(look().px(190), 220), look().px(240))

    def show_fill(
        self,
        old: list[Stratum],
        new: list[Stratum],
        tags: tuple[int | None, int | None],
        checked: float | None,
        celsius: tuple[float | None, float | None] = (None, None),
    ) -> None:
        """`checked` is the share that has been read back, None before that has begun; `celsius` of both drives."""
        self.old, self.new, self.tags, self.checked, self.celsius = old, new, tags, checked, celsius
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        bottom = look().px(34)
        width = look().px(58)
        least = look().px(16)
        height = self.height() - bottom - 4
        old = place_strata(self.old, QRectF(6, 2, width, height), least, 3)
        new = place_strata(self.new, QRectF(self.width() - width - 10, 2, width, height), least, 3)
        paint_column(painter, old, mark_scale=False)
        paint_column(painter, new, mark_scale=False)
        self._paint_line(painter, old, new)
        side = look().px(24)
        for placed, tag, celsius in zip((old, new), self.tags, self.celsius, strict=True):
            if not placed:
                continue
            middle, y = placed[0].rect.center().x(), self.height() - side - 3
            x = middle - side / 2 if celsius is None else middle - side - 2
            if tag is not None:
                paint_tag(painter, tag, QRectF(x, y, side, side))
            if celsius is not None:
                painter.setFont(look().font(SMALL))
                painter.setPen(look().colour("caution" if celsius > judgement().hot_celsius else "muted"))
                text = tr("{0} °C").format(round(celsius))
                painter.drawText(QRectF(middle + 4, y, 60, side), Qt.AlignmentFlag.AlignVCenter, text)
        if self.checked is not None and new:
            top, end = new[0].rect.top(), new[-1].rect.bottom()
            painter.setPen(QPen(look().colour("good"), 3))
            x = new[0].rect.right() + 6
            painter.drawLine(QPointF(x, top), QPointF(x, top + (end - top) * self.checked))

    def _paint_line(self, painter: QPainter, old: list[Placed], new: list[Placed]) -> None:
        current = next((p for p in new if p.stratum.filled and 0 < p.stratum.filled < 1), None)
        if current is None:
            return
        source = next((p for p in old if p.stratum.number == current.stratum.from_number), None)
        if source is None:
            return
        share = current.stratum.filled or 0.0
        one = source.rect.top() + source.rect.height() * share
        other = current.rect.top() + current.rect.height() * share
        painter.setPen(QPen(look().colour("accent"), 2))
        painter.drawLine(QPointF(source.rect.left() - 4, one), QPointF(source.rect.right() + 4, one))
        painter.drawLine(QPointF(source.rect.right() + 4, one), QPointF(current.rect.left() - 4, other))
        painter.drawLine(QPointF(current.rect.left() - 4, other), QPointF(current.rect.right() + 4, other))
