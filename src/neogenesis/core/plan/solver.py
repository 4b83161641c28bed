"""The exact solver behind every layout: sizes of volumes that share a drive, in whole MiB.

It minimises the sum of (size - wanted)^2 / weight over all volumes with a weight above zero, with every size a
whole number not below its least, and the sizes adding up to the room there is. A volume of weight zero keeps the
size it wants. In words: new space is shared by weight, and a shortage is taken where it hurts least, never below
what a volume can be shrunk to.
"""

from __future__ import annotations

import heapq
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction


@dataclass(frozen=True, slots=True)
class Share:
    """`wanted` and `least` in units, `weight` a whole number; weight 0 means fixed at `wanted`."""

    wanted: int
    least: int
    weight: int


def solve(shares: Sequence[Share], room: int) -> list[int] | None:
    """The sizes, or None when even the least sizes do not fit.

    The objective is convex and separable, so taking the cheapest next unit again and again is optimal; all units
    cheaper than a threshold found by bisection are taken at once, and the rest one by one. When nothing has a
    weight, what is left of the room stays free.
    """
    sizes = [s.wanted if s.weight == 0 else s.least for s in shares]
    if sum(sizes) > room:
        return None
    flexible = [i for i, s in enumerate(shares) if s.weight]
    if not flexible:
        return sizes
    left = room - sum(sizes)
    heaviest = max(shares[i].weight for i in flexible)

    def reached(index: int, threshold: int) -> int:
        """Largest size whose last unit costs at most threshold / heaviest."""
        share = shares[index]
        limit = share.wanted + (Fraction(threshold * share.weight, heaviest) + 1) / 2
        return max(share.least, limit.numerator // limit.denominator)

    low, high = -(2 * max(s.wanted for s in shares) + 2) * heaviest - 2, 2 * (room + 1) * heaviest + 2
    while low < high:
        middle = (low + high + 1) // 2
        if sum(reached(i, middle) - sizes[i] for i in flexible) <= left:
            low = middle
        else:
            high = middle - 1
    for i in flexible:
        grown = reached(i, low)
        left -= grown - sizes[i]
        sizes[i] = grown
    heap = [(_cost(shares[i], sizes[i]), i) for i in flexible]
    heapq.heapify(heap)
    while left > 0:
        _, i = heapq.heappop(heap)
        sizes[i] += 1
        left -= 1
        heapq.heappush(heap, (_cost(shares[i], sizes[i]), i))
    return sizes


def _cost(share: Share, size: int) -> Fraction:
    """What one more unit adds to the objective."""
    return Fraction(2 * (size - share.wanted) + 1, share.weight)
