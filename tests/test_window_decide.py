"""The Decide stop in the real window: from a survey to a choice by keyboard, and what moves it."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from pytestqt.qtbot import QtBot

from neogenesis.app.decide.lanes import lanes_scene
from neogenesis.app.decide.view import DecideView, changed_line
from neogenesis.app.shell.window import MainWindow
from neogenesis.core.decide import decide
from neogenesis.core.decide.times import hands_middle
from neogenesis.core.decide.way import WAYS
from neogenesis.core.decide.ways import consider
from neogenesis.core.errors import BadArgument
from tests.drives import simulated, with_health
from tests.test_decide import USUAL, with_
from tests.test_window import Open, survey, texts
from tests.test_window_survey import colours


def decide_view(window: MainWindow) -> DecideView:
    window.show_stop("decide")
    view = window.views["decide"]
    assert isinstance(view, DecideView)
    return view


@pytest.fixture
def mechanical(small_bench: Path) -> Path:
    with_health(small_bench, power_on_hours=100)
    return small_bench


def test_lanes_add_up_and_the_recommended_one_stands_first() -> None:
    found = decide(USUAL)
    scene = lanes_scene(found, {w: consider(w, USUAL) for w in WAYS})
    first = scene.lanes[0]
    assert first.way == "replace" and first.recommended and first.below == "opened once"
    assert first.stretches[0].opens and first.stretches[0].hands
    assert all(a.end == b.start for a, b in zip(first.stretches, first.stretches[1:], strict=False))
    assert all(lane.high_s <= scene.span_s for lane in scene.lanes if lane.allowed)
    closed = next(lane for lane in scene.lanes if not lane.allowed)
    assert closed.below == "not possible" and closed.again
    assert scene.neighbour("replace", 1) == scene.lanes[1].way and scene.neighbour("replace", -1) == "replace"
    assert changed_line("If malware were suspected: fresh") == "If malware were suspected: Fresh"


def test_the_recommended_way_is_taken_by_keyboard(mechanical: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(mechanical)
    survey(qtbot, window)
    window.job.intake.change(symptoms=("slow",), must_survive="everything")
    view = decide_view(window)
    qtbot.wait(30)
    assert view.lanes.chosen == "replace" and "Replace is the way." in texts(window) and colours(view.lanes) > 6
    QTest.keyClick(window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    assert window.stop == "fit" and window.job.job.intent == "replace"
    entry = window.job.log()[-1]
    assert entry.kind == "decide" and entry.text == "Decided: replace, as recommended"
    assert json.loads((window.job.dossier / "choice.json").read_text())["chosen"] == "replace"


def test_another_way_needs_a_reason(mechanical: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(mechanical)
    survey(qtbot, window)
    window.job.intake.change(symptoms=("slow",))
    view = decide_view(window)
    view.lanes.choose("exact")
    assert not view.go.isEnabled() and view.why.isVisible()
    with pytest.raises(BadArgument, match="not the recommended"):
        window.job.decide.choose("exact")
    QTest.keyClicks(view.why, "the customer wants it sector for sector")
    assert view.go.isEnabled()
    view.go.click()
    assert window.job.job.intent == "exact" and window.job.plan.policy.intent == "exact"
    assert window.job.log()[-1].figures["why"] == "the customer wants it sector for sector"
    with pytest.raises(BadArgument, match="not possible"):
        window.job.decide.choose("replace-machine", "x")


def test_malware_found_later_says_that_the_choice_is_out_of_date(
    mechanical: Path, open_window: Open, qtbot: QtBot
) -> None:
    window = open_window(mechanical)
    survey(qtbot, window)
    window.job.intake.change(symptoms=("slow",))
    decide_view(window)
    window.job.decide.choose("replace")
    assert not window.job.decide.is_out_of_date
    window.job.intake.change(symptoms=("slow", "malware"))
    view = decide_view(window)
    qtbot.wait(30)
    assert window.job.decide.is_out_of_date and view.lanes.scene.lanes[0].way == "fresh"
    assert "something changed since" in texts(window)
    assert window.rail.stations[2].count == 1


def test_prices_move_everything_and_bad_ones_are_said(mechanical: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(mechanical)
    survey(qtbot, window)
    view, model = decide_view(window), window.job.decide
    before = next(w for w in model.decision.ways if w.way == "replace")
    unpriced = next(float(item.amount) for item in before.price_items if "not priced yet" in item.what)
    QTest.keyClicks(view.parts, "79,90")
    view.labour.setValue(90)
    after = next(w.cost_p50 for w in model.decision.ways if w.way == "replace")
    assert float(after) > float(before.cost_p50) - unpriced + 79 and model.choice.parts_cost == "79.90"
    assert view.lanes.scene.lanes[0].cost in [w.cost_p50 for w in model.decision.ways]
    QTest.keyClicks(view.other, "lots")
    assert "no amount of money" in texts(window) and model.choice.replacement_price == ""
    window.show_jobs()
    window.open_job("T-7")
    assert window.job.decide.choice.labour_per_hour == "90"


def test_a_choice_that_was_damaged_is_not_counted_with(mechanical: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(mechanical)
    window.open_job("T-7")
    window.job.decide.put(labour_per_hour="90")
    path = window.job.decide._path
    path.write_text(path.read_text().replace("90", "-1e7"))
    again = open_window(mechanical)
    again.open_job("T-7")
    assert again.job.decide.choice.labour_per_hour == "45" and decide_view(again).lanes.scene.lanes


def test_without_a_survey_it_says_what_is_not_known(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    view = decide_view(window)
    assert view.lanes.scene.lanes and window.job.decide.facts.used_bytes is None


def test_a_failing_drive_is_imaged_first(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    simulated(
        small_bench / "old.drive.json",
        "old.img",
        model="Halden 500",
        serial="HD5-00009K3D",
        rotational=True,
        health={"pending_sectors": 4},
    )
    window = open_window(small_bench)
    survey(qtbot, window)
    decide_view(window)
    qtbot.wait(30)
    assert "An image first; then" in texts(window)


def test_split_is_for_what_does_not_fit() -> None:
    assert decide(with_(free_bay=True)).recommended == "replace"


def test_what_is_logged_to_be_learned_from_has_nothing_learned_in_it(
    mechanical: Path, open_window: Open, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A shop that always takes twice the time would else be told 1.41 times for ever."""
    window = open_window(mechanical)
    survey(qtbot, window)
    job = window.job
    assert job is not None
    usual = job.decide.usual("replace")
    monkeypatch.setattr(type(window.bench), "factors", property(lambda bench: (("hands", 2.0),)))
    decide_view(window)
    learned = sum(p.spread[1] for p in job.decide.considered()["replace"].pieces if p.hands and p.name != "opening")
    assert learned == pytest.approx(2 * sum(p.spread[1] for p in usual.pieces if p.hands and p.name != "opening"))
    job.decide.choose(job.decide.decision.recommended)
    planned = next(e for e in reversed(job.log()) if e.kind == "decide").figures["planned"]
    assert planned["hands"][1] == pytest.approx(hands_middle(usual.pieces))
