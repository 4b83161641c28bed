"""Sets of drives for a machine: price against room against waiting, and the one that is proposed.

A set puts a drive into a bay that starts the system, and may put others into other bays. Of all sets only those remain
that no other beats in price, room and waiting at once. All of them are tried; above 4,000 for one system's drive, as
with many bays, only the best at each price go on.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

import numpy as np

from neogenesis.core.fit.match import Match
from neogenesis.core.fit.matrix import VERDICTS, Matrix
from neogenesis.core.fit.numbers import numbers
from neogenesis.core.fit.part import Part
from neogenesis.core.fit.waiting import drive_wait

_MOST_SETS = 4000
_MOST_BAYS = 4
#: Outer tracks of the fastest drives with discs of 3.5 and 2.5 inches, in bytes per second.
_MECHANICAL_BELOW = {"3.5": 3.0e8, "2.5": 1.9e8, "pata-2.5": 6.0e7}


@dataclass(frozen=True, slots=True)
class DriveSet:
    """`wait_s` is how long a start waits for the system's drive; `room_bytes` of all its drives together."""

    matches: tuple[Match, ...]
    system: Match
    cost: Decimal
    room_bytes: int
    wait_s: float

    @property
    def placed(self) -> tuple[tuple[str, str], ...]:
        """Part and bay, the system's drive first."""
        others = sorted((m for m in self.matches if m is not self.system), key=lambda m: m.bay.name)
        return tuple((m.part.id, m.bay.name) for m in (self.system, *others))

    def beats(self, other: DriveSet) -> bool:
        """At least as good in everything, and better in something."""
        mine, theirs = self._figures, other._figures
        return mine != theirs and all(a <= b for a, b in zip(mine, theirs, strict=True))

    @property
    def _figures(self) -> tuple[float, int, float]:
        return (float(self.cost), -self.room_bytes, self.wait_s)


def worth_having(matches: Sequence[Match], prices: dict[str, Decimal | None], needed_bytes: int) -> list[DriveSet]:
    """Sets that nothing beats, the cheapest first. The system's drive holds `needed_bytes` below the caution for fill.

    Parts without a price take no part: their place on the drawing is not known.
    """
    able = [m for m in matches if m.verdict != "does-not-fit" and m.usable_bytes and m.part.cost is not None]
    systems = [m for m in able if m.bay.starts_system is not False and (m.usable_bytes or 0) >= needed_bytes]
    by_bay: dict[str, list[Match]] = {}
    for one in able:
        by_bay.setdefault(one.bay.name, []).append(one)
    by_bay = {bay: _candidates(ones, len(by_bay), prices) for bay, ones in by_bay.items()}
    found: list[DriveSet] = []
    for system in _unbeaten_alone(systems, prices):
        sets = [_made((system,), system, prices)]
        for bay, others in by_bay.items():
            if bay != system.bay.name:
                grown = [_made((*s.matches, m), system, prices) for s in sets for m in others if _is_left(m, s)]
                sets = [*sets, *grown]
                if len(sets) > _MOST_SETS:
                    sets = _best_room(sets)
        found += _best_room(sets)
    return _unbeaten(found)


def _is_left(one: Match, chosen: DriveSet) -> bool:
    return Counter(m.part.id for m in chosen.matches)[one.part.id] < max(1, one.part.pieces)


def _candidates(ones: Sequence[Match], bays: int, prices: dict[str, Decimal | None]) -> list[Match]:
    """Without those that have so many others beside them, as cheap and as large, that one of these is always left."""
    kept = []
    for one in ones:
        cost, room = price_of(one, prices), one.usable_bytes or 0
        better = sum(
            max(1, m.part.pieces)
            for m in ones
            if m is not one
            and (price_of(m, prices), -(m.usable_bytes or 0), m.part.id) < (cost, -room, one.part.id)
            and (m.usable_bytes or 0) >= room
        )
        if better < bays:
            kept.append(one)
    return kept


def likely(table: Matrix, prices: dict[str, Decimal | None]) -> list[Match]:
    """Pairs of which the sets that nothing beats can be made, in at most four bays, those that start the system first.

    For each bay those that have fewer better ones beside them, in price, room and waiting at once, than there are bays:
    of so many one is always left.
    """
    order = sorted(range(len(table.bays)), key=lambda n: table.bays[n].starts_system is False)[:_MOST_BAYS]
    found = []
    for column in sorted(order):
        able = [
            int(row)
            for row in np.flatnonzero(table.verdicts[:, column])
            if table.parts[row].cost is not None and table.parts[row].capacity_gb
        ]
        found += [table.match(row, column) for row in _layers(table, able, column, prices, len(order))]
    return found


def _layers(
    table: Matrix, rows: Sequence[int], column: int, prices: dict[str, Decimal | None], count: int
) -> list[int]:
    """Rows that fewer than `count` others are better than."""
    figures = []
    for row in rows:
        part = table.parts[row]
        cost = float(part.cost or 0)
        if VERDICTS[int(table.verdicts[row, column])] == "fits-with":
            cost = float(price_of(table.match(row, column), prices))
        rate = float(table.rates[row, column])
        figures.append((cost, -float(part.capacity_gb or 0), _wait(part, None if math.isnan(rate) else rate)))
    every = np.array(figures).reshape(-1, 3)
    kept: list[int] = []
    for n in np.lexsort((every[:, 2], every[:, 1], every[:, 0])):  # whatever is better than one comes before it
        if (every[kept] <= every[n]).all(axis=1).sum() < count:
            kept.append(int(n))
    return [rows[n] for n in kept]


def proposed(sets: Sequence[DriveSet], budget: Decimal | None, needed_bytes: int = 0) -> DriveSet | None:
    """The cheapest within the budget that has the room, and waits hardly longer than the fastest such set."""
    able = [s for s in sets if (budget is None or s.cost <= budget) and s.room_bytes >= needed_bytes]
    if not able:
        return None
    least = min(s.wait_s for s in able)
    near = [s for s in able if s.wait_s <= least + numbers().set.near_s]
    return min(near, key=lambda s: (s.cost, s.wait_s))


def made_of(matches: Sequence[Match], prices: dict[str, Decimal | None]) -> DriveSet:
    """A set of at least one drive; the system is taken to be on the fastest that can start it, else on the first."""
    starts = [m for m in matches if m.bay.starts_system is not False] or list(matches)
    system = max(starts, key=lambda m: m.effective_read_bytes_per_s or 0)
    return _made(tuple(matches), system, prices)


def _made(matches: tuple[Match, ...], system: Match, prices: dict[str, Decimal | None]) -> DriveSet:
    cost = sum((price_of(m, prices) for m in matches), Decimal(0))
    room = sum(m.usable_bytes or 0 for m in matches)
    return DriveSet(matches, system, cost, room, _wait(system.part, system.effective_read_bytes_per_s))


def _wait(part: Part, rate: float | None) -> float:
    return drive_wait("rotational" if is_mechanical(part) else str(part.interface or "sata"), rate)


def is_mechanical(part: Part) -> bool:
    """As it says itself; else one in a form of mechanical drives that reads no faster than those of its size do."""
    if part.mechanical is not None:
        return part.mechanical
    rate = part.read_bytes_per_s
    return rate is not None and rate < _MECHANICAL_BELOW.get(part.form or "2.5", 0.0)


def price_of(one: Match, prices: dict[str, Decimal | None]) -> Decimal:
    """With what it needs, as far as that has a price; what is in the machine already costs nothing."""
    if one.bay.holds == one.part.id:
        return Decimal(0)
    needed = (prices.get(need.ids[0]) or Decimal(0) for need in one.needs if need.ids)
    return (one.part.cost or Decimal(0)) + sum(needed, Decimal(0))


def _unbeaten_alone(systems: Sequence[Match], prices: dict[str, Decimal | None]) -> list[Match]:
    """Drives for the system that are worth trying in their bay."""
    kept = []
    for bay in dict.fromkeys(m.bay.name for m in systems):
        alone = [_made((m,), m, prices) for m in systems if m.bay.name == bay]
        kept += [s.system for s in _unbeaten(alone)]
    return kept


def _unbeaten(sets: Sequence[DriveSet]) -> list[DriveSet]:
    """Without those that another beats, and one of those that are the same in everything."""
    kept: list[DriveSet] = []
    for one in sorted(sets, key=lambda s: s._figures):
        if not any(k.beats(one) or k._figures == one._figures for k in kept):
            kept.append(one)
    return kept


def _best_room(sets: Sequence[DriveSet]) -> list[DriveSet]:
    """Of sets with one system drive: from the cheapest on, each that has more room than all before."""
    kept: list[DriveSet] = []
    most = -1
    for one in sorted(sets, key=lambda s: (s.cost, -s.room_bytes)):
        if one.room_bytes > most:
            kept.append(one)
            most = one.room_bytes
    return kept[:_MOST_SETS]
