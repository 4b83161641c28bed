"""What was changed is had back, and done again, in any order of both."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from neogenesis.core.undo import Undo

_MOST = 300


@given(st.lists(st.sampled_from(["change", "more", "undo", "redo"]), max_size=60))
def test_undo_walks_one_line_of_states(acts: list[str]) -> None:
    undo, now, line, at = Undo[int](), 0, [0], 0
    for number, act in enumerate(acts, 1):
        if act == "undo":
            now, at = undo.undo(now), max(0, at - 1)
        elif act == "redo":
            now, at = undo.redo(now), min(len(line) - 1, at + 1)
        elif act == "change":
            undo.remember(now)
            now, at, line = number, at + 1, [*line[: at + 1], number]
        else:  # a letter more of the same word
            undo.changed()
            now, line = number, [*line[:at], number]
        assert now == line[at]
        assert (undo.can_undo, undo.can_redo) == (at > 0, at < len(line) - 1)


def test_the_oldest_is_forgotten() -> None:
    undo = Undo[int]()
    for number in range(_MOST + 50):
        undo.remember(number)
    now, steps = _MOST + 50, 0
    while undo.can_undo:
        now, steps = undo.undo(now), steps + 1
    assert (now, steps) == (50, _MOST)
