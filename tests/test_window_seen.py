"""What the screens show, read from their models and found painted: on every stop, by day and night."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QRect
from PyQt6.QtGui import QColor, QImage
from PyQt6.QtWidgets import QLabel, QListView, QWidget
from pytestqt.qtbot import QtBot

from neogenesis.app.handover.view import HandoverView
from neogenesis.app.keep.page import KeepPage
from neogenesis.app.logbook.view import LogbookView
from neogenesis.app.parts.bars import BeforeAfter
from neogenesis.app.parts.course import CoursePlot, CourseScene
from neogenesis.app.parts.progress import ProgressLine
from neogenesis.app.parts.stop import Check
from neogenesis.app.parts.trace import SoundingsTrace
from neogenesis.app.plan.canvas import PlanCanvas
from neogenesis.app.plan.view import PlanView
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.survey.view import SurveyView
from neogenesis.app.theme.look import look
from neogenesis.app.transfer.canvas import FillCanvas
from neogenesis.app.words import time_range
from tests.drives import set_docks, simulated
from tests.test_window import plan as make_plan
from tests.test_window import slow, survey, texts, transfer_view

Open = Callable[[Path], MainWindow]
#: A drawing has at least so many colours: ground, lines, words, and something of its own.
_LEAST_COLOURS = 3


def colours(widget: QWidget, part: QRect | None = None) -> set[str]:
    """Every colour of a widget, or of a part of it, as it is painted."""
    grabbed = widget.grab(part) if part is not None else widget.grab()
    image: QImage = grabbed.toImage().convertToFormat(QImage.Format.Format_RGB32)
    bits = image.constBits()
    assert bits is not None
    found = np.unique(np.frombuffer(bits.asarray(image.sizeInBytes()), dtype=np.uint32) & 0xFFFFFF)
    return {QColor(int(one)).name() for one in found}


def token(name: str) -> str:
    return look().colour(name).name()


def holds(seen: set[str], name: str) -> bool:
    """Whether words in that colour are among the colours `seen`; small letters never show it quite pure."""
    wanted = look().colour(name)
    return any(
        abs(one.red() - wanted.red()) + abs(one.green() - wanted.green()) + abs(one.blue() - wanted.blue()) < 40
        for one in map(QColor, seen)
    )


def rows_of(view: QListView) -> list[set[str]]:
    """The colours of each row of a list that is in sight."""
    model, viewport = view.model(), view.viewport()
    assert model is not None and viewport is not None
    places = [view.visualRect(model.index(number, 0)) & viewport.rect() for number in range(model.rowCount())]
    return [colours(viewport, place) for place in places if place.width() > 30 and place.height() > 12]


def drawings(window: MainWindow) -> list[QWidget]:
    """Everything in sight that paints itself and is large enough to hold something."""
    own = [
        w
        for w in window.findChildren(QWidget)
        if type(w).__module__.startswith("neogenesis.app.") and "paintEvent" in type(w).__dict__
    ]
    return [w for w in own if w.isVisible() and w.width() * w.height() > 900 and not isinstance(w, QLabel)]


def nothing_is_blank(window: MainWindow) -> None:
    found = drawings(window)
    assert found
    for widget in found:
        if isinstance(widget, SoundingsTrace | CoursePlot | ProgressLine | BeforeAfter):
            continue  # these may have nothing to say yet; they have tests of their own below
        assert len(colours(widget)) >= _LEAST_COLOURS, f"{type(widget).__name__} is blank"
    for view in window.findChildren(QListView):
        if view.isVisible():
            rows = rows_of(view)
            assert rows or not view.model().rowCount(), f"{view.accessibleName()} shows none of its rows"
            worded = [holds(row, "ink") or holds(row, "muted") for row in rows]
            assert all(worded), f"a row of {view.accessibleName()} says nothing: {worded}"


@pytest.mark.timeout(300)
@pytest.mark.parametrize("theme", ["day", "night"])
def test_every_stop_shows_what_its_model_says(small_bench: Path, open_window: Open, qtbot: QtBot, theme: str) -> None:
    window = open_window(small_bench)
    if theme == "night":
        window.appearance.switch_theme()
    qtbot.wait(50)
    nothing_is_blank(window)
    survey(qtbot, window)
    qtbot.wait(50)
    nothing_is_blank(window)
    stop, record = window.views["survey"], window.job.survey.record
    assert isinstance(stop, SurveyView) and record is not None
    seen = colours(stop.canvas)
    for role in {p.role for p in record.partitions if p.size_bytes > 40 << 20}:
        assert look().role(role).name() in seen, role
    assert "Halden 500" in texts(window) and "sealed" in texts(window)

    make_plan(qtbot, window)
    qtbot.wait(50)
    nothing_is_blank(window)
    view, plan = window.views["plan"], window.job.plan.plan
    assert isinstance(view, PlanView) and isinstance(view.canvas, PlanCanvas)
    estimate = plan.estimate
    assert estimate.seconds_p10 <= estimate.seconds_p90
    assert time_range(estimate.seconds_p10, estimate.seconds_p90) in texts(window)

    window.show_stop("transfer")
    qtbot.wait(50)
    nothing_is_blank(window)
    assert "What will be done, in this order" in texts(window)
    assert [d.use for d in window.shelf.cards if d.dock.docked] == [
        "sealed",
        "may be written",
    ]
    job = window.job
    slow(small_bench, 6e7)
    job.transfer.start("41F2")
    qtbot.waitUntil(lambda: len(job.transfer.progress.course) > 3, timeout=60_000)
    qtbot.wait(50)
    nothing_is_blank(window)
    running = transfer_view(window).running
    if running.isVisible():
        assert token("accent") in colours(running.course) and len(colours(running.soundings)) >= 2
        assert isinstance(running.fill, FillCanvas)
    qtbot.waitUntil(lambda: job.transfer.state == "done", timeout=60_000)
    qtbot.wait(50)
    first, last = window.bench.log("T-7")[0], window.bench.log("T-7")[-1]
    for _ in range(2):  # as it grew, and built anew
        words = [line.words for line in window.logbook.list.lines.rows]
        assert words.index(last.text) < words.index(first.text), "the logbook stands newest first"
        assert window.logbook.list.chosen_text().splitlines()[0].endswith(last.text)
        window.appearance.switch_theme()
        qtbot.wait(50)

    window.show_stop("handover")
    job.handover.measure(198.0, 36.0, 3)
    qtbot.wait(50)
    handover = window.views["handover"]
    assert isinstance(handover, HandoverView)
    assert "5.5 times as fast" in texts(window) and "82 %" in texts(window)
    assert len(colours(handover.bars)) >= _LEAST_COLOURS
    nothing_is_blank(window)
    look().set(theme="day", percent=100)


def test_a_failing_drive_looks_like_one(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    health = {"pending_sectors": 52, "temperature_c": 44}
    simulated(small_bench / "old.drive.json", "old.img", model="Halden 64", serial="HD1-30814A6T", health=health)
    set_docks(small_bench, ["old.drive.json", "new.drive.json", None, None])
    window = open_window(small_bench)
    survey(qtbot, window)
    qtbot.wait(50)
    checks = {check.text: check.severity for check in window.views["survey"].checks()}
    assert checks["The drive is failing: image it first"] == "stop"
    assert "52 sectors waiting to be reallocated" in texts(window)
    window.show_jobs()  # where nothing may be written to
    qtbot.wait(50)
    cards, painted = [c for c in window.shelf.cards if c.dock.docked], rows_of(window.shelf)
    assert cards[0].dock.docked.health.verdict == "copy-now"
    assert holds(painted[0], "stop") and not holds(painted[1], "stop")


def test_what_a_rescue_lost_is_listed(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    data = (small_bench / "old.img").read_bytes().find(b"file 2 of the customer")
    at = max(data, 45 << 20) // 512 * 512
    read = {"unreadable": [[at, at + 4096]]}
    simulated(small_bench / "old.drive.json", "old.img", model="Halden 64", serial="HD1-30814A6T", read=read)
    window = open_window(small_bench)
    window.open_job("T-7")
    job = window.job
    job.keep.start("rescue", str(small_bench / "saved.img"), ["aved"])
    window.show_stop("transfer")
    qtbot.waitUntil(lambda: job.keep.state == "ended", timeout=60_000)
    qtbot.wait(50)
    page = transfer_view(window).keep
    assert isinstance(page, KeepPage)
    for path in (row[1] for row in job.keep.heard.files):
        assert Path(path).name in texts(window)
    assert "4096" in texts(window).replace(" ", "").replace(",", "") or "4 KiB" in texts(window)


def test_a_course_with_a_track_is_drawn_and_one_without_is_not(qtbot: QtBot) -> None:
    plot = CoursePlot()
    qtbot.addWidget(plot)
    plot.resize(300, 120)
    empty = colours(plot)
    scene = CourseScene(
        ((0.0, 0.0), (0.5, 0.4), (0.9, 0.8)), ((0.0, 0.0), (0.8, 1.0), (1.0, 1.0)), bands=((0, 1, "system"),)
    )
    plot.show_course(scene)
    drawn = colours(plot)
    assert token("accent") in drawn and token("accent") not in empty and look().role("system").name() in drawn
    image = plot.grab().toImage()
    middle = {QColor(image.pixel(image.width() // 2, y)).name() for y in range(image.height())}
    assert token("accent") in middle, "its track goes through the middle"


def test_checks_that_come_while_the_logbook_is_folded_have_their_room(qtbot: QtBot) -> None:
    view = LogbookView()
    qtbot.addWidget(view)
    view.resize(300, 600)
    view.show_checks([])
    none = view._top.maximumHeight()
    view.show_checks([Check("note", "If only the files mattered")])
    one = view._top.maximumHeight()
    view.show_checks([Check("stop", "Something stands in the way")] * 3)
    assert none < one < view._top.maximumHeight()
