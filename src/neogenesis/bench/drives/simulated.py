"""A drive made of an image file and a description of how such hardware behaves.

Like hardware, it does not tell where its holes are. Times are kept whether or not anyone waits for them: the clock
`virtual` never waits, `real` does, and `x60` waits a sixtieth.
"""

from __future__ import annotations

import os
import random
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import ClassVar, Literal

import msgspec

from neogenesis.core.drive import HealthReading
from neogenesis.core.drive.smart import is_smart_report, reading_of
from neogenesis.core.errors import BadArgument, BadRecord, NeogenesisError, ReadFailed, WriteFailed
from neogenesis.core.extent import Extents
from neogenesis.core.record import Record, load
from neogenesis.core.store import FileStore, Grip, Opener, PathOpener, ReadableStore, SealedFileStore, WritableStore

SUFFIX = ".drive.json"
_LEAST_WAIT = 0.004


class ReadSpec(Record, frozen=True, kw_only=True):
    """Rates in bytes per second; ranges half-open in bytes; slow ranges carry milliseconds per read."""

    bytes_per_s: float | None = None
    seek_ms: float = 0
    unreadable: tuple[tuple[int, int], ...] = ()
    slow: tuple[tuple[int, int, float], ...] = ()
    flaky: tuple[tuple[int, int, float], ...] = ()
    dies_after_bytes: int | None = None


class WriteSpec(Record, frozen=True, kw_only=True):
    """`after_cache_bytes_per_s` holds once `cache_bytes` have been written.

    `real_bytes` is for a medium that lies about its size: what lies beyond stands where it stands modulo that.
    """

    bytes_per_s: float | None = None
    cache_bytes: float | None = None
    after_cache_bytes_per_s: float | None = None
    fails_after_bytes: int | None = None
    real_bytes: int | None = None


class HeatSpec(Record, frozen=True, kw_only=True):
    """Degrees Celsius: what it has at rest, what reading a GB adds, and what a second of rest takes away."""

    rest_c: float = 32
    per_gb_c: float = 0
    cools_c_per_s: float = 0.2


class SimulatedSpec(Record, frozen=True, kw_only=True):
    """The file `NAME.drive.json`; `image` is relative to it. Every field but schema and image has a default."""

    SCHEMA: ClassVar[str] = "neogenesis.simulated-drive/1"

    schema: str
    image: str
    model: str = "Simulated drive"
    serial: str = ""
    bus: Literal["sata", "nvme", "usb-sata", "usb-nvme", "pata", "emmc", "card"] = "sata"
    rotational: bool = False
    sector_size: Literal[512, 4096] = 512
    mounted: bool = False
    health: HealthReading | None = None
    read: ReadSpec = ReadSpec()
    write: WriteSpec = WriteSpec()
    heat: HeatSpec | None = None
    clock: Literal["real", "virtual", "x60"] = "virtual"
    seed: int = 1

    @property
    def clock_factor(self) -> float:
        """How many seconds of the simulated drive pass in one real second."""
        return 60.0 if self.clock == "x60" else 1.0


def load_spec(path: Path) -> SimulatedSpec:
    """Raises BadArgument for a description that cannot be used."""
    try:
        spec = load(path, SimulatedSpec, "simulated drive")
        return msgspec.structs.replace(spec, health=_reading_in(path))
    except Exception as error:
        text = getattr(error, "text", str(error))
        raise BadArgument(text, "Correct the description of the simulated drive.") from error


def _reading_in(path: Path) -> HealthReading | None:
    """What the description says of the drive's health: a reading, or a report of the utility as it stands.

    Raises BadRecord for anything else: what is not understood must not pass for a sound drive.
    """
    given = msgspec.json.decode(path.read_bytes()).get("health")
    if given is None:
        return None
    if is_smart_report(given):
        return reading_of(given)
    strange = sorted(set(given) - set(HealthReading.__struct_fields__))
    if strange:
        raise BadRecord(f"The health in “{path.name}” has fields that no reading has: {', '.join(strange)}.", "")
    return msgspec.convert(given, HealthReading)


class DockFile(Record, frozen=True, kw_only=True):
    """`docks.json`: a name is a simulated drive beside it, null an empty dock."""

    SCHEMA: ClassVar[str] = "neogenesis.docks/1"

    schema: str
    docks: tuple[str | None, ...]


def docked_names(folder: Path) -> list[Path]:
    """The simulated drives that are connected there; none where there are no docks."""
    file = folder / "docks.json"
    if not file.exists():
        return []
    try:
        return [(folder / name).resolve() for name in load(file, DockFile, "list of docks").docks if name]
    except NeogenesisError:
        return []


class Waiter:
    """Collects the time that hardware would have taken, and lets it pass."""

    def __init__(self, clock: str) -> None:
        self._scale = {"real": 1.0, "x60": 1 / 60, "virtual": 0.0}[clock]
        self._lock = threading.Lock()
        self._free_at = 0.0
        self.passed_s = self.busy_s = 0.0

    def take(self, seconds: float) -> None:
        """The drive is busy for `seconds` more; requests queue behind one another."""
        if seconds <= 0:
            return
        with self._lock:
            self.busy_s += seconds
        if not self._scale:
            with self._lock:
                self.passed_s += seconds
            return
        with self._lock:
            now = time.monotonic()
            self._free_at = max(self._free_at, now) + seconds * self._scale
            wait = self._free_at - now
        if wait > _LEAST_WAIT:
            time.sleep(wait)


class SimulatedDrive(ReadableStore):
    """Sealed: it can only be read."""

    def __init__(self, path: Path, grip: Grip = "share") -> None:
        self.spec = load_spec(path)
        self._file = self._open(PathOpener((path.parent / self.spec.image).resolve()), grip)
        self.size_bytes = self._file.size_bytes
        self.sector_size = self.spec.sector_size
        self._waiter = Waiter(self.spec.clock)
        self._random = random.Random(self.spec.seed)
        self._head = 0
        self._given = 0
        self._warmth_c = 0.0

    def _open(self, opener: Opener, grip: Grip) -> SealedFileStore | FileStore:
        return SealedFileStore(opener, self.spec.sector_size, grip)

    def status(self) -> os.stat_result:
        """Of the image below it."""
        return self._file.status()

    def read_into(self, offset: int, buffer: memoryview) -> None:
        self._behave(offset, buffer)
        for place, at, length in self._places(offset, len(buffer)):
            self._file.read_into(place, buffer[at : at + length])

    def _places(self, offset: int, length: int) -> Iterator[tuple[int, int, int]]:
        """Where bytes really stand: (place, position in the request, length) for each piece."""
        real = self.spec.write.real_bytes
        at = 0
        while at < length:
            place = (offset + at) % real if real else offset + at
            piece = min(length - at, real - place) if real else length - at
            yield place, at, piece
            at += piece

    def uncached(self) -> ReadableStore:
        return _UncachedSimulated(self)

    def _behave(self, offset: int, buffer: memoryview) -> None:
        """What a request costs, and whether the hardware fails it."""
        read, end = self.spec.read, offset + len(buffer)
        seconds = len(buffer) / read.bytes_per_s if read.bytes_per_s else 0.0
        if offset != self._head:
            seconds += read.seek_ms / 1000
        self._head = end
        seconds += sum(ms / 1000 for a, b, ms in read.slow if a < end and offset < b)
        self._waiter.take(seconds)
        self._given += len(buffer)
        if self.spec.heat is not None:
            self._warmth_c += self.spec.heat.per_gb_c * len(buffer) / 1e9
        if read.dies_after_bytes is not None and self._given > read.dies_after_bytes:
            raise ReadFailed(offset, len(buffer), "the drive no longer answers")
        if any(a < end and offset < b for a, b in read.unreadable):
            raise ReadFailed(offset, len(buffer), "Input/output error")
        if any(a < end and offset < b and self._random.random() < p for a, b, p in read.flaky):
            raise ReadFailed(offset, len(buffer), "Input/output error")

    @property
    def passed_s(self) -> float:
        """Seconds that passed on paper only, with the clock `virtual`."""
        return self._waiter.passed_s

    @property
    def busy_s(self) -> float:
        """Seconds that requests have taken so far, by the drive's own time."""
        return self._waiter.busy_s

    def temperature_c(self) -> float | None:
        """Now; None where the description says nothing of it."""
        if self.spec.heat is not None:
            return self.spec.heat.rest_c + self._warmth_c
        return self.spec.health.temperature_c if self.spec.health else None

    def rest(self, seconds: float) -> None:
        """Leave the drive alone for so long by its own clock."""
        self._waiter.take(seconds)
        if self.spec.heat is not None:
            self._warmth_c = max(0.0, self._warmth_c - self.spec.heat.cools_c_per_s * seconds)

    def extents_with_data(self) -> Extents:
        return Extents.whole(self.size_bytes)

    def close(self) -> None:
        self._file.close()


class _UncachedSimulated(ReadableStore):
    """The same hardware, past the page cache of the image below it."""

    def __init__(self, drive: SimulatedDrive) -> None:
        self._drive, self._file = drive, drive._file.uncached()
        self.size_bytes, self.sector_size = drive.size_bytes, drive.sector_size

    def read_into(self, offset: int, buffer: memoryview) -> None:
        self._drive._behave(offset, buffer)
        for place, at, length in self._drive._places(offset, len(buffer)):
            self._file.read_into(place, buffer[at : at + length])


class SimulatedTarget(SimulatedDrive, WritableStore):
    """The same drive opened for writing."""

    makes_holes = True

    def __init__(self, path: Path) -> None:
        super().__init__(path)
        self._taken = 0

    _file: FileStore

    def _open(self, opener: Opener, grip: Grip) -> FileStore:
        return FileStore(opener, self.spec.sector_size)

    def _take(self, offset: int, length: int) -> None:
        write = self.spec.write
        self._taken += length
        rate = write.bytes_per_s
        if write.cache_bytes is not None and self._taken > write.cache_bytes and write.after_cache_bytes_per_s:
            rate = write.after_cache_bytes_per_s
        self._waiter.take(length / rate if rate else 0.0)
        if write.fails_after_bytes is not None and self._taken > write.fails_after_bytes:
            raise WriteFailed(offset, "the drive no longer answers", gone=True)

    def write(self, offset: int, data: memoryview | bytes) -> None:
        self._take(offset, len(data))
        for place, at, length in self._places(offset, len(data)):
            self._file.write(place, data[at : at + length])

    def write_zeros(self, start: int, end: int) -> None:
        self._take(start, min(end - start, 1 << 20))  # drives zero large ranges by a single command
        for place, _, length in self._places(start, end - start):
            self._file.write_zeros(place, place + length)

    def _flush(self) -> None:
        self._file.sync()

    def discard(self, start: int, end: int) -> bool:
        return self._file.discard(start, end)
