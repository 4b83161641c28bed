"""Writing a qcow2 image: compressed clusters first, tables after them, the header last.

Until the header stands the file is no image at all, so a cut never leaves one that looks whole. What was written is
told to a journal by the caller; an interrupted file is continued behind the last confirmed cluster.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np

from neogenesis.core.errors import BadRecord, WriteFailed
from neogenesis.core.extent import Extents
from neogenesis.core.image.layout import COMPRESSED, COPIED, build_header
from neogenesis.core.store import PartFile
from neogenesis.core.units import round_up
from neogenesis.core.work.chunks import StoredLog

#: With clusters of a MiB the fastest level packs about as small as general tools do at their usual one, and the list of
#: what stands where stays small whatever the size of the drive.
CLUSTER_BITS = 20
CLUSTER_BYTES = 1 << CLUSTER_BITS
_REFCOUNTS = CLUSTER_BYTES // 2
Counts = np.ndarray[tuple[int], np.dtype[np.uint16]]
Table = np.ndarray[tuple[int], np.dtype[np.uint64]]


class Qcow2Writer:
    """An image of `size_bytes` that is being written; `end` is where the next cluster goes."""

    def __init__(self, path: Path, size_bytes: int, end: int = CLUSTER_BYTES, part_bytes: int | None = None) -> None:
        """`end` continues an interrupted file; what lies behind it is dropped. Raises BadRecord."""
        self.path, self.size_bytes, self.end = path, size_bytes, end
        self._split = 62 - (CLUSTER_BITS - 8)
        try:
            self._file = PartFile(path, part_bytes)
            self._file.truncate(0 if end == CLUSTER_BYTES else end)
        except OSError as error:
            raise BadRecord(f"“{path}” cannot be written ({error.strerror}).", "Choose another place.") from error

    def add(self, packed: Sequence[bytes]) -> int:
        """Append compressed clusters, empty for one of zeros; returns their place. Raises WriteFailed."""
        at = self.end
        try:
            self._file.write_pieces(at, [piece for piece in packed if piece])
        except OSError as error:
            raise self._failed(at, error) from error
        self.end += sum(len(piece) for piece in packed)
        return at

    def sync(self) -> None:
        try:
            self._file.sync()
        except OSError as error:
            raise self._failed(self.end, error) from error

    def finish(self, stored: StoredLog, lost: Extents) -> None:
        """Write the tables from what was stored and, when they are on the medium, the header; it names what is lost."""
        per_table = CLUSTER_BYTES // 8
        clusters = -(-self.size_bytes // CLUSTER_BYTES)
        l1 = np.zeros(max(1, -(-clusters // per_table)), dtype=">u8")
        at = round_up(self.end, CLUSTER_BYTES)
        for index, table in self._tables(stored, per_table):
            self._put(at, table.tobytes())
            l1[index] = COPIED | at
            at += CLUSTER_BYTES
        l1_at = at
        self._put(at, l1.tobytes())
        at = round_up(at + l1.nbytes, CLUSTER_BYTES)
        file_clusters, blocks, table_clusters = self._reference_space(at)
        counts = self._reference_counts(stored, file_clusters, blocks)
        table_at = at
        block_at = at + table_clusters * CLUSTER_BYTES
        places = np.zeros(table_clusters * CLUSTER_BYTES // 8, dtype=">u8")
        places[:blocks] = block_at + np.arange(blocks, dtype=np.uint64) * CLUSTER_BYTES
        self._put(table_at, places.tobytes())
        self._put(block_at, counts.astype(">u2").tobytes())
        self._set_size(file_clusters * CLUSTER_BYTES)
        self.sync()
        self._put(0, build_header(CLUSTER_BITS, self.size_bytes, l1_at, len(l1), table_at, table_clusters, lost))
        self.sync()

    def _tables(self, stored: StoredLog, per_table: int) -> Iterator[tuple[int, Table]]:
        """Second-level tables that hold anything, one after the other, each with its number."""
        current, table = -1, np.zeros(0, dtype=">u8")
        for start, place, lengths in stored.by_start():
            at = place
            for cluster, length in enumerate(lengths, start // CLUSTER_BYTES):
                if not length:
                    continue
                if cluster // per_table != current:
                    if current >= 0:
                        yield current, table
                    current, table = cluster // per_table, np.zeros(per_table, dtype=">u8")
                sectors = ((at & 511) + length - 1) // 512
                table[cluster % per_table] = COMPRESSED | sectors << self._split | at
                at += length
        if current >= 0:
            yield current, table

    def _reference_space(self, at: int) -> tuple[int, int, int]:
        """Clusters of the whole file, blocks of reference counts, clusters of their table; they count themselves."""
        blocks = table_clusters = 1
        while True:
            total = at // CLUSTER_BYTES + table_clusters + blocks
            need_blocks = -(-total // _REFCOUNTS)
            need_table = -(-need_blocks * 8 // CLUSTER_BYTES)
            if (need_blocks, need_table) == (blocks, table_clusters):
                return total, blocks, table_clusters
            blocks, table_clusters = need_blocks, need_table

    def _reference_counts(self, stored: StoredLog, file_clusters: int, blocks: int) -> Counts:
        """One for each use of a cluster of the file: compressed data may share one, all else has its own."""
        counts = np.zeros(blocks * _REFCOUNTS, dtype=np.uint16)
        counts[0] = 1
        for _, place, lengths in stored:
            at = place
            for length in lengths:
                if length:
                    first, last = at // CLUSTER_BYTES, (round_up(at + length, 512) - 1) // CLUSTER_BYTES
                    counts[first : last + 1] += 1  # whole sectors are claimed
                    at += length
        data_end = round_up(self.end, CLUSTER_BYTES) // CLUSTER_BYTES
        counts[data_end:file_clusters] = 1
        return counts

    def _put(self, at: int, data: bytes) -> None:
        try:
            self._file.write(at, data)
        except OSError as error:
            raise self._failed(at, error) from error

    def _set_size(self, size: int) -> None:
        try:
            self._file.truncate(size)
        except OSError as error:
            raise self._failed(size, error) from error

    def _failed(self, at: int, error: OSError) -> WriteFailed:
        return WriteFailed(at, os.strerror(error.errno or 0))

    def close(self) -> None:
        self._file.close()
