"""The Handover stop."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QGridLayout, QLineEdit, QSpinBox, QStackedWidget, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.handover.report_print import write_report
from neogenesis.app.language import said, tr
from neogenesis.app.parts.bars import BeforeAfter
from neogenesis.app.parts.chips import Chips
from neogenesis.app.parts.controls import button, clear, label, mono, read_through, row, stack
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.parts.stop import Check, StopView
from neogenesis.app.theme.look import look
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job import Report
from neogenesis.core.job.old_drive import End


class HandoverView(StopView):
    """What the customer is told, how much faster the machine is, and the end of the job."""

    def __init__(self, desk: OpenJob, parent: QWidget) -> None:
        super().__init__(tr("Handover"), parent)
        self._desk, self._model = desk, desk.handover
        self._sections = QVBoxLayout()
        self._sections.setSpacing(look().px(6))
        inner = QWidget()
        box = QVBoxLayout(inner)
        box.setContentsMargins(0, 0, look().px(8), 0)
        box.addLayout(self._sections)
        box.addStretch(1)
        scroll = read_through(inner, tr("What the customer is told"))
        self._empty = label("", "head", wrap=True)
        empty = QWidget()
        empty.setLayout(stack(None, self._empty, None))
        self._pages = QStackedWidget()
        self._pages.addWidget(scroll)
        self._pages.addWidget(empty)
        self.bars = BeforeAfter()
        self.before, self.after = QLineEdit(), QLineEdit()
        for field, key in ((self.before, "before_s"), (self.after, "after_s")):
            field.setText(desk.drafts.get(key, ""))
            field.textEdited.connect(lambda text, key=key: desk.drafts.__setitem__(key, text))
        self.runs = QSpinBox()
        self.runs.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.runs.setRange(1, 99)
        self.runs.setAccessibleName(tr("Number of runs"))
        self.runs.setValue(3)
        for field, name in ((self.before, tr("before")), (self.after, tr("after"))):
            field.setFixedWidth(look().px(72))
            field.setPlaceholderText("s")
            field.setAccessibleName(tr("Start of the machine {0}, in seconds").format(name))
            field.returnPressed.connect(self._measure)
        self.hands = QLineEdit(desk.drafts.get("hands", ""))
        self.hands.textEdited.connect(lambda text: desk.drafts.__setitem__("hands", text))
        self.hands.setFixedWidth(look().px(72))
        self.hands.setPlaceholderText(tr("min"))
        self.hands.setAccessibleName(tr("Work with hands on it, in minutes"))
        self.hands.returnPressed.connect(self._measure)
        self.record = button(tr("Record"), self._measure, "", tr("Write the times into the logbook"))
        measure = FlowRow(look().px(8))
        measure.group(label(tr("before"), "muted"), self.before)
        measure.group(label(tr("after"), "muted"), self.after)
        measure.group(label(tr("median of"), "muted"), self.runs, label(tr("runs"), "muted"))
        measure.group(label(tr("hands on it"), "muted"), self.hands)
        measure.addWidget(self.record)
        beside = QWidget()
        side = stack(label(tr("Start of the machine"), "head"), self.bars, gap=10)
        side.addLayout(measure)
        self._back_title = label(tr("Goes back with it"), "head")
        self.back = Chips(tr("Goes back with the machine"), ())
        self.back.switched.connect(lambda what: self._model.give_back(what, what in self.back.chosen))
        self.deed = QLineEdit(desk.drafts.get("deed", ""))
        self.deed.textEdited.connect(lambda text: desk.drafts.__setitem__("deed", text))
        self.deed.setPlaceholderText(tr("What else was done, then Return"))
        self.deed.setAccessibleName(tr("Something else that was done, for the customer's report"))
        self.deed.returnPressed.connect(self._tell)
        side.addSpacing(look().px(10))
        side.addWidget(self.deed)
        side.addSpacing(look().px(10))
        side.addWidget(self._back_title)
        side.addWidget(self.back)
        side.addStretch(1)
        beside.setLayout(side)
        self._said = label("", "small", wrap=True, copyable=True)
        self.open = button(tr("Open folder"), self._open_folder, "", tr("The job's dossier, in open formats"))
        self.print = button(tr("Write report"), self.write_report, "", tr("PDF for the customer  Ctrl+R"))
        self.close_job = button(tr("Hand over"), self._model.hand_over, "main", tr("Close the job; its records stay"))
        columns = row(gap=look().px(26))
        columns.addWidget(self._pages, 1)
        aside = read_through(beside, tr("Start of the machine"))
        aside.setFixedWidth(look().px(258))
        columns.addWidget(aside)
        self.body.addLayout(columns, 1)
        tip = tr("The old drive that stayed here")
        self.returned = button(tr("Old drive given back"), lambda: self._end_drive("returned"), "", tip)
        self.wiped = button(tr("Old drive wiped"), lambda: self._end_drive("wiped"), "", tip)
        foot = FlowRow(look().px(10), at_right=True)
        for widget in (self.returned, self.wiped, self.open, self.print, self.close_job):
            foot.addWidget(widget)
        self.body.addWidget(self._said)
        self.body.addLayout(foot)
        self._shown: Report | None = None
        self._model.changed.connect(self.refresh)

    def enter(self) -> None:
        self.refresh()

    def main_action(self) -> None:
        self.print.click()

    def main_widget(self) -> QWidget | None:
        return self.print

    def refresh(self) -> None:
        model = self._model
        model.refresh()
        report, closed = model.report, self._desk.job.closed
        self.subtitle.say(tr("Handed over") if closed else tr("What the customer is told"))
        self._pages.setCurrentIndex(0 if report else 1)
        fault = model.failure
        nothing = tr("The report is made from what was done. The work comes first: Alt+6.")
        self._empty.setText(said(fault.sentence()) if fault else nothing)
        if report is not None and report != self._shown:
            self._show(report)
        self._shown = report
        improvement = model.improvement
        self.bars.setVisible(improvement is not None)
        if improvement is not None:
            self.bars.show_improvement(improvement)
        for field, which in ((self.before, "before_s"), (self.after, "after_s")):
            value = model.measured(which)
            if value is not None and not field.hasFocus() and which not in self._desk.drafts:
                field.setText(f"{value:g}")
            field.setEnabled(not closed)
        self.runs.setEnabled(not closed)
        self.hands.setEnabled(not closed)
        self.record.setEnabled(not closed)
        self.deed.setEnabled(not closed)
        came = model.came_with
        self._back_title.setVisible(bool(came))
        self.back.offer([(b.what, b.what) for b in came])
        self.back.show_chosen([b.what for b in came if b.back])
        self.back.setEnabled(not closed)
        self.print.setEnabled(self.can_report())
        self.close_job.setEnabled(report is not None and not closed)
        kept = model.kept_drive if closed else None
        for widget in (self.returned, self.wiped):
            widget.setVisible(kept is not None and not kept.ended)
        self.close_job.setText(tr("Handed over") if closed else tr("Hand over"))

    def _show(self, report: Report) -> None:
        clear(self._sections)
        self._sections.addWidget(label(said(report.title), "head", copyable=True))
        self._sections.addWidget(label(said(report.subtitle), "small", copyable=True))
        for section in report.sections:
            self._sections.addSpacing(look().px(6))
            self._sections.addWidget(label(said(section.heading), "head"))
            for sentence in section.sentences:
                self._sections.addWidget(label(said(sentence), wrap=True, copyable=True))
            if section.rows:
                grid = QGridLayout()
                grid.setHorizontalSpacing(look().px(16))
                grid.setVerticalSpacing(look().px(4))
                for index, (name, value) in enumerate(section.rows):
                    grid.addWidget(label(said(name), "muted", wrap=True), index, 0, Qt.AlignmentFlag.AlignTop)
                    shown = _digest(value) if len(value) == 64 else label(said(value), wrap=True, copyable=True)
                    grid.addWidget(shown, index, 1)
                grid.setColumnStretch(0, 2)
                grid.setColumnStretch(1, 3)
                self._sections.addLayout(grid)

    def _measure(self) -> None:
        values = []
        for field in (self.before, self.after, self.hands):
            text = field.text().strip().replace(",", ".").rstrip("smin ")
            try:
                values.append(float(text) if text else None)
            except ValueError:
                self._said.setText(tr("“{0}” is not a number of seconds.").format(field.text()))
                return
        if any(v is not None and not 0 < v < 86_400 for v in values):
            self._said.setText(tr("A start takes more than 0 seconds and less than a day."))
            return
        self._said.setText("")
        hands = values[2]
        self._model.measure(values[0], values[1], self.runs.value(), None if hands is None else 60 * hands)

    def _tell(self) -> None:
        self._model.tell(self.deed.text())
        self.deed.clear()
        self._desk.drafts.pop("deed", None)

    def _end_drive(self, how: End) -> None:
        try:
            self._model.end_drive(how)
        except NeogenesisError as error:
            self._said.setText(said(error.sentence()))
        else:
            self._said.setText("")
            self.refresh()

    def can_report(self) -> bool:
        return self._model.report is not None

    def write_report(self) -> None:
        report, plan = self._model.report, self._desk.plan.written
        if report is None:
            return
        try:
            write_report(
                report, plan, Path(self._model.pdf_path), Path(self._model.picture_path), self._desk.bench.shop
            )
        except NeogenesisError as error:
            self._said.setText(said(error.sentence()))
            return
        self._said.setText(tr("Written to {0}").format(self._model.pdf_path))
        self._model.printed(self._model.pdf_path)

    def _open_folder(self) -> None:
        folder = str(self._desk.dossier)
        self._said.setText(folder)
        QDesktopServices.openUrl(QUrl.fromLocalFile(folder))

    def checks(self) -> list[Check]:
        broken = self._desk.bench.store.broken_entry(self._desk.ticket)
        checks = [
            Check("good", tr("The logbook's chain of hashes holds"))
            if broken is None
            else Check("stop", tr("Logbook entry {0} was changed after it was written").format(broken))
        ]
        if self._model.report is not None and self._desk.plan.written is not None:
            checks.append(Check("good", tr("The manifest is the one that the transfer wrote")))
        checks += [
            Check("caution", tr("Not looked at yet: {0}").format(said(one.text).rstrip(".")))
            for one in self._desk.first_boot.promised()
            if not self._desk.job.closed
        ]
        missing = [b.what for b in self._model.came_with if not b.back]
        if missing:
            checks.append(Check("caution", tr("Still to be given back: {0}").format(", ".join(missing))))
        if not self._desk.job.closed and self._model.has_freed_drive:
            checks.append(Check("note", tr("The old drive goes back, unchanged")))
        return checks


def _digest(value: str) -> QWidget:
    """A checksum on two lines, copyable."""
    return mono("\n".join(value[at : at + 16] for at in range(0, len(value), 16)))
