"""Reading a qcow2 image as a sealed store."""

from __future__ import annotations

import zlib
from pathlib import Path
from threading import Lock, local

import numpy as np
import zstandard

from neogenesis.core.errors import BadArgument, Damaged, ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.image.layout import (
    COMPRESSED,
    HEAD_BYTES,
    MAGIC,
    OFFSET_MASK,
    ZERO,
    ZSTD,
    parse_header,
    parse_lost,
)
from neogenesis.core.store import Grip, JoinedStore, ReadableStore

_KEPT_TABLES = 64
_KEPT_CLUSTERS = 4


def is_qcow2(head: bytes) -> bool:
    return head[:4] == MAGIC


class Qcow2Store(ReadableStore):
    """The drive inside an image. Memory is bounded: a few second-level tables and clusters are kept.

    `lost` is what could not be read when it was made; None for an image that does not say.
    """

    parallel_reads = True

    def __init__(self, path: Path, sector_size: int = 512, grip: Grip = "share") -> None:
        """Raises BadArgument for an image that cannot be read here."""
        self._file: ReadableStore = JoinedStore(path, grip)
        try:
            head = self._file.read(0, min(512, self._file.size_bytes))
            self.header = parse_header(head, self._file.size_bytes)
            self.lost = parse_lost(self._file.read(0, min(HEAD_BYTES, self._file.size_bytes)), self.header)
            count = self.header.l1_entries
            self._l1 = np.frombuffer(self._file.read(self.header.l1_offset, 8 * count), dtype=">u8").astype(np.int64)
        except (Damaged, ReadFailed) as error:
            self._file.close()
            text = error.text if isinstance(error, Damaged) else "it is cut short"
            more = "If it was made in parts, put them all beside it; else make it again."
            raise BadArgument(f"“{path}” is an image that cannot be read: {text}", more) from error
        self.size_bytes = self.header.size_bytes
        self.sector_size = sector_size
        self._tables: dict[int, np.ndarray[tuple[int], np.dtype[np.int64]]] = {}
        self._clusters: dict[int, bytes] = {}
        self._lock = Lock()
        self._local = local()

    def _unpacker(self) -> zstandard.ZstdDecompressor:
        """One for each thread: it must not be shared, and making one for every cluster would cost more than it does."""
        found: zstandard.ZstdDecompressor | None = getattr(self._local, "unpacker", None)
        if found is None:
            found = self._local.unpacker = zstandard.ZstdDecompressor()
        return found

    def _packed(self, length: int) -> memoryview:
        """Room for a packed cluster, the same for each thread every time. Raises ValueError for a place outside."""
        if length <= 0:
            raise ValueError("a cluster behind the end of the file")
        found: bytearray | None = getattr(self._local, "packed", None)
        if found is None or len(found) < length:
            found = self._local.packed = bytearray(2 * self.header.cluster_bytes)
        return memoryview(found)[:length]

    def _table(self, index: int) -> np.ndarray[tuple[int], np.dtype[np.int64]] | None:
        at = int(self._l1[index]) & OFFSET_MASK
        if not at:
            return None
        with self._lock:
            found = self._tables.get(index)
        if found is None:
            raw = self._file.read(at, self.header.cluster_bytes)
            found = np.frombuffer(raw, dtype=">u8").astype(np.uint64).view(np.int64)
            with self._lock:
                while len(self._tables) >= _KEPT_TABLES:
                    self._tables.pop(next(iter(self._tables)))
                self._tables[index] = found
        return found

    def read_into(self, offset: int, buffer: memoryview) -> None:
        if offset < 0 or offset + len(buffer) > self.size_bytes:
            raise ReadFailed(offset, len(buffer), "outside the image")
        size, end = self.header.cluster_bytes, offset + len(buffer)
        at = offset
        while at < end:
            cluster = at // size
            stop = min(end, (cluster + 1) * size)
            self._read_cluster(cluster, at - cluster * size, buffer[at - offset : stop - offset])
            at = stop

    def _read_cluster(self, cluster: int, inside: int, piece: memoryview) -> None:
        table = self._table(cluster // self.header.l2_entries)
        entry = 0 if table is None else int(table[cluster % self.header.l2_entries]) & (2**64 - 1)
        place = cluster * self.header.cluster_bytes + inside
        try:
            if entry & COMPRESSED:
                data = self._unpacked(cluster, entry)
                piece[:] = data[inside : inside + len(piece)]
            elif entry & ZERO or not entry & OFFSET_MASK:
                np.frombuffer(piece, dtype=np.uint8).fill(0)
            else:
                self._file.read_into((entry & OFFSET_MASK) + inside, piece)
        except (zstandard.ZstdError, zlib.error, ValueError, ReadFailed) as error:
            raise ReadFailed(place, len(piece), "this part of the image is damaged") from error

    def _unpacked(self, cluster: int, entry: int) -> bytes:
        with self._lock:
            found = self._clusters.get(cluster)
        if found is not None:
            return found
        bits, size = self.header.cluster_bits, self.header.cluster_bytes
        split = 62 - (bits - 8)
        at = entry & ((1 << split) - 1)
        sectors = (entry >> split) & ((1 << (bits - 8)) - 1)
        length = (sectors + 1) * 512 - (at & 511)
        raw = self._packed(min(length, self._file.size_bytes - at))
        self._file.read_into(at, raw)
        if self.header.compression == ZSTD:
            data = self._unpacker().decompress(raw, max_output_size=size, allow_extra_data=True)
        else:
            data = zlib.decompressobj(-12).decompress(raw, size)
        if len(data) != size:
            raise ValueError("a cluster of another size")
        with self._lock:
            while len(self._clusters) >= _KEPT_CLUSTERS:
                self._clusters.pop(next(iter(self._clusters)))
            self._clusters[cluster] = data
        return data

    def extents_with_data(self) -> Extents:
        """Clusters that are stored; all others read as zeros."""
        size, per_table = self.header.cluster_bytes, self.header.l2_entries
        ranges = []
        for index in np.flatnonzero(self._l1 & OFFSET_MASK):
            table = self._table(int(index))
            if table is None:
                continue
            stored = ((table & COMPRESSED) != 0) | (((table & OFFSET_MASK) != 0) & ((table & ZERO) == 0))
            clusters = np.flatnonzero(stored) + int(index) * per_table
            ranges.append(np.stack((clusters * size, (clusters + 1) * size), axis=1))
        if not ranges:
            return Extents.of([])
        return Extents.merged(np.concatenate(ranges).astype(np.int64)).clipped(0, self.size_bytes)

    def close(self) -> None:
        self._file.close()
