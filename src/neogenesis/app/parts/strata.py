"""The geometry of a column: which stratum stands where. No painting.

The scale is compressed: every stratum is at least tall enough to read and to click, so small ones are taller than
their share and large ones give way. Which ones are out of scale is said, so that it can be drawn.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from PyQt6.QtCore import QRectF

from neogenesis.core.plan import Layout
from neogenesis.core.survey import Survey

FREE = "free"
#: Gaps below this share of a drive are alignment, not something to draw.
_LEAST_FREE_SHARE = 0.0005


@dataclass(frozen=True, slots=True)
class Stratum:
    """A range of a drive as a column shows it.

    `number` is None for free space. `level` is how full its volume is, from 0 to 1, None when nobody knows.
    `filled` is how much of it has been copied, from 0 to 1. `faded` is what stays behind.
    """

    number: int | None
    role: str
    title: str
    start_bytes: int
    size_bytes: int
    level: float | None = None
    filled: float | None = None
    faded: bool = False
    from_number: int | None = None

    @property
    def end_bytes(self) -> int:
        return self.start_bytes + self.size_bytes


@dataclass(frozen=True, slots=True)
class Placed:
    """A stratum with its place on the screen; `to_scale` tells whether its height is its true share."""

    stratum: Stratum
    rect: QRectF
    to_scale: bool


def strata_of_survey(survey: Survey, left_behind: Sequence[int] = ()) -> list[Stratum]:
    """The strata of a surveyed drive, free space included."""
    found = [
        Stratum(
            p.number,
            p.role,
            p.title,
            p.start_bytes,
            p.size_bytes,
            p.volume.used_bytes / p.volume.size_bytes if p.volume.understood and p.volume.size_bytes else None,
            faded=p.number in left_behind,
        )
        for p in survey.partitions
    ]
    return with_free(found, survey.drive.size_bytes)


def strata_of_layout(layout: Layout) -> list[Stratum]:
    """The strata of a new drive as planned."""
    found = [
        Stratum(
            p.number,
            p.role,
            p.title,
            p.start_bytes,
            p.size_bytes,
            min(1.0, p.used_bytes / p.size_bytes) if p.size_bytes else None,
            from_number=p.from_partition,
        )
        for p in layout.partitions
    ]
    return with_free(found, layout.size_bytes)


def with_free(strata: list[Stratum], size_bytes: int) -> list[Stratum]:
    """The strata in order, with free ranges large enough to matter between them."""
    least = max(4 << 20, int(size_bytes * _LEAST_FREE_SHARE))
    result: list[Stratum] = []
    at = 0
    for stratum in [*sorted(strata, key=lambda s: s.start_bytes), None]:
        start = stratum.start_bytes if stratum else size_bytes
        if start - at > least:
            result.append(Stratum(None, FREE, "", at, start - at))
        if stratum:
            result.append(stratum)
            at = max(at, stratum.end_bytes)
    return result


def place_strata(strata: Sequence[Stratum], rect: QRectF, least: float, gap: float) -> list[Placed]:
    """Places for `strata` inside `rect`, each at least `least` high, `gap` apart.

    What is above the floor keeps its true proportion to the others above it.
    """
    if not strata:
        return []
    height = rect.height() - gap * (len(strata) - 1)
    least = min(least, height / len(strata))
    total = max(1, sum(s.size_bytes for s in strata))
    floored: set[int] = set()
    while True:
        room = height - least * len(floored)
        shared = sum(s.size_bytes for i, s in enumerate(strata) if i not in floored) or 1
        low = {i for i, s in enumerate(strata) if i not in floored and room * s.size_bytes / shared < least - 1e-9}
        if not low:
            break
        floored |= low
    placed = []
    y = rect.top()
    for index, stratum in enumerate(strata):
        tall = least if index in floored else room * stratum.size_bytes / shared
        true = height * stratum.size_bytes / total
        place = QRectF(rect.left(), y, rect.width(), tall)
        placed.append(Placed(stratum, place, index not in floored or abs(true - tall) < 2))
        y += tall + gap
    return placed


def spread(wanted: Sequence[float], heights: Sequence[float], top: float, bottom: float) -> list[float]:
    """Tops for labels that would like to stand at `wanted`, in order, moved apart so that none overlap."""
    tops = []
    at = top
    for want, tall in zip(wanted, heights, strict=True):
        at = max(at, want)
        tops.append(at)
        at += tall
    limit = bottom
    for index in range(len(tops) - 1, -1, -1):
        tops[index] = min(tops[index], limit - heights[index])
        limit = tops[index]
    return tops


def filled(strata: Sequence[Stratum], shares: Mapping[int, float]) -> list[Stratum]:
    """The strata with how much of each has been copied."""
    return [replace(s, filled=shares.get(s.number, 0.0) if s.number is not None else None) for s in strata]


def neighbour(strata: Sequence[Stratum], number: int | None, step: int) -> int | None:
    """The partition above or below the chosen one."""
    numbers = [s.number for s in strata if s.number is not None]
    if not numbers:
        return None
    if number not in numbers:
        return numbers[0] if step > 0 else numbers[-1]
    return numbers[min(max(numbers.index(number) + step, 0), len(numbers) - 1)]
