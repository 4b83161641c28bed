"""The Fit stop in the real window: parts against bays by keyboard, the drawing, the plot, profiles, lists and paper."""

from __future__ import annotations

import json
from decimal import Decimal
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

from neogenesis.app.decide.model import DecideModel
from neogenesis.app.fit.lists import ListsSheet
from neogenesis.app.fit.profile import ProfileSheet
from neogenesis.app.fit.tradeoff import ticks
from neogenesis.app.fit.view import FitView
from neogenesis.app.parts.form import TextField
from neogenesis.app.pictures import pause
from neogenesis.app.shell.window import MainWindow
from neogenesis.bench.records.profiles import former_versions
from neogenesis.core.errors import BadArgument
from neogenesis.core.units import nominal_bytes
from tests.drives import simulated
from tests.test_window import Open, survey, texts
from tests.test_window_survey import colours

BAY = "M.2 under the cover"


def seen(window: QWidget) -> str:
    """What is to be read once the window has had its turn."""
    pause(30)
    return texts(window)


def fit_view(window: MainWindow) -> FitView:
    window.show_stop("fit")
    view = window.views["fit"]
    assert isinstance(view, FitView)
    return view


def drive_cost(decide: DecideModel) -> Decimal:
    """Of the way that moves everything."""
    row = next(w for w in decide.decision.ways if w.way == "replace")
    return next(Decimal(item.amount) for item in row.price_items if item.what.startswith("drive"))


@pytest.fixture
def at_fit(small_bench: Path, open_window: Open, qtbot: QtBot) -> tuple[MainWindow, FitView]:
    window = open_window(small_bench)
    survey(qtbot, window)
    assert window.job is not None
    window.job.intake.choose_machine("Petrel 14")
    view = fit_view(window)
    qtbot.wait(30)
    return window, view


def test_a_set_is_proposed_drawn_and_taken_by_keyboard(at_fit: tuple[MainWindow, FitView]) -> None:
    window, view = at_fit
    job = window.job
    assert job is not None and job.fit.chosen is not None
    assert "Proposed" in seen(window) and "starts the system" in seen(window)
    assert colours(view.canvas) > 6 and colours(view.plot) > 4 and colours(view.parts) > 4
    assert view.parts.hasFocus() and view.parts.pair == job.fit.chosen.placed[0]
    QTest.keyClick(window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    assert window.stop == "plan" and job.job.stop == "plan"
    entry = job.log()[-1]
    assert entry.kind == "fit" and entry.figures["cost"] == f"{job.fit.cost:.2f}"
    assert job.decide.choice.parts_cost == job.fit.choice.cost != ""
    again = fit_view(window)
    assert "Taken" in seen(window) and again.parts.table.rowCount() == len(job.fit.drives)


def test_the_drive_in_the_dock_is_judged_before_another_one_is_sold(
    small_bench: Path, open_window: Open, qtbot: QtBot
) -> None:
    """First one that the catalogue does not know, then one that it does, then one that does not fit the machine."""
    window = open_window(small_bench)
    survey(qtbot, window)
    window.job.intake.choose_machine("Petrel 14")
    fit_view(window)
    model, decide = window.job.fit, window.job.decide
    assert model.chosen.placed == (("in the dock", BAY),) and model.chosen.system.verdict == "fits-with"
    assert "Corvane N2 1 GB" in seen(window) and "it stands in the dock already" in seen(window)
    assert "its price is not on record" in seen(window) and "not stated; measure" in seen(window)
    assert decide.facts.priced is False and model.cost == drive_cost(decide)
    for model_name, bus, size in (("Corvane N2", "usb-nvme", 1000), ("Corvane S5 tall", "pata", 500)):
        with (small_bench / "new.img").open("wb") as file:
            file.truncate(nominal_bytes(size))
        simulated(small_bench / "new.drive.json", "new.img", model=model_name, serial="CN2-000041F2", bus=bus)
        window.close()
        window = open_window(small_bench)
        window.open_job("T-7")
        window.job.choose_drive("new", str(small_bench / "new.drive.json"))
        fit_view(window)
        model, decide = window.job.fit, window.job.decide
        if bus == "usb-nvme":
            assert model.chosen.placed == (("corvane-n2-1000", BAY),) and "price is not" not in seen(window)
            assert model.cost == drive_cost(decide) and decide.facts.priced
            window.show_stop("decide")
            assert window.views["decide"].parts.placeholderText() == f"{model.cost:.2f}"
            fit_view(window)
            line = next(one for one in model.lists() if "N2" in one.what)
            assert line.group == "stock", "it is not bought once more"
    assert model.chosen.system.part.id != "in the dock" and "not Corvane S5 tall 500 GB from the dock" in seen(window)
    row = next(w for w in decide.decision.ways if w.way == "replace")
    assert not row.allowed and "None of the drives offered fits into the machine." in row.reasons


def test_space_puts_a_part_into_a_bay_and_out_again(at_fit: tuple[MainWindow, FitView]) -> None:
    window, view = at_fit
    model = window.job.fit
    view.parts.look_at("corvane-n4-1000", BAY)
    QTest.keyClick(view.parts, Qt.Key.Key_Space)
    assert model.chosen.placed == (("corvane-n4-1000", BAY),) and "Put together by hand" in seen(window)
    assert "the bay slows it down" in seen(window)
    view.parts.look_at("corvane-s5-1000", "lower bay")
    QTest.keyClick(view.parts, Qt.Key.Key_Return)
    assert {b: p for p, b in model.chosen.placed} == {BAY: "corvane-n4-1000", "lower bay": "corvane-s5-1000"}
    assert float(model.cost) == 92 + 69 + 1.2, "with the pad that lies on it, as on the list"
    QTest.keyClick(view.parts, Qt.Key.Key_Space)
    assert len(model.chosen.placed) == 1 and view.plot.scene.chosen is not None
    view.again.click()
    assert not model.choice.own and "Proposed" in seen(window) and not view.again.isVisible()


def test_what_does_not_fit_is_said_with_all_reasons_and_drawn(at_fit: tuple[MainWindow, FitView]) -> None:
    window, view = at_fit
    view.parts.look_at("ostrel-l-960", BAY)
    assert "does not fit" in seen(window) and "110 mm long" in seen(window)
    assert view.canvas.drawing is not None and view.canvas.drawing.above.overlaps
    QTest.keyClick(view.parts, Qt.Key.Key_Space)
    assert "It does not fit there" in seen(window)
    with pytest.raises(BadArgument):
        window.job.fit.place("no such part", BAY)
    view.parts.look_at("corvane-s5-500", BAY)
    assert view.canvas.drawing is None and colours(view.canvas) > 1


def test_the_drawing_zooms_moves_and_has_a_ruler(at_fit: tuple[MainWindow, FitView]) -> None:
    _, view = at_fit
    view.parts.look_at("corvane-n2-1000", BAY)
    before = view.canvas.grab().toImage()
    for key in "++":
        QTest.keyClicks(view.canvas, key)
    assert view.canvas.zoom > 1.5 and view.canvas.grab().toImage() != before
    QTest.keyClick(view.canvas, Qt.Key.Key_Left)
    QTest.keyClick(view.canvas, Qt.Key.Key_R)
    assert view.canvas.ruler
    QTest.keyClick(view.canvas, Qt.Key.Key_0)
    QTest.keyClick(view.canvas, Qt.Key.Key_R)
    assert view.canvas.grab().toImage() == before


def test_a_budget_moves_the_proposal_and_the_plot_follows(at_fit: tuple[MainWindow, FitView]) -> None:
    window, view = at_fit
    model = window.job.fit
    QTest.keyClicks(view.budget, "26")
    assert model.choice.budget == "26" and float(model.chosen.cost) <= 26
    assert view.plot.scene.budget == 26 and not all(d.affordable for d in view.plot.scene.dots)
    view.budget.clear()
    QTest.keyClicks(view.budget, "1")
    assert "No set fits" in seen(window) and not view.take.isEnabled() and "Every set costs more" in seen(window)
    QTest.keyClicks(view.budget, "x")
    assert "no amount of money" in seen(window)
    view.budget.clear()
    view.budget.textEdited.emit("")
    first = view.plot.scene.chosen
    QTest.keyClick(view.plot, Qt.Key.Key_Right)
    assert view.plot.scene.chosen != first and model.choice.own
    dot = view.plot.scene.dots[view.plot.scene.front[0]]
    QTest.mouseClick(view.plot, Qt.MouseButton.LeftButton, pos=view.plot.place(dot).toPoint())
    assert frozenset(model.chosen.placed) == frozenset(dot.set.placed)
    assert ticks(30, 900) == [40, 80, 160, 320, 640] and len(ticks(1, 1e6)) <= 5


def test_memory_is_taken_along(at_fit: tuple[MainWindow, FitView]) -> None:
    window, view = at_fit
    before = window.job.fit.cost
    assert "runs at 2666 MT/s" in seen(window)
    view.memory.click()
    assert float(window.job.fit.cost - before) == pytest.approx(69.8)
    window.job.fit.take()  # a way that only adds memory costs what the memory costs
    decide = window.job.decide
    assert decide.choice.memory_cost == "69.80"
    less = next(row for row in decide.decision.ways if row.way == "do-less")
    assert [(item.what, item.amount) for item in less.price_items if item.what == "memory"] == [("memory", "69.80")]
    decide.put(parts_cost="80")
    assert not decide.choice.memory_cost


def test_a_profile_is_checked_while_it_is_typed_and_kept(at_fit: tuple[MainWindow, FitView]) -> None:
    window, view = at_fit
    view.parts.look_at("corvane-n2-500", BAY)
    view.edit_profile()
    sheet = view.findChild(ProfileSheet)
    assert sheet is not None and not sheet.keep.isEnabled()
    sheet.look_at("bay 1")
    form = dict(sheet.forms)["bay 1"]
    below = form.fields["clearance_below_mm"]
    assert isinstance(below, TextField)
    below.show("0.1 furlong")
    assert "no unit for this" in sheet.fault and not sheet.keep.isEnabled()
    below.show("0.05 in")
    assert sheet.fault == "" and sheet.keep.isEnabled()
    form.fields["caddy_mm"].show("9.5")
    assert "bays[1].caddy_mm" in sheet.fault
    form.fields["caddy_mm"].show("")
    dict(sheet.forms)["part"].fields["price"].show("44.90")
    sheet.keep.click()
    machine = window.job.fit.machine
    assert machine is not None and machine.bays[1].clearance_below_mm == pytest.approx(1.27)
    assert (
        window.job.fit.prices["corvane-n2-500"] is not None and float(window.job.fit.prices["corvane-n2-500"]) == 44.9
    )
    assert not former_versions(window.bench.store.folder, machine)
    view.edit_profile()
    again = view.findChildren(ProfileSheet)[-1]
    again.add.click()
    assert again.keep.isEnabled()
    again.keep.click()
    assert len(window.job.fit.machine.bays) == 3 and len(former_versions(window.bench.store.folder, machine)) == 1
    assert view.parts.table.columnCount() == 5


def test_lists_are_saved_and_printed_true_to_size(at_fit: tuple[MainWindow, FitView], tmp_path: Path) -> None:
    _, view = at_fit
    view.show_lists()
    sheet = view.findChild(ListsSheet)
    assert sheet is not None and "Tools" in seen(sheet)
    sheet.save_csv(tmp_path / "fit.csv")
    assert (tmp_path / "fit.csv").read_text().startswith("list,what,count")
    sheet.print_to(tmp_path / "fit.pdf")
    assert (tmp_path / "fit.pdf").read_bytes().startswith(b"%PDF") and "Written" in seen(sheet)
    sheet.print_to(tmp_path / "none" / "fit.pdf")
    assert "cannot be written" in seen(sheet)


def test_profiles_are_brought_into_the_window(at_fit: tuple[MainWindow, FitView], tmp_path: Path) -> None:
    window, view = at_fit
    before = view.parts.table.rowCount()
    part = {"schema": "neogenesis.part/1", "id": "own", "kind": "drive", "form": "m2", "capacity_gb": 500}
    (tmp_path / "own.json").write_text(json.dumps(part))
    view.bring_from(tmp_path / "own.json")
    assert view.parts.table.rowCount() == before + 1
    (tmp_path / "bad.json").write_text(json.dumps(part | {"kind": "boat"}))
    view.bring_from(tmp_path / "bad.json")
    assert "bad.json" in seen(window)


def test_the_old_drive_keeps_its_bay_where_it_stays(at_fit: tuple[MainWindow, FitView]) -> None:
    window, view = at_fit
    window.job.decide.put(chosen="beside")
    assert [b.holds for b in window.job.fit.machine.bays] == ["the old drive", None]
    view.parts.look_at("corvane-s5-500", "lower bay")
    assert "it holds the old drive already" in seen(window)


def test_without_a_machine_it_says_what_to_do(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    window.job.intake.plate(make="Gannet", model="9", profile="")
    view = fit_view(window)
    assert "No machine is chosen" in seen(window) and not view.take.isEnabled()
    assert view.parts.table.rowCount() == 0 and colours(view.plot) > 1
