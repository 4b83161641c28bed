"""What follows a clean system: its order, what runs beside, what decides the end, and the sheet that times it."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pytestqt.qtbot import QtBot

from neogenesis.app.first_boot.afterwards import AfterwardsSheet
from neogenesis.app.pictures import pause
from neogenesis.app.shell.window import MainWindow
from neogenesis.core.job import Job
from neogenesis.core.record import save
from neogenesis.core.reinstall.afterwards import (
    AfterStep,
    AfterwardsRecord,
    Timed,
    after_steps,
    end_of,
    fits_between,
    free_until,
    hands_left,
    schedule,
    steps_for,
)
from tests.test_window import texts


def step(code: str, hands: float, alone: float, *needs: str) -> AfterStep:
    return AfterStep(code=code, text=code, hands=hands, alone=alone, needs=needs)


def test_what_runs_alone_runs_beside_and_the_longest_way_comes_first() -> None:
    found = schedule((step("short", 5, 0), step("long", 2, 30), step("last", 1, 0, "long")), {}, 0)
    by = {s.step.code: s for s in found}
    assert (by["long"].start, by["long"].end, by["short"].start, by["last"].start) == (0, 32, 2, 32)
    assert end_of(found) == 33 and hands_left(found) == 8 and free_until(found) == 0
    assert {s.step.code for s in found if s.critical} == {"long", "last"}


def test_what_was_begun_goes_on_and_what_ended_lies_before() -> None:
    steps = (step("a", 2, 10), step("b", 3, 0, "a"), step("c", 1, 0))
    found = schedule(steps, {"a": Timed(begun=0.0), "c": Timed(begun=-600.0, ended=-300.0)}, now=5 * 60)
    by = {s.step.code: s for s in found}
    assert by["a"].end == 7 and by["b"].start == 7 and by["c"].done and by["c"].end == -10
    assert free_until(found) == 7 and end_of(found) == 10
    late = schedule(steps, {"a": Timed(begun=0.0)}, now=60 * 60)  # longer than usual: it may end at any moment
    assert next(s for s in late if s.step.code == "a").end == 0


def test_only_what_is_short_enough_fits_between() -> None:
    steps = (step("long", 30, 0), step("short", 4, 20), step("after", 1, 0, "short"))
    found = schedule(steps, {}, 0.0)
    assert fits_between(found, 3) is None
    first = fits_between(found, 35)
    assert first is not None and first.start == 0 and first.hands_end <= 35
    assert fits_between(schedule(steps, {s.code: Timed(begun=0, ended=1) for s in steps}, 60.0), 100) is None


def test_the_steps_that_ship() -> None:
    everything = schedule(after_steps(), {}, 0)
    assert end_of(everything) > hands_left(everything) > 30
    without = steps_for("nt", ("updates-1",))
    assert all("updates-1" not in s.needs for s in without) and len(without) == len(after_steps()) - 1
    with pytest.raises(ValueError, match="circle"):
        schedule((step("a", 1, 0, "b"), step("b", 1, 0, "a")), {}, 0)


@given(
    st.lists(
        st.tuples(st.floats(0, 60), st.floats(0, 60), st.sets(st.integers(0, 7), max_size=3)), min_size=1, max_size=8
    )
)
def test_hands_never_do_two_things_and_needs_are_kept(rows: list[tuple[float, float, set[int]]]) -> None:
    steps = tuple(step(str(n), h, a, *(str(k) for k in needs if k < n)) for n, (h, a, needs) in enumerate(rows))
    found = schedule(steps, {}, 0)
    by = {s.step.code: s for s in found}
    spans = sorted((s.start, s.hands_end) for s in found)
    assert all(a[1] <= b[0] + 1e-6 for a, b in pairwise(spans))
    assert all(by[n].end <= s.start + 1e-6 for s in found for n in s.step.needs)
    assert end_of(found) <= sum(h + a for h, a, _ in rows) + 1e-6
    assert any(s.critical for s in found)


def test_steps_are_timed_in_the_window(
    small_bench: Path, open_window: Callable[[Path], MainWindow], qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    model = window.job.first_boot
    window.job.plan.take_intent("fresh")
    window.show_stop("first-boot")
    pause(30)
    view = window.views["first-boot"]
    assert view.after.isVisible()
    now = [1_800_000_000.0]
    monkeypatch.setattr(model, "seconds", lambda: now[0])
    view.after.click()
    sheet = view.findChild(AfterwardsSheet)
    pause(30)
    assert "want hands" in texts(sheet) and len(sheet.buttons) == len(after_steps())
    sheet.buttons["first-start"].click()
    assert sheet.buttons["first-start"].text() == "Ended" and "time for another bench" not in texts(sheet)
    now[0] += 5 * 60
    sheet.refresh()
    assert "time for another bench" in texts(sheet)
    assert "At other benches" not in texts(sheet)
    for ticket, promise in (("T-8", "2026-12-03 12:00"), ("T-9", "2026-12-01 12:00")):
        window.bench.add_job(Job(ticket=ticket, customer="Museum", machine="Petrel 11", promise=promise, stop="survey"))
    short = min((s for s in after_steps() if s.hands and not s.families), key=lambda s: s.hands)
    ended = Timed(begun=now[0] - 3600, ended=now[0] - 60)
    timed = {s.code: ended for s in after_steps() if s.code != short.code}
    save(window.bench.store.dossier("T-8") / "afterwards.json", AfterwardsRecord(steps=timed))
    sheet.refresh()
    assert f"At other benches: T-9: Survey  ·  T-8: {short.text} (" in texts(sheet)
    now[0] += 7 * 60
    sheet.buttons["first-start"].click()
    assert "Done: First start: language, keyboard, a person's account, 12 min" in [e.text for e in window.job.log()]
    model.leave_out("encryption")
    sheet.refresh()
    assert "encryption" not in sheet.buttons and sheet.all.isVisible()
    rects = [sheet.line.rect_of(b) for b in sheet.line.bars]
    assert all(r.left() >= 0 and r.right() <= sheet.line.width() + 1 for r in rects)
    assert {b.kind for b in sheet.line.bars} == {"done", "hands", "alone"} and any(b.critical for b in sheet.line.bars)
    sheet.accept()
    window.close()
    again = open_window(small_bench)
    again.open_job("T-7")
    assert again.job.first_boot.steps.steps["first-start"].ended == now[0]
    again.job.first_boot.take_all_steps()
    assert again.job.first_boot.steps.left_out == ()
