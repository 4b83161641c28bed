"""Opening whatever a DRIVE argument names, and saying who it is.

A drive is a block device, a raw image, or a simulated drive. Whoever reads gets a sealed store.
"""

from __future__ import annotations

import os
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import msgspec

from neogenesis.bench.mounts import backing, in_use
from neogenesis.bench.simulated import SimulatedDrive, SimulatedTarget, load_spec
from neogenesis.core.errors import BadArgument, Refused
from neogenesis.core.image import Qcow2Store, is_qcow2
from neogenesis.core.store import FileStore, ReadableStore, SealedFileStore, WritableStore
from neogenesis.core.survey import Drive
from neogenesis.core.table import guess_sector_size

SIMULATED_SUFFIX = ".drive.json"


@dataclass(frozen=True, slots=True)
class OpenDrive:
    """An open drive and who it is."""

    drive: Drive
    store: ReadableStore

    def close(self) -> None:
        self.store.close()


@dataclass(frozen=True, slots=True)
class OpenTarget:
    """A drive opened for writing."""

    drive: Drive
    store: WritableStore

    def close(self) -> None:
        self.store.close()


def open_sealed(name: str, sector_size: int | None = None, locked: bool = True) -> OpenDrive:
    """Open a drive that can only be read. Raises BadArgument or Refused in words.

    Without the lock nothing may be read but who the drive is; a transfer may be writing to it.
    """
    path = Path(name)
    if name.endswith(SIMULATED_SUFFIX):
        store = SimulatedDrive(path, locked=locked)
        return OpenDrive(_simulated(path, store), store)
    sealed = SealedFileStore(path, sector_size, locked=locked)
    try:
        if not sealed.is_block_device:
            if is_qcow2(sealed.read(0, min(4, sealed.size_bytes))):
                sealed.close()
                return _open_image(path, sector_size, locked)
            sealed.sector_size = sector_size or guess_sector_size(sealed)
        return OpenDrive(_real(path, sealed), sealed)
    except BaseException:
        sealed.close()
        raise


def _open_image(path: Path, sector_size: int | None, locked: bool) -> OpenDrive:
    """A qcow2 image, as the drive that is in it."""
    store = Qcow2Store(path, locked=locked)
    store.sector_size = sector_size or guess_sector_size(store)
    drive = Drive(
        path=str(path.resolve()),
        size_bytes=store.size_bytes,
        sector_size=store.sector_size,
        changed_ns=path.stat().st_mtime_ns,
    )
    return OpenDrive(drive, store)


def open_target(name: str, sector_size: int) -> OpenTarget:
    """Open a drive for writing, exclusively. `sector_size` is the plan's; an image file has none of its own."""
    path = Path(name)
    if name.endswith(SIMULATED_SUFFIX):
        simulated = SimulatedTarget(path)
        return OpenTarget(_simulated(path, simulated), simulated)
    mounted = in_use(path)
    if mounted:
        raise Refused(
            "mounted",
            f"“{name}” is mounted or in use ({mounted}); nothing was written.",
            "Unmount it, after making sure that it is the right one.",
        )
    store = FileStore(path)
    if not store.is_block_device:
        store.sector_size = sector_size
        if is_qcow2(store.read(0, min(4, store.size_bytes))):
            store.close()
            raise Refused(
                "image",
                f"“{name}” is a compressed image, not a drive; nothing was written.",
                "Name a drive or a raw image to write to.",
            )
    return OpenTarget(_real(path, store), store)


def _simulated(path: Path, store: SimulatedDrive) -> Drive:
    spec = store.spec
    image = (path.parent / spec.image).resolve()
    return Drive(
        path=str(path.resolve()),
        size_bytes=store.size_bytes,
        sector_size=spec.sector_size,
        model=spec.model,
        serial=spec.serial,
        bus=spec.bus,
        rotational=spec.rotational,
        mounted=spec.mounted or bool(in_use(image)),
        changed_ns=image.stat().st_mtime_ns,
        reading=spec.health,
    )


def _real(path: Path, store: SealedFileStore) -> Drive:
    resolved = path.resolve()
    drive = Drive(
        path=str(resolved),
        size_bytes=store.size_bytes,
        sector_size=store.sector_size,
        mounted=bool(in_use(path)),
    )
    if not store.is_block_device:
        return msgspec.structs.replace(drive, changed_ns=path.stat().st_mtime_ns)
    number = resolved.stat().st_rdev
    device = f"{os.major(number)}:{os.minor(number)}"
    system = Path("/sys/dev/block") / device
    known = _udev(device)
    return msgspec.structs.replace(
        drive,
        model=known.get("ID_MODEL", "").replace("_", " ") or _text(system / "device/model"),
        serial=known.get("ID_SERIAL_SHORT", "") or _text(system / "device/serial"),
        bus=_bus(resolved.name, known),
        rotational=_text(system / "queue/rotational") == "1" and not resolved.name.startswith("loop"),
        physical_sector_size=store.physical_sector_bytes,
    )


def _text(path: Path) -> str:
    with suppress(OSError, UnicodeDecodeError):
        return path.read_text().strip()
    return ""


def _udev(device: str) -> dict[str, str]:
    """What the system's device manager knows of a block device."""
    lines = _text(Path("/run/udev/data") / f"b{device}").splitlines()
    return dict(line[2:].partition("=")[::2] for line in lines if line.startswith("E:"))


def _bus(name: str, known: dict[str, str]) -> str:
    if name.startswith("nvme"):
        return "nvme"
    if name.startswith("mmcblk"):
        return "emmc"
    return {"usb": "usb-sata", "ata": "sata", "scsi": "sata"}.get(known.get("ID_BUS", ""), "file")


def confirm_tail(drive: Drive) -> str:
    """What a person types to confirm: the last four of the serial, else of the device or file name."""
    path = Path(drive.path)
    if drive.serial:
        return drive.serial[-4:]
    if path.is_block_device():
        return path.name[-4:]
    return (path.name.removesuffix(SIMULATED_SUFFIX) if path.name.endswith(SIMULATED_SUFFIX) else path.stem)[-4:]


def same_bytes(one: str, other: str) -> bool:
    """Whether two DRIVE arguments lead to the same bytes, by whatever name: a link, a loop device, a stand-in."""
    return bool(backing(_image_of(one)) & backing(_image_of(other)))


def _image_of(name: str) -> Path:
    path = Path(name)
    if not name.endswith(SIMULATED_SUFFIX):
        return path
    try:
        return path.parent / load_spec(path).image
    except BadArgument:
        return path


def clock_factor(*names: str) -> float:
    """How much faster than the wall clock the time of these drives goes; 1 for real ones."""
    factors = [load_spec(Path(n)).clock_factor for n in names if n.endswith(SIMULATED_SUFFIX)]
    return max(factors, default=1.0)
