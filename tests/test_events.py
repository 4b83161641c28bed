"""What long work tells while it goes on: exactly one outcome, figures that add up, names of what was lost."""

from __future__ import annotations

import json
import os
import threading
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.bench.processes.telling import EventsTo, Teller
from neogenesis.bench.processes.work import Running, run_work
from neogenesis.bench.processes.worker import running_worker, steer
from neogenesis.bench.works.names import named
from neogenesis.bench.works.rescuing import Outline, RescueNews
from neogenesis.core.errors import BadArgument, Refused, Stopped
from neogenesis.core.rescue import RescueMap
from neogenesis.core.system import Touched
from neogenesis.core.work import Event
from tests.drives import MIB, blank, run, simulated, spans


def told(path: Path) -> list[dict[str, Any]]:
    events = [json.loads(line) for line in path.read_text().splitlines()]
    assert all(e["schema"] == "neogenesis.events/1" and e["wall"] for e in events)
    assert sum(e["event"] == "outcome" for e in events) == 1 and events[-1]["event"] == "outcome"
    return events


class Still:
    """A clock that is moved by hand."""

    pace = 1.0

    def __init__(self) -> None:
        self.at = 0.0

    def now(self) -> float:
        return self.at

    def wall(self) -> str:
        return "2026-05-17T09:00:00+00:00"


@given(st.lists(st.tuples(st.floats(0, 2), st.integers(1, 1000)), min_size=1, max_size=60))
def test_progress_is_told_seldom_and_never_less_than_the_end(steps: list[tuple[float, int]]) -> None:
    clock, lines = Still(), list[bytes]()
    teller = Teller([lines.append], clock)
    total, done = sum(size for _, size in steps), 0
    for seconds, size in steps:
        clock.at += seconds
        done += size
        teller.progress("image", done, total)
    events = [json.loads(line) for line in lines]
    assert events[-1]["copied_bytes"] == total and len(events) <= len(steps)
    times = [e.get("time_s", 0.0) for e in events[:-1]]
    assert all(later - earlier >= 0.2 - 1e-3 for earlier, later in pairwise(times))
    rates = [e.get("rate_bytes_per_s", 0.0) for e in events]
    assert all(rate >= 0 for rate in rates)


def test_a_full_disk_does_not_stop_the_work() -> None:
    def full(data: bytes) -> None:
        raise OSError(28, "No space left on device")

    Teller([full], Still()).tell(Event(event="start"))


def test_work_says_how_it_ended_whatever_happened(tmp_path: Path) -> None:
    def refuse(running: Running) -> None:
        raise Refused("mounted", "It is mounted.", "Unmount it.")

    def fail(running: Running) -> None:
        raise ZeroDivisionError

    run_work("image", lambda running: running.teller.progress("image", 1, 1), events=[EventsTo(str(tmp_path / "good"))])
    assert told(tmp_path / "good")[-1]["outcome"] == "done"
    with pytest.raises(Refused):
        run_work("image", refuse, events=[EventsTo(str(tmp_path / "bad"))])
    last = told(tmp_path / "bad")[-1]
    assert (last["outcome"], last["code"], last["remedy"]) == ("refused", "mounted", "Unmount it.")
    with pytest.raises(ZeroDivisionError):
        run_work("image", fail, events=[EventsTo(str(tmp_path / "worse"))])
    assert [e["outcome"] for e in told(tmp_path / "worse") if e["event"] == "outcome"] == ["failed"]
    with pytest.raises(BadArgument):
        run_work("image", refuse, events=[EventsTo(str(tmp_path))])


def test_work_on_a_record_is_alone_and_can_be_found_before_it_can_be_steered(tmp_path: Path) -> None:
    """The process id stands in the lock only when signals are already understood."""
    record = tmp_path / "r.json"

    def body(running: Running) -> None:
        assert running_worker(record) == os.getpid()
        with pytest.raises(Refused, match="under way"):
            run_work("image", lambda inner: None, record)
        assert steer(record, "stop")
        with pytest.raises(Stopped):
            running.frame.control.checkpoint()

    run_work("image", body, record)
    assert running_worker(record) is None and not steer(record, "stop")


def test_lost_files_are_told_worst_first_and_bounded() -> None:
    touched = [Touched(3, f"a/{n}.jpg", 10_000, n) for n in range(1, 400)] + [Touched(4, "od\udcffd", 5, 5)]
    event = named(touched)
    rows = event.figures["files"]
    assert event.figures["count"] == 400 and len(rows) == 100
    assert rows[0] == (3, "a/399.jpg", 399, 10_000)
    assert json.dumps(rows).encode()  # a name that is no proper text can still be told
    assert named([Touched(4, "od\udcffd", 5, 5)]).figures["files"][0][1] == "od?d"


def test_a_transfer_names_the_files_that_lost_something(standard: Path, tmp_path: Path, neogenesis) -> None:
    start, _ = spans(standard)[4]
    bad = [[start + at, start + at + 4096] for at in range(60 * MIB, 62 * MIB, 64 * 1024)]
    found = run("debugfs", "-R", "stat /scans/10.pdf", cut(standard, 4, tmp_path / "papers"))
    block = int(found.split("EXTENTS:")[1].split(":")[1].split("-")[0].split(",")[0])
    size = int(found.split("Size:")[1].split()[0])
    bad.append([start + block * 1024, start + block * 1024 + 512])
    old = simulated(tmp_path / "old.drive.json", standard.name, serial="HD5-1", read={"unreadable": bad})
    new, plan = blank(tmp_path / "new.img", 700), tmp_path / "p.json"
    neogenesis("plan", old, new, "--grow", "none", "-o", plan)
    neogenesis("transfer", plan, "--confirm", "new", status=4)
    events = told(tmp_path / "p.events.jsonl")
    note = next(e for e in events if e.get("code") == "files-touched")
    assert [5, "scans/10.pdf", 512, size] in note["figures"]["files"]
    rows = (tmp_path / "p.files.csv").read_text().splitlines()
    assert rows[0] == "partition,path,size_bytes,lost_bytes" and f"5,scans/10.pdf,{size},512" in rows
    warm = [e["figures"] for e in events if e["event"] == "progress"]
    assert all("old_celsius" in w for w in warm)


def cut(image: Path, index: int, out: Path) -> Path:
    start, size = spans(image)[index]
    run("dd", f"if={image}", f"of={out}", f"skip={start}", f"count={size}", "iflag=skip_bytes,count_bytes", "bs=1M")
    return out


def test_a_restore_tells_of_each_target_and_of_the_one_that_dropped_out(
    standard: Path, tmp_path: Path, neogenesis
) -> None:
    neogenesis("image", standard, tmp_path / "o.qcow2")
    for name, traits in (("one", {}), ("two", {"write": {"fails_after_bytes": 6 * MIB}})):
        blank(tmp_path / f"{name}.img", 640)
        simulated(tmp_path / f"{name}.drive.json", f"{name}.img", serial=f"SERIAL-{name}", **traits)
    targets = [tmp_path / "one.drive.json", tmp_path / "two.drive.json"]
    events = tmp_path / "events"
    confirm = ["--confirm", "-one", "--confirm", "-two"]
    said = neogenesis(
        "restore", tmp_path / "o.qcow2", *targets, *confirm, "--verify", "none", "--events", events, status=6
    ).stderr
    assert "two.drive.json dropped out" in said and "other 1 are done" in said
    seen = told(events)
    endings = {e["target"]: e["code"] for e in seen if e.get("code", "").startswith("target-")}
    assert endings == {str(targets[0]): "target-done", str(targets[1]): "target-dropped"}
    done = next(e["text"] for e in seen if e.get("code") == "target-done")
    assert "nothing of it was checked" in done
    assert {e["target"] for e in seen if e["event"] == "progress"} >= {str(targets[0])}
    run("qemu-img", "compare", "-f", "raw", "-F", "qcow2", tmp_path / "one.img", tmp_path / "o.qcow2")


def test_the_sketch_of_a_large_map_is_not_made_too_often(monkeypatch: pytest.MonkeyPatch) -> None:
    found = RescueMap(1 << 30)
    made = []

    def outline(count: int) -> str:
        made.append(count)
        threading.Event().wait(0.02)
        return "r" * count

    monkeypatch.setattr(found, "outline", outline)
    sketch = Outline()
    for place in range(40):
        sketch.hear(RescueNews("forward", found, place, 0.001 * place, 41.0))
        event = sketch.event()
        assert event.figures["outline"] == "r" * 480 and event.place_bytes == place
    assert len(made) <= 3  # each took 20 ms, and may take a twentieth of the time
    sketch.hear(RescueNews("forward", found, 0, 0.5, None))
    sketch.hear(RescueNews("forward", found, 0, 0.1, None))
    assert sketch.event().slowest_read_s == 0.5 and sketch.event().slowest_read_s == 0.0


def test_a_transfer_can_switch_the_new_drive_off(standard: Path, tmp_path: Path, neogenesis) -> None:
    blank(tmp_path / "new.img", 700)
    new = simulated(tmp_path / "new.drive.json", "new.img", serial="CN2-41F2")
    neogenesis("plan", standard, new, "-o", tmp_path / "p.json")
    said = neogenesis("transfer", tmp_path / "p.json", "--confirm", "41f2", "--power-off").stdout
    assert "may be pulled out" in said
