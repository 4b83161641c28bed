"""Where a file of the old system's people belongs on the new one, and what was the system's own.

What is the system's is judged by what a volume holds, not by names alone: a folder `dev` on a disk of projects is no
system's. Sources: the discoverable names of the filesystem hierarchy standard, and of the NT family's volumes.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

VolumeUse = Literal["nt", "linux", "startup", "data"]
#: Files at the root of a system's volume that are its own, whatever else is there.
_OF_SYSTEM = frozenset({"pagefile.sys", "hiberfil.sys", "swapfile.sys", "bootmgr", "bootnxt"})
#: Folders there that no person's volume has.
_ALWAYS_SYSTEM = re.compile(
    r"windows(\.old)?|program files( \(x86\))?|programdata|perflogs|msocache|\$recycle\.bin|\$windows\.~bt|"
    r"\$winreagent|system volume information|config\.msi|meridian|lost\+found|efi"
)
#: Files and folders that are a system's only beside a system of that family.
_BESIDE: dict[VolumeUse, re.Pattern[str]] = {
    "nt": re.compile(r"recovery|boot|documents and settings"),
    "linux": re.compile(
        r"boot|etc|usr|var|s?bin|lib(32|64|x32)?|opt|proc|sys|dev|run|tmp|root|snap|swapfile|vmlinuz(\.old)?|"
        r"initrd\.img(\.old)?"
    ),
    "startup": re.compile(
        r"boot|grub2?|loader|(vmlinuz|initrd|initramfs|config|system\.map|memtest86)[.\w+~-]*|(amd|intel)-ucode\.img"
    ),
}
_MARKS: tuple[tuple[VolumeUse, tuple[str, ...]], ...] = (
    ("nt", ("windows/system32/", "windows/system.ini", "windows/explorer.exe")),
    ("linux", ("etc/passwd", "etc/fstab", "etc/os-release", "usr/lib/os-release", "etc/hostname")),
    ("startup", ("grub/grub.cfg", "grub2/grub.cfg", "loader/loader.conf", "loader/entries/", "efi/boot/")),
)
_HOME_MARKS = frozenset({".profile", ".bashrc", ".bash_profile", ".bash_history", "ntuser.dat"})
_HOMES = frozenset({"users", "home", "documents and settings"})
_NOBODYS_HOMES = frozenset({"default", "default user", "all users", "lost+found"})
_SHARED_HOMES = frozenset({"public"})
_SETTINGS = frozenset({"appdata", "application data", "local settings"})
_MAIL = ("var/mail/", "var/spool/mail/")
_OWN_FILE_OF_HOMES = "desktop.ini"


@dataclass(frozen=True, slots=True)
class Belongs:
    """`parts` is where it goes from the root of its volume, none for what is the system's.

    `of_programs` is the folder that programs keep for a person in which it lies, `group` where it is counted when it
    stays out, `person` whose home it is in (as the old system called them).
    """

    parts: tuple[str, ...]
    group: str
    of_programs: bool = False
    person: str = ""


@dataclass(frozen=True, slots=True)
class Volume:
    """What a volume was used for, and folders at its root that are homes: one of its own for them has nothing else."""

    use: VolumeUse = "data"
    homes: frozenset[str] = frozenset()


def uses_of_volumes(files: Iterable[tuple[str, str]]) -> dict[str, Volume]:
    """What each volume was used for, by (volume, path) of all that it holds; those that hold only data are left out."""
    found: dict[str, VolumeUse] = {}
    homes: defaultdict[str, set[str]] = defaultdict(set)
    for volume, path in files:
        if found.get(volume) in ("nt", "linux"):
            continue
        folded = path.lstrip("/").casefold()
        use = next((use for use, marks in _MARKS if any(_is_mark(folded, mark) for mark in marks)), None)
        if use is not None:
            found[volume] = use
            continue
        parts = folded.split("/", 2)
        if len(parts) > 1 and parts[1] in _HOME_MARKS and parts[0] not in _HOMES:
            homes[volume].add(parts[0])
    return {
        volume: Volume(found.get(volume, "data"), frozenset(homes[volume]) if volume not in found else frozenset())
        for volume in {*found, *homes}
    }


def _is_mark(path: str, mark: str) -> bool:
    return path.startswith(mark) if mark.endswith("/") else path == mark


def belongs(path: str, family: str, volume: Volume = Volume(), is_folder: bool = False) -> Belongs:
    """Where a file, folder or link of such a volume goes on a system of that family."""
    use = volume.use
    parts = [p for p in path.split("/") if p not in ("", ".", "..")]
    if not parts:
        return Belongs((), path)
    top = parts[0].casefold()
    home = "home" if family == "linux" else "Users"
    shared = (home, "Public" if home == "Users" else "shared", "Returned")
    least = 1 if is_folder else 2  # a file beside the homes is nobody's home
    if top in volume.homes and len(parts) >= least:
        return _in_home(home, parts)
    if top in _HOMES and len(parts) == 1 and is_folder:
        return Belongs((), path)
    if top in _HOMES and len(parts) > 1:
        owner = parts[1].casefold()
        if owner in _NOBODYS_HOMES or (len(parts) == 2 and owner == _OWN_FILE_OF_HOMES):
            return Belongs((), "/".join(parts[:2]))
        if home == "home" and owner in _SHARED_HOMES:
            return Belongs((*shared, *parts[1:]), "/".join(parts[:2]))
        if len(parts) <= least:
            return Belongs((*shared, *parts), parts[0])
        return _in_home(home, parts[1:], parts[0])
    if use == "linux" and (mail := next((m for m in _MAIL if path.lstrip("/").startswith(m)), "")):
        rest = path.lstrip("/")[len(mail) :].split("/")
        return Belongs((home, rest[0], "Returned", "Mail", *(rest[1:] or rest)), mail.rstrip("/"), person=rest[0])
    own = _BESIDE.get(use)
    is_system = _ALWAYS_SYSTEM.fullmatch(top) or (len(parts) == 1 and top in _OF_SYSTEM)
    if is_system or (own is not None and own.fullmatch(top)):
        return Belongs((), parts[0] if len(parts) > 1 else path)
    return Belongs((*shared, *parts), "/".join(parts[:2]))


def _in_home(home: str, parts: list[str], above: str = "") -> Belongs:
    """`parts` begins with whose home it is."""
    owner, inner = parts[0], parts[1].casefold() if len(parts) > 1 else ""
    of_programs = inner in _SETTINGS or inner.startswith(("ntuser.", "."))
    before = [above, owner] if above else [owner]
    group = "/".join([*before, parts[1]] if of_programs else before)
    person = "" if owner.casefold() in _SHARED_HOMES else owner
    return Belongs((home, owner, *parts[1:]), group, of_programs, person)
