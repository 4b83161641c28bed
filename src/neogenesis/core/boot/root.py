"""From a kernel to the system: the volume that it is told to start from, and what that wants to mount.

Sources: kernel parameters (`root=`, `resume=`) of the Linux documentation, `fstab` and `crypttab` manual pages. A
volume that is wanted and on none of the drives ends a start in an emergency shell, unless its line says that it may be
absent.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from neogenesis.core.boot.answer import BootFinding, Link
from neogenesis.core.boot.drives import BootDrive, Place, by_label, by_partition_id, by_uuid, everywhere

_LARGEST = 1 << 20
_MOST_LINES = 2000
#: `/dev/sda2`, `/dev/nvme0n1p2`, `/dev/mmcblk0p1`, `/dev/vda1`: by the order of the drives, and the partition's number.
_BY_ORDER = re.compile(r"/dev/(?:(?:sd|vd|hd|xvd)([a-z])(\d+)|nvme(\d+)n1p(\d+)|mmcblk(\d+)p(\d+))$")
_BY_LINK = re.compile(r"/dev/disk/by-(uuid|label|partuuid|partlabel)/(.+)$")
_LAYERS = ("lvm", "raid", "luks", "fve")
_NO_FILES = ("swap", "lvm", "raid", "none")
_UNMOUNTED = ("none", "swap", "ignore")
_ESCAPE = re.compile(r"\\(x[0-9a-fA-F]{2}|[0-7]{3})")


@dataclass(frozen=True, slots=True)
class Meant:
    """What a word such as `UUID=...` means: volumes, none where it is gone; `open` where it cannot be told."""

    places: tuple[Place, ...] = ()
    open: bool = False


def is_kernel(head: bytes) -> bool:
    """By the first bytes of a file: a Linux kernel for x86 (boot protocol 2.00 on), or one for ARM."""
    return (head[0x1FE:0x200] == b"\x55\xaa" and head[0x202:0x206] == b"HdrS") or head[56:60] in (b"ARMd", b"ARM\x64")


def meant(drives: Sequence[BootDrive], word: str) -> Meant:
    """The volumes that a reference to a device means; raises nothing."""
    word = word.strip().strip("\"'")
    link = _BY_LINK.match(word)
    key, _, value = (link[1].upper(), "", link[2]) if link else word.partition("=")
    value = _unescaped(value.strip("\"'"))
    by_key = {"UUID": by_uuid, "PARTUUID": by_partition_id, "LABEL": by_label, "PARTLABEL": _by_partition_name}
    finder = by_key.get(key.upper())
    if finder is not None:
        if key.upper() == "PARTUUID" and "/PARTNROFF=" in value:
            return Meant(open=True)
        places = tuple(finder(drives, value))
        hidden = key.upper() in ("UUID", "LABEL") and _layers(drives)
        return Meant(places, open=not places and hidden)
    order = _BY_ORDER.match(word)
    if order is not None:
        return _by_order(drives, order)
    if word in ("/dev/nfs", "/dev/ram0", "/dev/cifs"):
        return Meant(open=True)
    if word.startswith("/dev/"):  # a volume that something below puts together
        return Meant(open=_layers(drives))
    return Meant(open=True)


def _layers(drives: Sequence[BootDrive]) -> bool:
    return any(facts.volume.kind in _LAYERS for _, facts in everywhere(drives))


def _by_partition_name(drives: Sequence[BootDrive], name: str) -> list[Place]:
    return [(d, p) for d, p in everywhere(drives) if name and p.name == name]


def _by_order(drives: Sequence[BootDrive], found: re.Match[str]) -> Meant:
    """The kernel numbers drives as it finds them: only of a single drive is it sure which one is meant."""
    letter, number = found[1], int(found[2] or found[4] or found[6])
    at = ord(letter) - ord("a") if letter else int(found[3] or found[5] or 0)
    if len(drives) > 1:
        return Meant(open=True)
    facts = drives[0].partition(number) if at == 0 and drives else None
    return Meant(((drives[0], facts),) if facts is not None else ())


def _unescaped(text: str) -> str:
    return _ESCAPE.sub(lambda m: chr(int(m[1][1:], 16) if m[1][0] == "x" else int(m[1], 8)), text)


def system_of(
    drives: Sequence[BootDrive], options: str, usual: Place, has_ramdisk: bool
) -> tuple[list[Link], list[BootFinding]]:
    """Links from the kernel's options to the system's volume and what it mounts; what stops it there is a finding."""
    words = options.split()
    wanted = next((w[5:] for w in reversed(words) if w.startswith("root=")), "")
    if not wanted:
        drive, facts = usual
        text = f"Starts the system on {facts.title}"
        return [Link(step="system", text=text, drive=drive.name, partition=facts.number)], []
    found = meant(drives, wanted)
    name = printable(wanted)
    if found.open:
        text = f"Whether the system volume {name} is there cannot be told from here"
        return [Link(step="system", text=text, ok=None)], []
    if not found.places:
        return [Link(step="system", text=f"The system volume {name} is on none of the drives", ok=False)], []
    drive, facts = found.places[0]
    if facts.volume.kind in _NO_FILES:
        text = f"{facts.title} is named as the system's volume and holds no files"
        return [Link(step="system", text=text, ok=False, drive=drive.name, partition=facts.number)], []
    text = f"Starts the system on {facts.title}"
    links = [Link(step="system", text=text, drive=drive.name, partition=facts.number)]
    findings = []
    if len(found.places) > 1:
        text = f"The system volume {name} is there {len(found.places)} times; which one is taken is chance."
        findings.append(
            BootFinding(code="ambiguous", severity="caution", text=text, remedy="Give one of them new identities.")
        )
    if not has_ramdisk and wanted.partition("=")[0].upper() in ("UUID", "LABEL"):
        text = "Without an initial ramdisk a kernel finds no volume by its own identity or name."
        findings.append(
            BootFinding(
                code="no-ramdisk",
                severity="caution",
                text=text,
                remedy="Make the initial ramdisk anew, or name the partition by its own identity.",
            )
        )
    findings += _resumes(drives, words)
    lost = list(_mounts(drives, (drive, facts)))
    findings += lost
    stops = [f for f in lost if f.severity == "stop"]
    if stops:
        links.append(Link(step="mounts", text=stops[0].text, ok=False, drive=drive.name, partition=facts.number))
    return links, findings


def _resumes(drives: Sequence[BootDrive], words: Sequence[str]) -> Iterator[BootFinding]:
    wanted = next((w[7:] for w in words if w.startswith("resume=")), "")
    found = meant(drives, wanted) if wanted else Meant(open=True)
    if not found.open and not found.places:
        yield BootFinding(
            code="resume-gone",
            severity="caution",
            text=f"It looks for a sleeping system on {printable(wanted)}, which is on none of the drives.",
            remedy="Point resume= at the swap volume that is there, or take it out.",
        )


@dataclass(frozen=True, slots=True)
class Mount:
    """One line of fstab: `device` as it is written there."""

    device: str
    point: str
    kind: str
    options: tuple[str, ...]

    @property
    def may_be_absent(self) -> bool:
        return bool({"nofail", "noauto"} & set(self.options)) or self.kind in _UNMOUNTED or self.point in _UNMOUNTED


def read_mounts(text: str) -> list[Mount]:
    """The lines of an fstab that name a device of this machine."""
    found = []
    for line in text.splitlines()[:_MOST_LINES]:
        words = line.split()
        if len(words) >= 3 and not words[0].startswith("#"):
            options = tuple(words[3].split(",")) if len(words) > 3 else ()
            found.append(Mount(words[0], _unescaped(words[1]), words[2], options))
    return found


def _mounts(drives: Sequence[BootDrive], root: Place) -> Iterator[BootFinding]:
    drive, facts = root
    data = drive.read(facts.number, "etc/fstab", _LARGEST)
    crypt = _unlocked(drive, facts.number)
    for mount in read_mounts((data or b"").decode("utf-8", "replace")):
        if not mount.device.startswith(("UUID=", "LABEL=", "PARTUUID=", "PARTLABEL=", "/dev/")):
            continue
        found = meant(drives, mount.device)
        if found.open or found.places or mount.device in crypt:
            continue
        what = "swap" if mount.kind == "swap" else printable(mount.point)
        stops = not mount.may_be_absent
        ends = "the start ends in an emergency shell" if stops else "it starts without it, some of them after a wait"
        yield BootFinding(
            code="mount-gone",
            severity="stop" if stops else "note",
            text=f"fstab wants {printable(mount.device)} for {what}, which is on none of the drives: {ends}.",
            remedy="Point that line at the volume that is there, or say nofail in it.",
            drive=drive.name,
            partition=facts.number,
        )


def _unlocked(drive: BootDrive, number: int) -> set[str]:
    """Names of volumes that crypttab opens."""
    data = drive.read(number, "etc/crypttab", _LARGEST)
    lines = (data or b"").decode("utf-8", "replace").splitlines()[:_MOST_LINES]
    names = [line.split()[0] for line in lines if line.split() and not line.startswith("#")]
    return {f"/dev/mapper/{name}" for name in names}


def printable(text: str) -> str:
    """Without signs that a terminal or a screen would obey, and no longer than a line."""
    return "".join(c if c.isprintable() else "\ufffd" for c in text[:200])
