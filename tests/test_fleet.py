"""Many machines at once, the shop's own past, ways to connect, and what a way takes of the old drive's life."""

from __future__ import annotations

import csv
import io
from dataclasses import replace
from decimal import Decimal
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.bench.records.opening import open_records
from neogenesis.bench.records.past import past_of
from neogenesis.core.decide import decide
from neogenesis.core.decide.decision import planned
from neogenesis.core.decide.fleet import Fleet, Seats, fleet
from neogenesis.core.decide.fleet import as_csv as table
from neogenesis.core.decide.way import WAYS
from neogenesis.core.decide.ways import consider
from neogenesis.core.errors import BadArgument
from neogenesis.core.job import Job, LogEntry
from neogenesis.core.job.past import Outcome, as_csv, factors_of, learned, outcomes_of
from neogenesis.core.job.route import ROUTE, added, next_needed, not_needed
from tests.test_decide import USUAL, symptoms, with_

DESK = Seats("Brightwell Desk 3", "tower", 12, Decimal("42.00"))
PANE = Seats("Brightwell Pane 24", "all-in-one", 3, Decimal("64.90"))


def of(*seats: Seats, docks: int = 4, replacement: str | None = "400", budget: str | None = None) -> Fleet:
    price = None if replacement is None else Decimal(replacement)
    return fleet(USUAL, "replace", seats, docks, price, None if budget is None else Decimal(budget))


# Fleet


def test_a_fleet_costs_its_seats_and_varies_less_than_one() -> None:
    one, twelve = of(Seats("x", "tower", 1, Decimal("42"))), of(DESK)
    assert twelve.total[1] == one.total[1] * 12 and twelve.seats == 12
    share = [(f.total[2] - f.total[0]) / f.total[1] for f in (one, twelve)]
    assert share[1] < share[0] / 3
    assert twelve.replacement == 4800 and twelve.spares == Decimal("15.12")
    assert twelve.break_even == one.total[1]
    row = next(w for w in decide(with_(machine_kind="tower", new_cost=Decimal("42"))).ways if w.way == "replace")
    assert abs(one.total[1] - Decimal(row.cost_p50)) <= Decimal("0.01")


def test_a_budget_covers_the_cheap_ones_first() -> None:
    both = of(DESK, PANE, budget="100000")
    assert both.covered == 15 and both.covered_replaced == 15
    cost = {r.seats.title: r.cost[1] for r in both.rows}
    exactly = str(cost[DESK.title] * 12)
    assert of(DESK, PANE, budget=exactly).covered == 12 and of(DESK, PANE, budget="0").covered == 0
    assert of(DESK, replacement=None, budget="500").covered_replaced is None and of(DESK).covered is None


def test_batches_fill_the_docks_and_hold_every_machine() -> None:
    found = of(DESK, PANE, docks=4)
    assert [sum(n for _, n in b.machines) for b in found.batches] == [4, 4, 4, 3]
    assert all(a.end_s == b.start_s for a, b in zip(found.batches, found.batches[1:], strict=False))
    assert found.span_s[0] < found.span_s[1] < found.span_s[2]
    assert found.span_s[1] == pytest.approx(found.batches[-1].end_s)
    one_dock = of(DESK, docks=1)
    assert len(one_dock.batches) == 12 and one_dock.span_s[1] > of(DESK, docks=4).span_s[1]
    huge = of(Seats("x", "laptop", 1_000_000, Decimal(1)), docks=8)
    assert len(huge.batches) == 200 and huge.seats == 1_000_000


@given(
    st.lists(st.integers(0, 60), min_size=1, max_size=4),
    st.integers(1, 12),
    st.integers(0, 20_000),
    st.integers(0, 5000),
)
def test_every_machine_has_its_place_and_more_money_never_covers_less(
    counts: list[int], docks: int, budget: int, more: int
) -> None:
    seats = [
        Seats(f"m{n}", kind, c, Decimal(40 + n))
        for n, (c, kind) in enumerate(zip(counts, ("tower", "laptop") * 2, strict=False))
    ]
    if not sum(counts):
        with pytest.raises(BadArgument):
            of(*seats, docks=docks)
        return
    found = of(*seats, docks=docks, budget=str(budget))
    placed: dict[str, int] = {}
    for batch in found.batches:
        assert 1 <= sum(n for _, n in batch.machines) <= docks
        for title, n in batch.machines:
            placed[title] = placed.get(title, 0) + n
    if len(found.batches) < 200:
        assert placed == {s.title: s.count for s in seats if s.count}
    other = of(*seats, docks=docks, budget=str(budget + more))
    assert found.covered is not None and other.covered is not None and found.covered <= other.covered <= found.seats


def test_a_fleet_is_taken_away_as_csv_whatever_it_is_called() -> None:
    odd = Seats('the "big", one', "tower", 3, Decimal("42"))
    rows = list(csv.reader(io.StringIO(table(of(odd, docks=2)))))
    assert rows[1][:2] == ['the "big", one', "3"] and rows[4][1] == '2 the "big", one' and len(rows) == 6


@pytest.mark.parametrize(("seats", "docks"), [((), 2), ((Seats("x", "", 0, Decimal(1)),), 2), ((DESK,), 0)])
def test_a_fleet_of_nothing_is_refused(seats: tuple[Seats, ...], docks: int) -> None:
    with pytest.raises(BadArgument):
        of(*seats, docks=docks)
    with pytest.raises(BadArgument, match="counted"):
        of(Seats("x", "", 2_000_000, Decimal(1)))


# The shop's own past


def entry(kind: str, number: int, **figures: object) -> LogEntry:
    return LogEntry(
        number=number, at=f"2026-11-2{number}T10:00:00+00:00", who="b", kind=kind, text="t", figures=figures
    )


def log(copy_s: float, hands_s: float | None, handed_over: bool = True) -> list[LogEntry]:
    entries = [
        entry("decide", 1, planned={"hands": [1000, 2000, 3000], "copy": [1, 2, 3]}),
        entry("transfer-start", 2, planned={"copy": [100.0, 200.0, 400.0]}),
        entry("transfer-done", 3, seconds=copy_s),
    ]
    if hands_s is not None:
        entries.append(entry("measure", 4, hands_s=hands_s))
    return [*entries, *([entry("handover", 5)] if handed_over else [])]


def test_only_jobs_that_were_handed_over_count() -> None:
    found = outcomes_of("T-1", log(300, 4000))
    assert [(o.kind, o.actual_s, o.within) for o in found] == [("copy", 300, True), ("hands", 4000, False)]
    assert outcomes_of("T-1", log(300, None, handed_over=False)) == []
    damaged = [
        entry("transfer-start", 1, planned={"copy": ["x", 2, 3]}),
        entry("transfer-done", 2, seconds=3),
        entry("handover", 3),
    ]
    assert outcomes_of("T-1", damaged) == []


def test_few_jobs_move_little_and_many_move_all() -> None:
    def factor(n: int, ratio: float) -> float:
        every = [Outcome(f"T-{k}", "", "copy", (100, 200, 400), 200 * ratio) for k in range(n)]
        return dict(factors_of(every))["copy"]

    assert 1 < factor(1, 2.0) < 1.1 and 1.9 < factor(200, 2.0) <= 2.0
    assert factor(20, 2.0) == pytest.approx(2), "the shipped judgement has let go"
    assert factor(8, 2.0) == pytest.approx(2 ** (8 / (8 + 8 * 0.6)))
    assert factor(10, 50.0) == factor(10, 4.0)  # a slip of the hand does not move much
    found = learned([Outcome("T-1", "", "hands", (1, 2, 3), 2), Outcome("T-2", "", "hands", (1, 2, 3), 9)])
    assert (found[0].jobs, found[0].within) == (2, 1)


@pytest.mark.parametrize("truth", [0.6, 1.0, 1.5, 2.5])
def test_shops_learn_their_own_pace_from_what_the_program_plans(truth: float) -> None:
    """Each job is planned with what was learned before it, and logged as `usual` has it: without that."""
    rng, ends = np.random.default_rng(7), list[float]()
    for shop in range(40):
        jobs: list[Outcome] = []
        for number in range(20):
            usual = planned(consider("replace", USUAL))["hands"]
            took = usual[1] * truth * rng.lognormal(0, 0.15)
            jobs.append(Outcome(f"T-{shop}-{number}", "", "hands", usual, took))
        ends.append(dict(factors_of(jobs))["hands"])
    within = sum(abs(end / truth - 1) <= 0.10 for end in ends)
    assert within >= 36, f"after 20 jobs {within} of 40 shops are within a tenth of the truth"


def test_the_past_changes_the_estimates_and_what_was_said_here_goes_before() -> None:
    usual, slower = consider("replace", USUAL), consider("replace", with_(factors=(("copy", 2.0),)))
    copy = {p.name: p.spread[1] for p in usual.pieces}["copy"]
    assert {p.name: p.spread[1] for p in slower.pieces}["copy"] == pytest.approx(2 * copy)
    own = consider("replace", with_(factors=(("hands", 2.0),), own_seconds=(("opening", 60.0),)))
    times = {p.name: p.spread[1] for p in own.pieces}
    assert times["opening"] == pytest.approx(60) and times["check"] == pytest.approx(2 * 480)
    spreads = planned(usual)
    assert set(spreads) == {"hands", "copy"} and spreads["hands"][0] < spreads["hands"][1] < spreads["hands"][2]


def test_a_bench_tells_its_past_as_csv(tmp_path: Path) -> None:
    store = open_records(tmp_path)
    for ticket, closed in (("T-1", True), ("T-2", False)):
        store.add(Job(ticket=ticket, customer="c", machine="m"))
        for e in log(300, 1500):
            store.append(ticket, e.at, e.who, e.kind, e.text, **e.figures)
        store.update(ticket, closed=closed)
    found = past_of(store)
    store.close()
    rows = list(csv.DictReader(io.StringIO(as_csv(found))))
    assert [(r["ticket"], r["kind"], r["within"]) for r in rows] == [("T-1", "copy", "True"), ("T-1", "hands", "True")]


# The rest of the judgement


def test_each_way_names_how_it_can_be_connected() -> None:
    found = {w.way: w for w in decide(with_(free_bay=True)).ways}
    links = {c.connection: c for c in found["replace"].connections}
    assert links["internal-slot"].openings == 2 and links["enclosure"].openings == 1 and links["stick"].openings == 0
    assert links["internal-slot"].seconds_p50 > links["enclosure"].seconds_p50 > links["stick"].seconds_p50
    assert links["enclosure"].adapters and not found["do-less"].connections
    soldered = {c.connection: c for c in decide(with_(removable=False)).ways[0].connections}
    assert not soldered["enclosure"].possible and "taken out" in soldered["enclosure"].reason
    assert soldered["stick"].possible


def test_reading_costs_a_failing_drive_more_of_its_life_and_nothing_once_it_is_imaged() -> None:
    sound, failing = decide(USUAL).ways[0], decide(with_(health="copy-now", image_first=True)).ways[0]
    assert 0 < sound.life_percent < 0.1 and failing.life_percent > 1
    assert "failing" in failing.risk_reasons[0] and not sound.risk_reasons
    kept = decide(with_(health="copy-now", image_first=True, imaged=True))
    assert kept.first is None and kept.ways[0].life_percent == 0 and kept.ways[0].risk == "low"
    assert kept.ways[0].seconds_p50 < failing.seconds_p50


def test_both_schools_are_always_argued_for() -> None:
    for facts in (USUAL, symptoms("malware"), symptoms("loop"), symptoms("no-system"), with_(image_first=True)):
        found = decide(facts)
        assert found.for_copying and found.for_starting_clean
    assert "30 programs" in decide(USUAL).for_copying[0] and "30 programs" in decide(USUAL).for_starting_clean[-1]


def test_the_price_of_waiting_moves_the_choice() -> None:
    case = symptoms("slow", must_survive="files", labour=Decimal(20), image_first=True, health="copy-now")
    assert decide(case).recommended == "replace"
    line = next(c for c in decide(case).would_change if "waiting" in c)
    assert line == "If waiting were worth 117 an hour or more: salvage"
    flipped = decide(replace(case, waiting=Decimal(117))), decide(replace(case, waiting=Decimal(116)))
    assert [f.recommended for f in flipped] == ["salvage", "replace"]
    assert [w.cost_p50 for w in flipped[0].ways] == [w.cost_p50 for w in flipped[1].ways]


def test_the_route_follows_the_way() -> None:
    assert next_needed("decide", "replace") == "fit" and next_needed("decide", "salvage") == "transfer"
    assert next_needed("fit", "do-less") == "swap" and next_needed("decide", "replace-machine") == "handover"
    keys = {s.key for s in ROUTE}
    for way in ("", *WAYS):
        assert not_needed(way) <= keys - {"intake", "survey", "decide", "handover"}
        for one in added(way, True):
            assert one.before in keys
    assert [a.key for a in added("replace", True)] == ["image"] and added("replace", False) == ()
    assert [a.key for a in added("fresh", False)] == ["files", "back"] and added("fresh", False, files=False) == ()
