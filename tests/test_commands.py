"""The commands about a bench's records, and what all commands have in common: progress, log, configuration, help."""

from __future__ import annotations

import json
import os
import pty
import subprocess
import sys
import zipfile
from pathlib import Path

import click
import pytest

from neogenesis.bench.records.opening import open_records
from neogenesis.bench.simulated.demo import demo_folder
from neogenesis.cli.main import app
from neogenesis.cli.terminal import progress_text
from neogenesis.core.work import Event
from tests.drives import MIB, NT_DATA, Part, blank, make_drive, run


@pytest.fixture
def demo(demo_original: Path, tmp_path: Path) -> Path:
    run("cp", "-r", "--sparse=always", demo_original, tmp_path / "demo")
    return tmp_path / "demo"


def test_jobs_and_logbooks_of_a_bench(demo: Path, neogenesis) -> None:
    found = json.loads(neogenesis("jobs", "--bench", demo, "--json").stdout)
    assert found["schema"] == "neogenesis.jobs/1" and len(found["jobs"]) == 13
    assert set(found["jobs"][0]) == {"ticket", "customer", "machine", "promise", "stop", "closed"}
    assert [job["ticket"] for job in found["jobs"] if job["closed"]] == ["T-1041"]
    assert "Gullhaven Pilots' Office" in neogenesis("jobs", "--bench", demo / "bench").stdout
    url = f"sqlite:///{demo / 'bench/jobs.db'}"
    log = json.loads(neogenesis("log", "T-1041", "--bench", url, "--json").stdout)
    assert log["broken_entry"] is None and [e["number"] for e in log["entries"]] == list(
        range(1, len(log["entries"]) + 1)
    )
    assert "Survey finished" in neogenesis("log", "T-1041", "--bench", demo).stdout
    neogenesis("log", "T-9999", "--bench", demo, status=2)
    neogenesis("jobs", "--bench", demo / "nowhere", status=2)
    assert not (demo / "nowhere").exists()


def test_the_report_is_printed_without_a_screen(demo: Path, tmp_path: Path, neogenesis) -> None:
    out = tmp_path / "report.pdf"
    neogenesis("report", "T-1041", out, "--bench", demo)
    text = run("pdftotext", "-layout", out, "-")
    for words in ("Lantern Rock Lighthouse Museum", "What was done", "What you should still do", "BLAKE3"):
        assert words in text
    neogenesis("report", "T-1042", out, "--bench", demo, status=2)
    neogenesis("report", "T-1041", tmp_path / "no/where.pdf", "--bench", demo, status=3)


def test_a_logbook_that_was_changed_is_said(demo: Path, neogenesis) -> None:
    store = open_records(demo / "bench")
    with store._engine.begin() as connection:
        connection.exec_driver_sql("UPDATE log SET text = 'nothing happened' WHERE ticket = 'T-1041' AND number = 2")
    store.close()
    assert "Entry 2 was changed" in neogenesis("log", "T-1041", "--bench", demo).stdout


def test_a_bug_report_holds_nothing_of_the_customer(demo: Path, tmp_path: Path, neogenesis, monkeypatch) -> None:
    state = tmp_path / "state/neogenesis"
    state.mkdir(parents=True)
    (state / "neogenesis.log").write_text("ValueError: a made-up fault")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    out = tmp_path / "fault.zip"
    neogenesis("bug-report", "T-1041", "-o", out, "--bench", demo)
    with zipfile.ZipFile(out) as archive:
        texts = {name: archive.read(name).decode() for name in archive.namelist()}
    assert set(texts) == {"versions.json", "job.json", "logs/neogenesis.log"}
    assert "a made-up fault" in texts["logs/neogenesis.log"] and '"PyQt6"' in texts["versions.json"]
    assert json.loads(texts["job.json"])["log"][1]["kind"]
    for private in ("Lantern", "Museum", "Quayside", "HD5", "lamp room"):
        assert private not in "".join(texts.values()), private
    neogenesis("bug-report", "-o", tmp_path / "no/where.zip", status=3)


def on_a_terminal(*arguments: object) -> tuple[int, str]:
    """Run the program with its standard error on a pseudo-terminal; returns its status and what stood there."""
    ours, theirs = pty.openpty()
    process = subprocess.Popen(
        [sys.executable, "-m", "neogenesis", *map(str, arguments)], stderr=theirs, stdout=subprocess.DEVNULL
    )
    os.close(theirs)
    said = b""
    while True:
        try:
            piece = os.read(ours, 4096)
        except OSError:  # the other side was closed
            break
        if not piece:
            break
        said += piece
    os.close(ours)
    return process.wait(), said.decode("utf-8", "replace")


def test_progress_stands_on_a_terminal_and_never_in_a_pipe(tmp_path: Path, neogenesis) -> None:
    old = make_drive(tmp_path / "old.img", 64, [Part(40, NT_DATA, "ntfs", "DATA", {"a.bin": os.urandom(4 * MIB)})])
    plan = tmp_path / "p.json"
    neogenesis("plan", old, blank(tmp_path / "new.img", 80), "-o", plan)
    status, said = on_a_terminal("transfer", plan, "--confirm", "new")
    assert status == 0 and "%" in said and said.endswith("\r\x1b[2K")
    neogenesis("verify", plan, tmp_path / "new.img")  # in a pipe, where not a word may stand
    status, said = on_a_terminal("verify", plan, tmp_path / "new.img")
    assert status == 0 and said.endswith("\r\x1b[2K")
    event = Event(event="progress", phase="copy", copied_bytes=10**9, total_bytes=4 * 10**9, rate_bytes_per_s=1e8)
    assert progress_text(event) == "copying 1 GB of 4 GB, 25 %, 100 MB/s"


def test_log_file_debug_and_configuration(tmp_path: Path, neogenesis, monkeypatch: pytest.MonkeyPatch) -> None:
    log, config = tmp_path / "run.log", tmp_path / "config.toml"
    neogenesis("survey", tmp_path / "none.img", "--log-file", log, status=2)
    assert "There is no drive" in log.read_text() and "ended with 2" in log.read_text()
    done = subprocess.run(
        [sys.executable, "-m", "neogenesis", "survey", str(tmp_path / "none.img"), "--debug"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 2 and "Traceback" in done.stderr
    neogenesis("survey", "x", "--log-file", status=2)
    neogenesis("survey", "x", "--log-file", tmp_path / "no/where.log", status=2)
    monkeypatch.setenv("NEOGENESIS_CONFIG", str(config))
    old = make_drive(tmp_path / "old.img", 64, [Part(40, NT_DATA, "ntfs", "DATA")])
    config.write_text('[plan]\ntarget-size = "200000000"\nspare = 10\n')
    assert json.loads(neogenesis("plan", old, "--json").stdout)["policy"]["spare_percent"] == 10
    assert json.loads(neogenesis("plan", old, "--spare", "3", "--json").stdout)["policy"]["spare_percent"] == 3
    config.write_text("[plan\n")
    neogenesis("plan", old, "--json", status=2)


def test_every_command_shows_an_example_and_its_statuses() -> None:
    for name, command in app.every().items():
        text = " ".join(command.get_help(click.Context(command, info_name=name)).split())
        assert f"neogenesis {name}" in text.partition("Example:")[2], name
        assert "Exit status: 0 done" in text, name
    assert demo_folder().is_absolute()
