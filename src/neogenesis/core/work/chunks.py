"""The checksums of what was written: ranges of the new drive with a BLAKE3 digest each, in compact arrays."""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from neogenesis.core.extent import Array, Booleans, Extents

Indices = npt.NDArray[np.int64]
_DIGEST = 32
_ROWS = 4096
#: Stands for a range that holds only zeros.
ZEROS = b"\0" * _DIGEST


class Chunk(NamedTuple):
    """Bytes [start, end) of the new drive. A digest of ZEROS says that all of them are zero."""

    start: int
    end: int
    digest: bytes


class ChunkLog:
    """Chunks in the order of their completion; 48 bytes each, whatever the size of the drive."""

    def __init__(self) -> None:
        self._edges = array("q")
        self._digests = bytearray()

    def __len__(self) -> int:
        return len(self._edges) // 2

    def __iter__(self) -> Iterator[Chunk]:
        return self.picked(np.arange(len(self)))

    def picked(self, indices: Indices) -> Iterator[Chunk]:
        """Those with these numbers, in this order; many are looked up at a time."""
        edges, digests = self.edges, self._digests
        for row in range(0, len(indices), _ROWS):
            some = indices[row : row + _ROWS]
            starts, ends = edges[some].T.tolist()
            yield from map(Chunk, starts, ends, [bytes(digests[at : at + _DIGEST]) for at in (some * _DIGEST).tolist()])

    def add(self, chunk: Chunk) -> None:
        self._edges.extend((chunk.start, chunk.end))
        self._digests += chunk.digest

    def extend(self, chunks: Sequence[Chunk]) -> None:
        """As `add` for all of them."""
        for start, end, _ in chunks:
            self._edges.append(start)
            self._edges.append(end)
        self._digests += b"".join([chunk[2] for chunk in chunks])

    def append(self, other: ChunkLog) -> None:
        """All of `other` behind these."""
        self._edges.extend(other._edges)
        self._digests += other._digests

    def forget(self, ranges: Iterable[tuple[int, int]]) -> None:
        """Drop every chunk that touches one of `ranges`."""
        edges = self.edges
        keep = np.ones(len(edges), dtype=bool)
        for start, end in ranges:
            keep &= (edges[:, 1] <= start) | (edges[:, 0] >= end)
        digests = np.frombuffer(bytes(self._digests), dtype=np.uint8).reshape(-1, _DIGEST)
        self._edges = array("q", edges[keep].tobytes())
        self._digests = bytearray(digests[keep].tobytes())

    @property
    def edges(self) -> Array:
        """Start and end of each, in the order of their completion; shape (n, 2)."""
        return np.frombuffer(self._edges.tobytes(), dtype=np.int64).reshape(-1, 2)

    def latest(self) -> Indices:
        """The numbers of the latest of each place, by place."""
        edges = self.edges
        order = np.argsort(edges[:, 0], kind="stable")
        starts = edges[order, 0]
        return order[np.append(starts[1:] != starts[:-1], True)] if len(order) else order

    def by_place(self) -> Iterator[Chunk]:
        """The latest of each place, by place."""
        return self.picked(self.latest())

    @property
    def are_zeros(self) -> Booleans:
        """Of each, in the order of their completion, whether it stands for zeros."""
        digests = np.frombuffer(bytes(self._digests), dtype=np.uint64).reshape(-1, _DIGEST // 8)
        zeros: Booleans = (digests == 0).all(axis=1)
        return zeros

    @property
    def covered(self) -> Extents:
        return Extents.merged(self.edges)

    @property
    def total(self) -> int:
        """Bytes of all of them."""
        edges = self.edges
        return int((edges[:, 1] - edges[:, 0]).sum())


class StoredLog:
    """Where the pieces of chunks stand in an image file: 4 bytes a piece, and two figures a chunk."""

    def __init__(self) -> None:
        self._starts, self._places = array("q"), array("q")
        self._lengths, self._first = array("I"), array("q")

    def __len__(self) -> int:
        return len(self._starts)

    def add(self, start: int, at: int, lengths: Sequence[int]) -> None:
        """The chunk that begins at `start` of the drive stands from `at` on, in pieces of `lengths`."""
        self._starts.append(start)
        self._places.append(at)
        self._first.append(len(self._lengths))
        self._lengths.extend(lengths)

    def forget(self, ranges: Iterable[tuple[int, int]]) -> None:
        """Drop every chunk that begins inside one of `ranges`."""
        starts = np.array(self._starts, dtype=np.int64)
        gone = np.zeros(len(starts), dtype=bool)
        for start, end in ranges:
            gone |= (starts >= start) & (starts < end)
        if not gone.any():
            return
        kept = StoredLog()
        for index in np.flatnonzero(~gone):
            kept.add(*self._row(int(index)))
        self._starts, self._places, self._lengths, self._first = kept._starts, kept._places, kept._lengths, kept._first

    @property
    def end(self) -> int:
        """Where the last piece ends in the file, 0 without any."""
        return max((at + sum(lengths) for _, at, lengths in self), default=0)

    def __iter__(self) -> Iterator[tuple[int, int, list[int]]]:
        """(start on the drive, place in the file, lengths), in the order in which they were added."""
        return (self._row(index) for index in range(len(self._starts)))

    def by_start(self) -> Iterator[tuple[int, int, list[int]]]:
        """The same in the order of their places on the drive."""
        order = np.argsort(np.array(self._starts, dtype=np.int64), kind="stable")
        return (self._row(int(index)) for index in order)

    def _row(self, index: int) -> tuple[int, int, list[int]]:
        last = self._first[index + 1] if index + 1 < len(self._first) else len(self._lengths)
        return self._starts[index], self._places[index], list(self._lengths[self._first[index] : last])
