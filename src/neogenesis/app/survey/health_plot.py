"""A drive's readings over the time of a job, each as a line of its own scale."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import mark, tr
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import clock_of
from neogenesis.core.drive.history import HealthEntry

_SHOWN = (
    ("reallocated_sectors", mark("Reallocated sectors"), "stop"),
    ("pending_sectors", mark("Waiting to be reallocated"), "stop"),
    ("temperature_c", mark("Temperature"), "accent"),
    ("wear_percent", mark("Worn"), "muted"),
)
_MIDDLE = Qt.AlignmentFlag.AlignVCenter


@dataclass(frozen=True, slots=True)
class HealthLine:
    """`points` are moments and heights from 0 to 1; `first` and `last` are the figures themselves."""

    title: str
    token: str
    points: tuple[tuple[float, float], ...]
    first: float
    last: float


@dataclass(frozen=True, slots=True)
class HealthScene:
    lines: tuple[HealthLine, ...]
    begins: str = ""
    ends: str = ""


def health_scene(entries: Sequence[HealthEntry]) -> HealthScene:
    """Lines of what changed; nothing with less than two readings."""
    if len(entries) < 2:
        return HealthScene(())
    moments = [_seconds(e.at) for e in entries]
    began, span = moments[0], max(1.0, moments[-1] - moments[0])
    lines = []
    for name, title, token in _SHOWN:
        values = [getattr(e.reading, name) for e in entries]
        known = [(m, float(v)) for m, v in zip(moments, values, strict=True) if v is not None]
        if len(known) < 2 or len({v for _, v in known}) < 2:
            continue
        low, high = min(v for _, v in known), max(v for _, v in known)
        points = tuple(((m - began) / span, (v - low) / (high - low)) for m, v in known)
        lines.append(HealthLine(tr(title), token, points, known[0][1], known[-1][1]))
    return HealthScene(tuple(lines), clock_of(entries[0].at), clock_of(entries[-1].at))


def _seconds(iso: str) -> float:
    try:
        return datetime.fromisoformat(iso).timestamp()
    except (ValueError, OverflowError):
        return 0.0


class HealthPlot(QWidget):
    """One band for each figure that changed."""

    def __init__(self) -> None:
        super().__init__()
        self.scene = HealthScene(())
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Readings over time"))

    def sizeHint(self) -> QSize:
        return QSize(look().px(260), max(1, len(self.scene.lines)) * look().px(52) + look().px(18))

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(150), self.sizeHint().height())

    def show_scene(self, scene: HealthScene) -> None:
        self.scene = scene
        lines = [f"{line.title} {line.first:g} → {line.last:g}" for line in scene.lines]
        self.setAccessibleDescription("; ".join(lines))
        self.updateGeometry()
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(look().font(SMALL))
        tall, small = look().px(52), look().metrics(SMALL).height()
        right = look().px(48)
        for number, line in enumerate(self.scene.lines):
            top = number * tall
            painter.setPen(look().colour("muted"))
            painter.drawText(QRectF(0, top, self.width(), small), _MIDDLE, line.title)
            band = QRectF(2, top + small + 4, self.width() - right - 4, tall - small - look().px(14))
            painter.setPen(QPen(look().colour(line.token), 2))
            places = [
                QPointF(band.left() + x * band.width(), band.bottom() - y * band.height()) for x, y in line.points
            ]
            painter.drawPolyline(QPolygonF(places))
            for place in (places[0], places[-1]):
                painter.setBrush(look().colour(line.token))
                painter.drawEllipse(place, 2.5, 2.5)
            painter.setPen(look().colour("ink"))
            painter.drawText(QRectF(band.right() + 8, places[-1].y() - 9, right, 18), _MIDDLE, f"{line.last:g}")
        painter.setPen(look().colour("muted"))
        foot = QRectF(0, self.height() - small, self.width() - right, small)
        painter.drawText(foot, _MIDDLE | Qt.AlignmentFlag.AlignLeft, self.scene.begins)
        painter.drawText(foot, _MIDDLE | Qt.AlignmentFlag.AlignRight, self.scene.ends)
