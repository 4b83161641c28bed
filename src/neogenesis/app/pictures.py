"""Runs the demo bench without a monitor and writes a picture of each main view.

`python -m neogenesis.app.pictures FOLDER [LANGUAGE]`. The bench is built anew in a temporary folder; the copy that one
picture shows is a real one, stopped safely after the picture was taken.
"""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", f"offscreen:configfile={Path(__file__).parents[1] / 'data/screen.json'}")

import msgspec
from PyQt6.QtCore import QEventLoop, QTimer
from PyQt6.QtWidgets import QApplication, QWidget

from neogenesis.app.bench import Bench
from neogenesis.app.handover.view import HandoverView
from neogenesis.app.intake.view import IntakeView
from neogenesis.app.keep.view import KeepSheet
from neogenesis.app.overlay.help import HelpOverlay
from neogenesis.app.settings import Settings, save_settings
from neogenesis.app.survey.view import SurveyView
from neogenesis.app.theme.look import look
from neogenesis.app.transfer.view import TransferView
from neogenesis.app.window import MainWindow
from neogenesis.app.work import Work
from neogenesis.bench import imaging
from neogenesis.bench.clock import BenchClock
from neogenesis.bench.docks import SimulatedDocks
from neogenesis.bench.records import open_records
from neogenesis.bench.simulated.demo import demo_bench
from neogenesis.core.job import Job

_LONGEST_WAIT_S = 120.0
_MANY_JOBS = 397
_WISHES = ("Faster, everything exactly as it was", "More room", "The photographs; the machine is old")
_MACHINES = ("Petrel 14", "Brightwell Desk 3", "Petrel 11", "Quayside Kiosk")
_RESTORE_ONTO = ("Corvane N2", "Corvane S5")


def wait(until: Callable[[], bool], longest_s: float = _LONGEST_WAIT_S) -> bool:
    """Let the window live until something holds."""
    deadline = time.monotonic() + longest_s
    while not until():
        if time.monotonic() > deadline:
            return False
        pause(50)
    return True


def pause(milliseconds: int) -> None:
    loop = QEventLoop()
    QTimer.singleShot(milliseconds, loop.quit)
    loop.exec()


class Photographer:
    """Takes pictures of one window into one folder."""

    def __init__(self, folder: Path) -> None:
        folder = folder.absolute()
        folder.mkdir(parents=True, exist_ok=True)
        self._folder = folder

    def take(self, widget: QWidget, name: str) -> None:
        pause(120)
        widget.grab().save(str(self._folder / f"{name}.png"))
        sys.stdout.write(f"{self._folder / name}.png\n")


def main(folder: Path, language: str = "en") -> None:
    application = QApplication(["neogenesis"])
    place = Path(tempfile.mkdtemp(prefix="neogenesis-pictures-"))
    try:
        bench = Bench(
            "Saltmarsh Repair",
            open_records(demo_bench(place) / "bench"),
            SimulatedDocks(place),
            Work(),
            BenchClock(),
        )
        save_settings(bench.person, Settings(language=language))
        window = MainWindow(bench)
        window.show()
        _walk(window, Photographer(folder), place)
        window.close()
        bench.store.close()
    finally:
        shutil.rmtree(place)
        del application


def _photograph_intake(window: MainWindow, photographer: Photographer) -> None:
    """What must survive, and the stopwatch while it runs."""
    window.open_job("T-1042")
    window.show_stop("intake")
    view = window.views["intake"]
    assert isinstance(view, IntakeView)
    view.survives.shores.choose("ticket sales")
    view.survives.shores.setFocus()
    pause(100)
    bar = view.area.verticalScrollBar()
    if bar is not None:
        bar.setValue(0)
    photographer.take(window, "intake")
    view.press_stopwatch()
    pause(2300)
    photographer.take(window, "intake-stopwatch")
    view.watch.give_up.click()


def _photograph_looks(window: MainWindow, photographer: Photographer) -> None:
    """What fills a machine that is slow and full, and why it is both."""
    window.open_job("T-1045")
    window.show_stop("survey")
    job, view = window.job, window.views["survey"]
    assert job is not None and isinstance(view, SurveyView)
    job.survey.start()
    wait(lambda: job.survey.state == "done")
    job.looks.measure_speed()
    wait(lambda: not job.looks.is_busy)
    job.looks.count(job.looks.fillable[0])
    wait(lambda: not job.looks.is_busy)
    view.show_view("fills")
    view.fill.canvas.setFocus()
    for _ in range(2):
        view.fill.canvas.open()
    photographer.take(window, "survey-fills")
    view.show_view("why")
    photographer.take(window, "survey-why")


def _photograph_rescue(window: MainWindow, photographer: Photographer, place: Path) -> None:
    """A failing drive: the sheet, the rescue under way, and what was lost; then an image onto two drives at once."""
    window.open_job("T-1044")
    job = window.job
    assert job is not None
    job.survey.start()
    wait(lambda: job.survey.state == "done")
    window.sheets.show_keep()
    sheet = window.findChild(KeepSheet)
    assert sheet is not None
    sheet.place.setText("/srv/jobs/T-1044/old-drive.img")
    sheet.tail.setText("rive")
    photographer.take(sheet, "keep")
    sheet.reject()
    job.keep.start("rescue", str(place / "old-drive.img"), ["rive"])
    window.show_stop("transfer")
    wait(lambda: (latest := job.keep.heard.latest) is not None and latest.text == "out" and latest.place_bytes > 4e10)
    photographer.take(window, "rescue")
    wait(lambda: not job.keep.is_active)
    photographer.take(window, "rescue-ended")
    job.keep.dismiss()


def _photograph_restore(window: MainWindow, photographer: Photographer, place: Path) -> None:
    window.open_job("T-1043")
    job = window.job
    assert job is not None
    imaging.make_image(str(place / "drives/museum-kiosk.drive.json"), place / "kiosk.qcow2", 1)
    targets = [d.docked.name for d in window.bench.docks() if d.docked and d.docked.drive.model in _RESTORE_ONTO]
    job.keep.start("restore", str(place / "kiosk.qcow2"), ["41F2", "77B6"], targets)
    window.show_stop("transfer")
    wait(lambda: all(lane.share > 0.3 for lane in job.keep.heard.lanes.values()) and len(job.keep.heard.lanes) == 2)
    photographer.take(window, "restore")
    wait(lambda: not job.keep.is_active)
    job.keep.dismiss()


def _photograph_german(window: MainWindow, photographer: Photographer) -> None:
    before = window.appearance.settings
    window.appearance.keep(msgspec.structs.replace(before, language="de"))
    photographer.take(window, "plan-german")
    window.appearance.keep(before)


def _photograph_many_jobs(window: MainWindow, photographer: Photographer) -> None:
    for number in range(1, _MANY_JOBS):
        due = (datetime.now() + timedelta(days=number % 11 - 2)).strftime("%Y-%m-%d 16:00")
        wish, machine = _WISHES[number % len(_WISHES)], _MACHINES[number % len(_MACHINES)]
        job = Job(ticket=f"T-{2000 + number}", customer=f"Islander {number}", machine=machine, promise=due, wish=wish)
        window.bench.store.add(job)
    window.show_jobs()
    window.jobs_view.list.scrollToTop()
    photographer.take(window, "jobs-many")


def _walk(window: MainWindow, photographer: Photographer, place: Path) -> None:
    photographer.take(window, "jobs")
    _photograph_intake(window, photographer)
    _photograph_looks(window, photographer)
    window.open_job("T-1042")
    job = window.job
    assert job is not None
    job.survey.start()
    wait(lambda: job.survey.state == "done")
    photographer.take(window, "survey")
    job.decide.put(parts_cost="79.90", replacement_price="640")
    window.show_stop("decide")
    photographer.take(window, "decide")
    window.show_stop("plan")
    wait(lambda: job.plan.state == "ready")
    photographer.take(window, "plan")
    window.appearance.switch_theme()
    photographer.take(window, "plan-night")
    window.appearance.switch_theme()
    _photograph_german(window, photographer)
    job.plan.write()
    window.show_stop("transfer")
    photographer.take(window, "transfer-gates")
    view = window.views["transfer"]
    assert isinstance(view, TransferView)
    job.transfer.start(job.transfer.expected_tail)
    view.gates.begun.emit()
    wait(lambda: job.transfer.progress.phase == "copy" and job.transfer.progress.copied_bytes > 62e9)
    photographer.take(window, "transfer")
    job.transfer.stop()
    wait(lambda: not job.transfer.is_active)
    _photograph_rescue(window, photographer, place)
    _photograph_restore(window, photographer, place)
    window.open_job("T-1041")
    photographer.take(window, "handover")
    handover = window.views["handover"]
    assert isinstance(handover, HandoverView)
    window.sheets.show_help()
    photographer.take(window, "help")
    overlay = window.findChild(HelpOverlay)
    assert overlay is not None
    overlay.close()
    _photograph_many_jobs(window, photographer)
    look().set()


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "build/pictures"), *sys.argv[2:3])
