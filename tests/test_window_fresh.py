"""A clean start in the real window: chosen in Decide, planned by a recipe, written, and started in the emulator."""

from __future__ import annotations

import json
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import msgspec
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QWidget
from pytestqt.qtbot import QtBot

from neogenesis.app.pictures import pause
from neogenesis.app.plan.drivers import DriversSheet
from neogenesis.app.plan.fresh_page import FreshPage
from neogenesis.app.plan.people import PeopleSheet
from neogenesis.app.plan.view import PlanView
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.theme.look import look
from neogenesis.bench.processes.folders import LIBRARY
from neogenesis.bench.simulated.library import make_library
from neogenesis.core.drivers import Answer
from neogenesis.core.plan.model import FreshSource
from neogenesis.core.work import Event
from tests.drives import data_hash, table_of
from tests.test_window import survey, texts, transfer_view
from tests.test_window_swap import colours

Open = Callable[[Path], MainWindow]


@pytest.fixture
def fresh(small_bench: Path, open_window: Open, qtbot: QtBot) -> MainWindow:
    """A job whose plan is to be a clean start, on a bench with a library."""
    window = open_window(small_bench)
    window.open_job("T-7")
    make_library(window.bench.store.folder / LIBRARY)
    window.job.plan.take_intent("fresh")
    window.show_stop("plan")
    qtbot.waitUntil(lambda: window.job.plan.state == "ready", timeout=60_000)
    pause(30)
    return window


def page(window: MainWindow) -> FreshPage:
    view = window.views["plan"]
    assert isinstance(view, PlanView)
    return view.fresh


def choose(box: object, data: str) -> None:
    index = box.findData(data)  # type: ignore[attr-defined]
    assert index >= 0
    box.setCurrentIndex(index)  # type: ignore[attr-defined]
    box.activated.emit(index)  # type: ignore[attr-defined]


def test_decide_leads_to_a_clean_start(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    window.job.decide.choose("fresh", "malware was found")
    assert window.job.plan.is_fresh
    window.show_stop("plan")
    qtbot.waitUntil(lambda: window.job.plan.state == "ready", timeout=60_000)
    pause(30)
    assert "Fresh: a clean system by a recipe" in texts(window)


def test_a_recipe_its_wishes_and_undo(fresh: MainWindow, qtbot: QtBot) -> None:
    window, model, shown = fresh, fresh.job.plan, page(fresh)
    assert [s.title for s in shown.canvas.strata] == ["STARTUP", "Reserved partition", "System", "Recovery"]
    assert {look().role(r).rgb() for r in ("startup", "system")} <= colours(shown.canvas)
    rects = [rect for rect, _ in shown.canvas.labels()]
    assert all(a.bottom() <= b.top() + 1 for a, b in pairwise(rects))
    assert not shown.name.isVisible() and not model.fresh.can_undo
    choose(shown.recipe, "linux-uefi-home")
    assert [s.title for s in shown.canvas.strata] == ["STARTUP", "system", "home"] and shown.swap.isVisible()
    shown.swap.setText("64 MiB")
    shown.swap.editingFinished.emit()
    assert shown.canvas.strata[-1].title == "swap" and shown.canvas.strata[-1].size_bytes == 64 << 20
    shown.volume.setText("much")
    shown.volume.editingFinished.emit()
    assert "much" in texts(window)
    shown.volume.setText("9 TiB")
    shown.volume.editingFinished.emit()
    assert model.refusal is not None and "too small" in texts(window) and not window.views["plan"].write.isEnabled()
    QTest.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert model.refusal is None
    shown.spare.setValue(20)
    assert shown.canvas.free_bytes() > 200 << 20
    model.undo()
    model.undo()
    assert [s.title for s in shown.canvas.strata if s.number] == ["STARTUP", "system", "home"]
    model.redo()
    choose(shown.recipe, "appliance:chart-plotter")
    assert [s.title for s in shown.canvas.strata if s.number] == ["Loader", "Plotter system", "Charts"]


def test_a_system_with_drivers_is_written_and_starts(
    fresh: MainWindow, small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window, model, shown = fresh, fresh.job.plan, page(fresh)
    choose(shown.system, str(model.fresh.library / "meridian-desktop.tar.zst"))
    qtbot.waitUntil(lambda: model.fresh.system is not None, timeout=60_000)
    pause(30)
    assert shown.name.isVisible() and "Meridian Desktop: 3 files" in texts(window)
    shown.name.setText("bad name!")
    shown.name.editingFinished.emit()
    assert "no name for a machine" in texts(window)
    shown.name.setText("ticket-desk")
    shown.name.editingFinished.emit()
    window.views["plan"].show_drivers()
    sheet = shown.findChild(DriversSheet)
    assert sheet.packages is not None and sheet.search.isEnabled()
    sheet.search.click()
    qtbot.waitUntil(lambda: model.fresh.coverage is not None, timeout=60_000)
    pause(30)
    assert model.fresh.coverage.missing == ("Sound", "Camera") and "No sound, no microphone" in texts(sheet)
    sheet.own.click()
    assert "of the old system itself" in texts(sheet)
    sheet.search.click()
    qtbot.waitUntil(lambda: not model.fresh.asking, timeout=60_000)
    pause(30)
    assert "keeps driver packages" in sheet.fault, "the demo's old system has none"
    sheet.accept()
    assert "Missing: Sound, Camera" in texts(window)
    files = small_bench / "saved"
    (files / "Users/berth").mkdir(parents=True)
    (files / "Users/berth/letter.txt").write_text("Dear harbour")
    (files / "Users/berth/game.exe").write_bytes(b"MZ")
    (files / "Users/berth/film.mkv").write_bytes(bytes(40 << 20))
    assert not shown.people.isEnabled()
    model.fresh.change(data=str(files))
    qtbot.waitUntil(lambda: model.fresh.people is not None, timeout=60_000)
    pause(30)
    assert shown.data.currentText() == "saved" and shown.people.isEnabled()
    assert "2 files return" in texts(window) and "1 do not" in texts(window)
    window.views["plan"].show_people()
    people = shown.findChild(PeopleSheet)
    assert [k for k, box in people.boxes.items() if box.isEnabled()] == ["documents", "films", "programs"]
    assert not people.boxes["programs"].isChecked() and "They fit" in texts(people)
    assert [s.title for s in people.column.strata] == ["System", "documents", "films", "free"]
    assert {look().role("system").rgb(), look().role("data").rgb()} <= colours(people.column)
    people.boxes["films"].setFocus()
    QTest.keyClick(people.boxes["films"], Qt.Key.Key_Space)
    assert model.fresh.wish.kinds == ("documents",) and "1 file returns" in texts(people)
    assert [s.title for s in people.column.strata] == ["System", "documents", "free"]
    people.boxes["documents"].click()
    assert model.fresh.wish.kinds == ("documents",) and people.boxes["documents"].isChecked()
    people.boxes["programs"].click()
    pause(30)
    assert "What can be run returns as well" in texts(people) and model.fresh.wish.programs
    model.fresh.undo()
    pause(30)
    assert not people.boxes["programs"].isChecked() and "What can be run returns" not in texts(people)
    people.accept()
    window.views["plan"].write.click()
    assert model.is_written and isinstance(model.written.source, FreshSource)
    again = open_window(small_bench)
    again.open_job("T-7")
    assert again.job.plan.is_fresh and again.job.plan.fresh.wish.answers.machine_name == "ticket-desk"
    again.show_stop("plan")
    filed = again.job.plan.fresh
    page(again).show_people()
    qtbot.waitUntil(lambda: filed.people is not None, timeout=60_000)
    pause(30)
    sheet = page(again).findChild(PeopleSheet)
    assert "1 file returns" in texts(sheet) and "fit" not in texts(sheet) and again.job.plan.is_written
    sheet.accept()
    again.close()
    transfer = window.job.transfer
    window.show_stop("transfer")
    pause(30)
    assert transfer.may_write, [g.text for g in transfer.gates() if not g.open]
    transfer.start("41f2")
    qtbot.waitUntil(lambda: transfer.state in ("done", "failed", "stopped"), timeout=120_000)
    pause(50)
    assert transfer.state == "done", transfer.failure
    returned = json.loads((window.job.dossier / "plan.returned.json").read_text())
    assert [f["place"] for f in returned["files"]] == ["Users/berth/letter.txt"]
    assert {one["why"][:10] for one in returned["left_out"]} == {"It can be ", "It is of t"}
    assert len(table_of(small_bench / "new.img")["partitions"]) == 4 and model.state == "locked"
    window.show_stop("first-boot")
    boot = window.job.first_boot
    qtbot.waitUntil(lambda: boot.look is not None, timeout=60_000)
    assert boot.look.forecast.starts
    boot.try_it()
    qtbot.waitUntil(lambda: not boot.is_busy, timeout=90_000)
    assert boot.trial.seen == "Meridian Desktop 11.4" and boot.is_proven
    kinds = [e.kind for e in window.job.log()]
    assert {"drivers", "plan", "transfer-done", "trial-boot"} <= set(kinds)


def test_people_s_files_on_a_volume_of_their_own_and_too_many_of_them(
    fresh: MainWindow, small_bench: Path, qtbot: QtBot
) -> None:
    model, shown = fresh.job.plan.fresh, page(fresh)
    choose(shown.recipe, "linux-uefi-home")
    choose(shown.system, str(model.library / "fathom-linux.tar.zst"))
    qtbot.waitUntil(lambda: model.system is not None, timeout=60_000)
    held = small_bench / "saved/home/ann"
    held.mkdir(parents=True)
    (held / "note.txt").write_text("Dear harbour")
    other = small_bench / "saved/Users/ann"
    other.mkdir(parents=True)
    (other / "note.txt").write_text("Dear harbour, again")
    with (held / "film.mkv").open("wb") as file:
        file.truncate(2 << 30)
    model.change(data=str(small_bench / "saved"))
    qtbot.waitUntil(lambda: model.people is not None, timeout=60_000)
    fresh.views["plan"].show_people()
    people = shown.findChild(PeopleSheet)
    pause(30)
    assert [s.title for s in people.column.strata] == ["documents", "films"] and "too much" in texts(people)
    assert model.refusal is not None and not fresh.views["plan"].can_write()
    people.boxes["films"].click()
    pause(30)
    assert [s.title for s in people.column.strata] == ["documents", "free"] and "They fit: there are" in texts(people)
    assert model.refusal is None and fresh.views["plan"].can_write()
    assert "1 name is there twice; both are kept." in texts(people)
    choose(people.same, "newer")
    qtbot.waitUntil(lambda: model.people is not None, timeout=60_000)
    pause(30)
    assert (
        model.wish.same == "newer" and "there twice" not in texts(people) and model.plan.source.system.same == "newer"
    )
    owner = people.owners["ann"]
    assert [owner.itemText(n) for n in range(owner.count())] == ["to a home of its own, ann", "stays out"]
    choose(owner, "")
    qtbot.waitUntil(lambda: model.people is not None, timeout=60_000)
    pause(30)
    assert model.wish.persons == (("ann", ""),) and not model.people.files and model.refusal is None
    model.undo()
    qtbot.waitUntil(lambda: model.people is not None and model.people.files > 0, timeout=60_000)
    model.change(without=("film*",))
    qtbot.waitUntil(lambda: model.people is not None and model.plan.source.system.without == ("film*",), timeout=60_000)
    assert list(model.people.kinds) == ["documents"]
    filed = model.plan
    model.change(without=())
    model.adopt(filed)
    assert model.wish.without == ("film*",), "a plan on file keeps what was chosen to stay out at a shell"


def test_what_a_person_must_have_seen_is_a_gate_that_opens_with_a_tick(
    fresh: MainWindow, small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window, model, shown = fresh, fresh.job.plan, page(fresh)
    choose(shown.recipe, "appliance:handheld-console")
    window.views["plan"].write.click()
    transfer = window.job.transfer
    window.show_stop("transfer")
    pause(30)
    gates = transfer_view(window).gates
    box = gates.confirms["The saved games were seen in the owner's account, or are copied out."]
    QTest.keyClicks(gates.tail, "41f2")
    assert not box.isChecked() and not gates.start.isEnabled() and not transfer.may_write
    transfer.start("41f2")
    assert transfer.state not in ("starting", "running"), "the order itself asks the gates as well"
    box.click()
    pause(30)
    assert transfer.may_write and gates.start.isEnabled()
    again = open_window(small_bench)
    again.open_job("T-7")
    assert again.job.plan.confirmed == model.confirmed and again.job.transfer.may_write
    again.close()
    next(iter(gates.confirms.values())).click()
    pause(30)
    assert not transfer.may_write
    assert [e.kind for e in window.job.log()].count("confirmed") == 2
    model.fresh.change(recipe="nt-uefi", drivers="")
    model.fresh.coverage = Answer(
        schema=Answer.SCHEMA, devices=(), missing=(), during_installation=("net.inf",), order=(), bytes=0
    )
    assert [g.text for g in model.gates_of(model.plan) if not g.open] == [
        "To be ticked: The drivers that the installation itself needs are on the stick."
    ]


def test_back_to_a_copy_and_a_bad_image(fresh: MainWindow, small_bench: Path, qtbot: QtBot, tmp_path: Path) -> None:
    window, model, shown = fresh, fresh.job.plan, page(fresh)
    bad = tmp_path / "bad.tar.zst"
    bad.write_bytes(b"no archive")
    shown._dropped([bad])
    qtbot.waitUntil(lambda: not model.fresh.asking, timeout=60_000)
    pause(30)
    assert "damaged or cut short" in texts(window) and model.fresh.wish.system == ""
    survey(qtbot, window)
    window.show_stop("plan")
    window.views["plan"].other_way.click()
    qtbot.waitUntil(lambda: model.state == "ready" and model.plan is not None, timeout=60_000)
    assert model.plan.intent == "replace" and not model.is_fresh


def key(
    qtbot: QtBot, window: MainWindow, code: Qt.Key, held: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier
) -> None:
    """To whatever has the keyboard."""
    qtbot.keyClick(QApplication.focusWidget() or window, code, held)


def tab_to(qtbot: QtBot, window: MainWindow, wanted: QWidget) -> None:
    """As a person without a mouse comes there."""
    for _ in range(120):
        if QApplication.focusWidget() is wanted:
            return
        key(qtbot, window, Qt.Key.Key_Tab)
    raise AssertionError(f"{wanted.accessibleName() or wanted} cannot be reached by the Tab key")


def pick(qtbot: QtBot, window: MainWindow, box: QComboBox, text: str) -> None:
    tab_to(qtbot, window, box)
    for _ in range(box.count()):
        if text in box.currentText():
            return
        key(qtbot, window, Qt.Key.Key_Down)
        pause(10)
    raise AssertionError(f"“{text}” is not there: {[box.itemText(n) for n in range(box.count())]}")


def test_from_malware_in_decide_to_files_given_back_by_keyboard_alone(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    control = Qt.KeyboardModifier.ControlModifier
    before = data_hash(small_bench / "old.img")
    window = open_window(small_bench)
    make_library(window.bench.store.folder / LIBRARY)
    window.activateWindow()
    window.jobs_view.focus_on("T-7")
    key(qtbot, window, Qt.Key.Key_Return)
    job = window.job
    window.show_stop("survey")
    key(qtbot, window, Qt.Key.Key_Return, control)
    qtbot.waitUntil(lambda: job.survey.state == "done", timeout=60_000)
    job.intake.change(symptoms=("malware",), must_survive="files")
    key(qtbot, window, Qt.Key.Key_3, Qt.KeyboardModifier.AltModifier)
    pause(50)
    assert job.decide.decision.recommended == "fresh", "malware recommends no copy of the system"
    key(qtbot, window, Qt.Key.Key_Return, control)
    assert window.job.job.intent == "fresh"
    key(qtbot, window, Qt.Key.Key_5, Qt.KeyboardModifier.AltModifier)
    qtbot.waitUntil(lambda: job.plan.state == "ready", timeout=60_000)
    pause(50)
    shown, fresh = page(window), job.plan.fresh
    pick(qtbot, window, shown.recipe, "UEFI")
    pick(qtbot, window, shown.system, "meridian")
    qtbot.waitUntil(lambda: fresh.system is not None, timeout=60_000)
    pause(30)
    tab_to(qtbot, window, shown.name)
    key(qtbot, window, Qt.Key.Key_A, control)
    qtbot.keyClicks(shown.name, "harbour")
    key(qtbot, window, Qt.Key.Key_Tab)
    pick(qtbot, window, shown.data, "the old drive itself")
    qtbot.waitUntil(lambda: fresh.people is not None, timeout=60_000)
    pause(30)
    key(qtbot, window, Qt.Key.Key_S, control)
    assert job.plan.is_written and fresh.wish.answers.machine_name == "harbour", texts(window)
    key(qtbot, window, Qt.Key.Key_6, Qt.KeyboardModifier.AltModifier)
    pause(50)
    gates = transfer_view(window).gates
    for box in gates.confirms.values():
        tab_to(qtbot, window, box)
        key(qtbot, window, Qt.Key.Key_Space)
    tab_to(qtbot, window, gates.tail)
    qtbot.keyClicks(gates.tail, "41f2")
    tab_to(qtbot, window, gates.start)
    key(qtbot, window, Qt.Key.Key_Space)
    running = transfer_view(window).running
    qtbot.waitUntil(lambda: job.transfer.progress.operation >= 1, timeout=60_000)
    assert running.steps.isVisible() and not running.course.isVisible(), "nothing is written yet"
    qtbot.waitUntil(lambda: job.transfer.state in ("done", "failed", "stopped"), timeout=120_000)
    assert job.transfer.state == "done", job.transfer.failure
    returned = json.loads((job.dossier / "plan.returned.json").read_text())
    places = {file["place"] for file in returned["files"]}
    assert places and all(place.startswith("Users/") for place in places)
    assert any("belongs to the old system" in one["why"] for one in returned["left_out"])
    assert data_hash(small_bench / "old.img") == before, "not one byte of the old drive changed"
    heard = {(event.phase, event.event) for event in heard_events(job.dossier / "plan.events.jsonl")}
    assert {("fill", "progress"), ("copy", "progress"), ("verify", "progress")} <= heard


def heard_events(path: Path) -> list[Event]:
    return [msgspec.json.decode(line, type=Event) for line in path.read_bytes().splitlines()]
