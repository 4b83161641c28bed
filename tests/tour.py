"""A walk through every screen of the window with one small job, for tests that look at all of them."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from PyQt6.QtWidgets import QDialog, QWidget
from pytestqt.qtbot import QtBot

from neogenesis.app.decide.view import DecideView
from neogenesis.app.fit.view import FitView
from neogenesis.app.intake.view import IntakeView
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.survey.view import SurveyView
from neogenesis.app.swap.view import SwapView
from tests.test_window import plan, slow, survey


def tour(bench: Path, window: MainWindow, qtbot: QtBot) -> Iterator[tuple[str, QWidget]]:
    """Each screen by name, in the order in which a person meets them."""
    yield "jobs", window
    window.sheets.new_job()
    yield from _sheet(window, "new job")
    window.sheets.show_preferences()
    yield from _sheet(window, "preferences")
    window.sheets.show_command()
    yield from _sheet(window, "command")
    window.open_job("T-7")
    window.show_stop("intake")
    intake = window.views["intake"]
    assert isinstance(intake, IntakeView)
    intake.survives._add("photographs")
    qtbot.wait(50)
    yield "intake", window
    intake.show_stopwatch()
    qtbot.wait(50)
    yield "stopwatch", window
    intake.show_triage()
    qtbot.wait(50)
    yield "triage", window
    window.show_stop("survey")
    yield "survey, before", window
    survey(qtbot, window)
    yield "survey", window
    view = window.views["survey"]
    assert isinstance(view, SurveyView) and window.job is not None
    looks = window.job.looks
    view.show_view("fills")
    looks.count(looks.fillable[0])
    qtbot.waitUntil(lambda: not looks.is_busy, timeout=30_000)
    looks.measure_speed()
    qtbot.waitUntil(lambda: not looks.is_busy, timeout=30_000)
    for code in ("health", "speed", "fills", "inside", "why"):
        view.show_view(code)
        qtbot.wait(50)
        yield f"survey, {code}", window
    view.show_view("facts")
    window.sheets.show_keep()
    yield from _sheet(window, "keep")
    window.sheets.show_drive(window.bench.docks()[0])
    yield from _sheet(window, "drive")
    window.show_stop("decide")
    qtbot.wait(50)
    yield "decide", window
    decide = window.views["decide"]
    assert isinstance(decide, DecideView)
    for name, show in (
        ("figures", decide.show_figures),
        ("quote", decide.show_quote),
        ("fleet", decide.show_fleet),
        ("past", decide.show_past),
    ):
        show()
        yield from _sheet(window, name)
    window.show_stop("fit")
    qtbot.wait(50)
    yield "fit", window
    fit = window.views["fit"]
    assert isinstance(fit, FitView)
    for name, show in (("lists", fit.show_lists), ("profiles", fit.edit_profile)):
        show()
        yield from _sheet(window, name)
    plan(qtbot, window)
    yield "plan", window
    window.show_stop("transfer")
    yield "gates", window
    job = window.job
    assert job is not None
    slow(bench, 3e7)
    job.transfer.start("41F2")
    qtbot.waitUntil(lambda: len(job.transfer.progress.course) > 2, timeout=60_000)
    qtbot.wait(50)
    yield "running", window
    window.show_jobs()
    qtbot.wait(50)
    yield "jobs, one at work", window
    window.open_job("T-7")
    job = window.job
    assert job is not None
    window.show_stop("transfer")
    job.transfer.stop()
    qtbot.waitUntil(lambda: job.transfer.state in ("stopped", "done"), timeout=60_000)
    qtbot.wait(50)
    yield "stopped", window
    slow(bench, 3e8)
    if job.transfer.state == "stopped":
        job.transfer.start("41F2")
    qtbot.waitUntil(lambda: job.transfer.state == "done", timeout=60_000)
    qtbot.wait(50)
    yield "done", window
    job.keep.start("rescue", str(bench / "saved.img"), ["aved"])
    window.show_stop("transfer")
    qtbot.waitUntil(lambda: job.keep.heard.latest is not None, timeout=60_000)
    qtbot.wait(50)
    yield "rescue", window
    qtbot.waitUntil(lambda: job.keep.state == "ended", timeout=60_000)
    qtbot.wait(50)
    yield "rescue, ended", window
    job.keep.dismiss()
    yield from _through_swap(window, qtbot)
    window.show_stop("first-boot")
    qtbot.waitUntil(lambda: not job.first_boot.is_busy, timeout=60_000)
    qtbot.wait(50)
    yield "first boot", window
    window.show_stop("handover")
    job.handover.measure(198.0, 36.0, 3)
    qtbot.wait(50)
    yield "handover", window
    window.sheets.show_help()
    qtbot.wait(50)
    yield "help", window


def _through_swap(window: MainWindow, qtbot: QtBot) -> Iterator[tuple[str, QWidget]]:
    """Before, at each kind of page of the guide, the sheets beside it, and afterwards."""
    window.show_stop("swap")
    view, swap = window.views["swap"], window.job.swap
    assert isinstance(view, SwapView)
    yield "swap", window
    view.edit_profile()
    yield from _sheet(window, "steps and fasteners")
    swap.begin()
    seen: set[str] = set()
    while not swap.guide.where.finished:
        kind = str(swap.guide.press())
        if kind not in seen:
            seen.add(kind)
            qtbot.wait(30)
            yield f"swap, {kind}", window
            for name, show in (
                ("wrong", view.show_wrong),
                ("missing", view.show_missing),
                ("extras", view.show_extras),
            ):
                if kind == "count":
                    show()
                    yield from _sheet(window, f"swap, {name}")
        if swap.guide.must_wait_s and swap.guide.press() is None:
            swap.act("waited")
        else:
            swap.press()
    qtbot.wait(30)
    yield "swap, first start", window


def _sheet(window: MainWindow, name: str) -> Iterator[tuple[str, QWidget]]:
    """The sheet that was just opened; it is closed when the walk goes on."""
    sheet = next(d for d in window.findChildren(QDialog) if d.isVisible())
    yield name, sheet
    sheet.close()
