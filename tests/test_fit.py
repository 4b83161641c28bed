"""Which part fits where: each rule at its boundary, properties, and the assignment against brute force."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from decimal import Decimal
from itertools import product
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.core.errors import BadRecord
from neogenesis.core.fit import Part, fit, read_part
from neogenesis.core.fit.answer import fit_in_pieces
from neogenesis.core.fit.assign import _by_faces, _limits, _stages
from neogenesis.core.fit.match import match
from neogenesis.core.fit.matrix import VERDICTS, matrix
from neogenesis.core.fit.memory import fit_memory
from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import Bay, MemoryBoard
from neogenesis.core.record import to_json


def part(id_: str = "new", **fields: object) -> Part:
    usual = {"kind": "drive", "form": "m2", "interface": "nvme", "key": "M", "length_mm": 80, "sides": 1}
    return Part(schema=Part.SCHEMA, id=id_, **(usual | fields))  # type: ignore[arg-type]


def ssd(id_: str = "ssd", **fields: object) -> Part:
    return part(
        id_, **({"form": "2.5", "interface": "sata", "key": None, "length_mm": None, "thickness_mm": 7} | fields)
    )


def bay(name: str = "slot", **fields: object) -> Bay:
    usual = {"kind": "m2", "interfaces": ("nvme", "sata"), "key": "M", "lengths_mm": (42, 60, 80), "double_sided": True}
    return Bay(name=name, **(usual | fields))  # type: ignore[arg-type]


def low_bay(name: str = "bay", **fields: object) -> Bay:
    usual = {"kind": "2.5", "interfaces": ("sata",), "key": None, "lengths_mm": (), "thickness_mm": (7, 9.5)}
    return bay(name, **(usual | fields))


def machine(*bays: Bay, **fields: object) -> Machine:
    return Machine(schema=Machine.SCHEMA, make="Petrel", model="14", bays=bays, **fields)  # type: ignore[arg-type]


def against(one: Part, place: Bay, *others: Part, **fields: object) -> list[str]:
    return [r.code for r in match(one, place, machine(place, **fields), [one, *others]).reasons if r.against]


def needs(one: Part, place: Bay, *others: Part) -> list[str]:
    found = match(one, place, machine(place), [one, *others])
    assert found.verdict == ("fits-with" if found.needs else "fits"), found
    return [n.text for n in found.needs]


@pytest.mark.parametrize(
    ("one", "place", "codes"),
    [
        (part(), bay(), []),
        (part(interface="sata"), bay(interfaces=("nvme",)), ["interface"]),
        (part(), bay(interfaces=("sata",)), ["interface"]),
        (part(key="B+M"), bay(key="M"), []),
        (part(key="B+M"), bay(key="B"), []),
        (part(key="B"), bay(key="M"), ["key"]),
        (part(key="M"), bay(key="B"), ["key"]),
        (part(key="M"), bay(key=None), []),
        (part(length_mm=110), bay(), ["length"]),
        (part(length_mm=80), bay(lengths_mm=(42,)), ["length"]),
        (part(sides=2), bay(double_sided=False), ["sides"]),
        (part(sides=2), bay(double_sided=None), []),
        (part(height_above_mm=1.5), bay(clearance_above_mm=1.5), []),
        (part(height_above_mm=1.51), bay(clearance_above_mm=1.5), ["height"]),
        (part(height_below_mm=1.4), bay(clearance_below_mm=1.35), ["height"]),
        (part(), low_bay(), ["form", "interface"]),
        (ssd(thickness_mm=9.5), low_bay(), []),
        (ssd(thickness_mm=12.5), low_bay(), ["thickness"]),
        (ssd(), low_bay(holds="old"), ["occupied"]),
        (part(), bay(kind="soldered", holds="chip"), ["soldered", "occupied"]),
        (
            part(interface="sata", key="B", length_mm=110, sides=2),
            bay(interfaces=("nvme",), double_sided=False),
            ["interface", "key", "length", "sides"],
        ),
    ],
)
def test_each_reason_against(one: Part, place: Bay, codes: list[str]) -> None:
    assert against(one, place) == codes


def test_what_is_not_stated_never_refuses_and_is_said() -> None:
    bare = Part(schema=Part.SCHEMA, id="x", kind="drive")
    found = match(bare, Bay(name="b", kind="m2"), machine(), [bare])
    assert found.verdict == "fits-with" and {(r.code, r.severity) for r in found.reasons} == {("unstated", "unstated")}
    assert {"form", "interface"} <= {word for r in found.reasons for word in r.text.replace(":", "").split()}
    assert found.effective_read_bytes_per_s is None and found.usable_bytes is None


def test_a_bay_is_free_when_what_it_holds_is_replaced() -> None:
    old = ssd("old")
    assert against(ssd(), low_bay(holds="old"), old) == [] and against(old, low_bay(holds="old")) == []


def test_what_is_needed_is_named() -> None:
    assert needs(part(length_mm=30), bay(lengths_mm=(42, 80))) == ["length adapter from 30 to 42 mm"]
    long = part("a", kind="adapter", **{"from_": "2230", "to": "2280"})
    assert needs(part(length_mm=30), bay(lengths_mm=(42, 80)), long) == ["length adapter from 30 to 80 mm"]
    assert needs(ssd(), low_bay(kind="3.5")) == ["bracket for a 2.5-inch drive in a 3.5-inch bay"]
    assert needs(ssd(), low_bay(thickness_mm=(9.5,))) == ["spacer from 7 to 9.5 mm"]
    optical = low_bay(kind="optical", caddy_mm=9.5)
    assert needs(ssd(), optical) == ["caddy 9.5 mm"]
    assert against(ssd(thickness_mm=12.5), optical) == ["thickness"]
    adapter = part("a", kind="adapter", **{"from_": "m2", "to": "2.5"})
    assert needs(part(interface="sata"), low_bay(), adapter) == ["adapter from m2 to 2.5"]
    assert needs(ssd(form="pata-2.5"), low_bay(kind="pata-2.5", interfaces=("sata",))) == []
    bridge = part("b", kind="adapter", **{"from_": "sata", "to": "pata"})
    assert needs(ssd(form="pata-2.5"), low_bay(kind="pata-2.5", interfaces=("pata",)), bridge) == [
        "adapter from sata to pata"
    ]


def test_capacities_that_a_machine_accepts_and_what_is_untried() -> None:
    assert against(part(capacity_gb=1000), bay(), accepted_capacities_gb=(500, 1000)) == []
    assert against(part(capacity_gb=2000), bay(), accepted_capacities_gb=(500, 1000)) == ["capacity"]
    found = match(part(capacity_gb=4000), bay(), machine(known_to_work_max_gb=2000), [])
    assert found.verdict == "fits" and [r.code for r in found.reasons] == ["untried"]
    assert match(part(capacity_gb=500), bay(), machine(), []).usable_bytes == 500_107_862_016


@pytest.mark.parametrize(
    ("one", "place", "rate"),
    [
        (part(read_bytes_per_s=7e9, pcie_generation=4, pcie_lanes=4), bay(pcie_generation=3, pcie_lanes=4), 3.9384e9),
        (part(read_bytes_per_s=7e9, pcie_generation=4, pcie_lanes=4), bay(pcie_generation=3, pcie_lanes=2), 1.9692e9),
        (part(read_bytes_per_s=2e9, pcie_generation=3, pcie_lanes=4), bay(pcie_generation=5, pcie_lanes=4), 2e9),
        (part(read_bytes_per_s=5e8, interface="sata"), bay(sata_gbit_s=3), 3e8),
        (part(read_bytes_per_s=5e8, interface="sata"), bay(sata_gbit_s=6), 5e8),
        (part(read_bytes_per_s=5e8), bay(), 5e8),
    ],
)
def test_the_slower_of_drive_and_bus_counts_and_never_refuses(one: Part, place: Bay, rate: float) -> None:
    found = match(one, place, machine(), [])
    assert found.verdict == "fits" and found.effective_read_bytes_per_s == pytest.approx(rate)


@given(
    st.integers(22, 120),
    st.lists(st.integers(22, 120), min_size=1, max_size=4),
    st.integers(22, 120),
    st.floats(0, 4),
    st.floats(0, 4),
    st.floats(0, 4),
)
def test_a_part_that_fits_never_stops_fitting_when_the_bay_grows(
    length: int, lengths: list[int], more: int, high: float, room: float, extra: float
) -> None:
    one = part(length_mm=length, height_above_mm=high)
    small = bay(lengths_mm=tuple(lengths), clearance_above_mm=room)
    larger = bay(lengths_mm=(*lengths, more), clearance_above_mm=room + extra, double_sided=True)
    if not against(one, small):
        assert not against(one, larger)


# Memory

BOARD = MemoryBoard(
    slots=2,
    soldered_gb=4,
    generation="ddr4",
    form="so-dimm",
    voltage_v=1.2,
    speed_mt_s=2666,
    max_gb=36,
    max_per_slot_gb=16,
)


def module(id_: str = "m", **fields: object) -> Part:
    usual = {
        "kind": "memory",
        "form": "so-dimm",
        "generation": "ddr4",
        "voltage_v": 1.2,
        "speed_mt_s": 3200,
        "capacity_gb": 8,
    }
    return Part(schema=Part.SCHEMA, id=id_, **(usual | fields))  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("fields", "codes"),
    [
        ({}, {"speed"}),
        ({"generation": "ddr5"}, {"speed", "generation"}),
        ({"form": "dimm"}, {"speed", "form"}),
        ({"voltage_v": 1.35}, {"speed", "voltage"}),
        ({"voltage_v": 1.1, "speed_mt_s": 2400}, set()),
        ({"capacity_gb": 32}, {"speed", "per-slot"}),
    ],
)
def test_each_reason_of_memory(fields: dict, codes: set[str]) -> None:
    found = fit_memory([module(**fields)], BOARD, None)
    assert found is not None and {r.code for _, r in found.reasons} == codes
    assert found.verdict == ("fits" if codes <= {"speed"} else "does-not-fit")


def test_too_many_modules_leave_the_best_subset() -> None:
    found = fit_memory([module("a"), module("b", capacity_gb=16), module("c", capacity_gb=16, stock=2)], BOARD, None)
    assert found is not None and found.placed == ("c", "c") and set(found.left) == {"a", "b"}
    assert found.total_gb == 36 and found.effective_mt_s == 2666
    assert {r.code for _, r in found.reasons if r.against} == {"slots"}
    small = msgspec.structs.replace(BOARD, max_gb=12)
    found = fit_memory([module("a"), module("b")], small, None)
    assert (
        found is not None and len(found.placed) == 1 and {r.code for _, r in found.reasons if r.against} == {"maximum"}
    )
    soldered = msgspec.structs.replace(BOARD, slots=0)
    assert fit_memory([module()], soldered, None).reasons[0][1].code == "soldered"
    assert fit_memory([module(price="50"), module("c", price="20", capacity_gb=4)], BOARD, Decimal(30)).placed == ("c",)
    assert fit_memory([], BOARD, None) is None and fit_memory([module()], None, None).verdict == "fits-with"


# Assignment


def brute(parts: list[Part], places: list[Bay], budget: Decimal | None) -> tuple:
    """Every way of placing them; the rank of the best."""
    best: tuple = ()
    for choice in product([None, *parts], repeat=len(places)):
        used = [p.id for p in choice if p is not None]
        if any(used.count(p.id) > p.pieces for p in parts):
            continue
        pairs = [(p, b) for p, b in zip(choice, places, strict=True) if p is not None]
        found = [match(p, b, machine(), parts, budget) for p, b in pairs]
        if any(m.verdict == "does-not-fit" for m in found):
            continue
        cost = sum((p.cost or Decimal(0) for p, _ in pairs), Decimal(0))
        if budget is not None and cost > budget:
            continue
        starts = max((m.effective_read_bytes_per_s or 1 for m in found if m.bay.starts_system), default=0)
        rank = (
            len(found),
            round(starts / 1e6),
            round(sum((m.effective_read_bytes_per_s or 1) for m in found) / 1e6),
            -cost,
        )
        best = max(best, rank) if best else rank
    return best


drives = st.builds(
    lambda n, sata, rate, price, stock: (ssd if sata else part)(
        f"p{n}", read_bytes_per_s=rate * 1e8, price=str(price), stock=stock
    ),
    st.integers(0, 99),
    st.booleans(),
    st.integers(1, 60),
    st.integers(1, 200),
    st.sampled_from([None, 1, 2]),
)
places = st.builds(
    lambda n, low, starts: (low_bay if low else bay)(f"b{n}", starts_system=starts),
    st.integers(0, 99),
    st.booleans(),
    st.booleans(),
)


@given(
    st.lists(drives, min_size=1, max_size=4, unique_by=lambda p: p.id),
    st.lists(places, min_size=1, max_size=3, unique_by=lambda b: b.name),
    st.one_of(st.none(), st.integers(0, 400)),
)
def test_the_assignment_is_that_of_brute_force(parts: list[Part], bays: list[Bay], amount: int | None) -> None:
    budget = None if amount is None else Decimal(amount)
    found = fit(machine(*bays), parts, budget)
    by_id = {p.id: p for p in parts}
    by_name = {b.name: b for b in bays}
    placed = [match(by_id[a.part], by_name[a.bay], machine(), parts, budget) for a in found.assignment]
    assert all(m.verdict != "does-not-fit" for m in placed)
    assert len({a.bay for a in found.assignment}) == len(found.assignment)
    starts = max((m.effective_read_bytes_per_s or 1 for m in placed if m.bay.starts_system), default=0)
    total = sum((m.effective_read_bytes_per_s or 1) for m in placed)
    rank = (len(placed), round(starts / 1e6), round(total / 1e6), -Decimal(found.cost))
    assert rank == (brute(parts, bays, budget) or (0, 0, 0, Decimal(0)))
    if budget is not None:
        assert Decimal(found.cost) <= budget
        more = fit(machine(*bays), parts, budget + 50)
        assert len(more.assignment) >= len(found.assignment), "a bigger budget is never worse"


@given(
    st.lists(drives, max_size=8, unique_by=lambda p: p.id),
    st.lists(places, max_size=5, unique_by=lambda b: b.name),
    st.one_of(st.none(), st.integers(0, 400)),
    st.booleans(),
)
def test_the_matrix_says_what_each_pair_says(
    parts: list[Part], bays: list[Bay], amount: int | None, held: bool
) -> None:
    if held and parts and len(bays) > 1:
        bays[0] = msgspec.structs.replace(bays[0], holds=parts[0].id)
        bays[1] = msgspec.structs.replace(bays[1], holds="somebody else's")
    budget = None if amount is None else Decimal(amount)
    near = [p for p in parts if p.id in {b.holds for b in bays}]
    found = matrix(machine(*bays), parts, near, budget)
    for p, one in enumerate(parts):
        for b, place in enumerate(bays):
            single = match(one, place, machine(*bays), near, budget)
            assert VERDICTS[found.verdicts[p, b]] == single.verdict
            if single.effective_read_bytes_per_s is not None:
                assert found.rates[p, b] == pytest.approx(single.effective_read_bytes_per_s)


def test_many_parts_are_placed_as_few_are() -> None:
    """With more pairs than are tried one by one, the best are still found."""
    parts = [ssd(f"p{n}", read_bytes_per_s=(n % 97) * 1e6 + 1, price=f"{n % 13 + 1}") for n in range(300)]
    bays = [low_bay(f"b{n}", starts_system=n == 2) for n in range(4)]
    found = fit(machine(*bays), parts)
    best = sorted(parts, key=lambda p: (-(p.read_bytes_per_s or 0), p.cost))[:4]
    assert {a.part for a in found.assignment} == {p.id for p in best}
    assert next(a.part for a in found.assignment if a.bay == "b2") in {
        p.id for p in best if p.read_bytes_per_s == best[0].read_bytes_per_s
    }


def test_adapters_at_hand_count_and_others_are_said() -> None:
    one = part("short", length_mm=30, price="60.10", currency="EUR")
    adapter = part("a", kind="adapter", price="4.90", currency="EUR", **{"from_": "2230", "to": "2242"})
    found = fit(machine(bay()), [one, adapter])
    assert found.cost == "65.00" and found.cost_without == () and found.currency == "EUR"
    found = fit(machine(bay()), [one])
    assert found.cost == "60.10" and found.cost_without == ("length adapter from 30 to 42 mm",)
    assert found.assignment[0].bay == "slot" and found.unassigned == ()


def test_what_is_in_the_machine_costs_nothing_and_may_move() -> None:
    old = ssd("old", price="80", read_bytes_per_s=1e8)
    new = ssd("new", price="90", read_bytes_per_s=5e8)
    found = fit(
        machine(low_bay("first", holds="old", starts_system=True), low_bay("second", starts_system=False)), [old, new]
    )
    assert {(a.part, a.bay) for a in found.assignment} == {("new", "first"), ("old", "second")}


def test_mixed_currencies_and_two_ids_are_refused() -> None:
    with pytest.raises(BadRecord, match="different currencies"):
        fit(machine(bay()), [part("a", price="1", currency="EUR"), part("b", price="1", currency="SEK")])
    with pytest.raises(BadRecord, match="More than one part"):
        fit(machine(bay()), [part("a"), part("a")])


@pytest.mark.parametrize(
    ("fields", "piece"),
    [
        ({"price": "many"}, "no amount"),
        ({"price": "-1"}, "negative"),
        ({"price": "NaN"}, "no amount"),
        ({"length_mm": -2}, "“length_mm” is negative"),
        ({"id": " "}, "“id” is empty"),
        ({"colour": "red", "sides": 3}, "“colour” is not known"),
        ({"price": 3}, "price"),
    ],
)
def test_faults_of_a_part_are_named(fields: dict, piece: str) -> None:
    raw = {"schema": "neogenesis.part/1", "id": "x", "kind": "drive"} | fields
    with pytest.raises(BadRecord, match=piece):
        read_part(json.dumps(raw).encode())


def test_the_command(tmp_path: Path, neogenesis: Callable) -> None:
    (tmp_path / "m.json").write_bytes(msgspec.json.encode(machine(bay("slot", starts_system=True), memory=BOARD)))
    (tmp_path / "p.json").write_bytes(
        msgspec.json.encode(part(read_bytes_per_s=3e9, capacity_gb=1000, price="79.90", currency="EUR"))
    )
    (tmp_path / "r.json").write_bytes(msgspec.json.encode(module("ram", price="20.10", currency="EUR")))
    found = json.loads(
        neogenesis("fit", tmp_path / "m.json", tmp_path / "p.json", tmp_path / "r.json", "--json").stdout
    )
    assert found["schema"] == "neogenesis.fit/1" and found["cost"] == "100.00" and found["memory"]["total_gb"] == 12
    assert found["assignment"] == [{"part": "new", "bay": "slot"}, {"part": "ram", "bay": "memory 1"}]
    dear = json.loads(neogenesis("fit", tmp_path / "m.json", tmp_path / "p.json", "--budget", "50", "--json").stdout)
    assert dear["fits"][0]["verdict"] == "does-not-fit" and dear["fits"][0]["reasons"][0]["code"] == "budget"
    assert dear["assignment"] == [] and dear["unassigned"] == ["new"] and dear["cost"] == "0.00"
    assert "fits" in neogenesis("fit", tmp_path / "m.json", tmp_path / "p.json").stdout
    for bad in ("many", "-3"):
        neogenesis("fit", tmp_path / "m.json", tmp_path / "p.json", f"--budget={bad}", status=2)
    neogenesis("fit", tmp_path / "none.json", tmp_path / "p.json", status=2)
    (tmp_path / "p.json").write_text('{"schema": "neogenesis.part/1", "id": "x", "kind": "spoon"}')
    neogenesis("fit", tmp_path / "m.json", tmp_path / "p.json", status=3)


@pytest.mark.parametrize("budget", [None, Decimal(90)])
def test_an_answer_in_pieces_is_the_whole_answer(budget: Decimal | None) -> None:
    """Large answers are written as they are made, so that memory does not grow with the number of pairs."""
    rng = random.Random(3)
    parts = [
        (ssd if n % 2 else part)(f"p{n}", price=str(rng.randrange(20, 300)), capacity_gb=rng.choice([250, 500]))
        for n in range(40)
    ]
    places = [low_bay("a", holds="p1", starts_system=True), bay("b"), bay("c", double_sided=False), low_bay("d")]
    of = machine(*places)
    whole = json.loads(to_json(fit(of, parts, budget)))
    assert json.loads(b"".join(fit_in_pieces(of, parts, budget))) == whole and len(whole["fits"]) == 160
    short = [part("s", length_mm=42, price="30"), part("t", length_mm=42, price="60")]
    adapter = Part(schema=Part.SCHEMA, id="l", kind="adapter", from_="42", to="80", price="55")
    near = [*short, adapter]
    only = machine(bay("slot", lengths_mm=(80,)))
    assert json.loads(b"".join(fit_in_pieces(only, near, budget))) == json.loads(to_json(fit(only, near, budget)))
    nothing = machine()
    assert json.loads(b"".join(fit_in_pieces(nothing, parts, budget))) == json.loads(
        to_json(fit(nothing, parts, budget))
    )


def test_both_ways_of_placing_come_to_the_same() -> None:
    """Linear programmes on ever smaller networks, against whole numbers with each goal as a limit."""
    for seed in range(60):
        rng = random.Random(seed)
        parts = [
            (ssd if rng.random() < 0.5 else part)(
                f"p{n}",
                read_bytes_per_s=rng.randrange(1, 8) * 1e8,
                price=str(rng.randrange(20, 60)),
                stock=rng.choice([None, 1, 2]),
            )
            for n in range(rng.randrange(1, 9))
        ]
        bays = [
            (low_bay if rng.random() < 0.5 else bay)(f"b{n}", starts_system=rng.random() < 0.5)
            for n in range(rng.randrange(1, 6))
        ]
        found = [m for m in matrix(machine(*bays), parts, (), None).all() if m.verdict != "does-not-fit"]
        if not found:
            continue
        rates = np.array([(m.effective_read_bytes_per_s or 1.0) / 1e6 for m in found])
        costs = np.array([float(m.part.cost or 0) for m in found])
        starts = np.array([m.bay.starts_system is True for m in found])
        limits, most = _limits(found)

        def rank(chosen: list[int]) -> tuple[float, ...]:
            first = max((rates[n] for n in chosen if starts[n]), default=0.0)  # noqa: B023 - called in this round
            return len(chosen), first, round(sum(rates[chosen]), 3), round(-sum(costs[chosen]), 2)  # noqa: B023

        one, other = (way(limits, most, rates, costs, starts) for way in (_by_faces, _stages))
        assert one is not None and rank(one) == rank(other or []), seed
