"""The Fit stop."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QLineEdit, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.fit.canvas import FitCanvas
from neogenesis.app.fit.lists import ListsSheet
from neogenesis.app.fit.profile import ProfileSheet
from neogenesis.app.fit.table import VERDICT_WORDS, PartsView
from neogenesis.app.fit.tradeoff import TradeoffCanvas, tradeoff_scene
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import Elided, button, clear, label, notice, row, stack
from neogenesis.app.parts.stop import Check, StopView
from neogenesis.app.theme.look import look
from neogenesis.app.words import both, rate, seconds_text
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.fit.drawing import drawing
from neogenesis.core.fit.lists import name_of
from neogenesis.core.fit.match import Match
from neogenesis.core.fit.sets import DriveSet

_TABLE_SHARE = 0.4
_MOST_SIDE = 330


class FitView(StopView):
    """Parts against bays at the left with the pair that is looked at drawn below, the set and its price right."""

    def __init__(self, desk: OpenJob, parent: QWidget) -> None:
        super().__init__(tr("Fit"), parent)
        self._desk, self._model = desk, desk.fit
        self.parts = PartsView()
        self.parts.pair_changed.connect(self._show_pair)
        self.parts.placed.connect(self._place)
        self.canvas, self.plot = FitCanvas(), TradeoffCanvas()
        self.plot.chosen.connect(self._choose_set)
        self._pair, self._verdict = Elided("", "head"), label("", "good")
        self._reasons = label("", "small", wrap=True, copyable=True)
        self._set = QVBoxLayout()
        self._set.setSpacing(look().px(3))
        self.budget = QLineEdit(self._model.choice.budget)
        self.budget.setFixedWidth(look().px(86))
        self.budget.setPlaceholderText(tr("no limit"))
        self.budget.setAccessibleName(tr("Budget"))
        self.budget.textEdited.connect(lambda text: self._put(budget=text))
        self.memory = QCheckBox(tr("with memory"))
        self.memory.setChecked(self._model.choice.with_memory)
        self.memory.toggled.connect(lambda on: self._put(with_memory=on))
        self._memory = label("", "small", wrap=True, copyable=True)
        self._fault = label("", "stop", wrap=True)
        self._fault.hide()
        self._empty = notice(
            "note", tr("No machine is chosen. Choose its profile at Intake, or bring one from a file.")
        )
        self.lists = button(tr("Lists…"), self.show_lists, "", tr("What to buy, tools and small things  Ctrl+Shift+L"))
        self.edit = button(
            tr("Profile…"), self.edit_profile, "", tr("The machine or the part, to change  Ctrl+Shift+E")
        )
        self.again = button(tr("As proposed"), lambda: self._choose_set(None), "plain")
        self.take = button(tr("Take this set"), self._take, "main", tr("Put it on record  Ctrl+Return"))
        self._built()
        self._model.changed.connect(self.refresh)

    def _built(self) -> None:
        pair = row(self._verdict, self._pair, gap=look().px(12))
        pair.setStretch(1, 1)
        card = QWidget()
        card.setObjectName("card")
        inner = stack(self._set, None, margin=look().px(12))
        card.setLayout(inner)
        right = stack(
            card, row(label(tr("Budget"), "muted"), self.budget, None, self.again), self.plot, gap=look().px(8)
        )
        right.setStretch(2, 1)
        side = QWidget()
        side.setFixedWidth(min(look().px(276), _MOST_SIDE))
        side.setLayout(right)
        left = stack(self.parts, pair, self._reasons, self.canvas, gap=look().px(4))
        left.setStretch(3, 1)
        across = row(left, side, gap=look().px(18))
        across.setStretch(0, 1)
        self.body.addWidget(self._empty)
        self.body.addLayout(across, 1)
        self.body.addWidget(self._fault)
        memory = row(self.memory, self._memory, gap=look().px(10))
        memory.setStretch(1, 1)
        self.body.addLayout(memory)
        self.body.addLayout(row(None, self.edit, self.lists, self.take, gap=look().px(10)))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._size_table()

    def _size_table(self) -> None:
        """Somewhat less than half of the height for the table, no row of it cut."""
        self.parts.setFixedHeight(self.parts.whole_rows(int(self.height() * _TABLE_SHARE)))

    def main_widget(self) -> QWidget | None:
        return self.parts

    def main_action(self) -> None:
        self.take.click()

    # Showing

    def refresh(self) -> None:
        if not self.isVisible() and self._pair.whole():
            return
        model = self._model
        machine, chosen, table = model.machine, model.chosen, model.matrix
        self._empty.setVisible(table is None)
        name = machine.title if machine is not None else tr("a machine that is not known yet")
        self.subtitle.say(tr("What goes where in {0}, drawn to scale").format(name))
        placed = frozenset((m.part.id, m.bay.name) for m in chosen.matches) if chosen is not None else frozenset()
        shown = self.parts.table
        if shown.matrix is not table or table is None:
            self.parts.show_matrix(table, model.order(), placed)
            self._size_table()
        else:
            shown.show_chosen(placed)
        self._show_set(chosen)
        self._show_plot(chosen)
        self._show_memory()
        if self.parts.pair is not None:
            self._show_pair(*self.parts.pair)
        closed = self._desk.job.closed
        self.take.setEnabled(chosen is not None and not closed and not self._is_over())
        self.again.setVisible(bool(model.choice.own))

    def _is_over(self) -> bool:
        budget = self._model.budget
        return budget is not None and self._model.cost > budget

    def _money(self, amount: object) -> str:
        return f"{amount:.2f} {self._model.currency}".strip()

    def _show_set(self, chosen: DriveSet | None) -> None:
        clear(self._set)
        add = self._set.addWidget
        if chosen is None:
            add(label(tr("No set fits"), "head"))
            add(label(self._why_none(), "small", wrap=True))
            return
        model = self._model
        taken = {(p.part, p.bay) for p in model.choice.taken} == set(chosen.placed)
        head = tr("Taken") if taken else tr("Put together by hand") if model.choice.own else tr("Proposed")
        price = label(self._money(model.cost), "stop" if self._is_over() else "head", copyable=True)
        self._set.addLayout(row(label(head, "head"), None, price))
        for part, bay in chosen.placed:
            match = next(m for m in chosen.matches if (m.part.id, m.bay.name) == (part, bay))
            add(label(f"{name_of(match.part)}", "head", wrap=True, copyable=True))
            add(label(f"{bay}: {self._about(match, chosen)}", "small", wrap=True, copyable=True))
        if model.modules:
            add(label(" + ".join(name_of(m) for m in model.modules), "head", wrap=True))
        for text in self._brings(chosen):
            add(label(text, "small", wrap=True, copyable=True))

    def _why_none(self) -> str:
        if self._model.machine is None:
            return tr("The machine is not known.")
        if self._model.sets:
            return tr("Every set costs more than the budget.")
        return tr("No part of the catalogue fits and has room enough.")

    def _about(self, match: Match, chosen: DriveSet) -> str:
        """Why it is there, and how fast it is there."""
        fast = match.effective_read_bytes_per_s
        said_rate = " ".join(rate(fast)) if fast else tr("rate not stated")
        role = tr("starts the system") if match is chosen.system else tr("data")
        own = match.part.read_bytes_per_s
        slower = tr("the bay slows it down") if fast and own and fast < own * 0.97 else ""
        after = match.part.sustained_write_bytes_per_s
        cache = tr("writes {0} when its cache is full").format(" ".join(rate(after))) if after else ""
        return ", ".join(filter(None, (role, said_rate, slower, cache)))

    def _brings(self, chosen: DriveSet) -> list[str]:
        model = self._model
        lines = []
        room = chosen.system.usable_bytes or 0
        fill = model.fill_percent(chosen)
        full = "; " + tr("{0} % full after the copy").format(f"{fill:.0f}") if fill is not None else ""
        lines.append(tr("shows as {0}").format(both(room)) + full)
        start = model.start(chosen)
        if start is not None:
            low, _, high = start.after_s
            if high - low < 1 and start.before_s - low < 1:
                lines.append(tr("a start of {0} takes as long then").format(seconds_text(start.before_s)))
            else:
                text = tr("a start of {0} takes {1} to {2} s then")
                lines.append(text.format(seconds_text(start.before_s), f"{low:.0f}", f"{high:.0f}"))
        docked, against = model.docked, model.against_docked
        if docked is not None and against and chosen.system.part.id != docked.id:
            why = ", ".join(said(text) for text in against)
            lines.append(tr("not {0} from the dock: {1}").format(name_of(docked), why))
        needs = [said(need.text) for m in chosen.matches for need in m.needs if not need.optional]
        beside = [said(need.text) for m in chosen.matches for need in m.needs if need.optional]
        lines += [tr("needs {0}").format(", ".join(needs))] if needs else []
        lines += [tr("with {0}").format(", ".join(beside))] if beside else []
        if self._is_over():
            lines.append(tr("more than the budget of {0}").format(self._money(model.budget)))
        elif model.docked is not None and chosen.system.part.id == model.docked.id:
            lines.append(tr("it stands in the dock already"))
            if model.docked_cost is None:
                lines.append(tr("its price is not on record; this is the least for its size"))
        elif not model.choice.own:
            lines.append(tr("the cheapest with room to grow, and no slower that anybody would feel it"))
        return lines

    def _show_plot(self, chosen: DriveSet | None) -> None:
        model = self._model
        sets = model.sets
        if chosen is not None and all(set(s.placed) != set(chosen.placed) for s in sets):
            sets = [*sets, chosen]  # put together by hand, and beaten by another
        starts = [model.start(s) for s in sets]
        timed = bool(starts) and all(s is not None for s in starts)
        seconds = [s.after_s[1] if s is not None else one.wait_s for s, one in zip(starts, sets, strict=True)]
        self.plot.show_scene(tradeoff_scene(sets, seconds, chosen, model.budget, timed))

    def _show_memory(self) -> None:
        memory = self._model.memory
        self.memory.setVisible(memory is not None and bool(memory.placed))
        if memory is None or not memory.placed:
            self._memory.setText(tr("No memory of the catalogue fits, or none within the budget.") if memory else "")
            return
        by_id = {p.id: p for p in self._model.parts}
        names = " + ".join(name_of(by_id[i]) for i in memory.placed)
        speed = tr("runs at {0} MT/s").format(f"{memory.effective_mt_s:g}") if memory.effective_mt_s else ""
        cost = sum((by_id[i].cost or 0 for i in memory.placed), 0)
        self._memory.setText(", ".join(filter(None, (names, speed, self._money(cost)))))

    def _show_pair(self, part: str, bay: str) -> None:
        match = self._model.match(part, bay)
        if match is None:
            return
        self._pair.say(tr("{0} in {1}").format(name_of(match.part), bay))
        self._verdict.setText(tr(VERDICT_WORDS[match.verdict]))
        kind = {"fits": "good", "fits-with": "caution"}.get(match.verdict, "stop")
        self._verdict.setProperty("kind", kind)
        style = self._verdict.style()
        if style is not None:
            style.polish(self._verdict)
        against = [said(r.text) for r in match.reasons]
        needs = [(tr("with {0}") if n.optional else tr("needs {0}")).format(said(n.text)) for n in match.needs]
        words = "; ".join([*against, *needs]) or tr("Nothing speaks against it.")
        self._reasons.setText(words)
        self.canvas.show_drawing(
            drawing(match.part, match.bay), f"{self._pair.whole()}: {self._verdict.text()}. {words}"
        )

    # Doing

    def _say(self, text: str) -> None:
        self._fault.setText(text)
        self._fault.setVisible(bool(text))

    def _put(self, **fields: object) -> None:
        self._try(lambda: self._model.put(**fields))

    def _place(self, part: str, bay: str) -> None:
        self._try(lambda: self._model.place(part, bay))

    def _choose_set(self, one: DriveSet | None) -> None:
        self._try(lambda: self._model.choose(one))

    def _try(self, do: Callable[[], object]) -> bool:
        try:
            do()
        except NeogenesisError as error:
            self._say(said(error.sentence()))
            return False
        self._say("")
        return True

    def _take(self) -> None:
        if self._try(self._model.take):
            self.stop_asked.emit(self._model.next_stop)

    def show_lists(self) -> None:
        ListsSheet(self, self._desk).open()

    def edit_profile(self) -> None:
        """The machine, and the part that is looked at."""
        pair = self.parts.pair
        part = next((p for p in self._model.parts if pair and p.id == pair[0]), None)
        ProfileSheet(self, self._model, part).open()

    def bring(self) -> None:
        """Profiles from a file."""
        name, _ = QFileDialog.getOpenFileName(self, tr("Bring profiles"), "", "JSON (*.json)")
        if name:
            self.bring_from(Path(name))

    def bring_from(self, place: Path) -> None:
        def do() -> None:
            taken, faults = self._model.bring(place)
            self._desk.note("fit", tr("Profiles brought: {0}").format(", ".join(taken))) if taken else None
            if faults:
                raise NeogenesisError(" ".join(faults), "")

        self._try(do)

    def checks(self) -> list[Check]:
        model = self._model
        found = [Check("caution", fault) for fault in model.faults]
        if model.chosen is not None:
            reasons = dict.fromkeys(r.text for m in model.chosen.matches for r in m.reasons)
            found += [Check("note", text) for text in reasons]
            fill = model.fill_percent(model.chosen)
            if fill is not None and fill > 85:
                found.append(Check("caution", tr("The system's drive will be {0} % full").format(f"{fill:.0f}")))
        if not model.used_bytes:
            found.append(Check("note", tr("Without a survey nobody knows how much must fit.")))
        machine = model.machine
        if machine is not None and machine.openings is not None and machine.openings.seal:
            found.append(Check("caution", tr("A seal has to be broken: {0}").format(machine.openings.seal)))
        return found
