"""The best way to place drives in bays, exactly: most parts, then the fastest drive where the system starts, then the
sum of rates, then the lowest cost; under a budget.

The solver is loaded when it is needed: that takes longer than all the rest of a command together.
"""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import TYPE_CHECKING

import numpy as np

from neogenesis.core.fit.match import Match
from neogenesis.core.fit.sets import price_of

if TYPE_CHECKING:
    from scipy.sparse import csr_array

_TOLERANCE = 1e-6
#: Prices and reduced costs, of goals whose largest figure is 1, below which they are none.
_TIGHT = 1e-7
#: A drive that does not say how fast it reads counts as one that just reads.
_UNSTATED = 1.0


def assign(matches: Sequence[Match], prices: dict[str, Decimal | None], budget: Decimal | None) -> list[Match]:
    """The chosen matches, in the order of the bays' names as they came."""
    able = [m for m in matches if m.verdict != "does-not-fit" and (m.part.pieces or m.bay.holds == m.part.id)]
    if not able:
        return []
    rates = np.array([(m.effective_read_bytes_per_s or _UNSTATED) / 1e6 for m in able])
    costs = np.array([float(price_of(m, prices)) for m in able])
    starts = np.array([m.bay.starts_system is True for m in able])
    limits, most = _limits(able)
    if budget is not None:
        from scipy.sparse import csr_array, vstack

        limits, most = vstack([limits, csr_array(costs[None, :])]), np.append(most, float(budget) + _TOLERANCE)
    chosen = _by_faces(limits, most, rates, costs, starts) if budget is None else None
    if chosen is None:
        chosen = _stages(limits, most, rates, costs, starts)
    order = {name: n for n, name in enumerate(dict.fromkeys(m.bay.name for m in matches))}
    return sorted((able[n] for n in chosen), key=lambda m: order[m.bay.name])


def _limits(able: Sequence[Match]) -> tuple[csr_array, np.ndarray]:
    """A bay takes one part, a part as many places as it has pieces, and of bays that share lanes one is used: a row
    for each, a column for each pair.
    """
    from scipy.sparse import csr_array

    bays = {name: n for n, name in enumerate(dict.fromkeys(m.bay.name for m in able))}
    parts = {key: n + len(bays) for n, key in enumerate(dict.fromkeys(m.part.id for m in able))}
    shared = _sharing(able)
    most = np.ones(len(bays) + len(parts) + len(shared))
    rows, columns = [], []
    for column, one in enumerate(able):
        rows += [bays[one.bay.name], parts[one.part.id]]
        columns += [column, column]
        most[parts[one.part.id]] = max(1, one.part.pieces)
        for number, pair in enumerate(shared, len(bays) + len(parts)):
            if one.bay.name in pair:
                rows.append(number)
                columns.append(column)
    return csr_array((np.ones(len(rows)), (rows, columns)), shape=(len(most), len(able))), most


def _sharing(able: Sequence[Match]) -> list[frozenset[str]]:
    """Pairs of bays of which one goes when the other is used; what is in the machine already may stay."""
    names = {m.bay.name for m in able}
    pairs = {frozenset((m.bay.name, other)) for m in able for other in m.bay.shares_with if other in names}
    held = {m.bay.name for m in able if m.bay.holds == m.part.id}
    return sorted((p for p in pairs if len(p) == 2 and not p <= held), key=sorted)


class _Face:
    """Placements that are best in every goal so far: pairs that may be used, and limits that are used up whole.

    Without a budget the limits are those of a network, whose linear programmes have whole corners. By complementary
    slackness the placements that are best in a goal are those that use only pairs without reduced cost, and fill every
    limit that has a price; so the next goal is sought on a smaller network, and no goal becomes a limit that spoils it.
    """

    def __init__(self, limits: csr_array, most: np.ndarray) -> None:
        self.limits, self.most = limits.tocsr(), most
        self.able = np.ones(limits.shape[1], dtype=bool)
        self.full = np.zeros(len(most), dtype=bool)

    def best(self, goal: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
        """The best placement and the prices of the limits; None where its corner is not whole."""
        from scipy.optimize import linprog

        columns = np.flatnonzero(self.able)
        rows = self.limits[:, columns]
        full, free = np.flatnonzero(self.full), np.flatnonzero(~self.full)
        found = linprog(
            -goal[columns],
            A_ub=rows[free] if len(free) else None,
            b_ub=self.most[free] if len(free) else None,
            A_eq=rows[full] if len(full) else None,
            b_eq=self.most[full] if len(full) else None,
            bounds=(0, None),
            method="highs-ds",
        )
        if found.status != 0 or np.abs(found.x - np.round(found.x)).max(initial=0.0) > _TOLERANCE:
            return None
        prices = np.zeros(len(self.most))
        if len(free):
            prices[free] = -found.ineqlin.marginals
        if len(full):
            prices[full] = -found.eqlin.marginals
        placed = np.zeros(len(self.able))
        placed[columns] = np.round(found.x)
        return placed, prices

    def narrow(self, goal: np.ndarray) -> np.ndarray | None:
        """Keep what is best in `goal`, and return one such placement."""
        goal = goal / max(1.0, float(np.abs(goal).max(initial=0.0)))
        found = self.best(goal)
        if found is None:
            return None
        placed, prices = found
        self.able &= goal - self.limits.T @ prices > -_TIGHT
        self.full |= prices > _TIGHT
        return placed

    def ask(self, wanted: np.ndarray) -> None:
        """At least one of these pairs is used from now on."""
        from scipy.sparse import csr_array, vstack

        self.limits = vstack([self.limits, csr_array(-wanted[None, :])]).tocsr()
        self.most, self.full = np.append(self.most, -1.0), np.append(self.full, False)


def _by_faces(
    limits: csr_array, most: np.ndarray, rates: np.ndarray, costs: np.ndarray, starts: np.ndarray
) -> list[int] | None:
    """As `_stages`, in a second where those take minutes; None where bays share lanes in a way that is no network."""
    face = _Face(limits, most)
    placed = face.narrow(np.ones(len(rates)))
    if placed is None:
        return None
    for rate in sorted(set(rates[starts & face.able].tolist()), reverse=True):
        wanted = np.where(starts & (rates >= rate - _TOLERANCE), 1.0, 0.0)
        found = face.best(wanted)
        if found is None:
            return None
        if wanted @ found[0] >= 1:
            face.ask(wanted)
            break
    for goal in (rates, -costs):
        placed = face.narrow(goal)
        if placed is None:
            return None
    return [int(i) for i in np.flatnonzero(placed > 0.5)]


def _stages(limits: csr_array, most: np.ndarray, rates: np.ndarray, costs: np.ndarray, starts: np.ndarray) -> list[int]:
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
    limits: csr_array,
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
    limits: csr_array,
    most: np.ndarray,
    least: list[tuple[np.ndarray, float]],
    may_fail: bool = False,
) -> np.ndarray:
    """Maximise `goal` over zeros and ones with limits @ x <= most and row @ x >= value for each of `least`."""
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import csr_array

    constraints = [LinearConstraint(limits, -np.inf, most)]
    if least:
        rows = np.vstack([row for row, _ in least])
        constraints.append(LinearConstraint(csr_array(rows), np.array([value for _, value in least]), np.inf))
    found = milp(-goal, integrality=np.ones(len(goal)), bounds=Bounds(0, 1), constraints=constraints)
    if found.x is None:
        return np.array([]) if may_fail else np.zeros(len(goal))
    return np.asarray(np.round(found.x))
