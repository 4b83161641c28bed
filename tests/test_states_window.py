"""The window as a state machine: choose, survey, plan, copy, kill, unplug, reopen, type, rescale, in any order.

Whatever happens, no copy can begin whose plan was made from another old drive than the job's, nothing typed is lost, old
drives are never written to, the logbook has one end for each beginning, and the window lives.
"""

from __future__ import annotations

import os
import shutil
import signal
import tempfile
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from neogenesis.app.desk.bench import Bench
from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.desk.work import Work
from neogenesis.app.pictures import pause, wait
from neogenesis.app.shell.trouble import TroubleSheet
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.theme.look import look
from neogenesis.bench.drives.docks import SimulatedDocks
from neogenesis.bench.processes import worker
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.records.opening import open_records
from neogenesis.core.job import Job
from tests.drives import LINUX, Part, blank, data_hash, linux_files, make_drive, set_docks, simulated
from tests.test_states import original

_OLD = ("one", "other")
_SERIALS = {"one": "HD5-00009K3D", "other": "OST-00077B6X", "new": "CN2-000041F2"}
_TICKET = "T-7"
_PATIENCE_S = 60.0


def other_original() -> Path:
    image = original().with_name("other.img")
    if not image.exists():
        make_drive(image, 50, [Part(40, LINUX, "ext4", "other", linux_files())])
    return image


class Windows(RuleBasedStateMachine):
    def __init__(self) -> None:
        super().__init__()
        self.folder = Path(tempfile.mkdtemp(prefix="neogenesis-window-"))
        self.window: MainWindow | None = None
        self.typed = ""
        self.pulled = False

    @initialize()
    def begin(self) -> None:
        folder = self.folder
        shutil.copyfile(original(), folder / "one.img")
        shutil.copyfile(other_original(), folder / "other.img")
        blank(folder / "new.img", 120)
        for name, serial in _SERIALS.items():
            slow = {"clock": "real", "read": {"bytes_per_s": 2e7}} if name in _OLD else {}
            simulated(folder / f"{name}.drive.json", f"{name}.img", model=name, serial=serial, **slow)
        self.before = {name: data_hash(folder / f"{name}.img") for name in _OLD}
        self.plug()
        store = open_records(folder / "bench")
        places = {
            f"{which}_drive": str(folder / f"{name}.drive.json") for which, name in (("old", "one"), ("new", "new"))
        }
        store.add(Job(ticket=_TICKET, customer="Gullhaven Pilots' Office", machine="Petrel 14", **places))
        store.close()
        self.start()

    # What holds it together

    def plug(self) -> None:
        names = ["one.drive.json", "other.drive.json", None if self.pulled else "new.drive.json", None]
        set_docks(self.folder, names)

    def start(self) -> None:
        records = open_records(self.folder / "bench")
        bench = Bench("Saltmarsh Repair", records, SimulatedDocks(self.folder), Work(), BenchClock())
        self.window = MainWindow(bench)
        self.window.show()
        self.window.open_job(_TICKET)
        self.window.focus_note()
        self.typed = ""

    def end(self) -> None:
        if self.window is not None:
            self.window.close()
            self.window.bench.store.close()
            self.window.deleteLater()
            self.window = None
            pause(10)

    @property
    def job(self) -> OpenJob:
        assert self.window is not None
        if self.window.job is None:
            self.window.open_job(_TICKET)
        assert self.window.job is not None
        return self.window.job

    def until(self, what: Callable[[], bool]) -> None:
        assert wait(what, _PATIENCE_S)

    # What a person does

    @rule(name=st.sampled_from(_OLD))
    def choose_old(self, name: str) -> None:
        if not self.job.transfer.is_active:
            self.job.survey.choose(str(self.folder / f"{name}.drive.json"))

    @rule()
    def survey(self) -> None:
        self.job.survey.start()
        self.until(lambda: not self.job.survey.reading)

    @rule(write=st.booleans())
    def plan(self, write: bool) -> None:
        self.window.show_stop("plan")
        job = self.job
        self.until(lambda: job.plan.state != "reading")
        if write and job.plan.state == "ready" and job.plan.refusal is None:
            job.plan.write()

    @rule()
    def copy(self) -> None:
        self.window.show_stop("transfer")
        job = self.job
        if job.transfer.may_write and not job.transfer.is_active:
            job.transfer.start(job.transfer.expected_tail)
            self.until(lambda: not job.transfer.is_active or job.transfer.progress.copied_bytes > 0)

    @precondition(lambda self: self.window is not None and self.window.job is not None)
    @rule(how=st.sampled_from(["stop", "kill", "wait"]))
    def end_copy(self, how: str) -> None:
        job = self.job
        if not job.transfer.is_active:
            return
        process = worker.running_worker(job.transfer.path)
        if how == "kill" and process is not None:
            os.kill(process, signal.SIGKILL)
        elif how == "stop":
            job.transfer.stop()
        self.until(lambda: not job.transfer.is_active)

    @rule()
    def leave_and_come_back(self) -> None:
        self.window.show_jobs()
        self.window.open_job(_TICKET)

    @rule()
    def restart(self) -> None:
        self.end()
        self.start()

    @rule()
    def pull_or_plug_the_new_drive(self) -> None:
        if not self.job.transfer.is_active:
            self.pulled = not self.pulled
            self.plug()
            self.window.bench.look()
            self.until(lambda: not self.window.bench._looking)

    @rule(text=st.text("hinge screw", min_size=1, max_size=6))
    def type_a_note(self, text: str) -> None:
        assert self.job
        self.window.logbook.note.setText(text)
        self.typed = text

    @rule(step=st.sampled_from([-1, 1]))
    def rescale(self, step: int) -> None:
        self.window.appearance.scale(step)

    @rule()
    def day_or_night(self) -> None:
        self.window.appearance.switch_theme()

    @rule(stop=st.sampled_from(["survey", "plan", "transfer", "swap", "handover"]))
    def go(self, stop: str) -> None:
        assert self.job
        self.window.show_stop(stop)

    # What always holds

    @invariant()
    def no_copy_from_another_drive(self) -> None:
        if self.window is None:
            return
        job = self.job
        plan, identity = job.transfer.plan, job.job.identity("old")
        if plan is not None and identity is not None and not plan.source.survey.drive.identity.is_same(identity):
            assert job.plan.out_of_date and not job.transfer.may_write

    @invariant()
    def nothing_typed_is_lost(self) -> None:
        if self.window is not None:
            assert self.job and self.window.logbook.note.text() == self.typed

    @invariant()
    def old_drives_are_untouched_and_shown_sealed(self) -> None:
        if self.window is None:
            return
        for name in _OLD:
            assert data_hash(self.folder / f"{name}.img") == self.before[name]
        uses = {c.dock.docked.drive.model: c.use for c in self.window.shelf.cards if c.dock.docked}
        assert all(uses[name] == "sealed" for name in _OLD)

    @invariant()
    def one_end_for_each_beginning(self) -> None:
        if self.window is None:
            return
        kinds = [e.kind for e in self.job.log() if e.kind.startswith("transfer-")]
        running = self.job.transfer.is_active
        assert all((kind == "transfer-start") == (n % 2 == 0) for n, kind in enumerate(kinds)), kinds
        assert len(kinds) % 2 == (1 if running else 0), (kinds, self.job.transfer.state)

    @invariant()
    def the_window_lives(self) -> None:
        if self.window is not None:
            pause(5)
            assert self.window.isVisible() and not self.window.findChildren(TroubleSheet)
            assert self.window.bench.store.broken_entry(_TICKET) is None

    def teardown(self) -> None:
        if self.window is not None and self.window.job is not None and self.window.job.transfer.is_active:
            job = self.window.job
            job.transfer.stop()
            wait(lambda: not job.transfer.is_active, _PATIENCE_S)
        self.end()
        look().set(theme="day", percent=100)
        shutil.rmtree(self.folder, ignore_errors=True)


_LONG = bool(os.environ.get("NEOGENESIS_LONG"))
TestWindows = pytest.mark.usefixtures("qapp")(Windows.TestCase)
TestWindows.settings = settings(
    max_examples=30 if _LONG else 1,
    stateful_step_count=30 if _LONG else 12,
    deadline=None,
    suppress_health_check=list(HealthCheck),
)
