"""Extent algebra equals a mask of booleans."""

from __future__ import annotations

import itertools

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.core.extent import Extents, runs_of_bits

SIZE = 60
ranges = st.lists(st.tuples(st.integers(0, SIZE), st.integers(0, SIZE)), max_size=12)


def mask(extents: Extents, size: int = SIZE) -> np.ndarray:
    found = np.zeros(size, dtype=bool)
    for start, end in extents:
        assert 0 <= start < end
        assert not found[start:end].any(), "disjoint"
        found[start:end] = True
    return found


def of(pairs: list[tuple[int, int]]) -> tuple[Extents, np.ndarray]:
    expected = np.zeros(SIZE, dtype=bool)
    for start, end in pairs:
        expected[start:end] = True
    return Extents.of(pairs), expected


@given(ranges, ranges)
def test_algebra(one: list[tuple[int, int]], other: list[tuple[int, int]]) -> None:
    a, a_mask = of(one)
    b, b_mask = of(other)
    assert (mask(a) == a_mask).all() and a.total == a_mask.sum()
    assert (mask(a.union(b)) == (a_mask | b_mask)).all()
    assert (mask(a.minus(b)) == (a_mask & ~b_mask)).all()
    assert (mask(a.intersection(b)) == (a_mask & b_mask)).all()
    assert (mask(a.complement(SIZE)) == ~a_mask).all()
    assert a.union(b) == b.union(a)


@given(ranges, st.integers(0, SIZE), st.integers(0, SIZE))
def test_clipping_containing_and_chunks(pairs: list[tuple[int, int]], start: int, end: int) -> None:
    a, a_mask = of(pairs)
    inside = np.zeros(SIZE, dtype=bool)
    inside[start:end] = True
    assert (mask(a.clipped(start, end)) == (a_mask & inside)).all()
    if start < end:
        assert a.contains(start, end) == bool(a_mask[start:end].all())
    pieces = list(a.chunks(7))
    assert all(0 < stop - begin <= 7 and begin // 7 == (stop - 1) // 7 for begin, stop in pieces)
    assert Extents.of(pieces) == a


@given(ranges, st.integers(0, 9), st.integers(1, 9))
def test_joining_and_widening(pairs: list[tuple[int, int]], gap: int, step: int) -> None:
    a, a_mask = of(pairs)
    joined = list(a.joined(gap))
    assert all(later[0] - earlier[1] > gap for earlier, later in itertools.pairwise(joined))
    assert (mask(Extents.of(joined)) | ~a_mask).all()
    wide = a.widened(step, SIZE)
    assert all(s % step == 0 and (e % step == 0 or e == SIZE) for s, e in wide)
    assert (mask(wide) | ~a_mask).all()


@given(st.lists(st.sampled_from([0, 255, 1, 128, 254, 127, 90]), max_size=40), st.integers(0, 400))
def test_runs_of_bits(raw: list[int], count: int) -> None:
    bitmap = np.array(raw, dtype=np.uint8)
    count = min(count, len(raw) * 8)
    expected = np.unpackbits(bitmap, bitorder="little")[:count]
    again = np.zeros(count, dtype=np.uint8)
    last = -1
    for start, end in runs_of_bits(bitmap, count):
        assert last < start < end, "apart from one another"
        again[start:end] = 1
        last = end
    assert (again == expected).all()
