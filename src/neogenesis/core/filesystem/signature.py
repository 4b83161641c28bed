"""Volumes that are recognised and described from their first bytes, but not understood inside."""

from __future__ import annotations

import struct
from collections.abc import Callable

from neogenesis.core.errors import ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.filesystem.members import btrfs_member, lvm_member, raid_member
from neogenesis.core.filesystem.model import Volume
from neogenesis.core.store import ReadableStore

_PAGE = 4096
_MD_MAGIC = 0xA92B4EFC
_SLEEPING = (b"S1SUSPEND", b"S2SUSPEND", b"ULSUSPEND", b"LINHIB0001", b"\xed\xc3\x02\xe9\x98\x56\xe5\x0c")


def _text(raw: bytes) -> str:
    return raw.split(b"\0")[0].decode("utf-8", "replace").strip()


def _uuid(raw: bytes) -> str:
    text = raw.hex()
    return "-".join((text[:8], text[8:12], text[12:16], text[16:20], text[20:]))


def peek(store: ReadableStore, offset: int, length: int) -> bytes:
    """Bytes of a place that may not exist or not be readable; then zeros."""
    try:
        return store.read(offset, length)
    except ReadFailed:
        return bytes(length)


def _raid(store: ReadableStore) -> Volume | None:
    size = store.size_bytes
    places = [4096, 0, ((size - 8192) & ~4095), (size & ~65535) - 65536]
    for at in places:
        raw = peek(store, at, 64) if at >= 0 else bytes(64)
        if struct.unpack_from("<I", raw)[0] == _MD_MAGIC:
            version, member = struct.unpack_from("<I", raw, 4)[0], raid_member(store, at)
            if version == 1:
                return Volume("raid", size, label=_text(raw[32:64]), uuid=_uuid(raw[16:32]), member=member)
            return Volume("raid", size, member=member)
    return None


def _luks(store: ReadableStore) -> Volume | None:
    raw = peek(store, 0, 256)
    if raw[:6] != b"LUKS\xba\xbe":
        return None
    label = _text(raw[24:72]) if raw[6:8] == b"\0\x02" else ""
    return Volume("luks", store.size_bytes, label=label, uuid=_text(raw[168:208]), encrypted=True)


def _fve(store: ReadableStore) -> Volume | None:
    if peek(store, 0, 16)[3:11] != b"-FVE-FS-":
        return None
    return Volume("fve", store.size_bytes, encrypted=True)


def _lvm(store: ReadableStore) -> Volume | None:
    for sector in range(4):
        raw = peek(store, sector * 512, 512)
        if raw[:8] == b"LABELONE" and raw[24:32] == b"LVM2 001":
            return Volume("lvm", store.size_bytes, uuid=_text(raw[32:64]), member=lvm_member(store, raw))
    return None


def _btrfs(store: ReadableStore) -> Volume | None:
    raw = peek(store, 0x10000, 0x400)
    if raw[0x40:0x48] != b"_BHRfS_M":
        return None
    total, used = struct.unpack_from("<QQ", raw, 0x70)
    block = struct.unpack_from("<I", raw, 0x90)[0]
    return Volume(
        "btrfs",
        min(total, store.size_bytes),
        label=_text(raw[0x12B:0x22B]),
        uuid=_uuid(raw[0x20:0x30]),
        block_bytes=block,
        used_bytes=min(used, total),
        member=btrfs_member(raw),
    )


def _xfs(store: ReadableStore) -> Volume | None:
    raw = peek(store, 0, 512)
    if raw[:4] != b"XFSB":
        return None
    block, blocks = struct.unpack_from(">IQ", raw, 4)
    free = struct.unpack_from(">Q", raw, 144)[0]
    return Volume(
        "xfs",
        min(block * blocks, store.size_bytes),
        label=_text(raw[108:120]),
        uuid=_uuid(raw[32:48]),
        block_bytes=block,
        used_bytes=block * max(0, blocks - free),
    )


def _apfs(store: ReadableStore) -> Volume | None:
    raw = peek(store, 0, 128)
    if raw[32:36] != b"NXSB":
        return None
    block, blocks = struct.unpack_from("<IQ", raw, 36)
    size = min(block * blocks, store.size_bytes)
    return Volume("apfs", size, uuid=_uuid(raw[72:88]), block_bytes=block, used_bytes=size)


def _hfsplus(store: ReadableStore) -> Volume | None:
    raw = peek(store, 1024, 128)
    if raw[:2] not in (b"H+", b"HX"):
        return None
    attributes = struct.unpack_from(">I", raw, 4)[0]
    block, blocks, free = struct.unpack_from(">III", raw, 40)
    return Volume(
        "hfsplus",
        min(block * blocks, store.size_bytes),
        block_bytes=block,
        used_bytes=block * max(0, blocks - free),
        dirty=not attributes & 0x100,
    )


def _swap(store: ReadableStore) -> Volume | None:
    """Swap space holds nothing once a system is shut down: its header, with label and UUID, makes it anew."""
    mark = peek(store, _PAGE - 10, 10)
    sleeping = any(mark.startswith(s) for s in _SLEEPING)
    if mark not in (b"SWAPSPACE2", b"SWAP-SPACE") and not sleeping:
        return None
    raw = peek(store, 1024, 64)
    return Volume(
        "swap",
        store.size_bytes,
        label=_text(raw[28:44]),
        uuid=_uuid(raw[12:28]),
        block_bytes=_PAGE,
        hibernated=sleeping,
        allocation=None if sleeping else Extents.of([(0, _PAGE)]),
    )


#: In the order in which they are asked: what wraps other volumes comes first.
BEFORE_FILESYSTEMS: tuple[Callable[[ReadableStore], Volume | None], ...] = (_raid, _luks, _fve, _lvm)
AFTER_FILESYSTEMS: tuple[Callable[[ReadableStore], Volume | None], ...] = (_btrfs, _xfs, _apfs, _hfsplus, _swap)
