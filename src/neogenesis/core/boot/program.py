"""Programs that a UEFI firmware starts: whether it is one, for which processor, and what is built into it.

Source: PE/COFF specification (Microsoft), headers and section table; GRUB `include/grub/kernel.h` for built-in modules.
"""

from __future__ import annotations

import io
import struct
import tarfile
from dataclasses import dataclass

_MACHINES = {0x8664: "x86_64", 0x14C: "x86", 0xAA64: "arm64", 0x1C0: "arm", 0x1C2: "arm", 0x5064: "riscv64"}
#: Names of the fallback loader by architecture. Source: UEFI 2.10, section 3.5.1.1.
FALLBACK = {"x86_64": "BOOTX64.EFI", "x86": "BOOTIA32.EFI", "arm64": "BOOTAA64.EFI", "arm": "BOOTARM.EFI"}
_MOST_SECTIONS = 96
_MODULES = 0x676D696D
_MEMDISK, _CONFIG, _PREFIX = 1, 2, 3
_LARGEST_TEXT = 1 << 20


@dataclass(frozen=True, slots=True)
class Program:
    """`config` is a script that is built in, `memory_config` one in a built-in file system, `prefix` where it looks."""

    architecture: str
    sections: tuple[str, ...]
    is_grub: bool = False
    config: str = ""
    memory_config: str = ""
    prefix: str = ""
    command_line: str = ""
    names: frozenset[str] = frozenset()
    signed: bool = False


def read_program(data: bytes) -> Program | None:
    """None for anything that a firmware would not start."""
    if len(data) < 0x40 or data[:2] != b"MZ":
        return None
    at = int.from_bytes(data[0x3C:0x40], "little")
    if at + 24 > len(data) or data[at : at + 4] != b"PE\0\0":
        return None
    machine, count = struct.unpack_from("<HH", data, at + 4)
    optional = int.from_bytes(data[at + 20 : at + 22], "little")
    subsystem = int.from_bytes(data[at + 24 + 68 : at + 24 + 70], "little")
    if subsystem not in (10, 11, 12) or machine not in _MACHINES:
        return None
    sections: dict[str, bytes] = {}
    for n in range(min(count, _MOST_SECTIONS)):
        head = at + 24 + optional + 40 * n
        if head + 40 > len(data):
            break
        name = data[head : head + 8].rstrip(b"\0").decode("latin-1")
        size, offset = struct.unpack_from("<II", data, head + 16)
        if offset + size > len(data):
            return None  # cut short
        sections[name] = data[offset : offset + size] if offset < len(data) else b""
    if not sections:
        return None
    signed = _is_signed(data, at + 24, optional)
    grub = _grub(data)
    command = sections.get(".cmdline", b"").rstrip(b"\0").decode("utf-8", "replace").strip()
    known = frozenset(word for word in ("systemd-boot", "sd-stub") if word.encode() in data)
    if b"shim," in sections.get(".sbat", b""):
        known |= {"shim"}
    if grub is None:
        return Program(_MACHINES[machine], tuple(sections), command_line=command, names=known, signed=signed)
    config, memory, prefix = grub
    return Program(_MACHINES[machine], tuple(sections), True, config, memory, prefix, command, known, signed)


def _is_signed(data: bytes, at: int, length: int) -> bool:
    """Whether the fifth data directory, that of certificates, holds any."""
    wide = data[at : at + 2] == b"\x0b\x02"
    place = at + (112 if wide else 96) + 8 * 4
    return length >= place + 8 - at and int.from_bytes(data[place + 4 : place + 8], "little") > 0


def _grub(data: bytes) -> tuple[str, str, str] | None:
    """Built-in script, script in the built-in file system, and prefix, of a loader of that family."""
    at = data.find(_MODULES.to_bytes(4, "little"))
    while at >= 0:
        offset, size = struct.unpack_from("<QQ", data.ljust(at + 24, b"\0"), at + 8)
        if 24 <= offset <= 64 and 24 <= size <= len(data) - at + 4096:
            return _modules(data[at : at + size], offset)
        at = data.find(_MODULES.to_bytes(4, "little"), at + 1)
    return None


def _modules(area: bytes, at: int) -> tuple[str, str, str]:
    config = memory = prefix = ""
    while at + 8 <= len(area):
        kind, size = struct.unpack_from("<II", area, at)
        if size < 8 or at + size > len(area):
            break
        body = area[at + 8 : at + size]
        if kind == _CONFIG:
            config = _text(body)
        elif kind == _PREFIX:
            prefix = _text(body)
        elif kind == _MEMDISK:
            memory = _from_memory(body)
        at += size
    return config, memory, prefix


def _text(body: bytes) -> str:
    return body[:_LARGEST_TEXT].split(b"\0")[0].decode("utf-8", "replace")


def _from_memory(body: bytes) -> str:
    """`boot/grub/grub.cfg` of a tar archive; empty where it holds none."""
    try:
        with tarfile.open(fileobj=io.BytesIO(body)) as archive:
            for member in archive:
                if member.name.lstrip("./").endswith("grub/grub.cfg") and member.size <= _LARGEST_TEXT:
                    file = archive.extractfile(member)
                    return file.read(_LARGEST_TEXT).decode("utf-8", "replace") if file is not None else ""
    except (tarfile.TarError, OSError, EOFError, ValueError):
        pass
    return ""
