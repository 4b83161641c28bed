"""The way of a legacy firmware: the code in the first sector of the first drive, and what that goes on with.

Families of boot code are told by the words that they print and by where they look.
"""

from __future__ import annotations

from collections.abc import Sequence

from neogenesis.core.boot.answer import BootFinding, Link
from neogenesis.core.boot.drives import BootDrive
from neogenesis.core.boot.grub import GrubRun
from neogenesis.core.boot.loader import Reached, follow_store, reached_by
from neogenesis.core.boot.program import read_core
from neogenesis.core.survey import PartitionFacts

_CODE_BYTES = 440
_GENERIC = (
    b"issing operating system",
    b"rror loading operating",
    b"nvalid partition table",
    b"perating system not found",
)
_NOT_BOOTABLE = (b"is not a bootable", b"on-System disk", b"not bootable", b"o operating system")
_MENUS = ("boot/grub/grub.cfg", "grub/grub.cfg", "boot/grub2/grub.cfg")
_SECTOR, _LONGEST_CORE, _MOST_PIECES = 512, 8 << 20, 60


def follow_legacy(drives: Sequence[BootDrive]) -> Reached:
    """From the first drive: such a firmware hands on to one drive, and that is all it does."""
    reached = Reached()
    if not drives:
        reached.links.append(Link(step="drive", text="There is no drive", ok=False))
        reached.broke = "drive"
        return reached
    drive = drives[0]
    first = drive.sector(0)
    if first[510:512] != b"\x55\xaa":
        return _breaks(reached, "boot-code", drive, "The first sector is not marked as one that starts")
    code = first[:_CODE_BYTES]
    if not any(code):
        return _breaks(reached, "boot-code", drive, "The first sector holds no boot code")
    if b"GRUB" in code:
        return _grub(drives, drive, code, reached)
    if any(words in code for words in _NOT_BOOTABLE):
        return _breaks(reached, "boot-code", drive, "The first sector only says that it does not start")
    reached.links.append(Link(step="boot-code", text="Boot code in the first sector", drive=drive.name))
    active = [p for p in drive.survey.partitions if p.bootable]
    known = any(words in code for words in _GENERIC)
    if len(active) != 1 and known:
        text = "No partition is active" if not active else f"{len(active)} partitions are active"
        return _breaks(reached, "active-partition", drive, text)
    if not active:
        reached.findings.append(
            BootFinding(
                code="unknown-boot-code",
                severity="caution",
                text="The boot code is of no family that is known here; whether it starts can only be tried.",
                remedy="Run a trial boot.",
                drive=drive.name,
            )
        )
        return reached
    return _volume(drives, drive, active[0], reached)


def _breaks(reached: Reached, step: str, drive: BootDrive, text: str, partition: int | None = None) -> Reached:
    reached.links.append(Link(step=step, text=text, ok=False, drive=drive.name, partition=partition))
    reached.broke = step
    return reached


def _volume(drives: Sequence[BootDrive], drive: BootDrive, facts: PartitionFacts, reached: Reached) -> Reached:
    """The first sector of the active partition."""
    reached.links.append(
        Link(step="active-partition", text=f"{facts.title} is active", drive=drive.name, partition=facts.number)
    )
    sector = drive.sector(facts.start_bytes)
    if sector[510:512] != b"\x55\xaa" or not any(sector[90:510]):
        return _breaks(reached, "volume-code", drive, "The active partition holds no boot code", facts.number)
    whole = drive.sector(facts.start_bytes, 8192)
    if b"GRUB" in sector:
        return _grub(drives, drive, sector, reached)
    if any(words in sector for words in _NOT_BOOTABLE):
        return _breaks(
            reached, "volume-code", drive, "The active partition only says that it does not start", facts.number
        )
    if b"BOOTMGR" in whole or b"B\0O\0O\0T\0M\0G\0R" in whole:
        reached.links.append(
            Link(step="volume-code", text="Boot code of the NT family", drive=drive.name, partition=facts.number)
        )
        if drive.find(facts.number, "bootmgr") is None:
            return _breaks(reached, "loader", drive, "bootmgr is not in the active partition", facts.number)
        reached.links.append(Link(step="loader", text="bootmgr", drive=drive.name, partition=facts.number))
        more = follow_store(drives, (drive, facts))
        reached.links += more.links
        reached.used += more.used
        reached.findings += more.findings
        reached.broke = more.broke
        return reached
    reached.links.append(
        Link(step="volume-code", text="Boot code of the volume", drive=drive.name, partition=facts.number)
    )
    return reached


def _grub(drives: Sequence[BootDrive], drive: BootDrive, code: bytes, reached: Reached) -> Reached:
    """Code that goes on with a core in the sectors that it names; the core is unpacked, and its scripts are run."""
    reached.links.append(Link(step="boot-code", text="Boot code of a menu loader", drive=drive.name))
    at = int.from_bytes(code[0x5C:0x64], "little")
    first = drive.sector(at * _SECTOR) if 0 < at < drive.survey.drive.size_bytes // _SECTOR else b""
    if not any(first):
        return _breaks(reached, "loader", drive, "What the boot code goes on with is not there")
    program = read_core(_core(drive, first))
    if program is None:
        return _breaks(reached, "loader", drive, "The core of the menu loader is damaged")
    reached.links.append(Link(step="loader", text="Core of the menu loader", drive=drive.name))
    home = _home(drive)
    if home is None:
        reached.links.append(
            Link(step="system", text="What is on the drive cannot be looked at from here", ok=None, drive=drive.name)
        )
        return reached
    run = GrubRun(drives, (drive, home), "x86", platform="pc")
    more = reached_by(run, program, drives, "x86")
    reached.links += more.links
    reached.used += more.used
    reached.findings += more.findings
    reached.broke, reached.returned = more.broke, more.returned
    return reached


def _core(drive: BootDrive, first: bytes) -> bytes:
    """What the list at the end of the core's first sector names. Source: GRUB, `boot/i386/pc/diskboot.S`."""
    data = bytearray()
    for n in range(_MOST_PIECES):
        at = 0x1F4 - 12 * n
        start, count = int.from_bytes(first[at : at + 8], "little"), int.from_bytes(first[at + 8 : at + 10], "little")
        if not count or len(data) + count * _SECTOR > _LONGEST_CORE:
            break
        data += drive.sector(start * _SECTOR, count * _SECTOR)
    return bytes(data)


def _home(drive: BootDrive) -> PartitionFacts | None:
    """The volume whose menu such a core is usually set up for, else the first; its own prefix may name another."""
    known = [p for p in drive.survey.partitions if any(drive.find(p.number, m) is not None for m in _MENUS)]
    return next(iter((*known, *drive.survey.partitions)), None)
