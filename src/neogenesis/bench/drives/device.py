"""Drives behind device nodes: opened by this process itself, or by the disk service where only that one may."""

from __future__ import annotations

import errno
import os
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from neogenesis.bench.drives import service
from neogenesis.bench.drives.guard import Guard
from neogenesis.bench.drives.provider import Connected, Hardware, OpenDrive, OpenTarget, Parting
from neogenesis.bench.drives.system import BlockSystem, number_text
from neogenesis.core.drive import Drive, Identity
from neogenesis.core.errors import BadArgument, Refused
from neogenesis.core.store import FileStore, Grip, PathOpener, ReadWay, SealedFileStore, choose_way, device

_BUSES = {"usb": "usb-sata", "ata": "sata", "scsi": "sata"}


class DeviceOpener:
    """Opens a device node; without the right to, the desktop's disk service opens it and hands over the descriptor."""

    def __init__(self, path: Path) -> None:
        self._path, self._own = path, PathOpener(path)

    @property
    def name(self) -> str:
        return str(self._path)

    def __call__(self, flags: int) -> int:
        try:
            return self._own(flags)
        except PermissionError as error:
            if error.errno != errno.EACCES:
                raise
            found = service.open_device(self._path, flags)
            if found is None:
                raise
            return found


class RealHardware(Hardware):
    """A drive with a sensor of its own, perhaps."""

    def __init__(self, store: SealedFileStore | FileStore, system: BlockSystem, guard: Guard | None = None) -> None:
        self._store, self._guard = store, guard
        self._sensors = system.sensors(system.folder(number_text(store.number)))  # a partition has none

    def temperature_c(self) -> float | None:
        try:
            return int(self._sensors[0].read_text()) / 1000 if self._sensors else None
        except (OSError, ValueError):
            return None

    def close(self) -> None:
        if self._guard is not None:
            self._guard.close()

    def best_way(self, seconds: Callable[[], float]) -> ReadWay | None:
        return choose_way(self._store, seconds)


class DeviceProvider:
    """Every block device of this machine."""

    def __init__(self, system: BlockSystem | None = None) -> None:
        self.system = system or BlockSystem()

    def claims(self, name: str) -> bool:
        return Path(name).is_block_device()

    def open(self, name: str, sector_size: int | None, grip: Grip) -> OpenDrive:
        opener = DeviceOpener(Path(name))
        store = SealedFileStore(opener, sector_size, grip)
        guard = Guard(opener(os.O_RDONLY)) if grip == "hold" else None
        return OpenDrive(self._who(name, store, grip == "hold"), store, RealHardware(store, self.system, guard))

    def open_target(self, name: str, sector_size: int) -> OpenTarget:
        number = number_text(Path(name).stat().st_rdev)
        used = self.system.in_use([number])
        if used:
            raise Refused(
                "mounted",
                f"“{name}” is mounted or in use ({used}); nothing was written.",
                "Unmount it, after making sure that it is the right one.",
            )
        store = FileStore(DeviceOpener(Path(name)))
        try:
            refuse_partition(self.system, number_text(store.number), name)
            store.use(ReadWay(direct=True))
            return OpenTarget(self._who(name, store, True), store, RealHardware(store, self.system))
        except BaseException:
            store.close()
            raise

    def connected(self) -> list[Connected]:
        """Every drive of this machine, in the order of its names; none of them is opened or asked."""
        found = []
        for folder in self.system.drives():
            number, name = self.system.text(folder / "dev"), f"/dev/{folder.name}"
            used = self.system.in_use([number])
            logical = int(self.system.text(folder / "queue/logical_block_size") or 512)
            physical = int(self.system.text(folder / "queue/physical_block_size") or 0)
            size = int(self.system.text(folder / "size") or 0) * 512  # always in units of 512 bytes
            found.append(
                Connected(
                    drive=self._described(name, number, size, logical, physical, bool(used)),
                    in_use=used,
                    removable=self.system.text(folder / "removable") == "1",
                    read_only=self.system.text(folder / "ro") == "1",
                )
            )
        return found

    def _who(self, name: str, store: SealedFileStore | FileStore, held: bool) -> Drive:
        """From the open descriptor: the name may mean another drive by now. What we hold ourselves nobody else has."""
        number = number_text(store.number)
        used = not held and bool(self.system.in_use([number]))
        path = str(Path(name).resolve())
        return self._described(path, number, store.size_bytes, store.sector_size, store.physical_sector_bytes, used)

    def _described(self, path: str, number: str, size: int, sector: int, physical: int, used: bool) -> Drive:
        folder = self.system.folder(number)
        known = self._udev(number)
        node = folder.resolve().name
        return Drive(
            path=path,
            size_bytes=size,
            sector_size=sector,
            physical_sector_size=physical,
            mounted=used,
            model=known.get("ID_MODEL", "").replace("_", " ") or self.system.text(folder / "device/model"),
            serial=known.get("ID_SERIAL_SHORT", "") or self.system.text(folder / "device/serial"),
            bus=_bus(node, known),
            rotational=self.system.text(folder / "queue/rotational") == "1" and not node.startswith("loop"),
            timeout_s=self.system.timeout_s(folder),
        )

    def _udev(self, number: str) -> dict[str, str]:
        """What the system's device manager knows of a block device."""
        lines = self.system.text(Path("/run/udev/data") / f"b{number}").splitlines()
        return dict(line[2:].partition("=")[::2] for line in lines if line.startswith("E:"))

    def can_make(self, name: str) -> bool:
        return False

    def make(self, name: str, size_bytes: int) -> None:
        raise BadArgument(f"“{name}” is hardware; it cannot be made.", "Name an image file.")

    def refuse_as_target(self, name: str) -> None:
        refuse_partition(self.system, number_text(Path(name).stat().st_rdev), name)

    def backing(self, name: str) -> set[str]:
        return self.system.below(number_text(Path(name).stat().st_rdev))

    def insertion(self, name: str) -> str:
        """The kernel counts every putting in, of a medium into a reader as well; else when the system first saw it."""
        with suppress(OSError):
            number = number_text(Path(name).stat().st_rdev)
            counted = self.system.text(self.system.folder(number) / "diskseq")
            return f"seq:{counted}" if counted else f"seen:{self._first_seen(number)}"
        return ""

    def _first_seen(self, number: str) -> str:
        lines = self.system.text(Path("/run/udev/data") / f"b{number}").splitlines()
        return next((line[2:] for line in lines if line.startswith("I:")), "")

    def alike(self, name: str, drive: Drive) -> list[str]:
        own = self.backing(name)
        others = [c.drive.path for c in self.connected() if drive.serial and c.drive.identity.is_same(drive.identity)]
        return [path for path in others if not self.backing(path) & own]

    def again(self, name: str, identity: Identity) -> list[str]:
        return [c.drive.path for c in self.connected() if identity.serial and c.drive.identity.is_same(identity)]

    def tail(self, path: Path) -> str:
        return path.name[-4:]

    def make_safe(self, name: str) -> Parting:
        path = Path(name)
        used = self.system.in_use([number_text(path.stat().st_rdev)])
        if used:
            raise Refused(
                "mounted", f"“{name}” is in use ({used}) and must not be pulled out yet.", "Unmount it first."
            )
        _flush(path)
        why = service.power_off(path)
        if not why:
            return Parting(True, "Everything is on the medium and the drive is switched off; it may be pulled out.")
        return Parting(
            False,
            f"Everything is on the medium. The system cannot switch this drive off ({why}): switch its dock off first.",
        )


def refuse_partition(system: BlockSystem, number: str, name: str) -> None:
    """A new drive is a whole drive; a plan for a part of one would put a table inside a partition."""
    if system.is_partition(number):
        raise Refused(
            "partition",
            f"“{name}” is a partition, not a drive; nothing was written.",
            "Name the whole drive that it is on, after making sure that it is the right one.",
        )


def _bus(name: str, known: dict[str, str]) -> str:
    if name.startswith("nvme"):
        return "nvme"
    if name.startswith("mmcblk"):
        return "emmc"
    return _BUSES.get(known.get("ID_BUS", ""), "file")


def _flush(path: Path) -> None:
    descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        os.fsync(descriptor)
        device.drop_buffers(descriptor)
    except OSError:
        return  # no right to ask; the transfer has synced everything that it wrote
    finally:
        os.close(descriptor)
