"""Raw image files and block devices through file descriptors.

`_DeviceFile` does the work and is private; a sealed store and a writable one are two faces of it, and only the second
has any way to write.
"""

from __future__ import annotations

import ctypes
import errno
import fcntl
import mmap
import os
import stat
import time
from collections.abc import Callable, Sequence
from typing import Literal, Protocol

import numpy as np

from neogenesis.core.errors import BadArgument, NeogenesisError, ReadFailed, Refused, WriteFailed
from neogenesis.core.extent import Extents
from neogenesis.core.store import device
from neogenesis.core.store.base import ReadableStore, WritableStore
from neogenesis.core.store.opener import Opener
from neogenesis.core.units import MIB, round_down, round_up

_KEEP_SIZE, _PUNCH_HOLE = 1, 2
_LOOK_FOR_HOLE = 1 << 20
_PAGE = mmap.PAGESIZE
_BOUNCE_BYTES = MIB
_LOCK_TRIES, _LOCK_SECONDS = 15, 0.1
_libc = ctypes.CDLL(None, use_errno=True)

#: How firmly a sealed drive is held. `look`: not at all, for a passing look at who it is. `share`: nobody of ours may
#: write to it. `hold`: the system itself refuses everyone else's mounts and writes, as far as it can.
Grip = Literal["look", "share", "hold"]


class Way(Protocol):
    """How a device is to be read; `ReadWay` is one, and says more."""

    @property
    def request_bytes(self) -> int: ...
    @property
    def side_by_side(self) -> bool: ...
    @property
    def direct(self) -> bool: ...


class _DeviceFile:
    """The descriptors of one file or block device: one through the page cache, one past it where that can be had."""

    def __init__(self, opener: Opener, flags: int, lock: int | None, sector_size: int | None) -> None:
        """Raises BadArgument or Refused in words. With os.O_EXCL a block device is refused while anyone else has it."""
        self.opener, self.descriptor, self._past = opener, -1, -1
        self.request_bytes, self.direct = 1 << 62, False
        try:
            self.descriptor = self._open(flags)
        except OSError as error:
            raise cannot_open(opener.name, error) from error
        try:
            status = os.fstat(self.descriptor)
            if stat.S_ISDIR(status.st_mode):
                raise _WORDS[errno.EISDIR](opener.name)
            if not (stat.S_ISREG(status.st_mode) or stat.S_ISBLK(status.st_mode)):
                raise BadArgument(
                    f"“{opener.name}” is neither a drive nor an image of one.", "Name a block device or a file."
                )
            self.is_block_device = stat.S_ISBLK(status.st_mode)
            self.number = status.st_rdev if self.is_block_device else 0
            self.size_bytes = device.size_bytes(self.descriptor) if self.is_block_device else status.st_size
            own = device.sector_bytes(self.descriptor) if self.is_block_device else 512
            self.sector_size = sector_size or own
            self.physical_sector_bytes = device.physical_sector_bytes(self.descriptor) if self.is_block_device else own
            self._alignment = own if self.is_block_device else _PAGE
            if lock is not None:
                self._lock(lock)
        except BaseException:
            os.close(self.descriptor)
            raise

    def _open(self, flags: int) -> int:
        """O_EXCL means something only for block devices, and what is there must be known before it is asked for."""
        if not flags & os.O_EXCL:
            return self.opener(flags)
        looked = self.opener(os.O_RDONLY)
        mode = os.fstat(looked).st_mode
        os.close(looked)
        opened = self.opener(flags if stat.S_ISBLK(mode) else flags & ~os.O_EXCL)
        if stat.S_IFMT(os.fstat(opened).st_mode) != stat.S_IFMT(mode):
            os.close(opened)
            raise OSError(errno.ESTALE, os.strerror(errno.ESTALE))
        return opened

    def _lock(self, kind: int) -> None:
        """The system's device manager holds the lock of a device for a moment when it has just been plugged in."""
        tries = _LOCK_TRIES if self.is_block_device else 1
        for left in range(tries - 1, -1, -1):
            try:
                fcntl.flock(self.descriptor, kind | fcntl.LOCK_NB)
                return
            except OSError as error:
                if not left:
                    raise Refused(
                        "in-use",
                        f"“{self.opener.name}” is in use by another transfer; nothing was written.",
                        "Wait until it has ended, or stop it.",
                    ) from error
            time.sleep(_LOCK_SECONDS)

    def _past_cache(self) -> int:
        """A second descriptor of the same device for direct reads; -1 where the system gives none."""
        if self._past == -1 and self.is_block_device:
            try:
                found = self.opener(os.O_RDONLY | os.O_DIRECT)
            except OSError:
                found = -2
            if found >= 0 and os.fstat(found).st_rdev != self.number:
                os.close(found)
                raise Refused(
                    "changed",
                    f"“{self.opener.name}” is another drive than a moment ago; nothing more was written.",
                    "Leave the drives where they are and start again.",
                )
            self._past = found
        return self._past

    def read(self, offset: int, buffer: memoryview) -> None:
        if self.direct:
            self.read_medium(offset, buffer)
        elif len(buffer) >= _LOOK_FOR_HOLE and self._is_hole(offset, len(buffer)):
            np.frombuffer(buffer, dtype=np.uint8).fill(0)
        else:
            self._fill(self.descriptor, offset, buffer, self.request_bytes)

    def read_runs(self, runs: Sequence[tuple[int, int]], buffer: memoryview) -> None:
        """Many small runs, each in one request."""
        at, descriptor = 0, self.descriptor
        for start, end in runs:
            stop = at + end - start
            if self.direct or end - start >= _LOOK_FOR_HOLE:
                self.read(start, buffer[at:stop])
            else:
                try:
                    count = os.preadv(descriptor, [buffer[at:stop]], start)
                except OSError as error:
                    raise ReadFailed(start, end - start, os.strerror(error.errno or 0)) from error
                if count < end - start:
                    self._fill(descriptor, start, buffer[at:stop], self.request_bytes)
            at = stop

    def read_medium(self, offset: int, buffer: memoryview) -> None:
        """Past the page cache. An image file has pages dropped first; dirty ones stay, so it is synced before."""
        descriptor = self._past_cache()
        if descriptor < 0:
            if len(buffer) >= _LOOK_FOR_HOLE and self._is_hole(offset, len(buffer)):
                np.frombuffer(buffer, dtype=np.uint8).fill(0)
                return
            self.drop_cached(offset, offset + len(buffer))
            self._fill(self.descriptor, offset, buffer, self.request_bytes)
            return
        unit, length = self._alignment, len(buffer)
        if length and not (offset | length | np.frombuffer(buffer, dtype=np.uint8).ctypes.data) % unit:
            self._fill(descriptor, offset, buffer, self.request_bytes)
            return
        at, end = offset, offset + length
        bounce = memoryview(mmap.mmap(-1, min(_BOUNCE_BYTES, round_up(length, unit) + unit)))
        while at < end:
            first = round_down(at, unit)
            stop = min(round_up(end, unit), first + len(bounce) // unit * unit)
            piece = bounce[: stop - first]
            self._fill(descriptor, first, piece, self.request_bytes)
            last = min(end, stop)
            buffer[at - offset : last - offset] = piece[at - first : last - first]
            at = last

    def _fill(self, descriptor: int, offset: int, buffer: memoryview, request_bytes: int) -> None:
        done, length = 0, len(buffer)
        while done < length:
            try:
                count = os.preadv(descriptor, [buffer[done : done + request_bytes]], offset + done)
            except OSError as error:
                raise ReadFailed(offset + done, length - done, os.strerror(error.errno or 0)) from error
            if count == 0:
                raise ReadFailed(offset + done, length - done, "the drive ends here")
            done += count

    def _is_hole(self, offset: int, length: int) -> bool:
        """Whether an image file has nothing stored there: such zeros need not come through the page cache."""
        if self.is_block_device or offset + length > self.size_bytes:
            return False
        try:
            return os.lseek(self.descriptor, offset, os.SEEK_DATA) >= offset + length
        except OSError as error:
            return error.errno == errno.ENXIO  # no data from here to the end

    def drop_cached(self, start: int, end: int) -> None:
        """Drop the kernel's whole pages around [start, end): it keeps every page that is asked for only in part."""
        first = round_down(start, _PAGE)
        os.posix_fadvise(self.descriptor, first, round_up(end, _PAGE) - first, os.POSIX_FADV_DONTNEED)

    def extents_with_data(self) -> Extents:
        """Data ranges as the file system under an image file keeps them; a block device says all of it."""
        if self.is_block_device:
            return Extents.whole(self.size_bytes)
        ranges: list[tuple[int, int]] = []
        at = 0
        while at < self.size_bytes:
            try:
                start = os.lseek(self.descriptor, at, os.SEEK_DATA)
                at = os.lseek(self.descriptor, start, os.SEEK_HOLE)
            except OSError as error:
                if error.errno == errno.ENXIO:  # no data from here to the end
                    break
                return Extents.whole(self.size_bytes)
            ranges.append((start, at))
        return Extents.of(ranges).clipped(0, self.size_bytes)

    def write(self, offset: int, data: memoryview | bytes) -> None:
        view = memoryview(data)
        done = 0
        while done < len(view):
            try:
                count = os.pwrite(self.descriptor, view[done:], offset + done)
            except OSError as error:
                raise _write_failed(offset + done, error) from error
            if count == 0:
                raise WriteFailed(offset + done, "it takes no more bytes")
            done += count

    def write_runs(self, runs: Sequence[tuple[int, int]], data: memoryview) -> None:
        at, descriptor = 0, self.descriptor
        for start, end in runs:
            stop = at + end - start
            try:
                count = os.pwrite(descriptor, data[at:stop], start)
            except OSError as error:
                raise _write_failed(start, error) from error
            if count < end - start:
                self.write(start + count, data[at + count : stop])
            at = stop

    def write_zeros(self, start: int, end: int) -> None:
        if end <= start:
            return
        if not self.is_block_device:
            if self.punch_hole(start, end):
                return
        elif start % self.sector_size == 0 and end % self.sector_size == 0:
            try:
                device.zero_out(self.descriptor, start, end)
                return
            except OSError as error:
                if error.errno in device.GONE:
                    raise _write_failed(start, error) from error
        zeros = memoryview(bytes(min(end - start, 1 << 20)))
        while start < end:
            piece = zeros[: end - start]
            self.write(start, piece)
            start += len(piece)

    def flush(self) -> None:
        try:
            os.fdatasync(self.descriptor)
        except OSError as error:
            raise _write_failed(0, error) from error

    def punch_hole(self, start: int, end: int) -> bool:
        length = ctypes.c_int64(end - start)
        return bool(_libc.fallocate(self.descriptor, _KEEP_SIZE | _PUNCH_HOLE, ctypes.c_int64(start), length) == 0)

    def discard(self, start: int, end: int) -> bool:
        if not self.is_block_device:
            return self.punch_hole(start, end)
        try:
            device.discard(self.descriptor, start, end)
        except OSError as error:
            if error.errno in device.GONE:
                raise _write_failed(start, error) from error
            return False
        return True

    def settle(self) -> None:
        if not self.is_block_device:
            return
        for ask in (device.drop_buffers, device.reread_table):
            try:
                ask(self.descriptor)
            except OSError:
                continue  # a courtesy to whoever looks next: what was written was synced and read back

    def close(self) -> None:
        for descriptor in (self.descriptor, self._past):
            if descriptor >= 0:
                os.close(descriptor)
        self.descriptor = self._past = -1


class FileFace(ReadableStore):
    """What sealed and writable files have in common: everything but writing."""

    _file: _DeviceFile

    def _adopt(self, file: _DeviceFile) -> None:
        self._file = file
        self.size_bytes, self.sector_size = file.size_bytes, file.sector_size
        self.parallel_reads = not file.is_block_device  # a file is read ahead of whoever reads it

    @property
    def is_block_device(self) -> bool:
        return self._file.is_block_device

    @property
    def number(self) -> int:
        """The device number of a block device, 0 of a file: who this really is, whatever its name means by now."""
        return self._file.number

    @property
    def physical_sector_bytes(self) -> int:
        return self._file.physical_sector_bytes

    def status(self) -> os.stat_result:
        """Of the open descriptor, never of the name."""
        return os.fstat(self._file.descriptor)

    def use(self, way: Way) -> None:
        """Read in that way from now on; past the page cache only a device, never an image file."""
        self.parallel_reads = way.side_by_side
        self._file.request_bytes = way.request_bytes
        self._file.direct = way.direct and self._file.is_block_device

    def read_into(self, offset: int, buffer: memoryview) -> None:
        self._file.read(offset, buffer)

    def read_runs(self, runs: Sequence[tuple[int, int]], buffer: memoryview) -> None:
        self._file.read_runs(runs, buffer)

    def uncached(self) -> ReadableStore:
        return _Uncached(self._file)

    def drop_cached(self, start: int, end: int) -> None:
        """Let the kernel forget [start, end), as far as it does."""
        self._file.drop_cached(start, end)

    def extents_with_data(self) -> Extents:
        return self._file.extents_with_data()

    def close(self) -> None:
        self._file.close()


class _Uncached(ReadableStore):
    """A file's or device's bytes as the medium gives them."""

    def __init__(self, file: _DeviceFile) -> None:
        self._file = file
        self.size_bytes, self.sector_size = file.size_bytes, file.sector_size

    def read_into(self, offset: int, buffer: memoryview) -> None:
        if offset < 0 or offset + len(buffer) > self.size_bytes:
            raise ReadFailed(offset, len(buffer), "the drive ends here")
        self._file.read_medium(offset, buffer)

    def read_runs(self, runs: Sequence[tuple[int, int]], buffer: memoryview) -> None:
        if self._file.is_block_device:
            super().read_runs(runs, buffer)
            return
        self._file.drop_cached(min(start for start, _ in runs), max(end for _, end in runs))
        self._file.read_runs(runs, buffer)


class SealedFileStore(FileFace):
    """A file or block device opened read-only. It holds a shared lock, so no transfer can write to it."""

    def __init__(self, opener: Opener, sector_size: int | None = None, grip: Grip = "share") -> None:
        flags = os.O_RDONLY | (os.O_EXCL if grip == "hold" else 0)
        self._adopt(_DeviceFile(opener, flags, None if grip == "look" else fcntl.LOCK_SH, sector_size))
        self._data: Extents | None = None

    def extents_with_data(self) -> Extents:
        """Looked for once: nothing changes while this is open, and a fragmented file has very many."""
        if self._data is None:
            self._data = super().extents_with_data()
        return self._data


class FileStore(FileFace, WritableStore):
    """A file or block device opened for writing, with an exclusive lock that dies with the process."""

    def __init__(self, opener: Opener, sector_size: int | None = None) -> None:
        """The kernel refuses a device that is mounted or held by anyone else."""
        file = _DeviceFile(opener, os.O_RDWR | os.O_EXCL, fcntl.LOCK_EX, sector_size)
        self._adopt(file)
        self.makes_holes = not file.is_block_device
        if file.is_block_device and device.is_read_only(file.descriptor):
            file.close()
            raise Refused("read-only", f"“{opener.name}” is switched to read-only; nothing was written.", "Unlock it.")

    def read_into(self, offset: int, buffer: memoryview) -> None:
        self.refuse_if_finished()
        super().read_into(offset, buffer)

    def read_runs(self, runs: Sequence[tuple[int, int]], buffer: memoryview) -> None:
        self.refuse_if_finished()
        super().read_runs(runs, buffer)

    def write(self, offset: int, data: memoryview | bytes) -> None:
        self.refuse_if_finished()
        self._file.write(offset, data)

    def write_runs(self, runs: Sequence[tuple[int, int]], data: memoryview) -> None:
        self.refuse_if_finished()
        self._file.write_runs(runs, data)

    def write_zeros(self, start: int, end: int) -> None:
        self.refuse_if_finished()
        self._file.write_zeros(start, end)

    def _flush(self) -> None:
        self._file.flush()

    def discard(self, start: int, end: int) -> bool:
        self.refuse_if_finished()
        return self._file.discard(start, end)

    def settle(self) -> None:
        self._file.settle()


def _write_failed(offset: int, error: OSError) -> WriteFailed:
    return WriteFailed(offset, os.strerror(error.errno or 0), error.errno in device.GONE)


_WORDS: dict[int, Callable[[str], NeogenesisError]] = {
    errno.EISDIR: lambda name: BadArgument(f"“{name}” is a folder, not a drive.", "Name a block device or an image."),
    errno.ENOENT: lambda name: BadArgument(f"There is no drive or image “{name}”.", "Check the name, or connect it."),
    errno.ENOTDIR: lambda name: BadArgument(f"There is no drive or image “{name}”.", "Check the name, or connect it."),
    errno.ELOOP: lambda name: BadArgument(f"“{name}” is a link to itself, not a drive.", "Check the name."),
    errno.EACCES: lambda name: BadArgument(
        f"No permission to open “{name}”; nothing was read or written.", "Ask for access to it and try again."
    ),
    errno.EPERM: lambda name: Refused(
        "read-only", f"“{name}” cannot be written to; nothing was written.", "Unlock it first."
    ),
    errno.EROFS: lambda name: Refused(
        "read-only", f"“{name}” cannot be written to; nothing was written.", "Unlock it first."
    ),
    errno.EBUSY: lambda name: Refused(
        "mounted", f"“{name}” is mounted or otherwise in use; nothing was written.", "Unmount it first."
    ),
}


def cannot_open(name: str, error: OSError) -> NeogenesisError:
    """Why a drive cannot be opened, in words."""
    words = _WORDS.get(error.errno or 0)
    if words is not None:
        return words(name)
    return BadArgument(f"“{name}” cannot be opened: {os.strerror(error.errno or 0)}.", "Check the drive.")
