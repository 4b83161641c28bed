"""The figures as a picture: each against its goal, with the spread of its rounds."""

from __future__ import annotations

import re
from collections.abc import Sequence
from xml.sax.saxutils import escape

from tests.bench.figure import Figure

_NUMBER = r"([\d.]+)"
_ROW, _TOP, _LEFT, _WIDE = 26, 46, 560, 340
_INK, _MUTED, _LINE, _GOOD, _OVER, _GROUND = "#1B2530", "#57606A", "#D8D1C3", "#1F6B44", "#A52A1E", "#F8F5EE"
_MOST = 2.0


def shares_of_goal(figure: Figure) -> tuple[float, float, float] | None:
    """Median, least and most as shares of the goal: below 1 is met. None where there is no goal in numbers."""
    limit = re.search(rf"(at most|under|at least) {_NUMBER}", figure.goal)
    numbers = re.match(rf"{_NUMBER}[^(]*(?:\({_NUMBER} to {_NUMBER}\))?", figure.value)
    if not limit or not numbers:
        return None
    goal = float(limit.group(2))
    median = float(numbers.group(1))
    least, most = (float(n) if n else median for n in numbers.groups()[1:])
    if limit.group(1) == "at least":
        return goal / median, goal / most, goal / least
    return median / goal, least / goal, most / goal


def draw(figures: Sequence[Figure]) -> str:
    """An SVG picture: a line for each figure, the goal as a line through all of them."""
    rows = [(figure, shares) for figure in figures if (shares := shares_of_goal(figure)) is not None]
    tall = _TOP + _ROW * len(rows) + 14

    def place(share: float) -> float:
        return _LEFT + _WIDE * min(share, _MOST) / _MOST

    goal = place(1.0)
    lines = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{_LEFT + _WIDE + 30}" height="{tall}" '
        'font-family="B612, Verdana, sans-serif" font-size="13">',
        f'<rect width="{_LEFT + _WIDE + 30}" height="{tall}" fill="{_GROUND}"/>',
        f'<text x="{goal}" y="20" text-anchor="middle" fill="{_INK}">goal</text>',
        f'<text x="{_LEFT}" y="20" fill="{_MUTED}">better</text>',
        f'<text x="{_LEFT + _WIDE}" y="20" text-anchor="end" fill="{_MUTED}">short of it</text>',
        f'<line x1="{goal}" y1="28" x2="{goal}" y2="{tall - 8}" stroke="{_INK}" stroke-dasharray="4 3"/>',
    ]
    for index, (figure, (median, least, most)) in enumerate(rows):
        y = _TOP + _ROW * index
        colour = _GOOD if median <= 1 else _OVER
        name = figure.name.replace("`", "")
        name = name if len(name) <= 78 else name[:77] + "…"
        lines += [
            f'<line x1="{_LEFT}" y1="{y}" x2="{_LEFT + _WIDE}" y2="{y}" stroke="{_LINE}"/>',
            f'<text x="{_LEFT - 14}" y="{y + 4}" text-anchor="end" fill="{_INK}">{escape(name)}</text>',
            f'<line x1="{place(least):.1f}" y1="{y}" x2="{place(most):.1f}" y2="{y}" stroke="{colour}" stroke-width="3"/>',
            f'<circle cx="{place(median):.1f}" cy="{y}" r="5" fill="{colour}"/>',
        ]
    return "\n".join([*lines, "</svg>", ""])
