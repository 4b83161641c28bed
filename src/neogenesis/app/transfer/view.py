"""The Transfer stop: before, during and after."""

from __future__ import annotations

from PyQt6.QtWidgets import QStackedWidget, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.keep.page import KeepPage
from neogenesis.app.language import tr
from neogenesis.app.parts.controls import button, label, row, stack
from neogenesis.app.parts.stop import Check, StopView
from neogenesis.app.transfer.ended import EndedPage
from neogenesis.app.transfer.gates import GatesPage
from neogenesis.app.transfer.running import RunningPage
from neogenesis.app.words import both


class TransferView(StopView):
    """Shows the page that fits: the gates, the copy as it runs, how it ended; or what else is under way."""

    def __init__(self, desk: OpenJob, parent: QWidget) -> None:
        super().__init__(tr("Transfer"), parent)
        self._desk, self._model = desk, desk.transfer
        self.gates, self.running, self.ended, self.keep = (
            GatesPage(desk),
            RunningPage(desk),
            EndedPage(desk),
            KeepPage(desk),
        )
        self._empty = self._empty_page()
        self._pages = QStackedWidget()
        for page in (self._empty, self.gates, self.running, self.ended, self.keep):
            self._pages.addWidget(page)
        self.body.addWidget(self._pages, 1)
        self.gates.keep_asked.connect(self.keep_asked)
        for beginning in (self.gates, self.ended):
            beginning.begun.connect(self._begun)
        self._focus_pause = False
        self._model.changed.connect(self.refresh)
        self._model.moved.connect(self._moved)
        self._model.ended.connect(self._ended)
        desk.bench.drives_changed.connect(self.refresh)
        desk.plan.changed.connect(self.refresh)
        desk.keep.changed.connect(self.refresh)
        desk.keep.moved.connect(self._moved)

    def _empty_page(self) -> QWidget:
        page = QWidget()
        words = label(tr("There is no plan yet."), "head"), label(tr("Write one first: Alt+5."), "muted")
        other = button(tr("Something else…"), self.keep_asked.emit, "", tr("Image, rescue, restore…  Ctrl+I"))
        page.setLayout(stack(None, *words, row(other, None), None))
        return page

    def _begun(self) -> None:
        """The keyboard goes to Pause as soon as there is something to pause."""
        self._focus_pause = True
        self.refresh()

    def _ended(self) -> None:
        """The keyboard goes where the next step is, not to whatever stood next to a button that vanished."""
        self.refresh()
        widget = self.main_widget()
        if self.isVisible() and widget is not None:
            widget.setFocus()

    def main_action(self) -> None:
        self.gates.tail.setFocus()

    def can_pause(self) -> bool:
        return self._model.state in ("running", "paused")

    def can_stop(self) -> bool:
        return self.can_pause() or self._desk.keep.state == "running"

    def pause_or_go_on(self) -> None:
        if self.running.pause.isEnabled():
            self.running.pause.click()

    def stop_safely(self) -> None:
        self._model.stop()
        self._desk.keep.stop()

    def main_widget(self) -> QWidget | None:
        page = self._pages.currentWidget()
        if page is self.keep:
            return self.keep.main_widget()
        if page is self.ended:
            return self.ended.main_widget()
        return self.running.pause if page is self.running else self.gates.tail

    def refresh(self) -> None:
        model, plan = self._model, self._model.plan
        if self._desk.keep.state != "ready" and not model.is_active:
            self._pages.setCurrentWidget(self.keep)
            self.keep.refresh()
            self.subtitle.say(self.keep.subtitle())
        elif plan is None:
            self._pages.setCurrentWidget(self._empty)
            self.subtitle.say("")
        elif model.is_active:
            self._pages.setCurrentWidget(self.running)
            self.running.show_state()
            if self._focus_pause and self.running.pause.isEnabled():
                self._focus_pause = False
                self.running.pause.setFocus()
            self.subtitle.say(self.running.subtitle())
        elif model.state in ("done", "stopped", "failed"):
            self._pages.setCurrentWidget(self.ended)
            self.ended.show_end(plan)
            self.subtitle.say(model.target_name)
        else:
            self._pages.setCurrentWidget(self.gates)
            self.gates.show_plan(plan)
            self.subtitle.say(tr("Onto {0}, {1}").format(model.target_name, both(plan.target.size_bytes)))

    def _moved(self) -> None:
        """Only figures are others."""
        page = self._pages.currentWidget()
        if page is self.running and self._model.is_active:
            self.running.show_figures()
            self.subtitle.say(self.running.subtitle())
        elif page is self.keep:
            self.subtitle.say(self.keep.subtitle())

    def checks(self) -> list[Check]:
        plan = self._model.plan
        if plan is None:
            return []
        lost = [Check("stop", e.text, e.remedy) for e in self._model.progress.findings[-6:]]
        findings = [Check(f.severity, f.text, f.remedy) for f in plan.findings if f.severity != "note"]
        return [*lost, Check("good", tr("Old drive is sealed"), tr("It can only be read.")), *findings]
