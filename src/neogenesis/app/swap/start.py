"""Before anything is opened: the path of this job, what it asks for, and what may hurt."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QDialog, QFileDialog, QHBoxLayout, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import button, clear, label, native_keys, notice, row, scrolled, stack
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.swap.canvas import MachineCanvas
from neogenesis.app.theme.look import look
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.swap.guide import Guide, begun
from neogenesis.core.swap.numbers import numbers


class StartPage(QWidget):
    """`begin` starts the guide, `edit` opens the profile."""

    def __init__(self, desk: OpenJob, begin: Callable[[], object], edit: Callable[[], object]) -> None:
        super().__init__()
        self._desk, self._model, self._begin = desk, desk.swap, begin
        self.head = label("", "title", wrap=True)
        self._more = label("", "muted", wrap=True)
        self.canvas = MachineCanvas()
        self._lists = QVBoxLayout()
        self._lists.setSpacing(look().px(10))
        lists = QWidget()
        lists.setLayout(stack(self._lists, None))
        self._across: QHBoxLayout = row(self.canvas, scrolled(lists), gap=look().px(24))
        self._across.setStretch(0, 3)
        self._across.setStretch(1, 2)
        self.edit = button(tr("Steps and fasteners…"), edit, "", tr("Change the profile  Ctrl+Shift+Y"))
        self.learn = button("", self._learn, "", tr("Any key, or a foot pedal that sends one"))
        self.mat = button(tr("Paper mat…"), lambda: self.save_paper("mat"), "", tr("The tray on paper, true to size"))
        self.sheet = button(tr("Step sheet…"), lambda: self.save_paper("steps"), "", tr("For a second person"))
        self.label = button(tr("Drive label…"), lambda: self.save_paper("label"), "", tr("For the old drive"))
        papers = FlowRow(look().px(8))
        for widget in (self.edit, self.learn, self.mat, self.sheet, self.label):
            papers.addWidget(widget)
        body = stack(self.head, self._more, self._across, papers, gap=look().px(12))
        body.setStretch(2, 1)
        self.setLayout(body)

    def refresh(self) -> None:
        model, machine = self._model, self._model.machine
        clear(self._lists)
        pedal = self._desk.bench.pedal
        self.learn.setText(tr("Key: {0}").format(native_keys(pedal)) if pedal else tr("Learn a key…"))
        guide, fault = self._preview()
        for widget in (self.mat, self.sheet):
            widget.setEnabled(guide is not None)
        self.canvas.setVisible(guide is not None)
        self.canvas.show_guide(guide)
        if model.failure is not None:
            self._lists.addWidget(notice("stop", model.failure.text, model.failure.remedy))
        if fault:
            self._lists.addWidget(notice("stop", fault))
        if machine is None:
            self.head.setText(tr("The machine is not known yet"))
            self._more.setText(tr("Choose it at Intake (Alt+1), or write its steps down while you work."))
            return
        if guide is None:
            self.head.setText(tr("No steps are known of the {0}").format(machine.title))
            self._more.setText(tr("Write them down while you work: what was taken off, with which screws, and where."))
            return
        self.head.setText(
            tr("{0} fasteners, about {1} min").format(guide.path.pieces, max(1, round(guide.planned_s / 60)))
        )
        outline = machine.outline
        lies = tr("It lies {0}.").format(said(outline.lies)) if outline is not None and outline.lies else ""
        self._more.setText(f"{lies} {said(numbers().defers)}".strip())
        self._show_lists(guide)

    def _preview(self) -> tuple[Guide | None, str]:
        """What would be led through, or why not."""
        machine = self._model.machine
        if machine is None or not machine.steps:
            return None, ""
        try:
            return begun(machine, self._model.purposes, self._model.bays), ""
        except NeogenesisError as error:
            return None, error.sentence()

    def _show_lists(self, guide: Guide) -> None:
        self._lists.addWidget(label(tr("What may hurt"), "head"))
        for code in guide.path.cautions:
            caution = numbers().cautions[code]
            self._lists.addWidget(notice("caution", said(caution.title), caution.text))
        if guide.path.tools:
            self._lists.addWidget(label(tr("At hand"), "head"))
            self._lists.addWidget(label(", ".join(said(t) for t in guide.path.tools), wrap=True, copyable=True))
        machine = guide.record.machine
        seal = machine.openings.seal if machine.openings is not None else None
        if seal:
            text = tr("A seal: {0}. Ask before it is broken.").format(said(seal))
            self._lists.addWidget(notice("caution", text))

    def _learn(self) -> None:
        LearnKey(self, self._desk.bench.learn_pedal).open()

    def save_paper(self, which: str) -> None:
        """Ask where, and write it there as PDF."""
        name = f"{self._desk.ticket}-{which}.pdf"
        suggested = str(self._desk.dossier / name)
        path, _ = QFileDialog.getSaveFileName(self, tr("Save as PDF"), suggested, tr("PDF files (*.pdf)"))
        if path:
            self.write_paper(which, Path(path))

    def write_paper(self, which: str, path: Path) -> None:
        import neogenesis.app.swap.prints as prints

        guide, shop = self._preview()[0], self._desk.bench.shop
        try:
            if which == "label":
                prints.print_label(path, shop, self._desk)
            elif guide is not None and which == "mat":
                prints.print_mat(path, shop, guide)
            elif guide is not None:
                prints.print_steps(path, shop, guide)
        except NeogenesisError as error:
            self._lists.addWidget(notice("stop", error.text, error.remedy))
        else:
            self._desk.record("paper", f"Printed: {path.name}", file=str(path))


class LearnKey(QDialog):
    """Takes the next key that is pressed, whatever sends it; Escape leaves things as they are."""

    def __init__(self, parent: QWidget, learn: Callable[[str], object]) -> None:
        super().__init__(parent)
        self._learn = learn
        self.setWindowTitle(tr("Learn a key"))
        self.word = label(tr("Press the pedal or the key now."), "head", wrap=True)
        more = tr("It then does what Space does at Swap. A key that types text elsewhere goes on doing that there.")
        forget = button(tr("Only Space"), self._forget)
        self.setLayout(stack(self.word, label(more, "muted", wrap=True), row(None, forget), margin=look().px(22)))
        self.resize(look().px(420), look().px(150))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or event.key() in _MODIFIERS:
            return
        text = QKeySequence(event.keyCombination()).toString()
        if text == "Esc":
            self.reject()
        elif text:
            self._learn(text)
            self.accept()

    def _forget(self) -> None:
        self._learn("")
        self.accept()


_MODIFIERS = (0x01000020, 0x01000021, 0x01000022, 0x01000023, 0x01001103)
