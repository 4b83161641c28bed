"""Preferences of the person and of the shop, what reports and logbooks take from them, and the menu of actions."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QLocale
from PyQt6.QtGui import QPageSize
from PyQt6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

from neogenesis.app.handover.report_print import page_size, report_html
from neogenesis.app.language import LANGUAGE
from neogenesis.app.parts.form import ChoiceField, Form, MomentField, TextField
from neogenesis.app.preferences.sheet import PreferencesSheet
from neogenesis.app.settings import load_settings
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.theme.look import look
from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.job import Report, Shop, load_shop, save_shop
from neogenesis.core.units import parse_size
from tests.test_window import plan, survey, texts

Open = Callable[[Path], MainWindow]


def sheet_of(window: MainWindow) -> PreferencesSheet:
    window.sheets.show_preferences()
    sheet = window.findChildren(PreferencesSheet)[-1]
    assert sheet.isVisible()
    return sheet


def test_preferences_are_taken_kept_and_found_again(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    sheet = sheet_of(window)
    assert sheet.yours.dirty == () and sheet.shops.dirty == ()
    sheet.shops.fields["name"].show("Harbour Bench")
    sheet.shops.fields["letterhead"].show(("Quay 2", "Gullhaven"))
    sheet.shops.fields["technicians"].show(("Ada", "Ben"))
    sheet.shops.fields["currency"].widget.setText("euro")
    assert sheet.shops.dirty == ("name", "letterhead", "technicians", "currency")
    sheet._done()
    assert sheet.isVisible() and "three letters" in sheet.shops.fault and load_shop(small_bench / "bench") == Shop()
    sheet.shops.fields["currency"].widget.setText("eur")
    sheet.shops.fields["labour_per_hour"].widget.setText("-3")
    sheet._done()
    assert sheet.isVisible() and "price of an hour" in sheet.shops.fault
    field = sheet.shops.fields["labour_per_hour"].widget
    qtbot.waitUntil(lambda: not field.visibleRegion().isEmpty() and not sheet.shops._fault.visibleRegion().isEmpty())
    sheet.shops.fields["labour_per_hour"].widget.setText("54,50")
    sheet.yours.fields["theme"].show("night")
    sheet._done()
    assert window.bench.name == "Harbour Bench" and "Harbour Bench" in texts(window) and look().tokens.name == "night"
    kept = load_shop(small_bench / "bench")
    assert kept.technicians == ("Ada", "Ben") and kept.currency == "EUR" and kept.letterhead == ("Quay 2", "Gullhaven")
    sheet = sheet_of(window)
    sheet.yours.fields["technician"].show("Ben")
    sheet._done()
    window.open_job("T-7")
    assert window.job.decide.choice.labour_per_hour == kept.labour_per_hour == "54.50"
    window.job.note("survey", "Hinge is loose")
    assert window.bench.log("T-7")[-1].who == "Ben"
    window.resize(1111, 777)
    window.close()
    again = open_window(small_bench)
    assert again.bench.technician == "Ben" and again.bench.name == "Harbour Bench"
    assert (again.width(), again.height()) == (1111, 777)
    assert load_settings(small_bench / "bench").technician == "Ben" and LANGUAGE.code == "en"


def test_the_report_has_letterhead_paper_and_who_did_it(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    shop = Shop(name="Harbour <Bench>", letterhead=("Quay 2", "Gullhaven"), paper="letter")
    save_shop(small_bench / "bench", shop)
    window = open_window(small_bench)
    survey(qtbot, window)
    plan(qtbot, window)
    job = window.job
    job.transfer.start("41F2")
    qtbot.waitUntil(lambda: job.transfer.state == "done", timeout=60_000)
    window.show_stop("handover")
    report = job.handover.report
    assert report is not None
    who = window.bench.log("T-7")[-1].who
    assert ("Done by", who) in report.sections[-1].rows
    html = report_html(report, shop, "plan")
    assert "Harbour &lt;Bench&gt;" in html and "Quay 2<br>Gullhaven" in html
    window.views["handover"].write_report()
    assert b"/MediaBox [0 0 612" in Path(job.handover.pdf_path).read_bytes()


def test_paper_follows_the_region_unless_the_shop_says_otherwise() -> None:
    letter, a4 = QPageSize.PageSizeId.Letter, QPageSize.PageSizeId.A4
    assert page_size(Shop(), QLocale("en_US")) == letter and page_size(Shop(), QLocale("de_DE")) == a4
    assert page_size(Shop(paper="a4"), QLocale("en_US")) == a4
    assert "<hr>" not in report_html(Report("T", "S", ()), Shop(), "")


def test_a_damaged_shop_is_not_lost_and_does_not_stop_the_window(small_bench: Path, open_window: Open) -> None:
    (small_bench / "bench/shop.json").write_text('{"schema": "neogenesis.shop/1", "name": 7}')
    with pytest.raises(BadRecord, match="shop's record"):
        load_shop(small_bench / "bench")
    window = open_window(small_bench)
    assert window.bench.name == "Saltmarsh Repair" and "shop's record" in texts(window)
    assert '"name": 7' in (small_bench / "bench/shop.json").read_text()
    window.bench.keep_shop(Shop(name="Harbour Bench"))
    assert '"name": 7' in (small_bench / "bench/shop.json.unreadable").read_text()
    assert load_shop(small_bench / "bench").name == "Harbour Bench"


def test_a_form_knows_what_was_changed_and_what_is_wrong(qtbot: QtBot) -> None:
    size = TextField("size", "Size", parse=parse_size, unit="bytes")
    form = Form((size, ChoiceField("paper", "Paper", [("", "any"), ("a4", "A4")]), MomentField("due", "Due", "Day")))
    qtbot.addWidget(form)
    edits: list[int] = []
    form.edited.connect(lambda: edits.append(1))
    form.show_values({"size": "1GiB", "paper": "a4", "due": "in a week", "unknown": 3})
    assert form.dirty == () and size.widget.accessibleName() == "Size, bytes"
    assert form.values() == {"size": 1 << 30, "paper": "a4", "due": "in a week"}, "free text of old records stays"
    size.widget.setText("many")
    assert edits and form.dirty == ("size",) and form.values() is None and "“many” is not a size" in form.fault
    size.widget.setText("2GiB")
    assert form.values()["size"] == 2 << 30 and form.fault == ""
    with pytest.raises(BadArgument):
        parse_size("x")


def test_actions_are_shared_and_switched_off_where_they_cannot_be_done(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    made = window.actions_.made

    def listed() -> dict[str, bool]:
        return {a.text(): a.isEnabled() for a in window.actions_.menu(QWidget(window)).actions() if a.text()}

    assert listed()["All jobs"] and not listed()["Go to Survey"] and "Undo" not in listed()
    survey(qtbot, window)
    plan(qtbot, window, write=False)
    assert not made["plan-undo"].isEnabled() and made["plan-write"].isEnabled()
    window.job.plan.change(spare_percent=9)
    assert made["plan-undo"].isEnabled() and window.views["plan"].undo.isEnabled() and listed()["Undo"]
    made["plan-undo"].trigger()
    assert window.job.plan.policy.spare_percent != 9 and not made["plan-undo"].isEnabled()
    assert made["plan-redo"].isEnabled()
    window.show_stop("transfer")
    assert not made["plan-redo"].isEnabled() and not made["transfer-pause"].isEnabled()


def test_the_title_tells_how_far_the_work_is(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    from tests.test_window import slow

    window = open_window(small_bench)
    assert window.windowTitle() == "Neogenesis · Saltmarsh Repair"
    survey(qtbot, window)
    plan(qtbot, window)
    slow(small_bench, 3e7)
    window.job.transfer.start("41F2")
    qtbot.waitUntil(lambda: window.windowTitle().startswith("T-7 ") and "%" in window.windowTitle(), timeout=60_000)
    window.job.transfer.stop()
    qtbot.waitUntil(lambda: window.windowTitle() == "Neogenesis · Saltmarsh Repair", timeout=60_000)
