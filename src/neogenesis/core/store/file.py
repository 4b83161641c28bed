"""Raw image files and block devices through file descriptors."""

from __future__ import annotations

import ctypes
import errno
import fcntl
import os
import stat
from pathlib import Path
from typing import Protocol

import numpy as np

from neogenesis.core.errors import BadArgument, ReadFailed, Refused, WriteFailed
from neogenesis.core.extent import Extents
from neogenesis.core.store import device
from neogenesis.core.store.base import ReadableStore, WritableStore

_KEEP_SIZE, _PUNCH_HOLE = 1, 2
_LOOK_FOR_HOLE = 1 << 20
_libc = ctypes.CDLL(None, use_errno=True)


def _measure(descriptor: int) -> tuple[int, int, bool]:
    """Size in bytes, sector size, and whether it is a block device."""
    mode = os.fstat(descriptor).st_mode
    if stat.S_ISBLK(mode):
        return device.size_bytes(descriptor), device.sector_bytes(descriptor), True
    return os.fstat(descriptor).st_size, 512, False


class Way(Protocol):
    """How a device is to be read; `ReadWay` is one, and says more."""

    @property
    def request_bytes(self) -> int: ...
    @property
    def side_by_side(self) -> bool: ...
    @property
    def direct(self) -> bool: ...


class SealedFileStore(ReadableStore):
    """A file or block device opened read-only. It holds a shared lock, so no transfer can write to it.

    Only a passing look at who a drive is goes without the lock (`locked` False).
    """

    def __init__(
        self, path: Path, sector_size: int | None = None, flags: int = os.O_RDONLY, locked: bool = True
    ) -> None:
        self.path = path
        self._direct, self._request_bytes = -1, 1 << 62
        try:
            self._descriptor = os.open(path, flags | os.O_CLOEXEC)
        except OSError as error:
            raise _cannot_open(path, error) from error
        try:
            self.mode = os.fstat(self._descriptor).st_mode
            if stat.S_ISDIR(self.mode):
                raise _cannot_open(path, IsADirectoryError())
            if not (stat.S_ISREG(self.mode) or stat.S_ISBLK(self.mode)):
                raise BadArgument(f"“{path}” is neither a drive nor an image of one.", "Name a block device or a file.")
            self.size_bytes, own_sector_size, self.is_block_device = _measure(self._descriptor)
            self.sector_size = sector_size or own_sector_size
            self.physical_sector_bytes = own_sector_size
            if self.is_block_device:
                self.physical_sector_bytes = device.physical_sector_bytes(self._descriptor)
            if locked:
                self._lock(fcntl.LOCK_EX if flags & os.O_RDWR else fcntl.LOCK_SH)
        except BaseException:
            os.close(self._descriptor)
            raise

    def _lock(self, kind: int) -> None:
        try:
            fcntl.flock(self._descriptor, kind | fcntl.LOCK_NB)
        except OSError as error:
            raise Refused(
                "in-use",
                f"“{self.path}” is in use by another transfer; nothing was written.",
                "Wait until it has ended, or stop it.",
            ) from error

    def use(self, way: Way) -> None:
        """Read in that way from now on. Past the page cache only where the system can, and never an image file."""
        if self._direct >= 0:
            os.close(self._direct)
            self._direct = -1
        self.parallel_reads, self._request_bytes = way.side_by_side, way.request_bytes
        if way.direct and self.is_block_device:
            try:
                self._direct = os.open(self.path, os.O_RDONLY | os.O_DIRECT | os.O_CLOEXEC)
            except OSError:
                return

    def _descriptor_for(self, offset: int, buffer: memoryview) -> int:
        """Direct reads need a place, a length and an address in memory that are multiples of the sector."""
        if self._direct < 0:
            return self._descriptor
        address = np.frombuffer(buffer, dtype=np.uint8).ctypes.data
        aligned = not (offset | len(buffer) | address) % max(512, self.physical_sector_bytes)
        return self._direct if aligned else self._descriptor

    def read_into(self, offset: int, buffer: memoryview) -> None:
        done, length = 0, len(buffer)
        if length >= _LOOK_FOR_HOLE and self._is_hole(offset, length):
            np.frombuffer(buffer, dtype=np.uint8).fill(0)
            return
        descriptor = self._descriptor_for(offset, buffer) if length else self._descriptor
        while done < length:
            try:
                count = os.preadv(descriptor, [buffer[done : done + self._request_bytes]], offset + done)
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
            return os.lseek(self._descriptor, offset, os.SEEK_DATA) >= offset + length
        except OSError as error:
            return error.errno == errno.ENXIO  # no data from here to the end

    def extents_with_data(self) -> Extents:
        """Data ranges as the file system under an image file keeps them; a block device says all of it."""
        if self.is_block_device:
            return Extents.whole(self.size_bytes)
        ranges: list[tuple[int, int]] = []
        at = 0
        while at < self.size_bytes:
            try:
                start = os.lseek(self._descriptor, at, os.SEEK_DATA)
                at = os.lseek(self._descriptor, start, os.SEEK_HOLE)
            except OSError as error:
                if error.errno == errno.ENXIO:  # no data from here to the end
                    break
                return Extents.whole(self.size_bytes)
            ranges.append((start, at))
        return Extents.of(ranges).clipped(0, self.size_bytes)

    def forget_cached(self, start: int, end: int) -> None:
        """Drop what the kernel keeps of [start, end), so that the next read asks the medium."""
        os.posix_fadvise(self._descriptor, start, end - start, os.POSIX_FADV_DONTNEED)

    def still_there(self) -> bool:
        """Whether the drive still answers with the size it had."""
        try:
            return _measure(self._descriptor)[0] == self.size_bytes
        except OSError:
            return False

    def close(self) -> None:
        for descriptor in (self._descriptor, self._direct):
            if descriptor >= 0:
                os.close(descriptor)
        self._descriptor = self._direct = -1


class FileStore(SealedFileStore, WritableStore):
    """A file or block device opened for writing, with an exclusive lock that dies with the process."""

    def __init__(self, path: Path, sector_size: int | None = None) -> None:
        flags = os.O_RDWR
        if path.is_block_device():
            flags |= os.O_EXCL  # the kernel refuses when it is mounted
        super().__init__(path, sector_size, flags)
        if self.is_block_device and device.is_read_only(self._descriptor):
            self.close()
            raise Refused("read-only", f"“{path}” is switched to read-only; nothing was written.", "Unlock it.")
        self.makes_holes = not self.is_block_device

    def write(self, offset: int, data: memoryview | bytes) -> None:
        view = memoryview(data)
        done = 0
        while done < len(view):
            try:
                count = os.pwrite(self._descriptor, view[done:], offset + done)
            except OSError as error:
                raise _write_failed(offset + done, error) from error
            if count == 0:
                raise WriteFailed(offset + done, "it takes no more bytes")
            done += count

    def write_zeros(self, start: int, end: int) -> None:
        if end <= start:
            return
        if not self.is_block_device:
            if self._punch_hole(start, end):
                return
        elif start % self.sector_size == 0 and end % self.sector_size == 0:
            try:
                device.zero_out(self._descriptor, start, end)
                return
            except OSError as error:
                if error.errno in device.GONE:
                    raise _write_failed(start, error) from error
        zeros = memoryview(bytes(min(end - start, 1 << 20)))
        while start < end:
            piece = zeros[: end - start]
            self.write(start, piece)
            start += len(piece)

    def sync(self) -> None:
        try:
            os.fdatasync(self._descriptor)
        except OSError as error:
            raise _write_failed(0, error) from error

    def _punch_hole(self, start: int, end: int) -> bool:
        length = ctypes.c_int64(end - start)
        return bool(_libc.fallocate(self._descriptor, _KEEP_SIZE | _PUNCH_HOLE, ctypes.c_int64(start), length) == 0)

    def discard(self, start: int, end: int) -> bool:
        if not self.is_block_device:
            return self._punch_hole(start, end)
        try:
            device.discard(self._descriptor, start, end)
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
                ask(self._descriptor)
            except OSError:
                continue  # a courtesy to whoever looks next: what was written was synced and read back


def _write_failed(offset: int, error: OSError) -> WriteFailed:
    return WriteFailed(offset, os.strerror(error.errno or 0), error.errno in device.GONE)


def _cannot_open(path: Path, error: OSError) -> BadArgument | Refused:
    if isinstance(error, IsADirectoryError) or path.is_dir():
        return BadArgument(f"“{path}” is a folder, not a drive.", "Name a block device or an image file.")
    if isinstance(error, FileNotFoundError):
        return BadArgument(f"There is no drive or image “{path}”.", "Check the name, or connect the drive.")
    if isinstance(error, PermissionError):
        return BadArgument(
            f"No permission to open “{path}”; nothing was read or written.", "Ask for access to it and try again."
        )
    if error.errno == errno.EBUSY:
        return Refused("mounted", f"“{path}” is mounted or otherwise in use; nothing was written.", "Unmount it first.")
    if error.errno in (errno.EROFS, errno.EACCES):
        return Refused("read-only", f"“{path}” cannot be written to; nothing was written.", "Unlock it first.")
    return BadArgument(f"“{path}” cannot be opened: {os.strerror(error.errno or 0)}.", "Check the drive.")
