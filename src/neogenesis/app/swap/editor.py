"""The steps and fasteners of a machine, written down: before, or while the machine lies open for the first time.

Every change can be undone. What cannot be true is said while it is typed, by field; only a profile without faults is
kept, and what stood there stays as a former version.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QKeySequence, QMouseEvent, QPainter, QPaintEvent, QShortcut
from PyQt6.QtWidgets import (
    QDialog,
    QFileDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QSizePolicy,
    QStackedWidget,
    QWidget,
)

from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.controls import button, label, row, scrolled, stack
from neogenesis.app.parts.form import ChoiceField, Field, Form, TextField
from neogenesis.app.swap.canvas import outline_in, paint_outline, place_in
from neogenesis.app.swap.model import SwapModel
from neogenesis.app.swap.pieces import paint_piece
from neogenesis.app.theme.look import look
from neogenesis.bench.register import allow_output
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.machine import Machine, read_machine
from neogenesis.core.machine.model import Fastener, Step
from neogenesis.core.record import known_only, save, to_json
from neogenesis.core.swap import step_faults
from neogenesis.core.swap.edit import (
    Draft,
    add_fastener,
    add_step,
    change_fastener,
    change_machine,
    change_step,
    move_step,
    place_piece,
    remove_fastener,
    remove_step,
)
from neogenesis.core.swap.tray import kinds, places

_DOINGS = {
    "remove": mark("take out"),
    "lift": mark("lift"),
    "unplug": mark("unplug"),
    "slide": mark("slide out"),
    "pry": mark("pry loose"),
    "drain": mark("drain"),
    "photograph": mark("photograph"),
    "check": mark("check"),
}
_FOR = {"open": mark("every opening"), "drive": mark("the drive"), "memory": mark("memory"), "": mark("everything")}
_STEP_SIZE = 0.01


def _words(text: str) -> tuple[str, ...]:
    return tuple(word.strip() for word in text.split(",") if word.strip())


def _number(text: str) -> float | None:
    from neogenesis.core.fit.quantity import parse_amount

    return parse_amount(text, "mm")


def _seconds(text: str) -> float | None:
    from neogenesis.core.fit.quantity import parse_amount

    return parse_amount(text, "s")


def _shown(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, list | tuple):
        return ", ".join(str(v) for v in value)
    return f"{value:g}" if isinstance(value, float) else str(value)


def _step_fields() -> list[Field]:
    bays = tr("only for this bay; empty for all")
    return [
        ChoiceField("do", tr("What is done"), [(k, tr(v)) for k, v in _DOINGS.items()]),
        TextField("what", tr("To what"), tr("such as: the screws of the cover; two are longer")),
        TextField("tool", tr("With"), "", shown=_shown),
        TextField(
            "fasteners", tr("Fasteners"), tr("their names, with commas; cover 2 for two of them"), _words, _shown
        ),
        ChoiceField("purpose", tr("Needed for"), [(k, tr(v)) for k, v in _FOR.items()]),
        TextField("bay", tr("Bay"), bays, shown=_shown),
        TextField("cautions", tr("Cautions"), tr("codes such as mains, lithium, esd"), _words, _shown),
        TextField("parts_off", tr("What comes off"), "", _words, _shown),
        TextField("needs", tr("After"), tr("steps or parts that must be off before"), _words, _shown),
        TextField("wait_s", tr("Then wait"), "", _seconds, _shown, unit="s"),
        TextField("back", tr("How it goes back"), tr("empty: the same in reverse"), shown=_shown),
        TextField("aids", tr("Which way round"), tr("codes such as notch, angle, ribbon"), _words, _shown),
    ]


def _fastener_fields() -> list[Field]:
    return [
        TextField("id", tr("Name")),
        TextField("count", tr("How many"), "", shown=_shown),
        TextField("head", tr("Head"), tr("such as PH0, T5, P5")),
        TextField("length_mm", tr("Length"), "", _number, _shown, unit="mm"),
        TextField("place", tr("Where")),
        ChoiceField("captive", tr("Captive"), [("", tr("no")), ("yes", tr("yes"))]),
        TextField("hidden_under", tr("Hidden under"), tr("foot, foil, sticker, seal"), shown=_shown),
        ChoiceField(
            "cover_reused", tr("That is used again"), [("", tr("not known")), ("yes", tr("yes")), ("no", tr("no"))]
        ),
        TextField("odd", tr("What sets it apart"), "", shown=_shown),
    ]


class ProfileEditor(QDialog):
    """Steps at the left, the machine with its fasteners in the middle, the chosen one as a form at the right."""

    def __init__(self, parent: QWidget, model: SwapModel) -> None:
        super().__init__(parent)
        self._model = model
        self.draft = Draft(model.blank_profile())
        self._filling = False
        self.setWindowTitle(tr("Steps and fasteners"))
        self.resize(look().px(1230), look().px(740))
        self.steps, self.groups = QListWidget(), QListWidget()
        self.steps.setAccessibleName(tr("Steps"))
        self.groups.setAccessibleName(tr("Fasteners"))
        for one in (self.steps, self.groups):
            one.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
            one.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            one.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.map = PlacesCanvas()
        self.step_form, self.fastener_form = Form(_step_fields()), Form(_fastener_fields())
        self.size_form = Form(
            [
                TextField("width_mm", tr("Width"), "", _number, _shown, unit="mm"),
                TextField("height_mm", tr("Depth"), "", _number, _shown, unit="mm"),
                TextField("lies", tr("It lies"), tr("on its lid, hinge away from you"), shown=_shown),
            ]
        )
        self._forms = QStackedWidget()
        for form in (self.step_form, self.fastener_form, self.size_form):
            for line in form.findChildren(QLineEdit):
                line.setMinimumWidth(look().px(180))  # beside two lists and a drawing
            self._forms.addWidget(scrolled(form))
        self._fault = label("", "stop", wrap=True, copyable=True)
        self.keep = button(tr("Keep"), self._keep, "main", tr("As the machine's profile  Ctrl+S"))
        tip = tr("The guide goes on with closing, everything counted out")
        self.lies_open = button(tr("Keep: it lies open now"), self._keep_open, "", tip)
        self.lies_open.setVisible(model.guide is None)
        self.undo = button(tr("Undo"), self._undo, "", tr("Take back the last change  Ctrl+Z"))
        self.redo = button(tr("Redo"), self._redo, "", tr("Do it again  Ctrl+Shift+Z"))
        self._build()
        for keys, do in (("Ctrl+Z", self._undo), ("Ctrl+Shift+Z", self._redo), ("Ctrl+S", self._keep)):
            QShortcut(QKeySequence(keys), self, do)
        self.show_draft()

    def _build(self) -> None:
        add_step_, add_group = button(tr("Add what was done"), self._add_step), button(tr("Add"), self._add_group)
        up, down = button(tr("Earlier"), lambda: self._move(-1)), button(tr("Later"), lambda: self._move(1))
        self._gone, self._group_gone = button(tr("Remove"), self._remove_step), button(tr("Remove"), self._remove_group)
        size = button(tr("Its size…"), lambda: self._forms.setCurrentIndex(2))
        share = button(tr("Share as a file…"), self._share)
        left = stack(
            label(tr("Steps, in their order"), "head"),
            self.steps,
            row(add_step_, up, down, self._gone),
            label(tr("Fasteners"), "head"),
            self.groups,
            row(add_group, self._group_gone, size, None),
        )
        left.setStretch(1, 3)
        left.setStretch(4, 2)
        hint = label(tr("Click where the next piece sits; arrow keys move the chosen one."), "small", wrap=True)
        middle = stack(self.map, hint)
        middle.setStretch(0, 1)
        across = row(gap=look().px(18))
        across.addLayout(left, 4)
        across.addLayout(middle, 5)
        across.addWidget(self._forms, 5)
        foot = row(self.undo, self.redo, share, None, button(tr("Cancel"), self.reject), self.lies_open, self.keep)
        body = stack(across, self._fault, foot, gap=look().px(12), margin=look().px(18))
        body.setStretch(0, 1)
        self.setLayout(body)
        self.steps.currentRowChanged.connect(lambda n: n >= 0 and not self._filling and self._choose_step(n))
        self.groups.currentRowChanged.connect(lambda n: n >= 0 and not self._filling and self._choose_group(n))
        self.steps.itemClicked.connect(lambda _: self._choose_step(self.steps.currentRow()))
        self.groups.itemClicked.connect(lambda _: self._choose_group(self.groups.currentRow()))
        self.step_form.edited.connect(self._step_edited)
        self.fastener_form.edited.connect(self._fastener_edited)
        self.size_form.edited.connect(self._size_edited)
        self.map.placed.connect(self._placed)
        self.map.moved.connect(self._moved)

    # Showing

    @property
    def machine(self) -> Machine:
        return self.draft.machine

    def show_draft(self) -> None:
        """Lists, map and faults as the draft has them; the forms stay as they are typed."""
        machine, self._filling = self.machine, True
        at, group = max(0, self.steps.currentRow()), max(0, self.groups.currentRow())
        _fill(self.steps, [f"{n}  {tr(_DOINGS[s.do])}: {said(s.what)}" for n, s in enumerate(machine.steps, 1)], at)
        _fill(self.groups, [f"{f.count} × {f.id}  {f.head}" for f in machine.fasteners], group)
        self._filling = False
        self.map.show_machine(machine, self._group())
        faults = [*self._form_faults(), *self._faults()]
        self._fault.setText("\n".join(said(f) for f in faults))
        self.keep.setEnabled(not faults and bool(machine.steps))
        self.lies_open.setEnabled(self.keep.isEnabled())
        self.undo.setEnabled(self.draft.undoing.can_undo)
        self.redo.setEnabled(self.draft.undoing.can_redo)

    def _form_faults(self) -> list[str]:
        form = (self.step_form, self.fastener_form, self.size_form)[self._forms.currentIndex()]
        return form.read()[1] if form.dirty else []

    def _faults(self) -> list[str]:
        try:
            read_machine(to_json(known_only(msgspec.to_builtins(self.machine))), "machine")
        except NeogenesisError as error:
            return [error.text]
        return [f"{fault}." for fault in step_faults(self.machine)]

    @property
    def fault(self) -> str:
        return self._fault.text()

    def _group(self) -> str:
        n = self.groups.currentRow()
        return self.machine.fasteners[n].id if 0 <= n < len(self.machine.fasteners) else ""

    def _choose_step(self, n: int) -> None:
        if not 0 <= n < len(self.machine.steps):
            return
        step, self._filling = self.machine.steps[n], True
        held = [h if isinstance(h, str) else f"{h.id} {h.count}" for h in step.fasteners]
        purpose = next((p for p in ("open", "drive", "memory") if p in step.purposes), "")
        values = {k: getattr(step, k) for k in ("do", "what", "tool", "bay", "cautions", "parts_off", "needs")}
        values |= {"fasteners": held, "purpose": purpose, "wait_s": step.wait_s, "back": step.back, "aids": step.aids}
        self.step_form.show_values(values)
        self._forms.setCurrentIndex(0)
        self._filling = False

    def _choose_group(self, n: int) -> None:
        if not 0 <= n < len(self.machine.fasteners):
            return
        group, self._filling = self.machine.fasteners[n], True
        flags = {None: "", True: "yes", False: "no"}
        values = {k: getattr(group, k) for k in ("id", "count", "head", "length_mm", "place", "hidden_under", "odd")}
        values |= {"captive": "yes" if group.captive else "", "cover_reused": flags[group.cover_reused]}
        self.fastener_form.show_values(values)
        self._forms.setCurrentIndex(1)
        self._filling = False
        self.map.show_machine(self.machine, group.id)

    # Changing

    def _change(self, machine: Machine) -> None:
        self.draft.change(machine)
        self.show_draft()

    def _add_step(self) -> None:
        at = self.steps.currentRow() + 1 if self.machine.steps else 0
        self._change(add_step(self.machine, at))
        self.steps.setCurrentRow(at)
        self._choose_step(at)
        self.step_form.fields["what"].widget.setFocus()

    def _remove_step(self) -> None:
        self._change(remove_step(self.machine, self.steps.currentRow()))
        self._choose_step(self.steps.currentRow())

    def _move(self, by: int) -> None:
        at = self.steps.currentRow()
        machine = move_step(self.machine, at, by)
        if machine != self.machine:
            self._change(machine)
            self.steps.setCurrentRow(at + by)

    def _add_group(self) -> None:
        self._change(add_fastener(self.machine))
        last = len(self.machine.fasteners) - 1
        self.groups.setCurrentRow(last)
        self._choose_group(last)
        self.fastener_form.fields["id"].widget.setFocus()

    def _remove_group(self) -> None:
        self._change(remove_fastener(self.machine, self._group()))

    def _step_edited(self) -> None:
        values, faults = self.step_form.read()
        at = self.steps.currentRow()
        if not self._filling and not faults and at >= 0:
            before, after = self.machine.steps[at], change_step(self.machine, at, values)
            self.draft.change(after, ("step", at, _differs(before, after.steps[at])))
        self.show_draft()

    def _fastener_edited(self) -> None:
        values, faults = self.fastener_form.read()
        group = self._group()
        if not self._filling and not faults and group:
            try:
                n = self.groups.currentRow()
                before, after = self.machine.fasteners[n], change_fastener(self.machine, group, values)
                self.draft.change(after, ("group", n, _differs(before, after.fasteners[n])))
            except NeogenesisError as error:
                self._fault.setText(said(error.sentence()))
                self.keep.setEnabled(False)
                return
        self.show_draft()

    def _size_edited(self) -> None:
        values, faults = self.size_form.read()
        if not self._filling and not faults and values.get("width_mm") and values.get("height_mm"):
            self.draft.change(change_machine(self.machine, values), ("size", 0))
        self.show_draft()

    def _placed(self, x: float, y: float) -> None:
        if self._group():
            self._change(place_piece(self.machine, self._group(), self.map.piece, x, y))
            self.map.next_piece()

    def _moved(self, dx: float, dy: float) -> None:
        group = self._group()
        if group:
            x, y = places(self.machine)[group][self.map.piece]
            moved = place_piece(self.machine, group, self.map.piece, x + dx, y + dy)
            self.draft.change(moved, ("move", self.map.piece))
            self.show_draft()

    def _undo(self) -> None:
        self.draft.undo()
        self._again()

    def _redo(self) -> None:
        self.draft.redo()
        self._again()

    def _again(self) -> None:
        self.show_draft()
        if self._forms.currentIndex() == 0:
            self._choose_step(self.steps.currentRow())
        elif self._forms.currentIndex() == 1:
            self._choose_group(self.groups.currentRow())

    # Keeping

    def _keep(self) -> None:
        if not self.keep.isEnabled():
            return
        try:
            self._model.keep_profile(self.machine)
        except NeogenesisError as error:
            self._fault.setText(said(error.sentence()))
        else:
            self.accept()

    def _keep_open(self) -> None:
        """As `_keep`, and the guide begins at closing."""
        self._keep()
        if self.result() == QDialog.DialogCode.Accepted:
            self._model.begin_open()

    def _share(self) -> None:
        name = f"{self.machine.title.replace(' ', '-').lower()}.machine.json"
        path, _ = QFileDialog.getSaveFileName(self, tr("Share as a file"), name, tr("Profiles (*.json)"))
        if path:
            self.share(Path(path))

    def share(self, path: Path) -> None:
        """Write the profile as it is now."""
        try:
            save(allow_output(path, "plan", force=True), self.machine)
        except NeogenesisError as error:
            self._fault.setText(said(error.sentence()))


class PlacesCanvas(QWidget):
    """The machine's outline with all fasteners; those of the chosen group are placed by click, moved by arrow keys."""

    placed = pyqtSignal(float, float)
    moved = pyqtSignal(float, float)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("Where the fasteners sit"))
        self._machine: Machine | None = None
        self._chosen = ""
        self.piece = 0

    def minimumSizeHint(self) -> QSize:
        return QSize(look().px(260), look().px(180))

    def show_machine(self, machine: Machine, chosen: str) -> None:
        if chosen != self._chosen:
            self.piece = 0
        self._machine, self._chosen = machine, chosen
        count = len(places(machine).get(chosen, ()))
        self.piece = min(self.piece, max(0, count - 1))
        self.update()

    def next_piece(self) -> None:
        count = len(places(self._machine).get(self._chosen, ())) if self._machine is not None else 0
        self.piece = (self.piece + 1) % count if count else 0
        self.update()

    def _outline(self) -> QRectF:
        assert self._machine is not None
        return outline_in(self._machine, QRectF(self.rect()).adjusted(8, 8, -8, -8))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._machine is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        outline = self._outline()
        paint_outline(painter, self._machine, outline, names=True)
        known = kinds(self._machine)
        for id_, spots in places(self._machine).items():
            for n, (x, y) in enumerate(spots):
                lit = id_ == self._chosen
                centre = place_in(outline, x, y)
                if lit and n == self.piece and self.hasFocus():
                    painter.setPen(Qt.PenStyle.NoPen)
                    painter.setBrush(look().colour("accent_soft"))
                    painter.drawEllipse(centre, look().px(16), look().px(16))
                state = "next" if lit and n == self.piece else "here" if lit else "in-machine"
                paint_piece(painter, known[id_], centre, look().px(7), state, tray=False)  # type: ignore[arg-type]

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._machine is None:
            return
        self.setFocus()
        outline, at = self._outline(), QPointF(event.position())
        x, y = (at.x() - outline.left()) / outline.width(), (at.y() - outline.top()) / outline.height()
        if 0 <= x <= 1 and 0 <= y <= 1:
            self.placed.emit(round(x, 3), round(y, 3))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        step = _STEP_SIZE * (5 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1)
        moves = {
            Qt.Key.Key_Left: (-step, 0.0),
            Qt.Key.Key_Right: (step, 0.0),
            Qt.Key.Key_Up: (0.0, -step),
            Qt.Key.Key_Down: (0.0, step),
        }
        if event.key() in moves:
            self.moved.emit(*moves[Qt.Key(event.key())])
        elif event.key() == Qt.Key.Key_Space:
            self.next_piece()
        else:
            super().keyPressEvent(event)


def _differs(one: Step | Fastener, other: Step | Fastener) -> tuple[str, ...]:
    """Which fields: letters typed into one of them are undone together."""
    return tuple(name for name in one.__struct_fields__ if getattr(one, name) != getattr(other, name))


def _fill(lines: QListWidget, texts: list[str], at: int) -> None:
    lines.clear()
    for text in texts:
        lines.addItem(QListWidgetItem(text))
    lines.setCurrentRow(min(at, len(texts) - 1))
