"""Whether a stick or card is as large as it says: marks are written and read back, at chance places or everywhere.

A lying one drops what lies beyond its real size, or keeps it where something else lies (addresses that wrap). Each mark
says where it belongs, so both are seen: a place gives back nothing of what was written, or what belongs elsewhere.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
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
_RUNS, _LEAST_RUN, _LONGEST_RUN = 8, 4 * MIB, 64 * MIB


@dataclass(frozen=True, slots=True)
class Probed:
    """`real_bytes` is what it holds, where it lies at most; `tested_bytes` were written or read back; `confidence` that
    a lie of at least a hundredth would have been seen.
    """

    honest: bool
    real_bytes: int
    confidence: float
    tested_bytes: int


def _mark(place: int, length: int, seed: int) -> bytes:
    head = _HEAD.pack(_NAME, place)
    return head + blake3(head + seed.to_bytes(8, "little")).digest(length - len(head))


def probe_quick(store: WritableStore, seed: int, check: Callable[[], None] = lambda: None) -> Probed:
    """Runs of marks, looked for everywhere; then marks at chance places and near the end. What stood there is lost.

    However its addresses wrap, a run of some length is seen again at another place by reading at a stride that is no
    longer than the run. What is dropped is seen at the chance places. Raises WriteFailed.
    """
    units = store.size_bytes // _PIECE
    real, honest, tested = store.size_bytes, True, 0
    medium = store.uncached()
    length = _run_bytes(store.size_bytes)
    starts = [store.size_bytes * n // _RUNS // _PIECE * _PIECE for n in range(_RUNS)] if length else []
    for start in starts:
        for at in range(start, start + length, _PIECE):
            check()
            store.write(at, _mark(at, _PIECE, seed))
        tested += length
    store.sync()
    own = [(start, start + length) for start in starts]
    strided = range(0, units * _PIECE, length or store.size_bytes + 1)
    for place in (*strided, max(0, units - 1) * _PIECE) if units else ():
        check()
        tested += _PIECE
        found = _known(medium.read(place, min(_PIECE, store.size_bytes - place)), seed)
        if found is not None and found != place:
            honest, real = False, min(real, abs(place - found))
        elif found is None and any(start <= place < end for start, end in own):
            honest, real = False, min(real, place)
    ordered = _chance_places(units, seed)
    if not honest:
        return Probed(honest, real, 1.0, tested)
    for place in ordered:
        check()
        store.write(place, _mark(place, _PIECE, seed))
    store.sync()
    for place in ordered:
        check()
        if medium.read(place, _PIECE) != _mark(place, _PIECE, seed):
            honest, real = False, min(real, place)
    return Probed(honest, real, 1 - 0.99 ** len(ordered), tested + len(ordered) * _PIECE)


def _run_bytes(size: int) -> int:
    """How long one run is; 0 for a medium so small that chance places are all of it."""
    wanted = min(max(size // 4096, _LEAST_RUN), _LONGEST_RUN, size // (2 * _RUNS))
    return wanted // _PIECE * _PIECE


def _chance_places(units: int, seed: int) -> list[int]:
    """Spread over all of it, and those nearest to its end."""
    chance = np.random.default_rng(seed)
    edges = np.linspace(0, units, min(_SAMPLES, units) + 1).astype(np.int64)
    places = {int(chance.integers(a, max(a + 1, b))) * _PIECE for a, b in pairwise(edges)}
    return sorted(places | {(units - 1 - k) * _PIECE for k in range(min(_NEAR_END, units))})


def _known(data: bytes, seed: int) -> int | None:
    """Where a mark of this probe belongs; None for anything else."""
    if len(data) < _PIECE:
        return None
    name, place = _HEAD.unpack_from(data)
    return int(place) if name == _NAME and data == _mark(int(place), _PIECE, seed) else None


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
