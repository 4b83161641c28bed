"""What this machine can do for the bench, what will not work on it without which, and how that is had.

Nothing is written and no drive is opened: places are looked at, services asked whether they are there.
"""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from typing import ClassVar

from jeepney.bus_messages import message_bus

from neogenesis.bench.drives import connected_drives
from neogenesis.bench.drives.diagnosis import HELPER_INSTALLED
from neogenesis.bench.emulator.trial import firmware_files
from neogenesis.bench.processes.bus import system_bus
from neogenesis.bench.processes.folders import bench_folder
from neogenesis.bench.processes.reader import reader_answers
from neogenesis.bench.processes.utilities import PACKAGES, find_tool
from neogenesis.bench.register import existing_register
from neogenesis.core.errors import NeogenesisError, ToolFailed
from neogenesis.core.record import Record
from neogenesis.core.units import GIB, both_text

_DISK_SERVICE = "org.freedesktop.UDisks2"
_LEAST_ROOM_BYTES = 4 * GIB
#: What each utility is for, in the words of the window.
_USES = {
    "growing and shrinking NTFS volumes": ("ntfsresize", "ntfsfix", "mkntfs"),
    "growing, shrinking and checking ext volumes": ("e2fsck", "resize2fs", "mke2fs", "tune2fs"),
    "start-up volumes and sticks": ("mkfs.fat", "fsck.fat", "mcopy", "mkfs.exfat", "fsck.exfat"),
    "swap space": ("mkswap",),
    "system images of the NT family": ("wimlib-imagex", "hivexregedit"),
}


class Item(Record, frozen=True, kw_only=True):
    """One thing that was looked at. `text` says what works, or what does not; `do` how it is had."""

    code: str
    ok: bool
    text: str
    do: str = ""


class Examined(Record, frozen=True, kw_only=True):
    """Everything that was looked at, what is missing first."""

    SCHEMA: ClassVar[str] = "neogenesis.doctor/1"

    schema: str = SCHEMA
    items: tuple[Item, ...]

    @property
    def is_well(self) -> bool:
        return all(item.ok for item in self.items)


def examine(bench: str = "") -> Examined:
    """Look at all of it; takes a second or two. `bench` is a folder or URL, empty for this person's own."""
    items = [item for look in _LOOKS for item in look(bench)]
    return Examined(items=tuple(sorted(items, key=lambda item: item.ok)))


def _item(code: str, ok: bool, yes: str, no: str, do: str) -> Item:
    return Item(code=code, ok=ok, text=yes if ok else no, do="" if ok else do)


def _rights(bench: str) -> Iterator[Item]:
    drives = connected_drives()
    closed = [one.drive.path for one in drives if not os.access(one.drive.path, os.R_OK)]
    service = bool(closed) and _answers(_DISK_SERVICE)
    own = (
        "Drives can be opened by this person directly." if drives else "No drive is connected that could be asked for."
    )
    yield _item(
        "drives",
        not closed or service,
        "Drives are opened through the desktop's disk service." if service else own,
        f"Drives cannot be opened: {', '.join(closed[:3])}.",
        "Start the disk service (udisks2), or run the program with the rights to read drives.",
    )


def _services(bench: str) -> Iterator[Item]:
    bus = system_bus()
    if bus is not None:
        bus.close()
    yield _item(
        "bus",
        bus is not None,
        "The system bus answers.",
        "There is no system bus, so no service can be asked for anything.",
        "Start dbus.",
    )
    yield _item(
        "disk-service",
        _answers(_DISK_SERVICE),
        "The disk service answers: drives can be opened without rights and switched off.",
        "The disk service does not answer: drives need rights to be opened, and are not switched off.",
        "Install and start udisks2.",
    )
    yield _item(
        "awake",
        _answers("org.freedesktop.login1"),
        "The machine is kept awake while a work runs.",
        "Nobody can keep the machine awake: it may fall asleep during a work, which then goes on when it wakes.",
        "Switch sleeping off in the desktop's settings while drives are copied.",
    )


def _answers(service: str) -> bool:
    """Whether a service is on the bus, or would be started when it is asked for something."""
    bus = system_bus()
    if bus is None:
        return False
    try:
        with closing(bus):
            if bus.send_and_get_reply(message_bus.NameHasOwner(service), timeout=2).body[0]:
                return True
            return service in bus.send_and_get_reply(message_bus.ListActivatableNames(), timeout=2).body[0]
    except (OSError, TimeoutError, IndexError):
        return False


def _utilities(bench: str) -> Iterator[Item]:
    for use, names in _USES.items():
        missing = [name for name in names if not _has(name)]
        packages = " ".join(sorted({PACKAGES.get(name, name) for name in missing}))
        yield _item(
            f"utility-{names[0]}",
            not missing,
            f"There is what is needed for {use}.",
            f"{', '.join(missing)} missing: no {use}.",
            f"Install {packages}.",
        )
    asks = shutil.which("pkexec") is not None and HELPER_INSTALLED.exists()
    yield _item(
        "health",
        _has("smartctl") and (os.geteuid() == 0 or asks or _answers(_DISK_SERVICE)),
        "Drives can be asked for their health.",
        "Drives cannot be asked for their health by a utility.",
        "Install smartmontools and pkexec; readings of the disk service are used where it has them.",
    )


def _has(name: str) -> bool:
    try:
        find_tool(name)
    except ToolFailed:
        return False
    return True


def _confinement(bench: str) -> Iterator[Item]:
    fuse = Path("/dev/fuse")
    yield _item(
        "fuse",
        fuse.exists() and os.access(fuse, os.R_OK | os.W_OK) and _has("fusermount3"),
        "Volumes can be shown to utilities as plain files.",
        "Volumes cannot be shown to utilities as files: none can be given another size.",
        "Install fuse3, and see that this person may use /dev/fuse.",
    )
    yield _item(
        "reader",
        reader_answers(),
        "What a customer's volume holds is read in a process of its own that can be ended.",
        "Files inside volumes cannot be listed: the process that reads them does not start.",
        "Install the program anew.",
    )


def _emulator(bench: str) -> Iterator[Item]:
    yield _item(
        "trial",
        _has("qemu-system-x86_64") and firmware_files() is not None,
        "Starts can be tried in an emulated machine.",
        "No start can be tried in an emulated machine.",
        "Install qemu-system-x86 and ovmf.",
    )
    yield _item(
        "kvm",
        os.access("/dev/kvm", os.R_OK | os.W_OK),
        "Trials run at the speed of this machine.",
        "Trials are emulated whole, and take longer.",
        "Switch virtualisation on in the firmware, and let this person use /dev/kvm.",
    )


def _room(bench: str) -> Iterator[Item]:
    own = Path(bench) if bench and "://" not in bench else bench_folder()
    for code, folder in (("room-work", Path(tempfile.gettempdir())), ("room-bench", _first_there(own.absolute()))):
        try:
            free = shutil.disk_usage(folder).free
        except OSError:
            free = 0
        text = f"{both_text(free)} are free at {folder}."
        do = "Free space there: volumes that change their size are prepared in files."
        yield _item(code, free >= _LEAST_ROOM_BYTES, text, text, do)


def _first_there(folder: Path) -> Path:
    """The folder, or the nearest one above it that exists."""
    return next(place for place in (folder, *folder.parents) if place.exists())


def _records(bench: str) -> Iterator[Item]:
    register, count, trouble = (
        existing_register(bench),
        0,
        "There are no records of a bench that could be asked whose a drive is.",
    )
    do = "Open the window once, or name a bench with --bench."
    if register is not None:
        try:
            with closing(register):
                count = len(register.holdings())
            trouble = ""
        except NeogenesisError as error:
            trouble, do = error.text, error.remedy
    yield _item("register", not trouble, f"The register of drives answers; it holds {count}.", trouble, do)


_LOOKS: tuple[Callable[[str], Iterator[Item]], ...] = (
    _rights,
    _services,
    _utilities,
    _confinement,
    _emulator,
    _room,
    _records,
)
