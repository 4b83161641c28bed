"""The views of the Survey stop in the real window: health, speed, what fills it, inside, why, other drives."""

from __future__ import annotations

import csv
import json
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox, QPlainTextEdit, QWidget
from pytestqt.qtbot import QtBot

from neogenesis.app.shell.window import MainWindow
from neogenesis.app.survey.fill_scene import FillTree
from neogenesis.app.survey.health_plot import health_scene
from neogenesis.app.survey.pages import filling_sentence, language_name
from neogenesis.app.survey.speed_plot import speed_scene
from neogenesis.app.survey.view import SurveyView
from neogenesis.core.drive import HealthReading
from neogenesis.core.drive.history import HealthEntry
from neogenesis.core.intake import Figure
from neogenesis.core.intake.change import with_figure
from neogenesis.core.survey.filling import FillCount, Filling
from tests.drives import LINUX, NT_DATA, STARTUP, Part, make_drive, set_docks, simulated
from tests.test_looks import fve
from tests.test_window import Open, survey, texts


def view_of(window: MainWindow) -> SurveyView:
    view = window.views["survey"]
    assert isinstance(view, SurveyView)
    return view


def colours(widget: QWidget) -> int:
    image: QImage = widget.grab().toImage()
    return len({image.pixel(x, y) for x in range(0, image.width(), 2) for y in range(0, image.height(), 2)})


def old_drive(bench: Path, **traits: object) -> None:
    usual = {"model": "Halden 500", "serial": "HD5-00009K3D", "clock": "virtual"}
    simulated(bench / "old.drive.json", "old.img", **usual | traits)


def test_what_fills_it_is_counted_gone_down_into_and_saved(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    view, looks = view_of(window), window.job.looks
    view.views.chips["fills"].click()
    assert "Not counted yet." in texts(window)
    view.fill.count.click()
    qtbot.waitUntil(lambda: not looks.is_busy, timeout=30_000)
    assert looks.failure is None and view.fill.canvas.columns
    canvas = view.fill.canvas
    canvas.setFocus()
    before = len(canvas.columns)
    first = canvas.chosen
    assert first is not None and first.opens
    QTest.keyClick(canvas, Qt.Key.Key_Right)
    assert len(canvas.columns) == before + 1
    assert sum(x.bytes for x in canvas.columns[-1].layers) == first.bytes
    QTest.keyClick(canvas, Qt.Key.Key_Down)
    QTest.keyClick(canvas, Qt.Key.Key_Left)
    assert len(canvas.columns) == before and canvas.chosen == first
    assert colours(canvas) > 6
    places = canvas._places()[0][1]
    QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=places[0].rect.center().toPoint())
    assert len(canvas.columns) == before + 1
    filling = next(iter(looks.fillings.values()))
    view.fill.export_to(window.job.dossier / "f.csv", filling)
    with (window.job.dossier / "f.csv").open(newline="") as file:
        assert sum(1 for r in csv.DictReader(file) if r["what"] == "file") == min(1000, filling.files)
    view.fill.export_to(window.job.dossier / "no/f.csv", filling)
    assert "cannot be written" in texts(window)
    window.show_jobs()
    window.open_job("T-7")
    assert window.job.looks.fillings, "kept in the dossier"


def test_a_count_can_be_stopped(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    looks = window.job.looks
    looks.count(looks.fillable[0])
    looks.give_up()
    qtbot.wait(200)
    assert not looks.is_busy and not looks.fillings
    looks.count(looks.fillable[0])
    qtbot.waitUntil(lambda: not looks.is_busy, timeout=30_000)
    assert looks.fillings


def filling(files: dict[str, int], used: int = 0) -> Filling:
    count = FillCount()
    for path, size in files.items():
        count.add(path, size)
    return count.filling("f", 1, 10_000, used, True, 1.0)


def test_columns_add_up_and_small_files_are_told_together() -> None:
    files = {f"Users/anders/Pictures/{n:02}.jpg": 100 - n for n in range(30)}
    files |= {"Users/marit/x": 50, "Windows/x": 7, "$Recycle.Bin/a/x": 9, "$MFT": 999, "Scans/a": 3}
    tree = FillTree(filling(files, used=5000))
    first = tree.columns([])[0]
    assert [x.key for x in first.layers[:2]] == ["people", "trash"]
    assert [x.what for x in first.layers[-2:]] == ["beyond", "free"]
    assert {x.key for x in first.layers if x.clears} == {"trash"}
    columns = tree.columns(["people", "Users/anders", "Users/anders/Pictures"])
    assert [c.title for c in columns] == ["The volume", "people's files", "anders", "Pictures"]
    assert [x.title for x in columns[1].layers] == ["anders", "marit"]
    last = columns[-1].layers
    assert last[0].title == "00.jpg" and last[-1].what == "rest" and "19 smaller files" in last[-1].title
    assert sum(x.bytes for x in last) == sum(100 - n for n in range(30))
    assert len(tree.columns(["nowhere", "Users"])) == 1


def test_one_sentence_says_what_most_of_it_is() -> None:
    found = filling({"Users/a/x": 700, "Windows/x": 200, "$Recycle.Bin/a/x": 100})
    assert (
        filling_sentence(found) == "Most of it, 70 %, is people's files, then system with 20 %. 100 B could be cleared."
    )
    assert filling_sentence(filling({})) == "There are no files in it."


def test_speed_is_measured_drawn_and_explained(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    old_drive(small_bench, read={"bytes_per_s": 1e8, "seek_ms": 10, "slow": [[200 << 20, 260 << 20, 400]]})
    window = open_window(small_bench)
    survey(qtbot, window)
    view, looks = view_of(window), window.job.looks
    view.show_view("speed")
    qtbot.wait(20)
    assert "Not measured yet" in texts(window)
    view.speed.start.click()
    qtbot.waitUntil(lambda: not looks.is_busy, timeout=30_000)
    assert looks.profile is not None and looks.profile.mechanical and looks.profile.zones
    assert len(looks.soundings) == len(looks.profile.soundings), "each was heard while it was measured"
    qtbot.wait(20)
    assert "So it is mechanical." in texts(window) and "Slow from" in texts(window)
    scene = view.speed.plot.scene
    assert any(s.slow for s in scene.staves) and colours(view.speed.plot) > 6
    view.show_view("why")
    qtbot.wait(20)
    assert [e.code for e in looks.explanations][:2] == ["slow-zone", "mechanical"]
    assert "Part of the drive reads far slower" in texts(window) and "files were not counted" in texts(window)
    window.job.intake.put(with_figure(window.job.intake.intake, Figure(code="memory", text="2, soldered")))
    assert "little-memory" in [e.code for e in looks.explanations]


def test_a_failing_drive_offers_no_measuring(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    old_drive(small_bench, health={"pending_sectors": 4})
    window = open_window(small_bench)
    survey(qtbot, window)
    view = view_of(window)
    view.show_view("speed")
    qtbot.wait(20)
    assert not view.speed.start.isEnabled() and "not to be stressed" in texts(window)
    view.show_view("health")
    qtbot.wait(20)
    assert "4 sectors waiting" in texts(window)


def test_a_stalling_drive_is_said_to_be_imaged_first(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    old_drive(small_bench, read={"slow": [[1 << 20, 2 << 20, 30_000]]})
    window = open_window(small_bench)
    survey(qtbot, window)
    assert window.job.survey.record.health.image_first
    qtbot.wait(30)
    assert "stood still for" in texts(window)


def test_readings_are_kept_and_what_gets_worse_is_said(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    old_drive(
        small_bench, health={"reallocated_sectors": 0, "temperature_c": 31, "wear_percent": 20, "power_on_hours": 900}
    )
    window = open_window(small_bench)
    survey(qtbot, window)
    looks = window.job.looks
    qtbot.waitUntil(lambda: len(looks.history("old")) == 1, timeout=10_000)
    old_drive(
        small_bench, health={"reallocated_sectors": 8, "temperature_c": 39, "wear_percent": 20, "power_on_hours": 901}
    )
    qtbot.waitUntil(lambda: len(looks.history("old")) == 2, timeout=20_000)
    view = view_of(window)
    view.show_view("health")
    qtbot.wait(30)
    said = texts(window)
    assert "It got worse while it was here: reallocated sectors 0 → 8." in said and "0 → 8" in said
    assert "about 3,600 hours of running" in said
    assert {line.title for line in view.health.plot.scene.lines} == {"Reallocated sectors", "Temperature"}
    assert colours(view.health.plot) > 3


def test_a_line_of_readings_is_drawn_between_its_lowest_and_highest() -> None:
    entries = [
        HealthEntry(at=f"2026-11-26T12:0{n}:00+00:00", reading=HealthReading(temperature_c=t))
        for n, t in enumerate((30.0, 40.0, 35.0))
    ]
    scene = health_scene(entries)
    assert list(scene.lines[0].points) == [(0.0, 0.0), (0.5, 1.0), (1.0, 0.5)]
    assert health_scene(entries[:1]).lines == () and health_scene([]).lines == ()


def test_drives_of_one_machine_and_a_second_survey(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    make_drive(small_bench / "two.img", 320, [Part(40, STARTUP, "fat32", "START"), Part(200, LINUX, "ext4", "root")])
    simulated(small_bench / "two.drive.json", "two.img", model="Ostrel S", serial="OS-2")
    set_docks(small_bench, ["old.drive.json", "new.drive.json", "two.drive.json"])
    window = open_window(small_bench)
    survey(qtbot, window)
    view, others = view_of(window), window.job.others
    view.more.click()
    assert str(small_bench / "two.drive.json") in view.choice.buttons and len(view.choice.buttons) == 1
    view.choice.buttons[str(small_bench / "two.drive.json")].click()
    qtbot.waitUntil(lambda: not others.reading and bool(others.surveys), timeout=30_000)
    qtbot.wait(30)
    said = texts(window)
    assert "Drives of this machine" in said and "could start it" in said and "Ostrel S" in said
    others.add(str(small_bench / "two.drive.json"))
    qtbot.waitUntil(lambda: not others.reading, timeout=30_000)
    assert len(others.surveys) == 1, "surveyed again, not twice on the list"
    window.show_jobs()
    window.open_job("T-7")
    assert len(window.job.others.surveys) == 1
    window.job.others.drop(0)
    assert window.job.others.together is None
    assert window.job.survey.changes == ()


def test_a_later_survey_tells_what_changed(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    survey(qtbot, window)
    model = window.job.survey
    file = window.job.dossier / "survey.json"
    window.show_jobs()
    raw = json.loads(file.read_text())
    part = next(p for p in raw["partitions"] if p["volume"]["used_bytes"])
    part["volume"]["used_bytes"] += 5 << 30
    file.write_text(json.dumps(raw))
    window.open_job("T-7")
    model = window.job.survey
    window.show_stop("survey")
    model.start()
    qtbot.waitUntil(lambda: not model.reading, timeout=30_000)
    qtbot.wait(30)
    assert any("5.37 GB (5 GiB) less than before" in line for line in model.changes)
    assert "Since the first survey" in texts(window)
    assert any(e.kind == "survey-changed" for e in window.job.log())


def test_inside_shows_people_programs_and_what_is_damaged(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    status = b"".join(b"Package: p%d\nStatus: install ok installed\nVersion: 1\n\n" % n for n in range(3))
    files = {
        "etc/os-release": b'NAME="Fathom Linux"\nVERSION_ID=7\n',
        "etc/passwd": b"keeper:x:1000:1000::/home/keeper:/bin/sh\n",
        "etc/default/locale": b"LANG=de_DE.UTF-8\n",
        "var/lib/dpkg/status": status,
    }
    noise = {"Windows/System32/config/SYSTEM": bytes(range(256)) * 40, "Windows/System32/ntoskrnl.exe": b"MZ"}
    parts = [Part(80, LINUX, "ext4", "root", files), Part(80, NT_DATA, "ntfs", "Main", noise)]
    make_drive(small_bench / "in.img", 320, parts)
    simulated(small_bench / "old.drive.json", "in.img", model="Halden 500", serial="HD5-00009K3D")
    window = open_window(small_bench)
    survey(qtbot, window)
    view = view_of(window)
    view.show_view("inside")
    qtbot.wait(30)
    said = texts(window)
    for piece in ("Fathom Linux 7", "keeper", "Deutsch (de_DE)", "The registry hive SYSTEM cannot be read."):
        assert piece in said, piece
    programs = view.inside.findChild(QPlainTextEdit)
    assert programs is not None and programs.toPlainText() == "p0  1\np1  1\np2  1"


def test_steps_of_decryption_are_ticked_off_in_the_logbook(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    (small_bench / "fve.img").write_bytes(fve(4, (0x100, 0x800), size=64 << 20))
    simulated(small_bench / "old.drive.json", "fve.img", model="Halden 500", serial="HD5-00009K3D")
    window = open_window(small_bench)
    survey(qtbot, window)
    view = view_of(window)
    view.show_view("inside")
    qtbot.wait(30)
    boxes = view.inside.findChildren(QCheckBox)
    assert "Encryption is on." in texts(window) and len(boxes) == 6
    boxes[0].click()
    boxes[1].click()
    boxes[1].click()
    assert [e.kind for e in window.job.log()[-3:]] == ["step-done", "step-done", "step-undone"]
    window.show_jobs()
    window.open_job("T-7")
    window.show_stop("survey")
    view_of(window).show_view("inside")
    assert [b.isChecked() for b in view_of(window).inside.findChildren(QCheckBox)] == [True, *[False] * 5]


def test_languages_are_told_by_name() -> None:
    assert language_name("0407") == "Deutsch (de_DE)" and language_name("zzzz") == "zzzz" and language_name("") == ""


def test_a_speed_scene_marks_what_cannot_be_read(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    old_drive(small_bench, read={"bytes_per_s": 1e8, "unreadable": [[300 << 20, 400 << 20]]})
    window = open_window(small_bench)
    survey(qtbot, window)
    looks = window.job.looks
    looks.measure_speed()
    qtbot.waitUntil(lambda: not looks.is_busy, timeout=30_000)
    assert looks.profile is not None and looks.profile.ended == "errors"
    scene = speed_scene(looks.profile.soundings, window.job.survey.record, looks.profile)
    assert sum(s.height is None for s in scene.staves) == 3
