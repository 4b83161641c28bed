"""Quotes: exact money, what is offered, what the customer answers, and the page."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from neogenesis.core.decide import decide
from neogenesis.core.errors import BadArgument
from neogenesis.core.intake import Intake
from neogenesis.core.intake.model import Later, Valuable
from neogenesis.core.job.quote import (
    Quote,
    answered,
    load_quotes,
    make_quote,
    offered_ways,
    quote_report,
    save_quote,
    taxed,
    to_confirm,
    to_note,
)
from neogenesis.core.job.shop import parse_tax
from tests.test_decide import USUAL, symptoms, with_

AT = datetime(2026, 11, 26, 12)


def quote(*ways: str, tax: str = "19", days: int = 14, **more: object) -> Quote:
    return make_quote(
        decide(USUAL),
        ways or ("replace", "fresh"),  # type: ignore[arg-type]
        number="T-7-1",
        at=AT,
        days=days,
        customer="Tern Island Ferry Company",
        machine="Petrel 14",
        language="en",
        tax_percent=tax,
        **more,  # type: ignore[arg-type]
    )


@given(st.integers(0, 10**8), st.integers(0, 10_000))
def test_gross_is_net_and_tax_to_the_cent(cents: int, hundredths: int) -> None:
    net, percent = Decimal(cents) / 100, Decimal(hundredths) / 100
    tax, gross = taxed(f"{net:.2f}", f"{percent:.2f}")
    assert Decimal(gross) == net + Decimal(tax) and abs(Decimal(tax) - net * percent / 100) <= Decimal("0.005")


def test_a_quote_holds_the_ways_with_prices_times_and_validity() -> None:
    found = quote()
    row = next(w for w in decide(USUAL).ways if w.way == "replace")
    assert found.offers[0].net == row.cost_total_p50 and found.until == "2026-12-10" and found.recommended == "replace"
    assert found.offers[0].seconds_p10 < found.offers[0].seconds_p90
    seats = make_quote(
        decide(with_(seats=3)),
        ("replace",),
        number="T-7-1",
        at=AT,
        days=1,
        customer="c",
        machine="m",
        language="de",
        tax_percent="",
    )
    assert Decimal(seats.offers[0].gross) == 3 * Decimal(row.cost_p50)


@pytest.mark.parametrize(
    ("ways", "tax", "days", "said"),
    [
        *(((), "19", 14, "at least one way"), (("replace-machine",), "19", 14, "not possible")),
        *(
            (("replace",), "ninety", 14, "no tax"),
            (("replace",), "101", 14, "no tax"),
            (("replace",), "19", 0, "no use"),
        ),
        (("replace",), "19", 4000, "no use"),
    ],
)
def test_a_quote_that_makes_no_sense_is_refused(ways: tuple[str, ...], tax: str, days: int, said: str) -> None:
    with pytest.raises(BadArgument, match=said):
        make_quote(
            decide(USUAL),
            ways,  # type: ignore[arg-type]
            number="n",
            at=AT,
            days=days,
            customer="c",
            machine="m",
            language="en",
            tax_percent=tax,
        )


def test_tax_is_typed_as_people_do() -> None:
    assert parse_tax(" 19 % ") == "19" and parse_tax("7,5") == "7.5" and parse_tax("") == ""
    for text in ("-1", "1e2", "x", "100.001"):
        with pytest.raises(BadArgument):
            parse_tax(text)


def test_what_is_offered_holds_both_schools() -> None:
    ways = [w.way for w in offered_ways(decide(USUAL))]
    assert ways[0] == "replace" and "fresh" in ways and len(ways) <= 3
    assert offered_ways(decide(symptoms("malware")))[0].way == "fresh"
    assert all(w.allowed for w in offered_ways(decide(symptoms("malware", "loop"))))


def test_an_answer_is_given_once_and_in_time() -> None:
    open_one = quote()
    taken = answered(open_one, "fresh", AT, " on the telephone ")
    assert (taken.state, taken.accepted, taken.note) == ("accepted", "fresh", "on the telephone")
    with pytest.raises(BadArgument, match="accepted already"):
        answered(taken, "", AT)
    with pytest.raises(BadArgument, match="not offered"):
        answered(open_one, "salvage", AT)
    with pytest.raises(BadArgument, match="valid until"):
        answered(open_one, "fresh", datetime(2026, 12, 11))
    assert answered(open_one, "", datetime(2027, 1, 1)).state == "declined"


def test_quotes_are_kept_and_damaged_ones_are_told(tmp_path: Path) -> None:
    for n in (1, 2, 10):
        save_quote(tmp_path, replace(quote(), number=f"T-7-{n}"))
    (tmp_path / "quote-3.json").write_text("{}")
    bad = replace(quote(), number="T-7-4")
    save_quote(tmp_path, replace(bad, offers=(replace(bad.offers[0], gross="lots"),)))
    found, faults = load_quotes(tmp_path)
    assert [q.number for q in found] == ["T-7-1", "T-7-2", "T-7-10"] and len(faults) == 2


def test_the_page_says_prices_times_and_what_to_confirm() -> None:
    intake = Intake(valuables=(Valuable(what="photographs", shore="said"),), later=Later(warranty="yes"))
    confirm = to_confirm(intake, None, encrypted=True)
    assert any("photographs" in c for c in confirm) and any("recovery key" in c for c in confirm)
    assert any("warranty" in c for c in confirm) and any("opened" in c for c in confirm)
    page = quote_report(
        quote(confirm=confirm, cautions=to_note(decide(USUAL))), lambda a: f"{a} EUR", lambda a, b: "1 to 2 h"
    )
    said = "\n".join(
        [page.title, *(s.heading for s in page.sections), *(t for s in page.sections for t in s.sentences)]
    )
    rows = [row for s in page.sections for row in s.rows]
    assert "We recommend this." in said and "19 % tax" in said and "Keep the old drive" in said
    assert ("It takes, 8 times of 10", "1 to 2 h") in rows and sum(n == "Price" for n, _ in rows) == 2
    assert "without tax" in quote_report(quote(tax=""), str, lambda a, b: "").sections[0].sentences[0]
