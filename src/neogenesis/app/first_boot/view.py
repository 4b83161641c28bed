"""The First boot stop."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QTextCursor
from PyQt6.QtWidgets import QCheckBox, QLabel, QPlainTextEdit, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.first_boot.afterwards import AfterwardsSheet
from neogenesis.app.first_boot.chain import ChainView, Station, answer_of, stations_of
from neogenesis.app.first_boot.entries import EntriesSheet
from neogenesis.app.first_boot.run_in import RunInSheet
from neogenesis.app.first_boot.screen import ScreenView
from neogenesis.app.first_boot.stopwatch import StopwatchSheet
from neogenesis.app.language import said, tr
from neogenesis.app.parts.bars import BeforeAfter
from neogenesis.app.parts.controls import Choice, Elided, button, clear, label, notice, row, scrolled, stack, tail_field
from neogenesis.app.parts.drafts import Subject, keep_draft
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.parts.stop import Check, StopView
from neogenesis.app.theme.look import look
from neogenesis.core.boot.after import first_boot_texts
from neogenesis.core.boot.remedy import RemedyRow


class FirstBootView(StopView):
    """What will start now, what would start after the remedy, a trial beside what it proves, and the after-checks."""

    needs_room = True

    def __init__(self, desk: OpenJob, parent: QWidget) -> None:
        super().__init__(tr("First boot"), parent)
        self._desk, self._model = desk, desk.first_boot
        self._now_head, self._now_more = label(tr("Now"), "head"), Elided("", "muted")
        self._then_head, self._then_more = label(tr("After the remedy"), "head"), Elided("", "muted")
        self.now, self.then = ChainView(), ChainView()
        self.remedy = Choice()
        self.remedy.setAccessibleName(tr("Remedy"))
        self.remedy.currentIndexChanged.connect(lambda _: self._show_remedy())
        self.tail = tail_field(tr("Last four characters of the new drive's serial"))
        keep_draft(desk.drafts, "remedy tail", self.tail)
        self._subject = Subject(desk.drafts, "remedy tail", self.tail)
        self.tail.textChanged.connect(lambda _: self._show_orders())
        self.mend = button(tr("Do the remedy"), self._mend, "write")
        self.undo = button(tr("Put it back"), self._undo, "", tr("The last remedy, byte for byte"))
        self.finish = button(tr("Finish it"), self._finish, "", tr("The rest of the last remedy, which was cut off"))
        self.again = button(tr("Look again"), self._model.refresh, "", tr("Read the drives again, sealed"))
        self.trial = button(tr("Try it"), self._try, "main", tr("Start it in an emulated machine  Ctrl+Return"))
        self.next = button(tr("Go on"), lambda: self.stop_asked.emit("handover"))
        self.entries = button(
            tr("Boot entries…"), self._list_entries, "", tr("The machine's own boot entries  Ctrl+Shift+B")
        )
        self.after = button(
            tr("After the system…"), self._show_afterwards, "", tr("What follows a clean system  Ctrl+Shift+N")
        )
        self.display = ScreenView()
        self._on_screen = False
        self.display.pressed.connect(self._model.press)
        self.serial = QPlainTextEdit()
        self.serial.setReadOnly(True)
        self.serial.setFont(look().font(mono=True))
        self.serial.setAccessibleName(tr("What the emulated machine says"))
        self._proves = QVBoxLayout()
        self.bars = BeforeAfter()
        self.checks_box = QVBoxLayout()
        self.boxes: dict[str, QCheckBox] = {}
        self.fillings: dict[str, QLabel] = {}
        self.watch = button(
            tr("Stopwatch…"), self.show_stopwatch, "", tr("How long a start takes now, beside before  Ctrl+Shift+G")
        )
        self.run_in = button(tr("Run-in…"), self.show_run_in, "", tr("What the new drive gives  Ctrl+Shift+R"))
        self._messages = QVBoxLayout()
        self._build()
        self._model.changed.connect(self.refresh)
        desk.run_in.changed.connect(self.refresh)
        self._model.moved.connect(self._show_moving)

    def _build(self) -> None:
        self._remedy_row = QWidget()
        line = FlowRow(look().px(10))
        line.addWidget(self.remedy)
        self._ask = label("", "muted")
        line.group(self._ask, self.tail)
        line.addWidget(self.mend)
        self._remedy_row.setLayout(line)
        then = QWidget()
        then.setLayout(stack(row(self._then_head, self._then_more), self.then, self._remedy_row, gap=look().px(6)))
        self._then = then
        self._seen = row(self.display, self.serial, gap=look().px(14))
        self._keys = label(tr("Click the screen to type into it; Ctrl+Tab leaves it."), "small", wrap=True)
        self.turn = button(tr("Its screen"), self._turn)
        trial = stack(row(label(tr("Trial boot"), "head"), None, self.turn), self._seen, self._keys)
        trial.setStretch(1, 1)
        beside = QWidget()
        beside.setLayout(stack(self._proves, self.bars, None))
        afterwards = QWidget()
        for layout in (self.checks_box, self._messages, self._proves):
            layout.setSpacing(look().px(8))
        lists = stack(
            label(tr("Looked at after it starts"), "head"),
            self.checks_box,
            label(tr("If it says something else"), "head"),
            self._messages,
            None,
            gap=look().px(8),
        )
        afterwards.setLayout(lists)
        below = row(gap=look().px(22))
        below.addLayout(trial, 5)
        self._beside, self._lists = scrolled(beside), scrolled(afterwards)
        for area in (self._beside, self._lists):
            area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        below.addWidget(self._beside, 4)
        below.addWidget(self._lists, 5)
        now = row(self._now_head, self._now_more, gap=look().px(14))
        now.setStretch(1, 1)
        self._fault = label("", "stop", wrap=True)
        self._fault.hide()
        self.body.addLayout(now)
        self.body.addWidget(self.now)
        self.body.addWidget(self._then)
        self.body.addLayout(below, 1)
        self.body.addWidget(self._fault)
        foot = FlowRow(look().px(8), at_right=True)
        for widget in (
            self.watch,
            self.run_in,
            self.after,
            self.entries,
            self.finish,
            self.undo,
            self.again,
            self.next,
        ):
            foot.addWidget(widget)
        foot.addWidget(self.trial)
        self.body.addLayout(foot)
        for message in first_boot_texts().messages:
            then_do = " ".join(said(text) for text in message.then)
            self._messages.addWidget(notice("note", message.shows, f"{said(message.means)} {then_do}"))

    def enter(self) -> None:
        self._model.prepare()

    def main_action(self) -> None:
        self.trial.click()

    def main_widget(self) -> QWidget | None:
        return self.trial

    # Showing

    def refresh(self) -> None:
        model, look_ = self._model, self._model.look
        machine = model.machine
        name = machine.title if machine is not None else tr("a usual machine")
        stays = tr("with the old drive behind it") if model.old_stays else tr("when the old drive has left")
        self.subtitle.say(tr("What {0} will start with the new drive, {1}").format(name, stays))
        tags = {d.docked.name: d.tag for d in self._desk.bench.docks() if d.docked and d.present}
        self._now_head.setText(tr("As planned") if model.is_planned else tr("Now"))
        if look_ is not None:
            self.now.show_chain(stations_of(look_.forecast, tags))
            self._now_more.say(answer_of(look_.forecast))
        else:
            self.now.show_chain([])
            waits = tr("The new drive must be connected: put it into a dock.")
            self._now_more.say(tr("Reading the drives…") if model.looking else waits if not model.drives() else "")
        self._show_remedies()
        self._show_trial()
        self._show_checks()
        improvement = self._desk.handover.improvement
        self.bars.setVisible(improvement is not None)
        if improvement is not None:
            self.bars.show_improvement(improvement)
        self._beside.setVisible(not model.trying and (model.trial is not None or improvement is not None))
        self._lists.setVisible(not model.trying)
        fault = model.failure or model.trouble
        self._fault.setVisible(fault is not None)
        self._fault.setText(said(fault.sentence()) if fault is not None else "")
        self._show_orders()

    def _show_remedies(self) -> None:
        rows = self._model.remedies
        self._then.setVisible(bool(rows))
        if [self.remedy.itemData(n) for n in range(self.remedy.count())] != [_key(r) for r in rows]:
            self.remedy.blockSignals(True)
            self.remedy.clear()
            for one in rows:
                self.remedy.addItem(said(one.text).split(":")[0].split(".")[0][:60], _key(one))
            self.remedy.blockSignals(False)
        self._show_remedy()

    def _chosen(self) -> RemedyRow | None:
        key = self.remedy.currentData()
        return next((r for r in self._model.remedies if _key(r) == key), None)

    def _show_remedy(self) -> None:
        chosen = self._chosen()
        if chosen is None:
            return
        after = self._model.after(chosen)
        tags = {d.docked.name: d.tag for d in self._desk.bench.docks() if d.docked and d.present}
        self.then.show_chain(stations_of(after, tags) if after is not None else [])
        if chosen.cannot:
            self.then.show_chain([Station(tr("It cannot be done"), said(chosen.cannot), False, True)])
            self._then_more.say(said(chosen.text))
            return
        total = sum(end - start for start, end in chosen.writes)
        of_old = chosen.drive == self._desk.place("old")
        asked = tr("The old drive was sealed until now. To write to it, type how its serial ends")
        self._ask.setText(asked if of_old else tr("To write, type how the new drive's serial ends"))
        told = tr("{0} It changes {1} bytes in {2} places; what stands there is kept.").format(
            said(chosen.text), total, len(chosen.writes)
        )
        for entry in chosen.entries_lost:
            told += " " + tr("{0} will find nothing any more: make it anew in the firmware.").format(entry)
        self._then_more.say(told)

    def _show_moving(self) -> None:
        """The serial text and the screen, which change while a trial runs; its keyboard stays where it is."""
        model = self._model
        if self.serial.toPlainText() != model.said:
            self.serial.setPlainText(model.said)
            self.serial.moveCursor(QTextCursor.MoveOperation.End)
        self.display.show_picture(model.picture_path, model.trying)
        seen = not self.display.picture.isNull()
        self.display.setVisible(seen and (model.trying or self._on_screen))
        self.serial.setVisible(model.trying or not (seen and self._on_screen))
        self._keys.setVisible(seen and model.trying)
        self.turn.setVisible(seen and not model.trying)
        self.turn.setText(tr("Its text") if self._on_screen else tr("Its screen"))

    def _turn(self) -> None:
        """From the text of the last trial to its last picture, and back."""
        self._on_screen = not self._on_screen
        self._show_moving()

    def _show_trial(self) -> None:
        model, trial = self._model, self._model.trial
        self._show_moving()
        self.serial.setPlaceholderText(
            tr("Starting…")
            if model.trying
            else tr("Nothing was tried yet. Nothing is written to the drives by a trial.")
        )
        clear(self._proves)
        if trial is None:
            return
        self._proves.addWidget(label(tr("This proves"), "head"))
        for text in trial.proves or (tr("Nothing: no loader was started."),):
            self._proves.addWidget(notice("good" if trial.loader_ran else "stop", text))
        self._proves.addWidget(label(tr("It does not prove"), "head"))
        for text in trial.does_not_prove:
            self._proves.addWidget(notice("note", text))
        listed = trial.firmware_list.boot_entries if trial.firmware_list is not None else ()
        if listed:
            self._proves.addWidget(label(tr("The emulated firmware's list afterwards"), "head"))
        for entry in listed:
            self._proves.addWidget(label(f"{entry.number}  {entry.label}", "muted", wrap=True, copyable=True))

    def _show_checks(self) -> None:
        wanted = self._model.checks()
        if list(self.boxes) != [c.code for c in wanted]:
            clear(self.checks_box)
            self.boxes, self.fillings = {}, {}
            for one in wanted:
                box = QCheckBox()
                box.setAccessibleName(said(one.text))
                box.clicked.connect(lambda on, code=one.code: self._model.check(code, on))
                self.boxes[one.code], self.fillings[one.code] = box, label("", "small", wrap=True, copyable=True)
                words = stack(label(said(one.text), wrap=True), self.fillings[one.code], gap=0)
                line = row(gap=look().px(8))
                line.addWidget(box, 0, Qt.AlignmentFlag.AlignTop)
                line.addLayout(words, 1)
                self.checks_box.addLayout(line)
        fillings = self._model.fillings()
        for code, box in self.boxes.items():
            told = fillings.get(code)
            settled = told is not None and told.settled
            box.setChecked(settled or code in self._model.record.checked)
            box.setEnabled(not settled)
            box.setToolTip(tr("Known from the records") if settled else "")
            self.fillings[code].setText(said(told.text) if told is not None else "")
            self.fillings[code].setVisible(told is not None)

    def _show_orders(self) -> None:
        model, chosen = self._model, self._chosen()
        expected = model.tail_of(chosen.drive) if chosen is not None else ""
        last = model.last_mended
        undone = model.tail_of(last.drive) if last is not None else ""
        self._subject.be(model.subject_of(chosen) if chosen is not None else f"undo {last.record if last else ''}")
        typed = self.tail.text().strip().casefold()
        fits = bool(typed) and typed == expected.casefold()
        able = chosen is not None and not chosen.cannot
        self.mend.setEnabled(not model.is_busy and able and fits)
        self.after.setVisible(model.is_fresh)
        self.undo.setVisible(bool(model.record.remedies))
        confirmed = not model.is_busy and bool(typed) and typed == undone.casefold()
        self.undo.setEnabled(confirmed)
        self.finish.setVisible(model.is_cut)
        self.finish.setEnabled(confirmed)
        self.again.setEnabled(not model.is_busy and bool(model.drives()))
        self.trial.setEnabled((model.trying or not model.is_busy) and bool(model.drives()))
        self.trial.setText(tr("Stop the trial") if model.trying else tr("Try it"))

    def checks(self) -> list[Check]:
        look_, plan = self._model.look, self._desk.plan.written
        found = [Check("caution", step) for step in (plan.afterwards if plan is not None else ())]
        if look_ is not None:
            found += [Check(f.severity, f.text, f.remedy) for f in look_.forecast.findings]
        return found

    # Orders

    def _mend(self) -> None:
        chosen = self._chosen()
        if chosen is not None and self._model.mend(chosen, self.tail.text().strip()):
            self.tail.clear()

    def show_stopwatch(self) -> None:
        """Time the start as it is now; F5 goes on from mark to mark."""
        sheet = StopwatchSheet(self, self._desk)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.finished.connect(self.refresh)
        sheet.open()

    def show_run_in(self) -> None:
        """What the new drive gives, on a scratch file."""
        RunInSheet(self, self._desk.run_in).open()

    def _show_afterwards(self) -> None:
        AfterwardsSheet(self, self._model).open()

    def _list_entries(self) -> None:
        sheet = EntriesSheet(self, self._model)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.open()

    def _finish(self) -> None:
        if self._model.finish(self.tail.text().strip()):
            self.tail.clear()

    def _undo(self) -> None:
        if self._model.put_back(self.tail.text().strip()):
            self.tail.clear()

    def _try(self) -> None:
        if self._model.trying:
            self._model.stop_trial()
        else:
            self._model.try_it()


def _key(remedy: RemedyRow) -> str:
    return f"{remedy.code} {remedy.drive}"
