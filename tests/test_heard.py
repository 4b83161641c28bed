"""What the window makes of a worker's events: each picture comes out of the one before, which stays as it was."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from neogenesis.app.keep.heard import Heard
from neogenesis.app.transfer.progress import _MOST_POINTS, Progress, with_point
from neogenesis.core.work import Event


def told(kind: str, **figures: object) -> Event:
    return Event(event=kind, **figures)  # type: ignore[arg-type]


def test_a_transfer_is_told_from_its_start_to_its_end() -> None:
    events = [
        told("start", wall="2026-11-26T09:00:00", time_s=0.0, figures={"pace": 4.0}),
        told("operation", operation=1, phase="copy", text="Copy", time_s=1.0),
        told("progress", phase="copy", copied_bytes=10, total_bytes=40, time_s=2.0, place_bytes=7, slowest_read_s=0.5),
        told("finding", code="unreadable", place_bytes=100, lost_bytes=512, time_s=3.0, text="lost"),
        told("progress", phase="copy", copied_bytes=40, total_bytes=40, time_s=4.0, place_bytes=9),
        told("progress", phase="verify", copied_bytes=10, total_bytes=40, time_s=5.0),
        told("outcome", outcome="partial", time_s=6.0),
    ]
    pictures = [Progress()]
    for event in events:
        pictures.append(pictures[-1].after(event, None))
    last = pictures[-1]
    assert last.pace == 4.0 and last.started_wall.startswith("2026") and last.outcome is events[-1]
    assert last.lost == ((100, 612),) and last.lost_bytes == 512 and last.findings == (events[3],)
    assert last.course == ((2.0, 10), (4.0, 40), (5.0, 50)), "reading back goes on below what was copied"
    assert last.soundings == ((7, 0.5), (9, 0.0)) and last.checked_share == 0.25 and last.time_s == 6.0
    assert pictures[0] == Progress() and pictures[3].course == ((2.0, 10),), "earlier pictures stay as they were"
    again = last.after(events[0], None)
    assert again.course == () and again.lost == last.lost, "what was found before it went on is still known"


def test_what_is_made_ready_is_neither_copied_nor_drawn_as_a_course() -> None:
    ready = told("progress", phase="fill", copied_bytes=10, total_bytes=40, time_s=2.0, left_s=(3.0, 9.0))
    found = Progress().after(ready, None)
    assert (found.phase, found.copied_bytes, found.total_bytes, found.left_s) == ("fill", 10, 40, (3.0, 9.0))
    assert found.course == () and not found.shares and found.soundings == ()
    copied = found.after(told("progress", phase="copy", copied_bytes=5, total_bytes=20, time_s=4.0), None)
    assert copied.course == ((4.0, 5),) and copied.copied_before == 0


def test_several_targets_are_told_apart() -> None:
    first = Heard().after(told("progress", target="a", copied_bytes=5, total_bytes=10, time_s=1.0, phase="copy"))
    second = first.after(told("progress", target="b", copied_bytes=3, total_bytes=10, time_s=2.0, phase="verify"))
    third = second.after(told("note", target="a", code="target-dropped", text="gone", remedy="again"))
    assert list(first.lanes) == ["a"] and second.lanes["b"].carried_bytes == 13
    assert second.course == ((1.0, 5), (2.0, 18)) and second.lanes["a"].outcome == ""
    assert (third.lanes["a"].outcome, third.lanes["a"].remedy) == ("stop", "again")


@given(st.lists(st.integers(0, 9), max_size=50), st.integers(1, 3 * _MOST_POINTS))
def test_points_never_grow_without_end(points: list[int], more: int) -> None:
    kept = tuple(points)
    for number in range(0, more, 97):
        kept = with_point(kept, number)
        assert kept[-1] == number or len(kept) == _MOST_POINTS // 2 + 1
        assert len(kept) <= _MOST_POINTS
