"""Whether this machine uses a drive: mounted file systems, swap space, and loop devices made from image files."""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path


def _numbers_of(path: Path) -> set[str]:
    """Device numbers of a block device and its partitions, or of the loop devices made from a file."""
    with suppress(OSError):
        status = path.stat()
        if path.is_block_device():
            return _with_partitions(f"{os.major(status.st_rdev)}:{os.minor(status.st_rdev)}")
        found: set[str] = set()
        for backing in Path("/sys/block").glob("loop*/loop/backing_file"):
            with suppress(OSError):
                if Path(backing.read_text().strip()).samefile(path):
                    found |= _with_partitions((backing.parents[1] / "dev").read_text().strip())
        return found
    return set()


def _with_partitions(number: str) -> set[str]:
    """A device, its partitions, and what is built upon any of them."""
    found = {number}
    folder = Path("/sys/dev/block") / number
    for pattern in ("*/dev", "holders/*/dev", "*/holders/*/dev"):
        for file in folder.glob(pattern):
            with suppress(OSError):
                found.add(file.read_text().strip())
    return found


def in_use(path: Path) -> str:
    """Where the drive is mounted, `swap space`, or an empty string."""
    numbers = _numbers_of(path)
    if not numbers:
        return ""
    for line in Path("/proc/self/mountinfo").read_text().splitlines():
        fields = line.split()
        if fields[2] in numbers:
            return fields[4]
    names = {os.path.realpath(Path("/dev/block") / n) for n in numbers}
    names |= {"/dev/" + Path(os.path.realpath(f"/sys/dev/block/{n}")).name for n in numbers}
    with suppress(OSError):
        for line in Path("/proc/swaps").read_text().splitlines()[1:]:
            if line.split()[0] in names:
                return "swap space"
    return ""


def backing(path: Path) -> set[str]:
    """What holds the bytes of a file or device: its device number or file number, and what lies under a loop device."""
    with suppress(OSError):
        status = path.stat()
        if not path.is_block_device():
            return {f"file {status.st_dev}:{status.st_ino}"} | _numbers_of(path)
        number = f"{os.major(status.st_rdev)}:{os.minor(status.st_rdev)}"
        found = {number}
        folder = Path("/sys/dev/block") / number
        if (folder / "partition").exists():
            found.add((folder.resolve().parent / "dev").read_text().strip())
        with suppress(OSError):
            found |= backing(Path((folder / "loop/backing_file").read_text().strip()))
        return found
    return set()
