"""A quote: the ways that a customer may choose from, with prices and tax, times as ranges, and what they must confirm.

Prices of ways are without tax; gross = net x (1 + tax), half cents up. A quote that was answered is not changed again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from decimal import ROUND_HALF_UP, Decimal, InvalidOperation
from pathlib import Path
from typing import ClassVar, Literal

import msgspec

from neogenesis.core.decide.decision import Decision, PriceItem, WayRow
from neogenesis.core.decide.way import Way
from neogenesis.core.errors import BadArgument, NeogenesisError
from neogenesis.core.fit.part import money
from neogenesis.core.intake import Intake
from neogenesis.core.job.report import Report, Section
from neogenesis.core.job.shop import parse_tax
from neogenesis.core.machine import Machine
from neogenesis.core.record import Record, load, save

State = Literal["open", "accepted", "declined"]
_CENT = Decimal("0.01")
_MOST_OFFERS = 3
_MOST_DAYS = 365
#: Of what a price is made, as a line of the quote.
_ITEM_TITLES = {"labour": "Labour", "memory": "Memory", "parts": "Parts"}
_COPIES: tuple[Way, ...] = ("replace", "split", "exact", "salvage")
WAY_TEXTS: dict[Way, str] = {
    "replace": "Everything moves to a new drive, and stays where it was.",
    "split": "The system moves to a new fast drive, your data stays on the old one.",
    "beside": "A second drive is added for more room; nothing is touched.",
    "exact": "The drive is copied sector for sector.",
    "salvage": "Your files are brought to safety; nothing else is attempted.",
    "fresh": "A clean system on a new drive, with your files brought back.",
    "do-less": "No new drive: cleaning up, a card or memory.",
    "replace-machine": "Another machine, with your files brought over.",
    "repair-start": "The start is repaired; the drive stays.",
    "repair-cause": "What makes it slow is repaired; the drive stays.",
    "refer": "A recovery laboratory is asked; until then nothing is tried.",
    "nothing-yet": "Nothing is done before what must come first.",
}


class Offer(Record, frozen=True, kw_only=True):
    """Amounts as decimal text, of all seats; `items` come to `net`. Seconds at the 10th and 90th percentile."""

    way: Way
    net: str
    tax: str
    gross: str
    items: tuple[PriceItem, ...] = ()
    seconds_p10: float
    seconds_p90: float
    keeps: tuple[str, ...]
    again: tuple[str, ...]
    risk: Literal["low", "some", "high"]


class Quote(Record, frozen=True, kw_only=True):
    """`at` and `until` are days in ISO 8601; `language` the code of the customer's.

    `extras` were agreed beside the offers: title, and price without tax.
    """

    SCHEMA: ClassVar[str] = "neogenesis.quote/1"

    schema: str = SCHEMA
    number: str
    at: str
    until: str
    customer: str
    machine: str
    language: str
    currency: str
    tax_percent: str
    offers: tuple[Offer, ...]
    recommended: Way
    image_first: bool = False
    confirm: tuple[str, ...] = ()
    cautions: tuple[str, ...] = ()
    extras: tuple[tuple[str, str], ...] = ()
    state: State = "open"
    answered_at: str = ""
    accepted: str = ""
    note: str = ""


def taxed(net: str, tax_percent: str) -> tuple[str, str]:
    """Tax and gross for a net amount, to the cent."""
    amount = money(net)
    tax = (amount * money(tax_percent or "0") / 100).quantize(_CENT, ROUND_HALF_UP)
    return f"{tax:.2f}", f"{amount.quantize(_CENT, ROUND_HALF_UP) + tax:.2f}"


def offered_ways(decision: Decision) -> list[WayRow]:
    """What is worth offering: the recommended way, the runner-up, and one of the other school."""
    rows = {w.way: w for w in decision.ways if w.allowed}
    chosen = [w for w in (decision.recommended, decision.runner_up) if w in rows and rows[w].solves]
    others = [w.way for w in sorted(decision.ways, key=lambda w: not w.solves) if w.way in rows and w.way not in chosen]
    copies = any(w in _COPIES for w in chosen)
    wanted = "fresh" if copies and "fresh" not in chosen else None
    chosen += [w for w in others if w == wanted] or [w for w in others if rows[w].solves]
    return [rows[w] for w in chosen[:_MOST_OFFERS] if w is not None]


def make_quote(
    decision: Decision,
    ways: tuple[Way, ...],
    *,
    number: str,
    at: datetime,
    days: int,
    customer: str,
    machine: str,
    language: str,
    tax_percent: str,
    confirm: tuple[str, ...] = (),
    cautions: tuple[str, ...] = (),
    extras: tuple[tuple[str, str], ...] = (),
) -> Quote:
    """Raises BadArgument without a way, for a way that is not possible, or for days and tax that make no sense."""
    rows = {w.way: w for w in decision.ways}
    if not ways:
        raise BadArgument("A quote offers at least one way.", "Mark one.")
    if not 1 <= days <= _MOST_DAYS:
        raise BadArgument(f"A quote that is valid for {days} days is of no use.", f"Type 1 to {_MOST_DAYS}.")
    parse_tax(tax_percent)
    offers = []
    for way in ways:
        row = rows[way]
        if not row.allowed:
            raise BadArgument("That way is not possible.", row.reasons[0])
        tax, gross = taxed(row.cost_total_p50, tax_percent)
        offers.append(
            Offer(
                way=way,
                net=row.cost_total_p50,
                tax=tax,
                gross=gross,
                items=tuple(_for_all(item, decision.seats) for item in row.price_items),
                seconds_p10=row.seconds_p10,
                seconds_p90=row.seconds_p90,
                keeps=row.keeps,
                again=row.again,
                risk=row.risk,
            )
        )
    return Quote(
        number=number,
        at=at.date().isoformat(),
        until=(at + timedelta(days=days)).date().isoformat(),
        customer=customer,
        machine=machine,
        language=language,
        currency=decision.currency,
        tax_percent=tax_percent,
        offers=tuple(offers),
        recommended=decision.recommended,
        image_first=decision.first is not None,
        confirm=confirm,
        cautions=cautions,
    )


def _title(item: PriceItem, word: Callable[[str], str]) -> str:
    """As a line of a bill begins; it says so where the amount is only the least."""
    what = word(_ITEM_TITLES.get(item.what, item.what))
    return f"{what[:1].upper()}{what[1:]}" + ("" if item.chosen else f" ({word('at least')})")


def _for_all(item: PriceItem, seats: int) -> PriceItem:
    return msgspec.structs.replace(item, amount=f"{money(item.amount) * seats:.2f}")


def to_confirm(intake: Intake, machine: Machine | None, encrypted: bool) -> tuple[str, ...]:
    """What the customer must confirm before the work begins."""
    found = []
    if intake.later.consent_to_open != "yes":
        found.append("The machine may be opened.")
    if machine is not None and machine.openings is not None and machine.openings.seal:
        found.append(f"A seal may be broken ({machine.openings.seal}).")
    if intake.later.warranty == "yes":
        found.append("A warranty is running, and may end with the opening.")
    found += [f"“{v.what}” is safe elsewhere; we have not seen it." for v in intake.on_shore("said")]
    if encrypted:
        found.append("The recovery key of the encrypted volume is at hand.")
    return (*found, "The list of what must survive is complete.")


def to_note(decision: Decision) -> tuple[str, ...]:
    """Usual cautions, and those of this case."""
    found = ["Keep the old drive until everything was looked at."]
    if decision.first is not None:
        found.append("A failing drive may stop at any moment: nothing of it can be promised.")
    return (*found, "The maker's manual and local rules come first.")


def answered(quote: Quote, way: str, at: datetime, note: str = "") -> Quote:
    """Accepted for a way, or declined for an empty one. Raises BadArgument when it was answered before or ran out."""
    if quote.state != "open":
        raise BadArgument(f"Quote {quote.number} was {quote.state} already.", "Make a new one.")
    if way and way not in {o.way for o in quote.offers}:
        raise BadArgument("That way was not offered.", "Make a new quote.")
    if way and at.date().isoformat() > quote.until:
        raise BadArgument(f"Quote {quote.number} was valid until {quote.until}.", "Make a new one.")
    state: State = "accepted" if way else "declined"
    when = at.isoformat(timespec="seconds")
    return msgspec.structs.replace(quote, state=state, accepted=way, answered_at=when, note=note.strip())


def total_of(quote: Quote, extras: tuple[tuple[str, str], ...]) -> str:
    """What an accepted quote comes to with what was agreed beside it, with tax; empty for one that was not accepted."""
    offer = next((o for o in quote.offers if o.way == quote.accepted), None)
    if offer is None:
        return ""
    net = money(offer.net) + sum((money(one) for _, one in extras), Decimal(0))
    return taxed(f"{net}", quote.tax_percent)[1]


def save_quote(dossier: Path, quote: Quote) -> Path:
    path = dossier / f"quote-{quote.number.rsplit('-', 1)[-1]}.json"
    save(path, quote)
    return path


def load_quotes(dossier: Path) -> tuple[list[Quote], list[str]]:
    """All quotes of a job by number, and what is wrong with those that cannot be read."""
    found, faults = [], []
    for path in sorted(dossier.glob("quote-*.json"), key=lambda p: (len(p.name), p.name)):
        try:
            quote = load(path, Quote, "quote")
            for offer in quote.offers:
                money(offer.gross)
            found.append(quote)
        except NeogenesisError as error:
            faults.append(error.sentence())
        except InvalidOperation:
            faults.append(f"The quote “{path.name}” holds an amount that is none.")
    return found, faults


def quote_report(
    quote: Quote, cash: Callable[[str], str], span: Callable[[float, float], str], word: Callable[[str], str] = str
) -> Report:
    """One page. `cash` writes an amount of money, `span` a range of seconds, `word` a thing, all in their way."""
    sections = [Section("What we offer", tuple(_intro(quote)))]
    for offer in quote.offers:
        name = WAY_TEXTS[offer.way]
        rows = [
            *((_title(item, word), cash(item.amount)) for item in offer.items),
            ("Tax", cash(offer.tax)) if money(offer.tax) else ("", ""),
            ("Price", cash(offer.gross)),
            ("It takes, 8 times of 10", span(offer.seconds_p10, offer.seconds_p90)),
            ("You keep", offer.keeps),
            ("To be done again afterwards", offer.again or ("nothing",)),
            ("Risk", word(offer.risk)),
        ]
        filled = tuple((n, v if isinstance(v, str) else "; ".join(map(word, v))) for n, v in rows if n and v)
        sections.append(Section(name, ("We recommend this.",) if offer.way == quote.recommended else (), filled))
    beside = [(title, cash(net)) for title, net in quote.extras]
    whole = total_of(quote, quote.extras) if quote.extras else ""
    if whole:
        beside.append(("All together, with tax", cash(whole)))
    sections += [
        Section("Agreed while the machine was open, without tax", rows=tuple(beside)),
        Section("Please confirm", quote.confirm),
        Section("Please note", quote.cautions),
        Section("Valid until", (quote.until,)),
    ]
    return Report(
        title=f"Quote {quote.number}",
        subtitle=" · ".join(filter(None, (quote.customer, quote.machine))),
        sections=tuple(s for s in sections if s.rows or s.sentences),
    )


def _intro(quote: Quote) -> Iterator[str]:
    if quote.image_first:
        yield "The drive is failing: it is imaged first, gently, and the image decides what can be done."
    if quote.tax_percent and money(quote.tax_percent):
        yield f"Prices are with {quote.tax_percent} % tax. Times are estimates, not promises."
    else:
        yield "Prices are without tax. Times are estimates, not promises."
