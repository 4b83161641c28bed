"""From a survey to an accepted quote by keyboard, in the real window; figures, fleet, the shop's past, and switching."""

from __future__ import annotations

import json
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QWidget
from pytestqt.qtbot import QtBot

from neogenesis.app.decide.figures import FiguresSheet
from neogenesis.app.decide.fleet import FleetSheet
from neogenesis.app.decide.past import PastSheet
from neogenesis.app.handover.view import HandoverView
from neogenesis.app.language import LANGUAGE
from neogenesis.app.pictures import pause
from neogenesis.app.quote.sheet import QuoteSheet
from neogenesis.app.shell.window import MainWindow
from tests.test_window import Open, survey, texts
from tests.test_window_decide import decide_view, mechanical  # noqa: F401
from tests.test_window_survey import colours

_ORDER = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier


def seen(of: QWidget) -> str:
    pause(30)
    return texts(of)  # type: ignore[arg-type]


def sheet_of(window: MainWindow, kind: type) -> QWidget:
    found = [s for s in window.findChildren(kind) if s.isVisible()]
    assert len(found) == 1
    return found[0]


@pytest.fixture
def at_decide(mechanical: Path, open_window: Open, qtbot: QtBot) -> MainWindow:  # noqa: F811
    window = open_window(mechanical)
    survey(qtbot, window)
    assert window.job is not None
    window.job.intake.change(symptoms=("slow",), must_survive="everything")
    window.job.intake.choose_machine("Petrel 14")
    window.job.decide.put(parts_cost="64.90")
    decide_view(window)
    pause(30)
    return window


def test_from_the_survey_to_an_accepted_quote_by_keyboard(
    at_decide: MainWindow, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = at_decide
    window.show_stop("survey")
    QTest.keyClick(window, Qt.Key.Key_3, Qt.KeyboardModifier.AltModifier)
    assert window.stop == "decide"
    QTest.keyClick(window, Qt.Key.Key_Q, _ORDER)
    sheet = sheet_of(window, QuoteSheet)
    assert isinstance(sheet, QuoteSheet) and "Everything moves to a new drive" in sheet.page.toPlainText()
    sheet.tax.setFocus()
    QTest.keyClicks(sheet.tax, "19")
    pdf = tmp_path / "quote.pdf"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(pdf), ""))
    sheet.give.setFocus()
    QTest.keyClick(sheet.give, Qt.Key.Key_Space)
    assert pdf.read_bytes().startswith(b"%PDF") and "what did the customer say" in seen(sheet)
    entry = window.job.log()[-1]
    assert entry.kind == "quote" and entry.figures["offers"]["replace"]
    sheet.note.setFocus()
    QTest.keyClicks(sheet.note, "yes please")
    sheet.accept_it.setFocus()
    QTest.keyClick(sheet.accept_it, Qt.Key.Key_Space)
    assert not sheet.isVisible() and window.stop == "fit" and window.job.decide.choice.chosen == "replace"
    kept = json.loads((window.job.dossier / "quote-1.json").read_text())
    assert kept["state"] == "accepted" and kept["accepted"] == "replace" and kept["note"] == "yes please"
    kinds = [e.kind for e in window.job.log()[-2:]]
    assert kinds == ["quote", "decide"]
    again = window.job.quote
    assert again.latest is not None and again.latest.accepted == "replace"


def test_the_page_is_in_the_language_of_the_customer_and_the_window_stays(at_decide: MainWindow) -> None:
    window = at_decide
    decide_view(window).show_quote()
    sheet = sheet_of(window, QuoteSheet)
    assert isinstance(sheet, QuoteSheet)
    before = LANGUAGE.code
    sheet.language.setCurrentIndex(sheet.language.findData("de"))
    assert "Angebot" in sheet.page.toPlainText() and LANGUAGE.code == before
    sheet.days.setText("never")
    sheet.days.textEdited.emit("never")
    assert "no number of days" in seen(sheet) and not sheet.give.isEnabled()
    sheet.days.setText("7")
    for code in list(sheet.ways.chosen):
        sheet.ways.chips[code].click()
    assert "at least one way" in seen(sheet)


def test_a_quote_declined_or_run_over_by_other_prices_says_so(at_decide: MainWindow, tmp_path: Path) -> None:
    window = at_decide
    decide_view(window).show_quote()
    sheet = sheet_of(window, QuoteSheet)
    assert isinstance(sheet, QuoteSheet)
    sheet.give_to(tmp_path / "none" / "q.pdf")
    assert "cannot be written" in seen(sheet) and window.job.quote.latest is None
    sheet.give_to(tmp_path / "q.pdf")
    assert not window.job.quote.out_of_date
    window.job.decide.put(parts_cost="99")
    assert window.job.quote.out_of_date
    sheet.decline.click()
    assert "was declined" in seen(sheet) and window.job.log()[-1].text == "Quote T-7-1 declined"


def test_figures_are_opened_and_argued_with(at_decide: MainWindow) -> None:
    window = at_decide
    view = decide_view(window)
    before = next(w for w in window.job.decide.decision.ways if w.way == "replace")
    QTest.keyClick(window, Qt.Key.Key_F, _ORDER)
    sheet = sheet_of(window, FiguresSheet)
    assert isinstance(sheet, FiguresSheet)
    said = seen(sheet)
    assert "64.90" in said and before.cost_p50 in said and "Who starts clean would say" in said and "Two docks" in said
    sheet.minutes["opening"].setText("60")
    sheet.minutes["opening"].editingFinished.emit()
    after = next(w for w in window.job.decide.decision.ways if w.way == "replace")
    assert after.hands_on_seconds_p50 > before.hands_on_seconds_p50 + 2000
    assert window.job.decide.choice.minutes == {"opening": 60} and view.lanes.scene.lanes[0].cost == after.cost_p50
    sheet.minutes["check"].setText("ages")
    sheet.minutes["check"].editingFinished.emit()
    assert "no number of minutes" in sheet.fault
    sheet._all_usual()
    assert window.job.decide.choice.minutes == {}


def test_a_fleet_is_counted_as_it_is_typed(at_decide: MainWindow, tmp_path: Path) -> None:
    window = at_decide
    QTest.keyClick(window, Qt.Key.Key_M, _ORDER)
    sheet = sheet_of(window, FleetSheet)
    assert isinstance(sheet, FleetSheet) and sheet.fleet is not None and sheet.fleet.seats == 12
    sheet.budget.setFocus()
    QTest.keyClicks(sheet.budget, "500")
    sheet.other.setFocus()
    QTest.keyClicks(sheet.other, "300")
    assert sheet.fleet.covered is not None and 0 < sheet.fleet.covered < 12 and sheet.fleet.covered_replaced == 1
    assert "The budget covers" in seen(sheet) and colours(sheet.canvas) > 5
    sheet.save_csv(tmp_path / "fleet.csv")
    assert (tmp_path / "fleet.csv").read_text().startswith("machine,seats")
    QTest.keyClicks(sheet.budget, "x")
    assert "no amount of money" in seen(sheet)
    sheet.budget.setText("")
    sheet.rows[0][1].setText("many")
    sheet._show()
    assert "no number of machines" in seen(sheet)


def test_the_shops_past_is_shown_switched_off_and_taken_away(at_decide: MainWindow, tmp_path: Path) -> None:
    window = at_decide
    bench = window.bench
    view = decide_view(window)
    view.show_past()
    empty = sheet_of(window, PastSheet)
    assert isinstance(empty, PastSheet) and "Until then judgement counts" in seen(empty) and not empty.csv.isEnabled()
    empty.reject()
    window.job.decide.choose("replace")
    bench.record("T-7", "transfer-start", "t", planned={"copy": [100.0, 200.0, 300.0]})
    bench.record("T-7", "transfer-done", "t", seconds=390.0)
    window.show_stop("handover")
    handover = window.views["handover"]
    assert isinstance(handover, HandoverView)
    QTest.keyClicks(handover.hands, "45")
    QTest.keyClick(handover.hands, Qt.Key.Key_Return)
    assert window.job.log()[-1].figures["hands_s"] == 2700
    bench.record("T-7", "handover", "t")
    bench.update("T-7", closed=True)
    assert dict(bench.factors)["copy"] > 1
    view.show_past()
    sheet = sheet_of(window, PastSheet)
    assert isinstance(sheet, PastSheet)
    assert "Copying: 0 of 1 job ended within the range" in seen(sheet) and colours(sheet.canvas) > 4
    sheet.save_csv(tmp_path / "past.csv")
    assert "copy" in (tmp_path / "past.csv").read_text()
    sheet.used.click()
    assert bench.factors == () and not bench.shop.learns


def test_the_work_goes_on_in_another_way_and_keeps_what_was_done(at_decide: MainWindow) -> None:
    window = at_decide
    job = window.job
    job.decide.choose("replace")
    window.bench.update("T-7", stop="first-boot")
    window.bench.record("T-7", "rescue-done", "t")
    job.intake.change(symptoms=("slow", "malware"))
    view = decide_view(window)
    assert job.decide.is_switch("fresh") and view.why.isVisible() and not view.go.isEnabled()
    assert view.go.text() == "Switch to Fresh" and "a rescue" in seen(window)
    QTest.keyClicks(view.why, "malware was found in the copy")
    QTest.keyClick(window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    entry = job.log()[-1]
    assert entry.text == "Switched from replace to fresh: malware was found in the copy"
    assert entry.figures["kept"] == ["rescue"] and job.job.stop == "fit" and window.stop == "fit"
    assert [s.stop.key for s in window.rail.added] == ["files", "back"]


def test_a_promise_that_cannot_be_kept_is_moved_by_one_click(at_decide: MainWindow) -> None:
    window = at_decide
    view = decide_view(window)
    assert not view.later.isVisible()
    soon = (datetime.now() + timedelta(minutes=1)).strftime("%Y-%m-%d %H:%M")
    window.bench.update("T-7", promise=soon)
    pause(30)
    assert view.later.isVisible() and "may not hold" in " ".join(c.text for c in view.checks())
    view.later.click()
    pause(30)
    assert window.job.job.promise > soon and not view.later.isVisible()
    assert window.job.log()[-1].figures["before"] == soon and "may not" not in " ".join(c.text for c in view.checks())


def test_stops_that_are_not_needed_say_so(at_decide: MainWindow) -> None:
    window = at_decide
    window.job.decide.choose("do-less", "a card is enough")
    pause(30)
    by_key = {s.stop.key: s for s in window.rail.stations}
    assert by_key["plan"].standing == "not-needed" and by_key["plan"].accessibleName() == "Plan, not needed"
    assert by_key["fit"].standing == "here"
    window.job.decide.choose("replace")
    pause(30)
    assert by_key["plan"].standing == "ahead"
