"""However a work is ended from outside, it ends at a safe point, with its status and a whole journal."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from neogenesis.bench.processes.utilities import ended_by, run_tool
from neogenesis.core.errors import Stopped
from tests.drives import LINUX, MIB, Part, blank, data_hash, linux_files, make_drive, simulated

NEO = f"{sys.executable} -m neogenesis"


def shell(line: str, folder: Path) -> tuple[list[int], str]:
    """The statuses of all parts of a pipe, and what stood on standard error."""
    order = f'{line.replace("NEO", NEO)}; echo "${{PIPESTATUS[*]}}" >codes'
    done = subprocess.run(["bash", "-c", order], cwd=folder, capture_output=True, text=True, timeout=120, check=False)
    return [int(code) for code in (folder / "codes").read_text().split()], done.stderr


@pytest.fixture
def planned(tmp_path: Path, neogenesis: Any) -> Path:
    """A plan between a drive that takes its time and a new one."""
    (tmp_path / "old.img").write_bytes(os.urandom(16 * MIB))
    read = {"bytes_per_s": 4e6}
    old = simulated(tmp_path / "old.drive.json", "old.img", serial="HD5-00000OLD", read=read, clock="real")
    neogenesis("plan", old, blank(tmp_path / "new.img", 16), "--intent", "exact", "-o", tmp_path / "p.json")
    return tmp_path


def started(folder: Path, *more: str, **how: Any) -> subprocess.Popen[str]:
    """A transfer that has some of it on record."""
    order = [sys.executable, "-m", "neogenesis", "transfer", "p.json", "--confirm", "new", *more]
    process = subprocess.Popen(order, cwd=folder, text=True, stderr=subprocess.PIPE, **how)
    until = time.monotonic() + 60
    while not ((folder / "p.journal").exists() and b'"chunk"' in (folder / "p.journal").read_bytes()):
        assert process.poll() is None and time.monotonic() < until
        time.sleep(0.02)
    return process


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP, signal.SIGINT])
def test_a_signal_stops_at_a_safe_point(number: signal.Signals, planned: Path, neogenesis: Any) -> None:
    process = started(planned)
    process.send_signal(number)
    began = time.monotonic()
    _, said = process.communicate(timeout=30)
    assert process.returncode == 6 and time.monotonic() - began < 10 and "Stopped safely" in said
    last = json.loads((planned / "p.events.jsonl").read_text().splitlines()[-1])
    assert (last["event"], last["outcome"]) == ("outcome", "stopped")
    assert b'["time",' in (planned / "p.journal").read_bytes().splitlines()[-1]


def test_a_reader_who_goes_away_stops_the_work(planned: Path) -> None:
    process = started(planned, "--events", "-", stdout=subprocess.PIPE)
    assert process.stdout is not None and process.stderr is not None
    process.stdout.close()
    assert process.wait(30) == 6 and "whoever read its events has gone" in process.stderr.read()
    process.stderr.close()


def test_what_is_done_is_done_whoever_reads(planned: Path, neogenesis: Any) -> None:
    (planned / "q.json").write_bytes((planned / "p.json").read_bytes())
    assert shell("NEO transfer p.json --confirm new | true", planned)[0] == [0, 0]
    assert (planned / "new.img").read_bytes() == (planned / "old.img").read_bytes()
    for line in ("NEO transfer p.json --confirm new --resume >&-", "NEO verify p.json new.img >/dev/full"):
        assert shell(line, planned) == ([0], "")
    before = data_hash(planned / "new.img")
    assert shell("NEO transfer p.json --confirm new --resume <&- >&- 2>&-", planned)[0] == [0]
    assert data_hash(planned / "new.img") == before


def test_closed_and_full_outputs_of_a_question(planned: Path) -> None:
    assert shell("NEO survey old.img --json | head -c 10", planned) == ([0, 0], "")
    assert shell("NEO survey old.img >&-", planned) == ([0], "")
    codes, said = shell("NEO survey old.img >/dev/full", planned)
    assert codes == [1] and said.count("\n") == 1 and "No space left" in said
    codes, said = shell("NEO survey nothing.img >&-", planned)
    assert codes == [2] and said.count("\n") == 1
    codes, said = shell("NEO survey old.img --log-file /dev/full", planned)
    assert codes in ([0], [2], [3]) and "Traceback" not in said


def test_a_full_log_is_cut_short_without_a_word(planned: Path) -> None:
    folder = planned / "full"
    folder.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=4k", "none", str(folder)], check=True)
    try:
        codes, said = shell(f"NEO survey old.img --log-file {folder}/log", planned)
        assert codes == [0] and said == ""
        (folder / "log").unlink()
        (folder / "filler").write_bytes(b"x" * 4096)
        codes, said = shell(f"NEO survey old.img --log-file {folder}/log", planned)
        assert codes == [0] and "Traceback" not in said
    finally:
        subprocess.run(["umount", str(folder)], check=True)


def test_a_question_that_is_stopped_says_so(tmp_path: Path) -> None:
    make_drive(tmp_path / "v.img", 40, [Part(30, LINUX, "ext4", "root", linux_files())])
    simulated(tmp_path / "old.drive.json", "v.img", read={"bytes_per_s": 2e4}, clock="real")
    for number in (signal.SIGTERM, signal.SIGHUP, signal.SIGINT):
        order = [sys.executable, "-m", "neogenesis", "survey", str(tmp_path / "old.drive.json")]
        heard = lambda: [signal.signal(n, signal.SIG_DFL) for n in (signal.SIGHUP, signal.SIGINT)]  # noqa: E731
        process = subprocess.Popen(order, stderr=subprocess.PIPE, text=True, preexec_fn=heard)
        time.sleep(3)
        process.send_signal(number)
        _, said = process.communicate(timeout=20)
        assert (process.returncode, said.count("\n")) == (6, 1) and "Stopped" in said


def test_a_stop_is_heard_while_a_utility_runs(tmp_path: Path) -> None:
    began = time.monotonic()

    def check() -> None:
        if time.monotonic() - began > 0.3:
            raise Stopped("Stopped.", "Go on.")

    (tmp_path / "sleep").symlink_to("/bin/sleep")
    with ended_by(check), pytest.raises(Stopped):
        run_tool(["sleep", "60"], "Waiting")
    assert time.monotonic() - began < 10
