"""A faulty drive behind a real block device, so that the kernel and its page cache stand between program and drive.

A process of its own serves one file through FUSE; a loop device that goes past the page cache of that file stands on
it. What the drive does wrong is switched while it is in use. `python -m tests.faulty MOUNT CONTROL IMAGE` is the server.
"""

from __future__ import annotations

import json
import os
import stat
import subprocess
import sys
import time
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from tests.drives import run

_NAME = "drive"


@dataclass
class Faults:
    """Ranges are half-open, in bytes. `flushes_fail` is how many of the next flushes fail; `dead` answers nothing.

    `dropped` writes are confirmed and never arrive; `refused` writes fail; `worn` ranges give back a flipped bit.

    """

    unreadable: list[tuple[int, int]] = field(default_factory=list)
    slow: list[tuple[int, int, float]] = field(default_factory=list)
    dropped: list[tuple[int, int]] = field(default_factory=list)
    refused: list[tuple[int, int]] = field(default_factory=list)
    worn: list[tuple[int, int]] = field(default_factory=list)
    flushes_fail: int = 0
    skip_flushes: int = 0
    dead: bool = False
    dies_after_reads: int = -1


class FaultyDrive:
    """`device` is the loop device; `image` holds what has really arrived on the medium."""

    def __init__(self, image: Path, sector: int = 512, read_only: bool = False) -> None:
        self.image = image
        self._folder = image.with_name(image.name + ".faulty")
        self._folder.mkdir()
        self._mount, self._control = self._folder / "m", self._folder / "faults.json"
        self._mount.mkdir()
        self.log = self._folder / "log"
        self.log.touch()
        self.faults = Faults()
        self.tell()
        self._server = subprocess.Popen([sys.executable, "-m", "tests.faulty", self._mount, self._folder, image])
        while not (self._mount / _NAME).exists():
            assert self._server.poll() is None, "the faulty drive did not start"
            time.sleep(0.01)
        flags = ["--read-only"] if read_only else []
        self.device = run(
            "losetup", "--find", "--show", "--direct-io=on", "--sector-size", str(sector), *flags, self._mount / _NAME
        ).strip()

    def tell(self, **changes: Any) -> None:
        """Change what the drive does wrong from now on."""
        for name, value in changes.items():
            setattr(self.faults, name, value)
        new = self._control.with_suffix(".new")
        new.write_text(json.dumps(asdict(self.faults)))
        new.replace(self._control)

    def requests(self, kind: str = "read") -> list[tuple[int, int]]:
        """(offset, length) of everything that was asked since the log was last emptied."""
        rows = [line.split() for line in self.log.read_text().splitlines()]
        return [(int(row[1]), int(row[2])) for row in rows if row[0] == kind]

    def forget_requests(self) -> None:
        os.truncate(self.log, 0)

    def close(self) -> None:
        self.tell(dead=False)
        run("losetup", "--detach", self.device, ok=(0, 1))
        # The kernel lets go of a loop device only when nobody has it open any more.
        subprocess.run(["umount", "-l", str(self._mount)], capture_output=True, check=False)
        try:
            self._server.wait(5)
        except subprocess.TimeoutExpired:
            self._server.kill()
            self._server.wait()


def serve(mount: str, folder: str, image: str) -> None:
    """Answer until the file system is taken away."""
    import errno

    import mfusepy

    control, log = Path(folder) / "faults.json", os.open(f"{folder}/log", os.O_WRONLY | os.O_APPEND)
    medium = os.open(image, os.O_RDWR)
    size = os.fstat(medium).st_size
    known: dict[str, Any] = {"stamp": (0, 0), "faults": Faults(), "reads": 0, "flushes": 0, "failed": 0}

    def faults() -> Faults:
        status = control.stat()
        stamp = (status.st_mtime_ns, status.st_ino)
        if stamp != known["stamp"]:
            known.update(stamp=stamp, faults=Faults(**json.loads(control.read_text())), reads=0, flushes=0, failed=0)
        return known["faults"]

    def note(kind: str, offset: int, length: int) -> None:
        os.write(log, f"{kind} {offset} {length}\n".encode())

    def touches(ranges: list[Any], offset: int, length: int) -> bool:
        return any(r[0] < offset + length and offset < r[1] for r in ranges)

    class Operations(mfusepy.Operations):
        use_ns = True

        def getattr(self, path: str, fh: Any = None) -> dict[str, Any]:
            common = {"st_uid": 0, "st_gid": 0, "st_atime": 0, "st_mtime": 0, "st_ctime": 0}
            if path == "/":
                return {"st_mode": stat.S_IFDIR | 0o700, "st_nlink": 2, **common}
            if path == f"/{_NAME}":
                return {"st_mode": stat.S_IFREG | 0o600, "st_nlink": 1, "st_size": size, **common}
            raise mfusepy.FuseOSError(errno.ENOENT)

        def readdir(self, path: str, fh: Any) -> list[str]:
            return [".", "..", _NAME]

        def open(self, path: str, flags: Any) -> int:
            return 0

        def read(self, path: str, length: int, offset: int, fh: Any) -> bytes:
            now = faults()
            note("read", offset, length)
            known["reads"] += 1
            for start, end, seconds in now.slow:
                if start < offset + length and offset < end:
                    time.sleep(seconds)
            gone = now.dead or 0 <= now.dies_after_reads < known["reads"]
            if gone or touches(now.unreadable, offset, length):
                raise mfusepy.FuseOSError(errno.EIO)
            data = bytearray(os.pread(medium, length, offset))
            for start, end in now.worn:
                if start < offset + length and offset < end:
                    data[max(start, offset) - offset] ^= 1
            return bytes(data)

        def write(self, path: str, data: bytes, offset: int, fh: Any) -> int:
            now = faults()
            note("write", offset, len(data))
            if now.dead or touches(now.refused, offset, len(data)):
                raise mfusepy.FuseOSError(errno.EIO)
            for at in range(0, len(data), 512):
                if not touches(now.dropped, offset + at, 512):
                    os.pwrite(medium, data[at : at + 512], offset + at)
            return len(data)

        def fsync(self, path: str, datasync: Any, fh: Any) -> int:
            now = faults()
            note("flush", 0, 0)
            known["flushes"] += 1
            if now.dead or now.skip_flushes < known["flushes"] <= now.skip_flushes + now.flushes_fail:
                raise mfusepy.FuseOSError(errno.EIO)
            return 0

        def flush(self, path: str, fh: Any) -> int:
            return 0

    mfusepy.FUSE(Operations(), mount, foreground=True, nothreads=True, direct_io=True)


if __name__ == "__main__":
    serve(*sys.argv[1:])
