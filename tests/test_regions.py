"""Pictures of where a drive was read: the column, the marks, the passes, the lanes."""

from __future__ import annotations

import itertools
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtGui import QColor, QImage
from PyQt6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

from neogenesis.app.keep.heard import Lane
from neogenesis.app.keep.lanes import LaneRow, Lanes
from neogenesis.app.keep.passes import PASS_WORDS, PassLine
from neogenesis.app.parts.course import CoursePlot, course_scene
from neogenesis.app.parts.figures import LostFiles, ProgressFigures
from neogenesis.app.parts.progress import ProgressLine
from neogenesis.app.parts.regions import RANK, RegionColumn, ranges_of
from neogenesis.app.parts.trace import SoundingsTrace
from neogenesis.app.theme.look import look
from neogenesis.core.rescue import PASSES
from tests.bench.chart import draw, shares_of_goal
from tests.bench.figure import Figure

letters = st.text(alphabet="rupl", min_size=1, max_size=600)


def picture(widget: QWidget) -> QImage:
    return widget.grab().toImage()


def like(image: QImage, x: float, y: float, token: str) -> bool:
    """Whether a pixel has about the colour of a token."""
    seen = image.pixelColor(round(x * image.devicePixelRatio()), round(y * image.devicePixelRatio()))
    wanted = look().role("system") if token == "system" else look().colour(token)
    return sum(abs(a - b) for a, b in zip(seen.getRgb()[:3], QColor(wanted).getRgb()[:3], strict=True)) < 40


@given(letters, st.integers(1, 700))
def test_a_row_of_the_column_shows_the_worst_of_its_stretch(qapp: object, outline: str, rows: int) -> None:
    column = RegionColumn()
    column.show_regions(outline, 0.0, None, [])
    found = column.letters(rows)
    assert len(found) == rows and set(found) <= set(outline)
    assert max(found, key=RANK.index) == max(outline, key=RANK.index)  # nothing bad is ever hidden
    if rows == len(outline):
        assert found == outline


@given(letters, st.integers(1, 1 << 40))
def test_ranges_of_an_outline_are_disjoint_and_complete(outline: str, size: int) -> None:
    total, last = 0, dict.fromkeys("rupl", -1)
    for letter in "rupl":
        for start, end in ranges_of(outline, letter, size):
            assert start >= last[letter] and end >= start
            total += end - start
            last[letter] = end
    assert total == size


def test_lost_places_reach_out_of_the_column(qtbot: QtBot) -> None:
    column = RegionColumn()
    qtbot.addWidget(column)
    column.resize(118, 480)
    column.show_regions("r" * 200 + "l" * 40 + "u" * 240, 0.0, None, [])
    image = picture(column)
    middle, height = 16 + look().px(58) / 2, 480 - look().px(34) - 6
    assert like(image, middle, 3 + height * 0.2, "system")
    assert like(image, middle, 3 + height * 0.45, "stop")
    assert like(image, 16 + look().px(58) + look().px(10), 3 + height * 0.45, "stop")
    assert not like(image, middle, 3 + height * 0.8, "system") and not like(image, middle, 3 + height * 0.8, "stop")


def test_an_empty_column_and_an_unknown_pass_can_be_painted(qtbot: QtBot) -> None:
    column, passes, soundings = RegionColumn(), PassLine(), SoundingsTrace()
    for widget in (column, passes, soundings):
        qtbot.addWidget(widget)
        widget.resize(400, 300)
        assert not picture(widget).isNull()
    passes.show_pass("elsewhere", False)
    assert not picture(passes).isNull()


def test_every_pass_has_words_and_the_line_follows_them(qtbot: QtBot) -> None:
    assert set(PASS_WORDS) == set(PASSES)
    line = PassLine()
    qtbot.addWidget(line)
    line.resize(600, 30 * len(PASSES))
    x = look().px(8)
    for index, name in enumerate(PASSES):
        line.show_pass(name, False)
        image = picture(line)
        assert PASS_WORDS[name][0] in line.accessibleName()
        for other in range(len(PASSES)):
            assert like(image, x - look().px(3), 30 * (other + 0.5), "accent") == (other < index), (name, other)
    line.show_pass("retry", True)
    assert all(like(picture(line), x - look().px(3), 30 * (n + 0.5), "accent") for n in range(len(PASSES)))


def test_marks_of_lost_and_postponed_places_stand_where_they_are(qtbot: QtBot) -> None:
    trace = SoundingsTrace()
    qtbot.addWidget(trace)
    trace.resize(800, 200)
    many = [(n * 10**9, n * 10**9 + 10**7) for n in range(40, 60)]
    for lost in ([(50 * 10**9, 51 * 10**9)], many):
        trace.show_points(100 * 10**9, [(n * 10**9, 0.01) for n in range(100)], lost, 0, [(20 * 10**9, 30 * 10**9)])
        image = picture(trace)
        red = [
            x
            for x in range(800)
            for y in range(180, 198)
            if (c := image.pixelColor(x, y)).red() > 140 and c.green() < 70
        ]
        edge = look().metrics(13, mono=True).horizontalAdvance("100 ms")
        wide = 800 - edge
        assert red and min(red) > 0.36 * wide and max(red) < 0.64 * wide
        brown = [x for x in range(800) if 120 < (c := image.pixelColor(x, 195)).red() < 160 and c.blue() < 40]
        assert brown and min(brown) > 0.17 * wide and max(brown) < 0.33 * wide


@given(
    st.lists(st.tuples(st.floats(0, 1e4), st.floats(0, 1e12)), max_size=30),
    st.floats(1, 1e12),
    st.none() | st.tuples(st.floats(1, 1e3), st.floats(1e3, 1e5)),
    st.none() | st.tuples(st.floats(0, 1e3), st.floats(1e3, 1e5)),
)
def test_a_course_stays_inside_its_plot_and_goes_only_down(points, total, forecast, left) -> None:
    ordered = list(zip(sorted(t for t, _ in points), sorted(d for _, d in points), strict=True))
    scene = course_scene(ordered, total, forecast, left, [(3.0, "system"), (1.0, "data")])
    for x, y in (*scene.track, *scene.wedge, *scene.cone):
        assert 0 <= x <= 1 and 0 <= y <= 1
    assert all(a[1] <= b[1] and a[0] <= b[0] for a, b in itertools.pairwise(scene.track))
    if ordered:
        assert [b[:2] for b in scene.bands] == [(0.0, 0.75), (0.75, 1.0)]
        assert bool(scene.wedge) == (forecast is not None)


def test_a_late_course_lies_above_its_wedge_and_is_painted(qtbot: QtBot) -> None:
    late = course_scene([(0, 0), (50, 100)], 1000, (80, 120), (300, 600))
    early = course_scene([(0, 0), (50, 900)], 1000, (80, 120), (3, 9))
    middle = [x for x, y in late.wedge if y == 1]
    assert late.track[-1][1] < late.track[-1][0] / middle[-1] and early.track[-1][1] > early.track[-1][0] / 0.6
    plot = CoursePlot()
    qtbot.addWidget(plot)
    plot.resize(300, 160)
    empty = plot.grab().toImage()
    plot.show_course(late)
    shown = plot.grab().toImage()
    plot.show_course(early)
    assert empty != shown and plot.grab().toImage() != shown


def test_lanes_say_who_how_far_and_why_one_dropped_out(qtbot: QtBot) -> None:
    lanes = Lanes()
    qtbot.addWidget(lanes)
    lane = Lane("/bench/one.img", "copy", "Copy Main", 3 << 30, 12 << 30, 2e8, (60.0, 90.0))
    lanes.row_of(lane.target).show_lane(lane, None, "2026-05-17T09:00:00+00:00", 10.0)
    words = " ".join(w.text() for w in lanes.findChildren(QWidget) if hasattr(w, "text"))
    assert "one.img" in words and "3 GiB of 12 GiB" in words and "200 MB/s" in words and "ends between" in words
    lane = replace(lane, outcome="stop", text="It no longer takes bytes.", remedy="Connect it again.")
    lanes.row_of(lane.target).show_lane(lane, None, "", 0.0)
    words = " ".join(w.whole() for w in lanes.findChildren(QWidget) if hasattr(w, "whole"))
    assert "no longer takes bytes" in words
    lanes.only([])
    assert not lanes.rows and not any(w.isVisible() for w in lanes.findChildren(LaneRow))


@pytest.mark.parametrize(
    ("left", "instead", "shown"), [((60.0, 120.0), "", "and"), (None, "paused", "paused"), (None, "", "")]
)
def test_figures_say_until_when_or_why_not(
    left: tuple[float, float] | None, instead: str, shown: str, qtbot: QtBot
) -> None:
    figures = ProgressFigures()
    qtbot.addWidget(figures)
    figures.show_done(5 << 30, "{0} of 12 GiB")
    figures.show_rate(1.23e8)
    figures.show_end("2026-05-17T09:00:00+00:00", 5.0, left, instead)
    figures.show_warmth(None)
    assert (figures.done.text(), figures.of.text()) == ("5", "GiB of 12 GiB")
    assert (figures.rate.text(), figures.rate_unit.text()) == ("123", "MB/s")
    assert shown in figures.ends.text() and bool(figures.ends_title.text()) == bool(shown)
    figures.show_rate(None)
    assert not figures.rate.text() and not figures.rate_unit.text()
    figures.show_warmth(51.6)
    assert figures.warm.text() == "52 °C"


def test_progress_and_lost_files_can_be_read_by_a_screen_reader(qtbot: QtBot) -> None:
    line, files = ProgressLine(), LostFiles()
    qtbot.addWidget(line)
    qtbot.addWidget(files)
    line.show_share(0.424)
    assert line.accessibleDescription() == "42 %"
    files.show_files([(3, "Users/berth/chart.jpg", 4096, 2 << 20), (3, "a", 512, 512)])
    assert files.toPlainText() == "4 KiB of 2 MiB  Users/berth/chart.jpg\n512 B of 512 B  a" and files.isReadOnly()


def test_the_chart_of_figures_shows_each_against_its_goal() -> None:
    met = Figure("Copy", "0.97 (0.90 to 1.05)", "at most 1.1", True, "")
    short = Figure("Image & more", "1.91 (1.57 to 1.96)", "at least 3", False, "")
    size = Figure("Memory", "56 MiB, 0.6 s", "under 300 MiB", True, "")
    none = Figure("Start", "1.87 (1.60 to 1.97)", "-", True, "")
    assert shares_of_goal(met) == pytest.approx((0.97 / 1.1, 0.9 / 1.1, 1.05 / 1.1))
    assert shares_of_goal(short) == pytest.approx((3 / 1.91, 3 / 1.96, 3 / 1.57))
    assert shares_of_goal(size) == pytest.approx((56 / 300,) * 3) and shares_of_goal(none) is None
    drawn = draw([met, short, size, none])
    assert drawn.count("<circle") == 3 and "Image &amp; more" in drawn and "Start" not in drawn
