"""Jobs, the logbook that cannot be changed unnoticed, improvements, and the customer's report."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.bench.records.opening import open_records
from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.job import ROUTE, CopyRecords, Improvement, Job, improvement_of, make_report
from neogenesis.core.job.store import JobStore
from neogenesis.core.plan import Plan
from neogenesis.core.record import load
from neogenesis.core.transfer import load_manifest
from tests.drives import blank

PLANES = "aé鷗 \U0001f6a2 \U0001d11e \U000e0041 \U000f0000 \U00100000 ‮x \n\t"


@pytest.fixture
def store(tmp_path: Path) -> JobStore:
    made = open_records(tmp_path / "bench")
    made.add(Job(ticket="T-1", customer=PLANES, machine="Quayside Kiosk", promise="2026-12-01"))
    return made


def test_jobs_survive_and_keep_every_plane(store: JobStore, tmp_path: Path) -> None:
    store.append("T-1", "2026-11-24T09:00:00+00:00", "anna", "note", PLANES, figure=1.5, list=[1, "ü"])
    store.update("T-1", stop="plan")
    store.close()
    again = open_records(tmp_path / "bench")
    assert again.job("T-1").customer == PLANES and again.job("T-1").stop == "plan"
    entry = again.log("T-1")[0]
    assert entry.text == PLANES and entry.figures == {"figure": 1.5, "list": [1, "ü"]}
    with pytest.raises(BadArgument, match="already"):
        again.add(Job(ticket="T-1", customer="", machine=""))
    for ticket in ("", "  "):
        with pytest.raises(BadArgument, match="ticket"):
            again.add(Job(ticket=ticket, customer="", machine=""))
    with pytest.raises(BadArgument, match="no job"):
        again.job("T-2")
    again.close()


@pytest.mark.parametrize("ticket", ["../../etc", "/", "..", "a/b", "x" * 39, "鷗", "CON."])
def test_dossiers_stay_inside_their_folder(ticket: str, store: JobStore, tmp_path: Path) -> None:
    folder = store.dossier(ticket)
    assert folder.parent == tmp_path / "bench/jobs" and folder.is_dir()


def test_time_going_backwards_does_not_disturb_the_order(store: JobStore) -> None:
    for at in ("2026-11-24T10:00:00+00:00", "2026-11-24T09:00:00+00:00", "1970-01-01T00:00:00+00:00"):
        store.append("T-1", at, "anna", "note", at)
    assert [e.number for e in store.log("T-1")] == [1, 2, 3] and store.broken_entry("T-1") is None


@pytest.mark.parametrize(
    "change",
    [
        "set text = 'x'",
        "set at = 'x'",
        "set who = 'x'",
        "set figures = '{\"a\": 2}'",
        "set previous = 'x'",
        "set hash = 'x'",
        "set number = 9",
    ],
)
def test_every_change_to_an_entry_breaks_the_chain(change: str, store: JobStore, tmp_path: Path) -> None:
    for n in range(4):
        store.append("T-1", "2026-11-24T10:00:00+00:00", "anna", "note", f"entry {n}", a=1)
    assert store.broken_entry("T-1") is None
    store.close()
    with sqlite3.connect(tmp_path / "bench/jobs.db") as database:
        database.execute(f"update log {change} where number = 2")
    database.close()
    again = open_records(tmp_path / "bench")
    assert again.broken_entry("T-1") in (2, 3, 9)
    lines = (tmp_path / "bench/jobs/T-1/logbook.jsonl").read_text().splitlines()
    assert len(lines) == 4 and "entry 1" in lines[1], "the dossier holds a second copy"
    again.close()


@pytest.mark.parametrize("damage", [b"", b"\0" * 4096, b"SQLite format 3\0" + b"\xff" * 5000])
def test_unreadable_databases_are_kept_aside(damage: bytes, store: JobStore, tmp_path: Path) -> None:
    store.close()
    file = tmp_path / "bench/jobs.db"
    file.write_bytes(damage)
    again = open_records(tmp_path / "bench")
    assert again.jobs() == []
    if damage:
        assert "kept" in again.trouble and (tmp_path / "bench/jobs.db.unreadable-1").read_bytes() == damage
    again.close()


def test_a_database_that_another_program_holds_is_left_alone(store: JobStore, tmp_path: Path) -> None:
    store.append("T-1", "t", "anna", "note", "kept")
    store.close()
    holder = sqlite3.connect(tmp_path / "bench/jobs.db", isolation_level=None)
    holder.execute("BEGIN EXCLUSIVE")
    with pytest.raises(BadRecord, match="locked"):
        open_records(tmp_path / "bench")
    holder.execute("ROLLBACK")
    holder.close()
    assert not list((tmp_path / "bench").glob("*.unreadable*"))
    again = open_records(tmp_path / "bench")
    assert again.trouble == "" and again.log("T-1")[0].text == "kept"
    again.close()


def test_older_benches_are_brought_up_to_date_and_newer_ones_are_left_alone(tmp_path: Path) -> None:
    (tmp_path / "bench").mkdir()
    with sqlite3.connect(tmp_path / "bench/jobs.db") as database:
        database.execute(
            "CREATE TABLE job (ticket VARCHAR(40) PRIMARY KEY, customer TEXT NOT NULL, machine TEXT NOT NULL)"
        )
        database.execute("INSERT INTO job VALUES ('T-9', 'Tern Island Ferry Company', 'Petrel 14')")
    database.close()
    opened = open_records(tmp_path / "bench")
    assert opened.trouble == "" and opened.job("T-9").customer == "Tern Island Ferry Company"
    assert opened.job("T-9").stop == "survey" and not opened.job("T-9").closed
    opened.append("T-9", "t", "anna", "note", "still here")
    opened.close()
    with sqlite3.connect(tmp_path / "bench/jobs.db") as database:
        database.execute("UPDATE alembic_version SET version_num = '9999'")
    database.close()
    with pytest.raises(BadRecord, match="newer version"):
        open_records(tmp_path / "bench")
    assert not list((tmp_path / "bench").glob("*.unreadable*"))


@pytest.mark.parametrize(
    "dump", sorted((Path(__file__).parent / "data").glob("bench-*.sql")), ids=lambda dump: dump.stem
)
def test_a_bench_of_each_earlier_version_opens_with_everything_in_it(dump: Path, tmp_path: Path) -> None:
    (tmp_path / "bench").mkdir()
    with sqlite3.connect(tmp_path / "bench/jobs.db") as database:
        database.executescript(dump.read_text("utf-8"))
    database.close()
    opened = open_records(tmp_path / "bench")
    ferry, kiosk = opened.job("T-1042"), opened.job("T-1041")
    assert (ferry.stop, ferry.contact, ferry.promise, ferry.old_drive) == (
        "transfer",
        "harbour 12",
        "2026-11-29 16:00",
        "/dev/sdb",
    )
    assert kiosk.closed and kiosk.shelf == "archived" and kiosk.promise == "Saturday"
    assert [entry.who for entry in opened.log("T-1042")] == ["Ada", "Ada", "Ben"]
    assert opened.log("T-1042")[0].figures["before_s"] == 198 and opened.unfinished() == ["T-1042"]
    assert opened.broken_entry("T-1042") is None and opened.broken_entry("T-1041") is None
    opened.append("T-1041", "2026-11-26T18:00:00+01:00", "Ben", "note", "called")
    assert opened.broken_entry("T-1041") is None
    opened.close()


def test_two_windows_write_into_one_logbook_at_once(store: JobStore, tmp_path: Path) -> None:
    code = (
        "import sys; from pathlib import Path; from neogenesis.bench.records.opening import open_records\n"
        "s = open_records(Path(sys.argv[1]))\n"
        "for n in range(25): s.append('T-1', 't', sys.argv[2], 'note', str(n))\ns.close()"
    )
    command = [sys.executable, "-c", code, str(tmp_path / "bench")]
    both = [subprocess.Popen([*command, who]) for who in ("anna", "ben")]
    assert [process.wait() for process in both] == [0, 0]
    entries = store.log("T-1")
    assert [e.number for e in entries] == list(range(1, 51)) and store.broken_entry("T-1") is None
    assert {(e.who, e.text) for e in entries} == {(who, str(n)) for who in ("anna", "ben") for n in range(25)}
    store.close()


def test_a_place_that_cannot_be_made_is_said(tmp_path: Path) -> None:
    (tmp_path / "file").touch()
    with pytest.raises(BadRecord, match="cannot be made"):
        open_records(tmp_path / "file/bench")


def test_improvement_in_words() -> None:
    found = Improvement(198, 36, 3)
    assert f"{found.ratio:.1f}" == "5.5" and round(found.saved_percent) == 82
    assert "5.5 times as fast, 82 % less waiting" in found.sentence() and "median of 3 runs" in found.sentence()
    assert "not faster" in Improvement(30, 31).sentence()


@given(st.floats(0.1, 1e5), st.floats(0.1, 1e5))
def test_improvement_figures_agree_with_one_another(before: float, after: float) -> None:
    found = Improvement(before, after)
    assert found.saved_percent == pytest.approx(100 * (1 - 1 / found.ratio), abs=1e-6, rel=1e-6)


def test_latest_measurements_count(store: JobStore) -> None:
    assert improvement_of(store.log("T-1")) is None
    for figures in (
        {"before_s": 198, "runs": 3},
        {"after_s": 50, "runs": 1},
        {"after_s": 36, "runs": 3},
        {"after_s": "x"},
        {"after_s": -1},
    ):
        store.append("T-1", "t", "anna", "measure", "", **figures)
    found = improvement_of(store.log("T-1"))
    assert found is not None and (found.before_s, found.after_s, found.runs) == (198, 36, 3)


@pytest.mark.parametrize(
    ("verify", "words"), [("full", "Everything that was written was read back"), ("none", "not read back")]
)
def test_report_says_only_what_the_records_say(
    verify: str, words: str, standard: Path, tmp_path: Path, store: JobStore, neogenesis
) -> None:
    new, path = blank(tmp_path / "new.img", 900), tmp_path / "p.json"
    neogenesis("plan", standard, new, "--leave", "5", "-o", path)
    neogenesis("transfer", path, "--confirm", "new", "--verify", verify)
    copy = CopyRecords(load(path, Plan, "plan"), load_manifest(tmp_path / "p.manifest.json"), "ab" * 32)
    report = make_report(store.job("T-1"), copy, [])
    text = "\n".join(s for section in report.sections for s in section.sentences)
    assert words in text and "papers" in text and "could be read" in text
    assert PLANES in report.title and ("ab" * 32) in [v for s in report.sections for _, v in s.rows]


def test_the_route_has_nine_stops_in_order() -> None:
    assert [s.title for s in ROUTE] == [
        "Intake",
        "Survey",
        "Decide",
        "Fit",
        "Plan",
        "Transfer",
        "Swap",
        "First boot",
        "Handover",
    ]
    assert all(s.what.endswith(".") for s in ROUTE)
