"""What a system records of itself: release, people, programs, devices, last shutdown, firmware mode.

Read from the registry hives of the NT family and from the files and package databases of Linux systems. Anything that
is damaged becomes a line of `trouble`, never a failure.

Sources: the registry's documented keys; `os-release(5)`, `passwd(5)`, `fstab(5)`, `deb-version`'s status file, the
`desc` files of pacman, the `installed` file of apk; `wtmp(5)`.
"""

from __future__ import annotations

import re
import shlex
import struct
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from typing import Literal

from neogenesis.core.errors import Damaged
from neogenesis.core.record import Record
from neogenesis.core.system.tree import FileTree, HiveKey

_CONFIG = "Windows/System32/config/"
_CURRENT = "Microsoft\\Windows\\CurrentVersion\\Uninstall"
_CURRENT_32 = "WOW6432Node\\Microsoft\\Windows\\CurrentVersion\\Uninstall"
_RELEASE = "Microsoft\\Windows NT\\CurrentVersion"
_PROTECTION = f"{_RELEASE}\\SoftwareProtectionPlatform"
_PROFILES = f"{_RELEASE}\\ProfileList"
_BUSES = ("PCI", "USB", "HDAUDIO", "ACPI", "SCSI")
#: FILETIME counts 100 ns from 1601-01-01 (Windows data types, MS-DTYP 2.3.3).
EPOCH_1601_S = 11_644_473_600
_MOST_PROGRAMS, _MOST_DEVICES, _MOST_PEOPLE = 5000, 3000, 500
_LONGEST = 300
_PACKAGE_BYTES = 64 << 20
_FIRST_PERSON, _NOBODY = 1000, 65_534
#: A record of 64-bit Linux: type, process, line, id, user, host, exit, session, seconds and microseconds.
_WTMP = struct.Struct("<h2xi32s4s32s256shhi2i16x20x")
_RUN_LEVEL, _BOOT = 1, 2

FirmwareMode = Literal["", "uefi", "legacy"]


class Person(Record, frozen=True, kw_only=True):
    """Somebody with files of their own; `folder` relative to the root of the volume."""

    name: str
    folder: str = ""


class Program(Record, frozen=True, kw_only=True):
    name: str
    version: str = ""
    publisher: str = ""
    size_bytes: int | None = None


class Device(Record, frozen=True, kw_only=True):
    """As the system recorded it. `service` is the driver that it used; empty where it had none."""

    name: str
    kind: str = ""
    hardware_ids: tuple[str, ...] = ()
    compatible_ids: tuple[str, ...] = ()
    service: str = ""

    @property
    def has_driver(self) -> bool:
        return bool(self.service)


class Inside(Record, frozen=True, kw_only=True):
    """`last_shutdown` and `installed` in ISO 8601; None and empty where nothing is recorded.

    `licence_on_drive`: whether a licence is recorded there; what it is, is never read.
    """

    name: str = ""
    release: str = ""
    build: str = ""
    installed: str = ""
    computer: str = ""
    language: str = ""
    people: tuple[Person, ...] = ()
    last_shutdown: str = ""
    fast_start: bool | None = None
    firmware_mode: FirmwareMode = ""
    licence_on_drive: bool | None = None
    programs: tuple[Program, ...] = ()
    devices: tuple[Device, ...] = ()
    trouble: tuple[str, ...] = ()


def look_inside(tree: FileTree, family: str | None) -> Inside | None:
    """What the system on a volume says of itself; None where there is no such system."""
    if family == "linux":
        return _linux(tree)
    if family in ("nt", "meridian"):
        return _nt(tree)
    return None


# The NT family


def _nt(tree: FileTree) -> Inside | None:
    trouble: list[str] = []
    software = _keys(
        tree, "SOFTWARE", ((_RELEASE, 0), (_PROTECTION, 0), (_PROFILES, 1), (_CURRENT, 1), (_CURRENT_32, 1)), trouble
    )
    select = _keys(tree, "SYSTEM", (("Select", 0),), trouble)[0]
    if all(key is None for key in (*software, select)):
        return Inside(trouble=tuple(trouble)) if trouble else None
    number = select.number("Current") if select is not None else None
    control = f"ControlSet{number if number is not None and 0 < number < 1000 else 1:03}"
    wanted = (
        (f"{control}\\Control", 0),
        (f"{control}\\Control\\Windows", 0),
        (f"{control}\\Control\\ComputerName\\ComputerName", 0),
        (f"{control}\\Control\\Nls\\Language", 0),
        (f"{control}\\Control\\Session Manager\\Power", 0),
        *((f"{control}\\Enum\\{bus}", 2) for bus in _BUSES),
    )
    own, windows, computer, language, power, *buses = _keys(tree, "SYSTEM", wanted, trouble)
    release, protection, profiles, *lists = software
    fast = power.number("HiberbootEnabled") if power is not None else None
    mode = own.number("PEFirmwareType") if own is not None else None
    modes: dict[int | None, FirmwareMode] = {1: "legacy", 2: "uefi"}
    installed = release.number("InstallDate") if release is not None else None
    return Inside(
        name=_cut(release.text("ProductName")) if release is not None else "",
        release=_cut(release.text("DisplayVersion") or release.text("ReleaseId")) if release is not None else "",
        build=_cut(release.text("CurrentBuild")) if release is not None else "",
        installed=_iso(float(installed)) if installed else "",
        computer=_cut(computer.text("ComputerName")) if computer is not None else "",
        language=_cut(language.text("InstallLanguage")) if language is not None else "",
        people=tuple(_profiles(profiles)),
        last_shutdown=_filetime(windows.raw("ShutdownTime")) if windows is not None else "",
        fast_start=None if fast is None else bool(fast),
        firmware_mode=modes.get(mode, ""),
        licence_on_drive="backupproductkeydefault" in protection.values if protection is not None else None,
        programs=tuple(_programs(lists)),
        devices=tuple(_devices(buses)),
        trouble=tuple(trouble),
    )


def _keys(tree: FileTree, hive: str, wanted: tuple[tuple[str, int], ...], trouble: list[str]) -> list[HiveKey | None]:
    path = f"{_CONFIG}{hive}"
    if not tree.which_exist([path]):
        return [None] * len(wanted)
    try:
        return tree.hive(path, wanted)
    except Damaged:
        text = f"The registry hive {hive} cannot be read."
        if text not in trouble:
            trouble.append(text)
        return [None] * len(wanted)


def _profiles(key: HiveKey | None) -> Iterator[Person]:
    """People have security ids that begin with S-1-5-21, or S-1-12-1 for accounts of an organisation."""
    for one in (key.keys if key is not None else ())[:_MOST_PEOPLE]:
        folder = one.text("ProfileImagePath").replace("\\", "/")
        if one.name.upper().startswith(("S-1-5-21-", "S-1-12-1-")) and folder:
            inside = re.sub(r"^(?:[A-Za-z]:|%SystemDrive%)/", "", folder, flags=re.IGNORECASE)
            yield Person(name=_cut(inside.rpartition("/")[2]), folder=_cut(inside))


def _programs(lists: list[HiveKey | None]) -> Iterator[Program]:
    """What can be uninstalled: no updates, and no parts of the system."""
    seen: set[tuple[str, str]] = set()
    for key in lists:
        for one in key.keys if key is not None else ():
            name = _cut(one.text("DisplayName"))
            hidden = one.number("SystemComponent") == 1 or one.text("ParentKeyName") or one.text("ReleaseType")
            version = _cut(one.text("DisplayVersion"))
            if not name or hidden or (name, version) in seen or len(seen) >= _MOST_PROGRAMS:
                continue
            seen.add((name, version))
            size = one.number("EstimatedSize")  # in KiB
            yield Program(
                name=name,
                version=version,
                publisher=_cut(one.text("Publisher")),
                size_bytes=size * 1024 if size is not None and 0 <= size < 1 << 40 else None,
            )


def _devices(buses: list[HiveKey | None]) -> Iterator[Device]:
    """Instances below bus and model; what stands behind the last semicolon is for people."""
    count = 0
    for bus in buses:
        for model in bus.keys if bus is not None else ():
            for one in model.keys:
                count += 1
                if count > _MOST_DEVICES:
                    return
                name = one.text("FriendlyName") or one.text("DeviceDesc")
                yield Device(
                    name=_cut(name.rpartition(";")[2]) or model.name,
                    kind=_cut(one.text("Class")),
                    hardware_ids=one.texts("HardwareID")[:20],
                    compatible_ids=one.texts("CompatibleIDs")[:20],
                    service=_cut(one.text("Service")),
                )


def _filetime(raw: bytes) -> str:
    return _iso(int.from_bytes(raw, "little") / 1e7 - EPOCH_1601_S) if len(raw) == 8 else ""


# Linux systems


def _linux(tree: FileTree) -> Inside:
    trouble: list[str] = []
    release = _words(_text(tree, "etc/os-release") or _text(tree, "usr/lib/os-release"))
    fstab = _text(tree, "etc/fstab")
    locale = _words(_text(tree, "etc/locale.conf") or _text(tree, "etc/default/locale"))
    entries = [line.split() for line in fstab.splitlines() if line.strip() and not line.startswith("#")]
    mounts = {fields[1] for fields in entries if len(fields) > 1}
    mode: FirmwareMode = "uefi" if mounts & {"/boot/efi", "/efi"} else ""
    programs = next((found for how in _PACKAGES if (found := tuple(how(tree)))), ())
    return Inside(
        name=_cut(release.get("NAME", "")),
        release=_cut(release.get("VERSION_ID", "") or release.get("VERSION", "")),
        build=_cut(release.get("BUILD_ID", "")),
        computer=_cut(_text(tree, "etc/hostname").strip()),
        language=_cut(locale.get("LANG", "")),
        people=tuple(_accounts(_text(tree, "etc/passwd"))),
        last_shutdown=_last_shutdown(tree),
        firmware_mode=mode,
        programs=programs,
        trouble=tuple(trouble),
    )


def _text(tree: FileTree, path: str, most: int = 1 << 20) -> str:
    return (tree.read(path, most) or b"").decode("utf-8", "replace")


def _words(text: str) -> dict[str, str]:
    """KEY=value lines, quotes removed."""
    found = {}
    for line in text.splitlines():
        key, is_there, value = line.partition("=")
        if is_there:
            try:
                found[key.strip()] = " ".join(shlex.split(value))
            except ValueError:
                found[key.strip()] = value.strip()
    return found


def _accounts(text: str) -> Iterator[Person]:
    for line in text.splitlines()[:20_000]:
        fields = line.split(":")
        if len(fields) >= 7 and fields[2].isdigit() and _FIRST_PERSON <= int(fields[2]) < _NOBODY:
            yield Person(name=_cut(fields[0]), folder=_cut(fields[5].strip("/")))


def _last_shutdown(tree: FileTree) -> str:
    """The last record of a shutdown in wtmp; empty where the machine was simply switched off."""
    raw = tree.read("var/log/wtmp", 4 << 20) or b""
    latest, stopped = 0, False
    for at in range(0, len(raw) - _WTMP.size + 1, _WTMP.size):
        kind, _, _, _, user, *rest = _WTMP.unpack_from(raw, at)
        seconds = rest[4]
        if kind in (_RUN_LEVEL, _BOOT) and seconds >= latest:
            latest, stopped = seconds, user.startswith(b"shutdown")
    return _iso(float(latest)) if stopped else ""


def _debian(tree: FileTree) -> Iterator[Program]:
    for count, block in enumerate(_text(tree, "var/lib/dpkg/status", _PACKAGE_BYTES).split("\n\n")):
        if count >= _MOST_PROGRAMS:
            return
        fields = dict(line.split(": ", 1) for line in block.splitlines() if ": " in line and line[:1] not in " \t")
        if fields.get("Status", "").endswith(" installed") and fields.get("Package"):
            yield _package(fields["Package"], fields.get("Version", ""), fields.get("Installed-Size", ""), 1024)


def _alpine(tree: FileTree) -> Iterator[Program]:
    for count, block in enumerate(_text(tree, "lib/apk/db/installed", _PACKAGE_BYTES).split("\n\n")):
        if count >= _MOST_PROGRAMS:
            return
        fields = dict(line.split(":", 1) for line in block.splitlines() if line[1:2] == ":")
        if fields.get("P"):
            yield _package(fields["P"], fields.get("V", ""), fields.get("I", ""), 1)


def _arch(tree: FileTree) -> Iterator[Program]:
    """Folders `name-version-release`."""
    for name in sorted(tree.names("var/lib/pacman/local", _MOST_PROGRAMS)):
        parts = name.rsplit("-", 2)
        if len(parts) == 3:
            yield _package(parts[0], "-".join(parts[1:]), "", 1)


def _package(name: str, version: str, size: str, unit: int) -> Program:
    whole = int(size) * unit if size.isdigit() and len(size) < 16 else None
    return Program(name=_cut(name), version=_cut(version), size_bytes=whole)


_PACKAGES: tuple[Callable[[FileTree], Iterator[Program]], ...] = (_debian, _alpine, _arch)


def _iso(seconds: float) -> str:
    """Empty for a time that cannot be."""
    try:
        return datetime.fromtimestamp(seconds, UTC).isoformat(timespec="seconds")
    except (ValueError, OverflowError, OSError):
        return ""


def _cut(text: str) -> str:
    """As one line, no longer than anybody reads, and of letters that can be written."""
    line = " ".join(text.replace("\0", " ").split())
    return line.encode("utf-8", "replace").decode("utf-8")[:_LONGEST]
