"""A quote as the customer will see it, and what they answered."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QDate, QLocale, Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QDialog, QFileDialog, QLineEdit, QTextBrowser, QWidget

from neogenesis.app.decide.lanes import WAY_NAMES
from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.handover.report_print import document, report_html, write_slip
from neogenesis.app.language import LANGUAGE, languages, mark, said, spoken_in, tr
from neogenesis.app.parts.chips import Chips
from neogenesis.app.parts.controls import Choice, button, label, row, stack
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.theme.look import look
from neogenesis.app.words import time_range
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job.quote import Quote, offered_ways, quote_report
from neogenesis.core.job.report import Report

#: Things that a way keeps or costs, for the catalogue of texts.
WORDS = (
    *(mark("files"), mark("settings"), mark("licences"), mark("accounts"), mark("drivers"), mark("encryption")),
    *(mark("low"), mark("some"), mark("high")),
)


def page_of(quote: Quote) -> Report:
    """In the language that is spoken now, with its way of writing money and days."""

    def cash(text: str) -> str:
        return f"{QLocale().toString(float(text), 'f', 2)} {quote.currency}".strip()

    report = quote_report(quote, cash, time_range, said)
    day = QLocale().toString(QDate.fromString(quote.until, Qt.DateFormat.ISODate), QLocale.FormatType.LongFormat)
    last = report.sections[-1]
    return Report(report.title, report.subtitle, (*report.sections[:-1], type(last)(last.heading, (day,))))


class QuoteSheet(QDialog):
    """`accepted_way` tells that the customer took one of the ways."""

    accepted_way = pyqtSignal(str)

    def __init__(self, parent: QWidget, desk: OpenJob) -> None:
        super().__init__(parent)
        self._desk, self._model = desk, desk.quote
        self.setWindowTitle(tr("Quote"))
        around = parent.window()
        self.resize(look().px(760), min(look().px(700), around.height() - 20 if around is not None else 700))
        offered = offered_ways(self._model.decision)
        able = [(w.way, tr(WAY_NAMES[w.way])) for w in self._model.decision.ways if w.allowed]
        self.ways = Chips(tr("Ways that are offered"), able)
        self.ways.show_chosen({w.way for w in offered})
        self.ways.switched.connect(lambda _: self._show())
        self.language: QComboBox = Choice()
        for code, name in languages().items():
            self.language.addItem(name, code)
        self.language.setCurrentIndex(max(0, self.language.findData(LANGUAGE.code)))
        self.language.setAccessibleName(tr("Language of the quote"))
        self.language.currentIndexChanged.connect(lambda _: self._show())
        shop = desk.bench.shop
        self.days = self._line(tr("Days that it is valid"), shop.quote_days)
        self.tax = self._line(tr("Tax, per cent"), shop.tax_percent)
        self.page = QTextBrowser()
        self.page.setAccessibleName(tr("The quote"))
        self.note = QLineEdit()
        self.note.setPlaceholderText(tr("what the customer said"))
        self.note.setAccessibleName(tr("What the customer said"))
        self._said = label("", "stop", wrap=True)
        self._standing = label("", "muted", wrap=True, copyable=True)
        self.give = button(tr("Give it to the customer…"), self._ask_pdf, "main", tr("A PDF, and on record"))
        self.choice: QComboBox = Choice()
        self.choice.setAccessibleName(tr("Way that the customer takes"))
        self.accept_it = button(tr("Accepted"), self._accepted, "main")
        self.decline = button(tr("Declined"), lambda: self._answer(""))
        inputs = FlowRow(look().px(12))
        inputs.group(label(tr("Language"), "muted"), self.language)
        inputs.group(label(tr("Valid for days"), "muted"), self.days)
        inputs.group(label(tr("Tax %"), "muted"), self.tax)
        close = button(tr("Close"), self.reject)
        self._answers = QWidget()
        self._answers.setLayout(row(self.note, self.choice, self.decline, self.accept_it, gap=look().px(8)))
        foot = row(self._standing, None, close, self.give, gap=look().px(10))
        foot.setStretch(0, 1)
        body = stack(
            self.ways, inputs, self.page, self._said, self._answers, foot, gap=look().px(10), margin=look().px(18)
        )
        body.setStretch(2, 1)
        self.setLayout(body)
        self._show()

    def _line(self, name: str, text: str) -> QLineEdit:
        made = QLineEdit(text)
        made.setFixedWidth(look().px(64))
        made.setAccessibleName(name)
        made.textEdited.connect(lambda _: self._show())
        return made

    # Showing

    def _draft(self) -> Quote | None:
        decision = self._model.decision
        ways = [w.way for w in decision.ways if w.way in self.ways.chosen]
        ordered = tuple(sorted(ways, key=lambda w: w != decision.recommended))
        try:
            quote = self._model.draft(ordered, str(self.language.currentData()), self.days.text(), self.tax.text())
        except NeogenesisError as error:
            self._say(said(error.sentence()))
            return None
        self._say("")
        return quote

    def _say(self, text: str) -> None:
        self._said.setText(text)
        self._said.setVisible(bool(text))

    def _show(self) -> None:
        quote = self._draft()
        self.give.setEnabled(quote is not None and not self._desk.job.closed)
        if quote is not None:
            with spoken_in(quote.language):
                html = report_html(page_of(quote), self._desk.bench.shop, "")
            made = document(html, None)
            made.setParent(self.page)
            made.setDocumentMargin(look().px(18))
            self.page.setDocument(made)
        self._show_standing()

    def _show_standing(self) -> None:
        latest = self._model.latest
        waits = latest is not None and latest.state == "open"
        self._answers.setVisible(waits)
        if latest is None:
            self._standing.setText(tr("No quote was given yet."))
            return
        if waits:
            self.choice.clear()
            for offer in latest.offers:
                self.choice.addItem(f"{tr(WAY_NAMES[offer.way])}  {offer.gross} {latest.currency}", offer.way)
            text = tr("Quote {0} was given; what did the customer say?").format(latest.number)
            changed = tr("Something costs more or less by now.") if self._model.out_of_date else ""
            self._standing.setText(f"{text} {changed}".strip())
        elif latest.accepted:
            text = tr("Quote {0} was accepted: {1}")
            words = text.format(latest.number, tr(WAY_NAMES.get(latest.accepted, latest.accepted)))
            if self._model.total:
                extras = ", ".join(said(title) for title, _ in self._model.extras)
                more = tr("With what was agreed since ({0}): {1}")
                words = f"{words} {more.format(extras, f'{self._model.total} {latest.currency}')}"
            self._standing.setText(words)
        else:
            self._standing.setText(tr("Quote {0} was declined.").format(latest.number))

    # Doing

    def _ask_pdf(self) -> None:
        quote = self._draft()
        if quote is None:
            return
        usual = str(self._desk.dossier / f"quote-{quote.number.rsplit('-', 1)[-1]}.pdf")
        name, _ = QFileDialog.getSaveFileName(self, tr("Quote as PDF"), usual, "PDF (*.pdf)")
        if name:
            self.give_to(Path(name))

    def give_to(self, pdf: Path) -> None:
        """Write the page and put it on record."""
        quote = self._draft()
        if quote is None:
            return
        try:
            with spoken_in(quote.language):
                write_slip(page_of(quote), pdf, self._desk.bench.shop)
            self._model.give(quote)
        except NeogenesisError as error:
            self._say(said(error.sentence()))
        self._show_standing()

    def _accepted(self) -> None:
        self._answer(str(self.choice.currentData()))

    def _answer(self, way: str) -> None:
        try:
            self._model.answer(way, self.note.text())
        except NeogenesisError as error:
            self._say(said(error.sentence()))
            return
        self._show_standing()
        if way:
            self.accepted_way.emit(way)
            self.accept()
