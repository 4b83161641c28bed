"""The Transfer stop: before, during and after."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from neogenesis.app.keep.page import KeepPage
from neogenesis.app.open_job import OpenJob
from neogenesis.app.parts.controls import Choice, Elided, button, clear, label, notice, row, stack
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.parts.stop import Check, StopView
from neogenesis.app.parts.strata import filled, strata_of_layout, strata_of_survey
from neogenesis.app.parts.trace import RateTrace, SoundingsTrace
from neogenesis.app.theme.look import look
from neogenesis.app.transfer.canvas import FillCanvas
from neogenesis.app.words import about, both, clock, exact, later, nominal, rate, tail, time_range, tr
from neogenesis.core.plan import Plan
from neogenesis.core.transfer.run import Verify

_VERIFY: tuple[tuple[Verify, str], ...] = (
    ("full", "read everything back"),
    ("sample", "read a sample back"),
    ("none", "do not read back"),
)


class TransferView(StopView):
    """The pages of one stop: the gates, the copy as it runs, and how it ended; or what else is under way."""

    keep_asked = pyqtSignal()

    def __init__(self, desk: OpenJob) -> None:
        super().__init__(tr("Transfer"))
        self._desk, self._model = desk, desk.transfer
        self._pages = QStackedWidget()
        self.keep = KeepPage(desk)
        for page in (self._gates_page(), self._running_page(), self._ended_page(), self._empty_page(), self.keep):
            self._pages.addWidget(page)
        self.body.addWidget(self._pages, 1)
        self._model.changed.connect(self.refresh)
        self._model.moved.connect(self._show_figures)
        self._model.ended.connect(self._ended)
        desk.bench.drives_changed.connect(self.refresh)
        desk.keep.changed.connect(self.refresh)
        desk.keep.moved.connect(self._keep_moved)

    # Pages

    def _empty_page(self) -> QWidget:
        page = QWidget()
        words = label(tr("There is no plan yet."), "head"), label(tr("Write one first: Alt+5."), "muted")
        page.setLayout(stack(None, *words, row(self._keep_button(), None), None))
        return page

    def _gates_page(self) -> QWidget:
        self._gates = QVBoxLayout()
        self._gates.setSpacing(look().px(10))
        self._loss = QVBoxLayout()
        self._loss.setSpacing(look().px(6))
        inner = QWidget()
        box = QVBoxLayout(inner)
        box.setContentsMargins(0, 0, look().px(8), 0)
        box.setSpacing(look().px(14))
        box.addWidget(label(tr("What must hold before anything is written"), "head"))
        box.addLayout(self._gates)
        box.addSpacing(look().px(6))
        box.addWidget(label(tr("What will be lost on the new drive"), "head"))
        box.addLayout(self._loss)
        box.addSpacing(look().px(6))
        box.addWidget(label(tr("What will be done, in this order"), "head"))
        self._steps = QGridLayout()
        self._steps.setVerticalSpacing(look().px(5))
        self._steps.setHorizontalSpacing(look().px(10))
        self._steps.setColumnStretch(1, 1)
        box.addLayout(self._steps)
        box.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidget(inner)
        scroll.setWidgetResizable(True)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.verify = Choice()
        for key, text in _VERIFY:
            self.verify.addItem(tr(text), key)
        self.verify.setAccessibleName(tr("How the copy is checked"))
        self.verify.currentIndexChanged.connect(lambda _: self._show_estimate())
        self._estimate = label("", "muted")
        self.tail = QLineEdit()
        self.tail.setMaxLength(8)
        self.tail.setFixedWidth(look().px(88))
        self.tail.setFont(look().font(mono=True))
        self.tail.setAccessibleName(tr("Last four characters of the new drive's serial"))
        self.tail.textChanged.connect(lambda _: self._show_start())
        self.tail.returnPressed.connect(lambda: self.start.setFocus() if self.start.isEnabled() else None)
        self._ask = label("", "")
        self.start = button("", self._start, "write")
        page = QWidget()
        layout = QVBoxLayout(page)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(look().px(12))
        layout.addWidget(scroll, 1)
        checking = FlowRow(look().px(12))
        checking.group(label(tr("After the copy"), "muted"), self.verify)
        checking.addWidget(self._estimate)
        layout.addLayout(checking)
        self._closed_why = label("", "stop", wrap=True)
        layout.addWidget(self._closed_why)
        writing = FlowRow(look().px(12))
        writing.group(self._ask, self.tail)
        writing.addWidget(self.start)
        writing.addWidget(self._keep_button())
        layout.addLayout(writing)
        return page

    def _keep_button(self) -> QPushButton:
        tip = tr("Image, rescue, restore, or copy files out  Ctrl+I")
        return button(tr("Something else…"), self.keep_asked.emit, "", tip)

    def _running_page(self) -> QWidget:
        self.fill = FillCanvas()
        self._done, self._of = label("0", "figure"), label("", "muted")
        self._rate, self._rate_unit = label("0", "figure"), label("", "muted")
        self._ends_title, self._ends = label(tr("ends between"), "small"), label("", "head")
        self._left = label("", "small")
        figures = QHBoxLayout()
        figures.setSpacing(look().px(8))
        baseline = Qt.AlignmentFlag.AlignBottom
        for widget in (self._done, self._of):
            figures.addWidget(widget, 0, baseline)
        figures.addSpacing(look().px(16))
        for widget in (self._rate, self._rate_unit):
            figures.addWidget(widget, 0, baseline)
        figures.addSpacing(look().px(16))
        figures.addLayout(stack(None, self._ends_title, self._ends, self._left, gap=1))
        figures.addStretch(1)
        self.soundings, self.rates = SoundingsTrace(), RateTrace()
        self._soundings_more = Elided("", "small")
        self._now, self._next = Elided("", "head"), Elided("", "")
        self.pause = button(tr("Pause"), self._pause, "main", tr("Rest at the next safe point  Ctrl+P"))
        self.stop = button(tr("Stop safely"), self._model.stop, "", tr("End at a safe point; it can be resumed"))
        right = QVBoxLayout()
        right.setSpacing(look().px(8))
        soundings_head = row(label(tr("Soundings"), "head"), gap=12)
        soundings_head.addWidget(self._soundings_more, 1)
        right.addLayout(soundings_head)
        right.addWidget(self.soundings, 5)
        right.addWidget(label(tr("Rate"), "head"))
        right.addWidget(self.rates, 3)
        wide = look().metrics().horizontalAdvance(tr("Next") + "  ")
        for title, value in ((tr("Now"), self._now), (tr("Next"), self._next)):
            head = label(title, "muted")
            head.setFixedWidth(wide + look().px(10))
            line = row(head, gap=6)
            line.addWidget(value, 1)
            right.addLayout(line)
        right.addLayout(row(None, self.stop, self.pause, gap=10))
        page = QWidget()
        layout = QVBoxLayout(page)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(look().px(14))
        layout.addLayout(figures)
        columns = row(gap=look().px(26))
        columns.addWidget(self.fill)
        columns.addLayout(right, 1)
        layout.addLayout(columns, 1)
        return page

    def _ended_page(self) -> QWidget:
        self._end_title = label("", "title", wrap=True)
        self._end_more = label("", "", wrap=True, copyable=True)
        self._end_facts = QVBoxLayout()
        self._end_facts.setSpacing(look().px(8))
        self.resume_tail = QLineEdit()
        self.resume_tail.setMaxLength(8)
        self.resume_tail.setFixedWidth(look().px(88))
        self.resume_tail.setFont(look().font(mono=True))
        self.resume_tail.setAccessibleName(tr("Last four characters of the new drive's serial"))
        self.resume_tail.textChanged.connect(lambda _: self._show_start())
        self._resume_ask = label("")
        self.resume = button("", self._resume, "write")
        self._resume_row = QWidget()
        line = FlowRow(look().px(12))
        line.group(self._resume_ask, self.resume_tail)
        line.addWidget(self.resume)
        self._resume_row.setLayout(line)
        self.end_fill = FillCanvas()
        self._names = QPlainTextEdit()
        self._names.setReadOnly(True)
        self._names.setFont(look().font(mono=True))
        self._names.setAccessibleName(tr("Files that lost something"))
        self._names.setMaximumHeight(look().px(180))
        tip = tr("Write out everything and switch the drive off")
        self.pull_out = button(tr("Make it safe to pull out"), self._model.part, "main", tip)
        words = stack(self._end_title, self._end_more, gap=8)
        words.addSpacing(look().px(8))
        words.addLayout(self._end_facts)
        words.addWidget(self._names)
        words.addStretch(1)
        words.addLayout(row(None, self.pull_out))
        page = QWidget()
        layout = QVBoxLayout(page)
        layout.setContentsMargins(0, 0, 0, 0)
        columns = row(gap=look().px(26))
        columns.addWidget(self.end_fill)
        columns.addLayout(words, 1)
        layout.addLayout(columns, 1)
        layout.addWidget(self._resume_row)
        return page

    # Orders

    def _ended(self) -> None:
        """The keyboard goes where the next step is, not to whatever stood next to a button that vanished."""
        self.refresh()
        widget = self.main_widget()
        if self.isVisible() and widget is not None:
            widget.setFocus()

    def _start(self) -> None:
        if self.start.isEnabled():
            typed = self.tail.text().strip()
            self.tail.clear()
            self._model.start(typed, self.verify.currentData())
            self.pause.setFocus()

    def _resume(self) -> None:
        if self.resume.isEnabled():
            typed = self.resume_tail.text().strip()
            self.resume_tail.clear()
            self._model.start(typed, self.verify.currentData())
            self.pause.setFocus()

    def _pause(self) -> None:
        if self._model.state == "paused":
            self._model.go_on()
        else:
            self._model.pause()

    # Showing

    def main_widget(self) -> QWidget | None:
        if self._pages.currentWidget() is self.keep:
            return self.keep.main_widget()
        if self._model.is_active:
            return self.pause
        if self.pull_out.isVisibleTo(self):
            return self.pull_out
        return self.resume_tail if self._resume_row.isVisibleTo(self) else self.tail

    def refresh(self) -> None:
        model = self._model
        plan = model.plan
        if self._desk.keep.state != "ready" and not model.is_active:
            self._pages.setCurrentWidget(self.keep)
            self.keep.refresh()
            self.subtitle.say(self.keep.subtitle())
            return
        if plan is None:
            self.subtitle.say("")
            self._pages.setCurrentIndex(3)
            return
        if model.is_active:
            self._pages.setCurrentIndex(1)
            self._show_running()
        elif model.state in ("done", "stopped", "failed"):
            self._pages.setCurrentIndex(2)
            self._show_ended(plan)
        else:
            self._pages.setCurrentIndex(0)
            self._show_gates(plan)
        self._show_start()

    def _keep_moved(self) -> None:
        if self._pages.currentWidget() is self.keep:
            self.subtitle.say(self.keep.subtitle())

    def _target_name(self, plan: Plan) -> str:
        drive = plan.target.drive
        return f"{drive.model} {tail(drive.serial)}" if drive and drive.model else tr("the new drive")

    def _show_gates(self, plan: Plan) -> None:
        self.subtitle.say(tr("Onto {0}, {1}").format(self._target_name(plan), both(plan.target.size_bytes)))
        clear(self._gates)
        for check in self._all_gates(plan):
            self._gates.addWidget(notice(check.severity, check.text, check.remedy))
        clear(self._loss)
        if plan.target.holds:
            for item in plan.target.holds:
                self._loss.addWidget(notice("stop", item))
        else:
            self._loss.addWidget(notice("good", tr("Nothing: it holds no table and no volume.")))
        clear(self._steps)
        for index, operation in enumerate(plan.operations):
            size = exact(operation.bytes) if operation.kind == "copy" else ""
            self._steps.addWidget(label(str(index + 1), "muted"), index, 0)
            self._steps.addWidget(label(operation.text), index, 1)
            self._steps.addWidget(label(size, "muted"), index, 2, Qt.AlignmentFlag.AlignRight)
        self._show_estimate()

    def _all_gates(self, plan: Plan) -> list[Check]:
        """The plan's gates, and those that only the bench can tell."""
        checks = [Check("good" if g.open else "stop", g.text, g.remedy) for g in plan.gates if g.code != "target-holds"]
        for name, dock in ((tr("old"), self._desk.old_dock()), (tr("new"), self._desk.new_dock())):
            here = dock is not None and dock.present
            text = tr("The {0} drive is connected.") if here else tr("The {0} drive is not connected.")
            remedy = "" if here else tr("Put it into a dock; it is recognised.")
            checks.append(Check("good" if here else "stop", text.format(name), remedy))
        return sorted(checks, key=lambda c: c.severity != "stop")

    def _show_estimate(self) -> None:
        estimate = self._model.estimate_for(self.verify.currentData())
        if estimate is not None:
            self._estimate.setText(tr("takes {0}").format(time_range(estimate.seconds_p10, estimate.seconds_p90)))

    def _show_start(self) -> None:
        model, plan = self._model, self._model.plan
        if plan is None:
            return
        connected = all(d is not None and d.present for d in (self._desk.old_dock(), self._desk.new_dock()))
        may = model.gates_open and connected
        serial = plan.target.drive.serial if plan.target.drive else ""
        ask = (
            tr("To write, type how the new drive's serial ends")
            if serial
            else tr("To write, type how the new drive's name ends")
        )
        self._ask.setText(ask)
        self._resume_ask.setText(ask)
        size, name = nominal(plan.estimate.bytes_to_copy), self._target_name(plan)
        self.start.setText(tr("Copy {0} onto {1}").format(size, name))
        self.start.setEnabled(may and model.tail_fits(self.tail.text().strip()))
        self.resume.setText(
            tr("Go on onto {0}").format(name) if model.can_resume else tr("Start over onto {0}").format(name)
        )
        self.resume.setEnabled(may and model.tail_fits(self.resume_tail.text().strip()))
        closed = [g.text for g in plan.gates if not g.open]
        self._closed_why.setText(" ".join(closed))
        self._closed_why.setVisible(bool(closed))

    def _show_running(self) -> None:
        model = self._model
        paused = model.state == "paused"
        self.pause.setText(tr("Go on") if paused else tr("Pause"))
        self.pause.setEnabled(model.state in ("running", "paused"))
        self.stop.setEnabled(model.state in ("running", "paused"))
        self._show_figures()

    def _show_figures(self) -> None:
        model, progress = self._model, self._model.progress
        plan = model.plan
        if plan is None or not model.is_active:
            return
        state = {"paused": tr("Paused"), "stopping": tr("Stopping at a safe point…"), "starting": tr("Starting…")}
        pace = tr("simulated, {0} times as fast").format(round(progress.pace))
        text = state.get(model.state, progress.now)
        self.subtitle.say(f"{text}  ·  {pace}" if progress.pace > 1 else text)
        done, unit = exact(progress.copied_bytes).split(" ")
        self._done.setText(done)
        total = exact(progress.total_bytes or plan.estimate.bytes_to_copy)
        verb = tr("checked of {0}") if progress.phase == "verify" else tr("of {0}")
        self._of.setText(f"{unit} {verb.format(total)}")
        number, unit = rate(0 if model.state == "paused" else progress.rate_bytes_per_s)
        self._rate.setText(number)
        self._rate_unit.setText(unit)
        self._show_end_time()
        shares = progress.shares
        tags = tuple(d.tag if d else None for d in (self._desk.old_dock(), self._desk.new_dock()))
        by_source = {p.from_partition: shares.get(p.number, 0.0) for p in plan.layout.partitions if p.from_partition}
        old = filled(strata_of_survey(plan.source.survey, plan.left_behind), by_source)
        new = filled(strata_of_layout(plan.layout), shares)
        checked = progress.checked_share if progress.phase == "verify" else None
        self.fill.show_fill(old, new, (tags[0], tags[1]), checked, progress.celsius)
        size = plan.source.survey.drive.size_bytes
        place = progress.place_bytes if progress.phase == "copy" else 0
        self.soundings.show_points(size, progress.soundings, progress.lost, place)
        more = tr("how long each read took, by place on the old drive")
        if progress.lost_bytes:
            more = tr("{0} could not be read so far").format(exact(progress.lost_bytes))
        self._soundings_more.say(more)
        self.rates.show_points(progress.rates)
        self._now.say(progress.now)
        self._next.say("  ·  ".join(model.next_texts()) or tr("nothing more"))

    def _show_end_time(self) -> None:
        progress = self._model.progress
        left = progress.left_s
        if left is None or self._model.state == "paused":
            self._ends.setText(tr("paused") if self._model.state == "paused" else "–")
            self._left.setText("")
            return
        first = later(progress.started_wall, progress.time_s + left[0])
        last = later(progress.started_wall, progress.time_s + left[1])
        if first and last:
            self._ends.setText(tr("{0} and {1}").format(clock(first), clock(last)))
        self._left.setText(tr("{0} left").format(time_range(*left)))

    def _show_ended(self, plan: Plan) -> None:
        model, outcome = self._model, self._model.progress.outcome
        clear(self._end_facts)
        facts: list[tuple[str, str, str]] = []
        done = model.state == "done" and outcome is not None
        whole = 1.0 if done else 0.0
        shares = {p.number: model.progress.shares.get(p.number, whole) for p in plan.layout.partitions}
        if done:
            shares = dict.fromkeys(shares, 1.0)
        if done and outcome is not None:
            partial = outcome.outcome == "partial"
            self._end_title.setText(
                tr("Copied, but not all of it could be read") if partial else tr("Copied and checked")
            )
            self._end_more.setText(outcome.text)
            verified = int(outcome.figures.get("verified_bytes", 0))
            facts = [
                (
                    "good",
                    tr("{0} copied in {1}").format(both(outcome.copied_bytes), about(_seconds(outcome.figures))),
                    "",
                ),
                ("good", tr("{0} read back and compared").format(both(verified)), "")
                if verified
                else ("caution", tr("Nothing was read back."), tr("Check it with “neogenesis verify”.")),
                ("good", tr("The new table was written last, and read back."), ""),
                ("note", tr("Manifest checksum {0}").format(outcome.figures.get("manifest_hash", "")), ""),
            ]
            if partial:
                text = tr("{0} of the old drive could not be read.").format(both(outcome.lost_bytes))
                facts.insert(
                    0, ("stop", text, tr("They stand as zeros on the new drive and are listed in the dossier."))
                )
            parting = model.parting
            if parting is None:
                text = tr("Everything is on the new drive. Before it is pulled out, let it be switched off.")
                facts.append(("note", text, tr("Swap and first boot come next.")))
            else:
                facts.append(("good" if parting.powered_off else "note", parting.text, ""))
        else:
            mismatch = outcome is not None and outcome.outcome == "mismatch"
            title = tr("Stopped; it can go on from here") if model.can_resume else tr("Not done")
            self._end_title.setText(tr("What was read back is not what was written") if mismatch else title)
            fault = model.failure
            self._end_more.setText(fault.sentence() if fault else "")
            facts = [("good", tr("The old drive is untouched."), "")]
            progress = model.progress
            if model.can_resume and progress.phase == "copy" and progress.total_bytes:
                text = tr("{0} of {1} stand on the new drive, with their checksums.")
                facts.append(("good", text.format(both(progress.copied_bytes), both(progress.total_bytes)), ""))
            if not (outcome is not None and outcome.outcome == "refused"):
                facts.append(("note", tr("The new drive has no table yet, so no machine takes it for finished."), ""))
        for severity, text, remedy in facts:
            self._end_facts.addWidget(notice(severity, text, remedy))
        names = [
            tr("{0} of {1}  {2}").format(exact(lost), exact(size), path) for _, path, lost, size in model.progress.files
        ]
        self._names.setVisible(bool(names))
        self._names.setPlainText("\n".join(names))
        self.pull_out.setVisible(done and model.parting is None)
        self._resume_row.setVisible(not done)
        self.subtitle.say(self._target_name(plan))
        tags = tuple(d.tag if d else None for d in (self._desk.old_dock(), self._desk.new_dock()))
        by_source = {p.from_partition: shares.get(p.number, 0.0) for p in plan.layout.partitions if p.from_partition}
        old = filled(strata_of_survey(plan.source.survey, plan.left_behind), by_source)
        checked = 1.0 if done and outcome is not None and outcome.figures.get("verified_bytes") else None
        self.end_fill.show_fill(old, filled(strata_of_layout(plan.layout), shares), (tags[0], tags[1]), checked)

    def checks(self) -> list[Check]:
        plan = self._model.plan
        if plan is None:
            return []
        lost = [Check("stop", e.text, e.remedy) for e in self._model.progress.findings[-6:]]
        findings = [Check(f.severity, f.text, f.remedy) for f in plan.findings if f.severity != "note"]
        return [*lost, Check("good", tr("Old drive is sealed"), tr("It can only be read.")), *findings]


def _seconds(figures: dict[str, object]) -> float:
    value = figures.get("seconds", 0.0)
    return float(value) if isinstance(value, int | float) else 0.0
