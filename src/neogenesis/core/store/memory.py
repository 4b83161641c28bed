"""A small store in memory: table areas that are being composed, and tests."""

from __future__ import annotations

from neogenesis.core.errors import ReadFailed, WriteFailed
from neogenesis.core.store.base import WritableStore


class MemoryStore(WritableStore):
    """`size_bytes` bytes, zero at first."""

    def __init__(self, size_bytes: int, sector_size: int = 512) -> None:
        self.size_bytes = size_bytes
        self.sector_size = sector_size
        self.data = bytearray(size_bytes)

    def read_into(self, offset: int, buffer: memoryview) -> None:
        if offset < 0 or offset + len(buffer) > self.size_bytes:
            raise ReadFailed(offset, len(buffer), "outside the drive")
        buffer[:] = self.data[offset : offset + len(buffer)]

    def places_below(self, start: int, end: int) -> list[tuple[int, int]]:
        return []

    def write(self, offset: int, data: memoryview | bytes) -> None:
        if offset < 0 or offset + len(data) > self.size_bytes:
            raise WriteFailed(offset, "outside the drive")
        self.data[offset : offset + len(data)] = data

    def write_zeros(self, start: int, end: int) -> None:
        self.write(start, bytes(end - start))

    def _flush(self) -> None:
        """Memory has no medium to wait for."""
