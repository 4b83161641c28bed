"""The Plan stop."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QSpinBox, QStackedWidget, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.choose import DriveChoice
from neogenesis.app.parts.controls import Choice, Elided, button, label, row, stack
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.parts.heading import Heading
from neogenesis.app.parts.stop import Check, StopView
from neogenesis.app.parts.strata import strata_of_layout, strata_of_survey
from neogenesis.app.plan.canvas import PlanCanvas
from neogenesis.app.plan.fresh_page import FreshPage
from neogenesis.app.plan.model import PlanModel
from neogenesis.app.theme.look import look
from neogenesis.app.words import both, exact, nominal, tail, time_range
from neogenesis.bench.records.shipped import appliance_names, load_appliance
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job.saved import SavedAs
from neogenesis.core.plan import Plan, Policy
from neogenesis.core.plan.layout import is_resizable
from neogenesis.core.units import MIB, parse_size

_MOST_SPARE = 20
_DEVICE = "device:"
INTENT_NAMES = {
    "replace": mark("Replace"),
    "split": mark("Split"),
    "beside": mark("Beside"),
    "exact": mark("Exact"),
    "fresh": mark("Fresh"),
}
SAVED_AS: dict[SavedAs, str] = {"image": mark("Image of the old drive"), "rescue": mark("Rescue of the old drive")}
_INTENT_TEXTS = {
    "replace": mark("Replace: everything moves, the old drive leaves the machine"),
    "split": mark("Split: the system moves, the personal data stay on the old drive"),
    "beside": mark("Beside: the old drive stays as it is, the new one is added empty"),
    "exact": mark("Exact: sector for sector, nothing is interpreted"),
    "fresh": mark("Fresh: a clean system by a recipe, nothing is copied"),
}


class PlanView(StopView):
    """Two columns with ribbons, everything that can be chosen below them, and what follows from it."""

    def __init__(self, desk: OpenJob, parent: QWidget) -> None:
        super().__init__(tr("Plan"), parent)
        self._desk, self._model, self._drafts = desk, desk.plan, desk.drafts
        self._before: tuple[Plan, Policy] | None = None
        self._filling = False
        self.choice = DriveChoice(tr("Which connected drive is the new one? Nothing is written yet."), self._chosen)
        self.choice.refuse_by(lambda dock: desk.bench.held(dock, desk.ticket))
        self._message = label("", "head", wrap=True)
        self._message_more = label("", "muted", wrap=True)
        waiting = QWidget()
        waiting.setLayout(stack(None, self._message, self._message_more, None, None))
        self.canvas = PlanCanvas()
        self._connect_canvas()
        result = QWidget()
        box = QVBoxLayout(result)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(look().px(10))
        box.addWidget(self.canvas, 1)
        box.addLayout(self._chosen_row())
        box.addLayout(self._growth_row())
        self.fresh = FreshPage(desk, self._say_fault)
        self._pages = QStackedWidget()
        for page in (self.choice, waiting, result, self.fresh):
            self._pages.addWidget(page)
        self.body.addWidget(self._pages, 1)
        self._summary = Elided("", "head")
        self._reason = Elided("", "muted")
        self.undo = button(tr("Undo"), self._model.undo, "", tr("Take back the last change  Ctrl+Z"))
        self.redo = button(tr("Redo"), self._model.redo, "", tr("Do it again  Ctrl+Shift+Z"))
        self.other = button(tr("Another drive…"), self._choose_again, "", tr("Plan for another new drive"))
        self.other_way = button(tr("Copy instead"), lambda: self._model.take_intent("replace"))
        self.again = button(tr("Plan again"), self._model.start_over, "", tr("Keep this plan's records and begin anew"))
        self.write = button(tr("Write plan"), self.write_plan, "main", tr("Put the plan on file  Ctrl+S"))
        words = row(gap=14)
        words.addWidget(self._summary, 5)
        words.addWidget(self._reason, 6)
        self.body.addLayout(words)
        foot = FlowRow(look().px(8), at_right=True)
        for widget in (self.other_way, self.other, self.again, self.undo, self.redo, self.write):
            foot.addWidget(widget)
        self.body.addLayout(foot)
        self._choosing = False
        desk.bench.drives_changed.connect(self._drives_changed)
        self._model.changed.connect(self.refresh)
        desk.survey.changed.connect(self.refresh)

    # Building

    def _connect_canvas(self) -> None:
        canvas, model = self.canvas, self._model
        canvas.chosen_changed.connect(lambda _: self._show_chosen())
        canvas.drag_began.connect(self._drag_began)
        canvas.boundary_moved.connect(self._drag_moved)
        canvas.drag_ended.connect(self._drag_ended)
        canvas.step_asked.connect(self._step)
        canvas.toggled.connect(model.toggle)
        canvas.size_asked.connect(lambda: self.size_field.setFocus() if self.size_field.isEnabled() else None)

    def _chosen_row(self) -> QVBoxLayout:
        self._name = Elided("", "head")
        self._limits = Elided("", "small")
        self.size_field = QLineEdit()
        self.size_field.setFixedWidth(look().px(120))
        self.size_field.setAccessibleName(tr("Size on the new drive"))
        self.size_field.setToolTip(tr("Such as 300 GiB, 200GB or plain bytes; Return takes it"))
        self.size_field.returnPressed.connect(self._size_typed)
        self.size_field.textEdited.connect(lambda text: self._drafts.__setitem__(f"size {self.canvas.chosen}", text))
        self.carry = QCheckBox(tr("carry over"))
        self.carry.setToolTip(tr("Leave it behind or carry it over  Space in the drawing"))
        self.carry.clicked.connect(lambda: self.canvas.chosen is not None and self._model.toggle(self.canvas.chosen))
        line = row(gap=10)
        line.addWidget(self._name, 3)
        line.addWidget(self._limits, 4)
        line.addWidget(self.carry)
        line.addWidget(label(tr("Size"), "muted"))
        line.addWidget(self.size_field)
        return stack(line)

    def _growth_row(self) -> FlowRow:
        self.growth = Choice()
        self.growth.setAccessibleName(tr("Who takes the new space"))
        self.growth.activated.connect(self._growth_chosen)
        self.growth.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.growth.setMinimumContentsLength(12)
        self.spare = QSpinBox()
        self.spare.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.spare.setRange(0, _MOST_SPARE)
        self.spare.setSuffix(" %")
        self.spare.setAccessibleName(tr("Spare area"))
        self.spare.setToolTip(tr("Left unallocated at the end of the new drive"))
        self.spare.setKeyboardTracking(False)
        self.spare.valueChanged.connect(lambda value: self._filling or self._model.change(spare_percent=value))
        self.volume = QLineEdit()
        self.volume.setPlaceholderText(tr("none"))
        self.volume.setFixedWidth(look().px(96))
        self.volume.setAccessibleName(tr("New data volume"))
        self.volume.setToolTip(tr("Add an empty data volume of this size; empty for none"))
        self.volume.returnPressed.connect(self._volume_typed)
        self.volume.textEdited.connect(lambda text: self._drafts.__setitem__("volume", text))
        self.intent = Choice()
        self.intent.setAccessibleName(tr("What the customer needs"))
        for key, text in INTENT_NAMES.items():
            self.intent.addItem(tr(text), key)
        self.intent.insertSeparator(self.intent.count())
        for name in appliance_names():
            title = load_appliance(name).title
            shown = said(title) if said(title) != title else title.lower()
            self.intent.addItem(tr("For a {0}").format(shown), f"{_DEVICE}{name}")
        self.intent.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.intent.setMinimumContentsLength(6)
        self.intent.activated.connect(self._intent_chosen)
        self.source = Choice()
        self.source.setAccessibleName(tr("What is read"))
        self.source.setToolTip(tr("The old drive itself, or what was saved from it"))
        self.source.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.source.setMinimumContentsLength(13)
        self.source.activated.connect(self._source_chosen)
        self._source_label = label(tr("Read from"), "muted")
        line = FlowRow(look().px(8))
        line.addWidget(self.intent)
        self._source_pair = line.group(self._source_label, self.source)
        line.group(label(tr("New space"), "muted"), self.growth)
        line.group(label(tr("Spare"), "muted"), self.spare)
        line.group(label(tr("New data volume"), "muted"), self.volume)
        return line

    # Orders

    def enter(self) -> None:
        self._model.prepare()
        if self._model.is_written and not self._model.out_of_date:
            self._desk.first_boot.prepare()

    def _drives_changed(self) -> None:
        if self.isVisible():
            self._model.prepare()
        self.refresh()

    def _chosen(self, name: str) -> None:
        self._choosing = False
        self._model.choose(name)

    def _source_chosen(self) -> None:
        place = self.source.currentData()
        self._model.read_from(next((one for one in self._model.saved if one.place == place), None))

    def _choose_again(self) -> None:
        self._choosing = not self._choosing
        self.refresh()

    def _drag_began(self) -> None:
        if self._model.plan is not None:
            self._before = (self._model.plan, self._model.policy)

    def _drag_moved(self, number: int, size_bytes: int) -> None:
        if self._before is not None:
            self._model.move_boundary(number, size_bytes, *self._before)

    def _drag_ended(self) -> None:
        if self._before is not None:
            self._model.end_drag(self._before[1])
            self._before = None

    def _step(self, number: int, difference: int) -> None:
        plan = self._model.plan
        current = next((p for p in plan.layout.partitions if p.from_partition == number), None) if plan else None
        facts = self._model.facts(number)
        if current and facts and is_resizable(facts):
            self._model.resize(current.number, self._model.clamp(current.number, current.size_bytes + difference))

    def write_plan(self) -> None:
        """Take what was typed and not yet taken, and put the plan on file if all of it can be had."""
        if self._take_size() and self._take_volume() and self._model.refusal is None:
            self._model.write()

    def _size_typed(self) -> None:
        if self._take_size():
            self.canvas.setFocus()

    def _volume_typed(self) -> None:
        self._take_volume()

    def _take_size(self) -> bool:
        """What was typed as a size, if anything was; False when it is none."""
        number = self.canvas.chosen
        text = self._drafts.get(f"size {number}")
        if number is None or text is None:
            return True
        try:
            size = parse_size(text.replace(",", "."))
        except NeogenesisError as error:
            self._say_fault(said(error.sentence()))
            return False
        del self._drafts[f"size {number}"]
        self._model.resize(number, size // MIB * MIB if size >= MIB else size)
        self._show_chosen()
        return True

    def _take_volume(self) -> bool:
        text = self._drafts.get("volume")
        if text is None:
            return True
        try:
            size = parse_size(text.strip().replace(",", ".")) if text.strip() not in ("", "0") else None
        except NeogenesisError as error:
            self._say_fault(said(error.sentence()))
            return False
        del self._drafts["volume"]
        self._model.change(data_volume_bytes=size)
        return True

    def _intent_chosen(self, index: int) -> None:
        """One of the intents, or a device class, which brings its own."""
        key = self.intent.itemData(index)
        device = load_appliance(key.removeprefix(_DEVICE)) if key.startswith(_DEVICE) else None
        if key == "fresh" or (self._model.is_fresh and device is None):
            self._model.take_intent(key)
            return
        self._model.change(intent="replace" if device else key, appliance=device, sizes={}, leave=())

    def _growth_chosen(self, index: int) -> None:
        value = self.growth.itemData(index)
        self._model.change(grow=int(value[1:]) if value.startswith("#") else value, sizes={})

    def _say_fault(self, text: str) -> None:
        self._summary.say(text)
        self._summary.setProperty("kind", "stop")
        _restyle(self._summary)

    # Showing

    def main_action(self) -> None:
        self.write.click()

    def _is_ready(self) -> bool:
        return self._model.state == "ready" and not self._choosing

    def can_take_back(self) -> bool:
        return self._is_ready() and self._model.can_undo

    def can_do_again(self) -> bool:
        return self._is_ready() and self._model.can_redo

    def can_write(self) -> bool:
        return self._is_ready() and self._model.refusal is None and not self._model.is_written

    def is_fresh(self) -> bool:
        return self._model.is_fresh and self._is_ready()

    def show_drivers(self) -> None:
        self.fresh.show_drivers()

    def gives_back(self) -> bool:
        return self.is_fresh() and bool(self._model.fresh.wish.data)

    def show_people(self) -> None:
        self.fresh.show_people()

    def take_back(self) -> None:
        self._model.undo()

    def do_again(self) -> None:
        self._model.redo()

    def main_widget(self) -> QWidget | None:
        return self.canvas

    def refresh(self) -> None:
        model, state = self._model, self._model.state
        plan = model.plan
        if model.is_fresh and state != "no-drive" and not self._choosing and plan is not None:
            self.fresh.refresh()
            self._show_fresh(plan)
            self._pages.setCurrentIndex(3)
        elif state != "no-survey" and (state == "no-drive" or self._choosing):
            self.choice.show_docks(self._desk.bench.docks(), self._desk.old_dock())
            self._pages.setCurrentIndex(0)
        elif plan is None:
            self._show_message(state)
            self._pages.setCurrentIndex(1)
        else:
            self._show_plan(plan, state)
            self._pages.setCurrentIndex(2)
        self._show_actions(state)
        self.subtitle.say(tr(_INTENT_TEXTS[model.policy.intent]))

    def _show_fresh(self, plan: Plan) -> None:
        fault = self._model.refusal or self._model.failure
        if fault is not None:
            self._say_fault(said(fault.text))
            self._reason.say(said(fault.remedy))
            return
        self._summary.setProperty("kind", "head")
        _restyle(self._summary)
        estimate = plan.estimate
        time = time_range(estimate.seconds_p10, estimate.seconds_p90)
        count, total = len(plan.layout.partitions), exact(estimate.bytes_to_copy)
        self._summary.say(tr("{0} volumes, about {1}, in {2}").format(count, total, time))
        holds = "; ".join(map(said, plan.target.holds))
        self._reason.say(
            tr("What the drive holds will be lost: {0}").format(holds) if holds else tr("The drive is empty.")
        )

    def _show_message(self, state: str) -> None:
        text, more = {
            "no-survey": (tr("The old drive has not been surveyed yet."), tr("Survey comes first: Alt+2.")),
            "reading": (tr("Reading both drives…"), tr("Nothing is written.")),
            "absent": (
                tr("Both drives of this job must be connected to make a plan."),
                tr("Put them into docks; they are recognised."),
            ),
        }.get(state, ("", ""))
        fault = self._model.failure or self._model.refusal
        if fault is not None and state != "reading":
            text, more = said(fault.text), said(fault.remedy)
        self._message.setText(text)
        self._message_more.setText(more)

    def _show_actions(self, state: str) -> None:
        model = self._model
        running = self._desk.transfer.is_active
        self.undo.setEnabled(self.can_take_back())
        self.redo.setEnabled(self.can_do_again())
        self.write.setEnabled(self.can_write())
        self.write.setText(tr("Plan is written") if model.is_written and state != "reading" else tr("Write plan"))
        self.write.setVisible(state != "locked")
        for widget in (self.undo, self.redo):
            widget.setVisible(state not in ("locked", "no-survey"))
        self.other.setVisible(state in ("ready", "shown", "absent") and bool(self._desk.job.new_drive))
        self.other.setText(tr("Back to the plan") if self._choosing and model.plan else tr("Another drive…"))
        self.other_way.setVisible(model.is_fresh and state not in ("locked", "reading"))
        self.again.setVisible(state == "locked" and not running and not self._desk.job.closed)

    def _show_plan(self, plan: Plan, state: str) -> None:
        editable = state == "ready" and plan.intent in ("replace", "split") and plan.policy.appliance is None
        survey = plan.source.survey
        old, new = survey.drive, plan.target.drive
        dock_old, dock_new = self._desk.old_dock(), self._desk.new_dock()
        saved = self._model.reads_from
        of_old = Heading(
            dock_old.tag if dock_old else None,
            old.model or tr("Old drive"),
            f"{tail(old.serial)}  {nominal(old.size_bytes)}  {tr('sealed')}",
        )
        if saved is not None:
            of_old = Heading(None, tr(SAVED_AS[saved.kind]), f"{Path(saved.place).name}  {nominal(old.size_bytes)}")
        headings = (
            of_old,
            Heading(
                dock_new.tag if dock_new else None,
                (new.model if new else "") or tr("New drive"),
                f"{tail(new.serial if new else '')}  {both(plan.target.size_bytes)}",
            ),
        )
        notes = {}
        for p in plan.layout.partitions:
            was = survey.partition(p.from_partition) if p.from_partition is not None else None
            if was is None:
                notes[p.number] = (tr("new, empty"), "accent")
            elif p.size_bytes > was.size_bytes:
                notes[p.number] = (f"+{exact(p.size_bytes - was.size_bytes)}", "accent")
            elif p.size_bytes < was.size_bytes:
                notes[p.number] = (f"−{exact(was.size_bytes - p.size_bytes)}", "caution")
            elif p.role == "recovery" and p == plan.layout.partitions[-1] and was != survey.partitions[-1]:
                notes[p.number] = (tr("moved to the end"), "muted")
        grips = frozenset(
            p.number
            for p in plan.layout.partitions
            if (was := survey.partition(p.from_partition or 0)) and is_resizable(was) and p.role in ("system", "data")
        )
        self.canvas.show_plan(
            strata_of_survey(survey, plan.left_behind), strata_of_layout(plan.layout), headings, notes, grips, editable
        )
        if self.canvas.chosen is None:
            growing = max(plan.layout.partitions, key=lambda p: (p.role == "system", p.size_bytes), default=None)
            self.canvas.choose(growing.from_partition if growing else None)
        self._show_chosen()
        self._show_choices(plan, state == "ready")
        fault = self._model.refusal or self._model.failure
        if fault is not None:
            self._say_fault(said(fault.text))
            self._reason.say(said(fault.remedy))
            return
        self._summary.setProperty("kind", "head")
        _restyle(self._summary)
        estimate = plan.estimate
        time = time_range(estimate.seconds_p10, estimate.seconds_p90)
        copied, total = exact(estimate.bytes_to_copy), exact(survey.drive.size_bytes)
        self._summary.say(tr("Copies {0} of {1}, in {2}").format(copied, total, time))
        behind = [said(p.title) for p in survey.partitions if p.number in plan.left_behind]
        left = tr("Stays behind: {0}.").format(", ".join(behind)) + " " if behind else ""
        after = tr("Afterwards: {0}").format(" ".join(map(said, plan.afterwards))) + " " if plan.afterwards else ""
        self._reason.say(left + after + " ".join(map(said, plan.reasons)))

    def _show_chosen(self) -> None:
        plan, number = self._model.plan, self.canvas.chosen
        facts = self._model.facts(number)
        placed = None
        if plan is not None and number is not None:
            placed = next((p for p in plan.layout.partitions if p.from_partition == number), None)
        shaped = self._model.policy.intent in ("replace", "split")
        editable = self._model.state == "ready" and facts is not None and shaped
        resizable = facts is not None and is_resizable(facts) and placed is not None
        self.size_field.setEnabled(editable and resizable)
        self.carry.setEnabled(editable)
        self.carry.setChecked(facts is not None and placed is not None)
        if facts is None:
            self._name.say(tr("Choose a partition: arrow keys or a click"))
            self._limits.say(tr("drag a grip, or Left and Right, to change its size"))
            self.size_field.clear()
            return
        self._name.say(said(facts.title))
        draft = self._drafts.get(f"size {number}")
        if not self.size_field.hasFocus() or draft is None:
            self.size_field.setText(draft if draft is not None else (exact(placed.size_bytes) if placed else ""))
        if resizable:
            self._limits.say(
                tr("{0} used, at least {1}").format(exact(facts.volume.used_bytes), exact(facts.volume.smallest_bytes))
            )
        else:
            self._limits.say(tr("stays behind") if placed is None else tr("carried as it is, size fixed"))

    def _show_choices(self, plan: Plan, editable: bool) -> None:
        self._filling = True
        policy = self._model.policy
        options = [("system", tr("to the system")), ("share", tr("shared by size")), ("none", tr("stays free"))]
        options += [
            (f"#{p.number}", tr("to {0}").format(said(p.title)))
            for p in plan.source.survey.partitions
            if is_resizable(p)
        ]
        wanted = f"#{policy.grow}" if isinstance(policy.grow, int) else policy.grow
        if [self.growth.itemData(i) for i in range(self.growth.count())] != [key for key, _ in options]:
            self.growth.clear()
            for key, text in options:
                self.growth.addItem(text, key)
        self._show_sources(editable)
        self.growth.setCurrentIndex(next((i for i, (key, _) in enumerate(options) if key == wanted), 0))
        self.spare.setValue(policy.spare_percent)
        if "volume" in self._drafts:
            if not self.volume.hasFocus():
                self.volume.setText(self._drafts["volume"])
        else:
            self.volume.setText(exact(policy.data_volume_bytes) if policy.data_volume_bytes else "")
        device = policy.appliance
        known = {load_appliance(name).title: f"{_DEVICE}{name}" for name in appliance_names()}
        shown = known.get(device.title, plan.intent) if device else policy.intent
        self.intent.setCurrentIndex(max(0, self.intent.findData(shown)))
        self.intent.setEnabled(editable)
        shaped = editable and policy.intent in ("replace", "split") and not device
        self.growth.setEnabled(shaped)
        for widget in (self.spare, self.volume):
            widget.setEnabled(shaped or (editable and policy.intent == "beside"))
        self._filling = False

    def _show_sources(self, editable: bool) -> None:
        saved = self._model.saved
        self._source_pair.setVisible(bool(saved))
        self.source.clear()
        self.source.addItem(tr("the old drive"), "")
        for one in saved:
            self.source.addItem(Path(one.place).name, one.place)
        chosen = self._model.reads_from
        self.source.setCurrentIndex(max(0, self.source.findData(chosen.place if chosen else "")))
        self.source.setEnabled(editable)

    def checks(self) -> list[Check]:
        """Those of the plan, and what the new drive will start once it is carried out."""
        found, boot = checks_of(self._model), self._desk.first_boot
        if boot.look is not None and boot.is_planned:
            starts = boot.look.forecast.starts
            told = {
                True: tr("Forecast: it starts"),
                False: tr("Forecast: it does not start"),
                None: tr("Forecast: it cannot be told"),
            }
            found.insert(0, Check("good" if starts else "caution", told[starts], "" if starts else tr("Why: Alt+8")))
        return found


def checks_of(model: PlanModel) -> list[Check]:
    """Gates, findings and reasons of a plan, the worst first."""
    plan = model.plan
    if plan is None:
        return []
    gates = [Check("good" if g.open else "stop", g.text, g.remedy) for g in model.gates_of(plan)]
    findings = [Check(f.severity, f.text, f.remedy) for f in plan.findings]
    if model.lost_bytes:
        text = tr("{0} of the old drive are not in what was saved from it.").format(both(model.lost_bytes))
        findings.append(Check("caution", text, tr("They become zeros on the new drive; look at the files they touch.")))
    if plan.intent != "fresh":  # there they stand beside each volume
        findings += [Check("note", reason) for reason in plan.reasons]
    worst_first = {"stop": 0, "caution": 1, "good": 2, "note": 3}
    return sorted((*gates, *findings), key=lambda c: worst_first[c.severity])


def _restyle(widget: QWidget) -> None:
    """Let the style sheet look at a changed property."""
    style = widget.style()
    if style is not None:
        style.unpolish(widget)
        style.polish(widget)
