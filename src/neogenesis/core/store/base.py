"""What every store can do. All reads and writes are positional; there is no cursor to share."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence

from blake3 import blake3

from neogenesis.core.errors import ReadFailed, WriteFailed
from neogenesis.core.extent import NONE, Extents


class ReadableStore(ABC):
    """Bytes [0, size_bytes) that can be read from several threads at once."""

    size_bytes: int
    sector_size: int
    #: Reads may go on side by side: unpacking an image takes the processor, not the drive.
    parallel_reads = False

    @abstractmethod
    def read_into(self, offset: int, buffer: memoryview) -> None:
        """Fill all of `buffer` from `offset`; raises ReadFailed for any byte that cannot be had."""

    def read_runs(self, runs: Sequence[tuple[int, int]], buffer: memoryview) -> None:
        """Fill `buffer` with the bytes of each [start, end), one behind the other; raises ReadFailed as `read_into`."""
        at = 0
        for start, end in runs:
            self.read_into(start, buffer[at : at + end - start])
            at += end - start

    def uncached(self) -> ReadableStore:
        """The same bytes, but every read asks the medium and no cache of the system's; itself where there is none.

        It shares everything with this store and is closed with it.
        """
        return self

    def extents_with_data(self) -> Extents:
        """Ranges that may hold something other than zeros; a store that cannot tell says all of it."""
        return Extents.whole(self.size_bytes)

    def known_lost(self, start: int, end: int) -> Extents:
        """What of [start, end) cannot be read, as is known without asking; nothing for who must ask."""
        return NONE

    def digest_of(self, offset: int, data: memoryview) -> bytes:
        """BLAKE3 of `data`, all of which was read from `offset` just now; several readers may share the work."""
        return blake3(data).digest()

    def places_below(self, start: int, end: int) -> list[tuple[int, int]]:
        """Where on the drive at the bottom the bytes [start, end) come from; nothing for what is on no drive."""
        return [(start, end)]

    def close(self) -> None:
        """Give back what the store holds open."""

    def read(self, offset: int, length: int) -> bytes:
        """`length` bytes from `offset`; raises ReadFailed when they lie outside or cannot be read."""
        if offset < 0 or length < 0 or offset + length > self.size_bytes:
            raise ReadFailed(offset, length, "outside the drive")
        buffer = bytearray(length)
        self.read_into(offset, memoryview(buffer))
        return bytes(buffer)


class WritableStore(ReadableStore):
    """A store that may be changed. What was written is certain only after `sync`.

    The system tells a failed write once, at the next sync; the sync after that would succeed, though what was written
    before it never arrived. So a store that failed to sync is finished: it refuses everything from then on.
    """

    #: Writing zeros costs nothing and leaves a hole.
    makes_holes = False
    _finished: WriteFailed | None = None

    @abstractmethod
    def write(self, offset: int, data: memoryview | bytes) -> None:
        """Put all of `data` at `offset`; raises WriteFailed."""

    def write_runs(self, runs: Sequence[tuple[int, int]], data: memoryview) -> None:
        """Put `data` at each [start, end), one behind the other; raises WriteFailed."""
        at = 0
        for start, end in runs:
            self.write(start, data[at : at + end - start])
            at += end - start

    @abstractmethod
    def write_zeros(self, start: int, end: int) -> None:
        """Make [start, end) read as zeros in the cheapest way the store has; raises WriteFailed."""

    @abstractmethod
    def _flush(self) -> None:
        """Return when everything written before is on the medium; raises WriteFailed."""

    def sync(self) -> None:
        """As `_flush`; after one failure every later call fails as well."""
        self.refuse_if_finished()
        try:
            self._flush()
        except WriteFailed as error:
            self._finished = error
            raise

    def refuse_if_finished(self) -> None:
        """Raises the WriteFailed of the sync that failed, if one did."""
        if self._finished is not None:
            raise self._finished

    def discard(self, start: int, end: int) -> bool:
        """Tell the medium that [start, end) holds nothing; False where it cannot be told. Raises WriteFailed."""
        return False

    def settle(self) -> None:
        """After the last write: let the system forget what it cached and look at the partition table anew."""
