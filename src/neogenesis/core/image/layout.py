"""The bytes of a qcow2 file. Source: the qcow2 specification that ships with the QEMU project (docs/interop)."""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np

from neogenesis.core.errors import Damaged
from neogenesis.core.extent import Extents

MAGIC = b"QFI\xfb"
HEADER = struct.Struct(">4sIQIIQIIQQIIQQQQII")  # up to and with header_length, 104 bytes
HEADER_BYTES = 112
INCOMPAT_DIRTY, INCOMPAT_CORRUPT, INCOMPAT_EXTERNAL, INCOMPAT_COMPRESSION, INCOMPAT_EXTENDED_L2 = 1, 2, 4, 8, 16
COPIED, COMPRESSED, ZERO = 1 << 63, 1 << 62, 1
OFFSET_MASK = 0x00FFFFFFFFFFFE00
ZLIB, ZSTD = 0, 1
_LARGEST_L1 = 32 << 20
#: How much of a file its header with all extensions may take.
HEAD_BYTES = 1 << 17
#: Our own header extension: the ranges of the drive that could not be read, as pairs of 64-bit numbers. Other programs
#: pass over extensions that they do not know, as the specification asks of them.
_LOST = 0x4E454F4C
_EXTENSION = struct.Struct(">II")
_MOST_LOST = 4096
_KNOWN = INCOMPAT_DIRTY | INCOMPAT_COMPRESSION


@dataclass(frozen=True, slots=True)
class Header:
    """What the first bytes of an image say. Sizes in bytes."""

    version: int
    cluster_bits: int
    size_bytes: int
    l1_entries: int
    l1_offset: int
    compression: int
    length: int = HEADER_BYTES

    @property
    def cluster_bytes(self) -> int:
        return 1 << self.cluster_bits

    @property
    def l2_entries(self) -> int:
        return self.cluster_bytes // 8


def parse_header(raw: bytes, file_bytes: int) -> Header:
    """Raises Damaged for anything that cannot be read here: backing files, encryption, external data, corruption."""
    if len(raw) < 72 or raw[:4] != MAGIC:
        raise Damaged("qcow2 header", 0, "the signature is missing")
    (_, version, backing, _, bits, size, encrypted, l1_count, l1_at, *rest) = HEADER.unpack(raw[:104].ljust(104, b"\0"))
    features = rest[4] if version >= 3 else 0
    length = rest[8] if version >= 3 else 72
    compression = raw[104] if version >= 3 and length > 104 and features & INCOMPAT_COMPRESSION else ZLIB
    faults = (
        (version not in (2, 3), f"version {version} is not known"),
        (backing != 0, "it needs another image below it"),
        (encrypted != 0, "it is encrypted"),
        (
            bool(features & ~(INCOMPAT_DIRTY | INCOMPAT_COMPRESSION)),
            "it is corrupt, or has features that are not known",
        ),
        (compression not in (ZLIB, ZSTD), "its compression is not known"),
        (not 9 <= bits <= 21, "its cluster size is impossible"),
        (not 0 <= size <= 1 << 60, "its size is impossible"),
        (l1_count * 8 > _LARGEST_L1 or l1_at + l1_count * 8 > file_bytes, "its first table lies outside the file"),
        (rest[0] >= file_bytes, "it is cut short"),
    )
    for wrong, text in faults:
        if wrong:
            raise Damaged("qcow2 header", 0, text, "Convert it with a general tool, or make the image again.")
    header = Header(version, bits, size, l1_count, l1_at, compression, length)
    if l1_count < -(-size // (header.cluster_bytes * header.l2_entries)):
        raise Damaged("qcow2 header", 0, "its first table is too short for its size")
    return header


def parse_lost(raw: bytes, header: Header) -> Extents | None:
    """The ranges of the drive that its image lost; None where the header does not say. Raises Damaged."""
    at = header.length
    while at + _EXTENSION.size <= len(raw):
        kind, length = _EXTENSION.unpack_from(raw, at)
        data = raw[at + _EXTENSION.size : at + _EXTENSION.size + length]
        if kind == 0 or len(data) != length:
            return None
        if kind == _LOST:
            pairs = np.frombuffer(data[: length // 16 * 16], dtype=">u8").reshape(-1, 2)
            if length % 16 or (pairs[:, 0] >= pairs[:, 1]).any() or (pairs > header.size_bytes).any():
                raise Damaged("qcow2 header", at, "what it says of lost ranges makes no sense", "Make the image again.")
            return Extents.merged(pairs.astype(np.int64))
        at += _EXTENSION.size + (length + 7) // 8 * 8
    return None


def _lost_extension(lost: Extents) -> bytes:
    """Of too many ranges neighbours become one: rather too much is called lost than too little."""
    gap = 1 << 16
    while len(lost) > _MOST_LOST:
        lost, gap = lost.joined(gap), gap * 4
    data = lost.array.astype(">u8").tobytes()
    return _EXTENSION.pack(_LOST, len(data)) + data


def build_header(
    cluster_bits: int,
    size_bytes: int,
    l1_at: int,
    l1_count: int,
    table_at: int,
    table_clusters: int,
    lost: Extents,
) -> bytes:
    """A version 3 header with zstd clusters and 16-bit reference counts, and one extension: what was lost."""
    head = HEADER.pack(
        MAGIC,
        3,
        0,
        0,
        cluster_bits,
        size_bytes,
        0,
        l1_count,
        l1_at,
        table_at,
        table_clusters,
        0,
        0,
        INCOMPAT_COMPRESSION,
        0,
        0,
        4,
        HEADER_BYTES,
    )
    return head + bytes([ZSTD]) + bytes(7) + _lost_extension(lost) + bytes(8)
