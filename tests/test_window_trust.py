"""What is shown is what is confirmed, done and recorded: two jobs, two windows, exchanged cards, held records, cut works."""

from __future__ import annotations

import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import msgspec
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLabel
from pytestqt.qtbot import QtBot

from neogenesis.app.desk.bench import Bench
from neogenesis.app.desk.work import Work
from neogenesis.app.keep.view import KeepSheet
from neogenesis.app.shell.window import MainWindow
from neogenesis.bench.drives.docks import Docked, SimulatedDocks
from neogenesis.bench.emulator.trial import TrialAnswer
from neogenesis.bench.processes import worker
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.records.opening import open_records
from neogenesis.bench.works.planning import load_plan
from neogenesis.core.drive import Identity
from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.job import Job
from neogenesis.core.job.ticket import LONGEST, checked_ticket, folder_name
from neogenesis.core.record import load
from neogenesis.core.reinstall.afterwards import after_steps
from neogenesis.core.transfer import RunFiles
from neogenesis.core.transfer.manifest import save_manifest
from neogenesis.core.transfer.regions import RegionMap, save_regions
from tests.boots import BY_FILE, drive, loader
from tests.drives import blank, data_hash, run, set_docks, simulated, with_health
from tests.test_window import plan, slow, survey, texts, transfer_view

Open = Callable[[Path], MainWindow]
OLD, NEW, OTHER = "old.drive.json", "new.drive.json", "other.drive.json"


@pytest.fixture
def two_jobs(small_bench: Path) -> Path:
    """T-8 besides, with another customer's drive in the third dock, and an empty one in the fourth."""
    run("cp", "--sparse=always", small_bench / "old.img", small_bench / "other.img")
    simulated(small_bench / OTHER, "other.img", model="Ostrel S", serial="OS-240-5571C8")
    blank(small_bench / "new2.img", 1400)
    simulated(small_bench / "new2.drive.json", "new2.img", model="Corvane N2", serial="CN2-000077B6", bus="nvme")
    set_docks(small_bench, [OLD, NEW, OTHER, "new2.drive.json"])
    store = open_records(small_bench / "bench")
    store.add(Job(ticket="T-8", customer="Lantern Rock", machine="Gull", old_drive=str(small_bench / OTHER)))
    store.close()
    return small_bench


def keep_sheet(window: MainWindow, kind: str) -> KeepSheet:
    window.sheets.show_keep()
    sheet = next(s for s in window.findChildren(KeepSheet) if s.isVisible())
    sheet.choices[kind].setChecked(True)  # type: ignore[index]
    return sheet


def type_tail(field: Any, text: str) -> None:
    field.setFocus()
    QTest.keyClicks(field, text)


def planned(qtbot: QtBot, window: MainWindow) -> Any:
    """T-7, ready to be confirmed at Transfer."""
    survey(qtbot, window)
    plan(qtbot, window)
    window.show_stop("transfer")
    return transfer_view(window).gates


@contextmanager
def held(bench: Path) -> Iterator[None]:
    """Another program has the database to itself."""
    begun, end = threading.Event(), threading.Event()

    def hold() -> None:
        connection = sqlite3.connect(bench / "bench/jobs.db", isolation_level=None)
        connection.execute("BEGIN IMMEDIATE")
        begun.set()
        end.wait()
        connection.execute("ROLLBACK")
        connection.close()

    thread = threading.Thread(target=hold)
    thread.start()
    begun.wait()
    yield
    end.set()
    thread.join()


@pytest.fixture(autouse=True)
def impatient(monkeypatch: pytest.MonkeyPatch) -> None:
    """A database that is held is waited for a moment only."""
    monkeypatch.setattr("neogenesis.bench.records.opening._WAIT_MS", 300)


# Whose drive it is


def test_another_jobs_old_drive_is_no_choice(two_jobs: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(two_jobs)
    survey(qtbot, window, "T-8")
    window.show_stop("plan")
    cards = window.views["plan"].choice.buttons  # type: ignore[attr-defined]
    card = cards[str(two_jobs / OLD)]
    assert not card.isEnabled() and "the old drive of T-7" in card.accessibleName()
    assert any("T-7" in label.text() for label in card.findChildren(QLabel))  # said where it is seen, not in a tip
    assert cards[str(two_jobs / "new2.drive.json")].isEnabled()
    for kind in ("restore", "stick"):
        sheet = keep_sheet(window, kind)
        assert str(two_jobs / OLD) not in sheet.targets and "the old drive of T-7" in texts(sheet)
        sheet.reject()


def test_a_stick_that_is_an_old_drive_is_never_ticked(two_jobs: Path, open_window: Open, qtbot: QtBot) -> None:
    run("cp", "--sparse=always", two_jobs / "new2.img", two_jobs / "stick.img")
    simulated(two_jobs / "stick.drive.json", "stick.img", model="Stick", serial="ST-000077C1", bus="usb-sata")
    set_docks(two_jobs, [OLD, NEW, OTHER, "stick.drive.json"])
    window = open_window(two_jobs)
    window.open_job("T-8")
    window.job.survey.choose(str(two_jobs / "stick.drive.json"))
    window.show_jobs()
    window.open_job("T-7")
    sheet = keep_sheet(window, "stick")
    sheet._needed_bytes = 1 << 20
    assert sheet._meant() == "" and str(two_jobs / "stick.drive.json") not in sheet.targets


def test_a_copied_drive_is_not_offered_to_another_job(two_jobs: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(two_jobs)
    gates = planned(qtbot, window)
    type_tail(gates.tail, "41F2")
    gates.start.click()
    qtbot.waitUntil(lambda: window.job.transfer.state == "done", timeout=60_000)
    window.open_job("T-8")
    new = window.bench.dock_named(str(two_jobs / NEW))
    assert "holds its copy" in window.bench.held(new, "T-8")
    qtbot.waitUntil(lambda: window.bench.held(new, "T-7") == "", timeout=5_000)  # it is not being written any more


# Tickets


def test_tickets_that_look_alike_have_folders_of_their_own(small_bench: Path, open_window: Open) -> None:
    window = open_window(small_bench)
    names = [
        "1042/A",
        "1042 A",
        "1042_A",
        "1042~A",
        "1042.A",
        ".1042",
        "1042.",
        "ä",
        "../1042",
        "x" * LONGEST,
        "☂" * LONGEST,
    ]
    for name in names:
        window.bench.add_job(Job(ticket=name, customer="c", machine="m"))
    folders = [window.bench.store.dossier(name) for name in names]
    assert len({folder.name for folder in folders}) == len(names)
    assert all(folder.parent == small_bench / "bench/jobs" and len(folder.name.encode()) <= 255 for folder in folders)
    assert folder_name("T-1042") == "T-1042"
    for bad in ("", "   ", "x" * 300, "a\nb"):
        with pytest.raises(BadArgument):
            window.bench.add_job(Job(ticket=bad, customer="c", machine="m"))
    assert checked_ticket("  T-9 ") == "T-9"


def test_an_older_folder_goes_to_its_only_ticket(small_bench: Path) -> None:
    store = open_records(small_bench / "bench")
    for ticket in ("7/A", "8/A", "8 A"):
        store.add(Job(ticket=ticket, customer="c", machine="m"))
    for name in ("7_A", "8_A"):
        (small_bench / "bench/jobs" / name).mkdir(parents=True)
        (small_bench / "bench/jobs" / name / "plan.json").write_text("{}")
    assert (store.dossier("7/A") / "plan.json").exists()
    assert not (store.dossier("8/A") / "plan.json").exists()  # two could claim it: it stays where it is
    assert (small_bench / "bench/jobs/8_A/plan.json").exists()
    store.close()


def test_a_dossier_of_another_ticket_is_refused_and_the_list_opens(small_bench: Path, open_window: Open) -> None:
    store = open_records(small_bench / "bench")
    about = store.dossier("T-7") / "dossier.json"
    about.write_text(about.read_text().replace("T-7", "T-9"))
    with pytest.raises(BadRecord, match="T-9"):
        store.dossier("T-7")
    store.append("T-7", "2026-12-01T10:00:00+00:00", "Oskar", "transfer-start", "Transfer started", run="r1")
    store.close()
    window = open_window(small_bench)
    assert [row.job.ticket for row in window.jobs_view.model.rows] == ["T-7"]
    window.open_job("T-7")
    assert window.job is None and "T-9" in texts(window)


def test_a_record_of_another_job_is_not_taken_for_this_ones(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    planned(qtbot, window)
    own = window.job.plan.path.parent
    assert json.loads((own / "plan.json").read_bytes())["ticket"] == "T-7"
    window.bench.add_job(Job(ticket="T-8", customer="c", machine="m"))
    other = window.bench.store.dossier("T-8")
    save_manifest(own / "a.manifest.json", {"size_bytes": 0}, ())
    save_regions(own / "a.regions.json", 0, (), Identity(), Identity())
    for name in ("a.manifest.json", "a.regions.json"):
        assert json.loads((own / name).read_bytes())["ticket"] == "T-7"
    shutil.copy(own / "a.regions.json", other / "a.regions.json")
    with pytest.raises(BadRecord, match="of the job T-7"):
        load(other / "a.regions.json", RegionMap, "region map")
    shutil.copy(own / "plan.json", other / "plan.json")
    with pytest.raises(BadRecord, match="of the job T-7, and lies in the dossier of T-8"):
        load_plan(other / "plan.json")
    window.open_job("T-8")
    assert window.job.plan.written is None and window.job.plan.failure is not None


# What was confirmed


def test_another_card_in_the_reader_must_be_confirmed_anew(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    for name in ("cardA.img", "cardB.img"):
        blank(small_bench / name, 1400)
    name = str(small_bench / "card.drive.json")

    def put_in(image: str) -> None:
        simulated(small_bench / "card.drive.json", image, model="Reader", serial="", bus="card")
        set_docks(small_bench, [OLD, "card.drive.json", None, None])

    put_in("cardA.img")
    subprocess.run(
        [sys.executable, "-m", "neogenesis", "image", small_bench / OLD, small_bench / "i.qcow2"], check=True, stdout=-3
    )
    window = open_window(small_bench)
    window.open_job("T-7")
    sheet = keep_sheet(window, "restore")
    sheet.place.setText(str(small_bench / "i.qcow2"))
    box, typed = sheet.targets[name]
    box.setChecked(True)
    type_tail(typed, typed.property("expected"))
    assert sheet.start.isEnabled()
    set_docks(small_bench, [OLD, None, None, None])
    qtbot.waitUntil(lambda: name not in sheet.targets, timeout=15_000)
    put_in("cardB.img")
    qtbot.waitUntil(lambda: name in sheet.targets, timeout=15_000)
    box, typed = sheet.targets[name]
    assert not box.isChecked() and typed.text() == "" and not sheet.start.isEnabled()
    box.setChecked(True)
    type_tail(typed, typed.property("expected"))
    sheet.place.setText(str(small_bench / "old.img"))  # another image: another confirmation
    assert typed.text() == "" and not sheet.start.isEnabled()


def test_what_was_typed_ends_with_the_plan_and_the_drive_it_was_typed_for(
    two_jobs: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(two_jobs)
    gates = planned(qtbot, window)
    assert "T-7" in gates.sentence.text() and "Corvane N2" in gates.sentence.text() and "Plan " in gates.sentence.text()
    type_tail(gates.tail, "41F2")
    assert gates.start.isEnabled()
    model = window.job.plan
    window.show_stop("plan")
    model.toggle(model.plan.layout.partitions[-1].from_partition)
    window.show_stop("transfer")  # changed and not written: what is on file is not what was looked at
    assert not gates.start.isEnabled() and "not written" in texts(window)
    model.write()
    window.show_stop("transfer")
    assert gates.tail.text() == "" and not gates.start.isEnabled()
    type_tail(gates.tail, "41F2")
    simulated(two_jobs / "new2.drive.json", "new2.img", model="Corvane N2", serial="XX9-999941F2", bus="nvme")
    window.bench.look()
    qtbot.waitUntil(
        lambda: "XX9-999941F2" in [d.docked.drive.serial for d in window.bench.docks() if d.docked], timeout=9_000
    )
    window.show_stop("plan")
    model.choose(str(two_jobs / "new2.drive.json"))
    qtbot.waitUntil(lambda: model.state == "ready", timeout=30_000)
    model.write()
    window.show_stop("transfer")
    assert gates.tail.text() == "" and "XX9" not in gates.tail.text() and not gates.start.isEnabled()


def test_the_worker_refuses_what_was_exchanged_after_the_click(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    planned(qtbot, window)
    transfer = window.job.transfer
    confirmed = window.job.transfer._session.confirmation("0" * 64, window.job.new_dock())
    path = window.job.keep_confirmation(confirmed)
    before = data_hash(small_bench / "new.img")
    done = subprocess.run(
        [
            sys.executable,
            "-m",
            "neogenesis",
            "transfer",
            transfer.path,
            "--confirm",
            "41F2",
            "--confirmed",
            path,
            "--bench",
            small_bench / "bench",
        ],
        check=False,
        capture_output=True,
        text=True,
    )
    assert done.returncode == 3 and "not what was confirmed" in done.stderr
    assert data_hash(small_bench / "new.img") == before


def test_a_new_reading_takes_nothing_from_who_is_typing(two_jobs: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(two_jobs)
    window.open_job("T-7")
    sheet = keep_sheet(window, "restore")
    box, typed = sheet.targets[str(two_jobs / NEW)]
    box.setChecked(True)
    type_tail(typed, "41")
    window.bench.drives_changed.emit()
    assert sheet.targets[str(two_jobs / NEW)][1] is typed
    QTest.keyClicks(typed, "F2")
    assert typed.text() == "41F2" and (QApplication.focusWidget() is typed or not sheet.isActiveWindow())


# Two windows


def test_a_plan_that_another_window_wrote_is_heard_and_asks_again(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    first = open_window(small_bench)
    gates = planned(qtbot, first)
    type_tail(gates.tail, "41F2")
    before = first.job.transfer.subject
    second = open_window(small_bench)
    second.open_job("T-7")
    assert second.bench.is_open_elsewhere("T-7") and "Also open in another window" in texts(second)
    second.show_stop("plan")
    qtbot.waitUntil(lambda: second.job.plan.state == "ready", timeout=30_000)
    second.job.plan.toggle(second.job.plan.plan.layout.partitions[-1].from_partition)
    second.job.plan.write()
    qtbot.waitUntil(lambda: first.job.transfer.subject != before, timeout=5_000)
    qtbot.waitUntil(lambda: gates.tail.text() == "", timeout=2_000)
    assert first.job.plan.written == second.job.plan.written and not gates.start.isEnabled()


def test_what_was_not_written_is_there_again(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    first = open_window(small_bench)
    planned(qtbot, first)
    first.show_stop("plan")
    qtbot.waitUntil(lambda: first.job.plan.state == "ready", timeout=30_000)
    first.job.plan.change(spare_percent=12)
    unwritten, written = first.job.plan.plan, first.job.plan.written
    assert first.job.plan.is_unwritten
    first.job.plan.reload()
    again = open_window(small_bench)
    again.open_job("T-7")
    again.show_stop("plan")
    qtbot.waitUntil(lambda: again.job.plan.state == "ready", timeout=30_000)
    assert again.job.plan.is_unwritten and again.job.plan.written == written
    assert again.job.plan.plan.layout == unwritten.layout and not again.job.transfer.may_write
    again.job.plan.change(spare_percent=0)
    assert not again.job.plan.path.with_suffix(".draft.json").exists()


def test_what_one_window_begins_the_other_shows(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    first = open_window(small_bench)
    gates = planned(qtbot, first)
    second = open_window(small_bench)
    slow(small_bench, 5e6)
    type_tail(gates.tail, "41F2")
    gates.start.click()
    dock = second.bench.dock_named(str(small_bench / NEW))
    qtbot.waitUntil(lambda: second.desks.use(dock, None) == "being written", timeout=20_000)
    second.open_job("T-7")
    assert second.job.transfer.is_active
    sheet = keep_sheet(second, "image")
    sheet.place.setText(str(small_bench / "i.qcow2"))
    assert not sheet.start.isEnabled() and "under way" in sheet._why_not.text()
    second.job.keep.start("image", str(small_bench / "i.qcow2"))
    assert not second.job.keep.is_active and not (small_bench / "i.qcow2").exists()
    second.job.transfer.stop()
    qtbot.waitUntil(
        lambda: first.job.transfer.state == "stopped" and second.job.transfer.state == "stopped", timeout=30_000
    )
    ends = [e.kind for e in first.bench.store.log("T-7") if e.kind == "transfer-stopped"]
    assert len(ends) == 1, [
        (e.kind, e.text) for e in first.bench.store.log("T-7")
    ]  # both watched it, and it stands there once


def test_an_image_is_heard_to_its_end_by_the_next_window(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    slow(small_bench, 3e7)
    first = open_window(small_bench)
    first.open_job("T-7")
    first.job.keep.start("image", str(small_bench / "i.qcow2"))
    first.job.survey.start()
    first.job.survey.give_up()  # something else is written into the logbook meanwhile
    process = first.job.keep.kept.process
    first.close()
    second = open_window(small_bench)
    assert second.desks.running_of("T-7") is not None and "Image" in second.desks.busy(second.bench.job("T-7"))
    qtbot.waitUntil(lambda: "image-done" in [e.kind for e in second.bench.store.log("T-7")], timeout=60_000)
    assert second.bench.store.unfinished() == [] and not Path(f"/proc/{process}/exe").exists()


# Records first


def test_nothing_begins_that_cannot_be_recorded(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    gates = planned(qtbot, window)
    type_tail(gates.tail, "41F2")
    before = data_hash(small_bench / "new.img")
    with held(small_bench):
        gates.start.click()
        assert gates.tail.text() == "41F2" and not window.job.transfer.is_active
        assert worker.running_worker(window.job.transfer.path) is None
        assert "cannot be written" in window.bench.cannot_write and "cannot be written" in texts(window)
        window.job.keep.start("image", str(small_bench / "i.qcow2"))
        assert not window.job.keep.is_active and window.job.keep.failure is not None
        window.focus_note()
        QTest.keyClicks(window.logbook.note, "call the customer")
        QTest.keyClick(window.logbook.note, Qt.Key.Key_Return)
        assert window.logbook.note.text() == "call the customer"
    assert data_hash(small_bench / "new.img") == before and not (small_bench / "i.qcow2").exists()
    qtbot.waitUntil(lambda: not window.bench.cannot_write, timeout=5_000)
    window.show_stop("transfer")
    gates.start.click()
    qtbot.waitUntil(lambda: window.job.transfer.state == "done", timeout=60_000)
    kinds = [e.kind for e in window.job.log()]
    assert kinds.count("transfer-start") == 1 and kinds.count("transfer-done") == 1


def test_an_end_is_written_as_soon_as_it_can_be(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    gates = planned(qtbot, window)
    slow(small_bench, 2e7)
    type_tail(gates.tail, "41F2")
    gates.start.click()
    qtbot.waitUntil(lambda: window.job.transfer.progress.copied_bytes > 0, timeout=60_000)
    with held(small_bench):
        qtbot.waitUntil(lambda: not window.job.transfer.is_active, timeout=60_000)
        assert "transfer-done" not in [e.kind for e in window.bench.store.log("T-7")]
    qtbot.waitUntil(lambda: "transfer-done" in [e.kind for e in window.bench.store.log("T-7")], timeout=9_000)
    runs = [e.figures.get("run") for e in window.bench.store.log("T-7") if e.kind.startswith("transfer-")]
    assert len(runs) == 2 and runs[0] == runs[1] and window.bench.store.unfinished() == []


def test_a_survey_that_cannot_be_kept_is_not_done(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    (window.job.dossier / "survey.json").mkdir()
    window.job.survey.start()
    qtbot.waitUntil(lambda: not window.job.survey.reading, timeout=30_000)
    assert window.job.survey.state == "ready" and "cannot be written" in window.job.survey.failure.text
    assert "survey" not in [e.kind for e in window.job.log()]


# Remedies and trials


def test_a_remedy_goes_on_without_its_window_and_is_found_again(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    image = small_bench / "new.img"
    drive(image, "TOKEN-ONE", {"EFI/system/loader.efi": loader(BY_FILE)}, mib=1400)
    RunFiles(window.job.plan.path).manifest.write_text("{}")
    window.show_stop("first-boot")
    model = window.job.first_boot
    qtbot.waitUntil(lambda: model.look is not None and not model.is_busy, timeout=60_000)
    before = data_hash(image)
    total = sum(end - start for start, end in model.remedies[0].writes)
    description = json.loads((small_bench / NEW).read_text())
    description.update(clock="real", write={"bytes_per_s": total / 3})
    (small_bench / NEW).write_text(json.dumps(description))
    window.bench.look()
    dock = window.job.new_dock
    stamp = (small_bench / NEW).stat().st_mtime_ns
    qtbot.waitUntil(lambda: str(stamp) in dock().docked.insertion, timeout=9_000)
    model.refresh()  # identities that it would give follow from how the drive is put in
    qtbot.waitUntil(lambda: not model.is_busy, timeout=60_000)
    assert model.mend(model.remedies[0], "41F2")
    record = window.job.dossier / "remedy-1.undo"
    qtbot.waitUntil(record.exists, timeout=30_000)
    window.close()
    again = open_window(small_bench)
    again.open_job("T-7")
    model = again.job.first_boot
    qtbot.waitUntil(lambda: not model.mending, timeout=60_000)
    kinds = [e.kind for e in again.bench.store.log("T-7")]
    assert kinds.count("remedy-start") == 1 and kinds.count("remedy-done") == 1
    assert data_hash(image) != before and [m.record for m in model.record.remedies] == ["remedy-1.undo"]


def test_a_remedy_that_was_killed_can_be_put_back(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    image = small_bench / "new.img"
    drive(image, "TOKEN-ONE", {"EFI/system/loader.efi": loader(BY_FILE)}, mib=1400)
    RunFiles(window.job.plan.path).manifest.write_text("{}")
    simulated(
        small_bench / NEW,
        "new.img",
        model="Corvane N2",
        serial="CN2-000041F2",
        bus="nvme",
        clock="real",
        write={"bytes_per_s": 3000.0},
    )
    window.show_stop("first-boot")
    model = window.job.first_boot
    stamp = (small_bench / NEW).stat().st_mtime_ns
    window.bench.look()
    qtbot.waitUntil(lambda: str(stamp) in window.job.new_dock().docked.insertion, timeout=9_000)
    qtbot.waitUntil(lambda: model.look is not None and not model.is_busy, timeout=60_000)
    before = data_hash(image)
    run("cp", "--sparse=always", image, small_bench / "before.img")
    assert model.mend(model.remedies[0], "41F2")
    record = window.job.dossier / "remedy-1.undo"
    qtbot.waitUntil(lambda: record.exists() and data_hash(image) != before, timeout=30_000)
    os.kill(model._mends.process, signal.SIGKILL)
    qtbot.waitUntil(lambda: not model.is_busy, timeout=60_000)
    assert model.failure is not None and [m.record for m in model.record.remedies] == ["remedy-1.undo"]
    assert "remedy-failed" in [e.kind for e in window.bench.store.log("T-7")]
    simulated(small_bench / NEW, "new.img", model="Corvane N2", serial="CN2-000041F2", bus="nvme")
    stamp = (small_bench / NEW).stat().st_mtime_ns
    qtbot.waitUntil(lambda: str(stamp) in window.job.new_dock().docked.insertion, timeout=9_000)
    assert model.put_back("41F2")
    qtbot.waitUntil(lambda: not model.is_busy, timeout=60_000)
    assert model.failure is None and model.record.remedies == ()
    run("cmp", image, small_bench / "before.img")  # byte for byte, wherever its holes are


def test_a_trial_proves_one_drive_with_one_copy(two_jobs: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(two_jobs)
    gates = planned(qtbot, window)
    type_tail(gates.tail, "41F2")
    gates.start.click()
    qtbot.waitUntil(lambda: window.job.transfer.state == "done", timeout=60_000)
    model = window.job.first_boot
    kinds = {f.name: f for f in msgspec.structs.fields(TrialAnswer) if f.required}
    answers = {
        "loader_ran": True,
        "seen": "loader",
        "seconds": 7.0,
        "serial": "FIRST",
        "proves": (),
        "does_not_prove": (),
    }
    model.trying, model._trying = True, model.subject
    model._tried(TrialAnswer(**{name: answers.get(name, "") for name in kinds}))
    assert model.is_proven and model.trial is not None
    window.show_jobs()
    window.open_job("T-7")
    assert window.job.first_boot.is_proven and window.job.first_boot.trial is not None
    made = window.job.plan
    made.start_over()
    made.choose(str(two_jobs / "new2.drive.json"))
    assert not window.job.first_boot.is_proven and window.job.first_boot.trial is None
    made.choose(str(two_jobs / NEW))
    qtbot.waitUntil(lambda: made.state == "ready", timeout=30_000)
    assert window.job.first_boot.is_proven  # the same drive, with the same copy
    made.write()
    window.show_stop("transfer")
    gates = transfer_view(window).gates
    type_tail(gates.tail, "41F2")
    gates.start.click()
    qtbot.waitUntil(lambda: window.job.transfer.state == "done", timeout=60_000)
    assert not window.job.first_boot.is_proven  # written anew, and not tried since


# Slow, and odd


class HangingDocks(SimulatedDocks):
    hangs = threading.Event()

    def drives(self) -> list[Docked]:
        self.hangs.wait(20)
        return super().drives()


def test_a_dock_that_hangs_keeps_no_window_from_opening_or_closing(small_bench: Path, qtbot: QtBot) -> None:
    HangingDocks.hangs.clear()
    began = time.monotonic()
    bench = Bench("B", open_records(small_bench / "bench"), HangingDocks(small_bench), Work(), BenchClock())
    window = MainWindow(bench)
    window.show()
    opened = time.monotonic() - began
    assert not any(dock.docked for dock in bench.docks())
    window.close()
    closed = time.monotonic() - began - opened
    HangingDocks.hangs.set()
    bench.store.close()
    window.deleteLater()
    assert opened < 8 and closed < 4  # it hung for 20


def test_drives_that_answer_late_are_shown_then(small_bench: Path, qtbot: QtBot) -> None:
    HangingDocks.hangs.clear()
    bench = Bench("B", open_records(small_bench / "bench"), HangingDocks(small_bench), Work(), BenchClock())
    window = MainWindow(bench)
    HangingDocks.hangs.set()
    qtbot.waitUntil(lambda: sum(bool(d.docked) for d in bench.docks()) == 2, timeout=5_000)
    window.close()
    bench.store.close()
    window.deleteLater()


def test_names_are_shown_as_they_stand(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    simulated(small_bench / NEW, "new.img", model="<b>SEALED</b> & co", serial="CN2-000041F2", bus="nvme")
    window = open_window(small_bench)
    window.open_job("T-7")
    for widget in window.findChildren(QLabel):
        assert widget.textFormat() == Qt.TextFormat.PlainText or not widget.text()
        assert "<b>SEALED" not in widget.toolTip(), widget.toolTip()
    sheet = keep_sheet(window, "restore")
    assert any("&&" in box.text() for box, _ in sheet.targets.values())


def test_a_clock_that_was_set_back_takes_no_time_away(small_bench: Path, open_window: Open) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    clock, model, code = BenchClock(), window.job.first_boot, after_steps()[0].code
    window.bench.clock = clock
    model.begin_step(code)
    clock.wall = lambda: (datetime.now().astimezone() - timedelta(hours=2)).isoformat()  # type: ignore[method-assign]
    model.end_step(code)
    assert "0 min" in window.job.log()[-1].text and "-" not in window.job.log()[-1].text


def test_a_plan_for_a_drive_with_findings_is_what_is_confirmed(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    """Numbers of its health are whole before they are on file, and may be read back otherwise."""
    with_health(small_bench, pending_sectors=52, reallocated_sectors=7, power_on_hours=48210)
    window = open_window(small_bench)
    survey(qtbot, window)
    assert window.job.survey.record.health.reasons
    plan(qtbot, window)
    window.job.transfer.start("41F2")
    qtbot.waitUntil(lambda: window.job.transfer.state in ("done", "failed"), timeout=60_000)
    assert window.job.transfer.state == "done", window.job.transfer.failure
