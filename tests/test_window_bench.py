"""Drives are known by who they are, and what runs belongs to the bench: nothing is mixed up, no end is lost."""

from __future__ import annotations

import os
import signal
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QLineEdit
from pytestqt.qtbot import QtBot

from neogenesis.app.desk.bench import Bench
from neogenesis.app.desk.work import Failure, Handle, Work
from neogenesis.app.plan.view import PlanView
from neogenesis.app.shell import trouble
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.survey.view import SurveyView
from neogenesis.bench.drives import open_sealed
from neogenesis.bench.drives.docks import Docked
from neogenesis.bench.processes import worker
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.records.opening import open_records
from neogenesis.bench.works import begun
from neogenesis.core.drive import Drive, judge
from neogenesis.core.job import Job
from tests.drives import run, set_docks, simulated
from tests.test_window import plan, slow, survey, texts, transfer_view

Open = Callable[[Path], MainWindow]
ENDS = ("transfer-done", "transfer-partial", "transfer-stopped", "transfer-failed")


def ends(window: MainWindow, ticket: str = "T-7") -> list[str]:
    return [entry.kind for entry in window.bench.store.log(ticket) if entry.kind in ENDS]


def card(window: MainWindow) -> str:
    """What the list of jobs says of the work under way in the only one."""
    return window.jobs_view.model.rows[0].busy


@pytest.fixture
def other_drive(small_bench: Path) -> str:
    """Another customer's drive in the third dock."""
    run("cp", "--sparse=always", small_bench / "old.img", small_bench / "other.img")
    simulated(small_bench / "other.drive.json", "other.img", model="Ostrel S", serial="OS-240-5571C8")
    set_docks(small_bench, ["old.drive.json", "new.drive.json", "other.drive.json", None])
    return str(small_bench / "other.drive.json")


def test_another_old_drive_makes_everything_after_it_out_of_date(
    small_bench: Path, other_drive: str, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    window.show_stop("transfer")
    view = transfer_view(window)
    qtbot.keyClicks(view.gates.tail, "41F2")
    assert view.gates.start.isEnabled()
    window.show_stop("survey")
    stop = window.views["survey"]
    assert isinstance(stop, SurveyView)
    qtbot.mouseClick(stop._other, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(stop.choice.buttons[other_drive], Qt.MouseButton.LeftButton)
    job = window.job
    assert job.survey.state == "ready" and job.survey.record is None
    assert job.plan.plan is None and job.plan.state == "no-survey"
    window.show_stop("transfer")
    assert not view.gates.start.isEnabled() and not job.transfer.gates_open
    qtbot.waitUntil(lambda: "another old drive" in texts(window), timeout=5_000)
    view.gates.start.click()
    assert job.transfer.state == "ready" and worker.running_worker(job.transfer.path) is None
    survey(qtbot, window)
    plan(qtbot, window)
    assert job.plan.failure is None and job.plan.refusal is None
    assert job.plan.written.source.survey.drive.serial == "OS-240-5571C8" and not job.plan.out_of_date


def test_a_plan_for_a_drive_that_was_exchanged_while_it_was_read_does_not_appear(
    small_bench: Path, other_drive: str, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    window.show_stop("plan")
    model = window.job.plan
    assert model.reading
    model.choose(other_drive)
    qtbot.waitUntil(lambda: model.state == "ready" and not model.reading, timeout=60_000)
    assert model.plan.target.drive.serial == "OS-240-5571C8"


def test_a_survey_is_heard_to_its_end_while_the_list_of_jobs_is_in_front(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    window.job.survey.start()
    window.show_jobs()
    assert card(window) == "Being read"
    window.open_job("T-7")
    assert window.job.survey.state == "reading"
    window.show_jobs()
    qtbot.waitUntil(lambda: window.bench.store.job("T-7").stop == "decide", timeout=30_000)
    qtbot.waitUntil(lambda: card(window) == "", timeout=5_000)
    window.open_job("T-7")
    assert window.job.survey.state == "done"


def test_a_transfer_is_heard_to_its_end_and_written_down_once(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    slow(small_bench, 5e7)
    window.job.transfer.start("41F2", "none")
    window.show_jobs()
    assert card(window) == "Transfer under way"
    window.open_job("T-7")
    assert window.job.transfer.is_active
    window.show_jobs()
    qtbot.waitUntil(lambda: bool(ends(window)), timeout=60_000)
    qtbot.waitUntil(lambda: card(window) == "", timeout=5_000)
    assert ends(window) == ["transfer-done"]


def test_what_ended_while_no_window_was_there_is_written_down_once(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    slow(small_bench, 2e7)
    path = window.job.transfer.path
    window.job.transfer.start("41F2", "none")
    qtbot.waitUntil(lambda: begun.has_journal(path), timeout=30_000)
    window.close()
    os.kill(worker.running_worker(path), signal.SIGKILL)
    qtbot.waitUntil(lambda: worker.running_worker(path) is None, timeout=10_000)
    for _ in range(2):
        again = open_window(small_bench)
        assert ends(again) == ["transfer-stopped"]
        again.close()


class FakeDocks:
    """Docks whose drives change places as a test wants it."""

    count = 4

    def __init__(self) -> None:
        self.now: list[Docked] = []

    def listen(self, changed: Callable[[], object]) -> bool:
        return False

    def drives(self) -> list[Docked]:
        return list(self.now)


def docked(place: str, serial: str, model: str = "Halden 500", size: int = 10**11) -> Docked:
    drive = Drive(path=place, size_bytes=size, sector_size=512, serial=serial, model=model)
    return Docked(name=place, drive=drive, health=judge(None))


def test_drives_are_known_by_serial_and_not_by_place(tmp_path: Path, qtbot: QtBot) -> None:
    store, docks = open_records(tmp_path), FakeDocks()
    bench = Bench("Saltmarsh Repair", store, docks, Work(), BenchClock())
    store.add(Job(ticket="T-1", customer="Pilots", machine="Petrel 14"))
    docks.now = [docked("/dev/sdb", "HD5-A"), docked("/dev/sdc", "HD5-B")]
    bench.watch()
    from neogenesis.app.desk.open_job import OpenJob

    desk = OpenJob(bench, "T-1")
    desk.choose_drive("old", "/dev/sdb")
    assert desk.place("old") == "/dev/sdb"
    docks.now = [docked("/dev/sdb", "HD5-B"), docked("/dev/sdc", "HD5-A")]
    bench.watch()
    assert desk.place("old") == "/dev/sdc"
    docks.now = [docked("/dev/sdb", "HD5-B")]
    bench.watch()
    dock = desk.old_dock()
    assert desk.place("old") == "" and dock is not None and not dock.present
    docks.now = [docked("/dev/sdb", "HD5-A"), docked("/dev/sdc", "HD5-A")]  # two bridges that report one serial
    bench.watch()
    twins = [d for d in bench.docks() if d.present]
    assert len(twins) == 2 and all(d.twin for d in twins)
    assert desk.place("old") == "/dev/sdb"  # only the place tells, and it is the one on record
    docks.now = [docked("/dev/sdd", "HD5-A"), docked("/dev/sdc", "HD5-A")]
    bench.watch()
    assert desk.place("old") == ""  # nobody can tell
    docks.now = [docked("/dev/sdb", "HD5-A", size=10**12)]
    bench.watch()
    assert desk.place("old") == ""  # the same serial on another drive
    bench.stop_watching()
    desk.close()
    bench.work.close()
    store.close()


def test_nothing_typed_is_lost_by_look_drives_or_another_stop(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    window.show_stop("transfer")
    qtbot.keyClicks(transfer_view(window).gates.tail, "41F")
    qtbot.keyClicks(window.logbook.note, "call the customer")
    window.show_stop("first-boot")
    qtbot.keyClicks(window.views["first-boot"].tail, "41")
    window.appearance.switch_theme()
    window.appearance.scale(1)
    window.bench.drives_changed.emit()
    window.show_jobs()
    window.jobs_view.search.setText("pilots")
    window.appearance.switch_theme()
    assert window.jobs_view.search.text() == "pilots"
    window.open_job("T-7")
    assert window.views["first-boot"].tail.text() == "41"
    assert transfer_view(window).gates.tail.text() == "41F"
    assert window.logbook.note.text() == "call the customer"


def test_a_job_that_learns_its_drives_while_it_is_opened_gets_stops_of_its_own(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    """What it puts on record then is heard by the window, which still has the other job in front."""
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    window.bench.add_job(Job(ticket="T-8", customer="", machine="", stop="transfer"))
    window.bench.update("T-7", new_identity="", stop="transfer")
    window.open_job("T-8")
    window.show_stop("transfer")
    window.open_job("T-7")
    assert window.job.job.identity("new") is not None
    assert window.views["transfer"]._desk is window.job


def test_a_typed_size_is_taken_when_the_plan_is_written(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window, write=False)
    view = window.views["plan"]
    assert isinstance(view, PlanView)
    before = {p.number: p.size_bytes for p in window.job.plan.plan.layout.partitions}
    qtbot.keyClick(view.size_field, Qt.Key.Key_Return)
    assert {p.number: p.size_bytes for p in window.job.plan.plan.layout.partitions} == before  # nothing was typed
    view.size_field.clear()
    qtbot.keyClicks(view.size_field, "500 MiB")
    qtbot.mouseClick(view.write, Qt.MouseButton.LeftButton)
    number = view.canvas.chosen
    written = next(p for p in window.job.plan.written.layout.partitions if p.from_partition == number)
    assert written.size_bytes == 500 << 20


def test_an_exception_in_the_window_is_said_and_logged(
    small_bench: Path, open_window: Open, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    window = open_window(small_bench)
    handler = trouble.Handler(window)
    try:
        raise ValueError("a made-up fault")
    except ValueError:
        handler.hear(*sys.exc_info())
    shown = [w for w in QApplication.topLevelWidgets() if isinstance(w, trouble.TroubleSheet) and w.isVisible()]
    assert len(shown) == 1 and "goes on" in shown[0].words.text()
    shown[0].copy.click()
    board = QApplication.clipboard()
    assert board is not None and "a made-up fault" in board.text() and "Traceback" in board.text()
    shown[0].close()
    assert "a made-up fault" in trouble.log_path().read_text()
    handler.close()
    assert window.isVisible() and isinstance(window.logbook.note, QLineEdit)


def test_a_drive_that_hangs_holds_up_nobody_and_can_be_given_up(qtbot: QtBot) -> None:
    work, answers = Work(), list[tuple[str, object]]()

    def ask(name: str, function: Callable[..., object], *arguments: object, **more: float) -> Handle:
        return work.in_process(lambda found: answers.append((name, found)), function, *arguments, **more)

    hanging = ask("hanging", time.sleep, 60)
    ask("quick", abs, -3)
    qtbot.waitUntil(lambda: ("quick", 3) in answers, timeout=20_000)
    hanging.give_up()
    ask("late", time.sleep, 60, longest_s=0.3)
    ask("dead", os.abort)
    ask("refused", open_sealed, "/nowhere")
    qtbot.waitUntil(lambda: len(answers) == 4, timeout=20_000)
    found = dict(answers)
    assert "hanging" not in found
    for name, words in (("late", "in the time"), ("dead", "ended unexpectedly"), ("refused", "no drive")):
        failure = found[name]
        assert isinstance(failure, Failure) and words in failure.text, name
    work.close()


def test_a_survey_is_given_up(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    window.show_stop("survey")
    stop = window.views["survey"]
    assert isinstance(stop, SurveyView)
    qtbot.mouseClick(stop.start, Qt.MouseButton.LeftButton)
    assert window.job.survey.state == "reading" and stop.start.text() == "Stop reading"
    qtbot.mouseClick(stop.start, Qt.MouseButton.LeftButton)
    assert window.job.survey.state == "ready" and window.job.survey.record is None
    survey(qtbot, window)
    assert [e.kind for e in window.bench.log("T-7")] == ["survey-stopped", "survey"]
