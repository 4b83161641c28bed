"""The Swap stop in the real window: opened and closed by one key, with a mistake, a restart and a screw left over."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QColor, QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

from neogenesis.app.pictures import pause
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.swap.editor import ProfileEditor
from neogenesis.app.swap.sheets import ExtrasSheet, MissingSheet, WrongSheet
from neogenesis.app.swap.start import LearnKey
from neogenesis.app.swap.view import SwapView
from neogenesis.app.theme.look import look
from neogenesis.core.intake.model import Plate
from neogenesis.core.machine import read_machine
from neogenesis.core.swap.guide import GuideRecord
from neogenesis.core.swap.numbers import Hold, numbers
from neogenesis.core.swap.path import cautions_of
from tests.test_window import Open, drop_files, texts


@pytest.fixture(autouse=True)
def quick(monkeypatch: pytest.MonkeyPatch) -> None:
    """Nobody reads and no pedal bounces here; the times themselves are asked for in tests of their own."""
    monkeypatch.setattr(
        "neogenesis.app.swap.view.numbers",
        lambda: msgspec.structs.replace(numbers(), hold=Hold(caution_s=0.0, bounce_s=0.0)),
    )


def colours(widget: QWidget) -> set[int]:
    image = widget.grab().toImage()
    return {image.pixel(x, y) for x in range(image.width()) for y in range(image.height())}


def of(window: MainWindow) -> SwapView:
    view = window.views["swap"]
    assert isinstance(view, SwapView)
    return view


@pytest.fixture
def at_swap(small_bench: Path, open_window: Open, qtbot: QtBot) -> MainWindow:
    window = open_window(small_bench)
    window.open_job("T-7")
    window.job.intake.put(msgspec.structs.replace(window.job.intake.intake, plate=Plate(make="Petrel", model="14")))
    window.show_stop("swap")
    return window


def key(window: MainWindow, name: str, times: int = 1) -> None:
    for _ in range(times):
        QTest.keyClick(of(window), getattr(Qt.Key, f"Key_{name}"))


def until(window: MainWindow, reached: Callable[[], bool]) -> None:
    """Space until something holds; what must be waited for is waited for at once."""
    for _ in range(300):
        if reached():
            return
        guide = window.job.swap.guide
        if guide is not None and guide.must_wait_s and guide.press() is None:
            window.job.swap.act("waited")
        else:
            key(window, "Space")
    raise AssertionError("never reached")


def row_of(window: MainWindow) -> str:
    guide = window.job.swap.guide
    return guide.row.step.id if guide is not None and guide.row is not None else ""


def test_a_machine_is_opened_and_closed_by_one_key(
    small_bench: Path, at_swap: MainWindow, open_window: Open, qtbot: QtBot
) -> None:
    window, swap = at_swap, at_swap.job.swap
    assert "fasteners, about" in texts(window) and "What may hurt" in texts(window)
    until(window, lambda: row_of(window) == "pry" and not swap.guide.pending)
    key(window, "W")
    sheet = window.findChildren(WrongSheet)[-1]
    shows = [sheet.list.item(n).text() for n in range(sheet.list.count())]
    assert any("does not lift" in text for text in shows)
    sheet.list.setCurrentRow(next(n for n, text in enumerate(shows) if "does not lift" in text))
    sheet.go.click()
    pause(30)
    assert swap.guide.where.trouble is not None and "Stop prying." in texts(window)
    until(window, lambda: swap.guide.where.trouble is None)
    assert row_of(window) == "pry"
    key(window, "Space")
    before = swap.guide.where
    window.close()  # in the middle: everything is where it was
    window = open_window(small_bench)
    window.open_job("T-7")
    window.show_stop("swap")
    swap = window.job.swap
    assert swap.guide.where == before
    until(window, lambda: row_of(window) == "cover" and swap.guide.row.phase == "closing")
    key(window, "Space", 7)
    key(window, "L")
    until(window, lambda: swap.guide.is_through)
    pause(30)
    assert "Something is left in the tray" in texts(window) and not of(window).go.isEnabled()
    key(window, "Space")
    assert not swap.guide.where.finished
    key(window, "M")
    sheet = window.findChildren(MissingSheet)[-1]
    sheet.why.setCurrentIndex(sheet.why.findText("its thread is gone"))
    sheet.go.click()
    until(window, lambda: swap.guide.where.finished)
    pause(30)
    assert "1 named with a reason" in texts(window) and of(window).first.bands
    done = next(e for e in window.job.log() if e.kind == "swap-done")
    assert done.figures["out"] == 13 and done.figures["back"] == 12
    assert done.figures["named"] == ["1 of under-foot left out: its thread is gone"]
    kinds = [e.kind for e in window.job.log()]
    assert kinds.count("swap-caution") == 4 and "swap-mistake" in kinds
    assert window.job.job.stop == "first-boot"
    key(window, "Space")
    assert window.stop == "first-boot"


def test_each_press_counts_one_and_backspace_takes_it_back(at_swap: MainWindow) -> None:
    window, swap = at_swap, at_swap.job.swap
    until(window, lambda: bool(swap.guide and swap.guide.next_piece))
    view = of(window)
    assert view.go.text() == "One out" and [p.state for p in view.board.canvas.scene].count("next") == 1
    key(window, "Space")
    assert [p.state for p in view.board.tray.scene].count("in-tray") == 1
    key(window, "Backspace")
    assert [p.state for p in view.board.tray.scene].count("in-tray") == 0
    key(window, "Return")
    assert swap.guide.press() == "on" and [p.state for p in view.board.tray.scene].count("in-tray") == 8
    assert view.go.text() == "Counted: next"


def test_the_drawing_shows_which_one_is_next(at_swap: MainWindow) -> None:
    window, swap = at_swap, at_swap.job.swap
    until(window, lambda: bool(swap.guide and swap.guide.next_piece))
    pause(50)
    canvas = of(window).board.canvas
    soft = look().colour("accent_soft").rgb()
    assert soft in colours(canvas)
    key(window, "Return")
    pause(50)
    assert soft not in colours(canvas)
    assert look().colour("accent").rgb() in colours(of(window).board.tray)


def test_a_caution_stands_a_moment_and_a_pedal_that_bounces_counts_once(
    at_swap: MainWindow, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, swap = at_swap, at_swap.job.swap
    until(window, lambda: bool(swap.guide and swap.guide.pending))
    slow = msgspec.structs.replace(numbers(), hold=Hold(caution_s=60.0, bounce_s=0.0))
    monkeypatch.setattr("neogenesis.app.swap.view.numbers", lambda: slow)
    key(window, "Space", 3)
    assert swap.guide.pending == "mains"
    bouncing = msgspec.structs.replace(numbers(), hold=Hold(caution_s=0.0, bounce_s=60.0))
    monkeypatch.setattr("neogenesis.app.swap.view.numbers", lambda: bouncing)
    of(window)._pressed_at = 0.0
    key(window, "Space", 3)
    assert swap.guide.pending == "lithium"


def test_time_that_must_pass_runs_and_then_the_work_goes_on(at_swap: MainWindow, qtbot: QtBot) -> None:
    window, swap = at_swap, at_swap.job.swap
    machine = window.job.intake.match.machine
    steps = tuple(msgspec.structs.replace(s, wait_s=0.6) if s.do == "drain" else s for s in machine.steps)
    swap.keep_profile(msgspec.structs.replace(machine, steps=steps))
    until(window, lambda: row_of(window) == "drain" and not swap.guide.pending)
    view = of(window)
    assert view.go.text() == "It begins now" and view.board.clock.isVisible()
    key(window, "Space")
    assert view.go.text() == "Wait…" and not view.go.isEnabled()
    key(window, "Space", 3)
    assert row_of(window) == "drain"
    qtbot.waitUntil(lambda: swap.guide.press() == "on", timeout=5_000)
    key(window, "Space")
    assert row_of(window) == "bracket"


def test_a_key_is_learned_and_leads(at_swap: MainWindow) -> None:
    window = at_swap
    window.activateWindow()
    of(window).start.learn.click()
    sheet = window.findChildren(LearnKey)[-1]
    QTest.keyClick(sheet, Qt.Key.Key_F13)
    assert window.bench.pedal == "F13" and window.appearance.settings.pedal == "F13"
    pause(30)
    assert "F13" in of(window).start.learn.text()
    QTest.keyClick(of(window), Qt.Key.Key_F13)
    assert window.job.swap.guide is not None
    QTest.keyClick(of(window), Qt.Key.Key_F14)
    assert window.job.swap.guide.where.ready == 0


def test_a_swollen_battery_stops_the_work(at_swap: MainWindow) -> None:
    window, swap = at_swap, at_swap.job.swap
    until(window, lambda: bool(swap.guide and swap.guide.pending == "lithium"))
    of(window).swollen.click()
    pause(30)
    assert swap.guide.where.stopped and not of(window).go.isEnabled() and "proper service" in texts(window)
    key(window, "Space")
    assert swap.guide.where.stopped and window.job.log()[-1].kind == "swap-stopped"
    assert next(s for s in window.rail.stations if s.stop.key == "swap").worst == "stop"  # seen from everywhere


def test_what_is_cheap_while_it_is_open_is_agreed_and_counted(at_swap: MainWindow) -> None:
    window, swap = at_swap, at_swap.job.swap
    until(window, lambda: row_of(window) == "cover" and not swap.guide.pending)
    key(window, "O")
    sheet = window.findChildren(ExtrasSheet)[-1]
    assert {e.code for e in swap.extras()} == {"dust", "paste", "pads", "memory", "wireless", "screws"}
    sheet._answer("agree", "dust")
    sheet._answer("decline", "paste")
    assert [e.code for e in swap.agreed] == ["dust"] and "dust" not in {e.code for e in swap.extras()}
    entry = next(e for e in window.job.log() if e.kind == "swap-extra")
    assert entry.figures["price"] == "9.00" and entry.figures["minutes"] == 8
    assert window.job.quote.extras == (("Dust out of the fan and the fins", "9.00"),)
    sheet.close()


def test_photographs_come_back_at_closing(at_swap: MainWindow, tmp_path: Path, qtbot: QtBot) -> None:
    window, swap = at_swap, at_swap.job.swap
    until(window, lambda: row_of(window) == "photo")
    image = QImage(60, 40, QImage.Format.Format_RGB32)
    image.fill(QColor("#AA3355"))
    image.save(str(tmp_path / "cables.png"))
    drop_files(of(window), tmp_path / "cables.png")
    qtbot.waitUntil(lambda: len(swap.guide.photographs) == 1)
    swap.photograph([tmp_path / "gone.png"])
    qtbot.waitUntil(lambda: "gone.png" in texts(window))
    until(window, lambda: row_of(window) == "photo" and swap.guide.row.phase == "closing")
    pause(30)
    assert "As it was when it was opened" in texts(window)
    assert QColor("#AA3355").rgb() in colours(of(window).board)
    swap.photographs_of(swap.guide.row)[0].unlink()  # a photograph that is gone is no fault
    of(window).refresh()
    pause(30)
    assert "As it was when it was opened" not in texts(window)


def test_a_mistake_becomes_a_tip_of_the_profile(at_swap: MainWindow) -> None:
    window, swap = at_swap, at_swap.job.swap
    until(window, lambda: row_of(window) == "battery" and not swap.guide.pending)
    sheet = WrongSheet(window, swap)
    sheet.list.setCurrentRow(next(n for n, m in enumerate(sheet._known) if m.code == "torn"))
    sheet.tip.click()
    kept = window.job.intake.match.machine
    assert any(t.step == "battery" and "broke" in t.shows for t in kept.tips)
    sheet.close()


def test_a_record_that_was_damaged_is_said_and_begun_anew(
    small_bench: Path, at_swap: MainWindow, open_window: Open
) -> None:
    window, swap = at_swap, at_swap.job.swap
    until(window, lambda: bool(swap.guide and swap.guide.next_piece))
    path = window.job.dossier / "swap.json"
    record = json.loads(path.read_text())
    record["acts"].append({"at": record["acts"][0]["at"], "deed": "count", "id": "cover-long", "count": 99, "text": ""})
    path.write_text(json.dumps(record))
    again = open_window(small_bench)
    again.open_job("T-7")
    again.show_stop("swap")
    pause(30)
    assert again.job.swap.guide is None and "does not hold together" in texts(again)
    again.job.swap.begin()
    assert again.job.swap.guide is not None and (again.job.dossier / "swap-1.json").exists()


def test_papers_are_written_true_to_size(at_swap: MainWindow, tmp_path: Path) -> None:
    window = at_swap
    for which in ("mat", "steps", "label"):
        of(window).start.write_paper(which, tmp_path / f"{which}.pdf")
        assert (tmp_path / f"{which}.pdf").read_bytes().startswith(b"%PDF")
    of(window).start.write_paper("mat", tmp_path / "no-folder" / "mat.pdf")
    pause(30)
    assert "cannot be written" in texts(window)
    assert [e.kind for e in window.job.log()].count("label") == 1


def test_the_guide_stands_on_a_second_screen_too(at_swap: MainWindow) -> None:
    window, swap = at_swap, at_swap.job.swap
    until(window, lambda: bool(swap.guide and swap.guide.next_piece))
    of(window).show_second()
    second = of(window)._second
    assert second.isVisible() and second.head.text() == of(window).board.head.text()
    key(window, "Return")
    key(window, "Space")
    assert second.head.text() == of(window).board.head.text() != ""
    second.close()


# Profiles


def typed(editor: ProfileEditor, form: str, key_: str, text: str) -> None:
    field = getattr(editor, form).fields[key_].widget
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)


def test_an_unknown_machine_is_written_down_while_it_is_opened(
    small_bench: Path, open_window: Open, qtbot: QtBot, tmp_path: Path
) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    plate = Plate(make="Quayside", model="Unseen 1")
    window.job.intake.put(msgspec.structs.replace(window.job.intake.intake, plate=plate))
    window.show_stop("swap")
    assert "not known yet" in texts(window) and not of(window).go.isEnabled()
    of(window).start.edit.click()
    editor = window.findChildren(ProfileEditor)[-1]
    assert editor.machine.title == "Quayside Unseen 1" and not editor.keep.isEnabled()
    editor._add_group()
    typed(editor, "fastener_form", "id", "lid")
    typed(editor, "fastener_form", "count", "3")
    for place in ((0.2, 0.2), (0.8, 0.2), (0.5, 0.8)):
        outline = editor.map._outline()
        at = QPoint(
            round(outline.left() + place[0] * outline.width()), round(outline.top() + place[1] * outline.height())
        )
        QTest.mouseClick(editor.map, Qt.MouseButton.LeftButton, pos=at)
    assert [round(x, 1) for x, _ in editor.machine.fasteners[0].spots] == [0.2, 0.8, 0.5]
    QTest.keyClick(editor.map, Qt.Key.Key_Right)
    assert editor.machine.fasteners[0].spots[0][0] == pytest.approx(0.21, abs=0.005)
    editor._add_step()
    typed(editor, "step_form", "what", "the three screws of the lid")
    typed(editor, "step_form", "fasteners", "lid")
    editor._add_step()
    typed(editor, "step_form", "what", "the battery connector")
    editor.step_form.fields["do"].show("unplug")
    assert "lithium" in cautions_of(editor.machine), "nobody reaches cells unwarned, whatever is typed"
    typed(editor, "step_form", "cautions", "fire")
    assert "fire" in editor.fault and not editor.keep.isEnabled()
    editor.undo.click()
    assert not editor.fault
    editor.redo.click()
    assert "fire" in editor.fault
    typed(editor, "step_form", "cautions", "lithium")
    assert not editor.fault and editor.keep.isEnabled(), editor.fault
    editor.share(tmp_path / "shared.machine.json")
    assert read_machine((tmp_path / "shared.machine.json").read_bytes()).steps[0].what == "the three screws of the lid"
    editor.keep.click()
    assert of(window).go.isEnabled()
    until(window, lambda: window.job.swap.guide is not None and window.job.swap.guide.where.finished)
    assert window.job.swap.guide.where.ledger.out == 3


def test_what_was_written_down_while_opening_leads_through_closing(at_swap: MainWindow) -> None:
    window, swap = at_swap, at_swap.job.swap
    of(window).start.edit.click()
    editor = window.findChildren(ProfileEditor)[-1]
    assert editor.lies_open.isVisible()
    editor.lies_open.click()
    assert swap.guide.row.phase == "closing" and sum(n for _, n in swap.guide.where.ledger.tray) == 13
    until(window, lambda: swap.guide.where.finished)
    assert swap.guide.where.ledger.back == 13 and any(e.kind == "swap-open" for e in window.job.log())


def test_a_profile_that_cannot_be_true_is_not_led_through(at_swap: MainWindow) -> None:
    window = at_swap
    machine = window.job.intake.match.machine
    folder = window.bench.store.folder / "machines"
    folder.mkdir(exist_ok=True)
    double = msgspec.structs.replace(
        machine, steps=(*machine.steps, msgspec.structs.replace(machine.steps[2], id="again"))
    )
    (folder / "petrel-14.machine.json").write_bytes(msgspec.json.encode(double))
    window.job.intake.look_for_machines()
    of(window).refresh()
    pause(30)
    assert "take 4 of “cover-long” out, and there are 2" in texts(window)
    key(window, "Space")
    assert window.job.swap.guide is None


def test_everything_of_a_guide_is_on_file_before_it_is_shown(at_swap: MainWindow) -> None:
    window, swap = at_swap, at_swap.job.swap
    until(window, lambda: bool(swap.guide and swap.guide.next_piece))
    key(window, "Space")
    record = msgspec.json.decode((window.job.dossier / "swap.json").read_bytes(), type=GuideRecord)
    assert record == swap.guide.record and isinstance(of(window), QWidget)
