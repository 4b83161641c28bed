"""The case book: facts in, right advice and its reasons out. Each file below `tests/cases` says why.

`packaging/case_book.py` prints the same files into docs/deciding.md.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tomllib
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import Any

import msgspec
import pytest

from neogenesis.core.decide import Case, Facts, decide
from neogenesis.core.decide.case import facts_of as case_facts
from neogenesis.core.decide.decision import _cost, _row
from neogenesis.core.decide.numbers import numbers
from neogenesis.core.decide.price import least_price
from neogenesis.core.decide.triage import triage
from neogenesis.core.decide.way import WAYS, Way
from neogenesis.core.decide.ways import consider
from neogenesis.core.drive import Health, HealthReading, judge
from neogenesis.core.fit import fit, read_part
from neogenesis.core.fit.memory import fit_memory
from neogenesis.core.fit.sets import is_mechanical
from neogenesis.core.machine import read_machine
from neogenesis.core.machine.model import MemoryBoard
from neogenesis.core.swap import answer_for
from tests.test_decide import GB, USUAL, with_

BOOK = Path(__file__).with_name("cases")
_MONEY = ("labour", "new_cost", "replacement", "budget", "memory_cost")
_RISKS = ("low", "some", "high")


def cases(kind: str) -> list[Any]:
    found = sorted((BOOK / kind).glob("*.toml"))
    return [pytest.param(tomllib.loads(path.read_text("utf-8")), id=path.stem) for path in found]


def facts_of(given: dict[str, Any]) -> Facts:
    """The usual case, and what is given otherwise; `..._gb` stands for bytes, none for what is unknown, `reading` for
    what the drive says of itself.
    """
    fields: dict[str, Any] = {}
    for name, value in given.items():
        if name == "reading":  # what health says of it travels to Decide with its reasons
            found = case_facts(Case(schema=Case.SCHEMA), None, judge(msgspec.convert(value, HealthReading)), None, ())
            fields |= {n: getattr(found, n) for n in ("health", "image_first", "cable", "heat")}
        elif name.endswith("_gb"):
            fields[name.removesuffix("_gb") + "_bytes"] = value * GB or (None if name == "new_gb" else 0)
        elif name == "symptoms":
            fields[name] = frozenset(value)
        elif name in _MONEY:
            fields[name] = Decimal(value)
        else:
            fields[name] = None if value == "unknown" and name == "mechanical" else value
    return with_(**fields)


@pytest.mark.parametrize("case", cases("health"))
def test_health(case: dict[str, Any]) -> None:
    right = case["right"]
    found = judge(msgspec.convert(case["given"], HealthReading))
    assert found.verdict == right["verdict"], found.why
    assert [reason.code for reason in found.reasons] == right["codes"]
    assert found.image_first == (right["verdict"] in ("copy-now", "lost-cause"))


@pytest.mark.parametrize("case", cases("decide"))
def test_decide(case: dict[str, Any]) -> None:
    right = case["right"]
    found = decide(facts_of(case["given"]))
    rows = {row.way: row for row in found.ways}
    chosen = rows[found.recommended]
    assert found.recommended == right["recommended"], chosen.reasons
    assert chosen.allowed and chosen.solves
    if "first" in right:
        assert (found.first or "") == right["first"]
    for way in right.get("not_allowed", ()):
        assert not rows[way].allowed, way
    for way in right.get("not_solving", ()):
        assert not (rows[way].allowed and rows[way].solves), way
    assert found.recommended not in right.get("not_recommended", ())
    said = " ".join((*chosen.reasons, *chosen.risk_reasons))
    for text in right.get("said", ()):
        assert text in said
    for text in right.get("changes", ()):
        assert any(text in line for line in found.would_change), found.would_change
    assert not [line for text in right.get("no_change", ()) for line in found.would_change if text in line]
    items = {item.what for item in chosen.price_items}
    assert set(right.get("items", ())) <= items and not set(right.get("no_items", ())) & items
    assert sum(Decimal(item.amount) for item in chosen.price_items) == Decimal(chosen.cost_p50)
    if "risk" in right:
        assert chosen.risk == right["risk"]
    if "cost_below" in right:
        assert Decimal(chosen.cost_p50) < right["cost_below"]
    if "connection" in right:
        assert chosen.connection == right["connection"]
    if "openings" in right:
        assert chosen.openings == right["openings"]
    assert not set(right.get("never_again", ())) & set(chosen.again)
    if "seats_within_budget" in right:
        assert found.seats_within_budget == right["seats_within_budget"]
    for way, text in right.get("again", {}).items():
        assert text in rows[way].again


@pytest.mark.parametrize("case", cases("triage"))
def test_triage(case: dict[str, Any]) -> None:
    facts, right = facts_of(case["given"]), case["right"]
    failing = Health(verdict="copy-now", image_first=True) if facts.health == "copy-now" else None
    found = triage(facts, failing)
    assert (found.next.code if found.next is not None else "") == right["next"]
    assert found.refer == right["refer"]
    for text in right.get("do_not", ()):
        assert text in " ".join(found.do_not)


@pytest.mark.parametrize("case", cases("fit"))
def test_fit(case: dict[str, Any]) -> None:
    given, right = case["given"], case["right"]
    machine = {"schema": "neogenesis.machine/1", "make": "Quayside", "model": "K", "bays": given["bays"]}
    known = read_machine(json.dumps(machine | given.get("machine", {})).encode())
    parts = [read_part(json.dumps({"schema": "neogenesis.part/1", **part}).encode()) for part in given["parts"]]
    found = fit(known, parts, Decimal(given["budget"]) if "budget" in given else None)
    row = next(r for r in found.fits if r.part == parts[0].id and r.bay == known.bays[0].name)
    assert row.verdict == right["verdict"], row.reasons
    if "codes" in right:
        assert sorted(reason.code for reason in row.reasons) == sorted(right["codes"])
    for text in right.get("needs", ()):
        assert any(text in need for need in row.needs)
    if "rate" in right:
        assert row.effective_read_bytes_per_s == pytest.approx(right["rate"])
    if "cost" in right:
        assert found.cost == right["cost"]
    if "without" in right:
        assert list(found.cost_without) == right["without"]
    if "placed" in right:
        assert [placed.part for placed in found.assignment] == right["placed"]


@pytest.mark.parametrize("case", cases("mechanical"))
def test_kind_of_drive(case: dict[str, Any]) -> None:
    part = read_part(json.dumps({"schema": "neogenesis.part/1", **case["given"]["part"]}).encode())
    assert is_mechanical(part) == case["right"]["mechanical"]


@pytest.mark.parametrize("case", cases("memory"))
def test_memory(case: dict[str, Any]) -> None:
    given, right = case["given"], case["right"]
    modules = [read_part(json.dumps({"schema": "neogenesis.part/1", **part}).encode()) for part in given["modules"]]
    budget = Decimal(given["budget"]) if "budget" in given else None
    found = fit_memory(modules, msgspec.convert(given["board"], MemoryBoard), budget)
    assert found is not None and found.verdict == right["verdict"], found
    if "placed" in right:
        assert sorted(found.placed) == sorted(right["placed"])
    if "codes" in right:
        assert sorted({reason.code for _, reason in found.reasons}) == sorted(right["codes"])
    if "pair" in right:
        assert found.dual_channel == right["pair"]
    if "cost" in right:
        board = {"schema": "neogenesis.machine/1", "make": "Quayside", "model": "K", "memory": given["board"]}
        assert fit(read_machine(json.dumps(board).encode()), modules).cost == right["cost"]


@pytest.mark.parametrize("case", cases("cautions"))
def test_cautions(case: dict[str, Any]) -> None:
    steps = [{"id": "cover", "do": "lift", "what": "the cover"}]
    machine = {"schema": "neogenesis.machine/1", "make": "Quayside", "model": "K", "steps": steps, **case["given"]}
    found, right = answer_for(read_machine(json.dumps(machine).encode())), case["right"]
    codes = {caution.code for caution in found.cautions}
    assert set(right["codes"]) <= codes and not set(right.get("not", ())) & codes
    if "facts" in right:
        assert [fact.code for fact in found.facts] == right["facts"]


def test_the_book_is_large_and_printed() -> None:
    files = list(BOOK.rglob("*.toml"))
    assert len(files) >= 150
    every = [tomllib.loads(path.read_text("utf-8")) for path in files]
    assert all(case["case"].strip() and case["why"].strip() for case in every)
    root = BOOK.parent.parent
    done = subprocess.run(
        [sys.executable, root / "packaging/case_book.py", "--check"], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout


# Properties


@pytest.mark.parametrize("way", ["replace", "exact", "salvage", "fresh"])
def test_more_damage_never_lowers_the_risk(way: str) -> None:
    def risk(**fields: Any) -> float:
        return next(row.risk_percent for row in decide(with_(**fields)).ways if row.way == way)

    steps: list[dict[str, Any]] = [
        {},
        {"unclean": True},
        {"unclean": True, "health": "copy-now", "image_first": True},
        {"unclean": True, "health": "copy-now", "image_first": True, "symptoms": frozenset({"slow", "noise"})},
        {"unclean": True, "health": "lost-cause", "image_first": True, "symptoms": frozenset({"slow", "noise"})},
    ]
    risks = [risk(**step) for step in steps]
    assert risks == sorted(risks)


def test_a_cheaper_part_never_raises_the_price() -> None:
    def price(cost: str) -> Decimal:
        found = decide(with_(new_cost=Decimal(cost)))
        return Decimal(next(row.cost_p50 for row in found.ways if row.way == "replace"))

    prices = [price(cost) for cost in ("0", "10.01", "79.90", "80", "400")]
    assert prices == sorted(prices)


def test_decide_and_plan_tell_one_time() -> None:
    from neogenesis.core.drive import Drive
    from neogenesis.core.estimate import estimate

    for bus, rotational, kind, to in (
        ("sata", True, "rotational", "sata"),
        ("sata", False, "sata", "nvme"),
        ("usb-sata", False, "usb-sata", "usb-nvme"),
    ):
        old = Drive(path="a", size_bytes=1000 * GB, sector_size=512, bus=bus, rotational=rotational)
        new = Drive(path="b", size_bytes=2000 * GB, sector_size=512, bus=to)
        planned = estimate(old, new, 120 * GB, 1, 120 * GB)
        facts = with_(read_class=kind, new_class=to)
        spread = next(piece.spread for piece in consider("replace", facts).pieces if piece.name == "copy")
        wanted = (planned.seconds_p10, planned.seconds_p50, planned.seconds_p90)
        assert spread == pytest.approx(wanted, abs=0.1)


def test_a_risk_is_called_some_and_high_from_its_bounds_on() -> None:
    one, risk = consider("replace", USUAL), numbers().risk

    def level(percent: float) -> str:
        return _row(replace(one, risk_percent=percent), USUAL).risk

    assert [level(risk.above_some - 0.01), level(risk.above_some)] == ["low", "some"]
    assert [level(risk.above_high - 0.01), level(risk.above_high)] == ["some", "high"]


def test_what_a_drive_costs_at_least_leaves_the_room_that_it_should() -> None:
    assert [least_price(n * GB) for n in (0, 480, 850)] == [Decimal("34.50"), Decimal("34.50"), Decimal("60.00")]


def test_another_machine_is_proposed_once_the_work_costs_more_than_its_share() -> None:
    facts = with_(must_survive="files")
    found = decide(facts)
    cost = _cost(consider("fresh", facts), facts) if found.recommended == "fresh" else None
    best = next(row for row in found.ways if row.way == found.recommended)
    cost = cost or _cost(consider(best.way, facts), facts)
    bound = cost / Decimal(str(numbers().weigh.replace_share))
    assert decide(replace(facts, replacement=bound)).recommended == best.way
    assert decide(replace(facts, replacement=bound - Decimal("0.10"))).recommended == "replace-machine"


@pytest.mark.parametrize(
    "known",
    [
        {"opening_seconds": 900.0},
        {"own_seconds": (("copy", 1800.0),)},
        {"own_seconds": (("updates", 1800.0), ("drivers", 300.0))},
        {"programs": 12},
        {"used_bytes": 120 * GB},
        {"new_cache": (500e9, 6e7)},
        {"factors": (("copy", 1.0),)},
    ],
)
def test_more_facts_never_widen_an_estimate(known: dict[str, Any]) -> None:
    """How many times the longest is as long as the shortest, for each kind of work of each way."""
    unknown = with_(opening_seconds=None, programs=None, used_bytes=None)

    def widths(facts: Facts, way: Way) -> dict[str, float]:
        found = [(p.name, p.spread[2] / p.spread[0]) for p in consider(way, facts).pieces if p.spread[0]]
        return {name: max(width for n, width in found if n == name) for name, _ in found}

    for way in WAYS:
        before, after = widths(unknown, way), widths(replace(unknown, **known), way)
        assert set(after) == set(before)
        assert all(after[name] <= before[name] * 1.0001 for name in after), way


def test_a_cache_that_runs_out_takes_time() -> None:
    def middle(**fields: Any) -> float:
        return next(row.seconds_p50 for row in decide(with_(**fields)).ways if row.way == "replace")

    assert middle(new_cache=(20e9, 6e7)) > middle() == middle(new_cache=(500e9, 6e7))
    assert USUAL.used_bytes == 120 * GB
