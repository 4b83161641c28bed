"""The Intake stop: one page in the order of a telephone call, the stopwatch, and the guide for what does not start."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QHideEvent, QKeyEvent, QShowEvent
from PyQt6.QtWidgets import QApplication, QPushButton, QScrollArea, QStackedWidget, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.handover.report_print import write_slip
from neogenesis.app.intake.lines import Part
from neogenesis.app.intake.photographs import PhotographsPart
from neogenesis.app.intake.sections import ArrivedPart, HurtsPart, LaterPart, MeasuredPart, SurvivesPart
from neogenesis.app.intake.triage_page import TriagePage
from neogenesis.app.intake.watch_page import WatchPage
from neogenesis.app.intake.who import WhoPart
from neogenesis.app.language import said, tr, trn
from neogenesis.app.parts.controls import Elided, button, notice, stack
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.parts.stop import Check, StopView
from neogenesis.app.theme.look import look
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.intake import Ask
from neogenesis.core.job import make_slip

_PAGE, _WATCH, _TRIAGE = range(3)


class Contents(QWidget):
    """The parts of the page by name, each with a sign while something of it is still to ask."""

    part_asked = pyqtSignal(str)

    def __init__(self, parts: Sequence[Part]) -> None:
        super().__init__()
        self._flow = FlowRow(look().px(2))
        self.setLayout(self._flow)
        self.links: dict[str, QPushButton] = {}
        for part in parts:
            link = button(part.short, lambda key=part.key: self.part_asked.emit(key), "plain")
            link.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            self.links[part.key] = link
            self._flow.addWidget(link)

    def show_open(self, counts: dict[str, int], titles: dict[str, str]) -> None:
        for key, link in self.links.items():
            count = counts.get(key, 0)
            link.setText(f"{titles[key]}  {count}" if count else titles[key])
            link.setToolTip(trn("{0} still to ask", "{0} still to ask", count).format(count) if count else "")


class IntakeView(StopView):
    """Everything that is typed is kept at once; nothing has to be finished."""

    def __init__(self, desk: OpenJob, parent: QWidget) -> None:
        super().__init__(tr("Intake"), parent)
        self._desk, self._model = desk, desk.intake
        self.who, self.hurts, self.survives = WhoPart(self._model), HurtsPart(self._model), SurvivesPart(self._model)
        self.arrived, self.later = ArrivedPart(self._model), LaterPart(self._model)
        self.measured = MeasuredPart(self._model)
        self.photographs = PhotographsPart(self._model, desk)
        photographs = Part("photographs", tr("Photographs"), tr("photographs"))
        photographs.body.addWidget(self.photographs)
        photographs.fields = {"photographs": self.photographs.add}
        photographs.refreshers = [self.photographs.refresh]
        self.parts: tuple[Part, ...] = (
            self.who,
            self.hurts,
            self.survives,
            self.arrived,
            self.later,
            self.measured,
            photographs,
        )
        self.measured.stopwatch_asked.connect(self.show_stopwatch)
        self.contents = Contents(self.parts)
        self.contents.part_asked.connect(self._go_to)
        column = self._page_column()
        if self._model.failure is not None:
            column.addWidget(notice("caution", self._model.failure.text, self._model.failure.remedy))
        for fault in self._model.machine_faults:
            column.addWidget(notice("caution", fault))
        for part in self.parts:
            column.addWidget(part)
        column.addStretch(1)
        self.watch, self.triage = WatchPage(self._model), TriagePage(self._model)
        self.watch.back_asked.connect(self.show_page)
        self.triage.back_asked.connect(self.show_page)
        self.triage.stop_asked.connect(self.stop_asked)
        self.pages.addWidget(self.watch)
        self.pages.addWidget(self.triage)
        self.told = Elided("", "muted")
        self.told.hide()
        self.next = button(tr("Next question"), self.next_question, "", tr("Go to what is still to ask  Ctrl+J"))
        self.to_triage = button(tr("It does not start…"), self.show_triage, "", tr("The next cheapest test  F6"))
        self.slip = button(tr("Print the slip"), self.print_slip, "", tr("PDF for the customer to sign  F7"))
        self.go = button(tr("Go to Survey"), lambda: self.stop_asked.emit("survey"), "main", tr("Ctrl+Return"))
        self.foot = QWidget()
        orders = FlowRow(look().px(10), at_right=True)
        for widget in (self.next, self.to_triage, self.slip, self.go):
            orders.addWidget(widget)
        self.foot.setLayout(stack(self.told, orders, gap=look().px(6)))
        self.body.addWidget(self.foot)
        self._model.changed.connect(self.refresh)
        application = QApplication.instance()
        if isinstance(application, QApplication):
            application.focusChanged.connect(self._follow)

    def _page_column(self) -> QVBoxLayout:
        """Where the parts of the page go. All around them is in its place before: each move restyles what is inside."""
        self.pages = QStackedWidget()
        self.body.addWidget(self.pages, 1)
        page = QWidget()
        self.pages.addWidget(page)
        upright = QVBoxLayout(page)
        upright.setContentsMargins(0, 0, 0, 0)
        upright.setSpacing(look().px(8))
        upright.addWidget(self.contents)
        self.area = QScrollArea()
        upright.addWidget(self.area, 1)
        inner = QWidget()
        self.area.setWidget(inner)
        self.area.setWidgetResizable(True)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, look().px(10), 0)
        column.setSpacing(look().px(14))
        return column

    # Going about

    def _follow(self, old: QWidget | None, now: QWidget | None) -> None:
        """What has the keyboard is in sight."""
        inner = self.area.widget()
        if not self.who.has_keyboard() and now is not None:
            self.who.fold()
        if now is not None and inner is not None and inner.isAncestorOf(now) and self.isVisible():
            self.area.ensureWidgetVisible(now, 20, look().px(60))

    def _go_to(self, key: str) -> None:
        part = next(p for p in self.parts if p.key == key)
        self.show_page()
        bar = self.area.verticalScrollBar()
        if bar is not None:
            bar.setValue(part.y())
        first = next(iter(part.fields))
        part.take_keyboard(next((a.code for a in self._model.asks if a.code in part.fields), first))

    def next_question(self) -> None:
        """The keyboard goes to the next question that is open, after the one where it is."""
        self.show_page()
        places = [(ask.code, part) for ask in self._model.asks for part in self.parts if ask.code in part.fields]
        if not places:
            return
        here = QApplication.focusWidget()
        at = next((n for n, (code, part) in enumerate(places) if here is not None and _holds(part, code, here)), -1)
        code, part = places[(at + 1) % len(places)]
        part.take_keyboard(code)

    def show_page(self) -> None:
        self.pages.setCurrentIndex(_PAGE)
        self.foot.show()

    def show_stopwatch(self) -> None:
        self._turn_to(_WATCH)
        self.watch.refresh()
        self.watch.press.setFocus()

    def show_triage(self) -> None:
        self._turn_to(_TRIAGE)
        self.triage.refresh()
        self.triage.take_keyboard()

    def _turn_to(self, page: int) -> None:
        self.pages.setCurrentIndex(page)
        self.foot.hide()

    def press_stopwatch(self) -> None:
        """F5, wherever the keyboard is: the first press counts already."""
        self.watch._press()
        if self.pages.currentIndex() != _WATCH:
            self.show_stopwatch()

    def paste_photograph(self) -> None:
        self.photographs.paste()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape and self.pages.currentIndex() != _PAGE:
            self.show_page()
            self.who.customer.setFocus()
            return
        super().keyPressEvent(event)

    def main_action(self) -> None:
        self.go.click()

    def main_widget(self) -> QWidget | None:
        if self.pages.currentIndex() == _WATCH:
            return self.watch.press
        asks = self._model.asks
        return self.who.customer if any(a.code == "customer" for a in asks) else self.next

    # Showing

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    def refresh(self) -> None:
        job, asks = self._desk.job, self._model.asks
        self._model.take_in_job()
        for part in self.parts:
            part.refresh()
        self._show_open(asks)
        page = self.pages.currentIndex()
        if page == _WATCH:
            self.watch.refresh()
        elif page == _TRIAGE:
            self.triage.refresh()
        self.to_triage.setVisible(self._model.intake.starts in ("no", "sometimes") or bool(self._model.intake.triage))
        for part in self.parts:
            part.setEnabled(not job.closed)

    def _show_open(self, asks: Sequence[Ask]) -> None:
        counts = {part.key: sum(a.code in part.fields for a in asks) for part in self.parts}
        self.contents.show_open(counts, {part.key: part.short for part in self.parts})
        left = trn("{0} thing still to ask", "{0} things still to ask", len(asks)).format(len(asks))
        self.subtitle.say(f"{self._desk.ticket}  ·  {left if asks else tr('everything was asked')}")
        self.next.setEnabled(bool(asks))

    def _say(self, text: str) -> None:
        self.told.say(text)
        self.told.setVisible(bool(text))

    def print_slip(self) -> None:
        path = Path(self._desk.dossier) / "slip.pdf"
        try:
            write_slip(make_slip(self._desk.job, self._model.intake), path, self._desk.bench.shop)
        except NeogenesisError as error:
            self._say(said(error.sentence()))
            return
        self._model.tell()
        self._desk.record("slip", "Intake slip written for the customer to sign", file=str(path))
        self._say(tr("Written to {0}").format(str(path)))

    def hideEvent(self, event: QHideEvent | None) -> None:
        super().hideEvent(event)
        self._model.tell()

    def checks(self) -> list[Check]:
        """What its condition asks for, then what is still to ask."""
        found = [Check(a.severity, a.text, a.why) for a in self._model.cautions]
        found += [Check(a.severity, _sentence(said(a.text)), a.why) for a in self._model.asks]
        return found or [Check("good", tr("Everything was asked."))]


def _sentence(text: str) -> str:
    """Alone on its line."""
    return text[:1].upper() + text[1:]


def _holds(part: Part, code: str, widget: QWidget) -> bool:
    """Whether the keyboard is where `code` is answered."""
    field = part.fields[code]
    return field is widget or field.isAncestorOf(widget)
