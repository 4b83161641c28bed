"""A run-in on a real folder: its scratch file, the drive below it, its warmth, and what it is connected by."""

from __future__ import annotations

import errno
import mmap
import os
import time
from collections.abc import Callable
from pathlib import Path

import msgspec

from neogenesis.bench.drives import connected_drives, open_sealed
from neogenesis.bench.drives.scratch import SimulatedScratch
from neogenesis.bench.drives.simulated import SUFFIX
from neogenesis.bench.drives.system import BlockSystem, Link
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.core.drive import Drive
from neogenesis.core.errors import BadArgument, ReadFailed, Refused, WriteFailed
from neogenesis.core.run_in import Paced, Phase, RunIn, run_in
from neogenesis.core.units import MIB

#: Of the free room at most this share is used, and so much is always left.
_SHARE, _LEFT_BYTES = 0.5, 512 * MIB
_NAME = ".neogenesis-run-in"
_NOT_DIRECT = (errno.EINVAL, errno.EOPNOTSUPP)


class ScratchFile:
    """A file without a name in `folder`: it goes when it is closed, also when the process is killed.

    `direct`: reads and writes go round the system's cache. Where the file system refuses that, every write is made to
    last before it counts, and what is read is asked for anew as far as the system lets.
    """

    def __init__(self, folder: Path) -> None:
        """Raises BadArgument for what is no folder that may be written to."""
        if not folder.is_dir():
            raise BadArgument(f"“{folder}” is no folder; nothing was written.", "Name a folder on the drive.")
        try:
            room = os.statvfs(folder)
            self._descriptor, self.direct = self._open(folder)
        except OSError as error:
            raise BadArgument(
                f"Nothing can be written in “{folder}” ({error.strerror}).", "Take another folder on that drive."
            ) from error
        free = room.f_bavail * room.f_frsize
        self.size_bytes = max(0, min(int(free * _SHARE), free - _LEFT_BYTES))
        self._page = memoryview(mmap.mmap(-1, 4 * MIB))

    def _open(self, folder: Path) -> tuple[int, bool]:
        for flags, direct in ((os.O_DIRECT, True), (os.O_DSYNC, False)):
            try:
                return os.open(folder, os.O_RDWR | os.O_TMPFILE | os.O_CLOEXEC | flags, 0o600), direct
            except OSError as error:
                if error.errno not in (*_NOT_DIRECT, errno.EISDIR, errno.ENOENT):
                    raise
            path = folder / f"{_NAME}-{os.getpid()}"
            try:
                descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC | flags, 0o600)
            except OSError as error:
                if error.errno in _NOT_DIRECT and direct:
                    path.unlink(missing_ok=True)  # it is made before the flag is looked at
                    continue
                raise
            path.unlink()
            return descriptor, direct
        raise OSError(errno.EINVAL, os.strerror(errno.EINVAL))

    def write(self, at: int, data: memoryview) -> None:
        page = self._page[: len(data)]
        page[:] = data
        done = 0
        try:
            while done < len(data):
                done += os.pwrite(self._descriptor, page[done:], at + done)
        except OSError as error:
            raise WriteFailed(at, os.strerror(error.errno or 0)) from error

    def read(self, at: int, buffer: memoryview) -> None:
        page = self._page[: len(buffer)]
        try:
            if not self.direct:
                os.posix_fadvise(self._descriptor, at, len(buffer), os.POSIX_FADV_DONTNEED)
            count = os.preadv(self._descriptor, [page], at)
        except OSError as error:
            raise ReadFailed(at, len(buffer), os.strerror(error.errno or 0)) from error
        if count < len(buffer):
            raise ReadFailed(at, len(buffer), "the file ends here")
        buffer[:] = page

    def sync(self) -> None:
        try:
            os.fsync(self._descriptor)
        except OSError as error:
            raise WriteFailed(0, os.strerror(error.errno or 0)) from error

    def seconds(self) -> float:
        return time.perf_counter()

    def temperature_c(self) -> float | None:
        """Of the drive below, where it has a sensor of its own."""
        return BlockSystem().temperature_c(os.fstat(self._descriptor).st_dev)

    def close(self) -> None:
        os.close(self._descriptor)


def drive_below(folder: Path) -> Drive | None:
    """The one drive that a folder stands on; None where that cannot be told or there are several."""
    known = {d.drive.path: d.drive for d in connected_drives()}
    drives = BlockSystem().drives_below(folder.stat().st_dev)
    return known.get(f"/dev/{drives[0]}") if len(drives) == 1 else None


def places_on(name: str) -> list[str]:
    """Folders in which volumes of a DRIVE are mounted now; a simulated drive is its own place."""
    if name.endswith(SUFFIX):
        return [name]
    path = Path(name)
    return BlockSystem().mounted_on(path.stat().st_rdev) if path.is_block_device() else []


def link_of(name: str) -> Link | None:
    """How a DRIVE is connected to this machine; None where that cannot be known."""
    path = Path(name)
    return BlockSystem().link(path.resolve().name) if path.is_block_device() else None


class Heard(msgspec.Struct, frozen=True):
    """What a run-in tells while it goes on."""

    phase: Phase
    paced: Paced


def run_in_at(
    place: str,
    refused: tuple[str, ...] = (),
    seconds: float = 60.0,
    tell: Callable[[Heard], object] = lambda heard: None,
    most_bytes: int | None = None,
    goes_on: Callable[[], bool] = lambda: True,
) -> RunIn:
    """Measure in a folder, or a simulated drive by its description.

    `refused` are serial numbers of drives that nothing may be written to. Raises Refused, BadArgument, WriteFailed,
    ReadFailed; the scratch file has gone in every case.
    """
    if place.endswith(SUFFIX):
        opened = open_sealed(place, grip="look")
        drive: Drive | None = opened.drive
        opened.close()
        scratch: ScratchFile | SimulatedScratch = SimulatedScratch(Path(place))
    else:
        scratch = ScratchFile(Path(place))
        drive = drive_below(Path(place))
    try:
        serial = drive.serial if drive is not None else ""
        if serial and serial in refused:
            raise Refused(
                "sealed",
                f"“{place}” lies on the old drive of this job; nothing was written.",
                "Take a folder on the new drive.",
            )
        before = scratch.temperature_c()
        found = run_in(
            scratch,
            scratch.direct,
            seconds,
            most_bytes,
            lambda phase, paced: tell(Heard(phase, paced)),
            goes_on,
        )
        return msgspec.structs.replace(
            found,
            when=BenchClock().wall(),
            serial=serial,
            bus=drive.bus if drive is not None else "",
            temperature_before_c=before,
            temperature_after_c=scratch.temperature_c(),
        )
    finally:
        scratch.close()
