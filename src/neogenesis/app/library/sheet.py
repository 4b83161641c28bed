"""The library: what is had, what is newer, what is damaged, and what a source offers."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QDialog, QFileDialog, QGridLayout, QPushButton, QWidget

from neogenesis.app.language import mark, said, tr
from neogenesis.app.library.model import LibraryModel
from neogenesis.app.parts.controls import Elided, SeverityMark, button, clear, label, row, scrolled, stack
from neogenesis.app.theme.look import look
from neogenesis.app.words import both, nominal
from neogenesis.core.media.library import Kind, Row, State

_KINDS: dict[Kind, str] = {
    "system": mark("system image"),
    "installer": mark("installer"),
    "drivers": mark("driver packages"),
    "other": mark("other"),
}
#: Severity and words of each state; `{0}` is the newer file.
_STATES: dict[State, tuple[str, str]] = {
    "had": ("good", mark("as the source has it")),
    "newer": ("caution", mark("newer known: {0}")),
    "damaged": ("stop", mark("not what the source says: fetch it again")),
    "offered": ("note", mark("offered")),
    "own": ("note", mark("own")),
}


class LibrarySheet(QDialog):
    """`source_taken` tells where files are fetched from, from now on."""

    source_taken = pyqtSignal(str)

    def __init__(self, parent: QWidget, model: LibraryModel) -> None:
        super().__init__(parent)
        self._model = model
        self.setWindowTitle(tr("Library"))
        self.resize(look().px(900), look().px(560))
        self._from = Elided("", "muted")
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(look().px(14))
        self._grid.setVerticalSpacing(look().px(8))
        self._grid.setColumnStretch(1, 2)
        self._grid.setColumnStretch(4, 2)
        self.orders: dict[str, QPushButton] = {}
        self._going = Elided("", "muted")
        self._fault = label("", "stop", wrap=True, copyable=True)
        self.stop = button(tr("Stop"), model.stop, "", tr("What has come is kept, and gone on with"))
        self.again = button(tr("Look again"), model.look)
        self._build()
        model.changed.connect(self.refresh)
        model.moved.connect(self._show_moving)
        self.refresh()

    def _build(self) -> None:
        holder = QWidget()
        holder.setLayout(stack(self._grid, None))
        what = tr(
            "System images, installers and packages of the bench. A source is a folder or share with a catalogue."
        )
        source = row(button(tr("Source…"), self._choose), self._from, gap=look().px(12))
        source.setStretch(1, 1)
        below = row(self._going, self.stop, gap=look().px(12))
        below.setStretch(0, 1)
        body = stack(
            label(what, "muted", wrap=True),
            source,
            scrolled(holder),
            below,
            self._fault,
            row(
                label(str(self._model.folder), "small", copyable=True),
                None,
                self.again,
                button(tr("Close"), self.accept, "main"),
            ),
            gap=look().px(12),
            margin=look().px(18),
        )
        body.setStretch(2, 1)
        self.setLayout(body)

    def _choose(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, tr("Where files are fetched from"), self._model.source)
        if chosen:
            self.take_source(chosen)

    def take_source(self, source: str) -> None:
        self.source_taken.emit(source)
        self._model.take_source(source)

    def refresh(self) -> None:
        model = self._model
        self._from.say(model.source or tr("none yet"))
        self._fault.setVisible(model.failure is not None)
        self._fault.setText(said(model.failure.sentence()) if model.failure is not None else "")
        clear(self._grid)
        self.orders = {}
        for n, one in enumerate(model.rows):
            self._row(n, one)
        if not model.rows and not model.looking:
            empty = tr("Nothing yet. Put files into the folder below, or choose a source.")
            self._grid.addWidget(label(empty, "muted", wrap=True), 0, 1)
        self.again.setEnabled(not model.looking and not model.fetching)
        self._show_moving()

    def _row(self, n: int, one: Row) -> None:
        severity, words = _STATES[one.state]
        self._grid.addWidget(SeverityMark(severity), n, 0, Qt.AlignmentFlag.AlignVCenter)
        self._grid.addWidget(label(one.name, "", wrap=True, copyable=True), n, 1)
        self._grid.addWidget(label(tr(_KINDS[one.kind]), "muted"), n, 2)
        self._grid.addWidget(label(both(one.size_bytes), "muted"), n, 3, Qt.AlignmentFlag.AlignRight)
        self._grid.addWidget(label(tr(words).format(one.newer), "muted", wrap=True), n, 4)
        wanted = one.newer or (one.name if one.state in ("offered", "damaged") else "")
        if wanted:
            order = button(tr("Fetch"), lambda name=wanted: self._model.fetch(name), "", wanted)
            order.setAccessibleName(tr("Fetch {0}").format(wanted))
            order.setEnabled(not self._model.fetching and not self._model.looking)
            self.orders[wanted] = order
            self._grid.addWidget(order, n, 5)

    def _show_moving(self) -> None:
        model, fetched = self._model, self._model.fetched
        self.stop.setVisible(bool(model.fetching))
        if model.fetching:
            done, total = (fetched.done, fetched.total) if fetched is not None else (0, 0)
            self._going.say(tr("{0}: {1} of {2}").format(model.fetching, nominal(done), nominal(total)))
        else:
            self._going.say(tr("Reading the library…") if model.looking else "")

    def done(self, result: int) -> None:
        self._model.stop()
        super().done(result)
