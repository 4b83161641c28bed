"""The Swap stop: one key leads through the machine and back."""

from __future__ import annotations

from time import monotonic

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QMenu, QPushButton, QStackedWidget, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.intake.photographs import WatchedFolder
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.controls import button, label, scrolled
from neogenesis.app.parts.dropped import DroppedFiles
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.parts.stop import Check, StopView
from neogenesis.app.swap.board import GuideBoard
from neogenesis.app.swap.first_start import FirstStart
from neogenesis.app.swap.start import StartPage
from neogenesis.app.theme.look import TEXT_PERCENTS, look
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.swap.numbers import numbers

_PURPOSES = {"drive": mark("drive"), "memory": mark("memory")}


class Pages(QStackedWidget):
    """Its pages shrink and scroll: the height that their texts would like is not the least one."""

    def hasHeightForWidth(self) -> bool:
        return False


class SwapView(StopView):
    """Start, the guide, and what is normal at the first start; the one key is Space or one that was learned."""

    needs_room = True

    def __init__(self, desk: OpenJob, parent: QWidget) -> None:
        super().__init__(tr("Swap"), parent)
        self._desk, self._model = desk, desk.swap
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Swap: the one key"))
        self.start = StartPage(desk, self._begin, self.edit_profile)
        self.board = GuideBoard(self._model)
        self.first = FirstStart(desk, lambda: self.start.save_paper("label"))
        self._pages = Pages()
        for page in (scrolled(self.start), self.board, scrolled(self.first)):
            self._pages.addWidget(page)
        self._fault = label("", "stop", wrap=True)
        self._fault.hide()
        self._second: GuideBoard | None = None
        self._pressed_at = self._shown_at = 0.0
        self._shown: object = None
        self._possible: list[QPushButton] = []
        self.wrong = button(tr("Something is wrong…"), self.show_wrong, "", tr("Known mistakes of this step  W"))
        self.missing = button(tr("One is missing…"), self.show_missing, "", tr("A fastener that is not there  M"))
        self.leave = button(tr("Leave the rest"), self._leave, "", tr("For now it stays in the tray  L"))
        self.swollen = button(tr("It is swollen…"), self._swollen, "write", tr("A battery that is thick: stop"))
        self.photo = button(tr("Photograph…"), self.show_photo, "", tr("Shown again when this step is closed  P"))
        self.extras = button(tr("While it is open…"), self.show_extras, "", tr("What is cheap now  O"))
        self.back = button(tr("Back"), self._model.back, "", tr("One thing back  Backspace"))
        self.every = button(tr("All of them"), self._count_all, "", tr("All of this step are counted  Return"))
        self.go = button("", self.press, "main", tr("Space, or the key that was learned"))
        foot = FlowRow(look().px(8), at_right=True)
        self._orders = (
            self.wrong,
            self.missing,
            self.leave,
            self.swollen,
            self.photo,
            self.extras,
            self.back,
            self.every,
        )
        self.others = button(tr("More…"), self._show_others, "", tr("What else can be done at this step"))
        self._behind = (self.missing, self.leave, self.photo, self.extras) if look().percent > TEXT_PERCENTS[0] else ()
        for widget in (*self._orders, self.others, self.go):
            widget.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            if widget not in self._behind:
                foot.addWidget(widget)
            else:
                widget.setParent(self)
        self.body.addWidget(self._pages, 1)
        self.body.addWidget(self._fault)
        self.body.addLayout(foot)
        self._model.changed.connect(self.refresh)
        self._model.trouble.connect(self._say)
        DroppedFiles(self, self._model.photograph)  # of the step in front
        folder = desk.bench.photo_folder
        self._watched = WatchedFolder(folder) if folder else None
        if self._watched is not None:
            self._watched.came.connect(lambda paths: self._model.is_busy and self._model.photograph(paths))
        desk.fit.changed.connect(self.refresh)

    def main_widget(self) -> QWidget | None:
        return self

    def main_action(self) -> None:
        self.go.click()

    # Showing

    def refresh(self) -> None:
        guide, model = self._model.guide, self._model
        machine = model.machine
        purposes = tr("drive and memory") if "memory" in model.purposes else tr(_PURPOSES["drive"])
        opening = tr("opening {0} of {1}").format(model.this_opening, max(model.openings, model.this_opening))
        self.subtitle.say(f"{machine.title if machine else tr('machine not known')}, {opening}: {purposes}")
        if guide is None:
            self.start.refresh()
            self._pages.setCurrentIndex(0)
        elif guide.where.finished:
            self.first.refresh()
            self._pages.setCurrentIndex(2)
        else:
            self.board.refresh()
            self._pages.setCurrentIndex(1)
        self._show_orders()

    def _show_orders(self) -> None:
        guide, model = self._model.guide, self._model
        shown = guide is not None and not guide.where.finished
        row_ = guide.row if guide is not None else None
        free = guide is not None and row_ is not None and not guide.pending and guide.where.trouble is None
        counting = free and guide is not None and bool(guide.next_piece)
        ending = guide is not None and guide.is_through and bool(guide.left_over)
        closing = row_ is not None and row_.phase == "closing"
        lithium = guide is not None and (
            guide.pending == "lithium" or (row_ is not None and "lithium" in row_.step.cautions and not closing)
        )
        stopped = guide is not None and guide.where.stopped
        self.wrong.setVisible(shown and free and not stopped)
        self.missing.setVisible(shown and (counting or ending))
        self.leave.setVisible(shown and counting and closing)
        self.swollen.setVisible(shown and lithium and not stopped)
        self.photo.setVisible(shown and free)
        self.extras.setVisible(shown and free and not closing and bool(model.extras()))
        self.back.setVisible(shown)
        self.back.setEnabled(guide is not None and guide.can_go_back)
        self.every.setVisible(shown and counting)
        self._possible = [b for b in self._behind if b.isVisibleTo(self)]
        for widget in self._behind:
            widget.hide()
        self.others.setVisible(bool(self._possible))
        self.go.setText(self._go_words())
        self.go.setEnabled(self._can_go())
        if guide is not None and guide.where != self._shown:
            self._shown, self._shown_at = guide.where, monotonic()

    def _show_others(self) -> None:
        """With large text there is not room for all of them side by side."""
        menu = QMenu(self)
        for widget in self._possible:
            menu.addAction(widget.text(), widget.click)
        menu.aboutToHide.connect(menu.deleteLater)
        menu.popup(self.others.mapToGlobal(self.others.rect().topLeft()) - QPoint(0, menu.sizeHint().height()))

    def _can_go(self) -> bool:
        guide = self._model.guide
        if guide is None:
            return self._model.has_steps
        if guide.where.finished:
            return True
        if guide.is_through and guide.left_over:
            return False
        return not guide.where.stopped and self._model.left_s is None

    def _go_words(self) -> str:
        guide = self._model.guide
        if guide is None:
            return tr("Begin")
        if guide.where.finished:
            more = self._model.this_opening < guide.record.openings
            return tr("Begin the next opening") if more else tr("Go on")
        if guide.where.stopped:
            return tr("Stopped")
        if guide.must_wait_s and guide.press() is None:
            return tr("Wait…") if self._model.left_s is not None else tr("It begins now")
        return {
            "undone": tr("Done: next"),
            "ready": tr("Ready: next"),
            "acknowledge": tr("I have read this"),
            "count": tr("One in") if guide.row is not None and guide.row.phase == "closing" else tr("One out"),
            "on": tr("Counted: next") if guide.row is not None and guide.row.pieces else tr("Done: next"),
            "finish": tr("Closed, nothing left over"),
        }.get(guide.press() or "", tr("Next"))

    def checks(self) -> list[Check]:
        guide, model = self._model.guide, self._model
        found = [Check("note", numbers().defers)]
        if model.failure is not None:
            found.append(Check("stop", model.failure.text, model.failure.remedy))
        if guide is None:
            return found
        for one in (*guide.where.ledger.never_out, *guide.where.ledger.named):
            text = tr("{0} of {1}: {2}").format(one.count, one.id, said(one.reason))
            found.append(Check("caution", text))
        found += [
            Check("good", tr("Read: {0}").format(said(numbers().cautions[c].title)))
            for c in sorted(guide.where.acknowledged)
        ]
        found += [Check("note", tr("Agreed: {0}").format(said(e.title))) for e in model.agreed]
        return found

    # The keys

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key = event.key()
        learned = QKeySequence(self._desk.bench.pedal)
        is_learned = (
            not learned.isEmpty()
            and QKeySequence(event.keyCombination()).matches(learned) == QKeySequence.SequenceMatch.ExactMatch
        )
        if key == Qt.Key.Key_Space or is_learned:
            if not event.isAutoRepeat():
                self.press()
            return
        orders = {
            Qt.Key.Key_Backspace: self.back,
            Qt.Key.Key_Return: self.every,
            Qt.Key.Key_Enter: self.every,
            Qt.Key.Key_W: self.wrong,
            Qt.Key.Key_M: self.missing,
            Qt.Key.Key_L: self.leave,
            Qt.Key.Key_P: self.photo,
            Qt.Key.Key_O: self.extras,
        }
        order = orders.get(Qt.Key(key)) if not event.modifiers() else None
        if order is not None and (order.isVisible() or order in self._possible) and order.isEnabled():
            order.click()
        else:
            super().keyPressEvent(event)

    def press(self) -> None:
        """The one key: a pedal that bounces counts once, and a caution stands a moment before it is taken."""
        now, hold = monotonic(), numbers().hold
        guide = self._model.guide
        if now - self._pressed_at < hold.bounce_s or not self._can_go():
            return
        if guide is not None and guide.pending and now - self._shown_at < hold.caution_s:
            return
        self._pressed_at = now
        self._try(self._go)

    def _go(self) -> None:
        guide = self._model.guide
        if guide is None:
            self._begin()
        elif guide.where.finished:
            if self._model.this_opening < guide.record.openings:
                self._model.begin(self._model.this_opening + 1)
            else:
                self.stop_asked.emit(self._model.next_stop)
        else:
            self._model.press()
        self.setFocus()

    def _begin(self) -> None:
        self._try(self._model.begin)
        self.setFocus()

    def _count_all(self) -> None:
        self._try(self._model.count_all)

    def _leave(self) -> None:
        self._try(lambda: self._model.act("leave"))

    def _swollen(self) -> None:
        self._try(lambda: self._model.act("swollen"))

    def _try(self, do: object) -> None:
        """What cannot be done is said, and nothing else happens."""
        try:
            do()  # type: ignore[operator]
        except NeogenesisError as error:
            self._say(error.sentence())
        else:
            self._fault.hide()

    def _say(self, sentence: str) -> None:
        self._fault.setText(said(sentence))
        self._fault.show()

    # Sheets

    def show_wrong(self) -> None:
        from neogenesis.app.swap.sheets import WrongSheet

        WrongSheet(self, self._model).open()

    def show_missing(self) -> None:
        from neogenesis.app.swap.sheets import MissingSheet

        MissingSheet(self, self._model, self._desk.intake).open()

    def show_extras(self) -> None:
        from neogenesis.app.swap.sheets import ExtrasSheet

        ExtrasSheet(self, self._model, self._desk.bench.shop.currency).open()

    def show_photo(self) -> None:
        from neogenesis.app.swap.photograph import ask_for_photograph

        ask_for_photograph(self, self._model)

    def edit_profile(self) -> None:
        """The steps and fasteners of this machine."""
        from neogenesis.app.swap.editor import ProfileEditor

        ProfileEditor(self, self._model).open()

    def show_second(self) -> None:
        """The same board in a window of its own, for a second screen."""
        if self._second is None:
            self._second = GuideBoard(self._model)
            self._second.setWindowTitle(tr("Swap"))
            self._second.resize(look().px(1100), look().px(720))
            self._second.setContentsMargins(*[look().px(20)] * 4)
        self._second.refresh()
        self._second.show()

    def hideEvent(self, event: object) -> None:
        if self._second is not None and not self._desk.swap.is_busy:
            self._second.close()
        super().hideEvent(event)  # type: ignore[arg-type]
