"""A drive as a recipe makes it: one column, each volume with its size and why it is there."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QRect, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import tr
from neogenesis.app.parts.column import GAUGE_WIDTH, paint_column, paint_gauge
from neogenesis.app.parts.heading import Heading
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.parts.strata import FREE, Placed, Stratum, place_strata, spread
from neogenesis.app.theme.look import BODY, SMALL, look

_ABOVE = 52


@dataclass(frozen=True, slots=True)
class Told:
    """What stands beside a volume: its name, its size and filesystem, and why it is there."""

    title: str
    figures: str
    why: str


class FreshCanvas(QWidget):
    """`told` is by the number of the partition."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(look().px(260), look().px(200))
        self.setAccessibleName(tr("The new drive as it will be"))
        self.strata: list[Stratum] = []
        self.told: dict[int, Told] = {}
        self.heading = Heading()

    def sizeHint(self) -> QSize:
        return QSize(look().px(440), look().px(380))

    def show_layout(self, strata: list[Stratum], told: dict[int, Told], heading: Heading) -> None:
        self.strata, self.told, self.heading = strata, told, heading
        self.setAccessibleDescription(". ".join(f"{t.title}, {t.figures}" for t in told.values()))
        self.update()

    def _placed(self) -> list[Placed]:
        top, width = look().px(_ABOVE), look().px(96)
        rect = QRectF(GAUGE_WIDTH + 8, top, width, self.height() - top - 4)
        return place_strata(self.strata, rect, look().metrics().height() + 2, 3)

    def labels(self) -> list[tuple[QRectF, Told]]:
        """Where each text stands; none lies over another."""
        placed = [p for p in self._placed() if p.stratum.number in self.told]
        line = look().metrics().height()
        width = max(10.0, self.width() - self._text_left())
        tall = [line * 2 + self._reason_height(p.stratum.number, width) + look().px(6) for p in placed]
        room = self.height() - look().px(_ABOVE)
        if sum(tall) > room:  # without the reasons there is room
            tall = [line * 2 + look().px(4) for _ in placed]
        left = self._text_left()
        wanted = [min(p.rect.top(), p.rect.center().y() - t / 2) for p, t in zip(placed, tall, strict=True)]
        tops = spread(wanted, tall, look().px(_ABOVE), self.height())
        found = []
        for item, top, height in zip(placed, tops, tall, strict=True):
            number = item.stratum.number
            if number is not None:
                found.append((QRectF(left, top, width, height), self.told[number]))
        return found

    def _text_left(self) -> float:
        return GAUGE_WIDTH + 8 + look().px(96) + look().px(16)

    def _reason_height(self, number: int | None, width: float) -> float:
        """What a reason takes when it is broken into lines."""
        why = self.told[number].why if number is not None else ""
        box = QRect(0, 0, int(width), 10_000)
        return look().metrics(SMALL).boundingRect(box, int(Qt.TextFlag.TextWordWrap), why).height() if why else 0

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.heading.paint(painter, 0, 0, self.width())
        placed = self._placed()
        if not placed:
            return
        paint_column(painter, placed)
        paint_gauge(
            painter, self.strata, QRectF(0, look().px(_ABOVE), GAUGE_WIDTH, self.height() - look().px(_ABOVE) - 4)
        )
        flags = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop
        line, small = look().metrics().height(), look().metrics(SMALL).height()
        for rect, told in self.labels():
            painter.setFont(look().font(BODY, bold=True))
            painter.setPen(look().colour("ink"))
            draw_text(painter, QRectF(rect.left(), rect.top(), rect.width(), line), flags, told.title)
            painter.setFont(look().font(BODY))
            draw_text(painter, QRectF(rect.left(), rect.top() + line, rect.width(), line), flags, told.figures)
            if rect.height() > line * 2 + small:
                painter.setFont(look().font(SMALL))
                painter.setPen(look().colour("muted"))
                rest = QRectF(rect.left(), rect.top() + 2 * line, rect.width(), rect.height() - 2 * line)
                draw_text(painter, rest, flags | Qt.TextFlag.TextWordWrap, told.why)

    def free_bytes(self) -> int:
        """What stays unallocated."""
        return sum(s.size_bytes for s in self.strata if s.role == FREE)
