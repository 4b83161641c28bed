"""Opening and closing machines: the order of steps, the count of fasteners, cautions, and profiles that cannot be true."""

from __future__ import annotations

import json
from importlib.resources import files
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neogenesis.bench.records.shipped import hand_in
from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.machine import Machine, read_machine
from neogenesis.core.record import to_json
from neogenesis.core.swap import answer_for, path_of, step_faults
from neogenesis.core.swap.faults import MOST_STEPS
from neogenesis.core.swap.guide import Act, Guide, GuideRecord, begun
from neogenesis.core.swap.path import cautions_of
from neogenesis.core.swap.tray import kinds, pieces, places

hand_in()
SHIPPED = {
    f.name.removesuffix(".machine.json"): read_machine(f.read_bytes())
    for f in files("neogenesis").joinpath("data/machines").iterdir()
}
_HEAD = {"schema": "neogenesis.machine/1", "make": "Petrel", "model": "9"}


def machine(**fields: Any) -> Machine:
    return read_machine(json.dumps(_HEAD | fields).encode())


def screws(**counts: int) -> list[dict[str, Any]]:
    return [{"id": id_, "count": n} for id_, n in counts.items()]


def step(id_: str, do: str = "remove", **fields: Any) -> dict[str, Any]:
    return {"id": id_, "do": do, "what": id_} | fields


def act(deed: str, id_: str = "", count: int = 0, text: str = "", at: int = 0) -> Act:
    return Act(at=f"2026-11-27T10:{at // 60:02d}:{at % 60:02d}+00:00", deed=deed, id=id_, count=count, text=text)  # type: ignore[arg-type]


def press(guide: Guide) -> Guide:
    """What the one key does, with time that passes where it must."""
    deed = guide.press()
    if deed is None and guide.must_wait_s:
        return guide.acted(act("waited"))
    assert deed is not None
    ids = {"count": guide.next_piece, "acknowledge": guide.pending}
    return guide.acted(act(deed, ids.get(deed, ""), 1 if deed == "count" else 0))


def to_the_end(guide: Guide) -> Guide:
    for _ in range(2000):
        if guide.where.finished:
            return guide
        guide = press(guide)
    raise AssertionError("it does not end")


def balance(guide: Guide) -> bool:
    ledger = guide.where.ledger
    out = sum(n for _, n in ledger.tray) + sum(one.count for one in ledger.named)
    return ledger.out == ledger.back + out and all(n > 0 for _, n in ledger.tray)


# Paths


@pytest.mark.parametrize("name", sorted(SHIPPED))
def test_every_shipped_machine_opens_and_closes_with_nothing_left(name: str) -> None:
    known = SHIPPED[name]
    assert known.steps and known.outline is not None
    for purposes in (None, {"drive"}, {"memory"}, {"drive", "memory"}):
        path = path_of(known, purposes)  # type: ignore[arg-type]
        done = [r.step.id for r in (*path.opening, *path.work)]
        assert [r.step.id for r in path.closing] == done[::-1] and len(set(done)) == len(done)
        found = answer_for(known, purposes)  # type: ignore[arg-type]
        assert found.fasteners_out == found.fasteners_in and not found.left_in_trays
    guide = to_the_end(begun(known, {"drive", "memory"}))
    assert guide.where.ledger.out == guide.path.pieces and balance(guide)
    rows = [r for r in guide.rows if r.phase == "closing" and r.pieces]
    assert all(r.step.back or "{0}" in r.pattern for r in rows)


def test_peculiarities_of_the_trade_are_all_there() -> None:
    every = [f for m in SHIPPED.values() for f in m.fasteners]
    hidden = {(f.hidden_under or "").split()[-1] for f in every if f.hidden_under}
    assert {"foot", "foil", "sticker", "seal"} <= hidden
    assert any(f.captive for f in every) and any(f.odd for f in every)
    assert any(f.cover_reused is False for f in every) and any(f.cover_reused for f in every)
    codes = {c for m in SHIPPED.values() for c in path_of(m).cautions}
    assert codes >= {"mains", "lithium", "drain", "glass", "sharp", "dust", "vehicle", "supply", "esd"}
    assert any(len([s for s in m.steps if "battery" in s.id]) == 2 for m in SHIPPED.values())
    assert sum(len({f.length_mm for f in m.fasteners}) > 1 for m in SHIPPED.values()) >= 12


def test_only_the_bay_that_is_meant_and_shared_steps_once() -> None:
    known = SHIPPED["petrel-14"]
    one = path_of(known, {"drive"}, {"lower bay"})
    both = path_of(known, {"drive"})
    assert "bracket" in [r.step.id for r in one.work] and "drive" not in [r.step.id for r in one.work]
    assert [r.step.id for r in both.opening] == [r.step.id for r in one.opening]
    assert len(both.work) == len(one.work) + 1


@pytest.mark.parametrize("name", sorted(SHIPPED))
def test_memory_beside_a_drive_is_never_longer_than_the_two_alone(name: str) -> None:
    known = SHIPPED[name]
    both = path_of(known, {"drive", "memory"})
    drive, memory = path_of(known, {"drive"}), path_of(known, {"memory"})
    assert len(both.rows) <= len(drive.rows) + len(memory.rows)
    assert {r.step.id for r in both.rows} == {r.step.id for r in (*drive.rows, *memory.rows)}


def test_what_hides_a_screw_comes_off_before_it() -> None:
    known = machine(
        fasteners=[{"id": "s", "count": 1, "hidden_under": "Foot"}],
        steps=[step("screw", fasteners=["s"]), step("foot", "pry", parts_off=["foot"]), step("late", needs=["screw"])],
    )
    assert [r.step.id for r in path_of(known).opening] == ["foot", "screw", "late"]


def test_captive_ones_do_not_come_out() -> None:
    known = machine(
        fasteners=[{"id": "c", "count": 4, "captive": True}, {"id": "s", "count": 2}],
        steps=[step("lid", fasteners=["c", {"id": "s", "count": 1}])],
    )
    found = answer_for(known)
    assert found.fasteners_out == 1 and found.opening[0].loosened[0].count == 4
    assert {p.state for p in pieces(begun(known, {"drive"})) if p.kind.id == "c"} == {"captive"}


# Profiles that cannot be true

_WRONG: list[tuple[str, dict[str, Any], str]] = [
    ("circle", {"steps": [step("a", needs=["b"]), step("b", needs=["a"])]}, "circle"),
    (
        "hidden circle",
        {
            "fasteners": [{"id": "f", "hidden_under": "lid"}, {"id": "g", "hidden_under": "foot"}],
            "steps": [
                step("a", fasteners=["f"], parts_off=["foot"]),
                step("b", fasteners=["g"], parts_off=["lid"]),
            ],
        },
        "circle",
    ),
    ("unknown fastener", {"steps": [step("a", fasteners=["x"])]}, "“x”"),
    (
        "more out than there are",
        {"fasteners": screws(s=3), "steps": [step("a", fasteners=["s"]), step("b", fasteners=["s"])]},
        "take 6",
    ),
    ("off twice", {"steps": [step("a", parts_off=["lid"]), step("b", parts_off=["Lid"])]}, "took off already"),
    ("unknown need", {"steps": [step("a", needs=["lid"])]}, "“lid”"),
    (
        "battery late",
        {
            "openings": {"cautions": ["lithium"]},
            "steps": [step("fan cable", "unplug"), step("battery", "unplug")],
        },
        "before “battery”",
    ),
    (
        "drive before battery",
        {
            "openings": {"cautions": ["lithium"]},
            "steps": [
                step("cover", "pry", parts_off=["cover"], **{"for": ["open"]}),
                step("drive", **{"for": ["drive"]}),
                step("battery", "unplug", **{"for": ["open"]}),
            ],
        },
        "before “battery”",
    ),
    ("outside", {"fasteners": [{"id": "s", "x": 1.2, "y": 0.1}], "steps": []}, "fasteners[0].x"),
    ("unknown caution", {"steps": [step("a", cautions=["fire"])]}, "“fire”"),
    ("none of a group", {"fasteners": screws(s=0), "steps": [step("a")]}, "at least one"),
    ("too many", {"steps": [step(f"s{n}") for n in range(MOST_STEPS + 1)]}, "at most"),
]


@pytest.mark.parametrize("name,fields,says", _WRONG, ids=[w[0] for w in _WRONG])
def test_profiles_that_cannot_be_true_are_refused_by_name(
    name: str, fields: dict[str, Any], says: str, tmp_path: Path, neogenesis: Any
) -> None:
    path = tmp_path / "m.machine.json"
    path.write_text(json.dumps(_HEAD | fields))
    found = neogenesis("swap", path, "--json", status=3)
    assert says in found.stderr and found.stderr.count("\n") == 1
    assert json.loads(found.stdout)["schema"] == "neogenesis.refusal/1"


def test_all_faults_are_named_at_once() -> None:
    known = machine(
        has_battery=True,
        fasteners=screws(s=1),
        steps=[step("a", fasteners=["s"], cautions=["fire"]), step("b", fasteners=["s"], needs=["nothing"])],
    )
    assert len(list(step_faults(known))) == 3
    assert "lithium" in cautions_of(known), "nobody reaches cells unwarned, whatever the profile names"


def test_mains_may_be_unplugged_before_the_battery() -> None:
    known = machine(
        openings={"cautions": ["lithium"]},
        steps=[step("mains adapter", "unplug"), step("battery", "unplug"), step("fan cable", "unplug")],
    )
    assert not list(step_faults(known))


def test_four_hundred_steps(neogenesis: Any, tmp_path: Path) -> None:
    path = tmp_path / "m.json"
    steps = [step(f"s{n}", fasteners=[f"f{n}"], needs=[f"s{n - 1}"] if n else []) for n in range(400)]
    path.write_text(json.dumps(_HEAD | {"fasteners": screws(**{f"f{n}": 2 for n in range(400)}), "steps": steps}))
    found = json.loads(neogenesis("swap", path, "--json").stdout)
    assert found["fasteners_out"] == found["fasteners_in"] == 800 and len(found["closing"]) == 400


def test_the_command_as_the_contract_has_it(neogenesis: Any, tmp_path: Path) -> None:
    path = tmp_path / "m.machine.json"
    path.write_text(to_json(SHIPPED["petrel-14"]).decode())
    found = json.loads(neogenesis("swap", path, "--for", "drive,memory", "--json").stdout)
    assert found["schema"] == "neogenesis.swap/1" and {c["code"] for c in found["cautions"]} >= {"mains", "lithium"}
    assert all(c["text"] for c in found["cautions"]) and found["tools"]
    out = sum(f["count"] for r in found["opening"] + found["work"] for f in r["fasteners"])
    assert out == found["fasteners_out"] == sum(f["count"] for r in found["closing"] for f in r["fasteners"])
    memory = json.loads(neogenesis("swap", path, "--for", "memory", "--json").stdout)
    assert memory["fasteners_out"] == 8 and [r["step"] for r in memory["work"]] == ["module", "look"]
    assert "Take out" in neogenesis("swap", path).stdout
    assert "no purpose" in neogenesis("swap", path, "--for", "engine", status=2).stderr
    assert "no bay" in neogenesis("swap", path, "--bay", "attic", status=2).stderr
    bare = tmp_path / "bare.json"
    bare.write_text(json.dumps(_HEAD))
    assert json.loads(neogenesis("swap", bare, "--json").stdout)["opening"] == []


# The guide


def test_cautions_stop_it_once_by_name() -> None:
    guide = begun(SHIPPED["brightwell-pane-20"], {"drive"})
    while guide.preparing is not None:
        guide = press(guide)
    assert guide.pending == "mains" and guide.press() == "acknowledge"
    with pytest.raises(BadArgument, match="caution stands"):
        guide.acted(act("on"))
    with pytest.raises(BadArgument):
        guide.acted(act("acknowledge", "glass"))
    seen = []
    while not guide.is_through:
        if guide.pending:
            seen.append(guide.pending)
        guide = press(guide)
    assert len(seen) == len(set(seen)) and {"mains", "supply", "glass", "sharp"} <= set(seen)


def test_nothing_goes_on_while_time_must_pass() -> None:
    guide = begun(SHIPPED["petrel-14"], {"drive"})
    while guide.row is None or guide.row.step.do != "drain":
        guide = press(guide)
    if guide.pending:
        guide = press(guide)
    assert guide.must_wait_s == 20 and guide.press() is None
    with pytest.raises(BadArgument):
        guide.acted(act("on"))
    assert press(guide).press() == "on"


def test_something_left_in_the_tray_is_not_finished_with() -> None:
    guide = begun(machine(fasteners=screws(s=3), steps=[step("lid", fasteners=["s"])]), {"drive"})
    while guide.row is None or guide.row.phase != "closing":
        guide = press(guide)
    guide = press(press(guide)).acted(act("leave")).acted(act("on"))
    assert guide.is_through and guide.left_over == (("s", 1),)
    with pytest.raises(BadArgument, match="left in the tray: 1 of “s”"):
        guide.acted(act("finish"))
    with pytest.raises(BadArgument, match="needs a reason"):
        guide.acted(act("lost", "s", 1, " "))
    put_in = press(guide.acted(act("back")).acted(act("back")))
    assert not put_in.left_over and balance(put_in)
    named = guide.acted(act("lost", "s", 1, "its thread is gone"))
    assert named.acted(act("finish")).where.finished and balance(named)


def test_one_that_was_missing_on_arrival_is_not_asked_for_again() -> None:
    guide = begun(machine(fasteners=screws(s=3), steps=[step("lid", fasteners=["s"])]), {"drive"})
    while guide.row is None:
        guide = press(guide)
    guide = to_the_end(guide.acted(act("absent", "s", 1, "missing on arrival")))
    assert guide.where.ledger.out == guide.where.ledger.back == 2
    assert guide.where.ledger.never_out[0].reason == "missing on arrival"


def test_a_swollen_battery_ends_the_work() -> None:
    guide = begun(SHIPPED["petrel-14"], {"drive"}).acted(act("swollen"))
    assert guide.press() is None
    with pytest.raises(BadArgument, match="was stopped"):
        guide.acted(act("on"))
    assert not guide.acted(act("back")).where.stopped


def test_a_mistake_is_undone_step_by_step_and_the_work_goes_on() -> None:
    guide = begun(SHIPPED["petrel-14"], {"drive"})
    while guide.row is None or guide.row.step.id != "pry" or guide.pending:
        guide = press(guide)
    known = guide.mistakes()
    assert known[0].code == "tip:0" and "will-not-lift" in {m.code for m in known}
    at = guide.where.row
    guide = guide.acted(act("mistake", "will-not-lift"))
    assert guide.where.trouble is not None and guide.press() == "undone"
    with pytest.raises(BadArgument, match="being undone"):
        guide.acted(act("on"))
    for _ in range(len(known[1].undo)):
        guide = press(guide)
    assert guide.where.trouble is None and guide.where.row == at
    assert balance(to_the_end(guide))


def test_time_with_hands_on_it_leaves_interruptions_out() -> None:
    guide = begun(machine(steps=[step("a", "check"), step("b", "check")]), {"drive"})
    for second in (0, 20, 40, 1800, 1830):
        guide = guide.acted(act(guide.press() or "on", at=second))
    assert guide.spent_s == 70


@settings(max_examples=60, deadline=None)
@given(st.sampled_from(sorted(SHIPPED)), st.lists(st.sampled_from("pppppppbaolmwn"), max_size=160), st.booleans())
def test_fasteners_are_conserved_whatever_is_done(name: str, keys: list[str], both: bool) -> None:
    guide = begun(SHIPPED[name], {"drive", "memory"} if both else {"drive"})
    for key in keys:
        deed = {"b": "back", "l": "leave", "o": "on", "w": "waited"}.get(key, "")
        try:
            if key == "p":
                guide = press(guide) if not guide.where.finished else guide
            elif key == "a":
                guide = guide.acted(act("absent", guide.next_piece, 1, "stays in"))
            elif key == "m":
                guide = guide.acted(act("mistake", "screw-fell", text="x"))
            elif key == "n" and guide.left_over:
                guide = guide.acted(act("lost", guide.left_over[0][0], 1, "broken"))
            else:
                guide = guide.acted(act(deed or "on"))
        except BadArgument:
            pass
        assert balance(guide)
        assert all(
            p.state != "missing" or guide.where.ledger.never_out or guide.where.ledger.named for p in pieces(guide)
        )
    again = Guide(guide.record)
    assert again.where == guide.where


def test_a_record_that_does_not_hold_together_is_refused() -> None:
    record = GuideRecord(machine=SHIPPED["petrel-14"], purposes=("drive",), acts=(act("count", "cover-long", 9),))
    with pytest.raises(BadRecord, match="does not hold together"):
        Guide(record)


# The tray


@settings(max_examples=80, deadline=None)
@given(
    st.integers(1, 60),
    st.one_of(st.none(), st.floats(0, 1)),
    st.one_of(st.none(), st.floats(0, 1)),
    st.sampled_from(["bottom cover, outer edge", "bracket", ""]),
)
def test_every_piece_lies_inside_the_outline(count: int, x: float | None, y: float | None, place: str) -> None:
    fastener = {"id": "s", "count": count, "place": place}
    fastener |= {k: v for k, v in (("x", x), ("y", y)) if v is not None}
    spots = places(machine(fasteners=[fastener]))["s"]
    assert len(spots) == count and all(0 <= v <= 1 for spot in spots for v in spot)


def test_every_length_has_its_own_shape_and_every_head_its_sign() -> None:
    found = kinds(SHIPPED["petrel-14"])
    assert found["cover-long"].shape != found["cover-short"].shape and found["cover-long"].odd
    assert {k.sign for k in found.values()} == {"cross"}
    assert kinds(SHIPPED["petrel-turn-13"])["cover"].sign == "five"
    assert kinds(SHIPPED["petrel-12"])["cover"].sign == "star"


def test_the_next_piece_is_lit_and_then_lies_in_the_tray() -> None:
    guide = begun(SHIPPED["petrel-14"], {"drive"})
    while not guide.next_piece:
        guide = press(guide)
    before = [p.state for p in pieces(guide) if p.kind.id == guide.next_piece]
    assert before == ["next", "here"]
    guide = press(guide)
    assert [p.state for p in pieces(guide) if p.kind.id == "cover-long"] == ["in-tray", "next"]
