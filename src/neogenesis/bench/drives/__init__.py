"""Opening whatever a DRIVE argument names, and saying who it is. Whoever reads gets a sealed store."""

from __future__ import annotations

from contextlib import closing, suppress
from dataclasses import replace
from pathlib import Path

from neogenesis.bench.drives.device import DeviceProvider
from neogenesis.bench.drives.image import ImageProvider
from neogenesis.bench.drives.losses import losses_of
from neogenesis.bench.drives.provider import Connected, DriveProvider, Hardware, OpenDrive, OpenTarget, Parting
from neogenesis.bench.drives.stand_in import SimulatedProvider
from neogenesis.bench.drives.system import FILE
from neogenesis.core.drive import Drive, Identity, Sighting
from neogenesis.core.errors import NeogenesisError, Refused
from neogenesis.core.extent import Extents
from neogenesis.core.store import Grip, LostStore

__all__ = [
    "Connected",
    "DriveProvider",
    "Hardware",
    "OpenDrive",
    "OpenTarget",
    "Parting",
    "confirm_tail",
    "connected_drives",
    "insertion_of",
    "is_hardware",
    "known_files",
    "make_safe",
    "open_sealed",
    "open_source",
    "pace_of",
    "place_of",
    "provider_of",
    "refuse_alike",
    "refuse_empty",
    "same_bytes",
    "sighting_of",
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

    With the grip `look` nothing may be read but who the drive is; a transfer may be writing to it. With the grip `hold`
    all of it is going to be read: a drive that reports no bytes is refused.
    """
    opened = provider_of(name).open(name, sector_size, grip)
    if grip == "hold":
        try:
            refuse_empty(name, opened.drive)
        except Refused:
            opened.close()
            raise
    return opened


def open_source(
    name: str,
    sector_size: int | None = None,
    grip: Grip = "share",
    region_map: Path | None = None,
    own_map: Path | None = None,
    lost: Extents | None = None,
) -> OpenDrive:
    """As `open_sealed`, for what is read in the place of an old drive: what an image or a rescue lost is lost here too.

    `region_map` and `own_map` as in `losses_of`; `lost` is what is known already. Raises BadRecord or Refused for a
    `region_map` that does not tell of it.
    """
    opened = open_sealed(name, sector_size, grip)
    try:
        found = losses_of(opened, name, region_map, own_map)
        lost = lost.union(found) if lost and found else (found if found is not None else lost)
        return replace(opened, store=LostStore(opened.store, lost) if lost else opened.store, lost=lost)
    except BaseException:
        opened.close()
        raise


def refuse_empty(name: str, drive: Drive) -> None:
    """Raises Refused for a drive that reports no bytes, such as a reader without a card."""
    if not drive.size_bytes:
        raise Refused(
            "no-bytes",
            f"“{name}” reports no bytes at all: nothing is in it, or it has failed; nothing was read or written.",
            "Put the medium in, or try another cable and another dock.",
        )


def confirm_tail(drive: Drive) -> str:
    """What a person types to confirm: the last four of the serial, else of the device or file name."""
    return drive.serial[-4:] if drive.serial else provider_of(drive.path).tail(Path(drive.path))


def known_files(name: str) -> frozenset[str]:
    """The files that hold the bytes of a drive, each by device and inode; none for what stands on no file."""
    with suppress(OSError):
        return frozenset(key for key in provider_of(name).backing(name) if key.startswith(FILE))
    return frozenset()


def insertion_of(name: str) -> str:
    """What tells this putting in of the drive from any other; empty where nothing does."""
    return provider_of(name).insertion(name)


def sighting_of(opened: OpenDrive, mark: str = "") -> Sighting:
    """Who an open drive is, and which files hold it; `mark` where its ends were read."""
    return Sighting(opened.drive.identity, mark, known_files(opened.drive.path))


def refuse_alike(name: str, drive: Drive) -> None:
    """Raises Refused while another drive that is connected says it is the same one."""
    others = provider_of(name).alike(name, drive)
    if others:
        raise Refused(
            "two-alike",
            f"Two drives that are connected say they are the same one (“{name}” and “{others[0]}”), so nobody can tell "
            "which is meant; nothing was written.",
            "Unplug one of them.",
        )


def place_of(name: str, identity: Identity, what: str) -> str:
    """Where a drive of a record is now: as it was named, else wherever it came back. Raises BadArgument or Refused.

    `what` names the option that says where it is, for a drive that cannot be found by itself.
    """
    try:
        with closing(open_sealed(name, grip="look")) as opened:
            if opened.drive.identity.is_same(identity) or not identity.serial:
                return name
    except NeogenesisError:
        if not identity.serial:
            raise
    found = [place for home in _homes for place in home.again(name, identity)]
    if len(found) == 1:
        return found[0]
    who = f"{identity.model} {identity.serial}".strip()
    text = f"The drive {who} is not connected" if not found else f"Two drives say that they are {who}"
    raise Refused("drive-missing", f"{text}; nothing was written.", f"Connect it, or say with {what} where it is now.")


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
