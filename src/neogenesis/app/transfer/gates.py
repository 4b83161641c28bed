"""Before a transfer: what must hold, what will be lost, what will be done, and the confirmation."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.controls import Choice, button, clear, label, notice, scrolled, tail_field, tick
from neogenesis.app.parts.drafts import Subject, keep_draft
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.parts.stop import Check
from neogenesis.app.plan.model import CONFIRM
from neogenesis.app.theme.look import look
from neogenesis.app.transfer.model import WHICH
from neogenesis.app.words import exact, nominal, time_range
from neogenesis.core.plan import Plan
from neogenesis.core.transfer import Verify

_VERIFY: tuple[tuple[Verify, str], ...] = (
    ("full", mark("read everything back")),
    ("sample", mark("read a sample back")),
    ("none", mark("do not read back")),
)


class GatesPage(QWidget):
    """`begun` tells that the transfer was started from here; `keep_asked` that something else is wanted."""

    begun = pyqtSignal()
    keep_asked = pyqtSignal()

    def __init__(self, desk: OpenJob) -> None:
        super().__init__()
        self._desk, self._model = desk, desk.transfer
        self.confirms: dict[str, QCheckBox] = {}
        self.verify = Choice()
        for key, text in _VERIFY:
            self.verify.addItem(tr(text), key)
        self.verify.setAccessibleName(tr("How the copy is checked"))
        self.verify.currentIndexChanged.connect(lambda _: self._show_estimate())
        self._estimate = label("", "muted")
        self.tail = tail_field(tr("Last four characters of the new drive's serial"))
        keep_draft(desk.drafts, "tail", self.tail)
        self._subject = Subject(desk.drafts, "tail", self.tail)
        self.tail.textChanged.connect(lambda _: self.show_start())
        self.tail.returnPressed.connect(lambda: self.start.setFocus() if self.start.isEnabled() else None)
        self._ask, self._closed_why = label(""), label("", "stop", wrap=True)
        self.sentence = label("", "", wrap=True, copyable=True)
        self.start = button("", self._start, "write")
        tip = tr("Image, rescue, restore, or copy files out  Ctrl+I")
        other = button(tr("Something else…"), self.keep_asked.emit, "", tip)
        checking = FlowRow(look().px(12))
        checking.group(label(tr("After the copy"), "muted"), self.verify)
        checking.addWidget(self._estimate)
        checking.addWidget(other)
        writing = FlowRow(look().px(12))
        writing.group(self._ask, self.tail)
        writing.addWidget(self.start)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(look().px(12))
        layout.addWidget(scrolled(self._lists()), 1)
        layout.addLayout(checking)
        layout.addWidget(self._closed_why)
        layout.addWidget(self.sentence)
        layout.addLayout(writing)

    def _lists(self) -> QWidget:
        self._gates, self._loss, self._steps = QVBoxLayout(), QVBoxLayout(), QGridLayout()
        self._gates.setSpacing(look().px(10))
        self._loss.setSpacing(look().px(6))
        self._steps.setVerticalSpacing(look().px(5))
        self._steps.setHorizontalSpacing(look().px(10))
        self._steps.setColumnStretch(1, 1)
        inner = QWidget()
        box = QVBoxLayout(inner)
        box.setContentsMargins(0, 0, look().px(8), 0)
        box.setSpacing(look().px(14))
        for title, part in (
            (tr("What must hold before anything is written"), self._gates),
            (tr("What will be lost on the new drive"), self._loss),
            (tr("What will be done, in this order"), self._steps),
        ):
            box.addWidget(label(title, "head"))
            box.addLayout(part)
            box.addSpacing(look().px(6))
        box.addStretch(1)
        return inner

    def _start(self) -> None:
        if self.start.isEnabled():
            if self._model.start(self.tail.text().strip(), self.verify.currentData()):
                self.tail.clear()
                self.begun.emit()
            else:
                self.show_start()

    def show_plan(self, plan: Plan) -> None:
        clear(self._gates)
        for check in self._all_gates(plan):
            self._gates.addWidget(notice(check.severity, check.text, check.remedy))
        self.confirms = {}
        for text in self._desk.plan.to_confirm(plan):
            self._gates.addLayout(self._to_confirm(text))
        clear(self._loss)
        for item in plan.target.holds:
            self._loss.addWidget(notice("stop", item))
        if not plan.target.holds:
            self._loss.addWidget(notice("good", tr("Nothing: it holds no table and no volume.")))
        clear(self._steps)
        for index, operation in enumerate(plan.operations):
            size = exact(operation.bytes) if operation.kind == "copy" else ""
            self._steps.addWidget(label(str(index + 1), "muted"), index, 0)
            self._steps.addWidget(label(said(operation.text)), index, 1)
            self._steps.addWidget(label(size, "muted"), index, 2, Qt.AlignmentFlag.AlignRight)
        self._show_estimate()
        self.show_start()

    def _to_confirm(self, text: str) -> QHBoxLayout:
        """A gate that is opened by somebody who has looked."""
        box, line = tick(said(text))
        box.setChecked(text in self._desk.plan.confirmed)
        box.setToolTip(tr("Look, then tick it"))
        box.clicked.connect(lambda on: self._desk.plan.confirm(text, on))
        self.confirms[text] = box
        return line

    def _all_gates(self, plan: Plan) -> list[Check]:
        """The plan's gates, and those that only the bench can tell."""
        checks = [
            Check("good" if g.open else "stop", g.text, g.remedy)
            for g in self._desk.plan.gates_of(plan)
            if g.code not in ("target-holds", CONFIRM)
        ]
        stale = self._desk.plan.out_of_date
        if stale:
            checks.append(Check("stop", stale, tr("Make a plan for the drives of this job: Alt+5.")))
        saved = self._desk.plan.reads_from
        if saved is not None:
            checks.append(Check("note", tr("Read from what was saved: {0}").format(Path(saved.place).name)))
        for which, dock in self._model.needed_docks():
            name = tr(WHICH[which])
            here = dock is not None and dock.present
            text = tr("The {0} drive is connected.") if here else tr("The {0} drive is not connected.")
            remedy = "" if here else tr("Put it into a dock; it is recognised.")
            checks.append(Check("good" if here else "stop", text.format(name), remedy))
        return sorted(checks, key=lambda c: c.severity != "stop")

    def _show_estimate(self) -> None:
        estimate = self._model.estimate_for(self.verify.currentData())
        if estimate is not None:
            self._estimate.setText(tr("takes {0}").format(time_range(estimate.seconds_p10, estimate.seconds_p90)))

    def show_start(self) -> None:
        """Whether it may begin, and the words for that."""
        model, plan = self._model, self._model.plan
        if plan is None:
            return
        self._subject.be(model.subject)
        self._ask.setText(model.ask)
        self.sentence.setText(said(model.sentence))
        words = tr("Write {0} onto {1}") if plan.intent == "fresh" else tr("Copy {0} onto {1}")
        self.start.setText(words.format(nominal(plan.estimate.bytes_to_copy), model.target_name))
        self.start.setEnabled(model.may_write and model.tail_fits(self.tail.text().strip()))
        closed = [said(g.text) for g in self._desk.plan.gates_of(plan) if not g.open] + list(
            filter(None, [self._desk.plan.out_of_date, model.why_not_now])
        )
        if model.failure is not None and model.state == "ready":
            closed.append(said(model.failure.sentence()))
        self._closed_why.setText(" ".join(closed))
        self._closed_why.setVisible(bool(closed))
