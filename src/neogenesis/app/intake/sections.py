"""The parts of the intake's page below who brings what, in the order of a call; each is filled in any order."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QGridLayout, QLineEdit, QSpinBox, QVBoxLayout, QWidget

from neogenesis.app.intake.lines import Asked, Line, Part
from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.intake.runs import RunsStrip, runs_scene
from neogenesis.app.intake.shores import ShoresCanvas, shores_scene
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.chips import Chips
from neogenesis.app.parts.controls import button, clear, label, notice, row
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.theme.look import look
from neogenesis.core.errors import BadArgument
from neogenesis.core.intake import START_UP, Figure, Intake, Shore, options, read_battery, read_rate
from neogenesis.core.intake.battery import checked
from neogenesis.core.intake.change import (
    moved,
    placed,
    switched,
    with_belongings,
    with_figure,
    with_valuable,
    without_valuable,
)

_STARTS = (("yes", mark("it starts")), ("sometimes", mark("sometimes")), ("no", mark("it does not start")))
_SURVIVE = (
    ("everything", mark("everything as it was")),
    ("files", mark("only files")),
    ("nothing", mark("nothing")),
)
_CARD = (("none", mark("no card inside")), ("inside", mark("a card is inside")), ("taken-out", mark("taken out")))
_YES = (("yes", mark("yes")), ("no", mark("no")))
_KEY = (
    ("customer", mark("the customer")),
    ("somebody", mark("somebody else")),
    ("nobody", mark("nobody")),
    ("not-encrypted", mark("not encrypted")),
)
_SEAL = (("none", mark("no seal")), ("whole", mark("whole")), ("broken", mark("broken")))
_OLD = (("returned", mark("goes back")), ("kept", mark("kept for some weeks")), ("wiped", mark("wiped")))
_MOST_WEEKS = 520


def _told(options_: tuple[tuple[str, str], ...]) -> list[tuple[str, str]]:
    return [(code, tr(words)) for code, words in options_]


class HurtsPart(Part):
    def __init__(self, model: IntakeModel) -> None:
        starts = Chips(tr("Does it start"), _told(_STARTS), one=True)
        super().__init__("hurts", tr("What hurts"), tr("hurts"), beside=starts)
        self._model, self.starts = model, starts
        self.symptoms = Chips(tr("What hurts"), [(s.code, said(s.title)) for s in options().symptom])
        self.symptoms.switched.connect(lambda c: model.change(symptoms=switched(model.intake.symptoms, c)))
        self.told = Line(
            tr("In the customer's words"),
            tr("in their words"),
            lambda: model.intake.told,
            lambda t: model.change(told=t),
        )
        self.since = Line(
            tr("Since when"), tr("since when"), lambda: model.intake.since, lambda t: model.change(since=t)
        )
        self.starts.switched.connect(lambda c: model.change(starts="" if c == model.intake.starts else c))
        self.body.addWidget(self.symptoms)
        line = row(self.told, self.since, gap=10)
        line.setStretch(0, 3)
        line.setStretch(1, 1)
        self.body.addLayout(line)
        self.body.addWidget(self.told.fault)
        self.fields = {"symptoms": self.symptoms, "starts": self.starts}
        self.refreshers = [self.told.refresh, self.since.refresh, self._show]

    def _show(self) -> None:
        self.symptoms.show_chosen(self._model.intake.symptoms)
        self.starts.show_chosen((self._model.intake.starts,))


class SurvivesPart(Part):
    """The drawing that carries the stop."""

    def __init__(self, model: IntakeModel) -> None:
        survive = Chips(tr("What must survive"), _told(_SURVIVE), one=True)
        super().__init__("survives", tr("What must survive"), tr("survives"), beside=survive)
        self._model, self.survive = model, survive
        self.survive.switched.connect(lambda c: model.change(must_survive="" if c == model.intake.must_survive else c))
        self.shores = ShoresCanvas()
        self.shores.moved.connect(lambda what, steps: self._put(moved(model.intake, what, steps)))
        self.shores.placed.connect(self._placed)
        self.shores.dropped.connect(lambda what: self._put(without_valuable(model.intake, what)))
        self.add = Line(
            tr("One more thing that must survive"),
            tr("one more thing, then Return; “photographs: in the cloud” says where it is believed to be"),
            lambda: model.intake.typed.get("valuable", ""),
            lambda t: model.type("valuable", t),
        )
        self.add.returnPressed.connect(lambda: self._add(self.add.text()))
        self._offers = Chips(tr("Often forgotten"), ())
        self._offers.switched.connect(self._add)
        self.accepted = Chips(tr("Signed for"), [("accepted", tr("the customer signs for what is only said"))])
        self.accepted.switched.connect(lambda _: model.change(accepted_unseen=not model.intake.accepted_unseen))
        self._hint = label(
            tr("Left and Right move a thing; what nobody has seen elsewhere closes a gate later."), "small", wrap=True
        )
        for widget in (self.shores, self._hint, self.accepted, self.add, self.add.fault, self._offers):
            self.body.addWidget(widget)
        self.fields = {"must-survive": self.survive, "valuables": self.add, "unseen": self.shores}
        self.refreshers = [self.add.refresh, self._show]

    def _show(self) -> None:
        intake = self._model.intake
        self.survive.show_chosen((intake.must_survive,))
        self.shores.show_scene(shores_scene(intake))
        known = {v.what.casefold() for v in intake.valuables}
        offers = [(w, said(w)) for w in options().offers.valuables if said(w).casefold() not in known]
        self._offers.offer(offers)
        self._offers.show_chosen(())
        self.accepted.setVisible(bool(intake.on_shore("said")))
        self.accepted.show_chosen(("accepted",) if intake.accepted_unseen else ())

    def _put(self, intake: Intake) -> None:
        self._model.put(intake)

    def _placed(self, what: str, shore: Shore) -> None:
        self._put(placed(self._model.intake, what, shore))

    def _add(self, line: str) -> None:
        try:
            intake = with_valuable(self._model.intake, said(line) if line in options().offers.valuables else line)
        except BadArgument as error:
            self.add.say(error.sentence())
            return
        self.add.clear()
        self.add.say("")
        self._put(intake)
        self._model.type("valuable", "")


class ArrivedPart(Part):
    def __init__(self, model: IntakeModel) -> None:
        super().__init__("arrived", tr("How it arrived"), tr("arrived"))
        self._model = model
        self.condition = Chips(tr("Condition on arrival"), [(c.code, said(c.title)) for c in options().condition])
        self.condition.switched.connect(lambda c: model.change(condition=switched(model.intake.condition, c)))
        self.note = Line(
            tr("Condition, more"),
            tr("anything else that shows"),
            lambda: model.intake.condition_note,
            lambda t: model.change(condition_note=t),
        )
        self._cautions = QVBoxLayout()
        self._cautions.setSpacing(look().px(6))
        self.card = Asked(tr("Removable card"), _told(_CARD), lambda: model.intake.card, lambda c: model.change(card=c))
        self.came = Chips(tr("Came with it"), ())
        self.came.switched.connect(self._switch_came)
        self.more = Line(
            tr("Something else that came with it"),
            tr("something else, then Return"),
            lambda: model.intake.typed.get("came", ""),
            lambda t: model.type("came", t),
        )
        self.more.returnPressed.connect(self._more)
        self.body.addWidget(self.condition)
        self.body.addLayout(self._cautions)
        self.body.addWidget(self.note)
        self.body.addWidget(self.note.fault)
        self.body.addWidget(self.card)
        self.body.addWidget(label(tr("Came with it; ticked off again at Handover"), "muted"))
        self.body.addWidget(self.came)
        self.body.addWidget(self.more)
        self.fields = {"card": self.card, "card-inside": self.card, "came-with": self.came}
        self.refreshers = [self.note.refresh, self.card.refresh, self.more.refresh, self._show]
        self._shown: object = None

    def _show(self) -> None:
        intake = self._model.intake
        self.condition.show_chosen(intake.condition)
        cautions = self._model.cautions
        if cautions != self._shown:
            self._shown = cautions
            clear(self._cautions)
            for ask in cautions:
                self._cautions.addWidget(notice(ask.severity, ask.text, ask.why))
        names = [b.what for b in intake.came_with]
        offered = [said(w) for w in options().offers.came_with]
        every = [*offered, *(n for n in names if n not in offered)]
        self.came.offer([*((n, n) for n in every), ("", tr("nothing"))])
        self.came.show_chosen(names if names else ([""] if intake.nothing_came else []))

    def _switch_came(self, what: str) -> None:
        intake = self._model.intake
        if not what:
            self._model.change(nothing_came=not intake.nothing_came, came_with=())
            return
        names = switched([b.what for b in intake.came_with], what)
        self._model.change(nothing_came=False, came_with=with_belongings(intake, names).came_with)

    def _more(self) -> None:
        text = self.more.text().strip()
        if text:
            names = [*(b.what for b in self._model.intake.came_with), text]
            self._model.change(nothing_came=False, came_with=with_belongings(self._model.intake, names).came_with)
            self.more.clear()
            self._model.type("came", "")


class LaterPart(Part):
    def __init__(self, model: IntakeModel) -> None:
        hint = tr("Of accounts, licences and keys only that somebody holds them, never what they are.")
        super().__init__("later", tr("What is needed later"), tr("later"), hint)
        self._model = model

        def asked(name: str, title: str, options_: tuple[tuple[str, str], ...], *beside: QWidget) -> Asked:
            return Asked(
                title,
                _told(options_),
                lambda: str(getattr(model.intake.later, name)),
                lambda code: model.later(**{name: code}),
                beside,
            )

        self.who = Line(
            tr("Who holds the recovery key"),
            tr("who it is"),
            lambda: model.intake.later.recovery_key_who,
            lambda t: model.later(recovery_key_who=t),
            beside_key=True,
        )
        self.budget = Line(
            tr("Budget"),
            tr("an amount, or “ask above 120”"),
            lambda: model.intake.later.budget,
            lambda t: model.later(budget=t),
        )
        self.weeks = QSpinBox()
        self.weeks.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.weeks.setRange(0, _MOST_WEEKS)
        self.weeks.setAccessibleName(tr("Weeks that the old drive is kept"))
        self.weeks.setSuffix(" " + tr("weeks"))
        self.weeks.valueChanged.connect(lambda n: model.later(kept_weeks=n))
        self.asked = {
            "consent": asked("consent_to_open", tr("May it be opened?"), _YES),
            "seal": asked("seal", tr("Warranty seal"), _SEAL),
            "warranty": asked("warranty", tr("Does a warranty still run?"), _YES),
            "accounts": asked("accounts", tr("Does the customer hold the accounts?"), _YES),
            "licences": asked("licences", tr("Does the customer hold the licence keys?"), _YES),
            "firmware-licence": asked("firmware_licence", tr("Is the system's licence kept in the firmware?"), _YES),
            "recovery-key": asked(
                "recovery_key", tr("Who holds the recovery key of what is encrypted?"), _KEY, self.who, self.who.fault
            ),
            "old-parts": asked("old_parts", tr("What becomes of the old drive?"), _OLD, self.weeks),
        }
        grid = QGridLayout()
        grid.setHorizontalSpacing(look().px(18))
        grid.setVerticalSpacing(look().px(12))
        places = (
            "consent",
            "seal",
            "warranty",
            "accounts",
            "licences",
            "firmware-licence",
            "recovery-key",
            "old-parts",
        )
        for number, code in enumerate(places):
            grid.addWidget(self.asked[code], number // 2, number % 2, Qt.AlignmentFlag.AlignTop)
        grid.setColumnStretch(0, 1)
        grid.setColumnStretch(1, 1)
        self.body.addLayout(grid)
        self.body.addLayout(row(label(tr("Budget"), "muted"), self.budget, gap=10))
        self.body.addWidget(self.budget.fault)
        self.fields = {**self.asked, "budget": self.budget}
        self.refreshers = [*(a.refresh for a in self.asked.values()), self.who.refresh, self.budget.refresh, self._show]

    def _show(self) -> None:
        later = self._model.intake.later
        self.who.setVisible(later.recovery_key == "somebody")
        self.weeks.setVisible(later.old_parts == "kept")
        if self.weeks.value() != later.kept_weeks:
            self.weeks.setValue(later.kept_weeks)


class MeasuredPart(Part):
    """`stopwatch_asked` wants the stopwatch's own page."""

    stopwatch_asked = pyqtSignal()

    def __init__(self, model: IntakeModel) -> None:
        super().__init__("measured", tr("Measured at the machine"), tr("measured"))
        self._model = model
        self.strip = RunsStrip()
        self.strip.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.open = button(tr("Stopwatch"), self.stopwatch_asked.emit, "", tr("Time the start of the machine  F5"))
        self.body.addLayout(row(label(tr("Start of the machine"), "muted"), None, self.open))
        self.body.addWidget(self.strip)
        self._figures: dict[str, Line] = {}
        grid = QGridLayout()
        grid.setHorizontalSpacing(look().px(10))
        grid.setVerticalSpacing(look().px(6))
        for number, kind in enumerate(options().figure):
            line = Line(
                said(kind.title), said(kind.hint), partial(self._figure, kind.code), partial(self._take, kind.code)
            )
            self._figures[kind.code] = line
            grid.addWidget(label(said(kind.title), "muted"), number, 0)
            grid.addWidget(line, number, 1)
            grid.addWidget(label(kind.unit, "muted"), number, 2)
        self.body.addLayout(grid)
        rate = self._figures["read-rate"]
        rate.editingFinished.connect(self._read_rate)
        self.body.addWidget(rate.fault)
        self.design, self.full, self.cycles = (self._number(n) for n in (tr("as made"), tr("now"), tr("cycles")))
        for field, key in ((self.design, "design"), (self.full, "full"), (self.cycles, "cycles")):
            field.textEdited.connect(lambda t, key=key: model.type(key, t))
            field.editingFinished.connect(self._battery_typed)
        self.paste = button(
            tr("Paste a battery report"), self._paste, "", tr("The text of a report, from the clipboard")
        )
        battery = FlowRow(look().px(8))
        battery.group(label(tr("Battery"), "muted"), self.design, self.full, label("Wh", "muted"), self.cycles)
        battery.addWidget(self.paste)
        self._wear, self._fault = label("", "small"), label("", "stop", wrap=True)
        self._fault.hide()
        self.body.addLayout(battery)
        self.body.addWidget(self._wear)
        self.body.addWidget(self._fault)
        self.fields = {"start-up": self.open, "battery": self.design}
        self.refreshers = [*(f.refresh for f in self._figures.values()), self._show]

    def _number(self, name: str) -> QLineEdit:
        made = QLineEdit()
        made.setFixedWidth(look().px(84))
        made.setPlaceholderText(name)
        made.setAccessibleName(tr("Battery, {0}").format(name))
        return made

    def _figure(self, code: str) -> str:
        found = self._model.intake.figure(code, self._model.when)
        return found.text if found is not None else ""

    def _take(self, code: str, text: str) -> None:
        kind = options().figure_kind(code)
        unit = kind.unit if kind is not None else ""
        figure = Figure(code=code, text=text, unit=unit, method="typed", when=self._model.when)
        self._model.put(with_figure(self._model.intake, figure))

    def _read_rate(self) -> None:
        """A pasted text is read for its rate; a bare number stays."""
        line = self._figures["read-rate"]
        text = line.text().strip()
        if not text or text.replace(",", "").replace(".", "").isdigit():
            line.say("")
            return
        try:
            rate = read_rate(text)
        except BadArgument as error:
            line.say(error.sentence())
            return
        line.say("")
        figure = Figure(code="read-rate", text=f"{rate / 1e6:.4g}", unit="MB/s", method="pasted", when=self._model.when)
        self._model.put(with_figure(self._model.intake, figure))
        line.setText(figure.text)

    def _show(self) -> None:
        intake = self._model.intake
        self.strip.show_scene(runs_scene(intake.timing(START_UP), intake.timing(START_UP, "after")))
        battery = intake.battery
        shown = {"design": battery.design_wh, "full": battery.full_wh, "cycles": battery.cycles}
        for line, key in ((self.design, "design"), (self.full, "full"), (self.cycles, "cycles")):
            text = intake.typed.get(key, "" if shown[key] is None else f"{shown[key]:g}")
            if not line.hasFocus() and line.text() != text:
                line.setText(text)
        wear = battery.wear_percent
        times = tr("{0} cycles").format(battery.cycles) if battery.cycles is not None else ""
        worn = tr("{0} % of it is worn away").format(round(wear)) if wear is not None else ""
        self._wear.setText("  ·  ".join(filter(None, (worn, times, battery.serial))))
        self._wear.setVisible(bool(self._wear.text()))

    def _battery_typed(self) -> None:
        values: list[float | None] = []
        for line in (self.design, self.full, self.cycles):
            text = line.text().strip().replace(",", ".")
            try:
                values.append(float(text) if text else None)
            except ValueError:
                self._say(tr("“{0}” is not a number.").format(line.text()))
                return
        design, full, cycles = values
        battery = self._model.intake.battery
        try:
            new = checked(
                type(battery)(
                    design_wh=design,
                    full_wh=full,
                    cycles=int(cycles) if cycles is not None else None,
                    machine=battery.machine,
                    serial=battery.serial,
                    method="typed",
                )
            )
        except BadArgument as error:
            self._say(said(error.sentence()))
            return
        self._say("")
        if (new.design_wh, new.full_wh, new.cycles) != (battery.design_wh, battery.full_wh, battery.cycles):
            self._model.change(battery=new)
        typed = {k: v for k, v in self._model.intake.typed.items() if k not in ("design", "full", "cycles")}
        self._model.change(typed=typed)

    def _paste(self) -> None:
        clipboard = QGuiApplication.clipboard()
        try:
            battery = read_battery(clipboard.text() if clipboard is not None else "")
        except BadArgument as error:
            self._say(said(error.sentence()))
            return
        self._say("")
        self._model.change(battery=battery)

    def _say(self, text: str) -> None:
        self._fault.setText(text)
        self._fault.setVisible(bool(text))
