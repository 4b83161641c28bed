"""What is asked beside the guide: what went wrong, which fastener is missing, and what else is wanted."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QSpinBox, QVBoxLayout, QWidget

from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.controls import Choice, button, clear, label, notice, row, stack
from neogenesis.app.swap.model import SwapModel
from neogenesis.app.swap.words import kind_text
from neogenesis.app.theme.look import look
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.swap.numbers import numbers
from neogenesis.core.swap.tray import kinds

_OUT_REASONS = (
    mark("was missing on arrival"),
    mark("stays in: its head is gone"),
    mark("this machine has fewer of them"),
)
_IN_REASONS = (
    mark("its thread is gone"),
    mark("lost, and replaced by another"),
    mark("lost, and the customer knows"),
    mark("stays out on purpose"),
)


class WrongSheet(QDialog):
    """The known mistakes of the step, each with how it shows; what is chosen is undone step by step on the board."""

    def __init__(self, parent: QWidget, model: SwapModel) -> None:
        super().__init__(parent)
        self._model = model
        self.setWindowTitle(tr("Something is wrong"))
        self.resize(look().px(640), look().px(460))
        self.list = QListWidget()
        self.list.setAccessibleName(tr("What is seen"))
        self.list.setWordWrap(True)
        self._about = QVBoxLayout()
        self.other = QLineEdit()
        self.other.setPlaceholderText(tr("something else: what is seen"))
        self.other.setAccessibleName(tr("Something else"))
        self.go = button(tr("Undo it step by step"), self._go, "main")
        self.tip = button(tr("Keep as a tip"), self._keep_tip, "", tr("Shown first at this step the next time"))
        self._said = label("", "good", wrap=True)
        guide = model.guide
        self._known = guide.mistakes() if guide is not None else ()
        for one in self._known:
            item = QListWidgetItem(said(one.shows))
            item.setData(Qt.ItemDataRole.UserRole, one.code)
            self.list.addItem(item)
        self.list.currentRowChanged.connect(self._show)
        self.list.itemActivated.connect(lambda _: self._go())
        foot = row(self._said, None, button(tr("Cancel"), self.reject), self.tip, self.go)
        body = stack(self.list, self._about, self.other, foot, gap=look().px(12), margin=look().px(18))
        body.setStretch(0, 1)
        self.setLayout(body)
        self.list.setCurrentRow(0 if self._known else -1)
        self.list.setFocus()

    def _code(self) -> str:
        item = self.list.currentItem()
        return str(item.data(Qt.ItemDataRole.UserRole)) if item is not None else ""

    def _show(self) -> None:
        clear(self._about)
        code = self._code()
        known = next((m for m in numbers().mistakes if m.code == code), None)
        if known is not None:
            self._about.addWidget(notice("note", known.usually))
        chosen = next((m for m in self._known if m.code == code), None)
        for n, text in enumerate(chosen.undo if chosen is not None else (), 1):
            self._about.addWidget(label(f"{n}  {said(text)}", wrap=True))
        self.tip.setEnabled(bool(code) and not code.startswith("tip:"))

    def _go(self) -> None:
        text = self.other.text().strip()
        try:
            if text:
                self._model.act("mistake", "other", 0, text)
            elif self._code():
                self._model.act("mistake", self._code())
            else:
                return
        except NeogenesisError as error:
            self._said.setText(said(error.sentence()))
            return
        self.accept()

    def _keep_tip(self) -> None:
        try:
            self._model.keep_tip(self._code())
        except NeogenesisError as error:
            self._said.setText(said(error.sentence()))
        else:
            self._said.setText(tr("Kept in the profile."))


class MissingSheet(QDialog):
    """Which fastener is not there, how many, and why."""

    def __init__(self, parent: QWidget, model: SwapModel, intake: IntakeModel) -> None:
        super().__init__(parent)
        self._model = model
        guide = model.guide
        self.setWindowTitle(tr("One is missing"))
        self.which, self.why, self.count = Choice(), Choice(), QSpinBox()
        self.which.setAccessibleName(tr("Which fastener"))
        self.count.setAccessibleName(tr("How many"))
        self.why.setAccessibleName(tr("Why"))
        self.why.setEditable(True)
        row_ = guide.row if guide is not None else None
        self.deed: str = "absent" if row_ is not None and row_.phase != "closing" else "lost"
        if guide is not None:
            known = kinds(guide.record.machine)
            lying = guide.left_over if self.deed == "lost" else ()
            groups = [(id_, whole - done) for id_, done, whole in guide.open_counts if whole > done] or list(lying)
            for id_, left in groups:
                self.which.addItem(kind_text(known[id_]), (id_, left))
        for text in _IN_REASONS if self.deed == "lost" else _OUT_REASONS:
            self.why.addItem(tr(text), text)
        self.which.currentIndexChanged.connect(lambda _: self._limit())
        self._fault = label("", "stop", wrap=True)
        noted = intake.intake.condition_note
        damage = [tr("Noted at Intake: {0}").format(noted)] if noted else []
        self.go = button(tr("Put it on record"), self._go, "main")
        grid = stack(
            label(tr("Which fastener"), "muted"),
            self.which,
            label(tr("How many"), "muted"),
            self.count,
            label(tr("Why"), "muted"),
            self.why,
            *(label(text, "small", wrap=True) for text in damage),
            self._fault,
            None,
            row(None, button(tr("Cancel"), self.reject), self.go),
            margin=look().px(18),
        )
        self.setLayout(grid)
        self.resize(look().px(480), look().px(330))
        self._limit()

    def _limit(self) -> None:
        held = self.which.currentData()
        self.count.setRange(1, held[1] if held else 1)
        self.go.setEnabled(held is not None)

    def _go(self) -> None:
        held, typed = self.which.currentData(), self.why.currentText().strip()
        known = self.why.findText(typed)
        text = str(self.why.itemData(known)) if known >= 0 else typed
        try:
            self._model.act(self.deed, held[0], self.count.value(), text)  # type: ignore[arg-type]
        except NeogenesisError as error:
            self._fault.setText(said(error.sentence()))
        else:
            self.accept()


class ExtrasSheet(QDialog):
    """What is cheap while it is open, with minutes and price; the customer is asked, the answer recorded."""

    def __init__(self, parent: QWidget, model: SwapModel, currency: str) -> None:
        super().__init__(parent)
        self._model, self._currency = model, currency
        self.setWindowTitle(tr("While it is open"))
        self.resize(look().px(640), look().px(420))
        self._rows = QVBoxLayout()
        self._rows.setSpacing(look().px(12))
        asked = tr("Ask the customer first. What is agreed goes onto the bill, and its cautions are shown.")
        more = label(asked, "muted", wrap=True)
        foot = row(None, button(tr("Close"), self.accept))
        self.setLayout(stack(more, self._rows, None, foot, gap=look().px(14), margin=look().px(18)))
        self._show()

    def _show(self) -> None:
        clear(self._rows)
        for extra in self._model.extras():
            price = f"{extra.price} {self._currency}".strip()
            words = stack(
                label(said(extra.title), "head", wrap=True), label(said(extra.why), "small", wrap=True), gap=2
            )
            figures = label(tr("{0} min, {1}").format(f"{extra.minutes:g}", price), "")
            yes = button(tr("Agreed"), lambda c=extra.code: self._answer("agree", c))
            no = button(tr("No"), lambda c=extra.code: self._answer("decline", c))
            line = row(words, figures, yes, no, gap=look().px(10))
            line.setStretch(0, 1)
            self._rows.addLayout(line)
            for code in extra.cautions:
                self._rows.addWidget(notice("caution", numbers().cautions[code].text))
        if not self._rows.count():
            self._rows.addWidget(label(tr("Everything was asked."), "muted"))

    def _answer(self, deed: str, code: str) -> None:
        self._model.act(deed, code)  # type: ignore[arg-type]
        self._show()
