"""After a transfer: how it ended, what that means for the data, and the next step."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import button, clear, label, notice, row, stack, tail_field, tick
from neogenesis.app.parts.drafts import Subject, keep_draft
from neogenesis.app.parts.figures import LostFiles
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.parts.stop import Check
from neogenesis.app.parts.strata import filled, strata_of_layout, strata_of_survey
from neogenesis.app.theme.look import look
from neogenesis.app.transfer.canvas import FillCanvas
from neogenesis.app.transfer.model import WHICH
from neogenesis.app.words import about, both
from neogenesis.core.plan import Plan
from neogenesis.core.work import Event


class EndedPage(QWidget):
    """`begun` tells that the transfer goes on from here."""

    begun = pyqtSignal()

    def __init__(self, desk: OpenJob) -> None:
        super().__init__()
        self._desk, self._model = desk, desk.transfer
        self._title, self._more = label("", "title", wrap=True), label("", "", wrap=True, copyable=True)
        self._facts = QVBoxLayout()
        self._facts.setSpacing(look().px(8))
        self.tail = tail_field(tr("Last four characters of the new drive's serial"))
        keep_draft(desk.drafts, "tail again", self.tail)
        self._subject = Subject(desk.drafts, "tail again", self.tail)
        self.sentence = label("", "small", wrap=True, copyable=True)
        self.tail.textChanged.connect(lambda _: self.show_start())
        self._ask = label("")
        self.resume = button("", self._resume, "write")
        self.unused, unused = tick(tr("Nobody used the old drive since: do not compare it with what was copied"))
        self.unused_row = QWidget()
        self.unused_row.setLayout(unused)
        self.resume_row = QWidget()
        line = FlowRow(look().px(12))
        line.group(self._ask, self.tail)
        line.addWidget(self.resume)
        self.resume_row.setLayout(line)
        self.fill, self.files = FillCanvas(), LostFiles()
        self.files.setMaximumHeight(look().px(180))
        tip = tr("Write out everything and switch the drive off")
        self.pull_out = button(tr("Make it safe to pull out"), self._model.part, "main", tip)
        words = stack(self._title, self._more, gap=8)
        words.addSpacing(look().px(8))
        words.addLayout(self._facts)
        words.addWidget(self.files)
        words.addStretch(1)
        words.addLayout(row(None, self.pull_out))
        columns = row(gap=look().px(26))
        columns.addWidget(self.fill)
        columns.addLayout(words, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(columns, 1)
        layout.addWidget(self.sentence)
        layout.addWidget(self.unused_row)
        layout.addWidget(self.resume_row)

    def main_widget(self) -> QWidget:
        return self.tail if self.resume_row.isVisibleTo(self) else self.pull_out

    def _resume(self) -> None:
        if self.resume.isEnabled():
            if self._model.start(self.tail.text().strip(), self._model.verify, self.unused.isChecked()):
                self.tail.clear()
                self.unused.setChecked(False)
                self.begun.emit()
            else:
                self.show_start()

    def show_end(self, plan: Plan) -> None:
        model, outcome = self._model, self._model.progress.outcome
        done = model.state == "done" and outcome is not None
        facts = self._success(outcome, plan.intent == "fresh") if done and outcome is not None else self._failure()
        clear(self._facts)
        for fact in facts:
            self._facts.addWidget(notice(fact.severity, fact.text, fact.remedy))
        self.files.show_files(model.progress.files)
        self.files.setVisible(bool(model.progress.files))
        self.pull_out.setVisible(done and model.parting is None)
        self.resume_row.setVisible(not done)
        self.sentence.setVisible(not done)
        shares = {p.number: 1.0 if done else model.progress.shares.get(p.number, 0.0) for p in plan.layout.partitions}
        by_source = {p.from_partition: shares[p.number] for p in plan.layout.partitions if p.from_partition}
        old = filled(strata_of_survey(plan.source.survey, plan.left_behind), by_source)
        old_tag, new_tag = (dock.tag if dock else None for dock in (self._desk.old_dock(), self._desk.new_dock()))
        checked = 1.0 if done and outcome is not None and outcome.figures.get("verified_bytes") else None
        self.fill.show_fill(old, filled(strata_of_layout(plan.layout), shares), (old_tag, new_tag), checked)
        self.show_start()

    def _success(self, outcome: Event, fresh: bool) -> list[Check]:
        partial = outcome.outcome == "partial"
        whole = tr("Made and checked") if fresh else tr("Copied and checked")
        if not outcome.figures.get("verified_bytes"):
            whole = tr("Made, and nothing read back") if fresh else tr("Copied, and nothing read back")
        self._title.setText(tr("Copied, but not all of it could be read") if partial else whole)
        self._more.setText(said(outcome.text))
        verified = int(outcome.figures.get("verified_bytes", 0))
        facts = []
        if partial:
            text = tr("{0} of the old drive could not be read.").format(both(outcome.lost_bytes))
            remedy = tr("They stand as zeros on the new drive and are listed in the dossier.")
            facts.append(Check("stop", text, remedy))
        words = tr("{0} written in {1}") if fresh else tr("{0} copied in {1}")
        copied = words.format(both(outcome.copied_bytes), about(_seconds(outcome.figures)))
        facts.append(Check("good", copied))
        if verified:
            facts.append(Check("good", tr("{0} read back and compared").format(both(verified))))
        else:
            facts.append(Check("caution", tr("Nothing was read back."), tr("Check it with “neogenesis verify”.")))
        facts.append(Check("good", tr("The new table was written last, and read back.")))
        facts.append(
            Check("note", tr("Manifest checksum {0}").format(str(outcome.figures.get("manifest_hash", ""))[:16] + "…"))
        )
        parting = self._model.parting
        if parting is None:
            text = tr("Everything is on the new drive. Before it is pulled out, let it be switched off.")
            facts.append(Check("note", text, tr("Swap and first boot come next.")))
        else:
            facts.append(Check("good" if parting.powered_off else "note", parting.text))
        return facts

    def _failure(self) -> list[Check]:
        model, outcome, progress = self._model, self._model.progress.outcome, self._model.progress
        mismatch = outcome is not None and outcome.outcome == "mismatch"
        title = tr("Stopped; it can go on from here") if model.can_resume else tr("Not done")
        self._title.setText(tr("What was read back is not what was written") if mismatch else title)
        asked = outcome is not None and outcome.outcome == "stopped" and model.can_resume
        fault = model.failure
        more = said(fault.remedy if asked else fault.sentence()) if fault else ""
        self._more.setText(more)  # what was asked for needs no reason
        facts = [Check("good", tr("The old drive is untouched."))]
        if model.can_resume and progress.phase == "copy" and progress.total_bytes:
            text = tr("{0} of {1} stand on the new drive, with their checksums.")
            facts.append(Check("good", text.format(both(progress.copied_bytes), both(progress.total_bytes))))
        if not (outcome is not None and outcome.outcome == "refused"):
            facts.append(Check("note", tr("The new drive has no table yet, so no machine takes it for finished.")))
        for which, dock in model.needed_docks():
            if dock is None or not dock.present:
                text = tr("The {0} drive is not connected.").format(tr(WHICH[which]))
                facts.append(
                    Check("caution", text, tr("Put it into a dock; it is recognised, and the copy can go on."))
                )
        return facts

    def show_start(self) -> None:
        model = self._model
        self._subject.be(model.subject)
        self._ask.setText(model.ask)
        why = model.why_not_now
        self.sentence.setText(why or said(model.sentence))
        text = tr("Go on onto {0}") if model.can_resume else tr("Start over onto {0}")
        self.resume.setText(text.format(model.target_name))
        copies = model.plan is not None and model.plan.intent != "fresh"
        self.unused_row.setVisible(copies and model.can_resume)
        self.resume.setEnabled(model.may_write and model.tail_fits(self.tail.text().strip()))


def _seconds(figures: dict[str, object]) -> float:
    value = figures.get("seconds", 0.0)
    return float(value) if isinstance(value, int | float) else 0.0
