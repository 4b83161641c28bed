"""EFI device paths: as text, as a listing of boot entries writes them, and as bytes.

Source: UEFI 2.10, sections 10.3 (nodes) and 10.6 (text). Nodes that are not needed here are kept as they are.
"""

from __future__ import annotations

import re
import struct
from dataclasses import dataclass

from neogenesis.core.errors import BadRecord
from neogenesis.core.table.gpt import guid_bytes, guid_text

_LONGEST = 64 << 10
_HD = re.compile(
    r"HD\((?P<part>\d{1,9}),(?:(?P<kind>GPT|MBR),)?(?P<sig>[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}|(?:0x)?[0-9a-f]{1,8})"
    r"(?:,(?P<start>0x[0-9a-f]{1,16}|[0-9]{1,18}),(?P<size>0x[0-9a-f]{1,16}|[0-9]{1,18}))?\)",
    re.I,
)
_EXTENT = ("start", "size")
_NODE = re.compile(r"([A-Za-z]\w*)\(([^()]*)\)")


@dataclass(frozen=True, slots=True)
class HardDrive:
    """A partition (type 4, subtype 1). `signature` is a GUID in capitals for GPT, `0x` and eight digits for MBR."""

    partition: int
    signature: str
    kind: str = "GPT"
    start_lba: int = 0
    size_lba: int = 0


@dataclass(frozen=True, slots=True)
class FilePath:
    """A file on the partition before it (type 4, subtype 4), with backslashes."""

    path: str


@dataclass(frozen=True, slots=True)
class OtherNode:
    """Anything else: `text` as it was written, or type, subtype and data as bytes."""

    text: str
    raw: bytes = b""


Node = HardDrive | FilePath | OtherNode


def parse_path(text: str) -> tuple[Node, ...]:
    """From text; what follows the file is the entry's own data and is left out. Raises BadRecord for no path at all."""
    if len(text) > _LONGEST:
        raise _bad(text)
    found: list[Node] = []
    rest = text.strip()
    while rest:
        rest = rest.lstrip("/")
        hd = _HD.match(rest)
        if hd:
            found.append(_hard_drive(hd))
            rest = rest[hd.end() :]
        elif rest[:5].casefold() == "file(":
            path, _, rest = rest[5:].partition(")")
            found.append(FilePath(_backslashed(path)))
            break
        elif rest.startswith("\\"):
            found.append(FilePath(_backslashed(rest.split(",")[0].strip())))
            break
        else:
            node = _NODE.match(rest)
            if node is None:
                if found:
                    break
                raise _bad(text)
            found.append(OtherNode(node.group(0)))
            rest = rest[node.end() :]
    return tuple(found)


def _bad(text: str) -> BadRecord:
    return BadRecord(f"“{text[:60]}” is no device path.", "Copy it from a listing of the boot entries.")


def _backslashed(path: str) -> str:
    return "\\" + path.replace("/", "\\").strip("\\")


def _hard_drive(found: re.Match[str]) -> HardDrive:
    signature = found["sig"]
    kind = (found["kind"] or ("GPT" if "-" in signature else "MBR")).upper()
    start, size = (int(found[k], 16 if found[k][:2].lower() == "0x" else 10) if found[k] else 0 for k in _EXTENT)
    if kind == "GPT":
        return HardDrive(int(found["part"]), signature.upper(), kind, start, size)
    return HardDrive(int(found["part"]), f"0x{int(signature, 16):08x}", kind, start, size)


def path_text(nodes: tuple[Node, ...]) -> str:
    """As a listing writes it."""
    return "/".join(_text(node) for node in nodes)


def _text(node: Node) -> str:
    if isinstance(node, HardDrive):
        signature = node.signature.lower()
        return f"HD({node.partition},{node.kind},{signature},0x{node.start_lba:x},0x{node.size_lba:x})"
    return f"File({node.path})" if isinstance(node, FilePath) else node.text


def decode_path(data: bytes) -> tuple[Node, ...]:
    """From bytes, up to the end node. Raises BadRecord for lengths that cannot be."""
    found: list[Node] = []
    at = 0
    while at + 4 <= min(len(data), _LONGEST):
        kind, subtype, length = struct.unpack_from("<BBH", data, at)
        if length < 4 or at + length > len(data):
            raise BadRecord("A device path has a node of an impossible length.", "Make the entry anew.")
        body = data[at + 4 : at + length]
        at += length
        if kind == 0x7F:
            return tuple(found)
        found.append(_decoded(kind, subtype, body))
    raise BadRecord("A device path has no end.", "Make the entry anew.")


def _decoded(kind: int, subtype: int, body: bytes) -> Node:
    if (kind, subtype) == (4, 1) and len(body) == 38:
        partition, start, size = struct.unpack_from("<IQQ", body)
        signature, form, sort = body[20:36], body[36], body[37]
        if form == 2 and sort == 2:
            return HardDrive(partition, guid_text(signature), "GPT", start, size)
        if form == 1 and sort == 1:
            return HardDrive(partition, f"0x{int.from_bytes(signature[:4], 'little'):08x}", "MBR", start, size)
    if (kind, subtype) == (4, 4):
        return FilePath(_backslashed(body.decode("utf-16-le", "replace").rstrip("\0")))
    return OtherNode(f"Path({kind},{subtype},{body.hex()})", struct.pack("<BBH", kind, subtype, len(body) + 4) + body)


def encode_path(nodes: tuple[Node, ...]) -> bytes:
    """As bytes with an end node; raises BadRecord for a node that is only known as text."""
    return b"".join(_encoded(node) for node in nodes) + b"\x7f\xff\x04\x00"


def _encoded(node: Node) -> bytes:
    if isinstance(node, HardDrive):
        gpt = node.kind == "GPT"
        mark = guid_bytes(node.signature) if gpt else int(node.signature, 16).to_bytes(4, "little").ljust(16, b"\0")
        body = (
            struct.pack("<IQQ", node.partition, node.start_lba, node.size_lba) + mark + bytes((2, 2) if gpt else (1, 1))
        )
        return struct.pack("<BBH", 4, 1, len(body) + 4) + body
    if isinstance(node, FilePath):
        body = (node.path + "\0").encode("utf-16-le")
        return struct.pack("<BBH", 4, 4, len(body) + 4) + body
    if node.raw:
        return node.raw
    found = re.fullmatch(r"Path\((\d+),(\d+),([0-9a-fA-F]*)\)", node.text)
    if found is None:
        raise BadRecord(f"“{node.text}” is only known as text.", "Name the partition instead.")
    body = bytes.fromhex(found[3])
    return struct.pack("<BBH", int(found[1]) & 255, int(found[2]) & 255, len(body) + 4) + body
