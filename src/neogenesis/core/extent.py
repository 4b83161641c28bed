"""Half-open byte ranges [start, end) and sorted disjoint sets of them, on NumPy arrays.

Knows nothing of stores. A set of a million ranges costs 16 MB.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.int64]
Booleans = npt.NDArray[np.bool_]
_FAR = np.iinfo(np.int64).max
_FEW = 32
#: So many ranges at a time keep the memory for comparing them small.
_AT_ONCE = 1 << 16
#: So many rows become Python's own integers together.
_ROWS = 4096


class Extents:
    """An immutable, sorted set of disjoint, non-touching half-open ranges; `array` has shape (n, 2), int64."""

    __slots__ = ("array",)

    def __init__(self, array: Array) -> None:
        self.array = array

    @classmethod
    def of(cls, ranges: Iterable[tuple[int, int]]) -> Extents:
        """The union of `ranges` in any order; empty ones vanish."""
        return cls.merged(np.array([r for r in ranges if r[1] > r[0]], dtype=np.int64).reshape(-1, 2))

    @classmethod
    def merged(cls, array: Array, gap: int = 0) -> Extents:
        """The union of the rows of `array`; ranges at most `gap` apart become one."""
        if len(array) == 0:
            return cls(np.empty((0, 2), dtype=np.int64))
        if (array[1:, 0] < array[:-1, 0]).any():
            array = array[np.argsort(array[:, 0], kind="stable")]
        ends = np.maximum.accumulate(array[:, 1])
        first = np.concatenate(([True], array[1:, 0] > ends[:-1] + gap))
        last = np.concatenate((first[1:], [True]))
        return cls(np.stack((array[first, 0], ends[last]), axis=1))

    @classmethod
    def whole(cls, size: int) -> Extents:
        return cls.of([(0, size)])

    def __len__(self) -> int:
        return len(self.array)

    def __bool__(self) -> bool:
        return len(self.array) > 0

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Extents) and np.array_equal(self.array, other.array)

    def __hash__(self) -> int:
        return hash(self.array.tobytes())

    def __iter__(self) -> Iterator[tuple[int, int]]:
        for row in range(0, len(self.array), _ROWS):
            yield from map(tuple, self.array[row : row + _ROWS].tolist())

    def __repr__(self) -> str:
        shown = ", ".join(f"{s}..{e}" for s, e in list(self)[:4])
        return f"Extents({len(self)}: {shown}{' ...' if len(self) > 4 else ''})"

    @property
    def total(self) -> int:
        """Bytes covered."""
        return int((self.array[:, 1] - self.array[:, 0]).sum())

    @property
    def end(self) -> int:
        """End of the last range, 0 when empty."""
        return int(self.array[-1, 1]) if len(self.array) else 0

    def shifted(self, by: int) -> Extents:
        return Extents(self.array + by)

    def union(self, other: Extents) -> Extents:
        if not self or not other:
            return self or other
        return Extents.merged(np.concatenate((self.array, other.array)))

    def joined(self, gap: int) -> Extents:
        """The set with all gaps of at most `gap` bytes filled."""
        return Extents.merged(self.array, gap)

    def widened(self, step: int, limit: int) -> Extents:
        """Every range grown to multiples of `step`, but not beyond `limit`."""
        array = self.array.copy()
        array[:, 0] = array[:, 0] // step * step
        array[:, 1] = np.minimum(-(-array[:, 1] // step) * step, limit)
        return Extents.merged(array)

    def clipped(self, start: int, end: int) -> Extents:
        """The part inside [start, end); costs what is inside, not what the whole set has."""
        first = np.searchsorted(self.array[:, 1], start, side="right")
        stop = np.searchsorted(self.array[:, 0], end, side="left")
        array = np.clip(self.array[first:stop], start, max(start, end))
        return Extents(array[array[:, 1] > array[:, 0]])

    def contain(self, rows: Array) -> Booleans:
        """For each [start, end) of `rows`, shape (n, 2), whether all of it is in the set."""
        at = np.searchsorted(self.array[:, 1], rows[:, 0], side="right")
        known = np.concatenate((self.array, [[_FAR, _FAR]]))[at]
        inside: Booleans = (known[:, 0] <= rows[:, 0]) & (known[:, 1] >= rows[:, 1])
        return inside

    def touch(self, rows: Array) -> Booleans:
        """For each [start, end) of `rows`, shape (n, 2), whether any of it is in the set."""
        at = np.searchsorted(self.array[:, 1], rows[:, 0], side="right")
        touched: Booleans = np.concatenate((self.array, [[_FAR, _FAR]]))[at, 0] < rows[:, 1]
        return touched

    def complement(self, size: int) -> Extents:
        """What [0, size) holds beside this set."""
        inside = self.clipped(0, size).array.ravel()
        edges = np.concatenate(([0], inside, [size])).astype(np.int64).reshape(-1, 2)
        return Extents(edges[edges[:, 1] > edges[:, 0]])

    def minus(self, other: Extents) -> Extents:
        if not other:
            return self
        limit = max(self.end, other.end)
        return self.intersection(other.complement(limit))

    def intersection(self, other: Extents) -> Extents:
        a, b = self.array, other.array
        if not len(a) or not len(b):
            return Extents.of([])
        few, many = (other, self) if len(b) <= len(a) else (self, other)
        if len(few) <= _FEW:  # often all of a drive: no need for the general way and its memory
            return Extents(np.concatenate([many.clipped(start, end).array for start, end in few]))
        found = [_overlaps(a[row : row + _AT_ONCE], b) for row in range(0, len(a), _AT_ONCE)]
        return Extents(np.concatenate(found))

    def contains(self, start: int, end: int) -> bool:
        """Whether [start, end) lies inside one range."""
        at = int(np.searchsorted(self.array[:, 0], start, side="right")) - 1
        return at >= 0 and int(self.array[at, 1]) >= end

    def chunks(self, largest: int) -> Iterator[tuple[int, int]]:
        """The set cut into pieces of at most `largest` bytes, cut at multiples of `largest`."""
        for run in self:
            start, end = run
            if end <= (start // largest + 1) * largest:
                yield run
                continue
            while start < end:
                stop = min(end, (start // largest + 1) * largest)
                yield start, stop
                start = stop


def _overlaps(a: Array, b: Array) -> Array:
    """What rows of `a` and of `b` have in common; both sorted and disjoint."""
    first = np.searchsorted(b[:, 1], a[:, 0], side="right")
    stop = np.searchsorted(b[:, 0], a[:, 1], side="left")
    counts = np.maximum(stop - first, 0)
    left = np.repeat(np.arange(len(a)), counts)
    offsets = np.arange(len(left)) - np.repeat(np.cumsum(counts) - counts, counts)
    right = np.repeat(first, counts) + offsets
    starts = np.maximum(a[left, 0], b[right, 0])
    ends = np.minimum(a[left, 1], b[right, 1])
    found: Array = np.stack((starts, ends), axis=1)[ends > starts]
    return found


def runs_of_bits(bitmap: npt.NDArray[np.uint8], count: int) -> Array:
    """Ranges of indices below `count` whose bit is set, least significant bit first; shape (n, 2).

    Only words of 64 bits in which something changes are unpacked: large uniform stretches cost next to nothing.
    """
    length = (count + 7) // 8
    words = np.zeros(-(-length // 8), dtype="<u8")
    raw = words.view(np.uint8)
    raw[: min(length, len(bitmap))] = bitmap[:length]
    if count % 8:
        raw[length - 1] &= (1 << count % 8) - 1
    before = np.zeros_like(words)  # the bit before each word
    np.right_shift(words[:-1], np.uint64(63), out=before[1:])
    mixed = np.flatnonzero(words != np.negative(before))
    bits = np.unpackbits(words[mixed].view(np.uint8).reshape(-1, 8), axis=1, bitorder="little")
    changes = np.empty_like(bits)
    changes[:, 0] = bits[:, 0] ^ before[mixed].astype(np.uint8)
    np.bitwise_xor(bits[:, 1:], bits[:, :-1], out=changes[:, 1:])
    rows, columns = np.nonzero(changes)
    edges = mixed[rows] * 64 + columns
    if len(edges) % 2:
        edges = np.append(edges, count)
    return edges.reshape(-1, 2).astype(np.int64)


def runs_of_flags(flags: npt.NDArray[np.uint8] | npt.NDArray[np.bool_]) -> Array:
    """Ranges of indices where `flags` is set; shape (n, 2)."""
    edges = np.flatnonzero(np.diff(np.concatenate(([0], flags, [0])).astype(np.int8)))
    return edges.reshape(-1, 2).astype(np.int64)


#: No ranges at all.
NONE = Extents.of(())
