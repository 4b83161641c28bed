"""What an installer image is: its kind, label, size, how it starts and on what, and what does not fit a FAT volume.

Sources: ECMA-119 (ISO 9660) sections 8.4 and 8.5, ECMA-167 and UDF 2.60 (volume recognition), El Torito 1.0, UEFI 2.10
sections 3.5.1 and 13.3. Files inside are listed by a library; here is what the sectors themselves tell.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable
from typing import ClassVar, Literal

from neogenesis.core.errors import Refused
from neogenesis.core.machine import Machine
from neogenesis.core.record import Record
from neogenesis.core.store import ReadableStore
from neogenesis.core.units import both_text

BLOCK = 2048
_FIRST, _MOST_DESCRIPTORS = 16, 64
#: The largest file that FAT holds.
FAT_MOST = (1 << 32) - 1
_LOADERS = {
    "bootx64.efi": "x86_64",
    "bootia32.efi": "x86",
    "bootaa64.efi": "arm64",
    "bootarm.efi": "arm",
    "bootriscv64.efi": "riscv64",
}
Start = Literal["uefi", "legacy"]
Layout = Literal["sectors", "files"]
State = Literal["matched", "mismatch", "other", "none"]


class Inspected(Record, frozen=True, kw_only=True):
    """`starts` by which firmware a stick with it is started: sector for sector where it is `hybrid`, which can be
    written that way, else with its files, where `files_start` says that UEFI would start them; `has_loader` that one
    stands where UEFI looks, whatever it is. `disc_starts` is what starts it as a disc.

    `architectures` are those of its UEFI loaders. `checksum` tells of a checksum file beside the image; `other` is one
    that does not name it.
    """

    SCHEMA: ClassVar[str] = "neogenesis.media/1"

    schema: str = SCHEMA
    path: str
    kind: Literal["disc", "drive", "unknown"]
    packed: str = ""
    label: str = ""
    size_bytes: int
    hybrid: bool
    starts: tuple[Start, ...] = ()
    disc_starts: tuple[Start, ...] = ()
    architectures: tuple[str, ...] = ()
    files: int = 0
    files_bytes: int = 0
    files_start: bool = False
    has_loader: bool = False
    largest_file: str = ""
    largest_bytes: int = 0
    checksum: State = "none"
    checksum_file: str = ""
    signature_file: str = ""
    notes: tuple[str, ...] = ()


class DiscFacts(Record, frozen=True, kw_only=True):
    """What the descriptors of a disc image say. `size_bytes` is what it claims to take.

    `legacy` says whether the boot catalogue has an entry for legacy firmware, `uefi_at` where its volume for UEFI
    begins, 0 where it has none.
    """

    label: str
    size_bytes: int
    has_udf: bool
    legacy: bool
    uefi_at: int


def inspect_disc(store: ReadableStore, name: str) -> DiscFacts | None:
    """None for what is no disc image. Raises Refused for one that is cut short."""
    if store.size_bytes < (_FIRST + 2) * BLOCK:
        return None
    label, size, catalog = "", 0, 0
    udf = found = False
    for n in range(_FIRST, _FIRST + _MOST_DESCRIPTORS):
        if (n + 1) * BLOCK > store.size_bytes:
            break
        sector = store.read(n * BLOCK, BLOCK)
        mark = sector[1:6]
        if mark == b"CD001":
            found = True
            if sector[0] == 1 and not size:
                label = sector[40:72].decode("ascii", "replace").strip(" \0")
                size = struct.unpack_from("<I", sector, 80)[0] * BLOCK
            elif sector[0] == 0 and sector[7:30] == b"EL TORITO SPECIFICATION":
                catalog = struct.unpack_from("<I", sector, 71)[0]
        elif mark in (b"NSR02", b"NSR03"):
            udf = found = True
        elif mark not in (b"BEA01", b"TEA01", b"BOOT2"):
            break
    if not found:
        return None
    if size > store.size_bytes:
        raise Refused(
            "truncated",
            f"“{name}” is cut short: it says that it has {both_text(size)}, and there are "
            f"{both_text(store.size_bytes)}; nothing was written.",
            "Fetch it again.",
        )
    entries = dict(_entries(store, catalog)) if catalog else {}
    return DiscFacts(
        label=label, size_bytes=size, has_udf=udf, legacy=0 in entries, uefi_at=entries.get(0xEF, 0) * BLOCK
    )


def _entries(store: ReadableStore, catalog: int) -> Iterable[tuple[int, int]]:
    """The platforms of the El Torito boot catalogue whose entries can be started, and at which block each begins."""
    if (catalog + 1) * BLOCK > store.size_bytes:
        return
    data = store.read(catalog * BLOCK, BLOCK)
    if data[0] != 1 or data[30:32] != b"\x55\xaa":
        return
    if data[32] == 0x88:
        yield data[1], struct.unpack_from("<I", data, 40)[0]
    at = 64
    while at + 64 <= len(data) and data[at] in (0x90, 0x91):
        platform, entries = data[at + 1], struct.unpack_from("<H", data, at + 2)[0]
        for k in range(min(entries, 16)):
            place = at + 32 * (k + 1)
            if place + 32 <= len(data) and data[place] == 0x88:
                yield platform, struct.unpack_from("<I", data, place + 8)[0]
                break
        at += 32 * (entries + 1)


def loader_of(name: str) -> str:
    """The architecture that a loader at the fallback path is for, by its name; empty for any other file."""
    folder, _, last = name.casefold().strip("/").rpartition("/")
    return _LOADERS.get(last, "") if folder == "efi/boot" else ""


def starts_as(found: Inspected, layout: Layout) -> tuple[Start, ...]:
    """By which firmware a stick is started that is written in that way."""
    if layout == "files":
        return ("uefi",) if found.files_start else ()
    return found.starts if found.hybrid else ()


def notes_for(found: Inspected, machine: Machine | None) -> tuple[str, ...]:
    """What it will and will not do, on a machine where one is known."""
    notes = []
    if found.kind == "unknown":
        return ("It is no image of a disc or a drive that is known here: it would be written as it is.",)
    if not found.starts and not (found.disc_starts and not found.hybrid):
        notes.append("Nothing on it can be started: it is no installer, or one for another kind of machine.")
    if found.has_loader and not found.files_start and not found.starts:
        notes.append("What stands where a loader should is no program that firmware would start.")
    if not found.hybrid and found.kind == "disc":
        notes.append("Sector for sector it would not start from a stick: write its files instead (--layout files).")
    if found.largest_bytes > FAT_MOST:
        notes.append(
            f"{found.largest_file} has {both_text(found.largest_bytes)}, more than FAT holds: it must be split."
        )
    if found.checksum == "none":
        notes.append("No checksum lies beside it: whether it arrived whole cannot be said.")
    if found.checksum == "other":
        notes.append(f"{found.checksum_file} does not name this image.")
    if machine is None:
        return tuple(notes)
    layout: Layout = "sectors" if found.hybrid or not found.has_loader else "files"
    why = unsuitable(found, machine, layout)
    if why:
        notes.append(why)
    if machine.secure_start:
        notes.append("Secure start is on: only a signed loader is started.")
    return tuple(notes)


def unsuitable(found: Inspected, machine: Machine | None, layout: Layout) -> str:
    """Why a stick that is written in that way cannot start on that machine; empty where it can, or nothing is known."""
    if machine is None or found.kind == "unknown":
        return ""
    starts = starts_as(found, layout)
    wanted = {"amd64": "x86_64", "x64": "x86_64"}.get(machine.architecture or "", machine.architecture)
    if wanted and found.architectures and wanted not in found.architectures and "legacy" not in starts:
        return f"It is for {', '.join(found.architectures)}, and {machine.title} is {wanted}: it will not start there."
    if not starts:
        return f"Nothing on a stick with it could be started: it will not start there ({machine.title})."
    if machine.firmware in ("uefi", "legacy") and machine.firmware not in starts:
        return f"It starts by {starts[0]}, and {machine.title} only by {machine.firmware}: it will not start there."
    return ""
