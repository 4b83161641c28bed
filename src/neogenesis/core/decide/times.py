"""How long a way takes: 20,000 draws from its pieces, each with its own 10th, 50th and 90th percentile.

Pieces are drawn independently; what is alike is the same draw in all ways, so that they differ by what they are, not by
luck.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from functools import lru_cache
from zlib import crc32

import numpy as np

from neogenesis.core.decide.ways import Piece

DRAWS = 20_000
_SEED = 20_261_126
_AT = np.array([0.0, 0.1, 0.5, 0.9, 1.0])
_SHARES = _AT[1:4]


def percentiles(pieces: Sequence[Piece], draws: int = DRAWS) -> tuple[float, float, float]:
    """Seconds at the 10th, 50th and 90th percentile of their sum."""
    if not pieces:
        return (0.0, 0.0, 0.0)
    total = np.zeros(draws)
    for spread, count in Counter(piece.spread for piece in pieces).items():
        total += _sum_of(spread, count, draws)
    ranks = (draws - 1) * _SHARES
    below = ranks.astype(np.int64)
    total.partition(np.concatenate((below, below + 1)))
    low, middle, high = total[below] + (ranks - below) * (total[below + 1] - total[below])
    return float(low), float(middle), float(high)


@lru_cache(maxsize=4096)
def _hands_middle(pieces: tuple[Piece, ...]) -> float:
    return percentiles(pieces)[1]


def hands_middle(pieces: Sequence[Piece]) -> float:
    """Seconds with hands on it at the 50th percentile; the same pieces are drawn once only."""
    return _hands_middle(tuple(p for p in pieces if p.hands))


@lru_cache(maxsize=128)
def _sum_of(spread: tuple[float, ...], count: int, draws: int) -> np.ndarray:
    """`count` pieces of that spread; many are taken by the normal law of sums. Drawn once: ways share most of them."""
    rng = np.random.default_rng((_SEED, count, crc32(np.array(spread).tobytes())))
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
