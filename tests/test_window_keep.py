"""Images, rescues, salvage and restores from the window, and what a device class changes in it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from neogenesis.app.keep.view import KeepSheet
from neogenesis.app.shell.window import MainWindow
from tests.boots import BY_FILE, drive, loader
from tests.drives import blank, check_volume, run, same_bytes, set_docks, simulated, spans
from tests.test_window import plan, survey, texts

Open = Callable[[Path], MainWindow]


def begin_keep(window: MainWindow, qtbot: QtBot, kind: str, place: Path, tail: str = "") -> None:
    """Through the sheet, with the keyboard's shortcut; afterwards the Transfer stop shows it."""
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow)
    qtbot.keyClick(window, Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    sheet = window.findChildren(KeepSheet)[-1]
    assert not sheet.start.isEnabled()
    sheet.choices[kind].setChecked(True)
    sheet.place.setText(str(place))
    sheet.tail.setText(tail)
    for box, typed in sheet.targets.values():
        if box.isChecked():
            assert not sheet.start.isEnabled()
            typed.setText(tail)
    qtbot.mouseClick(sheet.start, Qt.MouseButton.LeftButton)
    assert window.stop == "transfer" and window.job.keep.is_active


def end_keep(window: MainWindow, qtbot: QtBot) -> None:
    keep, view = window.job.keep, window.views["transfer"]
    qtbot.waitUntil(lambda: keep.state == "ended", timeout=60_000)
    assert view.keep.close_page.isVisible() and not view.keep.stop.isVisible()


def test_image_rescue_and_salvage_from_the_window(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    keep = window.job.keep
    for kind, place in (("image", "old"), ("salvage", "files"), ("rescue", "saved.img")):
        begin_keep(window, qtbot, kind, small_bench / place, "aved")
        end_keep(window, qtbot)
        assert keep.failure is None and keep.heard.outcome.outcome == "done", keep.failure
        qtbot.mouseClick(window.views["transfer"].keep.close_page, Qt.MouseButton.LeftButton)
        assert keep.state == "ready"
    assert (small_bench / "old.qcow2").exists() and (small_bench / "files/salvage.json").exists()
    assert (small_bench / "saved.img").read_bytes() == (small_bench / "old.img").read_bytes()
    kinds = [e.kind for e in window.job.log()]
    assert {"image-start", "image-done", "salvage-done", "rescue-done"} <= set(kinds)
    begin_keep(window, qtbot, "image", small_bench / "old.qcow2")
    end_keep(window, qtbot)
    assert keep.failure is not None and "exists already" in keep.failure.text


@pytest.mark.parametrize("kind", ["image", "rescue"])
def test_a_plan_reads_what_was_saved_when_the_old_drive_is_gone(
    small_bench: Path, open_window: Open, qtbot: QtBot, kind: str
) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    place = small_bench / ("old.qcow2" if kind == "image" else "saved.img")
    begin_keep(window, qtbot, kind, small_bench / ("old" if kind == "image" else "saved.img"), "aved")
    end_keep(window, qtbot)
    window.job.keep.dismiss()
    window.show_stop("plan")
    qtbot.waitUntil(lambda: window.job.plan.state == "ready", timeout=30_000)
    assert window.job.plan.reads_from is None and window.views["plan"].source.isVisible()
    window.show_jobs()
    set_docks(small_bench, [None, "new.drive.json", None, None])
    window.open_job("T-7")
    qtbot.waitUntil(lambda: not window.job.old_dock().present, timeout=8_000)
    plan(qtbot, window)
    made = window.job.plan
    assert made.reads_from is not None and Path(made.written.source.survey.drive.path) == place and not made.out_of_date
    assert window.views["plan"].source.currentText() == place.name
    window.show_stop("transfer")
    assert "The old drive is not connected" not in texts(window) and "Read from what was saved" in texts(window)
    window.job.transfer.start("41F2")
    qtbot.waitUntil(lambda: window.job.transfer.state == "done", timeout=60_000)
    for number, volume in ((2, "ntfs"), (4, "ext4")):
        check_volume(small_bench / "new.img", *spans(small_bench / "new.img")[number], volume, small_bench)
    again = open_window(small_bench)
    again.open_job("T-7")
    assert again.job.plan.reads_from == made.reads_from and not again.job.plan.out_of_date


def test_switching_makes_a_plan_from_what_was_saved(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    window.job.decide.choose("replace")
    begin_keep(window, qtbot, "rescue", small_bench / "saved.img", "aved")
    end_keep(window, qtbot)
    plan(qtbot, window)
    assert window.job.plan.reads_from is None
    window.job.decide.choose("exact", "the copy did not start")
    qtbot.waitUntil(lambda: window.job.plan.state == "ready", timeout=30_000)
    made = window.job.plan
    assert made.reads_from is not None and made.reads_from.kind == "rescue"
    assert made.plan.intent == "exact" and made.plan.source.survey.drive.path == str(small_bench / "saved.img")
    assert (window.job.dossier / "earlier-1" / "plan.json").exists() and not made.path.exists()


def test_what_was_saved_from_another_drive_is_not_read_as_this_one(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    begin_keep(window, qtbot, "image", small_bench / "old")
    end_keep(window, qtbot)
    manifest = small_bench / "old.qcow2.manifest.json"
    manifest.write_text(manifest.read_text().replace("HD5-00009K3D", "HD5-00009K3E"))
    window.job.plan.read_from(window.job.plan.saved[0])
    qtbot.waitUntil(lambda: window.job.plan.failure is not None, timeout=30_000)
    assert "another drive" in window.job.plan.failure.text and window.job.plan.state != "ready"
    window.job.plan.read_from(None)
    qtbot.waitUntil(lambda: window.job.plan.state == "ready", timeout=30_000)


def test_an_image_is_restored_from_the_window_and_the_lane_says_so(
    small_bench: Path, open_window: Open, qtbot: QtBot, neogenesis
) -> None:
    neogenesis("image", small_bench / "old.drive.json", small_bench / "old.qcow2")
    window = open_window(small_bench)
    window.open_job("T-7")
    begin_keep(window, qtbot, "restore", small_bench / "old.qcow2", "41f2")
    written = next(card for card in window.shelf.cards if card.dock.docked and "new" in card.dock.docked.name)
    assert written.use == "being written"
    end_keep(window, qtbot)
    assert window.job.keep.failure is None, window.job.keep.failure
    lane = window.job.keep.heard.lanes[str(small_bench / "new.drive.json")]
    assert lane.outcome == "good" and lane.target in window.views["transfer"].keep.lanes.rows
    run("qemu-img", "compare", "-f", "raw", "-F", "qcow2", small_bench / "new.img", small_bench / "old.qcow2")


def test_a_rescue_is_shown_with_its_places_and_names_and_found_again(
    small_bench: Path, open_window: Open, qtbot: QtBot, survey_json
) -> None:
    system = survey_json(small_bench / "old.img")["partitions"][2]
    bad = [[system["start_bytes"] + at, system["start_bytes"] + at + 4096] for at in range(2 << 20, 60 << 20, 1 << 18)]

    def failing(rate: float) -> None:
        read = {"bytes_per_s": rate, "unreadable": bad}
        description = small_bench / "old.drive.json"
        simulated(description, "old.img", model="Halden 500", serial="HD5-00009K3D", clock="x60", read=read)

    failing(2e6)
    window = open_window(small_bench)
    window.open_job("T-7")
    begin_keep(window, qtbot, "rescue", small_bench / "saved.img", "aved")
    keep = window.job.keep
    qtbot.waitUntil(lambda: "p" in keep.heard.outline, timeout=60_000)
    window.close()
    second = open_window(small_bench)
    second.open_job("T-7")
    second.show_stop("transfer")
    again, page = second.job.keep, second.views["transfer"].keep
    assert again.is_active and again.kind == "rescue" and page.stop.isVisible()
    qtbot.mouseClick(page.stop, Qt.MouseButton.LeftButton)
    end_keep(second, qtbot)
    assert again.heard.outcome is not None, again.failure
    assert again.heard.outcome.outcome == "stopped" and again.map_path.exists()
    failing(2e7)
    begin_keep(second, qtbot, "rescue", small_bench / "saved.img", "aved")
    end_keep(second, qtbot)
    assert again.heard.outcome.outcome == "partial"
    assert "l" in again.heard.outline and "u" not in again.heard.outline
    assert again.heard.files_count > 0 and page.files.toPlainText().count("\n") == len(again.heard.files) - 1
    assert all(path in page.files.toPlainText() for _, path, _, _ in again.heard.files)
    lost = again.heard.figure("lost_bytes")
    assert lost == sum(end - start for start, end in bad)


def test_the_new_drive_is_made_safe_before_it_is_pulled(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    job = window.job
    job.transfer.start("41F2")
    qtbot.waitUntil(lambda: job.transfer.state == "done", timeout=90_000)
    view = window.views["transfer"]
    window.show_stop("transfer")
    assert view.ended.pull_out.isVisible() and view.main_widget() is view.ended.pull_out
    qtbot.mouseClick(view.ended.pull_out, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: job.transfer.parting is not None)
    assert "may be pulled out" in job.transfer.parting.text and not view.ended.pull_out.isVisible()
    assert any(e.kind == "parting" for e in job.log())


def test_a_device_class_is_chosen_in_plan_and_its_steps_follow(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window, write=False)
    view = window.views["plan"]
    view.intent.setCurrentIndex(view.intent.findText("For a ticket console"))
    view.intent.activated.emit(view.intent.currentIndex())
    made = window.job.plan.plan
    assert made.intent == "exact" and view.intent.currentText() == "For a ticket console"
    closed = {g.code for g in made.gates if not g.open}
    assert closed == {"appliance-capacity", "appliance-table"}
    window.job.plan.write()
    window.show_stop("first-boot")
    assert [c.text for c in window.views["first-boot"].checks()] == list(made.afterwards)
    window.show_stop("plan")
    window.job.plan.undo()
    assert window.job.plan.plan.intent == "replace" and view.intent.currentText() == "Replace"


def test_an_installer_stick_from_the_window(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    """The smallest stick that is large enough is ticked, not the job's new drive; it is tested for its size first."""
    image = drive(small_bench / "installer.img", "TOKEN-ONE", {"EFI/BOOT/BOOTX64.EFI": loader(BY_FILE)})
    docked = ["old.drive.json", "new.drive.json"]
    for name, size, bus in (("small", 20, "card"), ("right", 200, "usb-sata"), ("large", 400, "card")):
        blank(small_bench / f"{name}.img", size)
        docked.append(f"{name}.drive.json")
        simulated(small_bench / docked[-1], f"{name}.img", model="Ostrel S", serial=f"OS-0000{name.upper()}", bus=bus)
    set_docks(small_bench, docked)
    window = open_window(small_bench)
    window.open_job("T-7")
    window.activateWindow()
    qtbot.keyClick(window, Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    sheet = window.findChildren(KeepSheet)[-1]
    sheet.choices["stick"].setChecked(True)
    sheet.place.setText(str(image))
    sheet._look_into()
    qtbot.waitUntil(lambda: "started by UEFI" in sheet.about.text(), timeout=30_000)
    assert [Path(name).name for name, (box, _) in sheet.targets.items() if box.isChecked()] == ["right.drive.json"]
    assert sheet.check_size.isVisible() and not sheet.start.isEnabled()
    sheet.check_size.click()
    next(typed for box, typed in sheet.targets.values() if box.isChecked()).setText("ight")
    assert sheet.start.isEnabled()
    sheet.start.click()
    end_keep(window, qtbot)
    assert window.job.keep.failure is None, window.job.keep.failure
    assert same_bytes(image, small_bench / "right.img", image.stat().st_size)
    assert (small_bench / "new.img").stat().st_blocks == 0
    kinds = [e.kind for e in window.job.log()]
    assert {"stick-start", "stick-done"} <= set(kinds) and window.job.job.stop != "swap"
