"""The real window on small simulated benches: what goes wrong, what goes away, and whether everything fits."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QApplication, QLabel, QListView, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from neogenesis.app.command.field import CommandField, everything
from neogenesis.app.handover.view import HandoverView
from neogenesis.app.jobs.sheet import JobSheet
from neogenesis.app.parts.controls import Elided
from neogenesis.app.plan.view import INTENT_NAMES, PlanView
from neogenesis.app.shell.help import HelpOverlay
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.survey.view import SurveyView
from neogenesis.app.transfer.view import TransferView
from neogenesis.bench.processes import worker
from neogenesis.bench.records.opening import open_records
from neogenesis.core.job import ROUTE, Job
from tests.drives import LINUX, Part, blank, check_volume, data_hash, is_blank, make_drive, set_docks, simulated, spans

Open = Callable[[Path], MainWindow]


def survey(qtbot: QtBot, window: MainWindow, ticket: str = "T-7") -> None:
    window.open_job(ticket)
    assert window.job is not None
    window.show_stop("survey")
    window.job.survey.start()
    qtbot.waitUntil(lambda: window.job.survey.state == "done", timeout=30_000)


def plan(qtbot: QtBot, window: MainWindow, write: bool = True) -> None:
    window.show_stop("plan")
    qtbot.waitUntil(lambda: window.job.plan.state == "ready", timeout=30_000)
    if write:
        window.job.plan.write()


def transfer_view(window: MainWindow) -> TransferView:
    view = window.views["transfer"]
    assert isinstance(view, TransferView)
    return view


def texts(window: MainWindow) -> str:
    """Every text that can be read in the window now."""
    shown = [w for w in window.findChildren(QLabel) if w.isVisibleTo(window)]
    words = [w.whole() if isinstance(w, Elided) else w.text() for w in shown]
    for view in window.findChildren(QListView):
        if view.isVisibleTo(window):
            words += [str(view.model().index(n, 0).data()) for n in range(view.model().rowCount())]
    return "\n".join(words)


def slow(bench: Path, rate: float) -> None:
    simulated(
        bench / "old.drive.json",
        "old.img",
        model="Halden 500",
        serial="HD5-00009K3D",
        clock="real",
        read={"bytes_per_s": rate},
    )


def drop_files(widget: QWidget, *paths: Path) -> None:
    """Files dragged onto it with the mouse."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    middle, copy = widget.rect().center(), Qt.DropAction.CopyAction
    buttons, keys = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    entered = QDragEnterEvent(middle, copy, data, buttons, keys)
    QApplication.sendEvent(widget, entered)
    assert entered.isAccepted()
    dropped = QDropEvent(QPointF(middle), copy, data, buttons, keys)
    QApplication.sendEvent(widget, dropped)
    assert dropped.isAccepted()


def test_worker_killed_under_the_window_and_resumed(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    slow(small_bench, 3e7)
    window.show_stop("transfer")
    job, view = window.job, transfer_view(window)
    job.transfer.start("41F2")
    qtbot.waitUntil(lambda: job.transfer.progress.copied_bytes > 4_000_000, timeout=40_000)
    process = worker.running_worker(job.transfer.path)
    assert process is not None
    os.kill(process, signal.SIGKILL)
    qtbot.waitUntil(lambda: job.transfer.state == "stopped", timeout=10_000)
    assert "cut off" in texts(window) and "untouched" in texts(window)
    slow(small_bench, 5e8)
    qtbot.keyClicks(view.ended.tail, "41F2")
    assert view.ended.resume.isEnabled() and view.ended.resume.text().startswith("Go on")
    assert view.ended.unused.isVisible() and not view.ended.unused.isChecked()
    view.ended.unused.click()
    qtbot.mouseClick(view.ended.resume, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: job.transfer.state == "done", timeout=60_000)
    assert [e.kind for e in job.log()].count("transfer-done") == 1
    assert [e.figures.get("unused") for e in job.log() if e.kind == "transfer-start"] == [None, True]
    assert '["unused"]' in job.transfer.files.journal.read_text()
    for number, kind in ((2, "ntfs"), (4, "ext4")):
        check_volume(small_bench / "new.img", *spans(small_bench / "new.img")[number], kind, small_bench)


def test_stopped_in_the_window_then_planned_anew(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    before = data_hash(small_bench / "old.img")
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    slow(small_bench, 2e7)
    window.show_stop("transfer")
    job = window.job
    job.transfer.start("41F2")
    qtbot.waitUntil(lambda: job.transfer.progress.copied_bytes > 0, timeout=40_000)
    job.transfer.stop()
    qtbot.waitUntil(lambda: job.transfer.state == "stopped", timeout=20_000)
    assert job.transfer.can_resume
    assert data_hash(small_bench / "old.img") == before
    window.show_stop("plan")
    qtbot.waitUntil(lambda: job.plan.state == "ready", timeout=30_000)
    job.plan.change(grow="none")
    job.plan.write()
    assert job.transfer.state == "ready", "another plan begins from the start"


def test_pulled_drive_leaves_a_ghost_and_comes_back(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    tag = window.bench.dock_named(str(small_bench / "old.drive.json")).tag
    survey(qtbot, window)
    plan(qtbot, window)
    window.show_stop("transfer")
    view = transfer_view(window)
    qtbot.keyClicks(view.gates.tail, "41F2")
    assert view.gates.start.isEnabled()
    set_docks(small_bench, [None, "new.drive.json", None, None])
    qtbot.waitUntil(lambda: not window.job.old_dock().present, timeout=8_000)
    qtbot.waitUntil(lambda: "not connected" in texts(window), timeout=5_000)
    assert not view.gates.start.isEnabled()
    ghost = next(c for c in window.shelf.cards if c.dock.docked and not c.dock.present)
    assert ghost.dock.tag == tag
    set_docks(small_bench, [None, "new.drive.json", "old.drive.json", None])
    qtbot.waitUntil(lambda: window.job.old_dock().present, timeout=8_000)
    assert window.job.old_dock().tag == tag and view.gates.start.isEnabled()


def test_closed_gate_shows_why_and_cannot_be_passed(tmp_path: Path, open_window: Open, qtbot: QtBot) -> None:
    make_drive(
        tmp_path / "old.img", 300, [Part(120, LINUX, "ext4", "root", {"etc/fstab": b"\n"}), Part(0, LINUX, "luks")]
    )
    blank(tmp_path / "new.img", 600)
    simulated(tmp_path / "old.drive.json", "old.img", serial="OLD00001")
    simulated(tmp_path / "new.drive.json", "new.img", serial="NEW00002")
    set_docks(tmp_path, ["old.drive.json", "new.drive.json"])
    store = open_records(tmp_path / "bench")
    store.add(
        Job(
            ticket="T-7",
            customer="c",
            machine="m",
            old_drive=str(tmp_path / "old.drive.json"),
            new_drive=str(tmp_path / "new.drive.json"),
        )
    )
    store.close()
    window = open_window(tmp_path)
    survey(qtbot, window)
    qtbot.waitUntil(lambda: "encrypted" in texts(window))  # new labels show a moment later
    plan(qtbot, window, write=False)
    window.job.plan.change(grow=2)
    window.job.plan.write()
    window.show_stop("transfer")
    view = transfer_view(window)
    qtbot.keyClicks(view.gates.tail, "0002")
    assert not view.gates.start.isEnabled() and "encrypted" in texts(window)
    assert is_blank(tmp_path / "new.img")


def test_unreadable_database_is_kept_aside_and_said(small_bench: Path, open_window: Open) -> None:
    file = small_bench / "bench/jobs.db"
    file.write_bytes(b"tide and time" * 1000)
    window = open_window(small_bench)
    assert "could not be read" in texts(window) and window.jobs_view.model.rows == []
    assert (small_bench / "bench/jobs.db.unreadable-1").read_bytes() == b"tide and time" * 1000


def test_damaged_records_of_a_job_are_sentences_not_crashes(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    window.show_jobs()
    dossier = small_bench / "bench/jobs/T-7"
    (dossier / "plan.json").write_text('{"schema": "neogenesis.plan/1", "intent"')
    window.open_job("T-7")
    window.show_stop("transfer")
    assert "no plan yet" in texts(window)
    window.show_stop("plan")
    qtbot.waitUntil(lambda: window.job.plan.state == "ready", timeout=30_000)
    window.job.plan.write()
    (dossier / "plan.manifest.json").write_text("[]")
    window.show_stop("handover")
    assert "manifest" in texts(window) and "damaged" in texts(window)


def test_changed_logbook_is_noticed(small_bench: Path, open_window: Open) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    window.job.note("survey", "Screw missing at the hinge")
    window.job.note("survey", "Customer called")
    with sqlite3.connect(small_bench / "bench/jobs.db") as database:
        database.execute("update log set text = 'Nothing was missing' where number = 1")
    database.close()
    window.show_jobs()
    window.open_job("T-7")
    assert "Entry 1 was changed" in texts(window)


def test_new_job_by_keyboard_and_its_refusals(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.sheets.new_job()
    sheet = window.findChild(JobSheet)
    assert sheet is not None
    qtbot.keyClicks(sheet.form.fields["ticket"].widget, "T-7")
    qtbot.keyClick(sheet.form.fields["ticket"].widget, Qt.Key.Key_Return)
    assert sheet.isVisible() and any("already" in w.text() for w in sheet.findChildren(QLabel))
    name = "Ærø 𓀀 Ωμέγα 鷗 🜃 ‮drawkcab"
    sheet.form.fields["ticket"].widget.setText("T-8/ü")
    sheet.form.fields["customer"].widget.setText(name)
    qtbot.keyClick(sheet.form.fields["ticket"].widget, Qt.Key.Key_Return)
    assert window.job is not None and window.job.job.customer == name
    assert window.job.dossier.parent == small_bench / "bench/jobs"
    view = window.views["survey"]
    assert isinstance(view, SurveyView) and len(view.choice.buttons) == 2
    qtbot.mouseClick(next(iter(view.choice.buttons.values())), Qt.MouseButton.LeftButton)
    assert window.job.survey.state == "ready"


def test_command_field_and_help_reach_everything(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    qtbot.keyClick(window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    field = window.findChild(CommandField)
    assert field is not None
    qtbot.keyClicks(field.field, "pilots")
    qtbot.keyClick(field.field, Qt.Key.Key_Return)
    assert window.job is not None and window.job.ticket == "T-7"
    found = {f.title for f in everything(window)}
    assert {"Halden 500 ··9K3D", "Go to Plan", "Note for the logbook"} <= found
    for stop in ("survey", "plan", "transfer", "handover"):
        window.show_stop(stop)
        window.sheets.show_help()
        overlay = next(o for o in window.findChildren(HelpOverlay) if o.isVisible())
        said = [w.text() for w in overlay.findChildren(QLabel)]
        here = {a.shortcut for a in window.actions_.here() if a.shortcut}
        assert all(s in said for s in here if not s.startswith("Alt+") or s == "Alt+0")
        assert ("Ctrl+S" in said) == (stop == "plan") and ("Ctrl+R" in said) == (stop == "handover")
        qtbot.keyClick(overlay, Qt.Key.Key_Escape)
        assert not overlay.isVisible()


def everywhere(window: MainWindow, qtbot: QtBot) -> list[str]:
    """Go to every stop; returns what does not fit there."""
    faults = []
    for stop in ("jobs", *(s.key for s in ROUTE)):
        if stop == "jobs":
            window.show_jobs()
        else:
            if window.job is None:
                window.open_job("T-7")
            window.show_stop(stop)
        qtbot.wait(30)
        if window.minimumSizeHint().width() > window.width() or window.minimumSizeHint().height() > window.height():
            faults.append(f"{stop}: the window needs {window.minimumSizeHint()}")
        wide = window.centre.minimumSizeHint().width()
        there = window.centre.parentWidget().parentWidget().width()
        if wide > there:
            faults.append(f"{stop}: needs {wide} of {there} pixels")
        for button in window.findChildren(QPushButton):
            if (
                button.isVisible()
                and button.text()
                and button.width() < button.fontMetrics().horizontalAdvance(button.text())
            ):
                faults.append(f"{stop}: “{button.text()}” is cut")
    return faults


@pytest.mark.parametrize("percent", [100, 125, 150])
@pytest.mark.parametrize("docks", [4, 12])
def test_everything_fits_the_smallest_window(
    percent: int, docks: int, small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    names: list[str | None] = ["old.drive.json", "new.drive.json"]
    for number in range(docks - 2):
        blank(small_bench / f"d{number}.img", 64)
        simulated(
            small_bench / f"d{number}.drive.json", f"d{number}.img", model=f"Ostrel {number}", serial=f"OS-{number:08}"
        )
        names.append(f"d{number}.drive.json")
    set_docks(small_bench, names)
    window = open_window(small_bench)
    window.resize(1024, 720)
    survey(qtbot, window)
    plan(qtbot, window)
    for _ in range({100: 0, 125: 1, 150: 2}[percent]):
        window.appearance.scale(1)
    assert len(window.shelf.cards) == docks
    assert everywhere(window, qtbot) == []


def test_look_and_logbook_are_remembered(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    assert not window.logbook.isHidden()
    window.appearance.switch_theme()
    window.switch_logbook()
    assert window.logbook.isHidden()
    window.close()
    second = open_window(small_bench)
    second.open_job("T-7")
    assert second.appearance.settings.theme == "night" and second.logbook.isHidden()
    assert json.loads((small_bench / "bench/window.json").read_text())["theme"] == "night"


def test_two_windows_cannot_transfer_to_one_drive(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    first = open_window(small_bench)
    survey(qtbot, first)
    plan(qtbot, first)
    slow(small_bench, 2e7)
    second = open_window(small_bench)
    second.open_job("T-7")
    first.job.transfer.start("41F2")
    qtbot.waitUntil(lambda: first.job.transfer.state == "running", timeout=20_000)
    second.job.transfer.start("41F2")
    assert second.job.transfer.state == "running", "it watches the first one instead"
    process = worker.running_worker(first.job.transfer.path)
    qtbot.waitUntil(lambda: second.job.transfer.progress.copied_bytes > 0, timeout=20_000)
    assert worker.running_worker(first.job.transfer.path) == process
    first.job.transfer.stop()
    qtbot.waitUntil(lambda: first.job.transfer.state == "stopped", timeout=20_000)
    assert first.job.transfer.can_resume


def test_plan_again_keeps_the_earlier_records(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    window.job.transfer.start("41F2", "none")
    qtbot.waitUntil(lambda: window.job.transfer.state == "done", timeout=60_000)
    window.show_stop("handover")
    view = window.views["handover"]
    assert isinstance(view, HandoverView) and "not read back" in texts(window)
    window.show_stop("plan")
    plan_view = window.views["plan"]
    assert isinstance(plan_view, PlanView) and window.job.plan.state == "locked"
    qtbot.mouseClick(plan_view.again, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.job.plan.state == "ready", timeout=30_000)
    assert (window.job.dossier / "earlier-1/plan.manifest.json").exists()
    assert any("System" in h or "Meridian" in h for h in window.job.plan.plan.target.holds)
    window.job.plan.write()
    window.show_stop("transfer")
    assert "will be lost" in texts(window) and "Meridian" in texts(window)
    assert QApplication.activeWindow() is window


def test_every_intent_can_be_planned_in_the_window(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window, write=False)
    view = window.views["plan"]
    assert isinstance(view, PlanView)
    numbers = {}
    for index in range(len(INTENT_NAMES)):  # device classes come behind them
        view.intent.setCurrentIndex(index)
        view.intent.activated.emit(index)
        made = window.job.plan.plan
        assert made is not None and made.intent == view.intent.itemData(index) and window.job.plan.refusal is None
        numbers[made.intent] = [p.number for p in made.layout.partitions]
        view.canvas.toggled.emit(5)
        if made.intent in ("exact", "beside"):
            assert window.job.plan.plan == made and not view.growth.isEnabled()
        else:
            window.job.plan.undo()
    made = {"replace": [1, 2, 3, 5, 4], "split": [1, 2, 3, 4], "exact": [1, 2, 3, 4, 5], "beside": [1]}
    assert numbers == {**made, "fresh": [1, 2, 3, 4]}
    for _ in range(5):
        window.job.plan.undo()
    assert window.job.plan.policy.intent == "replace"
