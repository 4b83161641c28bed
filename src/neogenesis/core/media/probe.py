"""Whether a stick or card is as large as it says: marks are written and read back, at chance places or everywhere.

A lying one drops what lies beyond its real size, or keeps it where something else lies (addresses that wrap). Each mark
says where it belongs, so both are seen: a place gives back nothing of what was written, or what belongs elsewhere.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from blake3 import blake3

from neogenesis.core.store import WritableStore
from neogenesis.core.units import MIB

_PIECE, _FULL_PIECE = 4096, 4 * MIB
_SAMPLES, _NEAR_END = 512, 6
_HEAD = struct.Struct("<16sQ")
_NAME = b"neogenesis-probe"


@dataclass(frozen=True, slots=True)
class Probed:
    """`real_bytes` is what it holds at least; `confidence` that a lie of at least a hundredth would have been seen."""

    honest: bool
    real_bytes: int
    confidence: float
    tested: int


def _mark(place: int, length: int, seed: int) -> bytes:
    head = _HEAD.pack(_NAME, place)
    return head + blake3(head + seed.to_bytes(8, "little")).digest(length - len(head))


def _belongs(data: bytes) -> int | None:
    """Where a mark belongs; None for what is none."""
    name, place = _HEAD.unpack_from(data)
    return int(place) if name == _NAME else None


def probe_quick(store: WritableStore, seed: int, check: Callable[[], None] = lambda: None) -> Probed:
    """Marks at chance places, spread over all of it, and near its end. What stood there is lost. Raises WriteFailed."""
    units = store.size_bytes // _PIECE
    chance = np.random.default_rng(seed)
    count = min(_SAMPLES, units)
    edges = np.linspace(0, units, count + 1).astype(np.int64)
    places = {int(chance.integers(a, max(a + 1, b))) * _PIECE for a, b in pairwise(edges)}
    places |= {(units - 1 - k) * _PIECE for k in range(min(_NEAR_END, units))}
    ordered = sorted(places)
    for place in ordered:
        check()
        store.write(place, _mark(place, _PIECE, seed))
    store.sync()
    medium = store.uncached()
    real = store.size_bytes
    honest = True
    for place in ordered:
        check()
        if medium.read(place, _PIECE) != _mark(place, _PIECE, seed):
            honest, real = False, min(real, place)
    last = ordered[-_NEAR_END:]
    for size in _sizes(store.size_bytes):
        for place in last:
            if place < size:
                continue
            at = place % size // _PIECE * _PIECE
            if at != place and _belongs(medium.read(at, _PIECE)) == place:
                honest, real = False, min(real, size)
    return Probed(honest, real, 1 - 0.99 ** len(ordered), len(ordered) * _PIECE)


def _sizes(claimed: int) -> Iterator[int]:
    """Sizes that a smaller medium may really have: binary and decimal ones, and parts of what it says."""
    seen = set()
    for power in range(20, 45):
        for size in (1 << power, 3 << (power - 1), claimed >> (power - 19)):
            if MIB <= size < claimed:
                seen.add(size // _PIECE * _PIECE)
    for size in (1, 2, 4, 8, 16, 32, 64, 128, 256, 512):
        seen.add(size * 10**9 // _PIECE * _PIECE)
    yield from sorted(s for s in seen if 0 < s < claimed)


def probe_full(
    store: WritableStore,
    seed: int,
    check: Callable[[], None] = lambda: None,
    told: Callable[[int], None] = lambda n: None,
) -> Probed:
    """Every place written, then every place read back. `told` hears bytes of both. Raises WriteFailed."""
    total = store.size_bytes // _PIECE * _PIECE
    for place in range(0, total, _FULL_PIECE):
        check()
        length = min(_FULL_PIECE, total - place)
        store.write(place, _filled(place, length, seed))
        told(length)
    store.sync()
    medium = store.uncached()
    real = 0
    for place in range(0, total, _FULL_PIECE):
        check()
        length = min(_FULL_PIECE, total - place)
        if medium.read(place, length) == _filled(place, length, seed):
            real += length
        told(length)
    return Probed(real == total, real, 1.0, total)


def _filled(place: int, length: int, seed: int) -> bytes:
    return _mark(place, length, seed)
