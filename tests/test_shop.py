"""The counter from a shell: a job taken in, a word in its logbook, and what the window's guides say."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from neogenesis.core.decide.triage import Triage
from neogenesis.core.job.guides import PARTS
from tests.drives import LINUX, Part, blank, make_drive
from tests.test_decide import case_file

TAKE = ("take-in", "T-9", "--customer", "Gullhaven Pilots' Office", "--machine", "Petrel 14")


def test_a_job_is_taken_in_and_written_about(own_bench: Path, neogenesis: Any) -> None:
    neogenesis(*TAKE, "--wants", "faster", "--by", "2026-12-03 16:00")
    jobs = json.loads(neogenesis("jobs", "--json").stdout)["jobs"]
    assert [(j["ticket"], j["customer"], j["promise"], j["stop"]) for j in jobs] == [
        ("T-9", "Gullhaven Pilots' Office", "2026-12-03 16:00", "intake")
    ]
    neogenesis("note", "T-9", "The photographs matter most")
    neogenesis("note", "T-9", "--mistake", "A clip broke")
    entries = json.loads(neogenesis("log", "T-9", "--json").stdout)["entries"]
    assert [e["kind"] for e in entries] == ["intake", "note", "mistake"]
    assert entries[0]["text"] == "Job taken in: faster" and entries[2]["text"] == "Went wrong: A clip broke"


@pytest.mark.parametrize(
    ("arguments", "status"),
    [
        (TAKE[:-2], 2),
        ((*TAKE, "--by", "soon"), 2),
        (("take-in", "T-9", "--customer", " ", "--machine", "Petrel 14"), 2),
        (("take-in", "", *TAKE[2:]), 2),
        (("take-in", "T" * 300, *TAKE[2:]), 2),
        (("note", "T-77", "words"), 2),
        (("note", "T-77", " "), 2),
        (("guide", "T-77", "--part", "handover"), 2),
        (("guide", "nothing.json", "--part", "handover"), 2),
        (("guide", "T-77"), 2),
    ],
)
def test_what_makes_no_sense_writes_nothing(arguments: tuple[str, ...], status: int, neogenesis: Any) -> None:
    neogenesis(*arguments, status=status)
    assert json.loads(neogenesis("jobs", "--json").stdout)["jobs"] == []


def test_a_ticket_is_given_once(neogenesis: Any) -> None:
    neogenesis(*TAKE)
    assert "already" in neogenesis(*TAKE, status=2).stderr


@pytest.mark.parametrize("part", PARTS)
def test_guides_of_a_machine(part: str, tmp_path: Path, neogenesis: Any) -> None:
    machine = {"schema": "neogenesis.machine/1", "make": "Petrel", "model": "14", "kind": "laptop"}
    machine["openings"] = {"first_start_needs_mains": True}  # type: ignore[assignment]
    (tmp_path / "m.json").write_text(json.dumps(machine))
    found = json.loads(neogenesis("guide", tmp_path / "m.json", "--part", part, "--json").stdout)
    assert found["schema"] == "neogenesis.guide/1" and found["items"]
    codes = [item["code"] for item in found["items"]]
    assert len(codes) == len(set(codes))
    for item in found["items"]:
        assert item["text"] and item["seconds_p10"] <= item["seconds_p90"] and item["settled_by"] is None
    wanted = {
        "waiting": "mains",
        "first-start": "first_start_needs_mains",
        "afterwards": "updates-1",
        "handover": "cold",
    }
    assert wanted[part] in codes
    assert neogenesis("guide", tmp_path / "m.json", "--part", part).stdout.count("\n") == len(codes)


def test_what_was_seen_settles_a_handover(own_bench: Path, neogenesis: Any) -> None:
    from neogenesis.bench.records.opening import open_records

    neogenesis(*TAKE)
    store = open_records(own_bench)
    store.append("T-9", "2026-12-03T15:00:00+00:00", "Isla", "after-check", "Seen: it", code="cold")
    store.append("T-9", "2026-12-03T15:00:00+00:00", "Isla", "after-check", "Seen: it", code="updates")
    store.append("T-9", "2026-12-03T15:01:00+00:00", "Isla", "after-check", "Not seen any more: it", code="updates")
    store.close()
    found = json.loads(neogenesis("guide", "T-9", "--part", "handover", "--json").stdout)["items"]
    settled = {item["code"]: item["settled_by"] for item in found}
    assert settled["cold"] and "Isla" in settled["cold"] and settled["updates"] is None
    assert "encryption" not in settled, "nothing of it is encrypted"


def test_triage_on_the_command_line(tmp_path: Path, neogenesis: Any) -> None:
    found = json.loads(neogenesis("triage", case_file(tmp_path, symptoms=["wet"]), "--json").stdout)
    assert found["schema"] == Triage.SCHEMA and found["next"] is None and found["refer"]
    assert any("switch it on" in text for text in found["do_not"])
    assert "laboratory" in neogenesis("triage", case_file(tmp_path, symptoms=["noise"])).stdout
    start = json.loads(neogenesis("triage", case_file(tmp_path, symptoms=["no-start"]), "--json").stdout)
    assert start["next"]["code"] == "power" and not start["refer"]


def test_a_case_says_key_and_backup(tmp_path: Path, neogenesis: Any) -> None:
    clicks = case_file(tmp_path, symptoms=["noise"], backup="checked")
    assert json.loads(neogenesis("decide", clicks, "--json").stdout)["recommended"] == "replace"
    clicks = case_file(tmp_path, symptoms=["noise"], backup="none")
    assert json.loads(neogenesis("decide", clicks, "--json").stdout)["recommended"] == "refer"
    neogenesis("decide", case_file(tmp_path, key="lost"), status=3)
    neogenesis("decide", case_file(tmp_path, backup="perhaps"), status=3)


def test_a_work_from_a_shell_stands_in_its_jobs_logbook_and_dossier(
    own_bench: Path, tmp_path: Path, neogenesis: Any
) -> None:
    old = make_drive(tmp_path / "old.img", 48, [Part(40, LINUX, "ext4", "home", {"a.txt": b"words"})])
    new, plan = blank(tmp_path / "new.img", 64), tmp_path / "p.json"
    neogenesis("plan", old, new, "--grow", "none", "-o", plan)
    neogenesis("transfer", plan, "--confirm", "new", "--job", "T-9", status=2)
    assert not (tmp_path / "p.journal").exists(), "there is no such job, so nothing begins"
    neogenesis(*TAKE)
    neogenesis("survey", old, "--job", "T-9", status=2)
    neogenesis("transfer", plan, "--confirm", "old", "--job=T-9", status=3)
    neogenesis("--job", "T-9", "transfer", plan, "--confirm", "new")
    neogenesis("image", old, tmp_path / "o.qcow2", "--job", "T-9")
    entries = json.loads(neogenesis("log", "T-9", "--json").stdout)["entries"]
    kinds = ["intake", "shell", "shell", "shell", "transfer-done", "shell", "image-done"]
    assert [e["kind"] for e in entries] == kinds and "Refused" in entries[2]["text"]
    done = entries[4]["figures"]
    assert done["copied_bytes"] > 0 and done["records"]
    dossier = next((own_bench / "jobs").glob("T-9*"), None) or next(own_bench.rglob("shell")).parent
    for name in (*done["records"], *entries[6]["figures"]["records"]):
        assert (dossier / name).stat().st_size > 0
