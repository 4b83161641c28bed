"""What to buy, what is in stock, tools and small things: to look at, to print, and as CSV."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QDialog, QFileDialog, QGridLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.fit.prints import GROUP_WORDS, print_fit
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.controls import button, label, read_through, row, stack
from neogenesis.app.theme.look import look
from neogenesis.bench.register import allow_output
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.fit.lists import as_csv
from neogenesis.core.record import save_bytes

#: Words that the lists come with, for the catalogue of texts.
WORDS = (
    *(mark("plastic pick"), mark("thin plastic pick"), mark("plastic spudger"), mark("two suction cups")),
    *(mark("glove"), mark("removal keys"), mark("opening"), mark("always"), mark("memory"), mark("screw M2x3")),
)


class ListsSheet(QDialog):
    """Prints into the job's folder unless another place is chosen."""

    def __init__(self, parent: QWidget, desk: OpenJob) -> None:
        super().__init__(parent)
        self._desk, self._model = desk, desk.fit
        self.setWindowTitle(tr("What must be at hand"))
        self.resize(look().px(680), look().px(560))
        self._said = label("", "muted", wrap=True, copyable=True)
        inner = QWidget()
        grid = QGridLayout(inner)
        grid.setHorizontalSpacing(look().px(16))
        grid.setColumnStretch(1, 3)
        grid.setColumnStretch(2, 2)
        at, group = 0, ""
        for line in self._model.lists():
            if line.group != group:
                group = line.group
                grid.addWidget(label(tr(GROUP_WORDS[group]), "head"), at, 0, 1, 3)
                at += 1
            grid.addWidget(label(f"{line.count} ×", "muted"), at, 0)
            grid.addWidget(label(said(line.what), wrap=True, copyable=True), at, 1)
            grid.addWidget(label(said(line.why), "small", wrap=True, copyable=True), at, 2)
            price = "" if line.price is None else f"{line.price:.2f}"
            grid.addWidget(label(price, copyable=True), at, 3)
            at += 1
        if not at:
            grid.addWidget(label(tr("Nothing is chosen yet.")), 0, 0)
        grid.setRowStretch(at, 1)
        self.csv = button(tr("Save as CSV…"), self._ask_csv)
        self.print = button(tr("Print with the drawing…"), self._ask_print)
        close = button(tr("Close"), self.accept, "main")
        body = stack(
            read_through(inner, tr("What must be at hand")),
            self._said,
            row(self.csv, self.print, None, close),
            margin=18,
        )
        self.setLayout(body)

    def _ask_csv(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, tr("Save as CSV"), str(self._desk.dossier / "fit.csv"), "CSV (*.csv)"
        )
        if name:
            self.save_csv(Path(name))

    def save_csv(self, path: Path) -> None:
        self._do(
            lambda: save_bytes(allow_output(path, "table", force=True), as_csv(self._model.lists()).encode()), path
        )

    def _ask_print(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, tr("Print"), str(self._desk.dossier / "fit.pdf"), "PDF (*.pdf)")
        if name:
            self.print_to(Path(name))

    def print_to(self, path: Path) -> None:
        self._do(lambda: print_fit(path, self._desk.bench.shop, self._model), path)

    def _do(self, do: Callable[[], object], path: Path) -> None:
        try:
            do()
        except NeogenesisError as error:
            self._said.setText(said(error.sentence()))
        else:
            self._said.setText(tr("Written: {0}").format(path))
