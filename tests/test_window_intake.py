"""The Intake stop in the real window: a telephone call by keyboard, a kill in the middle of it, photographs, gates."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QImage, QInputMethodEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLineEdit
from pytestqt.qtbot import QtBot

from neogenesis.app.intake.photographs import WatchedFolder, look_at
from neogenesis.app.intake.runs import runs_scene
from neogenesis.app.intake.shores import shores_scene
from neogenesis.app.intake.stopwatch import Stopwatch
from neogenesis.app.intake.view import IntakeView
from neogenesis.app.jobs.sheet import JobSheet
from neogenesis.app.shell.window import MainWindow
from neogenesis.core.intake import START_UP, Intake, Run, load_intake
from neogenesis.core.intake.change import struck, with_belongings, with_run, with_valuable
from neogenesis.core.job import Job
from tests.test_window import Open, drop_files, plan, survey, texts, transfer_view


def intake_view(window: MainWindow) -> IntakeView:
    window.show_stop("intake")
    view = window.views["intake"]
    assert isinstance(view, IntakeView)
    return view


def type_(text: str) -> None:
    """Into whatever has the keyboard; what no key of this keyboard gives comes from an input method."""
    widget = QApplication.focusWidget()
    assert widget is not None
    for letter in text:
        if letter.isascii():
            QTest.keyClick(widget, letter)
        else:
            event = QInputMethodEvent()
            event.setCommitString(letter)
            QApplication.sendEvent(widget, event)


def press(window: MainWindow, *keys: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
    for key in keys:
        QTest.keyClick(QApplication.focusWidget() or window, key, modifier)


CTRL = Qt.KeyboardModifier.ControlModifier


def next_question(window: MainWindow, qtbot: QtBot) -> None:
    press(window, Qt.Key.Key_J, modifier=CTRL)
    qtbot.wait(5)


@pytest.mark.qt_log_ignore("This plugin does not support", extend=True)
def test_a_call_by_keyboard_from_an_empty_form_to_a_signed_slip(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    press(window, Qt.Key.Key_N, modifier=CTRL)
    sheet = window.findChild(JobSheet)
    assert sheet is not None
    qtbot.waitUntil(sheet.isActiveWindow)
    sheet.form.fields["ticket"].widget.setFocus()
    type_("T-90")
    press(window, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: window.job is not None and window.job.ticket == "T-90" and window.stop == "intake")
    view, job = intake_view(window), window.job
    assert job is not None
    window.activateWindow()
    qtbot.waitUntil(lambda: view.who.customer.hasFocus())
    type_("Ægir Þórsson, Möwe & Söhne 港")
    press(window, Qt.Key.Key_Tab)
    type_("01632 960 114")
    press(window, Qt.Key.Key_Tab)
    type_("petrel")
    press(window, Qt.Key.Key_Tab)
    type_("14")
    press(window, Qt.Key.Key_Tab)
    type_("PT14-40882")
    assert job.intake.match.machine is not None and job.intake.match.machine.title == "Petrel 14"
    next_question(window, qtbot)
    press(window, Qt.Key.Key_Space, Qt.Key.Key_Right, Qt.Key.Key_Right, Qt.Key.Key_Space)  # slow, restarts in a loop
    assert job.intake.intake.symptoms == ("slow", "loop")
    next_question(window, qtbot)
    press(window, Qt.Key.Key_Space)
    assert job.intake.intake.starts == "yes"
    next_question(window, qtbot)
    press(window, Qt.Key.Key_Space)
    assert job.intake.intake.card == "none"
    view.survives.take_keyboard("must-survive")
    press(window, Qt.Key.Key_Space)
    view.survives.take_keyboard("valuables")
    for line in ("charts: in the cloud", "mail"):
        type_(line)
        press(window, Qt.Key.Key_Return)
    view.survives.shores.setFocus()
    press(window, Qt.Key.Key_Down, Qt.Key.Key_Down, Qt.Key.Key_Right)
    assert [(v.what, v.shore) for v in job.intake.intake.valuables] == [("charts", "seen"), ("mail", "here")]
    for code in ("recovery-key", "consent", "accounts", "licences", "old-parts"):
        view.later.take_keyboard(code)
        press(window, Qt.Key.Key_Space)
    view.later.take_keyboard("budget")
    type_("200, ask above")
    view.arrived.take_keyboard("came-with")
    press(window, Qt.Key.Key_Space)
    press(window, Qt.Key.Key_F5)
    qtbot.wait(120)
    press(window, Qt.Key.Key_F5)
    qtbot.wait(120)
    press(window, Qt.Key.Key_F5)
    timing = job.intake.intake.timing(START_UP)
    assert timing is not None and 0.2 <= timing.runs[0].seconds < 30
    assert timing.runs[0].login_s is not None and 0.1 <= timing.runs[0].login_s < timing.runs[0].seconds
    press(window, Qt.Key.Key_Escape)
    assert [a.code for a in job.intake.asks] == ["promise"]
    press(window, Qt.Key.Key_F7)
    slip = job.dossier / "slip.pdf"
    assert slip.stat().st_size > 1000
    words = subprocess.run(["pdftotext", slip, "-"], capture_output=True, text=True, check=True).stdout
    for piece in ("PT14-40882", "charts: in the cloud", "200, ask above", "Möwe", "slow, restarts in a loop"):
        assert piece in words
    window.show_stop("survey")
    assert job.job.customer == "Ægir Þórsson, Möwe & Söhne 港" and job.job.machine == "petrel 14"
    assert any(e.kind == "intake" and e.figures.get("before_s") for e in job.log())


TYPING = """
import sys
from pathlib import Path
from PyQt6.QtCore import QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from neogenesis.app.desk.bench import Bench
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.desk.work import Work
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.drives.docks import SimulatedDocks
from neogenesis.bench.records.opening import open_records
if __name__ == "__main__":
    folder = Path(sys.argv[1])
    application = QApplication(["x"])
    window = MainWindow(Bench("S", open_records(folder / "bench"), SimulatedDocks(folder), Work(), BenchClock()))
    window.show()
    window.open_job("T-7")
    window.show_stop("intake")
    view = window.views["intake"]
    for line in (view.hurts.told, view.survives.add, view.later.budget, view.arrived.more, view.measured.design):
        QTest.keyClicks(line, line.accessibleName()[:9] + " half a wor")
    print("typed", flush=True)
    application.exec()
"""


def test_a_kill_in_the_middle_of_a_word_loses_no_character(
    small_bench: Path, open_window: Open, tmp_path: Path
) -> None:
    script = tmp_path / "call.py"
    script.write_text(TYPING)
    process = subprocess.Popen([sys.executable, script, small_bench], stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None and process.stdout.readline() == "typed\n"
    finally:
        os.kill(process.pid, signal.SIGKILL)
        process.communicate()
    window = open_window(small_bench)
    window.open_job("T-7")
    view = intake_view(window)
    for line in (view.hurts.told, view.survives.add, view.later.budget, view.arrived.more, view.measured.design):
        assert line.text() == line.accessibleName()[:9] + " half a wor"


def test_a_key_that_is_typed_disappears_and_is_nowhere_on_record(small_bench: Path, open_window: Open) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    view = intake_view(window)
    view.later.asked["recovery-key"].chips.chips["somebody"].click()
    QTest.keyClicks(view.later.who, "the office 123456")
    assert view.later.who.text() == "" and "never the key" in view.later.who.fault.text()
    QApplication.clipboard().setText("123456-234567-345678-456789-567890")
    view.hurts.told.paste()
    assert view.hurts.told.text() == "" or "345678" not in view.hurts.told.text()
    QTest.keyClicks(view.hurts.told, "x 123456-234567-345678")
    written = (window.job.dossier / "intake.json").read_text()
    assert "345678" not in written and "123456" not in view.hurts.told.text()


def test_another_look_and_another_job_keep_what_is_typed(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    QTest.keyClicks(intake_view(window).survives.add, "half a th")
    window.appearance.switch_theme()
    assert intake_view(window).survives.add.text() == "half a th"
    window.show_jobs()
    window.open_job("T-7")
    assert intake_view(window).survives.add.text() == "half a th"


def test_a_damaged_intake_is_said_and_kept(small_bench: Path, open_window: Open) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    file = window.job.dossier / "intake.json"
    window.show_jobs()
    file.write_text("{")
    window.open_job("T-7")
    intake_view(window)
    assert "could not be read" in texts(window) and file.with_name("intake.json.unreadable-1").exists()


@pytest.mark.qt_log_ignore("This plugin does not support", extend=True)
def test_the_customer_is_found_again(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.bench.add_job(
        Job(ticket="T-8", customer="Lantern Rock Lighthouse Museum", machine="Petrel 11", contact="960 114")
    )
    window.bench.add_job(Job(ticket="T-9", customer="", machine="", stop="intake"))
    window.open_job("T-9")
    view = intake_view(window)
    QTest.keyClicks(view.who.customer, "960114")
    view.who._chosen(view.who._names.stringList()[0])
    assert view.who.customer.text() == "Lantern Rock Lighthouse Museum" and view.who.contact.text() == "960 114"
    qtbot.waitUntil(lambda: "1 job here before; last T-8, Petrel 11" in texts(window))


def test_a_plate_that_fits_several_machines_is_asked_about(small_bench: Path, open_window: Open) -> None:
    window = open_window(small_bench)
    window.bench.add_job(Job(ticket="T-9", customer="", machine="", stop="intake"))
    window.open_job("T-9")
    view, model = intake_view(window), window.job.intake
    QTest.keyClicks(view.who.make, "Petrel")
    assert {"Petrel 11", "Petrel 14", "Petrel Turn 13"} < set(view.who._which.chips)
    assert "two-machines" in {a.code for a in model.asks}
    view.who._which.chips["Petrel 11"].click()
    assert model.match.machine is not None and model.intake.plate.model == "11"
    QTest.keyClicks(view.who.model, "x")
    QTest.keyClicks(view.who.make, "y")
    view.who.keep.click()
    assert model.match.machine is not None and model.match.machine.title == "Petrely x11"
    assert (window.bench.store.folder / "machines/petrely-x11.machine.json").exists()


def picture(path: Path, wide: int = 900) -> Path:
    image = QImage(wide, 600, QImage.Format.Format_RGB32)
    image.fill(Qt.GlobalColor.darkCyan)
    assert image.save(str(path))
    return path


@pytest.mark.qt_log_ignore("JPEG datastream", "Corrupt JPEG", extend=True)
def test_photographs_by_file_and_from_a_watched_folder(
    small_bench: Path, open_window: Open, qtbot: QtBot, tmp_path: Path
) -> None:
    camera = tmp_path / "camera"
    camera.mkdir()
    picture(camera / "before.png")
    window = open_window(small_bench)
    window.bench.photo_folder = str(camera)
    window.open_job("T-7")
    view, model = intake_view(window), window.job.intake
    picture(camera / "plate.jpg")
    qtbot.waitUntil(lambda: len(model.intake.photographs) == 1, timeout=15_000)
    broken = tmp_path / "broken.jpg"
    broken.write_bytes(b"\xff\xd8\xff\xe0 no more of it")
    drop_files(view.photographs, broken, tmp_path / "missing.jpg")
    qtbot.waitUntil(lambda: len(model.intake.photographs) == 2, timeout=15_000)
    shots = {p.file.partition("-")[0]: p for p in model.intake.photographs}
    assert (shots["plate"].width, shots["plate"].fault) == (900, "") and shots["broken"].fault
    assert (window.job.dossier / "photographs" / shots["broken"].file).read_bytes() == broken.read_bytes()
    qtbot.waitUntil(lambda: "cannot be read" in texts(window))
    shot = view.photographs._shots[shots["plate"].file]
    QTest.keyClicks(shot.caption, "plate, under the battery")
    shot.stop.setCurrentIndex(shot.stop.findData("swap"))
    shot.stop.activated.emit(shot.stop.currentIndex())
    kept = next(p for p in load_intake(window.job.dossier).photographs if p.file == shots["plate"].file)
    assert (kept.caption, kept.stop) == ("plate, under the battery", "swap")
    QApplication.clipboard().setImage(QImage(str(camera / "plate.jpg")))
    view.paste_photograph()
    qtbot.waitUntil(lambda: len(model.intake.photographs) == 3, timeout=15_000)


def test_a_photograph_of_many_pixels_is_only_looked_at_small(tmp_path: Path) -> None:
    shot, small = look_at(picture(tmp_path / "wide.jpg", 12_000))
    assert (shot.width, shot.height) == (12_000, 600) and 0 < len(small) < 200_000


def test_a_folder_that_is_not_there_is_watched_in_vain(tmp_path: Path) -> None:
    WatchedFolder(str(tmp_path / "none"))._look()


def test_the_stopwatch_goes_by_a_clock_that_is_never_set_back(small_bench: Path, open_window: Open) -> None:
    moments = iter((10.0, 170.4, 208.0, 300.0, 350.0))
    watch = Stopwatch(lambda: next(moments))
    assert watch.press("2026-11-26T12:00:00") is None and watch.press("2026-11-26T11:00:00") is None
    assert watch.press("2026-11-26T10:00:00") == Run(seconds=198.0, login_s=160.4, at="2026-11-26T10:00:00")
    watch.with_login = False
    assert watch.press("x") is None
    assert watch.press("y") == Run(seconds=50.0, at="y")


def test_runs_are_drawn_to_scale_and_struck_out_with_a_reason(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    intake = Intake()
    for seconds in (200.0, 100.0, 150.0):
        intake = with_run(intake, START_UP, "before", Run(seconds=seconds, login_s=seconds / 2))
    scene = runs_scene(intake.timing(START_UP), None)
    assert [b.share for b in scene.bars] == [1, 0.5, 0.75] and scene.medians == (("before", 150.0, 0.75),)
    assert runs_scene(None, None).bars == ()
    window = open_window(small_bench)
    window.open_job("T-7")
    view, model = intake_view(window), window.job.intake
    model.put(intake)
    view.show_stopwatch()
    view.watch.strip.setFocus()
    press(window, Qt.Key.Key_Down, Qt.Key.Key_Delete)
    type_("an update ran")
    press(window, Qt.Key.Key_Return)
    assert model.intake == struck(intake, START_UP, "before", 0, "an update ran")
    assert "median 125 s of 2 runs" in view.watch.summary.text()
    view.watch.strip.setFocus()
    press(window, Qt.Key.Key_Delete)
    assert model.intake == intake, "it counts again"


def test_triage_by_number_keys_down_to_the_survey(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    view, model = intake_view(window), window.job.intake
    press(window, Qt.Key.Key_F6)
    for key in (Qt.Key.Key_3, Qt.Key.Key_2, Qt.Key.Key_2):
        press(window, key)
        qtbot.wait(5)
    assert model.course.end is not None and model.course.end.id == "survey-dock"
    press(window, Qt.Key.Key_Backspace)
    assert model.course.test is not None and model.course.test.id == "reseat"
    press(window, Qt.Key.Key_2)
    view.triage.answers[0].click()
    assert window.stop == "survey"


def test_things_are_dragged_from_shore_to_shore(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    view, model = intake_view(window), window.job.intake
    model.put(with_valuable(with_valuable(model.intake, "mail"), "charts: in the cloud"))
    canvas = view.survives.shores
    place = canvas.place_of(canvas.scene.items[0]).center().toPoint()
    QTest.mousePress(canvas, Qt.MouseButton.LeftButton, pos=place)
    QTest.mouseMove(canvas, QPoint(canvas.width() // 2, place.y()))
    QTest.mouseMove(canvas, QPoint(canvas.width() - 30, place.y()))
    QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, pos=QPoint(canvas.width() - 30, place.y()))
    assert model.intake.valuables[-1].what == "mail" and model.intake.valuables[-1].shore == "seen"
    canvas.choose("mail")
    canvas.setFocus()
    press(window, Qt.Key.Key_Delete)
    assert [v.what for v in model.intake.valuables] == ["charts"] and canvas.chosen == "charts"
    scene = shores_scene(model.intake)
    assert scene.items[0].spoken == "charts, said to be elsewhere, in the cloud"
    image = canvas.grab().toImage()
    assert len({image.pixel(x, y) for x in range(0, image.width(), 3) for y in range(0, image.height(), 3)}) > 5


def test_what_nobody_saw_closes_the_gate_when_something_stays_behind(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    model = window.job.intake
    model.put(with_valuable(model.intake, "charts: in the cloud"))
    plan(qtbot, window)
    assert all(g.open for g in window.job.plan.gates_of(window.job.plan.written))
    assert model.gates(window.job.plan.written)[0].code == "elsewhere"
    data = next(p.number for p in window.job.plan.plan.layout.partitions if p.role == "data")
    window.job.plan.toggle(data)
    window.job.plan.write()
    assert window.job.plan.written.left_behind == (data,)
    window.show_stop("transfer")
    assert "Only said to be elsewhere" in texts(window) and not window.job.transfer.may_write
    model.change(accepted_unseen=True)
    window.show_stop("transfer")
    transfer_view(window).refresh()
    assert window.job.transfer.may_write


def test_what_came_with_it_is_ticked_off_at_handover(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    model = window.job.intake
    model.put(with_belongings(model.intake, ["charger", "bag"]))
    window.show_stop("handover")
    view = window.views["handover"]
    assert "Still to be given back: charger, bag" in "\n".join(c.text for c in view.checks())
    view.back.chips["charger"].click()
    assert [b.back for b in load_intake(window.job.dossier).came_with] == [True, False]
    window.job.handover.hand_over()
    assert window.job.log()[-1].figures["not_given_back"] == ["bag"]


def test_every_line_of_the_intake_has_a_name(small_bench: Path, open_window: Open) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    assert all(line.accessibleName() for line in intake_view(window).findChildren(QLineEdit) if line.isVisible())
