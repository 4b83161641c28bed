"""Intake: what is asked, refused, measured and printed, without a window."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from neogenesis.bench.records.photographs import keep_photograph
from neogenesis.bench.records.profiles import keep_machine, known_machines
from neogenesis.core.drive import Health
from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.intake import (
    START_UP,
    Answer,
    Battery,
    Figure,
    Intake,
    Later,
    Plate,
    Run,
    Timing,
    Valuable,
    cautions_of,
    compared,
    course,
    gates_of_intake,
    guide,
    keep_intake,
    load_intake,
    of_another_machine,
    options,
    read_battery,
    read_rate,
    refuse_secret,
    secret_in,
    set_intake_aside,
    still_to_ask,
)
from neogenesis.core.intake.battery import checked
from neogenesis.core.intake.change import (
    given_back,
    moved,
    placed,
    struck,
    with_answer,
    with_belongings,
    with_figure,
    with_run,
    with_valuable,
)
from neogenesis.core.intake.triage import read_guide
from neogenesis.core.job import Job, make_slip
from neogenesis.core.job.customers import customers_of, found_again
from neogenesis.core.machine import Machine, Match, machine_on_plate, read_machine

MACHINES = known_machines(Path("/nowhere"))[0]
NOTHING = Match(None)


def codes(intake: Intake, match: Match = NOTHING, promise: str = "", encrypted: bool | None = None) -> set[str]:
    return {a.code for a in still_to_ask(intake, match, promise, encrypted)}


# What is still to ask


@pytest.mark.parametrize(
    ("code", "answered"),
    [
        ("customer", {"customer": "Gullhaven Pilots' Office"}),
        ("contact", {"contact": "960 114"}),
        ("machine", {"plate": Plate(make="Petrel", model="14")}),
        ("serial", {"plate": Plate(serial="P-1")}),
        ("symptoms", {"symptoms": ("slow",)}),
        ("symptoms", {"told": "it hums"}),
        ("starts", {"starts": "no"}),
        ("starts", {"symptoms": ("no-system",)}),
        ("card", {"card": "none"}),
        ("came-with", {"nothing_came": True}),
        ("must-survive", {"must_survive": "files"}),
        ("valuables", {"valuables": (Valuable(what="mail"),)}),
        ("valuables", {"must_survive": "nothing"}),
        ("recovery-key", {"later": Later(recovery_key="customer")}),
        ("consent", {"later": Later(consent_to_open="yes")}),
        ("budget", {"later": Later(budget="120")}),
        ("old-parts", {"later": Later(old_parts="kept")}),
    ],
)
def test_each_question_is_open_until_it_is_answered(code: str, answered: dict) -> None:
    assert code in codes(Intake())
    assert code not in codes(replace(Intake(), **answered))


def test_questions_that_only_some_jobs_have() -> None:
    assert "card-inside" in codes(Intake(card="inside")) and "card-inside" not in codes(Intake(card="taken-out"))
    no_reader = next(m for m in MACHINES if m.card_reader is False)
    assert "card" not in codes(Intake(), Match(no_reader, (no_reader,)))
    assert "recovery-key" not in codes(Intake(), encrypted=False) and "recovery-key" in codes(Intake(), encrypted=True)
    said = with_valuable(Intake(), "charts: in the cloud")
    assert "unseen" in codes(said) and "unseen" not in codes(replace(said, accepted_unseen=True))
    assert "start-up" in codes(Intake(starts="yes")) and "start-up" not in codes(Intake(starts="no"))
    assert "promise" in codes(Intake()) and "promise" not in codes(Intake(), promise="2026-12-01")
    assert codes(Intake()) <= {q.code for q in options().question}


def test_a_swollen_battery_and_a_lost_key_stop() -> None:
    found = cautions_of(Intake(condition=("liquid", "swollen-battery", "scratches")))
    assert [c.severity for c in found] == ["stop", "caution"] and "swollen" in found[0].text
    assert cautions_of(Intake(later=Later(recovery_key="nobody")))[0].severity == "stop"


# Shores and gates


def test_things_move_from_shore_to_shore_and_stay_at_the_edges() -> None:
    intake = with_valuable(with_valuable(Intake(), "mail"), "charts: in the cloud")
    assert [v.shore for v in intake.valuables] == ["here", "said"]
    assert moved(intake, "charts", 1).on_shore("seen")[0].what == "charts"
    assert moved(intake, "charts", 5).valuables == moved(moved(intake, "charts", 1), "charts", 1).valuables
    assert moved(intake, "mail", -1).valuables == intake.valuables
    assert placed(intake, "mail", "seen").valuables[-1] == Valuable(what="mail", shore="seen")
    assert placed(intake, "nothing", "seen") == intake
    for bad in ("MAIL", " : on a stick", ""):
        with pytest.raises(BadArgument):
            with_valuable(intake, bad)


def test_a_change_takes_back_the_signature_for_what_was_unseen() -> None:
    intake = replace(with_valuable(Intake(), "charts: in the cloud"), accepted_unseen=True)
    assert not with_valuable(intake, "mail").accepted_unseen and not moved(intake, "charts", -1).accepted_unseen


def gate(intake: Intake, everything: bool) -> dict[str, bool]:
    return {g.code: g.open for g in gates_of_intake(intake, everything)}


def test_what_is_only_said_closes_a_gate_unless_everything_is_carried() -> None:
    said = with_valuable(Intake(must_survive="everything"), "charts: in the cloud")
    assert gate(said, True) == {"elsewhere": True} and gate(said, False) == {"elsewhere": False}
    assert gate(replace(said, accepted_unseen=True), False) == {"elsewhere": True}
    assert gate(placed(said, "charts", "seen"), False) == {"elsewhere": True}
    assert gate(Intake(), False) == {}
    assert gate(with_valuable(Intake(must_survive="nothing"), "mail"), True) == {"only-here": False}
    assert gate(Intake(condition=("swollen-battery",)), True) == {"swollen-battery": False}
    assert "charts" in next(g.text for g in gates_of_intake(said, False))


# Secrets


@pytest.mark.parametrize(
    "text",
    [
        "123456-234567-345678-456789-567890-678901-789012-890123",
        "123456 234567 345678",
        "١٢٣٤٥٦-٢٣٤٥٦٧-٣٤٥٦٧٨-٤٥٦٧٨٩",
        "１２３４５６-２３４５６７-３４５６７８",
        "ABCDE-12345-FGHIJ-67890-KLMNO",
        "key 0f1e2d3c4b5a69788796a5b4c3d2e1f0",
        "aGVsbG8gd29ybGQgMTIzNDU2Nzg5MDEyMzQ1",
        "password: tidewater",
        "PIN = 4711",
        "Kennwort ist Möwe",
    ],
)
def test_what_looks_like_a_secret_is_refused(text: str) -> None:
    assert secret_in(text)
    with pytest.raises(BadArgument, match="not written down"):
        refuse_secret(text)


@pytest.mark.parametrize(
    "text",
    [
        "the office has it",
        "01632 960114",
        "+44 1632 960 114 or 960 115",
        "T-1019 of 2026-05-12",
        "PT14-40882",
        "",
        "Ægir Þórsson, Ωμέγα, 港",
    ],
)
def test_what_is_no_secret_may_be_written(text: str) -> None:
    assert secret_in(text) == ""


def test_beside_a_key_its_first_digits_are_refused_already() -> None:
    assert secret_in("123456", beside_key=True) and not secret_in("12 345", beside_key=True)


def test_no_secret_reaches_a_list() -> None:
    with pytest.raises(BadArgument, match="recovery key"):
        with_valuable(Intake(), "key: 123456-234567-345678-456789")
    with pytest.raises(BadArgument):
        with_figure(Intake(), Figure(code="link", text="ABCDE-12345-FGHIJ-67890"))


# Stopwatch


def timed(*seconds: float) -> Intake:
    intake = Intake()
    for one in seconds:
        intake = with_run(intake, START_UP, "before", Run(seconds=one))
    return intake


def test_median_and_spread_leave_out_what_was_struck() -> None:
    intake = timed(201, 198, 187, 900)
    timing = intake.timing(START_UP)
    assert timing is not None and timing.median_s == 199.5 and timing.spread_s == 713
    struck_out = struck(intake, START_UP, "before", 3, "an update ran").timing(START_UP)
    assert struck_out is not None and struck_out.median_s == 198 and struck_out.spread_s == 14
    assert len(struck_out.runs) == 4, "a run is struck out, never deleted"
    again = struck(struck(intake, START_UP, "before", 3, "x"), START_UP, "before", 3, "").timing(START_UP)
    assert again is not None and again.median_s == 199.5
    assert struck(intake, START_UP, "before", 9, "x") == intake and struck(intake, "other", "before", 0, "x") == intake


@pytest.mark.parametrize("run", [Run(seconds=0), Run(seconds=-3), Run(seconds=30_000), Run(seconds=9, login_s=10)])
def test_a_time_that_cannot_be_is_refused(run: Run) -> None:
    with pytest.raises(BadArgument):
        with_run(Intake(), START_UP, "before", run)


@given(st.lists(st.floats(0.1, 20_000, allow_nan=False), min_size=1, max_size=9))
def test_the_median_lies_among_the_runs(times: list[float]) -> None:
    timing = timed(*times).timing(START_UP)
    assert timing is not None and timing.median_s is not None
    assert min(times) <= timing.median_s <= max(times)


def test_what_was_measured_twice_is_compared() -> None:
    intake = with_run(timed(198), START_UP, "after", Run(seconds=36))
    for when, text in (("before", "91"), ("after", "64")):
        intake = with_figure(intake, Figure(code="temperature", text=text, unit="°C", when=when))
    intake = with_figure(intake, Figure(code="memory", text="8"))
    rows = {c.title: (c.before, c.after, c.ratio) for c in compared(intake)}
    assert rows[START_UP] == ("198 s", "36 s (one run, stopwatch)", 5.5)
    assert rows["Temperature under load"] == ("91 °C", "64 °C", None) and "Memory fitted" not in rows
    assert with_figure(intake, Figure(code="memory", text=" ")).figure("memory") is None


# Battery and rates

DESKTOP = """  native-path:          BAT0
  model:                PW-48
  serial:               40882
  energy-full:         31.2 Wh
  energy-full-design:  48 Wh
  charge-cycles:       412
"""
NT = """<html><style>td { width: 48 }</style><td>SYSTEM PRODUCT NAME</td><td>
Petrel 14</td><td>DESIGN CAPACITY</td><td>48,000 mWh</td>
<td>FULL CHARGE CAPACITY</td><td>31,200 mWh</td><td>CYCLE COUNT</td><td>412</td></html>"""
KERNEL = "POWER_SUPPLY_VOLTAGE_MIN_DESIGN=12000000\nPOWER_SUPPLY_CHARGE_FULL_DESIGN=4000000\nPOWER_SUPPLY_CHARGE_FULL=2600000\nPOWER_SUPPLY_CYCLE_COUNT=412\n"


@pytest.mark.parametrize(
    "text", [DESKTOP, NT, KERNEL, DESKTOP.replace("31.2", "31,2"), NT.replace(",", "."), NT.replace(",", " ")]
)
def test_battery_reports_of_three_kinds(text: str) -> None:
    battery = read_battery(text)
    assert (battery.design_wh, battery.full_wh, battery.cycles) == (48, 31.2, 412)
    assert battery.wear_percent == pytest.approx(35)


@pytest.mark.parametrize(
    "text",
    [
        "",
        "nothing of the kind",
        "energy-full-design: 48 kg",
        "design capacity 48,000,000 mWh",
        "energy-full: 99 Wh\nenergy-full-design: 48 Wh",
        "x" * 3_000_000,
    ],
)
def test_what_is_no_battery_report_says_so(text: str) -> None:
    with pytest.raises(BadArgument):
        read_battery(text)


def test_a_new_battery_has_lost_nothing_and_figures_are_checked() -> None:
    assert Battery(design_wh=48, full_wh=50).wear_percent == 0 and Battery(full_wh=3).wear_percent is None
    with pytest.raises(BadArgument):
        checked(Battery(design_wh=-1))


def test_a_report_of_another_machine_is_told() -> None:
    plate = Plate(make="Petrel", model="14")
    assert "Quayside" in of_another_machine(Intake(plate=plate, battery=Battery(machine="Quayside Pocket")))
    assert of_another_machine(Intake(plate=plate, battery=read_battery(NT))) == ""
    assert of_another_machine(Intake(battery=Battery(machine="Quayside Pocket"))) == ""


@pytest.mark.parametrize(
    ("text", "rate"),
    [
        ("109 MB/s", 109e6),
        ("0,98 GB/s", 0.98e9),
        (" Timing buffered disk reads: 330 MB in  3.01 seconds = 109.63 MB/sec", 109.63e6),
        ("1073741824 bytes (1.1 GB, 1.0 GiB) copied, 9.8 s, 109 MB/s", 109e6),
        ("READ: bw=105MiB/s (110MB/s), run=1-1msec", 110e6),
    ],
)
def test_rates_out_of_what_was_pasted(text: str, rate: float) -> None:
    assert read_rate(text) == pytest.approx(rate)


@pytest.mark.parametrize("text", ["", "fast", "109", "0 MB/s", "999999 GB/s"])
def test_no_rate_is_said(text: str) -> None:
    with pytest.raises(BadArgument):
        read_rate(text)


# Triage


def ended(*answers: tuple[str, str], health: Health | None = None) -> str:
    found = course(guide(), [Answer(test=t, answer=a) for t, a in answers], health)
    return found.end.id if found.end else f"? {found.test.id if found.test else ''}"


def test_every_way_through_the_guide_comes_to_an_end() -> None:
    ways = [()]
    ends = set()
    while ways:
        way = ways.pop()
        found = course(guide(), way)
        if found.end is not None:
            ends.add(found.end.id)
            continue
        assert found.test is not None
        ways += [(*way, Answer(test=found.test.id, answer=c.code)) for c in found.test.answers]
    assert ends == {e.id for e in guide().end} - {"failing-drive", "wet", "hurt"}


def test_the_guide_goes_on_from_what_was_found() -> None:
    assert ended() == "? power"
    assert ended(("power", "picture"), ("firmware", "missing"), ("reseat", "missing")) == "survey-dock"
    assert ended(("power", "sideways")) == "? power", "an answer that does not exist answers nothing"
    assert ended(("power", "picture"), health=Health(verdict="copy-now", image_first=True)) == "failing-drive"
    assert course(guide(), [Answer(test="power", answer="picture")]).minutes == 1


@pytest.mark.parametrize(
    ("symptoms", "mechanical", "end"),
    [
        (["wet"], False, "wet"),
        (["no-start", "noise"], None, "hurt"),
        (["dropped"], True, "hurt"),
        (["dropped", "no-start"], False, ""),
    ],
)
def test_nothing_is_switched_on_to_see(symptoms: list[str], mechanical: bool | None, end: str) -> None:
    found = course(guide(), (), None, symptoms, mechanical)
    assert (found.end.id if found.end is not None else "") == end
    assert (found.test is None) == bool(end)


def test_answering_again_takes_back_what_came_after() -> None:
    intake = Intake()
    for test, answer in (("power", "picture"), ("firmware", "missing")):
        intake = with_answer(intake, Answer(test=test, answer=answer))
    assert [a.test for a in with_answer(intake, Answer(test="power", answer="dark")).triage] == ["power"]


GUIDE = """start = "a"
[[test]]
id = "a"
text = "x"
minutes = 1
answers = [{{ code = "y", text = "y", next = "{0}" }}]
[[end]]
id = "failing-drive"
text = "x"
[[end]]
id = "wet"
text = "x"
[[end]]
id = "hurt"
text = "x"
"""


@pytest.mark.parametrize("text", [GUIDE.format("a"), GUIDE.format("b"), GUIDE.format("end:x"), "start = 3", "["])
def test_a_guide_that_leads_nowhere_is_refused(text: str) -> None:
    with pytest.raises(BadRecord):
        read_guide(text)
    assert read_guide(GUIDE.format("end:failing-drive"))


# Machines


def test_plates_find_their_machine_or_say_that_several_fit() -> None:
    one = machine_on_plate("PETREL", " 14 ", MACHINES).machine
    assert one is not None and one.title == "Petrel 14"
    assert machine_on_plate("", "Petrel 14, ticket desk", MACHINES).machine == one
    several = machine_on_plate("Petrel", "", MACHINES)
    assert several.machine is None and len(several.candidates) > 3
    assert machine_on_plate("", "", MACHINES) == NOTHING and not machine_on_plate("Gannet", "9", MACHINES).candidates
    twins = [one, msgspec.structs.replace(one, kind="tower")]
    assert machine_on_plate("Petrel", "14", twins) == Match(None, tuple(twins))


def test_profiles_of_ones_own_come_first_and_damaged_ones_are_told(tmp_path: Path) -> None:
    mine = Machine(schema=Machine.SCHEMA, make="Gannet", model="Ωμέγα 9")
    path = keep_machine(tmp_path, mine)
    with pytest.raises(BadArgument, match="already"):
        keep_machine(tmp_path, mine)
    with pytest.raises(BadArgument):
        keep_machine(tmp_path, Machine(schema=Machine.SCHEMA, make=" ", model="9"))
    path.with_name("odd.machine.json").write_text('{"schema": "neogenesis.machine/1", "make": 3, "extra": 1}')
    found, faults = known_machines(tmp_path)
    assert mine in found and len(faults) == 1 and "odd.machine.json" in faults[0]


def test_every_fault_of_a_profile_is_named() -> None:
    text = {
        "schema": "neogenesis.machine/1",
        "make": 3,
        "bays": [{"name": "x", "kind": "m3", "foo": 1}],
        "bar": 2,
        "steps": [
            {
                "id": "a",
                "do": "pry",
                "what": "clip",
                "with": "pick",
                "for": ["drive"],
                "fasteners": ["s", {"id": "t", "count": 2}],
            }
        ],
    }
    with pytest.raises(BadRecord) as caught:
        read_machine(json.dumps(text).encode())
    said = caught.value.text
    for place in ("“bar”", "make", "“model” is missing", "“bays[1].foo”", "bays[1].kind"):
        assert place in said
    assert said.count(";") == 4 and "steps" not in said
    for bad in (b"{", b"[]", b'{"schema": "other/1"}', b"\xff"):
        with pytest.raises(BadRecord):
            read_machine(bad)


def test_impossible_numbers_of_a_profile_are_named_all_at_once() -> None:
    text = {
        "schema": "neogenesis.machine/1",
        "make": "Petrel",
        "model": "14",
        "bays": [{"name": "slot", "kind": "m2", "clearance_above_mm": -0.5, "lengths_mm": [80, -1]}],
        "memory": {"slots": 10**30, "max_gb": 1e308},
    }
    with pytest.raises(BadRecord) as caught:
        read_machine(json.dumps(text).encode())
    for place in ("bays[0].clearance_above_mm", "bays[0].lengths_mm[1]", "memory.slots", "memory.max_gb"):
        assert f"“{place}” is" in caught.value.text
    assert caught.value.text.count(";") == 3


def test_profiles_that_ship_are_whole() -> None:
    found, faults = known_machines(Path("/nowhere"))
    assert len(found) >= 12 and not faults and all(m.bays for m in found)


# Customers


def test_customers_are_found_again_by_name_number_or_ticket() -> None:
    jobs = [
        Job(ticket="T-1", customer="Gullhaven Pilots' Office", machine="m", contact="01632 960 114"),
        Job(ticket="T-2", customer="gullhaven pilots' office", machine="m"),
        Job(ticket="T-3", customer="Tern Island Ferry Company", machine="m"),
        Job(ticket="T-4", customer=" ", machine="m"),
    ]
    known = customers_of(jobs)
    assert [len(c.jobs) for c in known] == [2, 1] and known[0].contact == "01632 960 114"
    for typed, count in (("pilots gull", 1), ("960114", 1), ("T-3", 1), ("is", 1), ("x", 0), ("i", 0), ("", 0)):
        assert len(found_again(known, typed)) == count, typed


# On record


def test_an_intake_comes_back_as_it_was_and_a_damaged_one_is_kept_aside(tmp_path: Path) -> None:
    intake = with_valuable(timed(198), "charts: in the cloud")
    keep_intake(tmp_path, intake)
    assert load_intake(tmp_path) == intake
    (tmp_path / "intake.json").write_text('{"schema": "neogenesis.intake/1", "valuables": 3}')
    with pytest.raises(BadRecord):
        load_intake(tmp_path)
    aside = set_intake_aside(tmp_path)
    assert aside.exists() and load_intake(tmp_path) == Intake()


def test_belongings_are_ticked_off() -> None:
    intake = with_belongings(Intake(), ["charger", " bag ", "charger", ""])
    assert [b.what for b in intake.came_with] == ["charger", "bag"]
    back = given_back(intake, "bag", True)
    assert [b.back for b in with_belongings(back, ["bag", "card"]).came_with] == [True, False]


def test_photographs_are_kept_as_they_are(tmp_path: Path) -> None:
    source = tmp_path / "plate.JPG"
    source.write_bytes(b"\xff\xd8 not really a picture")
    dossier = tmp_path / "dossier"
    dossier.mkdir()
    kept = keep_photograph(source, dossier)
    assert kept.read_bytes() == source.read_bytes() and keep_photograph(source, dossier) == kept
    assert len(list(kept.parent.iterdir())) == 1
    with pytest.raises(BadArgument):
        keep_photograph(tmp_path, dossier)
    with pytest.raises(BadArgument):
        keep_photograph(tmp_path / "missing.jpg", dossier)


# The slip


def full_intake() -> Intake:
    intake = timed(201, 198, 187)
    for n in range(40):
        intake = with_valuable(intake, f"thing {n} that is dear to them" + (": with a cousin" if n % 3 else ""))
    return replace(
        intake,
        customer="Tern Island Ferry Company",
        contact="01632 960 114",
        plate=Plate(make="Petrel", model="14", serial="PT14-40882"),
        condition=("scratches", "foot-missing"),
        came_with=with_belongings(Intake(), ["charger", "bag"]).came_with,
        symptoms=("slow", "full"),
        told="minutes to sell a ticket",
        must_survive="everything",
        later=Later(consent_to_open="yes", recovery_key="customer", old_parts="kept", kept_weeks=6, budget="200"),
    )


def test_the_slip_says_what_was_agreed() -> None:
    slip = make_slip(Job(ticket="T-7", customer="C", machine="M"), full_intake())
    text = repr(slip)
    for piece in (
        "scratches, foot missing",
        "charger, bag",
        "kept for 6 weeks",
        "thing 0",
        "198 s",
        "PT14-40882",
        "No passwords",
    ):
        assert piece in text
    empty = make_slip(Job(ticket="T-7", customer="C", machine="M"), Intake())
    assert "Not said yet." in repr(empty) and "Agreed" not in [s.heading for s in empty.sections]


def test_the_slip_is_one_page_however_much_is_said(tmp_path: Path, neogenesis) -> None:
    from neogenesis.bench.records.opening import open_records

    store = open_records(tmp_path)
    store.add(Job(ticket="T-7", customer="C", machine="M"))
    keep_intake(store.dossier("T-7"), full_intake())
    store.close()
    neogenesis("slip", "T-7", tmp_path / "slip.pdf", "--bench", tmp_path)
    info = subprocess.run(["pdfinfo", tmp_path / "slip.pdf"], capture_output=True, text=True, check=True).stdout
    words = subprocess.run(["pdftotext", tmp_path / "slip.pdf", "-"], capture_output=True, text=True, check=True).stdout
    assert "Pages:           1" in info
    for piece in ("thing 39", "Date, customer", "PT14-40882"):
        assert piece in words
    found = json.loads(neogenesis("intake", "T-7", "--bench", tmp_path, "--json").stdout)
    assert found["schema"] == "neogenesis.intake/1" and "serial" not in [a["code"] for a in found["still_to_ask"]]
    assert "Still to ask" in neogenesis("intake", "T-7", "--bench", tmp_path).stdout
    neogenesis("slip", "T-9", tmp_path / "slip.pdf", "--bench", tmp_path, status=2)
    neogenesis("slip", "T-7", tmp_path / "no/slip.pdf", "--bench", tmp_path, status=3)


def test_timing_without_runs_says_nothing() -> None:
    assert Timing(name="x").median_s is None and Timing(name="x").spread_s is None
