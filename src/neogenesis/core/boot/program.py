"""Programs that a UEFI firmware starts: whether it is one, for which processor, and what is built into it.

Source: PE/COFF specification (Microsoft), headers and section table; GRUB `include/grub/kernel.h` for built-in modules,
`include/grub/offsets.h` for the packed core of a legacy start.
"""

from __future__ import annotations

import io
import lzma
import struct
import tarfile
from dataclasses import dataclass

_MACHINES = {0x8664: "x86_64", 0x14C: "x86", 0xAA64: "arm64", 0x1C0: "arm", 0x1C2: "arm", 0x5064: "riscv64"}
#: Names of the fallback loader by architecture. Source: UEFI 2.10, section 3.5.1.1.
FALLBACK = {"x86_64": "BOOTX64.EFI", "x86": "BOOTIA32.EFI", "arm64": "BOOTAA64.EFI", "arm": "BOOTARM.EFI"}
_MOST_SECTIONS = 96
#: Words by which programs of that family tell themselves, beside those that a menu loader with entry files has.
_KNOWN = {
    "systemd-boot": b"LoaderInfo: systemd-boot",
    "systemd-stub": b"LoaderInfo: systemd-stub",
    "blscfg": b"blscfg",
}
_MODULES = 0x676D696D
_MEMDISK, _CONFIG, _PREFIX = 1, 2, 3
_LARGEST_TEXT = 1 << 20
_LARGEST_CORE, _CORE_SLACK = 16 << 20, 4096


@dataclass(frozen=True, slots=True)
class Program:
    """`config` is a script that is built in, `memory_config` one in a built-in file system, `prefix` where it looks.

    `script_ranges` are where the file keeps those scripts and its command line, half-open.
    """

    architecture: str
    sections: tuple[str, ...]
    is_grub: bool = False
    config: str = ""
    memory_config: str = ""
    prefix: str = ""
    command_line: str = ""
    names: frozenset[str] = frozenset()
    signed: bool = False
    script_ranges: tuple[tuple[int, int], ...] = ()


def read_program(data: bytes, size: int | None = None) -> Program | None:
    """None for anything that a firmware would not start; `size` is the file's, where `data` is only its beginning."""
    whole = len(data) if size is None else size
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
    command_line = (0, 0)
    for n in range(min(count, _MOST_SECTIONS)):
        head = at + 24 + optional + 40 * n
        if head + 40 > len(data):
            break
        name = data[head : head + 8].rstrip(b"\0").decode("latin-1")
        size, offset = struct.unpack_from("<II", data, head + 16)
        if offset + size > whole:
            return None  # cut short
        sections[name] = data[offset : offset + size] if offset < len(data) else b""
        if name == ".cmdline":
            command_line = (offset, offset + size)
    if not sections:
        return None
    signed = _is_signed(data, at + 24, optional)
    grub = _grub(data)
    command = sections.get(".cmdline", b"").rstrip(b"\0").decode("utf-8", "replace").strip()
    known = frozenset(name for name, mark in _KNOWN.items() if mark in data)
    if b"shim," in sections.get(".sbat", b""):
        known |= {"shim"}
    ranges = (command_line,) if command else ()
    if grub is None:
        return Program(
            _MACHINES[machine],
            tuple(sections),
            command_line=command,
            names=known,
            signed=signed,
            script_ranges=ranges,
        )
    return Program(
        _MACHINES[machine],
        tuple(sections),
        True,
        grub.config,
        grub.memory,
        grub.prefix,
        command,
        known,
        signed,
        (*ranges, *grub.ranges),
    )


def release_of(data: bytes) -> dict[str, str]:
    """What the section `.osrel` of a unified program says: names and values of an os-release file."""
    at = int.from_bytes(data[0x3C:0x40], "little")
    if at + 24 > len(data):
        return {}
    count, optional = struct.unpack_from("<H", data, at + 6)[0], struct.unpack_from("<H", data, at + 20)[0]
    for n in range(min(count, _MOST_SECTIONS)):
        head = at + 24 + optional + 40 * n
        if data[head : head + 8].rstrip(b"\0") == b".osrel" and head + 40 <= len(data):
            size, offset = struct.unpack_from("<II", data, head + 16)
            text = data[offset : offset + min(size, _LARGEST_TEXT)].rstrip(b"\0").decode("utf-8", "replace")
            pairs = (line.partition("=") for line in text.splitlines())
            return {name.strip(): value.strip().strip("\"'") for name, sign, value in pairs if sign}
    return {}


def read_core(data: bytes) -> Program | None:
    """The core of a legacy start behind its first sector: unpacked, with what is built in; None for a damaged one."""
    if len(data) < 0x20:
        return None
    packed, unpacked = struct.unpack_from("<II", data, 8)
    if not 0 < packed <= len(data) or not packed <= unpacked <= _LARGEST_CORE:
        return None
    for at in range(len(data) - packed, max(-1, len(data) - packed - _CORE_SLACK), -1):
        if data[at] != 0:  # a stream of that kind begins with a zero
            continue
        core = _unpacked(data[at : at + packed], unpacked)
        grub = _grub(core, wide=False) if core is not None else None
        if grub is not None:
            return Program("x86", ("core",), True, grub.config, grub.memory, grub.prefix)
    return None


def _unpacked(data: bytes, size: int) -> bytes | None:
    filters = [{"id": lzma.FILTER_LZMA1, "lc": 3, "lp": 0, "pb": 2, "dict_size": 1 << 16}]
    try:
        first = lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=filters).decompress(data, max_length=size)
    except lzma.LZMAError:
        return None
    return first if len(first) == size else None


def _is_signed(data: bytes, at: int, length: int) -> bool:
    """Whether the fifth data directory, that of certificates, holds any."""
    wide = data[at : at + 2] == b"\x0b\x02"
    place = at + (112 if wide else 96) + 8 * 4
    return length >= place + 8 - at and int.from_bytes(data[place + 4 : place + 8], "little") > 0


@dataclass(frozen=True, slots=True)
class _BuiltIn:
    """Scripts that are built into a loader of that family, and where they stand in its file."""

    config: str
    memory: str
    prefix: str
    ranges: tuple[tuple[int, int], ...]


def _grub(data: bytes, wide: bool = True) -> _BuiltIn | None:
    """What is built in behind the mark of its modules; `wide` for programs of 64 bits and UEFI."""
    mark, form, head = _MODULES.to_bytes(4, "little"), "<QQ" if wide else "<II", 24 if wide else 12
    at = data.find(mark)
    while at >= 0:
        offset, size = struct.unpack_from(form, data.ljust(at + 24, b"\0"), at + (8 if wide else 4))
        if head <= offset <= 64 and head <= size <= len(data) - at + 4096:
            return _modules(data, at + offset, min(len(data), at + size))
        if wide and data[:2] == b"MZ":  # programs of 32 bits
            offset, size = struct.unpack_from("<II", data.ljust(at + 24, b"\0"), at + 4)
            if 12 <= offset <= 32 and 12 <= size <= len(data) - at + 4096:
                return _modules(data, at + offset, min(len(data), at + size))
        at = data.find(mark, at + 1)
    return None


def _modules(data: bytes, at: int, end: int) -> _BuiltIn:
    config = memory = prefix = ""
    ranges: list[tuple[int, int]] = []
    while at + 8 <= end:
        kind, size = struct.unpack_from("<II", data, at)
        if size < 8 or at + size > end:
            break
        body = data[at + 8 : at + size]
        if kind == _CONFIG:
            config = _text(body)
            ranges.append((at + 8, at + size))
        elif kind == _PREFIX:
            prefix = _text(body)
        elif kind == _MEMDISK:
            memory, start, length = _from_memory(body)
            ranges += [(at + 8 + start, at + 8 + start + length)] if length else []
        at += size
    return _BuiltIn(config, memory, prefix, tuple(ranges))


def _text(body: bytes) -> str:
    return body[:_LARGEST_TEXT].split(b"\0")[0].decode("utf-8", "replace")


def _from_memory(body: bytes) -> tuple[str, int, int]:
    """`boot/grub/grub.cfg` of a tar archive, and where it stands there; empty where it holds none."""
    try:
        with tarfile.open(fileobj=io.BytesIO(body)) as archive:
            for member in archive:
                if member.name.lstrip("./").endswith("grub/grub.cfg") and member.size <= _LARGEST_TEXT:
                    file = archive.extractfile(member)
                    text = file.read(_LARGEST_TEXT).decode("utf-8", "replace") if file is not None else ""
                    return text, member.offset_data, member.size
    except (tarfile.TarError, OSError, EOFError, ValueError):
        pass
    return "", 0, 0
