"""One source read once for several readers that go through it side by side."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass, field

from blake3 import blake3

from neogenesis.core.errors import NeogenesisError
from neogenesis.core.extent import Extents
from neogenesis.core.store.base import ReadableStore

_KEPT_BYTES = 96 << 20
_LEAST_BYTES = 64 << 10


@dataclass
class _Piece:
    ready: threading.Event = field(default_factory=threading.Event)
    hashing: threading.Lock = field(default_factory=threading.Lock)
    data: bytes | None = None
    digest: bytes | None = None
    error: NeogenesisError | None = None


class SharedStore(ReadableStore):
    """Large reads are kept for a while, so that readers a few of them behind need not ask the source again.

    The first reader to ask for a piece reads it, and the first to ask for its digest hashes it; others wait for that.
    Who falls far behind reads for itself, so a slow reader never holds the others up and memory stays bounded.
    """

    def __init__(self, base: ReadableStore) -> None:
        self.base = base
        self.size_bytes, self.sector_size = base.size_bytes, base.sector_size
        self.parallel_reads = base.parallel_reads
        self._lock = threading.Lock()
        self._kept: OrderedDict[tuple[int, int], _Piece] = OrderedDict()
        self._bytes = 0

    def read_into(self, offset: int, buffer: memoryview) -> None:
        length = len(buffer)
        if length < _LEAST_BYTES:
            self.base.read_into(offset, buffer)
            return
        key = (offset, length)
        with self._lock:
            piece = self._kept.get(key)
            mine = piece is None
            if piece is None:
                piece = self._kept[key] = _Piece()
                self._bytes += length
                while self._bytes > _KEPT_BYTES and len(self._kept) > 1:
                    (_, old_length), _ = self._kept.popitem(last=False)
                    self._bytes -= old_length
        if mine:
            try:
                self.base.read_into(offset, buffer)
                piece.data = bytes(buffer)
            except NeogenesisError as error:
                piece.error = error
                raise
            finally:
                piece.ready.set()
            return
        piece.ready.wait()
        if piece.error is not None:
            raise piece.error
        buffer[:] = piece.data or b""

    def digest_of(self, offset: int, data: memoryview) -> bytes:
        with self._lock:
            piece = self._kept.get((offset, len(data)))
        if piece is None or piece.data is None:
            return blake3(data).digest()
        with piece.hashing:
            if piece.digest is None:
                piece.digest = blake3(piece.data).digest()
            return piece.digest

    def uncached(self) -> ReadableStore:
        return self.base.uncached()

    def known_lost(self, start: int, end: int) -> Extents:
        return self.base.known_lost(start, end)

    def extents_with_data(self) -> Extents:
        return self.base.extents_with_data()

    def close(self) -> None:
        self.base.close()
