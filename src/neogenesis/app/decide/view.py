"""The Decide stop."""

from __future__ import annotations

from datetime import datetime, timedelta
from decimal import Decimal

from PyQt6.QtCore import QLocale, Qt
from PyQt6.QtWidgets import QLineEdit, QSlider, QVBoxLayout, QWidget

from neogenesis.app.decide.figures import FiguresSheet
from neogenesis.app.decide.fleet import FleetSheet
from neogenesis.app.decide.lanes import WAY_NAMES, LanesCanvas, lanes_scene
from neogenesis.app.decide.past import PastSheet
from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.controls import button, clear, label, row
from neogenesis.app.parts.drafts import keep_draft
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.parts.stop import Check, StopView
from neogenesis.app.quote.sheet import QuoteSheet
from neogenesis.app.theme.look import look
from neogenesis.app.words import about, moment_of, time_range, when
from neogenesis.core.decide import Decision
from neogenesis.core.decide.decision import WayRow, usual_waiting
from neogenesis.core.errors import BadArgument, NeogenesisError

KEPT_NAMES = {
    "image": mark("an image"),
    "rescue": mark("a rescue"),
    "salvage": mark("files that were copied out"),
    "transfer": mark("a copy"),
}
_USUAL_HOUR = Decimal(40)
_MOST_LABOUR, _MOST_WAITING = 200, 100


class DecideView(StopView):
    """Lanes of time with money and loss beside them; the inputs below move them live."""

    def __init__(self, desk: OpenJob, parent: QWidget) -> None:
        super().__init__(tr("Decide"), parent)
        self._desk, self._model = desk, desk.decide
        self._banner, self._change = label("", "head", wrap=True, copyable=True), label("", "small", wrap=True)
        self._recommended = ""
        self.lanes = LanesCanvas()
        self.lanes.chosen_changed.connect(lambda _: self._show_chosen())
        self._about = QVBoxLayout()
        self._about.setSpacing(look().px(3))
        self.labour = QSlider(Qt.Orientation.Horizontal)
        self.labour.setRange(0, _MOST_LABOUR)
        self.labour.setFixedWidth(look().px(100))
        self.labour.setAccessibleName(tr("Labour, an hour"))
        self.labour.valueChanged.connect(lambda n: self._put(labour_per_hour=str(n)))
        self._labour = label("", "muted")
        self.waiting = QSlider(Qt.Orientation.Horizontal)
        self.waiting.setRange(0, _MOST_WAITING)
        self.waiting.setFixedWidth(look().px(100))
        self.waiting.setAccessibleName(tr("Waiting is worth, an hour"))
        self.waiting.valueChanged.connect(lambda n: self._put(waiting_per_hour=str(n)))
        self._waiting = label("", "muted")
        self.parts = self._money(tr("Parts"), "parts_cost")
        self.other = self._money(tr("Another machine"), "replacement_price")
        inputs = FlowRow(look().px(10))
        inputs.group(label(tr("Labour, an hour"), "muted"), self.labour, self._labour)
        inputs.group(label(tr("Waiting, an hour"), "muted"), self.waiting, self._waiting)
        inputs.group(label(tr("Parts"), "muted"), self.parts)
        inputs.group(label(tr("Another machine"), "muted"), self.other)
        self.why = QLineEdit()
        self.why.setPlaceholderText(tr("why this way and not the recommended one"))
        self.why.setAccessibleName(tr("Why this way is chosen"))
        self.why.textChanged.connect(lambda _: self._show_orders())
        keep_draft(desk.drafts, "decide why", self.why)
        self._fault = label("", "stop", wrap=True)
        self._fault.hide()
        self.go = button("", self._choose, "main", tr("Take the way that is marked  Ctrl+Return"))
        for widget in (self._banner, self._change):
            self.body.addWidget(widget)
        self.body.addWidget(self.lanes, 1)
        self.body.addLayout(self._about)
        self.body.addLayout(inputs)
        self.body.addWidget(self.why)
        self.body.addWidget(self._fault)
        self.figures = button(tr("Figures…"), self.show_figures, "", tr("Where they come from  Ctrl+Shift+F"))
        self.quote = button(tr("Quote…"), self.show_quote, "", tr("For the customer  Ctrl+Shift+Q"))
        self.later = button("", self._promise_anew, "", tr("Write a promise into the job that holds 9 times of 10"))
        self.later.hide()
        self.body.addLayout(row(None, self.later, self.figures, self.quote, self.go))
        self._model.changed.connect(self.refresh)
        desk.bench.drives_changed.connect(self.refresh)

    def _money(self, name: str, key: str) -> QLineEdit:
        made = QLineEdit(str(getattr(self._model.choice, key)))
        made.setFixedWidth(look().px(86))
        made.setPlaceholderText(self._currency or "0.00")
        made.setAccessibleName(name)
        made.textEdited.connect(lambda text: self._put(**{key: text}))
        return made

    @property
    def _currency(self) -> str:
        return self._desk.bench.shop.currency or QLocale().currencySymbol(QLocale.CurrencySymbolFormat.CurrencyIsoCode)

    def _put(self, **fields: str) -> None:
        try:
            self._model.put(**fields)
        except BadArgument as error:
            self._say(said(error.sentence()))
        else:
            self._say("")

    def _say(self, text: str) -> None:
        self._fault.setText(text)
        self._fault.setVisible(bool(text))

    def main_action(self) -> None:
        self.go.click()

    def main_widget(self) -> QWidget | None:
        return self.lanes

    def refresh(self) -> None:
        if not self.isVisible() and self._banner.text():
            return
        decision = self._model.decision
        self.lanes.show_scene(lanes_scene(decision, self._model.considered()))
        if decision.recommended != self._recommended:  # the mark follows what is recommended
            self._recommended = decision.recommended
            self.lanes.choose(decision.recommended)
        name = tr(WAY_NAMES[decision.recommended])
        best = next(w for w in decision.ways if w.way == decision.recommended)
        first = tr("An image first; then {0}.").format(name) if decision.first else tr("{0} is the way.").format(name)
        self._banner.setText(f"{first} {said(best.reasons[0])}")
        lines = [changed_line(line) for line in decision.would_change[:1]]
        self._change.setText(tr("Nearest to another one: {0}.").format(lines[0]) if lines else "")
        self.subtitle.say(self._subtitle(decision))
        labour = self._model.choice.labour_per_hour or "0"
        self.labour.blockSignals(True)
        self.labour.setValue(min(int(float(labour)), _MOST_LABOUR))
        self.labour.blockSignals(False)
        self._labour.setText(f"{labour} {self._currency}")
        facts = self._model.facts
        known = f"{facts.new_cost:.2f}" if facts.new_cost else ""  # of the drive in the dock
        self.parts.setPlaceholderText(known or self._currency or "0.00")
        worth = facts.waiting if facts.waiting is not None else usual_waiting(facts.labour or _USUAL_HOUR)
        self.waiting.blockSignals(True)
        self.waiting.setValue(min(int(worth), _MOST_WAITING))
        self.waiting.blockSignals(False)
        self._show_later()
        self._waiting.setText(f"{worth:.0f} {self._currency}" if facts.waiting is not None else tr("usual"))
        self._show_chosen()

    def _subtitle(self, decision: Decision) -> str:
        chosen = self._model.choice.chosen
        if chosen and self._model.is_out_of_date:
            return tr("{0} was chosen; something changed since").format(tr(WAY_NAMES[chosen]))
        if chosen:
            return tr("{0} was chosen").format(tr(WAY_NAMES[chosen]))
        return "  ·  ".join(said(n) for n in decision.notes) or tr("What each way costs")

    def _row(self) -> WayRow:
        return next(w for w in self._model.decision.ways if w.way == self.lanes.chosen)

    def _show_chosen(self) -> None:
        one = self._row()
        clear(self._about)
        reasons = one.reasons[1:] if one.way == self._model.decision.recommended else one.reasons
        if reasons:
            words = " ".join(said(r) for r in reasons)
            self._about.addWidget(label(words, wrap=True, copyable=True))
        if one.allowed:
            hands = tr("{0} of it with hands on it").format(about(one.hands_on_seconds_p50))
            keeps = tr("keeps {0}").format(", ".join(said(k) for k in one.keeps)) if one.keeps else ""
            span = time_range(one.seconds_p10, one.seconds_p90)
            again = tr("to do again: {0}").format(", ".join(said(a) for a in one.again)) if one.again else ""
            figures = "  ·  ".join(filter(None, (span, hands, keeps, again)))
            self._about.addWidget(label(figures, "small", wrap=True, copyable=True))
        self._show_orders()

    def _show_orders(self) -> None:
        one, decision = self._row(), self._model.decision
        switches = self._model.is_switch(one.way)
        against = one.allowed and (one.way != decision.recommended or switches)
        self.why.setVisible(against)
        words = tr("Switch to {0}") if switches else tr("Go with {0}")
        self.go.setText(words.format(tr(WAY_NAMES[one.way])))
        ready = one.allowed and (not against or bool(self.why.text().strip()))
        self.go.setEnabled(ready and not self._desk.job.closed)

    def _choose(self) -> None:
        try:
            self._model.choose(self._row().way, self.why.text() if self.why.isVisible() else "")
        except NeogenesisError as error:
            self._say(said(error.sentence()))
            return
        self.why.clear()
        self._say("")
        self.stop_asked.emit(self._model.next_stop)

    def _promise(self) -> str:
        """Whether the way that is chosen, or recommended, may end after what was promised."""
        due, row_ = moment_of(self._desk.job.promise), self._model.taken
        if due is None or self._desk.job.closed or not row_.allowed:
            return ""
        if datetime.now() + timedelta(seconds=row_.seconds_p90) <= due:
            return ""
        return tr("The promise for {0} may not hold: {1} takes up to {2}.").format(
            when(self._desk.job.promise, datetime.now()), tr(WAY_NAMES[row_.way]), about(row_.seconds_p90)
        )

    def _show_later(self) -> None:
        self.later.setVisible(bool(self._promise()))
        self.later.setText(tr("Promise {0} instead").format(when(self._model.next_promise(), datetime.now())))

    def _promise_anew(self) -> None:
        self._model.promise(self._model.next_promise())

    def show_figures(self) -> None:
        """What the figures of the way that is marked are made of."""
        FiguresSheet(self, self._model, self._row().way).open()

    def show_quote(self) -> None:
        sheet = QuoteSheet(self, self._desk)
        sheet.accepted_way.connect(lambda _: self.stop_asked.emit(self._model.next_stop))
        sheet.open()

    def show_fleet(self) -> None:
        FleetSheet(self, self._desk, self._row().way).open()

    def show_past(self) -> None:
        PastSheet(self, self._desk.bench).open()

    def checks(self) -> list[Check]:
        """What would change the choice, and what is strange about the case."""
        decision = self._model.decision
        found = [Check("caution", n) for n in decision.notes]
        if decision.first:
            found.append(Check("stop", tr("The drive is failing: image it first")))
        if self._model.is_out_of_date:
            found.append(Check("caution", tr("Something changed since the choice: another way is recommended now")))
        late = self._promise()
        if late:
            found.append(Check("caution", late))
        latest = self._desk.quote.latest
        if latest is not None and latest.accepted and self._model.choice.chosen not in ("", latest.accepted):
            text = tr("Quote {0} was accepted for another way: agree anew.")
            found.append(Check("caution", text.format(latest.number)))
        kept = [tr(KEPT_NAMES[k]) for k in self._model.kept]
        if kept:
            found.append(Check("note", tr("Kept and to be gone on with: {0}").format(", ".join(kept))))
        return found + [Check("note", changed_line(line)) for line in decision.would_change[1:]]


def changed_line(line: str) -> str:
    """`If malware were suspected: fresh`, in the language of the window."""
    condition, _, way = line.rpartition(": ")
    return f"{said(condition)}: {tr(WAY_NAMES.get(way, way))}"
