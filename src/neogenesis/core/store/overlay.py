"""A changed copy of a store that keeps only what differs: how a sealed volume gets another size.

Blocks that were written stand in a sparse file at their own place; all others come from the base. What lies
beyond the end of the base reads as zeros.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import numpy.typing as npt

from neogenesis.core.errors import BadRecord, ReadFailed, WriteFailed
from neogenesis.core.extent import Extents, runs_of_bits
from neogenesis.core.store.base import ReadableStore, WritableStore
from neogenesis.core.units import round_up

_BLOCK = 64 << 10
_BITS_AT_ONCE = 1 << 20
Bits = npt.NDArray[np.uint8]


class OverlayStore(WritableStore):
    """`base` with changes kept at `path`; `path.map` keeps which blocks those are, a bit each, written by `keep`."""

    makes_holes = False

    def __init__(self, base: ReadableStore, path: Path, size_bytes: int) -> None:
        """Opens the overlay if it was kept before, else starts an empty one; raises BadRecord."""
        self.base = base
        self.path = path
        self.size_bytes = size_bytes
        self.sector_size = base.sector_size
        self._map_path = path.with_name(path.name + ".map")
        self._blocks = -(-size_bytes // _BLOCK)
        try:
            self._descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        except OSError as error:
            raise BadRecord(f"“{path}” cannot be written ({error.strerror}).", "Free space there.") from error
        try:
            self._changed = self._load()
        except OSError as error:
            os.close(self._descriptor)
            raise BadRecord(f"“{path}” cannot be written ({error.strerror}).", "Free space there.") from error
        except BaseException:
            os.close(self._descriptor)
            raise

    def _load(self) -> Bits:
        """A bit for each block, least significant first; with one unused byte behind for sums across bytes."""
        length = (self._blocks + 7) // 8
        if not self._map_path.exists():
            os.ftruncate(self._descriptor, 0)
            os.ftruncate(self._descriptor, self._blocks * _BLOCK)
            return np.zeros(length, dtype=np.uint8)
        packed = np.frombuffer(self._map_path.read_bytes(), dtype=np.uint8).copy()
        if len(packed) != length or os.fstat(self._descriptor).st_size != self._blocks * _BLOCK:
            raise BadRecord(f"The prepared volume “{self.path.name}” does not belong here.", "Delete the work folder.")
        return packed

    @staticmethod
    def was_kept(path: Path) -> bool:
        """Whether a finished overlay stands at `path`."""
        return path.exists() and path.with_name(path.name + ".map").exists()

    @staticmethod
    def mark_kept(path: Path) -> None:
        """Let a finished plain file at `path` be found by `was_kept`."""
        path.with_name(path.name + ".map").touch()

    def keep(self) -> None:
        """Make the changes permanent; only a kept overlay is opened again. Raises WriteFailed."""
        self.sync()
        temporary = self._map_path.with_name(self._map_path.name + ".new")
        try:
            with temporary.open("wb") as file:
                file.write(self._changed.tobytes())
                file.flush()
                os.fsync(file.fileno())
            temporary.replace(self._map_path)
        except OSError as error:
            raise _no_room(0, error) from error

    @property
    def changed(self) -> Extents:
        """Ranges that no longer come from the base. Looked for piece by piece, whatever the size of the volume."""
        found = [
            runs_of_bits(self._changed[first // 8 :], min(_BITS_AT_ONCE, self._blocks - first)) + first
            for first in range(0, self._blocks, _BITS_AT_ONCE)
        ]
        runs = np.concatenate(found) if found else np.empty((0, 2), dtype=np.int64)
        return Extents.merged(runs * _BLOCK).clipped(0, self.size_bytes)

    def _is_changed(self, block: int) -> bool:
        return bool(self._changed[block >> 3] >> (block & 7) & 1)

    def _mark(self, first: int, last: int) -> None:
        """Blocks [first, last) are changed."""
        low, high = -(-first // 8), last // 8
        if low < high:
            self._changed[low:high] = 0xFF
        for block in (*range(first, min(low * 8, last)), *range(max(high * 8, first), last)):
            self._changed[block >> 3] |= 1 << (block & 7)

    def _stretches(self, start: int, end: int) -> Iterator[tuple[int, int, bool]]:
        """[start, end) cut where changed blocks begin or end."""
        at = start
        while at < end:
            block = at // _BLOCK
            changed, last = self._is_changed(block), (end - 1) // _BLOCK + 1
            while block < last and self._is_changed(block) == changed:
                block += 1
            stop = min(end, block * _BLOCK)
            yield at, stop, changed
            at = stop

    def read_into(self, offset: int, buffer: memoryview) -> None:
        self._read(self.base, offset, buffer)

    def uncached(self) -> ReadableStore:
        return _UncachedOverlay(self)

    def _read(self, base: ReadableStore, offset: int, buffer: memoryview) -> None:
        if offset < 0 or offset + len(buffer) > self.size_bytes:
            raise ReadFailed(offset, len(buffer), "outside the prepared volume")
        for start, stop, changed in self._stretches(offset, offset + len(buffer)):
            piece = buffer[start - offset : stop - offset]
            if not changed:
                _base_into(base, start, piece)
                continue
            try:
                done = os.preadv(self._descriptor, [piece], start)
            except OSError as error:
                raise ReadFailed(start, len(piece), f"scratch space: {os.strerror(error.errno or 0)}") from error
            if done != len(piece):
                raise ReadFailed(start, len(piece), "the prepared volume was cut short")

    def write(self, offset: int, data: memoryview | bytes) -> None:
        self.refuse_if_finished()
        view = memoryview(data)
        if offset < 0 or offset + len(view) > self.size_bytes:
            raise WriteFailed(offset, "outside the prepared volume")
        if not view:
            return
        first, last = offset // _BLOCK, (offset + len(view) - 1) // _BLOCK
        for edge in {first, last}:
            inside = edge * _BLOCK >= offset and (edge + 1) * _BLOCK <= offset + len(view)
            if not inside and not self._is_changed(edge):
                buffer = bytearray(_BLOCK)
                _base_into(self.base, edge * _BLOCK, memoryview(buffer)[: self.size_bytes - edge * _BLOCK])
                self._put(edge * _BLOCK, memoryview(buffer))
        self._put(offset, view)
        self._mark(first, last + 1)

    def _put(self, at: int, view: memoryview) -> None:
        """All of it, or WriteFailed: a block that stands there only in part would read as zeros."""
        done = 0
        while done < len(view):
            try:
                done += os.pwrite(self._descriptor, view[done:], at + done)
            except OSError as error:
                raise _no_room(at + done, error) from error

    def write_zeros(self, start: int, end: int) -> None:
        while start < end:
            stop = min(end, round_up(start + 1, 16 * _BLOCK))
            self.write(start, bytes(stop - start))
            start = stop

    def places_below(self, start: int, end: int) -> list[tuple[int, int]]:
        found = []
        for at, stop, changed in self._stretches(start, min(end, self.base.size_bytes)):
            if not changed:
                found += self.base.places_below(at, stop)
        return found

    def extents_with_data(self) -> Extents:
        base = self.base.extents_with_data().clipped(0, self.size_bytes)
        return base.union(self.changed)

    def _flush(self) -> None:
        try:
            os.fsync(self._descriptor)
        except OSError as error:
            raise _no_room(0, error) from error

    def close(self) -> None:
        if self._descriptor >= 0:
            os.close(self._descriptor)
            self._descriptor = -1


class _UncachedOverlay(ReadableStore):
    """An overlay whose base is asked past every cache: what is unreadable is the sealed drive below it."""

    def __init__(self, overlay: OverlayStore) -> None:
        self._overlay, self._base = overlay, overlay.base.uncached()
        self.size_bytes, self.sector_size = overlay.size_bytes, overlay.sector_size

    def read_into(self, offset: int, buffer: memoryview) -> None:
        self._overlay._read(self._base, offset, buffer)


def _base_into(base: ReadableStore, offset: int, buffer: memoryview) -> None:
    inside = max(0, min(len(buffer), base.size_bytes - offset))
    if inside:
        base.read_into(offset, buffer[:inside])
    if inside < len(buffer):
        buffer[inside:] = bytes(len(buffer) - inside)


def _no_room(offset: int, error: OSError) -> WriteFailed:
    return WriteFailed(offset, f"scratch space: {os.strerror(error.errno or 0)}")
