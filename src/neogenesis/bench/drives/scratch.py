"""A scratch file on a simulated drive: its description says how long everything takes, and no byte is kept."""

from __future__ import annotations

from pathlib import Path

from neogenesis.bench.drives.simulated import Waiter, load_spec

#: What a description that says nothing of it is taken for: seconds for a request, bytes a second.
_REQUEST_S, _BYTES_PER_S = 80e-6, 3e9
_SHARE = 0.5
_WARMS_C_PER_GB = 0.4


class SimulatedScratch:
    """Counts what is written against the cache of the description, and lets its time pass."""

    direct = True

    def __init__(self, path: Path) -> None:
        """Raises BadArgument for a description that cannot be used."""
        self._spec = load_spec(path)
        self.size_bytes = int((path.parent / self._spec.image).stat().st_size * _SHARE)
        self._waiter = Waiter(self._spec.clock)
        self._written = self._moved = self._head = 0

    def _take(self, at: int, length: int, rate: float | None) -> None:
        seek = self._spec.read.seek_ms / 1000 if at != self._head else 0.0
        self._waiter.take(_REQUEST_S + seek + length / (rate or _BYTES_PER_S))
        self._head = at + length
        self._moved += length

    def write(self, at: int, data: memoryview) -> None:
        write = self._spec.write
        self._written += len(data)
        spent = write.cache_bytes is not None and self._written > write.cache_bytes
        self._take(at, len(data), write.after_cache_bytes_per_s if spent else write.bytes_per_s)

    def read(self, at: int, buffer: memoryview) -> None:
        self._take(at, len(buffer), self._spec.read.bytes_per_s)

    def sync(self) -> None: ...

    def seconds(self) -> float:
        return self._waiter.busy_s

    def temperature_c(self) -> float | None:
        """Warmer with every byte that went in or out."""
        rest = self._spec.health.temperature_c if self._spec.health else None
        return None if rest is None else round(rest + _WARMS_C_PER_GB * self._moved / 1e9, 1)

    def close(self) -> None: ...
