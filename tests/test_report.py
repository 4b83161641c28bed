"""The report of a job that ended without a transfer: every way comes to its end, and says only what was done."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from pytestqt.qtbot import QtBot

from neogenesis.app.handover.view import HandoverView
from neogenesis.app.pictures import pause
from neogenesis.app.shell.window import MainWindow
from neogenesis.bench.works.planning import load_plan
from neogenesis.core.decide.way import WAYS
from neogenesis.core.intake import Intake, Later
from neogenesis.core.job import Job, LogEntry, Report, report_from_records
from neogenesis.core.job.route import not_needed
from neogenesis.core.transfer import RunFiles
from tests.drives import blank
from tests.test_window import Open, survey, texts

JOB = Job(ticket="T-9", customer="The harbour choir", machine="Petrel 12", old_drive="old.drive.json")
NOWHERE = Path("/nowhere/p.manifest.json")


def log_of(*entries: tuple[str, dict[str, Any]], text: str = "") -> list[LogEntry]:
    return [
        LogEntry(number=n, at="2026-12-02T10:00:00+01:00", who="Mirren", kind=kind, text=text or kind, figures=figures)
        for n, (kind, figures) in enumerate(entries, 1)
    ]


def decided(way: str, *more: tuple[str, dict[str, Any]], **figures: Any) -> list[LogEntry]:
    return log_of(("decide", {"way": way, **figures}), *more)


def reported(log: list[LogEntry], intake: Intake = Intake()) -> Report | None:
    return report_from_records(JOB, None, NOWHERE, log, intake)


def words(report: Report) -> str:
    return "\n".join(
        [s for one in report.sections for s in (one.heading, *one.sentences)]
        + [word for one in report.sections for row in one.rows for word in row]
    )


@pytest.mark.parametrize("way", WAYS)
def test_every_way_comes_to_a_report_when_its_own_work_has_ended(way: str) -> None:
    """A way that copies waits for its copy, a salvage for its files; every other one has its words at once."""
    needs = "transfer" not in not_needed(way)
    assert (reported(decided(way)) is None) == needs, way
    onto = reported(decided(way, ("rescue-partial", {})))
    assert onto is not None and "read gently" in words(onto)
    assert (reported(decided(way, ("image-done", {}))) is None) == needs, "an image is no end of a copy"
    assert (reported(decided(way, ("salvage-done", {}))) is None) == (needs and way != "salvage")


def test_without_a_decision_only_what_was_saved_is_told() -> None:
    assert reported([]) is None and reported(log_of(("image-done", {}))) is None
    report = reported(log_of(("salvage-start", {"run": "a"}), ("salvage-done", {"run": "a"})))
    assert (
        report is not None and "each with a checksum" in words(report) and "goes back with the machine" in words(report)
    )


def test_what_was_put_back_is_not_told_as_mended() -> None:
    mended = ("remedy-done", {"code": "fallback-loader"})
    report = reported(decided("repair-start", mended))
    assert report is not None
    assert "repaired" in words(report) and "where every machine looks" in words(report)
    assert "It is in the machine, where it was." in words(report) and "goes back" not in words(report)
    undone = reported(decided("repair-start", mended, ("undo-done", {"code": "fallback-loader"})))
    assert undone is not None and "where every machine looks" not in words(undone)
    looked = reported(decided("repair-start"))
    assert looked is not None and "was looked at" in words(looked) and "repaired" not in words(looked)


def test_losses_are_told_until_the_customer_has_read_them() -> None:
    partial = log_of(
        ("decide", {"way": "salvage"}), ("salvage-partial", {}), text="Done, but 3 files could not be read."
    )
    report = reported(partial)
    assert report is not None and "3 files could not be read" in words(report)
    assert "What could not be read" in [s.heading for s in report.sections]
    again = [*partial, *log_of(("salvage-done", {}), text="Done.")]
    whole = reported(again)
    assert whole is not None and "3 files" not in words(whole), "they were read at last"


def test_what_was_told_to_the_customer_and_why_stand_there() -> None:
    reasons = ["Do not start it again to see: heads scratch with every start."]
    report = reported(decided("refer", reasons=reasons))
    assert report is not None and reasons[0] in words(report) and "laboratory" in words(report)
    done = log_of(("decide", {"way": "repair-cause"}), ("done", {}), text="The fan was cleaned.")
    found = reported(done, Intake(later=Later(old_parts="wiped")))
    assert found is not None and "The fan was cleaned." in words(found) and "wiped" not in words(found)
    again = reported(decided("replace-machine", again=["5 programs", "accounts"]))
    assert again is not None and ("accounts", "as it was said before the work") in again.sections[2].rows
    swapped = reported(decided("do-less", ("swap-done", {"out": 6, "back": 6})))
    assert swapped is not None and "Of 6 fasteners that came out, 6 went back." in words(swapped)


def test_a_clean_drive_says_what_is_not_on_it(
    small_bench: Path, neogenesis: Callable[..., Any], tmp_path: Path
) -> None:
    """Empty volumes start nothing; files that are nowhere else are no rubbish; without an old drive none is spoken of."""
    new = small_bench / "new.drive.json"
    neogenesis("recipe", "data", new, "--confirm", "41F2", "-o", tmp_path / "plan.json")
    plan, manifest = load_plan(tmp_path / "plan.json"), RunFiles(tmp_path / "plan.json").manifest

    def told(job: Job, log: list[LogEntry], intake: Intake) -> str:
        report = report_from_records(job, plan, manifest, log, intake)
        assert report is not None
        return words(report)

    held, nameless = Intake(must_survive="files"), msgspec.structs.replace(JOB, old_drive="")
    alone = told(JOB, [], held)
    assert "its volumes are empty" in alone and "only on the old drive still" in alone and "disposal" not in alone
    assert "Start the machine a few times" not in alone and "Written" in alone and "Copied" not in alone
    assert "only on the old drive still" in told(nameless, [], held), "it was never docked, and holds them all the same"
    assert "only on the old drive still" in told(JOB, log_of(("salvage-failed", {})), held)
    saved = told(JOB, log_of(("salvage-done", {})), held)
    assert "only on the old drive" not in saved and "disposal" in saved and "each with a checksum" in saved
    bare = told(nameless, [], Intake(must_survive="nothing"))
    assert "old drive" not in bare and "its volumes are empty" in bare


def test_of_what_nobody_understands_no_free_room_is_told(
    standard: Path, tmp_path: Path, neogenesis: Callable[..., Any]
) -> None:
    new, path = blank(tmp_path / "new.img", 900), tmp_path / "p.json"
    survey = json.loads(neogenesis("survey", standard, "--json").stdout)
    place = next(p for p in survey["partitions"] if p["role"] == "system")
    with standard.open("r+b") as file:
        file.seek(place["start_bytes"])
        file.write(b"LUKS\xba\xbe\0\1".ljust(64 << 10, b"\0"))
    neogenesis("plan", standard, new, "--intent", "exact", "-o", path)
    neogenesis("transfer", path, "--confirm", "new")
    report = report_from_records(JOB, load_plan(path), RunFiles(path).manifest, [])
    assert report is not None
    rows = dict(next(s.rows for s in report.sections if s.heading == "Before and after"))
    told = [value for name, value in rows.items() if " before, " in value]
    assert len(told) == 2 and sum("free" in value for value in told) == 1, told


def test_a_job_without_a_copy_is_handed_over_in_the_window_and_at_a_shell(
    small_bench: Path, open_window: Open, qtbot: QtBot, neogenesis: Callable[..., Any], tmp_path: Path
) -> None:
    window: MainWindow = open_window(small_bench)
    survey(qtbot, window)
    job = window.job
    assert job is not None
    window.show_stop("handover")
    view = window.views["handover"]
    assert isinstance(view, HandoverView) and not view.close_job.isEnabled() and "Alt+6" in texts(window)
    bench = small_bench / "bench"
    assert (
        "Nothing has ended yet" in neogenesis("report", "T-7", tmp_path / "no.pdf", "--bench", bench, status=2).stderr
    )
    job.intake.put(job.intake.intake.__class__(symptoms=("wants-room",), must_survive="everything"))
    job.decide.choose("do-less", "He only has to clear it up")
    view.deed.setFocus()
    QTest.keyClicks(view.deed, "Old films were taken off it.")
    QTest.keyClick(view.deed, Qt.Key.Key_Return)
    pause(30)
    assert "Old films were taken off it." in texts(window) and not view.deed.text()
    assert "did not need it" in texts(window) and view.close_job.isEnabled()
    view.write_report()
    assert Path(job.handover.pdf_path).read_bytes().startswith(b"%PDF")
    neogenesis("note", "T-7", "The bin was emptied.", "--done", "--bench", bench)
    assert "either" in neogenesis("note", "T-7", "x", "--done", "--mistake", "--bench", bench, status=2).stderr
    neogenesis("report", "T-7", tmp_path / "report.pdf", "--bench", bench)
    assert (tmp_path / "report.pdf").read_bytes().startswith(b"%PDF")
    qtbot.waitUntil(lambda: "The bin was emptied." in texts(window), timeout=10_000)
    job.intake.put(msgspec.structs.replace(job.intake.intake, later=Later(old_parts="kept")))
    assert not any("goes back" in check.text for check in view.checks())
    view.close_job.click()
    assert job.job.closed and not view.deed.isEnabled()
    assert job.log()[-1].text == "Handed over" and not job.job.kept, "its drive never left it"
