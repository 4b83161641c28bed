"""What Linux knows of block devices: which stand upon which, and who uses them.

A drive carries partitions; upon those stand arrays, logical volumes and decrypted mappings (`holders`), which in turn
stand upon others (`slaves`), and all of it can be mounted or be swap space. All ways are walked to their end.
Source: the kernel's documentation of sysfs (Documentation/ABI, block) and of /proc/self/mountinfo.
"""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

_DEVICES = Path("/dev")
#: Who shows which file as a folder is looked up at most so often.
_LOOK_S = 1.0
#: The kernel's own wait for a request of a disk (`SD_TIMEOUT`, and that of NVMe drives).
_TIMEOUT_SECONDS = 30.0
_NO_DRIVES = ("ram", "zram", "sr", "fd", "dm-", "md", "nbd")


def number_text(number: int) -> str:
    """`8:1`, as the system writes device numbers."""
    return f"{os.major(number)}:{os.minor(number)}"


@dataclass(frozen=True, slots=True)
class Link:
    """What a drive is connected by: speed (and width) now, and the most that the drive itself could have."""

    kind: Literal["usb", "sata", "pcie"]
    now: str
    most: str = ""

    @property
    def is_less(self) -> bool:
        return bool(self.most) and self.now != self.most


class BlockSystem:
    """Reads /sys and /proc below `root`; another root than the real one is a made-up system."""

    def __init__(self, root: Path = Path("/")) -> None:
        self._root = root
        self._devices = root / "sys/dev/block"
        self._shown: dict[str, str] = {}
        self._look_again_at = 0.0

    def folder(self, number: str) -> Path:
        return self._devices / number

    def text(self, path: Path) -> str:
        """What stands in a file of one line, empty where there is none."""
        with suppress(OSError, UnicodeDecodeError):
            return path.read_text().strip()
        return ""

    def timeout_s(self, folder: Path) -> float:
        """How long the kernel waits for one request of the drive; its own default where it does not say."""
        milliseconds = self.text(folder / "queue/io_timeout")  # of every driver, in newer kernels
        if milliseconds.isdigit():
            return int(milliseconds) / 1000
        seconds = self.text(folder / "device/timeout")
        return float(seconds) if seconds.isdigit() else _TIMEOUT_SECONDS

    def name(self, number: str) -> str:
        """`sdb1`; the number itself when the system does not know it."""
        return self.folder(number).resolve().name if self.folder(number).exists() else number

    def drives(self) -> list[Path]:
        """The folders of whole drives that hold anything: no memory disks, no optical ones, nothing on other drives."""
        found = []
        for folder in sorted((self._root / "sys/block").iterdir() if (self._root / "sys/block").is_dir() else ()):
            stands_alone = not folder.name.startswith(_NO_DRIVES) and not any(folder.glob("slaves/*"))
            if stands_alone and self.text(folder / "size") not in ("", "0"):
                found.append(folder)
        return found

    def is_partition(self, number: str) -> bool:
        return (self.folder(number) / "partition").exists()

    def above(self, number: str) -> dict[str, str]:
        """The device and everything that stands upon it, each with what it is: `itself`, `partition` or `holder`."""
        found = {number: "itself"}
        loops = self._loops()
        waiting = [number]
        while waiting:
            at = waiting.pop()
            folder = self.folder(at)
            on_top = [(text, "partition") for text in self._numbers(folder.glob("*/partition"), "../dev")]
            on_top += [(text, "holder") for text in self._numbers(folder.glob("holders/*"), "dev")]
            on_top += [(loop, "loop") for loop, backing in loops.items() if backing == at]
            for text, what in on_top:
                if text not in found:
                    found[text] = what
                    waiting.append(text)
        return found

    def below(self, number: str) -> set[str]:
        """The device and everything that it stands upon; image files under loop devices as `file DEVICE:INODE`."""
        found: set[str] = set()
        waiting = [number]
        while waiting:
            at = waiting.pop()
            if at in found:
                continue
            found.add(at)
            folder = self.folder(at)
            waiting += self._numbers(folder.glob("slaves/*"), "dev")
            if self.is_partition(at):
                waiting += self._numbers([folder.resolve().parent], "dev")
            backing = self.text(folder / "loop/backing_file")
            if backing:
                with suppress(OSError):
                    status = Path(backing).stat()
                    if status.st_rdev:
                        waiting.append(number_text(status.st_rdev))
                    else:
                        found.add(file_key(status))
        return found

    def drives_below(self, number: int) -> list[str]:
        """Names of the whole drives that a mounted file system stands on, by the device number of its files."""
        mounts, mounted = self._mounts(), number_text(number)
        places = {place for device, place in mounts if device == mounted}
        devices = {mounted, *(device for device, place in mounts if place in places)}
        below = {self.folder(n).resolve() for device in devices for n in self.below(device)}
        return [folder.name for folder in self.drives() if folder.resolve() in below]

    def mounted_on(self, number: int) -> list[str]:
        """Where volumes of a whole drive are mounted, each place once."""
        above = self.above(number_text(number))
        return sorted({place for device, place in self._mounts() if device in above})

    def link(self, name: str) -> Link | None:
        """How a whole drive is connected to this machine; None where the system does not say.

        The nearest of: a USB device's `speed` in Mbit/s, an ATA link's `sata_spd`, the PCI Express link of an NVMe
        controller. Source: the kernel's documentation of sysfs (Documentation/ABI/testing, usb, ata, bus-pci).
        """
        at = (self._root / "sys/block" / name).resolve()
        for folder in (at, *at.parents):
            if self.text(folder / "bMaxPacketSize0") and self.text(folder / "speed"):
                return Link(kind="usb", now=f"{self.text(folder / 'speed')} Mbit/s")
            for ata in sorted(folder.glob("link*/ata_link/link*")) if folder.name.startswith("ata") else ():
                now = self.text(ata / "sata_spd")
                if now and not now.startswith("<"):
                    most = self.text(ata / "hw_sata_spd_limit")
                    return Link(kind="sata", now=now, most="" if most.startswith("<") else most)
            width, speed = (self.text(folder / f"current_link_{what}") for what in ("width", "speed"))
            if width.isdigit() and int(width) and "nvme" in str(at):
                most_width, most_speed = (self.text(folder / f"max_link_{what}") for what in ("width", "speed"))
                most = f"{most_speed.removesuffix(' PCIe')} x{most_width}" if most_width.isdigit() else ""
                return Link(kind="pcie", now=f"{speed.removesuffix(' PCIe')} x{width}", most=most)
        return None

    def temperature_c(self, number: int) -> float | None:
        """Of the one drive below a device or a mounted file system; None where it has no sensor of its own."""
        names = self.drives_below(number)
        found = self.sensors(self._root / "sys/block" / names[0]) if len(names) == 1 else []
        text = self.text(found[0]) if found else ""
        return int(text) / 1000 if text.lstrip("-").isdigit() else None

    def sensors(self, drive: Path) -> list[Path]:
        """A SATA drive keeps its sensor of temperature below itself, an NVMe one below its controller."""
        folder = drive / "device"
        return sorted((*folder.glob("hwmon/hwmon*/temp1_input"), *folder.glob("hwmon*/temp1_input")))

    def shown_as_folder(self, status: os.stat_result) -> str:
        """Where a file system of user space shows what is in an image file, or which program does; empty for nowhere.

        Such a program has /dev/fuse open beside the file. The kernel says nothing of that: the place is told by what
        was mounted, where that is the file's name.
        """
        for source, place in self._sources():
            with suppress(OSError):
                if source.startswith("/") and file_key(Path(source).stat()) == file_key(status):
                    return place
        return self._shown_by().get(file_key(status), "")

    def _shown_by(self) -> dict[str, str]:
        """The files that file systems of user space may write to, each with the program; looked up once in a while."""
        now = time.monotonic()
        if now >= self._look_again_at:
            found = {}
            for process in self._processes_with("/dev/fuse"):
                for link in self._open_files(process):
                    with suppress(OSError):
                        status = link.stat()
                        if stat.S_ISREG(status.st_mode) and self._may_write(process, link.name):
                            found[file_key(status)] = self.text(process / "comm") or "a file system of user space"
            self._shown, self._look_again_at = found, now + _LOOK_S
        return self._shown

    def _may_write(self, process: Path, descriptor: str) -> bool:
        """Whether a process opened a file for more than reading."""
        lines = self.text(process / "fdinfo" / descriptor).splitlines()
        flags = next((line.split()[1] for line in lines if line.startswith("flags:")), "0")
        return int(flags, 8) & os.O_ACCMODE != os.O_RDONLY

    def _sources(self) -> list[tuple[str, str]]:
        """What every mounted file system was mounted from, and where."""
        found = []
        for line in self.text(self._root / "proc/self/mountinfo").splitlines():
            fields = line.split()
            if "-" in fields:
                source = fields[fields.index("-") + 2].replace("\\040", " ")
                found.append((source, fields[4].replace("\\040", " ")))
        return found

    def _open_files(self, process: Path) -> list[Path]:
        with suppress(OSError):
            return list((process / "fd").iterdir())
        return []

    def _processes_with(self, device: str) -> Iterator[Path]:
        """Processes, of those that may be looked into, that have a device open; but for this one."""
        for process in (self._root / "proc").glob("[0-9]*"):
            if process.name == str(os.getpid()):
                continue
            for link in self._open_files(process):
                with suppress(OSError):
                    if str(link.readlink()) == device:
                        yield process
                        break

    def loops_on(self, status: os.stat_result) -> list[str]:
        """Loop devices made from an image file."""
        return [loop for loop, backing in self._loops().items() if backing == file_key(status)]

    def _loops(self) -> dict[str, str]:
        """Every loop device, with the device number or the file key of what it is made from."""
        found = {}
        for backing in (self._root / "sys/block").glob("loop*/loop/backing_file"):
            number = self.text(backing.parents[1] / "dev")
            with suppress(OSError):
                status = Path(self.text(backing)).stat()
                found[number] = number_text(status.st_rdev) if status.st_rdev else file_key(status)
        return found

    def _numbers(self, entries: Iterable[Path], to_dev: str) -> list[str]:
        found = []
        for entry in entries:
            text = self.text(entry.parent / "dev" if to_dev == "../dev" else entry / to_dev)
            if text:
                found.append(text)
        return found

    def in_use(self, numbers: Iterable[str]) -> str:
        """Where any of the devices, or anything upon them, is mounted; `swap space`; or who holds it. Else empty."""
        family: dict[str, str] = {}
        for number in numbers:
            family |= self.above(number)
        if not family:
            return ""
        for number, place in self._mounts():
            if number in family:
                return place
        swaps = self.text(self._root / "proc/swaps").splitlines()[1:]
        if any(self._number_of(line.split()[0]) in family for line in swaps if line.split()):
            return "swap space"
        holder = next((number for number, what in family.items() if what == "holder"), "")
        return f"part of {self.name(holder)}" if holder else ""

    def _mounts(self) -> list[tuple[str, str]]:
        """(device number, place) of every mounted file system; several for one that spans devices.

        Some file systems show a number of no device there; then the name of what was mounted tells.
        """
        found = []
        for line in self.text(self._root / "proc/self/mountinfo").splitlines():
            fields = line.split()
            place = fields[4].replace("\\040", " ")
            found.append((fields[2], place))
            source = fields[fields.index("-") + 2] if "-" in fields else ""
            number = self._number_of(source)
            if number:
                found += [(member, place) for member in self._members(number)]
        return found

    def _members(self, number: str) -> set[str]:
        """The devices of a file system that spans several, told by one of them."""
        for folder in (self._root / "sys/fs/btrfs").glob("*/devices"):
            members = set(self._numbers(folder.iterdir(), "dev"))
            if number in members:
                return members
        return {number}

    def _number_of(self, name: str) -> str:
        """The device number of a name such as `/dev/sdb1`."""
        if not name.startswith("/"):
            return ""
        real = Path(os.path.realpath(name))
        known = self.text(self._root / "sys/class/block" / real.name / "dev")
        if known:
            return known
        with suppress(OSError):
            number = real.stat().st_rdev
            return number_text(number) if real.is_block_device() else ""
        return ""


#: How the key of an image file begins, as against the number of a device.
FILE = "file "


def file_key(status: os.stat_result) -> str:
    """What an image file is known by, whatever it is called."""
    return f"{FILE}{status.st_dev}:{status.st_ino}"


def among_devices(path: Path) -> bool:
    """Whether a file of that name would stand among the device nodes, where a slip names a drive.

    Other filesystems that are mounted below, such as shared memory, hold files like any folder.
    """
    place = path.absolute().resolve().parent
    if _DEVICES not in (place, *place.parents):
        return False
    while not place.exists():
        place = place.parent
    return place.stat().st_dev == _DEVICES.stat().st_dev
