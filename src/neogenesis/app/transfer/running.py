"""A transfer as it runs: both columns filling, the figures, the soundings, the rate, and what comes next."""

from __future__ import annotations

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import Elided, button, label, row
from neogenesis.app.parts.course import CoursePlot, CourseScene, course_scene
from neogenesis.app.parts.figures import ProgressFigures
from neogenesis.app.parts.strata import filled, strata_of_layout, strata_of_survey
from neogenesis.app.parts.trace import SoundingsTrace
from neogenesis.app.theme.look import look
from neogenesis.app.transfer.canvas import FillCanvas
from neogenesis.app.transfer.steps import StepList
from neogenesis.app.words import exact


class RunningPage(QWidget):
    def __init__(self, desk: OpenJob) -> None:
        super().__init__()
        self._desk, self._model = desk, desk.transfer
        self.fill, self.figures = FillCanvas(), ProgressFigures()
        self.soundings, self.course = SoundingsTrace(), CoursePlot()
        self.steps = StepList()
        self._course_more = Elided("", "small")
        self._soundings_more = Elided("", "small")
        self._now, self._next = Elided("", "head"), Elided("", "")
        self.pause = button(tr("Pause"), self._pause, "main", tr("Rest at the next safe point  Ctrl+P"))
        self.stop = button(tr("Stop safely"), self._model.stop, "", tr("End at a safe point; it can be resumed"))
        right = QVBoxLayout()
        right.setSpacing(look().px(8))
        self._soundings_title = label(tr("Soundings"), "head")
        soundings_head = row(self._soundings_title, gap=12)
        soundings_head.addWidget(self._soundings_more, 1)
        right.addLayout(soundings_head)
        right.addWidget(self.soundings, 5)
        self._course_title = label(tr("Course"), "head")
        course_head = row(self._course_title, gap=12)
        course_head.addWidget(self._course_more, 1)
        right.addLayout(course_head)
        right.addWidget(self.course, 4)
        right.addWidget(self.steps, 4)
        self._now_and_next: list[QWidget] = []
        wide = look().metrics().horizontalAdvance(tr("Next") + "  ")
        for title, value in ((tr("Now"), self._now), (tr("Next"), self._next)):
            head = label(title, "muted")
            head.setFixedWidth(wide + look().px(10))
            self._now_and_next += [head, value]
            line = row(head, gap=6)
            line.addWidget(value, 1)
            right.addLayout(line)
        right.addLayout(row(None, self.stop, self.pause, gap=10))
        columns = row(gap=look().px(26))
        columns.addWidget(self.fill)
        columns.addLayout(right, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(look().px(14))
        layout.addWidget(self.figures)
        layout.addLayout(columns, 1)

    def _pause(self) -> None:
        if self._model.state == "paused":
            self._model.go_on()
        else:
            self._model.pause()

    def _course(self) -> CourseScene:
        """Copying and, below it, reading back."""
        progress, plan = self._model.progress, self._model.plan
        if plan is None or not progress.course:
            return CourseScene(())
        copies = [o for o in plan.operations if o.kind == "copy"]
        roles = {p.number: p.role for p in plan.layout.partitions}
        parts: list[tuple[float, str]] = [(float(o.bytes), roles.get(o.partition or 0, "unknown")) for o in copies]
        total = progress.copied_before or progress.total_bytes
        whole = total * 2 if self._model.verify == "full" else total
        if self._model.verify == "full":
            parts.append((float(sum(size for size, _ in parts)), "free"))
        forecast = (plan.estimate.seconds_p10, plan.estimate.seconds_p90)
        left = None if self._model.state == "paused" else progress.left_s
        return course_scene(progress.course, whole, forecast, left, parts)

    def _against_forecast(self) -> str:
        """Whether the middle of what is expected now lies in the range that was forecast."""
        progress, plan = self._model.progress, self._model.plan
        if plan is None or progress.left_s is None:
            return ""
        middle = progress.time_s + sum(progress.left_s) / 2
        if middle > plan.estimate.seconds_p90:
            return tr("later than forecast")
        return tr("earlier than forecast") if middle < plan.estimate.seconds_p10 else tr("as forecast")

    def subtitle(self) -> str:
        """What is being done now."""
        model = self._model
        wait = model.plan.source.survey.drive.timeout_s if model.plan is not None else None
        stopping = tr("Stopping at a safe point…")
        if wait is not None:
            stopping = tr("Stopping at a safe point: a drive that struggles may take {0} s…").format(round(wait))
        state = {"paused": tr("Paused"), "stopping": stopping, "starting": tr("Starting…")}
        text = state.get(model.state, said(model.progress.now))
        pace = tr("simulated, {0} times as fast").format(round(model.progress.pace))
        return f"{text}  ·  {pace}" if model.progress.pace > 1 else text

    def show_state(self) -> None:
        model = self._model
        self.pause.setText(tr("Go on") if model.state == "paused" else tr("Pause"))
        self.pause.setEnabled(model.state in ("running", "paused"))
        self.stop.setEnabled(model.state in ("running", "paused"))
        self.show_figures()

    def show_figures(self) -> None:
        model, progress, plan = self._model, self._model.progress, self._model.plan
        if plan is None:
            return
        paused = model.state == "paused"
        total = exact(progress.total_bytes or plan.estimate.bytes_to_copy)
        ofs = {
            "verify": tr("{0} checked of {1}"),
            "fill": tr("{0} put together of {1}"),
            "compare": tr("{0} compared of {1}"),
        }
        of = ofs.get(progress.phase, tr("{0} of {1}"))
        self.figures.show_done(progress.copied_bytes, of.format("{0}", total))
        self.figures.show_rate(0 if paused else progress.rate_bytes_per_s)
        left = None if paused else progress.left_s
        self.figures.show_end(progress.started_wall, progress.time_s, left, tr("paused") if paused else "–")
        self.figures.show_warmth(None)  # both drives say it below their columns
        shares = progress.shares
        tags = (self._desk.old_dock(), self._desk.new_dock())
        by_source = {p.from_partition: shares.get(p.number, 0.0) for p in plan.layout.partitions if p.from_partition}
        old = filled(strata_of_survey(plan.source.survey, plan.left_behind), by_source)
        new = filled(strata_of_layout(plan.layout), shares)
        checked = progress.checked_share if progress.phase == "verify" else None
        old_tag, new_tag = (dock.tag if dock else None for dock in tags)
        self.fill.show_fill(old, new, (old_tag, new_tag), checked, progress.celsius)
        place = progress.place_bytes if progress.phase == "copy" else 0
        self.soundings.show_points(plan.source.survey.drive.size_bytes, progress.soundings, progress.lost, place)
        more = tr("how long each read took, by place on the old drive")
        if progress.lost_bytes:
            more = tr("{0} could not be read so far").format(exact(progress.lost_bytes))
        self._soundings_more.say(more)
        for widget in (self._soundings_title, self._soundings_more, self.soundings):
            widget.setVisible(plan.intent != "fresh")  # nothing is read from an old drive
        self.course.show_course(self._course())
        begun = bool(progress.course) or plan.intent != "fresh"  # until files are put together nothing is written
        self.course.setVisible(begun)
        self.steps.setVisible(not begun)
        for line in self._now_and_next:  # the steps say it as well
            line.setVisible(begun)
        self.steps.show_steps([said(o.text) for o in plan.operations], progress.operation)
        self._course_title.setText(tr("Course") if begun else tr("Steps"))
        words = tr("how far it is, against time; grey is what was forecast")
        if not begun:
            words = tr("files are put together here first; then the drive is written to")
        self._course_more.say(f"{words}  ·  {self._against_forecast()}" if progress.left_s and begun else words)
        self._now.say(said(progress.now))
        self._next.say("  ·  ".join(map(said, model.next_texts())) or tr("nothing more"))
