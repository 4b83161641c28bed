"""The First boot stop in the real window: the chain, a remedy on the new drive and back, a trial, and what is looked at."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QShortcut
from PyQt6.QtTest import QTest
from pytestqt.qtbot import QtBot

from neogenesis.app.first_boot.entries import EntriesSheet
from neogenesis.app.first_boot.model import FirstBootModel
from neogenesis.app.first_boot.run_in import RunInSheet
from neogenesis.app.first_boot.stopwatch import StopwatchSheet
from neogenesis.app.first_boot.view import FirstBootView
from neogenesis.app.pictures import pause
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.theme.look import look
from neogenesis.bench.works.undo_record import UndoRecord
from neogenesis.core.intake.ask import START_UP
from neogenesis.core.record import load, save
from neogenesis.core.transfer import RunFiles
from tests.boots import BY_FILE, drive, loader
from tests.drives import run, table_of
from tests.test_window import plan, survey, texts
from tests.test_window_swap import colours

Open = Callable[[Path], MainWindow]


@pytest.fixture
def at_boot(small_bench: Path, open_window: Open, qtbot: QtBot) -> MainWindow:
    """A job with a plan, whose new drive holds a system that no firmware finds."""
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    image = small_bench / "new.img"
    drive(image, "TOKEN-ONE", {"EFI/system/loader.efi": loader(BY_FILE)}, mib=1400)
    RunFiles(window.job.plan.path).manifest.write_text("{}")  # as after a transfer
    window.show_stop("first-boot")
    qtbot.waitUntil(lambda: window.job.first_boot.look is not None, timeout=60_000)
    pause(30)
    return window


def digest(image: Path) -> bytes:
    with image.open("rb") as file:
        return hashlib.file_digest(file, "blake2b").digest()


def of(window: MainWindow) -> FirstBootView:
    view = window.views["first-boot"]
    assert isinstance(view, FirstBootView)
    return view


def test_a_chain_that_breaks_is_mended_tried_and_put_back(at_boot: MainWindow, small_bench: Path, qtbot: QtBot) -> None:
    window, model, view = at_boot, at_boot.job.first_boot, of(at_boot)
    before = digest(small_bench / "new.img")
    assert [s.ok for s in view.now.stations].count(False) == 1 and not view.now.stations[-1].reached
    assert look().colour("stop").rgb() in colours(view.now)
    assert all(s.ok for s in view.then.stations) and view.then.stations[-1].title == "System"
    assert [r.code for r in model.remedies] == ["fallback-loader"] and not view.mend.isEnabled()
    QTest.keyClicks(view.tail, "41f2")
    assert view.mend.isEnabled()
    view.mend.click()
    qtbot.waitUntil(lambda: not model.is_busy and model.look.forecast.starts, timeout=60_000)
    pause(30)
    assert model.failure is None and (window.job.dossier / "remedy-1.undo").exists()
    assert all(s.ok for s in view.now.stations) and not view.then.isVisible() and view.undo.isVisible()
    view.trial.click()
    assert view.trial.text() == "Stop the trial" and not view._lists.isVisible()
    qtbot.waitUntil(lambda: model.trial is not None or not view.display.picture.isNull(), timeout=60_000)
    if model.trying:
        QTest.keyClick(view.display, Qt.Key.Key_F2)
        QTest.keyClick(view.display, Qt.Key.Key_A, Qt.KeyboardModifier.ShiftModifier)
        assert model.keys_path.read_text() == "f2\nshift-a\n"
    qtbot.waitUntil(lambda: model.trial is not None or model.failure is not None, timeout=90_000)
    pause(30)
    assert model.failure is None and model.trial.loader_ran and "TOKEN-ONE" in view.serial.toPlainText()
    assert "The firmware found the loader and started it." in texts(window)
    assert (window.job.dossier / "trial-boot.png").exists() and not view.display.picture.isNull()
    assert view._lists.isVisible() and not view.display.is_live
    assert not view.undo.isEnabled()  # what was typed for the remedy confirms nothing more
    view.tail.setText("41F2")
    view.undo.click()
    qtbot.waitUntil(lambda: not model.is_busy and not model.look.forecast.starts, timeout=60_000)
    assert digest(small_bench / "new.img") == before
    model.mend(model.remedies[0], "41f2")  # once more, beside the record of the first time
    qtbot.waitUntil(lambda: not model.is_busy, timeout=60_000)
    assert model.failure is None and model.look.forecast.starts and (window.job.dossier / "remedy-2.undo").exists()
    kinds = [e.kind for e in window.job.log()]
    assert {"forecast", "remedy-start", "remedy-done", "trial-boot", "undo-start", "undo-done"} <= set(kinds)


def test_a_remedy_that_was_cut_off_is_finished_or_put_back(
    at_boot: MainWindow, small_bench: Path, qtbot: QtBot
) -> None:
    """As after a power cut between two of its pieces."""
    window, model, view = at_boot, at_boot.job.first_boot, of(at_boot)
    image, place = small_bench / "new.img", window.job.dossier / "remedy-1.undo"
    QTest.keyClicks(view.tail, "41f2")
    view.mend.click()
    qtbot.waitUntil(lambda: not model.is_busy and model.look.forecast.starts, timeout=60_000)
    pause(30)
    after = digest(image)
    assert view.undo.isVisible() and not view.finish.isVisible()
    made = load(place, UndoRecord, "record")
    with image.open("r+b") as file:
        for at, old, _ in made.rows[1:]:
            file.seek(at)
            file.write(old)
    save(place, msgspec.structs.replace(made, state="begun"))
    assert len(made.rows) > 1 and digest(image) != after
    model.refresh()
    qtbot.waitUntil(lambda: not model.is_busy, timeout=60_000)
    pause(30)
    assert view.finish.isVisible() and not view.finish.isEnabled()
    view.tail.setText("41F2")
    view.finish.click()
    qtbot.waitUntil(lambda: not model.is_busy and model.look.forecast.starts, timeout=60_000)
    pause(30)
    assert model.failure is None and digest(image) == after and not view.finish.isVisible()
    assert load(place, UndoRecord, "record").state == "finished"


def test_what_cannot_be_told_is_drawn_open_and_what_cannot_be_mended_says_why(
    at_boot: MainWindow, small_bench: Path, qtbot: QtBot
) -> None:
    window, model, view = at_boot, at_boot.job.first_boot, of(at_boot)
    menu = {
        "EFI/BOOT/BOOTX64.EFI": loader(),
        "EFI/x/grub.cfg": b'menuentry "Fathom" {\ncat /own.txt\n}\n',
        "own.txt": b"x",
    }
    drive(small_bench / "new.img", "TOKEN-ONE", menu, mib=1400)
    model.refresh()
    qtbot.waitUntil(lambda: not model.is_busy, timeout=60_000)
    pause(30)
    assert model.look.forecast.starts is None and "it cannot be told from here: try it" in texts(window)
    assert [s.ok for s in view.now.stations].count(None) == 1 and all(s.reached for s in view.now.stations)
    assert look().colour("stop").rgb() not in colours(view.now)
    full = {"EFI/system/loader.efi": loader(BY_FILE), "fill.bin": os.urandom((20 << 20) - 1_000_000)}
    drive(small_bench / "new.img", "TOKEN-ONE", full, mib=1400)
    model.refresh()
    qtbot.waitUntil(lambda: not model.is_busy, timeout=60_000)
    pause(30)
    assert [r.code for r in model.remedies] == ["fallback-loader"] and model.remedies[0].cannot
    assert [(s.title, s.ok) for s in view.then.stations] == [("It cannot be done", False)]
    QTest.keyClicks(view.tail, "41f2")
    assert not view.mend.isEnabled()


def test_a_trial_can_be_stopped_and_leaves_no_emulator(at_boot: MainWindow, qtbot: QtBot) -> None:
    model, view = at_boot.job.first_boot, of(at_boot)
    before = emulators()
    view.trial.click()
    qtbot.waitUntil(lambda: len(emulators() - before) == 1, timeout=30_000)
    view.trial.click()
    assert not model.trying
    qtbot.waitUntil(lambda: emulators() <= before, timeout=10_000)


def emulators() -> set[str]:
    """Ids of emulators that run trials for this process: other tests may have some of their own."""
    found, parents = set(), {}
    for path in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            text = path.read_bytes()
            parents[path.parent.name] = (path.parent / "stat").read_text().rpartition(")")[2].split()[1]
        except OSError:
            continue
        if b"qemu-system" in text and b"neogenesis-trial-" in text:
            found.add(path.parent.name)
    return {one for one in found if str(os.getpid()) in _above(one, parents)}


def _above(process: str, parents: dict[str, str]) -> set[str]:
    above: set[str] = set()
    while (process := parents.get(process, "")) and process not in above:
        above.add(process)
    return above


def test_what_is_looked_at_is_kept(at_boot: MainWindow, small_bench: Path, open_window: Open) -> None:
    window, view = at_boot, of(at_boot)
    assert "recovery" in view.boxes and "second-volume" not in view.boxes
    view.boxes["capacity"].click()
    assert window.job.log()[-1].text == "Seen: The system shows the whole of the new drive."
    window.close()
    again = open_window(small_bench)
    again.open_job("T-7")
    again.show_stop("first-boot")
    assert of(again).boxes["capacity"].isChecked()
    for code, box in of(again).boxes.items():
        if code != "capacity":
            box.click()
    assert again.job.job.stop == "handover"


def test_the_machine_s_own_list_changes_what_is_forecast_and_is_kept(
    at_boot: MainWindow, small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window, model, view = at_boot, at_boot.job.first_boot, of(at_boot)
    assert not model.look.forecast.starts and not model.is_proven
    unique = table_of(small_bench / "new.img")["partitions"][0]["uuid"].lower()
    view.entries.click()
    sheet = view.findChild(EntriesSheet)
    sheet.paste.setPlainText("what is this")
    sheet.take.click()
    assert "no boot entry in this text" in sheet.fault and not sheet.keep.isEnabled()
    path = f"HD(1,GPT,{unique},0x800,0xa000)/File(\\EFI\\system\\loader.efi)"
    sheet.paste.setPlainText(f"BootOrder: 0004,0002\nBoot0002* Found\t{path}\nBoot0004  Off\t{path}\n")
    sheet.take.click()
    assert sheet.fault == "" and sheet.list.count() == 2 and "Off" in sheet.list.item(0).text()
    sheet.list.setCurrentRow(1)
    sheet.up.click()
    assert "Found" in sheet.list.item(0).text() and sheet.list.currentRow() == 0
    sheet.back.click()
    assert "Off" in sheet.list.item(0).text()
    sheet.list.item(0).setCheckState(Qt.CheckState.Checked)
    sheet.list.item(0).setCheckState(Qt.CheckState.Unchecked)
    sheet.list.setCurrentRow(0)
    sheet.once.click()
    assert "next start" in sheet.list.item(0).text()
    sheet.remove.click()
    assert sheet.list.count() == 1 and sheet.where.count() > 0
    QTest.keyClicks(sheet.title, "By hand")
    sheet.add.click()
    assert "By hand" in sheet.list.item(1).text() and "BOOTX64.EFI" in sheet.list.item(1).text()
    sheet.keep.click()
    qtbot.waitUntil(lambda: not model.is_busy, timeout=60_000)
    assert model.look.forecast.starts, model.look.forecast
    assert any(e.kind == "boot-entries" for e in window.job.log())
    window.close()
    again = open_window(small_bench)
    again.open_job("T-7")
    assert [e.label for e in again.job.first_boot.entries.boot_entries] == ["Found", "By hand"]


def test_without_the_new_drive_it_says_so(small_bench: Path, open_window: Open) -> None:
    window = open_window(small_bench)
    window.bench.update("T-7", new_drive="", new_identity="")
    window.open_job("T-7")
    window.show_stop("first-boot")
    pause(30)
    assert "must be connected" in texts(window) and not of(window).trial.isEnabled()


def test_after_a_split_the_old_drive_gets_new_identities_once_the_new_one_is_proven(
    at_boot: MainWindow, small_bench: Path, qtbot: QtBot
) -> None:
    window, model, view = at_boot, at_boot.job.first_boot, of(at_boot)
    window.job.decide.choice = msgspec.structs.replace(window.job.decide.choice, chosen="split")
    image, old = small_bench / "new.img", small_bench / "old.img"
    drive(image, "TOKEN-ONE", {"EFI/BOOT/BOOTX64.EFI": loader(BY_FILE)}, mib=1400)
    mine = [p["uuid"] for p in table_of(old)["partitions"]]
    run("sfdisk", "-q", "--disk-id", image, table_of(old)["id"])
    model.refresh()
    qtbot.waitUntil(lambda: not model.is_busy, timeout=60_000)
    assert any(r.drive.endswith("old.drive.json") for r in model.look.remedies) and not any(
        r.drive.endswith("old.drive.json") for r in model.remedies
    )
    model.try_it()
    qtbot.waitUntil(lambda: not model.is_busy, timeout=90_000)
    assert model.is_proven, (model.failure, model.trial)
    assert FirstBootModel(
        model._session, model._intake, model._decide, model._plan, model._run_in
    ).is_proven  # after a restart, too
    pause(30)
    row = next(r for r in model.remedies if r.code == "restamp-table")
    view.remedy.setCurrentIndex(view.remedy.findData(f"restamp-table {row.drive}"))
    assert "sealed until now" in texts(window)
    QTest.keyClicks(view.tail, "41f2")
    assert not view.mend.isEnabled()
    view.tail.clear()
    QTest.keyClicks(view.tail, "9k3d")
    view.mend.click()
    qtbot.waitUntil(lambda: not model.is_busy and bool(model.record.remedies), timeout=60_000)
    assert all(a != b for a, b in zip(mine, (p["uuid"] for p in table_of(old)["partitions"]), strict=True))
    assert model.look.forecast.starts and "same-identity" not in {f.code for f in model.look.forecast.findings}


def test_before_anything_is_copied_the_plan_is_looked_at(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    window.show_stop("first-boot")
    qtbot.waitUntil(lambda: window.job.first_boot.look is not None, timeout=60_000)
    pause(30)
    assert "As planned" in texts(window) and not window.job.first_boot.remedies
    assert any(c.text.startswith("Forecast:") for c in window.views["plan"].checks())


def test_a_damaged_record_of_this_stop_is_kept_aside_and_said(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    dossier = window.job.dossier
    window.close()
    dossier.mkdir(parents=True, exist_ok=True)
    (dossier / "first-boot.json").write_bytes(b"{ torn")
    again = open_window(small_bench)
    again.open_job("T-7")
    again.show_stop("first-boot")
    qtbot.waitUntil(lambda: not again.job.first_boot.is_busy, timeout=60_000)
    pause(30)
    assert "It was kept as “first-boot.json.unreadable-1”" in texts(again)
    assert (dossier / "first-boot.json.unreadable-1").read_bytes() == b"{ torn"


def test_a_run_in_shows_what_the_drive_gives_and_fills_the_checks(
    at_boot: MainWindow, small_bench: Path, qtbot: QtBot
) -> None:
    """A simulated drive whose cache runs out; then the same on a folder, stopped in the middle."""
    described = small_bench / "new.drive.json"
    spec = msgspec.json.decode(described.read_bytes())
    spec |= {"write": {"bytes_per_s": 5e8, "cache_bytes": 4e8, "after_cache_bytes_per_s": 1e8}, "clock": "virtual"}
    spec |= {"health": {"temperature_c": 30}}
    described.write_bytes(msgspec.json.encode(spec))
    window, view, model = at_boot, of(at_boot), at_boot.job.run_in
    assert not view.boxes["heat"].isChecked() and not view.fillings["pace"].isVisible()
    view.show_run_in()
    sheet = view.findChild(RunInSheet)
    assert sheet is not None and sheet.place.count() == 1 and not sheet.plot.scene.points
    sheet.begin.click()
    qtbot.waitUntil(lambda: not model.is_busy, timeout=30_000)
    pause(30)
    assert model.failure is None and model.found is not None and model.found.cache_bytes is not None
    scene = sheet.plot.scene
    assert scene.knee == pytest.approx(model.found.cache_bytes / scene.end_bytes) and 0 < scene.knee < 1
    heights = [up for _, up in scene.points]
    assert heights[0] > 3 * heights[-1], "the pace after the cache is drawn below that before it"
    assert {look().colour("caution").rgb(), look().role("data").rgb()} <= colours(sheet.plot)
    assert "cache ran out after" in texts(sheet) and "MB/s" in texts(sheet)
    assert view.boxes["heat"].isChecked() and not view.boxes["heat"].isEnabled()
    assert "°C after the run-in" in view.fillings["heat"].text() and "cache ran out" in view.fillings["pace"].text()
    assert any(e.kind == "run-in" for e in window.job.log())
    folder = small_bench / "mounted"
    folder.mkdir()
    sheet.take(str(folder))
    sheet.begin.click()
    qtbot.waitUntil(lambda: model.heard is not None, timeout=30_000)
    assert sheet.begin.text() == "Stop"
    sheet.begin.click()
    pause(30)
    assert not model.is_busy and list(folder.iterdir()) == [] and model.found.cache_bytes is not None
    sheet.take(str(small_bench / "gone"))
    sheet.begin.click()
    qtbot.waitUntil(lambda: model.failure is not None, timeout=30_000)
    assert "is no folder" in texts(sheet)
    sheet.accept()


def test_a_start_is_timed_again_and_stands_beside_the_one_before(at_boot: MainWindow, qtbot: QtBot) -> None:
    window, view, intake = at_boot, of(at_boot), at_boot.job.intake
    for _ in range(3):
        intake.press()
        pause(150)
    before = intake.intake.timing(START_UP)
    assert before is not None and len(before.runs) == 1 and not view.bars.isVisible()
    window.bench.update(window.job.ticket, stop="first-boot")
    view.watch.click()
    sheet = view.findChild(StopwatchSheet)
    assert sheet is not None and "Press F5" in texts(sheet)
    assert [s.key().toString() for s in sheet.findChildren(QShortcut)] == ["F5"]
    for words in ("log-in screen comes", "can be used", "Press F5"):
        sheet.page.press.click()
        assert words in texts(sheet)
        pause(150)
    after = intake.intake.timing(START_UP, "after")
    assert after is not None and len(after.runs) == 1
    assert "Before" in texts(sheet) and "After" in texts(sheet)
    sheet.accept()
