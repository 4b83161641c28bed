"""A changed copy of a store that keeps only what differs: how a sealed volume gets another size.

Blocks that were written stand in a sparse file at their own place; all others come from the base. What lies
beyond the end of the base reads as zeros.
"""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np

from neogenesis.core.errors import BadRecord, ReadFailed, WriteFailed
from neogenesis.core.extent import Extents, runs_of_flags
from neogenesis.core.store.base import ReadableStore, WritableStore
from neogenesis.core.units import round_up

_BLOCK = 64 << 10


class OverlayStore(WritableStore):
    """`base` with changes kept at `path`; `path.map` keeps which blocks those are, written by `keep`."""

    makes_holes = False

    def __init__(self, base: ReadableStore, path: Path, size_bytes: int) -> None:
        """Opens the overlay if it was kept before, else starts an empty one; raises BadRecord."""
        self.base = base
        self.path = path
        self.size_bytes = size_bytes
        self.sector_size = base.sector_size
        self._map_path = path.with_name(path.name + ".map")
        blocks = -(-size_bytes // _BLOCK)
        self._descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        if self._map_path.exists():
            packed = np.frombuffer(self._map_path.read_bytes(), dtype=np.uint8)
            if len(packed) != (blocks + 7) // 8:
                os.close(self._descriptor)
                raise BadRecord(f"The prepared volume “{path.name}” does not belong here.", "Delete the work folder.")
            self._changed = np.unpackbits(packed)[:blocks].astype(bool)
        else:
            os.ftruncate(self._descriptor, 0)
            os.ftruncate(self._descriptor, blocks * _BLOCK)
            self._changed = np.zeros(blocks, dtype=bool)

    @staticmethod
    def was_kept(path: Path) -> bool:
        """Whether a finished overlay stands at `path`."""
        return path.exists() and path.with_name(path.name + ".map").exists()

    def keep(self) -> None:
        """Make the changes permanent; only a kept overlay is opened again."""
        os.fsync(self._descriptor)
        temporary = self._map_path.with_name(self._map_path.name + ".new")
        with temporary.open("wb") as file:
            file.write(np.packbits(self._changed).tobytes())
            file.flush()
            os.fsync(file.fileno())
        temporary.replace(self._map_path)

    @property
    def changed(self) -> Extents:
        """Ranges that no longer come from the base."""
        return Extents(runs_of_flags(self._changed.view(np.uint8)) * _BLOCK).clipped(0, self.size_bytes)

    def _base_into(self, offset: int, buffer: memoryview) -> None:
        inside = max(0, min(len(buffer), self.base.size_bytes - offset))
        if inside:
            self.base.read_into(offset, buffer[:inside])
        if inside < len(buffer):
            buffer[inside:] = bytes(len(buffer) - inside)

    def read_into(self, offset: int, buffer: memoryview) -> None:
        if offset < 0 or offset + len(buffer) > self.size_bytes:
            raise ReadFailed(offset, len(buffer), "outside the prepared volume")
        at, end = offset, offset + len(buffer)
        while at < end:
            block = at // _BLOCK
            changed = bool(self._changed[block])
            last = (end - 1) // _BLOCK + 1
            differing = np.flatnonzero(self._changed[block:last] != changed)
            stop = min(end, (block + int(differing[0])) * _BLOCK) if len(differing) else end
            piece = buffer[at - offset : stop - offset]
            if changed:
                if os.preadv(self._descriptor, [piece], at) != len(piece):
                    raise ReadFailed(at, len(piece), "the prepared volume was cut short")
            else:
                self._base_into(at, piece)
            at = stop

    def write(self, offset: int, data: memoryview | bytes) -> None:
        view = memoryview(data)
        if offset < 0 or offset + len(view) > self.size_bytes:
            raise WriteFailed(offset, "outside the prepared volume")
        first, last = offset // _BLOCK, (offset + len(view) - 1) // _BLOCK
        for edge in {first, last}:
            inside = edge * _BLOCK >= offset and (edge + 1) * _BLOCK <= offset + len(view)
            if not self._changed[edge] and not inside:
                buffer = bytearray(_BLOCK)
                self._base_into(edge * _BLOCK, memoryview(buffer)[: min(_BLOCK, self.size_bytes - edge * _BLOCK)])
                os.pwrite(self._descriptor, buffer, edge * _BLOCK)
        done = 0
        while done < len(view):
            try:
                done += os.pwrite(self._descriptor, view[done:], offset + done)
            except OSError as error:
                raise WriteFailed(offset + done, f"scratch space: {os.strerror(error.errno or 0)}") from error
        self._changed[first : last + 1] = True

    def write_zeros(self, start: int, end: int) -> None:
        while start < end:
            stop = min(end, round_up(start + 1, 16 * _BLOCK))
            self.write(start, bytes(stop - start))
            start = stop

    def extents_with_data(self) -> Extents:
        base = self.base.extents_with_data().clipped(0, self.size_bytes)
        return base.union(self.changed)

    def sync(self) -> None:
        os.fsync(self._descriptor)

    def close(self) -> None:
        if self._descriptor >= 0:
            os.close(self._descriptor)
            self._descriptor = -1
