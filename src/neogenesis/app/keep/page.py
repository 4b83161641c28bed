"""What the Transfer stop shows while an image, a restore, a rescue or a salvage goes on, and how it ended."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QSizePolicy, QStackedWidget, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.keep.lanes import Lanes
from neogenesis.app.keep.model import ONTO
from neogenesis.app.keep.passes import PASS_WORDS, PassLine
from neogenesis.app.language import mark, said, tr, trn
from neogenesis.app.parts.controls import Elided, button, clear, label, notice, row, stack
from neogenesis.app.parts.course import CoursePlot, course_scene
from neogenesis.app.parts.figures import LostFiles, ProgressFigures
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.parts.progress import ProgressLine
from neogenesis.app.parts.regions import RegionColumn, ranges_of
from neogenesis.app.parts.strata import strata_of_survey
from neogenesis.app.parts.trace import SoundingsTrace
from neogenesis.app.theme.look import look
from neogenesis.app.words import both, exact, tail
from neogenesis.core.work import Event

_TITLES = {
    "image": mark("Image of {0}"),
    "restore": mark("Image {1} onto new drives"),
    "rescue": mark("Rescue of {0}"),
    "salvage": mark("Files of {0}"),
    "stick": mark("Installer {1} onto sticks"),
}
_KEY_CONTEXT = "regions"
_KEYS = (
    ("r", "read_bytes", mark("Read", "regions")),
    ("p", "postponed_bytes", mark("Postponed", "regions")),
    ("l", "lost_bytes", mark("Lost", "regions")),
)


class Swatch(QWidget):
    """What a letter of the outline looks like in the column."""

    def __init__(self, letter: str) -> None:
        super().__init__()
        self._letter = letter
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(look().px(14), look().px(14))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        area = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        if self._letter == "p":
            painter.fillRect(area, QBrush(look().colour("caution"), Qt.BrushStyle.FDiagPattern))
        else:
            painter.fillRect(area, look().role("system") if self._letter == "r" else look().colour("stop"))


class KeepPage(QWidget):
    """Figures above, what is going on below, its orders at the lower right."""

    dismissed = pyqtSignal()

    def __init__(self, desk: OpenJob) -> None:
        super().__init__()
        self._desk, self._model = desk, desk.keep
        self.figures = ProgressFigures()
        self._message = QVBoxLayout()
        self._bodies = QStackedWidget()
        self.lanes = Lanes()
        for body in (self._plain_body(), self._rescue_body()):
            self._bodies.addWidget(body)
        self.stop = button(
            tr("Stop safely"), self._model.stop, "", tr("End at a safe point; starting it again goes on")
        )
        self.close_page = button(tr("Put away"), self._dismiss, "main", tr("Back to the job's own transfer"))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(look().px(12))
        layout.addWidget(self.figures)
        layout.addLayout(self._message)
        layout.addWidget(self._bodies, 1)
        layout.addLayout(row(None, self.stop, self.close_page, gap=10))
        self._model.changed.connect(self.refresh)
        self._model.moved.connect(self.show_figures)

    def _plain_body(self) -> QWidget:
        """A line, or a lane for each target, and the course below."""
        self._line, self.course = ProgressLine(), CoursePlot()
        body = QWidget()
        inner = QVBoxLayout(body)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(look().px(14))
        for widget in (self._line, self.lanes, label(tr("Course"), "head")):
            inner.addWidget(widget)
        inner.addWidget(self.course, 1)
        return body

    def _rescue_body(self) -> QWidget:
        self.column, self.soundings, self.passes = RegionColumn(), SoundingsTrace(), PassLine()
        legend = FlowRow(look().px(8))
        self._key_labels: dict[str, QLabel] = {}
        for letter, name, _word in _KEYS:
            self._key_labels[name] = label("", "", copyable=True)
            legend.group(Swatch(letter), self._key_labels[name])
        self.files = LostFiles()
        self._files_title = label(tr("Files that lost something, the longest losses first"), "head")
        self._lower = QStackedWidget()
        names = QWidget()
        names.setLayout(stack(self._files_title, self.files, gap=6))
        self._lower.addWidget(self.passes)
        self._lower.addWidget(names)
        right = QVBoxLayout()
        right.setSpacing(look().px(10))
        head = row(label(tr("Soundings"), "head"), gap=12)
        head.addWidget(Elided(tr("how long each read took, by place on the old drive"), "small"), 1)
        right.addLayout(head)
        right.addWidget(self.soundings, 4)
        right.addLayout(legend)
        right.addWidget(self._lower, 5)
        body = QWidget()
        columns = QHBoxLayout(body)
        columns.setContentsMargins(0, 0, 0, 0)
        columns.setSpacing(look().px(22))
        columns.addWidget(self.column)
        columns.addLayout(right, 1)
        return body

    def main_widget(self) -> QWidget:
        return self.stop if self._model.is_active else self.close_page

    def _dismiss(self) -> None:
        self._model.dismiss()
        self.dismissed.emit()

    def subtitle(self) -> str:
        """What goes on, for the head of the stop."""
        dock = self._desk.old_dock()
        drive = dock.docked.drive if dock and dock.docked else None
        old = f"{drive.model} {tail(drive.serial)}" if drive else tr("the old drive")
        title = tr(_TITLES[self._model.kind]).format(old, self._model.kept.place.rsplit("/", 1)[-1])
        latest = self._model.heard.latest
        if self._model.kind == "rescue" and latest is not None and latest.text in PASS_WORDS and self._model.is_active:
            title = f"{title}  ·  {tr(PASS_WORDS[latest.text][0])}"
        if self._model.heard.pace > 1:
            pace = tr("simulated, {0} times as fast").format(round(self._model.heard.pace))
            title = f"{title}  ·  {pace}"
        return title

    def refresh(self) -> None:
        model = self._model
        self._bodies.setCurrentIndex(1 if model.kind == "rescue" else 0)
        several = model.kind == "restore" or (model.kind == "stick" and bool(model.heard.lanes))
        self.lanes.setVisible(several)
        self._line.setVisible(not several)
        self.stop.setVisible(model.is_active)
        self.stop.setEnabled(model.state == "running")
        self.stop.setText(tr("Stopping…") if model.state == "stopping" else tr("Stop safely"))
        self.close_page.setVisible(model.state == "ended")
        self.show_figures()

    def show_figures(self) -> None:
        if self._model.state == "ready":
            return
        self._show_numbers()
        self._show_message()
        if self._model.kind == "rescue":
            self._show_rescue()
            return
        self._show_course()
        if self._model.kind in ONTO and self._model.heard.lanes:
            self._show_lanes()
        else:
            latest = self._model.heard.latest
            self._line.show_share(latest.copied_bytes / max(1, latest.total_bytes) if latest else 0.0)

    def _show_course(self) -> None:
        heard = self._model.heard
        lanes, latest = heard.lanes.values(), heard.latest
        total = sum(2 * lane.total_bytes for lane in lanes) if lanes else (latest.total_bytes if latest else 0)
        left = latest.left_s if latest and self._model.is_active else None
        self.course.show_course(course_scene(heard.course, total, None, left))

    def _show_numbers(self) -> None:
        heard, latest = self._model.heard, self._model.heard.latest
        lanes = list(heard.lanes.values())
        done = sum(lane.copied_bytes for lane in lanes) if lanes else (latest.copied_bytes if latest else 0)
        total = sum(lane.total_bytes for lane in lanes) if lanes else (latest.total_bytes if latest else 0)
        speed = sum(lane.rate_bytes_per_s for lane in lanes if not lane.outcome) if lanes else 0.0
        speed = speed or (latest.rate_bytes_per_s if latest and not lanes else 0.0)
        if self._model.kind == "rescue":
            done = int(heard.figure("read_bytes") or 0)
        of = tr("{0} of {1}").format("{0}", exact(total)) if total else tr("{0}, reading the table first")
        self.figures.show_done(done, of)
        active = self._model.is_active
        self.figures.show_rate(speed if active else None)
        left = latest.left_s if latest and active else None
        if lanes and active:
            known = [lane.left_s for lane in lanes if lane.left_s and not lane.outcome]
            left = (max(k[0] for k in known), max(k[1] for k in known)) if known else None
        self.figures.show_end(heard.started_wall, latest.time_s if latest else 0.0, left)
        self.figures.show_warmth(heard.figure("celsius"))

    def _show_message(self) -> None:
        clear(self._message)
        model = self._model
        if model.heard.resting and model.is_active:
            self._message.addWidget(notice("caution", model.heard.resting, tr("It goes on by itself.")))
        if model.state != "ended":
            return
        if model.failure is not None:
            self._message.addWidget(notice("stop", model.failure.text, model.failure.remedy))
        elif model.heard.outcome is not None:
            outcome = model.heard.outcome
            if outcome.outcome == "partial":
                self._message.addWidget(notice("caution", *self._partial(outcome)))
            else:
                self._message.addWidget(notice("good", tr("Done: {0}").format(model.kept.place)))

    def _partial(self, outcome: Event) -> tuple[str, str]:
        """What is missing, in the window's own words where it knows them."""
        heard = self._model.heard
        if self._model.kind != "rescue":
            return said(outcome.text), said(outcome.remedy)
        lost = int((heard.figure("lost_bytes") or 0) + (heard.figure("postponed_bytes") or 0))
        more = (
            trn("{0} file lost something.", "{0} files lost something.", n).format(n)
            if (n := heard.files_count)
            else ""
        )
        return (
            f"{tr('Done, but {0} could not be read.').format(both(lost))} {more}".strip(),
            tr("The map and the names are in the job's folder. Begun again, it tries the lost places once more."),
        )

    def _show_rescue(self) -> None:
        model, heard, latest = self._model, self._model.heard, self._model.heard.latest
        dock, survey = self._desk.old_dock(), self._desk.survey.record
        size = latest.total_bytes if latest else 1
        place = latest.place_bytes if latest and model.is_active else 0
        strata = strata_of_survey(survey) if survey else []
        self.column.show_regions(heard.outline, place / max(1, size), dock.tag if dock else None, strata)
        lost, postponed = (ranges_of(heard.outline, letter, size) for letter in "lp")
        self.soundings.show_points(size, heard.soundings, lost, place, postponed)
        self.passes.show_pass(latest.text if latest else "", model.state == "ended" and model.failure is None)
        for _, name, word in _KEYS:
            self._key_labels[name].setText(f"{tr(word, _KEY_CONTEXT)} {both(int(heard.figure(name) or 0))}")
        over = model.state == "ended" and bool(heard.files)
        if over:
            self.files.show_files(heard.files)
        self._lower.setCurrentIndex(1 if over else 0)

    def _show_lanes(self) -> None:
        heard = self._model.heard
        targets = list(self._model.kept.targets)
        self.lanes.only(targets)
        for target in targets:
            lane = heard.lanes.get(target)
            if lane is not None:
                time_s = heard.latest.time_s if heard.latest else 0.0
                self.lanes.row_of(target).show_lane(
                    lane, self._desk.bench.dock_named(target), heard.started_wall, time_s
                )
