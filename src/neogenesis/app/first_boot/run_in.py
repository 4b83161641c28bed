"""The run-in of the new drive: its pace over what was written, and its figures beside what it is rated for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QDialog, QFileDialog, QGridLayout, QSizePolicy, QWidget

from neogenesis.app.first_boot.run_in_model import RunInModel
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.controls import Choice, Elided, button, clear, label, row, stack
from neogenesis.app.parts.mirror import draw_text, follow_direction
from neogenesis.app.sentences import local_figures
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import nominal, rate
from neogenesis.core.run_in import TITLES, Figure, Paced

_SECONDS = (30, 60, 180, 600)
_HEADS = (mark("measured"), mark("rated"), mark("old drive"))


@dataclass(frozen=True, slots=True)
class PaceScene:
    """`points` from 0 to 1 along what was written, and of `top` bytes a second; `knee` along it; `rated` as height."""

    points: tuple[tuple[float, float], ...] = ()
    top: float = 1.0
    end_bytes: int = 0
    knee: float | None = None
    rated: float | None = None


def pace_scene(samples: Sequence[Paced], cache_bytes: int | None, rated: float | None) -> PaceScene:
    if not samples:
        return PaceScene()
    end = samples[-1].at_bytes
    top = max(*(s.bytes_per_s for s in samples), rated or 0.0) * 1.08
    points = tuple((s.at_bytes / end, s.bytes_per_s / top) for s in samples)
    return PaceScene(points, top, end, cache_bytes / end if cache_bytes else None, rated / top if rated else None)


class PacePlot(QWidget):
    """Each sample a stave as tall as the pace; a ring stands where the cache ran out, a dotted line at the rating."""

    def __init__(self) -> None:
        super().__init__()
        self.scene = PaceScene()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("Pace over what was written"))

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(320), look().px(180))

    def show_scene(self, scene: PaceScene) -> None:
        self.scene = scene
        self.update()

    def area(self) -> QRectF:
        """Where the staves stand."""
        right = look().px(84)
        below = look().metrics(SMALL).height() + look().px(8)
        return QRectF(2, look().px(8), max(1, self.width() - right), max(1, self.height() - below - look().px(12)))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(look().font(SMALL))
        scene, area = self.scene, self.area()
        painter.setPen(QPen(look().colour("line"), 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())
        if not scene.points:
            painter.setPen(look().colour("muted"))
            draw_text(painter, area, Qt.AlignmentFlag.AlignCenter, tr("Nothing was measured yet."))
            return
        self._paint_staves(painter, area)
        painter.setFont(look().font(SMALL))
        for height, words in self._levels():
            y = area.bottom() - area.height() * height
            painter.setPen(QPen(look().colour("line"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(look().colour("muted"))
            place = QRectF(area.right() + look().px(6), y - look().px(10), look().px(80), look().px(20))
            draw_text(painter, place, Qt.AlignmentFlag.AlignVCenter, words)
        place = QRectF(area.left(), area.bottom() + look().px(4), area.width(), look().px(20))
        draw_text(painter, place, Qt.AlignmentFlag.AlignLeft, nominal(0))
        draw_text(painter, place, Qt.AlignmentFlag.AlignHCenter, tr("written"))
        draw_text(painter, place, Qt.AlignmentFlag.AlignRight, nominal(scene.end_bytes))

    def _levels(self) -> list[tuple[float, str]]:
        """Heights with their words: the rating, where there is one, and half of what is drawn."""
        scene = self.scene
        half = " ".join(rate(scene.top / 2))
        if scene.rated is None:
            return [(0.5, half), (1 / 1.08, " ".join(rate(scene.top / 1.08)))]
        rated = tr("rated {0}").format(" ".join(rate(scene.top * scene.rated)))
        return [(scene.rated, rated)] if abs(scene.rated - 0.5) < 0.1 else [(0.5, half), (scene.rated, rated)]

    def _paint_staves(self, painter: QPainter, area: QRectF) -> None:
        scene = self.scene
        line = [QPointF(area.left() + area.width() * at, area.bottom() - area.height() * up) for at, up in scene.points]
        painter.setPen(QPen(look().role("data"), look().px(3)))
        step, beside = look().px(8), 0
        for n in range(int(area.width()) // step + 1):
            x = area.left() + n * step
            while beside + 1 < len(line) and line[beside + 1].x() <= x:
                beside += 1
            painter.drawLine(QPointF(x, area.bottom()), QPointF(x, line[beside].y()))
        painter.setPen(QPen(look().role("system"), look().px(2)))
        painter.drawPolyline(QPolygonF(line))
        if scene.knee is not None:
            x = area.left() + area.width() * scene.knee
            nearest = min(line, key=lambda p: abs(p.x() - x))
            painter.setPen(QPen(look().colour("caution"), look().px(3)))
            painter.setBrush(look().colour("surface"))
            painter.drawEllipse(nearest, look().px(7), look().px(7))


class RunInSheet(QDialog):
    """Where, how long, begin; then what it gave."""

    def __init__(self, parent: QWidget, model: RunInModel) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._model = model
        self.setWindowTitle(tr("Run-in of the new drive"))
        self.resize(look().px(980), look().px(640))
        self.place = Choice()
        self.place.setAccessibleName(tr("Where it is measured"))
        self.browse = button(tr("Another folder…"), self._browse)
        self.longest = Choice()
        self.longest.setAccessibleName(tr("How long"))
        for seconds in _SECONDS:
            text = tr("{0} s").format(seconds) if seconds < 120 else tr("{0} min").format(seconds // 60)
            self.longest.addItem(text, seconds)
        self.longest.setCurrentIndex(1)
        self.begin = button(tr("Begin"), self._begin, "main", tr("Only a scratch file is written, and it goes away"))
        self.plot = PacePlot()
        self._figures = QGridLayout()
        self._figures.setHorizontalSpacing(look().px(18))
        self._figures.setVerticalSpacing(look().px(8))
        self._now, self._told = Elided("", "muted"), label("", wrap=True, copyable=True)
        self._fault = label("", "stop", wrap=True, copyable=True)
        self._build()
        model.changed.connect(self.refresh)
        model.moved.connect(self._show_moving)
        for place in model.places():
            self.place.addItem(_short(place), place)
        self.refresh()

    def _build(self) -> None:
        what = tr(
            "Long stride: one long read or write. Short steps: single blocks at places taken by chance. Staying power: "
            "writing on until the cache runs out. Nothing but a scratch file is written."
        )
        beside = QWidget()
        beside.setLayout(stack(self._figures, self._told, None, gap=look().px(12)))
        across = row(gap=look().px(20))
        across.addWidget(self.plot, 6)
        across.addWidget(beside, 5)
        orders = row(self.place, self.browse, label(tr("for about"), "muted"), self.longest, self.begin)
        orders.setStretch(0, 1)
        body = stack(
            label(what, "muted", wrap=True),
            orders,
            across,
            self._now,
            self._fault,
            row(None, button(tr("Close"), self.accept)),
            gap=look().px(12),
            margin=look().px(18),
        )
        body.setStretch(2, 1)
        self.setLayout(body)

    # Showing

    def refresh(self) -> None:
        model = self._model
        busy = model.is_busy
        self.begin.setText(tr("Stop") if busy else tr("Begin"))
        self.begin.setEnabled(busy or self.place.count() > 0)
        for widget in (self.place, self.browse, self.longest):
            widget.setEnabled(not busy)
        self._fault.setVisible(model.failure is not None)
        self._fault.setText(said(model.failure.sentence()) if model.failure is not None else "")
        if self.place.count() == 0:
            self._now.say(tr("No volume of the new drive is mounted here: mount one, or choose a folder on it."))
        elif not busy:
            self._now.say("")
        self._show_moving()
        clear(self._figures)
        if busy:
            self._told.setText("")
            return
        self._told.setText(" ".join(said(text) for text in model.sentences))
        for column, head in enumerate(_HEADS, 1):
            self._figures.addWidget(label(tr(head), "muted"), 0, column, Qt.AlignmentFlag.AlignRight)
        for n, one in enumerate(model.rows, 1):
            self._figures.addWidget(label(said(TITLES[one.code])), n, 0)
            tone = "stop" if one.falls_short else "good" if one.rated is not None and not one.is_short else ""
            for column, (value, look_) in enumerate(((one.measured, tone), (one.rated, ""), (one.old, "")), 1):
                told = label(figure_words(one.code, value), look_, copyable=True)
                self._figures.addWidget(told, n, column, Qt.AlignmentFlag.AlignRight)

    def _show_moving(self) -> None:
        model, heard = self._model, self._model.heard
        rated = model.part.write_bytes_per_s if model.part is not None else None
        if model.is_busy:
            self.plot.show_scene(pace_scene([h.paced for h in model.told if h.phase == "staying"], None, rated))
            if heard is not None:
                pace, after = " ".join(rate(heard.paced.bytes_per_s)), nominal(heard.paced.at_bytes)
                self._now.say(tr("{0}: {1} after {2}").format(said(TITLES[heard.phase]), pace, after))
            else:
                self._now.say(tr("Starting…"))
        elif model.found is not None:
            self.plot.show_scene(pace_scene(model.found.samples, model.found.cache_bytes, rated))
        else:
            self.plot.show_scene(PaceScene())

    # Orders

    def _browse(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, tr("A folder on the new drive"))
        if chosen:
            self.take(chosen)

    def take(self, place: str) -> None:
        """Measure there."""
        if self.place.findData(place) < 0:
            self.place.addItem(_short(place), place)
        self.place.setCurrentIndex(self.place.findData(place))
        self.refresh()

    def _begin(self) -> None:
        if self._model.is_busy:
            self._model.stop()
        else:
            self._model.begin(str(self.place.currentData() or ""), float(self.longest.currentData()))


def figure_words(code: Figure, value: float | None) -> str:
    """`1.3 GB/s`, `29 300 a second`; a dash for what nobody knows."""
    if value is None:
        return "–"
    if code.startswith("steps"):
        return tr("{0} a second").format(local_figures(f"{value:,.0f}"))
    return " ".join(rate(value))


def _short(place: str) -> str:
    path = Path(place)
    return path.name.split(".")[0] if path.suffix == ".json" else place
