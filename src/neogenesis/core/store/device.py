"""What Linux tells of a block device, and what it can be asked to do to one. Source: linux/fs.h (the BLK requests).

All functions take an open file descriptor and raise OSError as the kernel says.
"""

from __future__ import annotations

import errno
import fcntl
import struct

_BLKROGET, _BLKRRPART, _BLKFLSBUF = 0x125E, 0x125F, 0x1261
_BLKSSZGET, _BLKPBSZGET, _BLKGETSIZE64 = 0x1268, 0x127B, 0x80081272
_BLKDISCARD, _BLKZEROOUT = 0x1277, 0x127F
#: What the kernel answers when the hardware is no longer there.
GONE = {errno.ENODEV, errno.ENXIO, errno.ENOMEDIUM, errno.ESHUTDOWN}


def _integer(descriptor: int, request: int) -> int:
    return int(struct.unpack("i", fcntl.ioctl(descriptor, request, b"\0" * 4))[0])


def size_bytes(descriptor: int) -> int:
    return int(struct.unpack("Q", fcntl.ioctl(descriptor, _BLKGETSIZE64, b"\0" * 8))[0])


def sector_bytes(descriptor: int) -> int:
    """The logical sector: the unit of addresses, and the least that can be read."""
    return _integer(descriptor, _BLKSSZGET)


def physical_sector_bytes(descriptor: int) -> int:
    """The unit that the medium itself writes; a smaller write costs a read before it."""
    return _integer(descriptor, _BLKPBSZGET)


def is_read_only(descriptor: int) -> bool:
    return bool(_integer(descriptor, _BLKROGET))


def zero_out(descriptor: int, start: int, end: int) -> None:
    """Make [start, end) zero by the cheapest command that the drive has; both are multiples of its sector."""
    fcntl.ioctl(descriptor, _BLKZEROOUT, struct.pack("QQ", start, end - start))


def discard(descriptor: int, start: int, end: int) -> None:
    """Tell the drive that [start, end) holds nothing; what it reads as afterwards is the drive's choice."""
    fcntl.ioctl(descriptor, _BLKDISCARD, struct.pack("QQ", start, end - start))


def reread_table(descriptor: int) -> None:
    fcntl.ioctl(descriptor, _BLKRRPART)


def drop_buffers(descriptor: int) -> None:
    """Write out what the kernel still holds of the drive, and forget it."""
    fcntl.ioctl(descriptor, _BLKFLSBUF)
