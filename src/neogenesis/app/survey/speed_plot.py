"""How fast each place of a drive reads, drawn along the drive from its first byte at the left."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import said, tr
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import rate
from neogenesis.core.survey import Survey
from neogenesis.core.survey.profile import Sounding, SpeedProfile

_MIDDLE = Qt.AlignmentFlag.AlignVCenter


@dataclass(frozen=True, slots=True)
class Stave:
    """One place: `at` from 0 to 1 along the drive, `height` from 0 to 1; a place not to be read has none."""

    at: float
    height: float | None
    slow: bool


@dataclass(frozen=True, slots=True)
class SpeedScene:
    """`bands` are partitions as title, role, first and last place from 0 to 1; `top_rate` is what 1 stands for."""

    staves: tuple[Stave, ...]
    bands: tuple[tuple[str, str, float, float], ...]
    top_rate: float
    median: float | None


def speed_scene(soundings: Sequence[Sounding], survey: Survey, profile: SpeedProfile | None) -> SpeedScene:
    size = max(1, survey.drive.size_bytes)
    top = max((s.bytes_per_s or 0.0 for s in soundings), default=0.0) or 1.0
    zones = profile.zones if profile is not None else ()
    staves = tuple(
        Stave(
            s.offset_bytes / size,
            None if s.bytes_per_s is None else s.bytes_per_s / top,
            any(z.start_bytes <= s.offset_bytes < z.end_bytes for z in zones),
        )
        for s in soundings
    )
    bands = tuple((said(p.title), p.role, p.start_bytes / size, p.end_bytes / size) for p in survey.partitions)
    median = profile.median_bytes_per_s if profile is not None else None
    return SpeedScene(staves, bands, top, None if median is None else median / top)


class SpeedPlot(QWidget):
    """Staves above, the drive's partitions as a rule below."""

    def __init__(self) -> None:
        super().__init__()
        self.scene = SpeedScene((), (), 1.0, None)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("Reading speed by place on the drive"))

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(150), look().px(140))

    def show_scene(self, scene: SpeedScene) -> None:
        self.scene = scene
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        small = look().metrics(SMALL)
        below = look().px(14) + small.height() + look().px(6)
        right = look().px(78)
        area = QRectF(2, look().px(8), self.width() - right - 4, self.height() - below - look().px(12))
        painter.setPen(QPen(look().colour("line"), 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())
        scene = self.scene
        wide = max(2.0, area.width() / 96 - 2)
        for stave in scene.staves:
            x = area.left() + stave.at * (area.width() - wide)
            if stave.height is None:
                painter.setPen(QPen(look().colour("stop"), 2))
                y = area.bottom() - look().px(7)
                painter.drawLine(QPointF(x, y - 4), QPointF(x + 7, y + 4))
                painter.drawLine(QPointF(x, y + 4), QPointF(x + 7, y - 4))
                continue
            top = area.bottom() - max(2.0, area.height() * stave.height)
            colour = look().colour("stop") if stave.slow else look().role("system")
            painter.setPen(QPen(look().colour("stop", 0.6) if stave.slow else look().role("system", 0.35), 1.2))
            painter.drawLine(QPointF(x + wide / 2, area.bottom()), QPointF(x + wide / 2, top))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
            painter.drawEllipse(QPointF(x + wide / 2, top), 2.4, 2.4)
        if scene.staves:
            self._paint_figures(painter, area)
        self._paint_bands(painter, area, small.height())

    def _paint_figures(self, painter: QPainter, area: QRectF) -> None:
        painter.setFont(look().font(SMALL))
        marks = [(1.0, "muted")] if self.scene.median is None else [(self.scene.median, "accent")]
        for height, colour in marks:
            y = area.bottom() - area.height() * height
            painter.setPen(QPen(look().colour(colour), 1.4))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            number, unit = rate(self.scene.top_rate * height)
            place = QRectF(area.right() + look().px(8), y - 10, look().px(74), 20)
            painter.drawText(place, _MIDDLE, f"{number} {unit}")

    def _paint_bands(self, painter: QPainter, area: QRectF, tall: float) -> None:
        """Partitions by name; a name that does not fit is left out."""
        y = area.bottom() + look().px(5)
        painter.setFont(look().font(SMALL))
        metrics = look().metrics(SMALL)
        for title, role, start, end in self.scene.bands:
            left, right = (area.left() + area.width() * at for at in (start, end))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(look().role(role))
            painter.drawRect(QRectF(left, y, max(1.5, right - left - 1), look().px(5)))
            if metrics.horizontalAdvance(title) < right - left:
                painter.setPen(look().colour("muted"))
                painter.drawText(QRectF(left, y + look().px(7), right - left, tall), _MIDDLE, title)
