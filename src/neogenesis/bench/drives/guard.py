"""The system's own seal on a drive: switched to read-only for everyone while it is worked on, and back afterwards.

The switch outlives whoever set it. So a small process of its own sets it, and takes it off again as soon as the one
that works has ended, however it ended. `python guard.py DESCRIPTOR` is that process; it imports nothing of Neogenesis.
"""

from __future__ import annotations

import fcntl
import os
import struct
import subprocess
import sys

_BLKROSET, _BLKROGET = 0x125D, 0x125E


class Guard:
    """Holds the seal as long as it, or the process that made it, lives. Where it cannot be had, nothing is held."""

    def __init__(self, descriptor: int) -> None:
        """`descriptor` is one of the device that nothing else depends on; it is closed here."""
        try:
            self._process = subprocess.Popen(
                [sys.executable, "-I", "-S", __file__, str(descriptor)],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
                pass_fds=(descriptor,),
                start_new_session=True,
            )
        finally:
            os.close(descriptor)
        if self._process.stdout is not None:
            self._process.stdout.read(1)  # the seal is on, or cannot be had

    def close(self) -> None:
        """Take the seal off."""
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe is not None:
                pipe.close()
        self._process.wait()


def main(descriptor: int) -> None:
    """Seal, say so, wait until the other end is gone, unseal."""
    sealed = not struct.unpack("i", fcntl.ioctl(descriptor, _BLKROGET, b"\0" * 4))[0]
    if sealed:
        try:
            fcntl.ioctl(descriptor, _BLKROSET, struct.pack("i", 1))
        except OSError:
            sealed = False  # not everyone may; the exclusive open keeps mounts away all the same
    os.write(1, b".")
    while os.read(0, 64):
        continue
    if sealed:
        fcntl.ioctl(descriptor, _BLKROSET, struct.pack("i", 0))


if __name__ == "__main__":
    main(int(sys.argv[1]))
