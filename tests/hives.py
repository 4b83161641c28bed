"""Registry hives as the distribution's own tools write them: an empty one, and what is merged into it."""

from __future__ import annotations

import struct
from pathlib import Path

from neogenesis.bench.inside.hive import merge_into_hive

#: A value: text, a number, several texts, or bytes.
Value = str | int | list[str] | bytes


def empty_hive() -> bytes:
    """A base block, one bin, a root key and its security: what a hive has at least."""
    bin_ = bytearray(4096)
    struct.pack_into("<4sIIQQI", bin_, 0, b"hbin", 0, 4096, 0, 0, 0)
    name = b"ROOT"
    key = bytearray(76 + len(name))
    key[0:2] = b"nk"
    struct.pack_into("<HQ", key, 2, 0x2C, 132_000_000_000_000_000)
    struct.pack_into("<II", key, 12, 0, 0xFFFFFFFF)
    struct.pack_into("<II", key, 28, 0xFFFFFFFF, 0xFFFFFFFF)
    struct.pack_into("<II", key, 36, 0, 0xFFFFFFFF)
    struct.pack_into("<I", key, 48, 0xFFFFFFFF)
    struct.pack_into("<HH", key, 72, len(name), 0)
    key[76:] = name
    size = (4 + len(key) + 7) // 8 * 8
    security_at = 32 + size
    struct.pack_into("<I", key, 44, security_at)
    struct.pack_into("<i", bin_, 32, -size)
    bin_[36 : 36 + len(key)] = key
    security = bytearray(40)
    security[0:2] = b"sk"
    struct.pack_into("<IIII", security, 4, security_at, security_at, 1, 20)
    struct.pack_into("<BBH", security, 20, 1, 0, 0x8000)
    security_size = (4 + len(security) + 7) // 8 * 8
    struct.pack_into("<i", bin_, security_at, -security_size)
    bin_[security_at + 4 : security_at + 4 + len(security)] = security
    free = security_at + security_size
    struct.pack_into("<i", bin_, free, 4096 - free)
    base = bytearray(4096)
    struct.pack_into("<4sIIQIIIIII", base, 0, b"regf", 1, 1, 132_000_000_000_000_000, 1, 3, 0, 1, 32, 4096)
    struct.pack_into("<I", base, 44, 1)
    checksum = 0
    for (word,) in struct.iter_unpack("<I", base[:508]):
        checksum ^= word
    struct.pack_into("<I", base, 508, checksum)
    return bytes(base + bin_)


def make_hive(path: Path, keys: dict[str, dict[str, Value]]) -> bytes:
    """A hive with these keys, by their paths, each with its values; parents are made as well."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(empty_hive())
    merge_into_hive(path, keys)
    return path.read_bytes()
