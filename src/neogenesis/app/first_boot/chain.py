"""The chain from the power button to the system: stations on a line, the break marked."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.controls import plain_tip
from neogenesis.app.parts.tag import paint_tag
from neogenesis.app.theme.look import SMALL, look
from neogenesis.core.boot import Forecast

STEP_WORDS = {
    "firmware": mark("Power button"),
    "entry": mark("Boot entry"),
    "drive": mark("Drive"),
    "boot-code": mark("Boot code"),
    "active-partition": mark("Active partition"),
    "volume-code": mark("Code of the volume"),
    "loader": mark("Loader"),
    "search": mark("Search"),
    "menu": mark("Menu"),
    "entry-of-menu": mark("Entry of the menu"),
    "store": mark("Boot store"),
    "kernel": mark("Kernel"),
    "initrd": mark("Initial ramdisk"),
    "system": mark("System"),
    "mounts": mark("Mounts"),
}


@dataclass(frozen=True, slots=True)
class Station:
    """One step as it is drawn; `reached` is False behind the break, `ok` None where it cannot be told."""

    title: str
    text: str
    ok: bool | None
    reached: bool
    tag: int | None = None


def stations_of(forecast: Forecast, tags: dict[str, int]) -> list[Station]:
    """In their order; what comes behind a break is the system that is not reached."""
    found = [
        Station(tr(STEP_WORDS.get(link.step, link.step)), said(link.text), link.ok, True, tags.get(link.drive))
        for link in forecast.chain
    ]
    if forecast.starts is False:
        found.append(Station(tr("System"), tr("not reached"), True, False))
    elif forecast.chain and forecast.chain[-1].step not in ("system", "kernel"):
        found.append(Station(tr("System"), tr("cannot be told from here"), None, True))
    return found


def answer_of(forecast: Forecast) -> str:
    """In a few words, for a head."""
    if forecast.starts is None:
        return tr("it cannot be told from here: try it")
    return tr("it starts") if forecast.starts else tr("it does not start")


class ChainView(QWidget):
    """One line of stations; texts below them, the whole of each as a tooltip."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.stations: list[Station] = []

    def sizeHint(self) -> QSize:
        return QSize(look().px(420), look().px(104))

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(300), look().px(104))

    def show_chain(self, stations: list[Station]) -> None:
        self.stations = stations
        self.setAccessibleName(tr("Chain of the start"))
        lines = [f"{s.title}: {s.text}" for s in stations]
        self.setAccessibleDescription("; ".join(lines))
        self.setToolTip(plain_tip("\n".join(lines)))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if not self.stations:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        wide, y, radius = self.width() / len(self.stations), look().px(18), look().px(8)
        at = [wide * (n + 0.5) for n in range(len(self.stations))]
        for n in range(1, len(self.stations)):
            here, before = self.stations[n], self.stations[n - 1]
            broken = before.ok is False or not here.reached
            is_open = before.ok is None or here.ok is None
            style = Qt.PenStyle.DashLine if broken else Qt.PenStyle.DotLine if is_open else Qt.PenStyle.SolidLine
            colour = look().colour("stop" if before.ok is False else "line" if broken else "accent")
            painter.setPen(QPen(colour, 3, style))
            painter.drawLine(QPointF(at[n - 1] + radius, y), QPointF(at[n] - radius, y))
        for station, x in zip(self.stations, at, strict=True):
            self._station(painter, station, QPointF(x, y), radius)
            self._words(painter, station, x, wide)

    def _station(self, painter: QPainter, station: Station, centre: QPointF, radius: float) -> None:
        if station.ok is None:  # open: a ring with a gap on its right, whatever drive it is on
            painter.setPen(QPen(look().colour("caution"), 2.6))
            painter.setBrush(look().colour("ground"))
            box = QRectF(centre.x() - radius, centre.y() - radius, 2 * radius, 2 * radius)
            painter.drawArc(box, 40 * 16, 280 * 16)
        elif not station.ok:
            painter.setPen(QPen(look().colour("stop"), 2.6))
            painter.setBrush(look().colour("ground"))
            painter.drawEllipse(centre, radius, radius)
            reach = radius * 0.45
            painter.drawLine(centre + QPointF(-reach, -reach), centre + QPointF(reach, reach))
            painter.drawLine(centre + QPointF(-reach, reach), centre + QPointF(reach, -reach))
        elif station.tag is not None:
            paint_tag(
                painter,
                station.tag,
                QRectF(centre.x() - radius * 1.4, centre.y() - radius * 1.4, radius * 2.8, radius * 2.8),
            )
        else:
            painter.setPen(QPen(look().colour("accent" if station.reached else "line"), 2.4))
            painter.setBrush(look().colour("accent" if station.reached else "ground"))
            painter.drawEllipse(centre, radius, radius)

    def _words(self, painter: QPainter, station: Station, x: float, wide: float) -> None:
        metrics, small = look().metrics(bold=True), look().metrics(SMALL)
        painter.setPen(look().colour("ink" if station.reached else "muted"))
        painter.setFont(look().font(bold=True))
        room = int(wide) - look().px(8)
        title = metrics.elidedText(station.title, Qt.TextElideMode.ElideRight, room)
        top = look().px(34)
        painter.drawText(QRectF(x - wide / 2, top, wide, metrics.height()), Qt.AlignmentFlag.AlignHCenter, title)
        painter.setPen(look().colour("stop" if station.ok is False else "muted"))
        painter.setFont(look().font(SMALL))
        box = QRectF(x - room / 2, top + metrics.height() + 2, room, small.lineSpacing() * 3)
        flags = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap
        painter.drawText(box, flags, _short(station.text, small, room))


def _short(text: str, metrics: object, room: int) -> str:
    """At most three lines of it; the whole is in the tooltip."""
    most = 3 * max(1, room // 7)
    return text if len(text) <= most else text[: most - 1].rstrip() + "…"
