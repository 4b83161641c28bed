"""The catalogue, sets of drives, waiting, lists and drawings of Fit."""

from __future__ import annotations

import csv
import io
from dataclasses import replace
from decimal import Decimal
from itertools import product
from pathlib import Path

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neogenesis.bench.records.profiles import (
    former_versions,
    import_profiles,
    keep_machine,
    keep_part,
    known_machines,
    known_parts,
)
from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.fit.drawing import drawing
from neogenesis.core.fit.lists import as_csv, lists_for, name_of
from neogenesis.core.fit.match import Match
from neogenesis.core.fit.matrix import matrix
from neogenesis.core.fit.numbers import numbers
from neogenesis.core.fit.part import BESIDE, Part, read_part
from neogenesis.core.fit.quantity import parse_amount, parse_amounts, shown_amount
from neogenesis.core.fit.sets import DriveSet, likely, made_of, proposed, worth_having
from neogenesis.core.fit.waiting import drive_wait, start_after
from neogenesis.core.machine import Machine, read_machine
from neogenesis.core.machine.model import Bay
from neogenesis.core.record import to_json

MACHINES, PARTS = known_machines(Path("/nowhere"))[0], known_parts(Path("/nowhere"))[0]
PRICES = {p.id: p.cost for p in PARTS}
NEAR = [p for p in PARTS if p.kind in BESIDE]


def machine(title: str) -> Machine:
    return next(m for m in MACHINES if m.title == title)


def part(id_: str) -> Part:
    return next(p for p in PARTS if p.id == id_)


def matches(of: Machine, drives: list[Part] | None = None) -> list[Match]:
    every = [p for p in PARTS if p.kind == "drive"] if drives is None else drives
    return matrix(of, every, NEAR, None).all()


# The catalogue


def test_the_catalogue_that_ships_is_large_and_whole() -> None:
    machines, wrong = known_machines(Path("/nowhere"))
    parts, faults = known_parts(Path("/nowhere"))
    assert len(machines) >= 12 and len(parts) >= 60 and not wrong and not faults
    kinds = {m.kind for m in machines}
    assert {"laptop", "convertible", "all-in-one", "tower", "handheld", "appliance", "vehicle"} <= kinds
    assert all(p.currency == "EUR" and p.cost for p in parts)
    for one in machines:  # nothing that ships is without a part
        assert any(m.verdict != "does-not-fit" for m in matches(one)), one.title


def test_a_changed_profile_keeps_its_former_versions(tmp_path: Path) -> None:
    mine = msgspec.structs.replace(part("corvane-n2-500"), price="41.00")
    path = keep_part(tmp_path, mine)
    with pytest.raises(BadArgument, match="already"):
        keep_part(tmp_path, mine)
    for price in ("42.00", "43.00"):
        keep_part(tmp_path, msgspec.structs.replace(mine, price=price), instead=True)
    former = former_versions(tmp_path, mine)
    assert [read_part(f.read_bytes()).price for f in former] == ["41.00", "42.00"]
    assert next(p for p in known_parts(tmp_path)[0] if p.id == mine.id).price == "43.00" and path.exists()
    other = msgspec.structs.replace(machine("Petrel 12"), kind="tower")
    keep_machine(tmp_path, other)
    assert next(m for m in known_machines(tmp_path)[0] if m.title == "Petrel 12").kind == "tower"


def test_profiles_are_brought_from_files_and_folders(tmp_path: Path) -> None:
    bench, place = tmp_path / "bench", tmp_path / "from"
    bench.mkdir()
    place.mkdir()
    (place / "a.json").write_bytes(to_json(msgspec.structs.replace(part("pad-05"), id="pad-07", height_mm=0.7)))
    (place / "b.json").write_bytes(to_json(msgspec.structs.replace(machine("Petrel 12"), model="12 old")))
    (place / "c.json").write_text('{"schema": "neogenesis.machine/1", "make": "Petrel", "model": "0", "bays": 3}')
    (place / "d.json").write_bytes(b"\xff\x00")
    taken, faults = import_profiles(bench, place)
    assert taken == ["pad-07", "Petrel 12 old"] and len(faults) == 2 and "c.json" in faults[0]
    assert "pad-07" in {p.id for p in known_parts(bench)[0]}
    with pytest.raises(BadArgument, match="no profile"):
        import_profiles(bench, _empty(tmp_path))
    assert import_profiles(bench, tmp_path / "gone.json")[1] and import_profiles(bench, place / "a.json")[0] == [
        "pad-07"
    ]


def _empty(tmp_path: Path) -> Path:
    (tmp_path / "empty").mkdir()
    return tmp_path / "empty"


def test_every_contradiction_is_named_by_its_field() -> None:
    text = {
        "schema": "neogenesis.machine/1",
        "make": "Petrel",
        "model": "0",
        "bays": [
            {"name": "a", "kind": "2.5", "lengths_mm": [80], "key": "M"},
            {"name": "a", "kind": "m2", "caddy_mm": 9.5, "thickness_mm": [7]},
            {"name": "b", "kind": "m2", "double_sided": True, "clearance_below_mm": 0},
        ],
        "memory": {"soldered_gb": 32, "max_gb": 16, "max_per_slot_gb": 64},
        "fasteners": [{"id": "x", "count": 2, "x": 3}],
        "steps": [{"id": "s", "do": "remove", "what": "w", "fasteners": ["y", {"id": "x", "count": 5}]}],
    }
    with pytest.raises(BadRecord) as caught:
        read_machine(msgspec.json.encode(text))
    said = caught.value.text
    for field in (
        "“bays” names “a” 2 times",
        *("bays[0].lengths_mm", "bays[0].key", "bays[1].thickness_mm", "bays[1].caddy_mm", "bays[2].double_sided"),
        *(
            "memory.soldered_gb",
            "memory.max_per_slot_gb",
            "fasteners[0].x",
            "“steps[0].fasteners” names “y”",
            "takes 5",
        ),
    ):
        assert field in said
    bad = {"schema": "neogenesis.part/1", "id": "p", "kind": "drive", "form": "2.5", "length_mm": 80, "key": "M"}
    bad |= {"sides": 2, "height_below_mm": 0, "write_bytes_per_s": 1, "sustained_write_bytes_per_s": 2}
    with pytest.raises(BadRecord) as caught:
        read_part(msgspec.json.encode(bad))
    assert caught.value.text.count("“") >= 4 and "sustained" in caught.value.text


# Amounts as they are typed


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        *(("22", "mm", 22), (" 2,2 cm ", "mm", 22), ("0.5 in", "mm", 12.7), ('1"', "mm", 25.4), ("", "mm", None)),
        *(("1 TB", "GB", 1000), ("512GB", "GB", 512), ("466 GiB", "GB", 500.363690)),
        *(("7.2 GB/s", "bytes/s", 7.2e9), ("6 Gbit/s", "bytes/s", 7.5e8), ("600 MB/s", "Gbit/s", 4.8)),
        *(("1350 mV", "V", 1.35), ("2666 MHz", "MT/s", 5332), ("36 months", "years", 3), ("4", "", 4)),
    ],
)
def test_amounts_are_read_with_their_units(text: str, unit: str, value: float | None) -> None:
    assert parse_amount(text, unit) == (None if value is None else pytest.approx(value))


@pytest.mark.parametrize("text", ["22 furlongs", "-3", "three", "1e999999999", "1,2,3", "22 mm mm", "NaN", "inf mm"])
def test_unknown_units_and_no_amounts_are_refused_with_the_units(text: str) -> None:
    with pytest.raises(BadArgument) as caught:
        parse_amount(text, "mm")
    assert "mm, cm, in" in caught.value.sentence()


def test_several_amounts_and_their_text_again() -> None:
    assert parse_amounts("42; 60, 80", "mm") == [42, 60, 80] and parse_amounts("42 60 80", "mm") == [42, 60, 80]
    assert parse_amounts("0,95; 1.2 cm", "mm") == [0.95, 12] and parse_amounts(" ", "mm") == []
    assert shown_amount(9.5) == "9.5" and shown_amount(7.0) == "7" and shown_amount(None) == ""


# Waiting


def test_a_start_gets_faster_as_the_drive_does_and_never_slower() -> None:
    assert drive_wait("rotational") > drive_wait("sata") > drive_wait("nvme", 3e9) > drive_wait("nvme", 7e9)
    found = start_after(198, "rotational", "nvme", 3.4e9)
    low, middle, high = found.after_s
    assert low < middle < high < 198 and 25 < middle < 50
    assert start_after(30, "nvme", "rotational").after_s == (30, 30, 30)


# Sets


def brute(of: list[Match], needed: int) -> list[tuple[Decimal, int, float]]:
    """Figures of all sets that nothing beats, by trying everything."""
    able = [m for m in of if m.verdict != "does-not-fit"]
    bays = list(dict.fromkeys(m.bay.name for m in able))
    every: list[DriveSet] = []
    for chosen in product(*[[None, *(m for m in able if m.bay.name == b)] for b in bays]):
        taken = [m for m in chosen if m is not None]
        ids = [m.part.id for m in taken]
        if any(ids.count(m.part.id) > max(1, m.part.pieces) for m in taken):
            continue
        for system in taken:
            if system.bay.starts_system is not False and (system.usable_bytes or 0) >= needed:
                others = [m for m in taken if m is not system]
                every.append(_with_system(system, others))
    keys = {(float(s.cost), -s.room_bytes, s.wait_s): s for s in every}
    best = [k for k in keys if not any(o != k and all(a <= b for a, b in zip(o, k, strict=True)) for o in keys)]
    return sorted((keys[k].cost, keys[k].room_bytes, keys[k].wait_s) for k in best)


def _with_system(system: Match, others: list[Match]) -> DriveSet:
    alone = made_of([system], PRICES)
    whole = made_of([system, *others], PRICES)
    return DriveSet((system, *others), system, whole.cost, whole.room_bytes, alone.wait_s)


@pytest.mark.parametrize("title", ["Petrel 14", "Petrel 16", "Petrel 17", "Petrel Turn 13", "Brightwell Desk 3"])
def test_sets_equal_those_found_by_trying_everything(title: str) -> None:
    drives = [p for p in PARTS if p.kind == "drive"][::2]
    of = matches(machine(title), drives)
    found = worth_having(of, PRICES, int(100e9))
    assert sorted((s.cost, s.room_bytes, s.wait_s) for s in found) == brute(of, int(100e9))
    fewer = worth_having(likely(matrix(machine(title), drives, NEAR, None), PRICES), PRICES, int(100e9))
    assert [(s.cost, s.room_bytes, s.wait_s) for s in fewer] == [(s.cost, s.room_bytes, s.wait_s) for s in found]


def test_the_proposal_is_the_cheapest_that_is_not_felt_to_be_slower() -> None:
    sets = worth_having(matches(machine("Petrel 14")), PRICES, int(140e9))
    best = proposed(sets, None, int(500e9))
    assert best is not None and best.system.bay.kind == "m2" and best.room_bytes >= 500e9
    assert all(s.cost >= best.cost for s in sets if s.wait_s <= best.wait_s and s.room_bytes >= 500e9)
    tight = proposed(sets, Decimal("25"))
    assert tight is not None and tight.system.part.id == "ostrel-s-240"
    assert proposed(sets, Decimal("1")) is None and proposed([], None) is None


@settings(max_examples=40, deadline=None)
@given(st.integers(10, 900), st.integers(0, 400))
def test_a_larger_budget_is_never_worse(budget: int, more: int) -> None:
    sets = worth_having(matches(machine("Petrel 16")), PRICES, int(200e9))
    one, other = proposed(sets, Decimal(budget)), proposed(sets, Decimal(budget + more))
    assert one is None or (other is not None and other.wait_s <= one.wait_s + 3)


def test_many_bays_and_parts_take_no_time_to_speak_of() -> None:
    parts = [
        msgspec.structs.replace(part("corvane-n2-500"), id=f"p{n}", price=f"{20 + n % 97}", capacity_gb=100 + n % 89)
        for n in range(3000)
    ]
    wide = Machine(
        schema=Machine.SCHEMA,
        make="Brightwell",
        model="Wall",
        bays=tuple(Bay(name=f"b{n}", kind="m2", interfaces=("nvme",), key="M", lengths_mm=(80,)) for n in range(200)),
    )
    prices = {p.id: p.cost for p in parts}
    pairs = likely(matrix(wide, parts, [], None), prices)
    assert 0 < len(pairs) < 2000 and len({m.bay.name for m in pairs}) == 4
    assert worth_having(pairs, prices, 10**9)


# Drawings


def pair(part_id: str, title: str, bay: str) -> tuple[Part, Bay]:
    return part(part_id), next(b for b in machine(title).bays if b.name == bay)


def test_what_is_too_high_is_marked_and_measured() -> None:
    found = drawing(*pair("corvane-n4-4000", "Petrel 16", "M-1"))
    assert found is not None
    over = [m for m in found.side.measures if m.over]
    assert [round(m.mm, 3) for m in over] == [0.45] and found.side.overlaps and not found.above.overlaps
    fits = drawing(*pair("corvane-n4-4000", "Petrel 16", "M-2"))
    assert fits is not None and not fits.side.overlaps and not any(m.over for m in fits.side.measures)
    tall = drawing(*pair("corvane-n5-tall-2000", "Petrel 16", "M-2"))
    assert tall is not None and [round(m.mm, 3) for m in tall.side.measures if m.over] == [9.2]


def test_what_is_too_long_or_keyed_otherwise_is_marked_from_above() -> None:
    found = drawing(*pair("ostrel-l-960", "Petrel 16", "M-2"))
    assert found is not None and [m.mm for m in found.above.measures if m.over] == [30]
    socket = Bay(name="b", kind="m2", key="B", lengths_mm=(80,))
    keyed = drawing(part("corvane-n2-500"), socket)
    assert keyed is not None and len(keyed.above.overlaps) == 1
    assert not drawing(part("halden-b-250"), socket).above.overlaps  # type: ignore[union-attr]  # both notches


def test_cases_are_drawn_by_their_thickness() -> None:
    found = drawing(*pair("halden-5000-disc", "Petrel 17", "drive bay"))
    assert found is not None and [m.mm for m in found.side.measures if m.over] == [5.5]
    caddy = drawing(*pair("corvane-s5-500", "Petrel 17", "optical bay"))
    assert caddy is not None and any(b.thing == "caddy" for b in caddy.side.boxes) and not caddy.side.overlaps
    assert drawing(*pair("corvane-s5-500", "Petrel 16", "M-1")) is None


def test_a_start_that_waits_a_little_longer_is_not_felt() -> None:
    fast = made_of([next(m for m in matches(machine("Petrel 16")) if m.verdict != "does-not-fit")], {})
    fast = replace(fast, cost=Decimal(50))
    near = numbers().set.near_s
    cheap = replace(fast, cost=fast.cost - 1, wait_s=fast.wait_s + near)
    assert proposed([fast, cheap], None) is cheap
    assert proposed([fast, replace(cheap, wait_s=fast.wait_s + near + 0.01)], None) is fast


def test_every_pair_can_be_drawn_and_overlaps_where_a_size_is_against_it() -> None:
    for of in MACHINES:
        for one in matches(of):
            found = drawing(one.part, one.bay)
            codes = {r.code for r in one.reasons if r.against}
            if found is None:
                assert one.verdict == "does-not-fit" or one.needs, (one.part.id, of.title)
                continue
            over = bool(found.side.overlaps or found.above.overlaps)
            if codes & {"height", "length", "thickness"}:
                assert over, (one.part.id, of.title, codes)
            elif one.verdict != "does-not-fit":
                assert not over, (one.part.id, of.title)


# Lists


def test_lists_say_what_to_buy_what_is_there_and_which_tools() -> None:
    of = machine("Petrel 16")
    chosen = [m for m in matches(of, [part("halden-q-8000"), part("ostrel-k-512")]) if m.bay.name == "M-2"]
    lines = lists_for(of, chosen, [part("ostrel-r5-16")] * 2, PARTS)
    by_group = {g: [line for line in lines if line.group == g] for g in ("buy", "stock", "tools", "small")}
    assert [line.what for line in by_group["buy"]] == [name_of(part("halden-q-8000"))]
    memory = next(line for line in by_group["stock"] if line.why == "memory")
    assert memory.count == 2 and memory.price == Decimal("88.00")
    assert any("driver PH0, shaft 3 mm" in line.what for line in by_group["tools"])
    assert any("pad of" in line.why for line in (*by_group["stock"], *by_group["buy"]))
    rows = list(csv.reader(io.StringIO(as_csv(lines))))
    assert rows[0] == ["list", "what", "count", "for", "price"] and len(rows) == len(lines) + 1
    unknown = msgspec.structs.replace(of, fasteners=(), steps=(), kind="")
    assert any("pick" in line.what for line in lists_for(unknown, chosen, [], PARTS))
    needy = matches(machine("Petrel 12"), [part("ostrel-m-512")])
    assert any("length adapter" in line.what for line in lists_for(machine("Petrel 12"), needy, [], PARTS))
