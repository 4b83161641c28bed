"""The best way to place drives in bays, exactly: most parts, then the fastest drive where the system starts, then the
sum of rates, then the lowest cost; under a budget.

Parts that nothing tells apart are one kind with several pieces, so that the search stays small.
"""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

import numpy as np
from scipy.optimize import Bounds, LinearConstraint, milp
from scipy.sparse import csr_array

from neogenesis.core.fit.match import Match

_TOLERANCE = 1e-6
#: A drive that does not say how fast it reads counts as one that just reads.
_UNSTATED = 1.0


def assign(matches: Sequence[Match], prices: dict[str, Decimal | None], budget: Decimal | None) -> list[Match]:
    """The chosen matches, in the order of the bays' names as they came."""
    able = [m for m in matches if m.verdict != "does-not-fit" and (m.part.pieces or m.bay.holds == m.part.id)]
    able = _worth_trying(able, prices) if budget is None else able
    if not able:
        return []
    rates = np.array([(m.effective_read_bytes_per_s or _UNSTATED) / 1e6 for m in able])
    costs = np.array([float(_price(m, prices)) for m in able])
    starts = np.array([m.bay.starts_system is True for m in able])
    limits, most = _limits(able)
    if budget is not None:
        limits.append(costs)
        most.append(float(budget) + _TOLERANCE)
    chosen = _stages(np.vstack(limits), np.array(most), rates, costs, starts)
    order = {name: n for n, name in enumerate(dict.fromkeys(m.bay.name for m in matches))}
    return sorted((able[n] for n in chosen), key=lambda m: order[m.bay.name])


def _price(one: Match, prices: dict[str, Decimal | None]) -> Decimal:
    """With what it needs, as far as that has a price; what is in the machine already costs nothing."""
    if one.bay.holds == one.part.id:
        return Decimal(0)
    needed = (prices.get(need.ids[0]) or Decimal(0) for need in one.needs if need.ids)
    return (one.part.cost or Decimal(0)) + sum(needed, Decimal(0))


def _worth_trying(able: list[Match], prices: dict[str, Decimal | None]) -> list[Match]:
    """Of parts by the thousand only as many as could matter: for each bay the best, twice as many as there are bays."""
    bays = list(dict.fromkeys(m.bay.name for m in able))
    if len(able) <= 40 * max(1, len(bays)):
        return able
    kept: list[Match] = []
    for bay in bays:
        here = [m for m in able if m.bay.name == bay]
        here.sort(key=lambda m: (-(m.effective_read_bytes_per_s or _UNSTATED), _price(m, prices)))
        kept += here[: 2 * len(bays)]
    return kept


def _limits(able: Sequence[Match]) -> tuple[list[np.ndarray], list[float]]:
    """A bay takes one part, a part is placed as often as there are pieces."""
    limits, most = [], []
    for name in dict.fromkeys(m.bay.name for m in able):
        limits.append(np.array([float(m.bay.name == name) for m in able]))
        most.append(1.0)
    for key in dict.fromkeys(m.part.id for m in able):
        row = np.array([float(m.part.id == key) for m in able])
        limits.append(row)
        pieces = next(m.part.pieces for m in able if m.part.id == key)
        most.append(float(max(1, pieces)))
    return limits, most


def _stages(
    limits: np.ndarray, most: np.ndarray, rates: np.ndarray, costs: np.ndarray, starts: np.ndarray
) -> list[int]:
    """One goal after the other, each kept while the next is sought."""
    n = len(rates)
    ones = np.ones(n)
    placed = _solve(ones, limits, most, [])
    kept: list[tuple[np.ndarray, float]] = [(ones, round(float(ones @ placed)))]
    best = placed
    if starts.any():
        fastest = _fastest(limits, most, rates, starts, kept)
        if fastest is not None:
            kept.append((np.where(starts & (rates >= fastest - _TOLERANCE), 1.0, 0.0), 1.0))
    for goal, slack in ((rates, 1e-3), (-costs, 1e-4)):
        best = _solve(goal, limits, most, kept)
        kept.append((goal, float(goal @ best) - slack))
    return [int(i) for i in np.flatnonzero(best > 0.5)]


def _fastest(
    limits: np.ndarray,
    most: np.ndarray,
    rates: np.ndarray,
    starts: np.ndarray,
    kept: list[tuple[np.ndarray, float]],
) -> float | None:
    """The highest rate in a bay that starts the system with everything that is kept; None when none can be there."""
    for rate in sorted(set(rates[starts].tolist()), reverse=True):
        wanted = (np.where(starts & (rates >= rate - _TOLERANCE), 1.0, 0.0), 1.0)
        if _solve(np.zeros(len(rates)), limits, most, [*kept, wanted], may_fail=True).size:
            return float(rate)
    return None


def _solve(
    goal: np.ndarray,
    limits: np.ndarray,
    most: np.ndarray,
    least: list[tuple[np.ndarray, float]],
    may_fail: bool = False,
) -> np.ndarray:
    """Maximise `goal` over zeros and ones with limits @ x <= most and row @ x >= value for each of `least`."""
    constraints = [LinearConstraint(csr_array(limits), -np.inf, most)]
    if least:
        rows = np.vstack([row for row, _ in least])
        constraints.append(LinearConstraint(csr_array(rows), np.array([value for _, value in least]), np.inf))
    found = milp(-goal, integrality=np.ones(len(goal)), bounds=Bounds(0, 1), constraints=constraints)
    if found.x is None:
        return np.array([]) if may_fail else np.zeros(len(goal))
    return np.asarray(np.round(found.x))
