"""How long a way takes: 20,000 draws from its pieces, each with its own 10th, 50th and 90th percentile.

Pieces are drawn independently; the seed is the same for all ways, so that they differ by what they are, not by luck.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np

from neogenesis.core.decide.ways import Piece

DRAWS = 20_000
_SEED = 20_261_126
_AT = np.array([0.0, 0.1, 0.5, 0.9, 1.0])


def percentiles(pieces: Sequence[Piece], draws: int = DRAWS) -> tuple[float, float, float]:
    """Seconds at the 10th, 50th and 90th percentile of their sum."""
    if not pieces:
        return (0.0, 0.0, 0.0)
    rng = np.random.default_rng(_SEED)
    total = np.zeros(draws)
    alike: dict[tuple[float, ...], int] = {}
    for piece in pieces:
        alike[piece.spread] = alike.get(piece.spread, 0) + 1
    for spread, count in alike.items():
        total += _sum_of(spread, count, rng, draws)
    low, middle, high = np.percentile(total, (10, 50, 90))
    return float(low), float(middle), float(high)


@lru_cache(maxsize=4096)
def _hands_middle(pieces: tuple[Piece, ...]) -> float:
    return percentiles(pieces)[1]


def hands_middle(pieces: Sequence[Piece]) -> float:
    """Seconds with hands on it at the 50th percentile; the same pieces are drawn once only."""
    return _hands_middle(tuple(p for p in pieces if p.hands))


def _sum_of(spread: tuple[float, ...], count: int, rng: np.random.Generator, draws: int) -> np.ndarray:
    """`count` pieces of that spread; many are taken by the normal law of sums."""
    low, middle, high = spread
    values = np.array([max(0.0, low - (middle - low) / 2), low, middle, high, high + (high - middle) / 2])
    if count <= 4:
        drawn = np.interp(rng.random((count, draws)), _AT, values)
        return np.asarray(drawn.sum(axis=0))
    one = np.interp(rng.random(draws), _AT, values)
    return np.asarray(np.maximum(0.0, count * one.mean() + np.sqrt(count) * one.std() * rng.standard_normal(draws)))


def middle_seconds(pieces: Sequence[Piece]) -> float:
    """The sum of the medians: quick, for searching."""
    return sum(p.spread[1] for p in pieces)
