"""Who brings what: the first part of the intake's page, found again from earlier jobs and machine profiles."""

from __future__ import annotations

from PyQt6.QtCore import QStringListModel, QTimer
from PyQt6.QtWidgets import QCompleter, QGridLayout, QWidget

from neogenesis.app.intake.lines import Line, Part
from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.language import mark, said, tr, trn
from neogenesis.app.parts.chips import Chips
from neogenesis.app.parts.controls import button, label, row, stack
from neogenesis.app.theme.look import look
from neogenesis.core.job import Job, stop_titled
from neogenesis.core.machine import Machine


class WhoPart(Part):
    """Customer and machine, found again where they were here before."""

    def __init__(self, model: IntakeModel) -> None:
        super().__init__("who", tr("Who and what"), tr("who"))
        self._model = model
        self.customer = Line(
            tr("Customer"), tr("name, number or an earlier ticket"), lambda: model.intake.customer, self._typed
        )
        self.contact = Line(
            tr("Reached by"), tr("telephone or mail"), lambda: model.intake.contact, lambda t: model.change(contact=t)
        )
        self.make = Line(
            tr("Make"), tr("from the plate"), lambda: model.intake.plate.make, lambda t: self._plate(make=t)
        )
        self.model = Line(
            tr("Exact model"), tr("from the plate"), lambda: model.intake.plate.model, lambda t: self._plate(model=t)
        )
        self.serial = Line(
            tr("Serial of the machine"),
            tr("from the plate"),
            lambda: model.intake.plate.serial,
            lambda t: model.plate(serial=t),
        )
        self._names = QStringListModel(self)
        self._by_line: dict[str, tuple[str, str]] = {}
        completer = QCompleter(self._names, self)
        completer.setCompletionMode(QCompleter.CompletionMode.UnfilteredPopupCompletion)
        completer.activated[str].connect(self._chosen)
        self.customer.setCompleter(completer)
        self._earlier, self._known = label("", "small", wrap=True), label("", "small", wrap=True)
        self._which = Chips(tr("Which machine it is"), (), one=True)
        self._which.switched.connect(model.choose_machine)
        self.keep = button(tr("Keep as a new machine"), self._keep, "", tr("Its profile is found again by its plate"))
        self.form = QWidget()
        grid = QGridLayout(self.form)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(look().px(10))
        grid.setVerticalSpacing(look().px(4))
        grid.addWidget(label(tr("Customer"), "muted"), 0, 0)
        grid.addWidget(self.customer, 1, 0, 1, 2)
        grid.addWidget(label(tr("Reached by"), "muted"), 0, 2)
        grid.addWidget(self.contact, 1, 2)
        for column, (title, line) in enumerate(
            ((tr("Make"), self.make), (tr("Exact model"), self.model), (tr("Serial"), self.serial))
        ):
            grid.addWidget(label(title, "muted"), 2, column)
            grid.addWidget(line, 3, column)
        self._name, self._plate_line = label("", "head", copyable=True), label("", copyable=True)
        self.change = button(tr("Change"), self.open_form, "plain", tr("Customer, number, make, model and serial"))
        self.summary = QWidget()
        self.summary.setLayout(
            row(stack(row(self._name, None), row(self._plate_line, None), gap=4), self.change, gap=12)
        )
        self._opened = False
        self.body.addWidget(self.summary)
        self.body.addWidget(self.form)
        for fault in (self.customer.fault, self.contact.fault, self.serial.fault):
            self.body.addWidget(fault)
        self.body.addWidget(self._earlier)
        self.body.addWidget(self._which)
        self.body.addLayout(row(self._known, self.keep, gap=12))
        self.fields = {
            "customer": self.customer,
            "contact": self.contact,
            "machine": self.make,
            "two-machines": self._which,
            "serial": self.serial,
        }
        self.refreshers = [w.refresh for w in (self.customer, self.contact, self.make, self.model, self.serial)]
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self._show_earlier)
        self.refreshers += [self._later.start, self._show_machine, self._show_summary]

    def open_form(self) -> None:
        """The lines instead of their summary."""
        self._opened = True
        self._show_summary()
        self.customer.setFocus()

    def take_keyboard(self, code: str) -> QWidget | None:
        self._opened = True
        self._show_summary()
        return super().take_keyboard(code)

    def fold(self) -> None:
        """Only a summary, if everything is known."""
        self._opened = False
        self._show_summary()

    def _show_summary(self) -> None:
        intake = self._model.intake
        known = not any(a.code in self.fields for a in self._model.asks)
        folded = known and not self._opened and not self.has_keyboard()
        self.summary.setVisible(folded)
        self.form.setVisible(not folded)
        self._name.setText(f"{intake.customer}  ·  {intake.contact}")
        self._plate_line.setText(tr("{0}, serial {1}").format(intake.plate.title, intake.plate.serial))

    def has_keyboard(self) -> bool:
        return any(line.hasFocus() for line in (self.customer, self.contact, self.make, self.model, self.serial))

    def _typed(self, text: str) -> None:
        self._model.change(customer=text)
        found = self._model.likely(text)
        self._by_line = {f"{c.name}  ·  {c.contact}" if c.contact else c.name: (c.name, c.contact) for c in found[:8]}
        self._names.setStringList(list(self._by_line))

    def _chosen(self, line: str) -> None:
        name, contact = self._by_line.get(line, (line, ""))
        self.customer.setText(name)
        self._model.change(customer=name, contact=contact or self._model.intake.contact)
        self.contact.refresh()

    def _plate(self, **fields: str) -> None:
        self._model.plate(profile="", **fields)

    def _show_earlier(self) -> None:
        known = self._model.customer()
        self._earlier.setVisible(known is not None)
        if known is None:
            return
        last: Job = known.jobs[-1]
        count = trn("{0} job here before", "{0} jobs here before", len(known.jobs)).format(len(known.jobs))
        state = tr("handed over") if last.closed else tr("at {0}").format(said(stop_titled(last.stop).title))
        self._earlier.setText(f"{count}; {tr('last {0}, {1}, {2}').format(last.ticket, last.machine, state)}")

    def _show_machine(self) -> None:
        match, plate = self._model.match, self._model.intake.plate
        several = match.machine is None and len(match.candidates) > 1
        self._which.offer([(m.title, m.title) for m in match.candidates] if several else [])
        self._which.setVisible(several)
        if match.machine is not None:
            self._known.setText(machine_line(match.machine))
        elif several:
            self._known.setText(tr("More than one machine on record fits that plate. Which is it?"))
        else:
            self._known.setText(tr("Not on record yet.") if plate.title else "")
        self.keep.setVisible(match.machine is None and not several and bool(plate.make.strip() and plate.model.strip()))

    def _keep(self) -> None:
        fault = self._model.new_machine()
        if fault:
            self._known.setText(said(fault))


_KINDS = {
    "laptop": mark("laptop"),
    "convertible": mark("convertible"),
    "tower": mark("tower"),
    "handheld": mark("handheld"),
    "appliance": mark("appliance"),
    "all-in-one": mark("all-in-one"),
}


def machine_line(machine: Machine) -> str:
    """What its profile says that matters now."""
    bays = ", ".join(bay.name for bay in machine.bays)
    parts = [tr(_KINDS[machine.kind]) if machine.kind in _KINDS else machine.kind]
    if bays:
        parts.append(tr("drives: {0}").format(bays))
    if machine.card_reader:
        parts.append(tr("can hold a card"))
    if machine.openings is not None and machine.openings.seal:
        parts.append(tr("sealed: {0}").format(machine.openings.seal))
    return tr("On record: {0}").format(", ".join(p for p in parts if p) or machine.title)
