"""The demo's first job done in the real window with keyboard and mouse, from survey to report, by the real worker."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from neogenesis.app.handover.view import HandoverView
from neogenesis.app.plan.view import PlanView
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.transfer.view import TransferView
from neogenesis.core.job.old_drive import save_kept
from neogenesis.core.units import GIB
from tests.bench.probe import Probe
from tests.drives import data_hash, run, table_of

NONE = Qt.KeyboardModifier.NoModifier
CTRL, ALT, SHIFT = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.AltModifier,
    Qt.KeyboardModifier.ShiftModifier,
)


def key(qtbot: QtBot, widget: QWidget, code: Qt.Key, modifiers: Qt.KeyboardModifier = NONE) -> None:
    qtbot.keyClick(QApplication.focusWidget() or widget, code, modifiers)


@pytest.fixture
def demo(demo_original: Path, tmp_path: Path) -> Path:
    run("cp", "-r", "--sparse=always", demo_original, tmp_path / "demo")
    for file in (tmp_path / "demo").rglob("*.json"):
        text = file.read_text()
        file.write_text(text.replace(str(demo_original), str(tmp_path / "demo")))
    with sqlite3.connect(tmp_path / "demo/bench/jobs.db") as database:
        for field in ("old_drive", "new_drive"):
            database.execute(
                f"update job set {field} = replace({field}, ?, ?)", (str(demo_original), f"{tmp_path}/demo")
            )
    database.close()
    return tmp_path / "demo"


@pytest.mark.timeout(400)
@pytest.mark.skipif(not os.environ.get("NEOGENESIS_LONG"), reason="takes a minute: make test-long")
def test_first_demo_job_from_survey_to_report(
    demo: Path, open_window: Callable[[Path], MainWindow], qtbot: QtBot, record_property: Callable[[str, object], None]
) -> None:
    old_image, new_image = demo / "drives/ferry-desk.img", demo / "drives/ferry-new.img"
    before = data_hash(old_image)
    window = open_window(demo)
    tickets = [r.job.ticket for r in window.jobs_view.model.rows]
    assert tickets[0] == "T-1049" and tickets[-1] == "T-1041" and len(tickets) == 13
    window.jobs_view.focus_on("T-1042")
    key(qtbot, window, Qt.Key.Key_Return)
    job = window.job
    assert job is not None and job.ticket == "T-1042" and window.stop == "survey"

    key(qtbot, window, Qt.Key.Key_Return, CTRL)
    qtbot.waitUntil(lambda: job.survey.state == "done", timeout=30_000)
    record = job.survey.record
    assert record is not None
    assert [p.role for p in record.partitions] == ["startup", "reserved", "system", "recovery", "data"]

    key(qtbot, window, Qt.Key.Key_5, ALT)
    qtbot.waitUntil(lambda: job.plan.state == "ready", timeout=30_000)
    plan_with_keyboard_and_mouse(qtbot, window)
    key(qtbot, window, Qt.Key.Key_S, CTRL)
    assert job.plan.is_written and (job.dossier / "plan.json").exists()

    key(qtbot, window, Qt.Key.Key_6, ALT)
    view = window.views["transfer"]
    assert isinstance(view, TransferView)
    view.gates.tail.setFocus()
    qtbot.keyClicks(view.gates.tail, "9K3D")  # that is the old drive
    assert not view.gates.start.isEnabled()
    view.gates.tail.clear()
    qtbot.keyClicks(view.gates.tail, "41f2")
    assert view.gates.start.isEnabled() and not view.gates.start.isDefault()
    key(qtbot, window, Qt.Key.Key_Return)
    assert job.transfer.state == "ready", "Return in the field alone writes nothing"
    key(qtbot, window, Qt.Key.Key_Space)
    probe = Probe()
    probe.start()
    qtbot.waitUntil(lambda: job.transfer.progress.copied_bytes > 5 * GIB, timeout=90_000)
    assert view.running.pause.hasFocus()
    key(qtbot, window, Qt.Key.Key_P, CTRL)
    qtbot.waitUntil(lambda: job.transfer.state == "paused", timeout=10_000)
    at_rest = job.transfer.progress.copied_bytes
    qtbot.wait(400)
    assert job.transfer.progress.copied_bytes == at_rest
    key(qtbot, window, Qt.Key.Key_P, CTRL)
    qtbot.waitUntil(lambda: job.transfer.progress.copied_bytes > at_rest, timeout=20_000)
    probe.stop()

    window.close()  # the worker goes on
    second = open_window(demo)
    second.open_job("T-1042")
    again = second.job
    assert again is not None
    assert again.transfer.state == "running" and again.transfer.progress.copied_bytes >= at_rest
    assert again.plan.state == "locked"
    probe.start()
    qtbot.waitUntil(lambda: again.transfer.state == "done", timeout=240_000)
    probe.stop()
    record_property("longest_pause_ms", round(probe.worst_s * 1000))
    assert probe.worst_s < 1.0, "the window stood still"

    assert [p["size"] for p in table_of(new_image)["partitions"]]
    assert "No errors" in run("sfdisk", "--verify", new_image)
    assert data_hash(old_image) == before, "not one byte of the old drive changed"
    hand_over(qtbot, second)


def plan_with_keyboard_and_mouse(qtbot: QtBot, window: MainWindow) -> None:
    job, view = window.job, window.views["plan"]
    assert job is not None and isinstance(view, PlanView)
    model = job.plan

    def size(number: int) -> int:
        assert model.plan is not None
        found = model.plan.layout.partition(number)
        return found.size_bytes if found else 0

    first = model.policy
    system, papers = size(3), size(5)
    view.canvas.setFocus()
    view.canvas.choose(4)
    key(qtbot, window, Qt.Key.Key_Down)
    assert view.canvas.chosen == 5
    key(qtbot, window, Qt.Key.Key_Right, SHIFT)
    assert size(5) // GIB * GIB == (papers + 10 * GIB) // GIB * GIB and size(3) < system
    key(qtbot, window, Qt.Key.Key_Space)
    assert model.plan is not None and model.plan.left_behind == (5,)
    key(qtbot, window, Qt.Key.Key_Z, CTRL)
    key(qtbot, window, Qt.Key.Key_Z, CTRL)
    assert model.policy == first and size(5) == papers
    key(qtbot, window, Qt.Key.Key_Z, CTRL | SHIFT)
    assert size(5) > papers
    key(qtbot, window, Qt.Key.Key_Z, CTRL)

    grip = next(p for p in view.canvas._columns()[1] if p.stratum.number == 3).rect
    start = QPoint(round(grip.center().x()), round(grip.bottom() + 1))
    qtbot.mousePress(view.canvas, Qt.MouseButton.LeftButton, pos=start)
    qtbot.mouseMove(view.canvas, start - QPoint(0, 20))
    qtbot.mouseMove(view.canvas, start - QPoint(0, 40))
    qtbot.mouseRelease(view.canvas, Qt.MouseButton.LeftButton, pos=start - QPoint(0, 40))
    assert size(3) < system and size(3) + size(5) == system + papers
    key(qtbot, window, Qt.Key.Key_Z, CTRL)
    assert size(3) == system, "one drag is one step"

    view.canvas.choose(3)
    key(qtbot, window, Qt.Key.Key_Return)
    assert view.size_field.hasFocus()
    view.size_field.clear()
    qtbot.keyClicks(view.size_field, "300 GiB")
    key(qtbot, window, Qt.Key.Key_Return)
    assert size(3) == 300 * GIB
    key(qtbot, window, Qt.Key.Key_Return)
    view.size_field.clear()
    qtbot.keyClicks(view.size_field, "3 GiB")
    key(qtbot, window, Qt.Key.Key_Return)
    assert model.refusal is not None and "needs at least" in model.refusal.text
    assert not view.write.isEnabled()
    for _ in range(2):
        model.undo()
    assert model.policy == first and model.refusal is None


def hand_over(qtbot: QtBot, window: MainWindow) -> None:
    job = window.job
    assert job is not None
    key(qtbot, window, Qt.Key.Key_9, ALT)
    view = window.views["handover"]
    assert isinstance(view, HandoverView) and view.print.isEnabled()
    view.after.setFocus()
    qtbot.keyClicks(view.after, "36")
    key(qtbot, window, Qt.Key.Key_Return)
    improvement = job.handover.improvement
    assert improvement is not None and f"{improvement.ratio:.1f}" == "5.5" and round(improvement.saved_percent) == 82
    key(qtbot, window, Qt.Key.Key_R, CTRL)
    pdf = Path(job.handover.pdf_path).read_bytes()
    assert pdf.startswith(b"%PDF") and len(pdf) > 20_000
    assert Path(job.handover.picture_path).read_bytes().startswith(b"\x89PNG")
    qtbot.mouseClick(view.close_job, Qt.MouseButton.LeftButton)
    assert job.job.closed
    kinds = [e.kind for e in job.log()]
    for kind in ("survey", "plan", "transfer-start", "transfer-done", "measure", "report", "handover"):
        assert kinds.count(kind) == 1, kinds
    assert window.bench.store.broken_entry("T-1042") is None


def test_an_old_drive_that_stays_is_reminded_of_and_never_wiped_on_the_day(
    small_bench: Path, open_window: Callable[[Path], MainWindow], qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    window.job.intake.later(old_parts="kept", kept_weeks=2)
    window.job.handover.hand_over()
    view = window.views["handover"]
    window.show_stop("handover")
    assert view.wiped.isVisible() and window.job.handover.kept_drive.drive == "Halden 500 HD5-00009K3D"
    view.wiped.click()
    assert "not wiped on the day" in view._said.text() and not window.job.handover.kept_drive.ended
    assert window.bench.drives_due() == {}
    kept = window.job.handover.kept_drive
    save_kept(window.job.dossier, msgspec.structs.replace(kept, since="2026-01-02", until="2026-01-16"))
    assert window.bench.drives_due() == {"T-7": "2026-01-16"}
    window.show_jobs()
    row = window.jobs_view.model.rows[0]
    assert row.tone == "stop" and "kept until" in row.headline and row.drive_due
    window.open_job("T-7")
    view = window.views["handover"]
    view.wiped.click()
    assert window.job.handover.kept_drive.ended == "wiped" and window.bench.drives_due() == {}
    assert window.job.log()[-1].kind == "old-drive" and not view.wiped.isVisible()
