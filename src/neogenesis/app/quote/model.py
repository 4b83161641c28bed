"""The quotes of a job: made from what is known now, answered by the customer, kept in the dossier."""

from __future__ import annotations

from datetime import datetime

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.decide.model import DecideModel
from neogenesis.app.desk.session import Session
from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.survey.model import SurveyModel
from neogenesis.core.decide import Decision
from neogenesis.core.decide.way import Way
from neogenesis.core.errors import BadArgument
from neogenesis.core.job.extras import extras_in
from neogenesis.core.job.quote import (
    Quote,
    answered,
    load_quotes,
    make_quote,
    save_quote,
    to_confirm,
    to_note,
    total_of,
)


class QuoteModel(QObject):
    """`quotes` are all of the job, the latest last; `faults` what is wrong with those that cannot be read."""

    changed = pyqtSignal()

    def __init__(self, session: Session, survey: SurveyModel, intake: IntakeModel, decide: DecideModel) -> None:
        super().__init__(session)
        self._session, self._survey, self._intake, self._decide = session, survey, intake, decide
        self.quotes, self.faults = load_quotes(session.dossier)

    @property
    def latest(self) -> Quote | None:
        return self.quotes[-1] if self.quotes else None

    @property
    def decision(self) -> Decision:
        return self._decide.decision

    @property
    def out_of_date(self) -> bool:
        """Whether a way that is still open costs something else by now."""
        latest = self.latest
        if latest is None or latest.state != "open":
            return False
        now = {w.way: w.cost_total_p50 for w in self.decision.ways}
        return any(now.get(o.way) != o.net for o in latest.offers)

    def draft(self, ways: tuple[Way, ...], language: str, days: str, tax: str) -> Quote:
        """What would be offered; raises BadArgument."""
        survey = self._survey.record
        encrypted = survey is not None and any(p.volume.encrypted for p in survey.partitions)
        job, intake = self._session.job, self._intake.intake
        if not days.strip().isdecimal():
            raise BadArgument(f"“{days}” is no number of days.", "Type one such as 14.")
        return make_quote(
            self.decision,
            ways,
            number=f"{job.ticket}-{len(self.quotes) + 1}",
            at=datetime.now(),
            days=int(days),
            customer=job.customer,
            machine=intake.plate.title or job.machine,
            language=language,
            tax_percent=tax,
            confirm=to_confirm(intake, self._intake.match.machine, encrypted),
            cautions=to_note(self.decision),
            extras=self.extras,
        )

    @property
    def extras(self) -> tuple[tuple[str, str], ...]:
        """What was agreed while the machine was open: title, and price without tax."""
        return extras_in(self._session.log())

    @property
    def total(self) -> str:
        """What the accepted quote comes to with that; empty where none was accepted, or nothing came to it."""
        latest, extras = self.latest, self.extras
        return total_of(latest, extras) if latest is not None and extras else ""

    def give(self, quote: Quote) -> None:
        """Put it on record as the one that the customer was given."""
        save_quote(self._session.dossier, quote)
        self.quotes.append(quote)
        offers = {o.way: o.gross for o in quote.offers}
        figures: dict[str, object] = {"quote": quote.number, "offers": offers, "currency": quote.currency}
        self._session.record("quote", f"Quote {quote.number} given, valid until {quote.until}", **figures)
        self.changed.emit()

    def answer(self, way: str, note: str = "") -> None:
        """The customer chose a way of the latest quote, or none. Raises BadArgument."""
        latest = self.latest
        if latest is None:
            raise BadArgument("No quote was given yet.", "Make one first.")
        row = next((w for w in self.decision.ways if w.way == way), None)
        if row is not None and not row.allowed:
            raise BadArgument("That way is not possible any more.", "Make a new quote.")
        done = answered(latest, way, datetime.now(), note)
        save_quote(self._session.dossier, done)
        self.quotes[-1] = done
        if way:
            offer = next(o for o in done.offers if o.way == way)
            figures = {"way": way, "gross": offer.gross, "note": done.note}
            self._session.record("quote", f"Quote {done.number} accepted: {way}", **figures)
            self._decide.choose(offer.way, f"accepted quote {done.number}")
        else:
            self._session.record("quote", f"Quote {done.number} declined", note=done.note)
        self.changed.emit()
