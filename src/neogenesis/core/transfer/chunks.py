"""The checksums of what was written: ranges of the new drive with a BLAKE3 digest each, in compact arrays."""

from __future__ import annotations

from array import array
from collections.abc import Iterator
from typing import NamedTuple

import numpy as np

from neogenesis.core.extent import Array, Extents

_DIGEST = 32
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

    def __getitem__(self, index: int) -> Chunk:
        digest = bytes(self._digests[index * _DIGEST : (index + 1) * _DIGEST])
        return Chunk(self._edges[2 * index], self._edges[2 * index + 1], digest)

    def __iter__(self) -> Iterator[Chunk]:
        return (self[index] for index in range(len(self)))

    def add(self, chunk: Chunk) -> None:
        self._edges.extend((chunk.start, chunk.end))
        self._digests += chunk.digest

    def forget(self, start: int, end: int) -> None:
        """Drop every chunk that touches [start, end)."""
        kept = ChunkLog()
        for chunk in self:
            if chunk.end <= start or chunk.start >= end:
                kept.add(chunk)
        self._edges, self._digests = kept._edges, kept._digests

    @property
    def covered(self) -> Extents:
        edges: Array = np.array(self._edges, dtype=np.int64).reshape(-1, 2)
        return Extents.merged(edges)

    @property
    def total(self) -> int:
        return sum(self._edges[1::2]) - sum(self._edges[0::2])
