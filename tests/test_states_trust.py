"""One law for everything that can be done: what was not confirmed does not change.

Two windows on one bench, commands beside them, drives that are pulled and exchanged, workers that are killed, a clock that
jumps, records that are held or full: in any order. Bytes of a drive change only under a claim that names it, this putting
in of it and one work, by somebody who agreed to that; what a window began stands in the logbook; and no old drive changes.
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import sqlite3
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from blake3 import blake3
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule
from PyQt6.QtTest import QTest

from neogenesis.app.desk.bench import Bench
from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.desk.work import Work
from neogenesis.app.pictures import pause, wait
from neogenesis.app.shell.trouble import TroubleSheet
from neogenesis.app.shell.window import MainWindow
from neogenesis.bench.drives import insertion_of
from neogenesis.bench.drives.docks import SimulatedDocks
from neogenesis.bench.processes import worker
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.records.opening import open_records
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job import Job
from tests.drives import LINUX, Part, blank, linux_files, make_drive, set_docks, simulated
from tests.program import run_program

_OLD = {"T-7": "one", "T-8": "other"}
_SERIALS = {"one": "HD5-00009K3D", "other": "OST-00077B6X", "new": "CN2-000041F2", "alike": "XX9-000041F2", "card": ""}
_DRIVES = tuple(_SERIALS)
_TAILS = {"one": "9K3D", "other": "7B6X", "new": "41F2", "alike": "41F2", "card": "card"}
_PATIENCE_S = 60.0
_LONG = bool(os.environ.get("NEOGENESIS_LONG"))


class Jumping(BenchClock):
    """A time of day that somebody sets."""

    ahead = timedelta()

    def wall(self) -> str:
        return (datetime.now().astimezone() + self.ahead).isoformat(timespec="seconds")


class Trust(RuleBasedStateMachine):
    def __init__(self) -> None:
        super().__init__()
        self.folder = Path(tempfile.mkdtemp(prefix="neogenesis-trust-"))
        self.windows: list[MainWindow] = []
        self.clock = Jumping()

    @initialize()
    def begin(self) -> None:
        for name in _OLD.values():
            make_drive(self.folder / f"{name}.img", 24, [Part(16, LINUX, "ext4", name, linux_files())])
        for name in ("new", "alike", "cardA", "cardB"):
            blank(self.folder / f"{name}.img", 40)
        with (self.folder / "cardB.img").open("r+b") as file:
            file.write(b"HOLIDAY PHOTOS " * 1000)
        self.pulled: set[str] = set()
        self.card = "cardA"
        for name in _DRIVES:
            self.describe(name)
        self.plug()
        #: What every file of a drive held when it was looked at last, and the putting-ins that each drive had.
        self.held = {path.stem: digest(path) for path in self.folder.glob("*.img")}
        self.insertions: dict[str, set[str]] = {name: {self.insertion(name)} for name in _DRIVES}
        self.counted: set[str] = set()
        store = open_records(self.folder / "bench")
        for ticket, old in _OLD.items():
            place = str(self.folder / f"{old}.drive.json")
            store.add(Job(ticket=ticket, customer="Gullhaven Pilots' Office", machine="Petrel 14", old_drive=place))
        store.close()
        for _ in range(2):
            self.open_window()

    # What holds it together

    def describe(self, name: str, slow: bool = False) -> None:
        image = self.card if name == "card" else name
        more: dict[str, Any] = {"clock": "real", "read": {"bytes_per_s": 1e7}} if slow else {}
        simulated(self.folder / f"{name}.drive.json", f"{image}.img", model=name, serial=_SERIALS[name], **more)

    def place(self, name: str) -> str:
        return str(self.folder / f"{name}.drive.json")

    def insertion(self, name: str) -> str:
        return insertion_of(self.place(name))

    def plug(self) -> None:
        set_docks(self.folder, [None if name in self.pulled else f"{name}.drive.json" for name in _DRIVES])

    def look(self) -> None:
        for window in self.windows:
            window.bench.look()
            assert wait(lambda window=window: not window.bench._looking, _PATIENCE_S)

    def open_window(self) -> None:
        records = open_records(self.folder / "bench")
        window = MainWindow(Bench("B", records, SimulatedDocks(self.folder), Work(), self.clock))
        window.show()
        self.windows.append(window)

    def close_window(self, window: MainWindow) -> None:
        self.windows.remove(window)
        window.close()
        window.bench.store.close()
        window.deleteLater()
        pause(5)

    def job(self, window: MainWindow) -> OpenJob:
        if window.job is None:
            window.open_job("T-7")
        assert window.job is not None
        return window.job

    @contextmanager
    def records(self, how: str) -> Iterator[None]:
        """As they are, or held by another program."""
        if how != "held":
            yield
            return
        holder = sqlite3.connect(self.folder / "bench/jobs.db", isolation_level=None)
        holder.execute("BEGIN IMMEDIATE")
        try:
            yield
        finally:
            holder.execute("ROLLBACK")
            holder.close()

    def until(self, what: Callable[[], bool]) -> None:
        assert wait(what, _PATIENCE_S)

    # What people do

    which = st.integers(0, 1)

    def window(self, number: int) -> MainWindow:
        return self.windows[number % len(self.windows)]

    @rule(number=which, ticket=st.sampled_from(list(_OLD)))
    def go_to_job(self, number: int, ticket: str) -> None:
        self.window(number).open_job(ticket)

    @rule(number=which)
    def survey(self, number: int) -> None:
        job = self.job(self.window(number))
        job.survey.start()
        self.until(lambda: not job.survey.reading)

    @rule(number=which, name=st.sampled_from(_DRIVES))
    def choose_new(self, number: int, name: str) -> None:
        """By its card, if that may be pressed; somebody else's program would not ask."""
        job = self.job(self.window(number))
        if not job.transfer.is_active and not job.plan.is_carried_out():
            job.plan.choose(self.place(name))

    @rule(number=which, grow=st.sampled_from(["system", "none"]), write=st.booleans())
    def plan(self, number: int, grow: str, write: bool) -> None:
        window = self.window(number)
        job = self.job(window)
        window.show_stop("plan")
        self.until(lambda: job.plan.state != "reading")
        job.plan.change(grow=grow)
        if write and job.plan.state == "ready" and job.plan.refusal is None:
            with suppress(NeogenesisError):
                job.plan.write()

    @rule(number=which, tail=st.sampled_from(sorted(set(_TAILS.values()))), records=st.sampled_from(["", "", "held"]))
    def confirm_and_copy(self, number: int, tail: str, records: str) -> None:
        window = self.window(number)
        self.job(window)
        window.show_stop("transfer")
        gates = window.views["transfer"].gates  # type: ignore[attr-defined]
        if window.job.transfer.state != "ready":
            return
        gates.tail.clear()
        QTest.keyClicks(gates.tail, tail)
        with self.records(records):
            gates.start.click()
        pause(30)

    @rule(number=which, how=st.sampled_from(["stop", "kill", "wait"]))
    def end_copy(self, number: int, how: str) -> None:
        job = self.job(self.window(number))
        if not job.transfer.is_active:
            return
        process = worker.running_worker(job.transfer.path)
        if how == "kill" and process is not None:
            with suppress(ProcessLookupError):
                os.kill(process, signal.SIGKILL)
        elif how == "stop":
            job.transfer.stop()
        self.until(lambda: not job.transfer.is_active)

    @rule(number=which)
    def start_over(self, number: int) -> None:
        job = self.job(self.window(number))
        if job.plan.is_carried_out() and not job.transfer.is_active:
            job.plan.start_over()

    @rule(name=st.sampled_from(_DRIVES))
    def pull_or_plug(self, name: str) -> None:
        self.pulled ^= {name}
        if name not in self.pulled:
            self.describe(name)
            self.insertions[name].add(self.insertion(name))
        self.plug()
        self.look()

    @rule()
    def exchange_the_card(self) -> None:
        self.card = "cardB" if self.card == "cardA" else "cardA"
        self.describe("card")
        self.insertions["card"].add(self.insertion("card"))
        self.look()

    @rule(name=st.sampled_from(_DRIVES), tail=st.sampled_from(sorted(set(_TAILS.values()))))
    def a_command_beside_it(self, name: str, tail: str) -> None:
        """Somebody at a shell who types the tail that a drive has, of whatever drive."""
        plan = self.folder / "shell.json"
        order = ["recipe", "data", self.place(name), "--confirm", tail, "-o", plan, "--bench", self.folder / "bench"]
        run_program([str(word) for word in order])

    @rule(hours=st.sampled_from([-30, -2, 0, 26]))
    def set_the_clock(self, hours: int) -> None:
        self.clock.ahead = timedelta(hours=hours)

    @rule(number=which)
    def open_another_window_instead(self, number: int) -> None:
        self.close_window(self.window(number))
        self.open_window()

    @rule(number=which)
    def leave_the_job(self, number: int) -> None:
        self.window(number).show_jobs()

    # The law

    @invariant()
    def what_changed_was_confirmed(self) -> None:
        if not self.windows:
            return
        for path in sorted(self.folder.glob("*.img")):
            now = digest(path)
            if now == self.held[path.stem]:
                continue
            self.held[path.stem] = now
            assert path.stem not in _OLD.values(), f"the old drive {path.stem} was written to"
            name = "card" if path.stem.startswith("card") else path.stem
            claims = [c for c in self.claims() if c["serial"] == _SERIALS[name] and c["wrote"]]
            assert claims, f"{path.stem} changed, and nothing says by what"
            assert all(c["insertion"] in self.insertions[name] and len(c["work"]) == 64 and c["who"] for c in claims)
            for claim in claims:
                if claim["ticket"]:
                    runs = [e.figures.get("run") for e in self.windows[0].bench.store.log(claim["ticket"])]
                    assert claim["run"] in runs, "a window wrote, and its logbook does not say so"

    def claims(self) -> list[dict[str, Any]]:
        names = ("run", "work", "ticket", "who", "insertion", "wrote", "identity")
        with sqlite3.connect(self.folder / "bench/jobs.db") as database:
            rows = database.execute(
                f"SELECT {', '.join(names)} FROM claim JOIN drive ON drive.key = claim.drive"
            ).fetchall()
        database.close()
        found = [dict(zip(names, row, strict=True)) for row in rows]
        return [{**row, "serial": json.loads(row["identity"])["serial"]} for row in found]

    @invariant()
    def each_beginning_has_one_end(self) -> None:
        for ticket in _OLD if self.windows else ():
            runs: dict[str, list[str]] = {}
            for entry in self.windows[0].bench.store.log(ticket):
                if entry.figures.get("run"):
                    runs.setdefault(entry.figures["run"], []).append(entry.kind)
            for kinds in runs.values():
                assert kinds[0].endswith("-start") and len(kinds) <= 2, kinds

    @invariant()
    def the_windows_live(self) -> None:
        for window in self.windows:
            pause(2)
            assert window.isVisible() and not window.findChildren(TroubleSheet)

    def teardown(self) -> None:
        for window in self.windows:
            for desk in window.desks.running():
                desk.transfer.stop()
                wait(lambda desk=desk: not desk.transfer.is_active, _PATIENCE_S)
        for window in list(self.windows):
            self.close_window(window)
        shutil.rmtree(self.folder, ignore_errors=True)


def digest(path: Path) -> str:
    return blake3(path.read_bytes()).hexdigest()


TestTrust = pytest.mark.usefixtures("qapp")(Trust.TestCase)
TestTrust.settings = settings(
    max_examples=40 if _LONG else 1,
    stateful_step_count=50 if _LONG else 16,
    deadline=None,
    suppress_health_check=list(HealthCheck),
)


def test_the_law_notices_what_nobody_confirmed() -> None:
    """The judge itself: bytes that change behind the door's back are seen."""
    machine = Trust()
    machine.folder.mkdir(exist_ok=True)
    machine.begin = lambda: None  # type: ignore[method-assign]
    blank(machine.folder / "new.img", 8)
    open_records(machine.folder / "bench").close()
    machine.held = {"new": digest(machine.folder / "new.img")}
    machine.insertions = {"new": set()}
    machine.windows = [object()]  # type: ignore[list-item]
    machine.what_changed_was_confirmed()
    with (machine.folder / "new.img").open("r+b") as file:
        file.write(b"slip")
    with pytest.raises(AssertionError, match="nothing says by what"):
        machine.what_changed_was_confirmed()
    shutil.rmtree(machine.folder)
