"""Opening whatever a DRIVE argument names, and saying who it is. Whoever reads gets a sealed store."""

from __future__ import annotations

from pathlib import Path

from neogenesis.bench.drives.device import DeviceProvider
from neogenesis.bench.drives.image import ImageProvider
from neogenesis.bench.drives.provider import Connected, DriveProvider, Hardware, OpenDrive, OpenTarget, Parting
from neogenesis.bench.drives.stand_in import SimulatedProvider
from neogenesis.core.drive import Drive
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.store import Grip

__all__ = [
    "Connected",
    "DriveProvider",
    "Hardware",
    "OpenDrive",
    "OpenTarget",
    "Parting",
    "confirm_tail",
    "connected_drives",
    "is_hardware",
    "make_safe",
    "open_sealed",
    "open_target",
    "pace_of",
    "provider_of",
    "same_bytes",
]

_images = ImageProvider()
#: Asked in this order; the last one takes what nobody else claims.
_devices = DeviceProvider()
_homes: tuple[DriveProvider, ...] = (SimulatedProvider(_images), _devices, _images)


def provider_of(name: str) -> DriveProvider:
    """The home of a drive."""
    return next(home for home in _homes if home.claims(name))


def is_hardware(name: str) -> bool:
    """Whether a drive of that name is a device, real or simulated, and not just a file."""
    return provider_of(name) is not _images


def connected_drives() -> list[Connected]:
    """The drives of this machine, as the system knows them: none is opened, so a failing one is not touched by it."""
    return _devices.connected()


def open_sealed(name: str, sector_size: int | None = None, grip: Grip = "share") -> OpenDrive:
    """Open a drive that can only be read, and say who it is. Raises BadArgument or Refused in words.

    With the grip `look` nothing may be read but who the drive is; a transfer may be writing to it.
    """
    return provider_of(name).open(name, sector_size, grip)


def open_target(name: str, sector_size: int) -> OpenTarget:
    """Open a drive for writing, exclusively; raises Refused while anyone uses it."""
    return provider_of(name).open_target(name, sector_size)


def confirm_tail(drive: Drive) -> str:
    """What a person types to confirm: the last four of the serial, else of the device or file name."""
    return drive.serial[-4:] if drive.serial else provider_of(drive.path).tail(Path(drive.path))


def same_bytes(one: str, other: str) -> bool:
    """Whether two DRIVE arguments lead to the same bytes, by whatever name and through whatever stands between."""
    return bool(provider_of(one).backing(one) & provider_of(other).backing(other))


def pace_of(*names: str) -> float:
    """How much faster than the wall clock the time of these drives goes; 1 for real ones, and for what is not there."""
    paces = [1.0]
    for name in names:
        try:
            opened = open_sealed(name, grip="look")
        except NeogenesisError:
            continue
        paces.append(opened.hardware.pace)
        opened.close()
    return max(paces)


def make_safe(name: str) -> Parting:
    """Flush a drive and switch it off where that can be done. Raises Refused while it is in use."""
    return provider_of(name).make_safe(name)
