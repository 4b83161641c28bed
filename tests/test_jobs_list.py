"""The list of jobs: what comes first, what a search finds, what runs, what is promised when; and that it is painted."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import pytest
from PyQt6.QtCore import QDateTime, QPoint, Qt
from PyQt6.QtGui import QColor, QContextMenuEvent, QImage
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from neogenesis.app.jobs.model import JobRow, rows_of, wanted
from neogenesis.app.jobs.running import Running, RunningLine
from neogenesis.app.jobs.sheet import JobSheet
from neogenesis.app.rail.week import days_of
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.stops import STOPS
from neogenesis.app.theme.look import look
from neogenesis.app.words import when
from neogenesis.bench.records.opening import open_records
from neogenesis.core.job import Glance, Job
from tests.test_window import plan as make_plan
from tests.test_window import slow, survey

Open = Callable[[Path], MainWindow]
NOW = datetime(2026, 11, 26, 14, 30)


def job(ticket: str, promise: str = "", **more: object) -> Job:
    return Job(ticket=ticket, customer="Gullhaven Pilots' Office", machine="Petrel 14", promise=promise, **more)


JOBS = [
    job("T-1", "2026-11-29 16:00"),
    job("T-2", "2026-11-26 14:00", wish="More room for charts"),
    job("T-3", "2026-11-25 17:00", closed=True),
    job("T-4"),
    job("T-5", "2026-12-24 12:00", stop="transfer"),
    job("T-6", "when the ferry is in"),
]


GLANCES = {
    "T-1": Glance("2026-11-26T08:30:00+00:00", "survey", "Survey given up", frozenset({"ada", "ben"})),
    "T-2": Glance("2026-11-25T08:30:00+00:00", "note", "Hinge is loose", frozenset({"ben"})),
}


def rows(busy: str = "") -> list[JobRow]:
    return rows_of(
        JOBS,
        lambda j: busy if j.ticket == "T-1" else "",
        lambda j: (None, None),
        lambda j: STOPS[j.stop].next_step,
        NOW,
        GLANCES,
        "ada",
    )


def test_overdue_comes_first_and_what_is_handed_over_last() -> None:
    found = rows()
    assert [r.job.ticket for r in found] == ["T-2", "T-1", "T-5", "T-4", "T-6", "T-3"]
    assert [r.overdue for r in found] == [True, False, False, False, False, False]
    assert found[0].promise == "overdue since today, 14:00" and found[3].promise == "no promise"
    assert found[4].promise == "promised when the ferry is in"
    assert (found[-1].headline, found[-1].tone) == ("Handed over", "good")
    assert rows("Transfer under way")[1].headline == "Transfer under way"
    assert "Copy and check" in found[2].spoken and "T-5" in found[2].spoken


def test_mine_and_waiting_and_what_a_logbook_says_last() -> None:
    found = rows("Transfer under way")
    assert [r.job.ticket for r in wanted(found, "mine", "")] == ["T-1"]
    assert [r.job.ticket for r in wanted(found, "waiting", "")] == ["T-2", "T-5", "T-4", "T-6"]
    latest = {r.job.ticket: r.latest for r in found}
    assert latest["T-1"].endswith("  Survey given up") and latest["T-1"].startswith("today, ")
    assert latest["T-2"].startswith("yesterday, ") and latest["T-4"] == ""


def test_a_few_jobs_say_more_and_many_less(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    store = open_records(small_bench / "bench")
    for number in range(3):
        store.add(job(f"T-{20 + number}"))
    store.append("T-7", "2026-11-26T08:30:00+00:00", "ben", "note", "Hinge is loose")
    store.close()
    window = open_window(small_bench)
    view = window.jobs_view
    qtbot.wait(50)
    few = view.list.sizeHintForRow(0)
    window.bench.record("T-7", "survey-stopped", "Survey given up")
    window.bench.jobs_changed.emit()
    shown = next(r for r in view.model.rows if r.job.ticket == "T-7")
    assert shown.latest.endswith("Survey given up") and shown.mine
    for number in range(20):
        window.bench.store.add(job(f"T-{40 + number}"))
    window.bench.jobs_changed.emit()
    assert view.list.sizeHintForRow(0) < few and len(view.model.rows) == 24
    view.search.setText("T-7")
    assert view.list.sizeHintForRow(0) == few


@pytest.mark.parametrize(
    ("show", "words", "tickets"),
    [
        ("all", "", "T-2 T-1 T-5 T-4 T-6 T-3"),
        ("open", "", "T-2 T-1 T-5 T-4 T-6"),
        ("overdue", "", "T-2"),
        ("closed", "", "T-3"),
        ("all", "CHARTS petrel", "T-2"),
        ("all", "copy", "T-5"),
        ("all", "nobody", ""),
    ],
)
def test_what_is_shown(show: str, words: str, tickets: str) -> None:
    assert " ".join(r.job.ticket for r in wanted(rows(), show, words)) == tickets


def test_days_are_said_as_people_say_them() -> None:
    said = [
        when(text, NOW) for text in ("2026-11-26 09:05", "2026-11-27 16:00", "2026-11-25", "2027-01-02 08:00", "soon")
    ]
    assert said == ["today, 09:05", "tomorrow, 16:00", "yesterday", "2 Jan 2027, 08:00", "soon"]


def test_the_week_names_every_promise_once() -> None:
    days = days_of(JOBS, NOW)
    assert [(d.title, d.tickets) for d in days if d.tickets] == [
        ("Overdue", ("T-2",)),
        ("Sun 29", ("T-1",)),
        ("Later", ("T-5",)),
    ]
    assert len(days_of([], NOW)) == 7


def shown_colours(image: QImage) -> set[str]:
    return {QColor(image.pixel(x, y)).name() for x in range(0, image.width(), 3) for y in range(0, image.height(), 2)}


@pytest.mark.parametrize(("theme", "percent"), [("day", 100), ("night", 150)])
def test_list_strip_and_week_are_painted(
    small_bench: Path, open_window: Open, qtbot: QtBot, theme: str, percent: int
) -> None:
    store = open_records(small_bench / "bench")
    store.update("T-7", promise="2020-01-01 10:00")
    store.close()
    window = open_window(small_bench)
    if theme == "night":
        window.appearance.switch_theme()
    while window.appearance.settings.percent < percent:
        window.appearance.scale(1)
    qtbot.wait(50)
    view = window.jobs_view
    area = view.list.visualRect(view.model.index(0))
    assert area.height() > 3 * look().metrics().height() and area.width() <= view.list.viewport().width()
    seen = shown_colours(view.list.grab().toImage())
    for token in ("ink", "accent", "stop"):
        assert look().colour(token).name() in seen, token
    assert look().colour("stop").name() in shown_colours(window.rail.week.grab().toImage())
    line = RunningLine()
    qtbot.addWidget(line)
    line.resize(700, 40)
    line.show_running(Running("T-7", "copies", 0.5, "81 MB/s", "ends 15:09–15:20"))
    image = line.grab().toImage()
    middle = image.height() // 2
    bar = [QColor(image.pixel(x, middle)).name() for x in range(image.width())]
    full, empty = bar.count(look().colour("accent").name()), bar.count(look().colour("free").name())
    assert full > 50 and abs(full - empty) < 0.25 * full
    assert line.accessibleName() == "T-7, copies, 50 %, 81 MB/s, ends 15:09–15:20"
    look().set(theme="day", percent=100)


def test_by_keyboard_from_a_search_to_a_job_and_what_runs_is_in_sight(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    make_plan(qtbot, window)
    slow(small_bench, 2e7)
    window.job.transfer.start("41F2", "none")
    qtbot.waitUntil(lambda: window.job.transfer.progress.copied_bytes > 0, timeout=30_000)
    window.show_jobs()
    strip = window.jobs_view.running
    qtbot.waitUntil(lambda: len(strip.lines) == 1 and "MB/s" in strip.lines[0].shown.pace, timeout=10_000)
    assert strip.lines[0].shown.ticket == "T-7" and strip.lines[0].shown.share
    qtbot.keyClicks(window.jobs_view.search, "nothing like it")
    assert window.jobs_view.model.rows == []
    window.jobs_view.search.clear()
    qtbot.keyClicks(window.jobs_view.search, "pilots")
    qtbot.keyClick(window.jobs_view.search, Qt.Key.Key_Return)
    qtbot.keyClick(window.jobs_view.list, Qt.Key.Key_Return)
    assert window.job is not None and window.job.ticket == "T-7"
    window.job.transfer.stop()
    qtbot.waitUntil(lambda: not window.job.transfer.is_active, timeout=20_000)
    window.show_jobs()
    assert not strip.isVisible()
    place = window.jobs_view.list.visualRect(window.jobs_view.model.index(0)).center()
    qtbot.mouseClick(window.jobs_view.list.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(place))
    assert window.job is not None


def test_a_job_is_changed_archived_removed_and_brought_back(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.show_jobs()
    view = window.jobs_view
    qtbot.keyClick(view.list, Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier)
    sheet = window.findChild(JobSheet)
    assert sheet is not None and sheet.ticket == "T-7" and sheet.form.fields["ticket"].widget.isReadOnly()
    sheet.form.fields["contact"].widget.setText("harbour 12")
    sheet.form.fields["promise"].known.setChecked(True)
    sheet.form.fields["promise"].edit.setDateTime(QDateTime(datetime(2027, 3, 4, 15, 30)))
    qtbot.keyClick(sheet.form.fields["contact"].widget, Qt.Key.Key_Return)
    job = window.bench.store.job("T-7")
    assert (job.contact, job.promise) == ("harbour 12", "2027-03-04 15:30")
    assert window.bench.store.log("T-7")[-1].text == "Job changed: contact was “”; promise was “”"
    qtbot.keyClicks(view.search, "harbour")
    assert len(view.model.rows) == 1
    view.search.clear()

    def do(title: str) -> None:
        menu = view.menu_for(view.model.rows[0])
        next(a for a in menu.actions() if a.text() == title).trigger()

    asked: list[QPoint] = []
    view.list.menu_asked.disconnect()
    view.list.menu_asked.connect(asked.append)
    middle = view.list.rect().center()
    press = QContextMenuEvent(QContextMenuEvent.Reason.Keyboard, middle, view.list.mapToGlobal(middle))
    QApplication.sendEvent(view.list.viewport(), press)
    assert view.list.indexAt(asked[0]) == view.list.currentIndex() and view.chosen is not None
    do("Archive")
    assert view.model.rows == []
    view.which.setCurrentIndex(view.which.findData("archived"))
    do("Back on the list")
    view.which.setCurrentIndex(0)
    do("Remove from the list")
    assert view.model.rows == [] and view.undo.isVisible()
    assert window.bench.store.jobs() == [] and window.bench.store.dossier("T-7").is_dir()
    qtbot.mouseClick(view.undo, Qt.MouseButton.LeftButton)
    assert [r.job.ticket for r in view.model.rows] == ["T-7"] and not view.undo.isVisible()
    window.bench.update("T-7", closed=True)
    do("Reopen")
    assert not window.bench.store.job("T-7").closed and window.bench.store.broken_entry("T-7") is None
