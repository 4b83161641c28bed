"""Runs the demo bench without a monitor and writes a picture of each main view.

`python -m neogenesis.app.pictures FOLDER [LANGUAGE]`. The bench is built anew in a temporary folder; the copy that one
picture shows is a real one, and what starts in another one was copied by it.
"""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", f"offscreen:configfile={Path(__file__).parents[1] / 'data/screen.json'}")

from msgspec.structs import replace
from PyQt6.QtCore import QEventLoop, QTimer
from PyQt6.QtWidgets import QApplication, QWidget

from neogenesis.app.decide.view import DecideView
from neogenesis.app.desk.bench import Bench
from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.desk.work import Work
from neogenesis.app.first_boot.afterwards import AfterwardsSheet
from neogenesis.app.first_boot.view import FirstBootView
from neogenesis.app.fit.view import FitView
from neogenesis.app.intake.view import IntakeView
from neogenesis.app.plan.people import PeopleSheet
from neogenesis.app.plan.view import PlanView
from neogenesis.app.quote.sheet import QuoteSheet
from neogenesis.app.settings import Settings, save_settings
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.survey.view import SurveyView
from neogenesis.app.swap.editor import ProfileEditor
from neogenesis.app.swap.model import SwapModel
from neogenesis.app.swap.view import SwapView
from neogenesis.app.theme.look import look
from neogenesis.app.transfer.view import TransferView
from neogenesis.bench.drives.docks import SimulatedDocks
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.records.opening import open_records
from neogenesis.bench.simulated.demo import demo_bench

_LONGEST_WAIT_S = 120.0


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
    """What must survive."""
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


def _photograph_looks(window: MainWindow, photographer: Photographer) -> None:
    """What fills a machine that is slow and full."""
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


def _photograph_rescue(window: MainWindow, photographer: Photographer, place: Path) -> None:
    """A failing drive: the rescue under way, and what was lost."""
    window.open_job("T-1044")
    job = window.job
    assert job is not None
    job.survey.start()
    wait(lambda: job.survey.state == "done")
    job.keep.start("rescue", str(place / "old-drive.img"), ["rive"])
    window.show_stop("transfer")
    wait(lambda: (latest := job.keep.heard.latest) is not None and latest.text == "out" and latest.place_bytes > 4e10)
    photographer.take(window, "rescue")
    wait(lambda: not job.keep.is_active)
    job.keep.dismiss()


def _photograph_judgement(window: MainWindow, photographer: Photographer) -> None:
    """A part that fits; a quote."""
    job = _surveyed(window, "T-1045")
    window.show_stop("fit")
    view = window.views["fit"]
    assert isinstance(view, FitView)
    photographer.take(window, "fit")
    job.decide.put(parts_cost="54.50", replacement_price="240")
    window.show_stop("decide")
    decide = window.views["decide"]
    assert isinstance(decide, DecideView)
    decide.show_quote()
    quote = window.findChild(QuoteSheet)
    assert quote is not None
    photographer.take(quote, "quote")
    quote.reject()


def _photograph_swap(window: MainWindow, photographer: Photographer) -> None:
    """The cover's screws half out, by day; the tray while it is closed, large and by night; the editor of profiles."""
    window.open_job("T-1042")
    window.show_stop("swap")
    job = window.job
    assert job is not None
    swap = job.swap
    swap.begin()
    _press_until(swap, lambda: bool(swap.guide and swap.guide.next_piece))
    for _ in range(4):
        swap.press()
    photographer.take(window, "swap")
    _press_until(swap, lambda: bool(swap.guide and swap.guide.row and swap.guide.row.phase == "closing"))
    _press_until(swap, lambda: bool(swap.guide and swap.guide.row and swap.guide.row.step.id == "cover"))
    for _ in range(3):
        swap.press()
    window.appearance.keep(replace(window.appearance.settings, theme="night", percent=150))
    photographer.take(window, "swap-night")
    window.appearance.keep(replace(window.appearance.settings, theme="day", percent=100))
    view = window.views["swap"]
    assert isinstance(view, SwapView)
    view.edit_profile()
    editor = window.findChild(ProfileEditor)
    assert editor is not None
    editor.groups.setCurrentRow(1)
    photographer.take(editor, "swap-editor")
    editor.reject()


def _press_until(swap: SwapModel, reached: Callable[[], bool]) -> None:
    while not reached():
        if swap.guide is not None and swap.guide.press() is None:
            swap.act("waited")
        else:
            swap.press()


def _surveyed(window: MainWindow, ticket: str) -> OpenJob:
    window.open_job(ticket)
    job = window.job
    assert job is not None
    if job.survey.record is None:
        job.survey.start()
        wait(lambda: job.survey.state == "done")
    return job


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
    job.decide.put(replacement_price="640")
    window.show_stop("decide")
    photographer.take(window, "decide")
    window.show_stop("plan")
    wait(lambda: job.plan.state == "ready")
    photographer.take(window, "plan")
    job.plan.write()
    window.show_stop("transfer")
    photographer.take(window, "transfer-gates")
    view = window.views["transfer"]
    assert isinstance(view, TransferView)
    job.transfer.start(job.transfer.expected_tail)
    view.gates.begun.emit()
    wait(lambda: job.transfer.progress.phase == "copy" and job.transfer.progress.copied_bytes > 62e9)
    photographer.take(window, "transfer")
    wait(lambda: not job.transfer.is_active)
    window.show_stop("first-boot")
    job.first_boot.refresh()
    wait(lambda: not job.first_boot.is_busy)
    job.first_boot.try_it()
    wait(lambda: not job.first_boot.is_busy)
    for measured in job.run_in.places():
        job.run_in.begin(measured, 60.0)
    wait(lambda: not job.run_in.is_busy)
    photographer.take(window, "first-boot")
    _photograph_rescue(window, photographer, place)
    _photograph_judgement(window, photographer)
    window.open_job("T-1041")
    photographer.take(window, "handover")
    _photograph_swap(window, photographer)
    _photograph_fresh(window, photographer)
    look().set()


def _photograph_fresh(window: MainWindow, photographer: Photographer) -> None:
    """A clean start planned by a recipe, and what follows it."""
    window.open_job("T-1043")
    job = window.job
    assert job is not None
    job.plan.start_over()
    job.plan.take_intent("fresh")
    window.show_stop("plan")
    wait(lambda: job.plan.state == "ready")
    fresh = job.plan.fresh
    images = fresh.systems()
    if images:
        fresh.change(recipe="linux-uefi-home", system=str(images[0]))
        wait(lambda: fresh.system is not None)
        fresh.change(data=fresh.old_drive)
        wait(lambda: fresh.people is not None)
    photographer.take(window, "plan-fresh")
    planning = window.views["plan"]
    assert isinstance(planning, PlanView)
    planning.show_people()
    people = planning.findChild(PeopleSheet)
    if people is not None:
        photographer.take(people, "plan-people")
        people.accept()
    window.show_stop("first-boot")
    job.first_boot.begin_step("first-start")
    view = window.views["first-boot"]
    assert isinstance(view, FirstBootView)
    view.after.click()
    sheet = view.findChild(AfterwardsSheet)
    if sheet is not None:
        photographer.take(sheet, "after-system")
        sheet.accept()


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "build/pictures"), *sys.argv[2:3])
