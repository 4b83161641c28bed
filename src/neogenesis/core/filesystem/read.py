"""Recognising a volume and reading it with what understands its kind."""

from __future__ import annotations

import struct
from dataclasses import replace

from neogenesis.core.errors import Damaged, ReadFailed
from neogenesis.core.filesystem import exfat, ext, fat, ntfs, signature
from neogenesis.core.filesystem.model import OpenFiles, Volume, VolumeKind
from neogenesis.core.store import ReadableStore


def read_volume(store: ReadableStore, files: OpenFiles | None = None) -> Volume:
    """What the partition in `store` holds, but for the system on it. Damage ends up in `fault`, never in an exception.

    `files` opens the volume's files, for a map that is too fragmented for a single record; it may raise Damaged.
    """
    for ask in signature.BEFORE_FILESYSTEMS:
        found = ask(store)
        if found:
            return _whole(found, store)
    head = signature.peek(store, 0, min(512, store.size_bytes)).ljust(512, b"\0")
    kind = _filesystem_kind(store, head)
    if kind is None:
        for ask in signature.AFTER_FILESYSTEMS:
            found = ask(store)
            if found:
                return _whole(found, store)
        return Volume("none", store.size_bytes, smallest_bytes=store.size_bytes)
    try:
        return _understand(kind, store, files)
    except (Damaged, ReadFailed, struct.error) as error:
        text = error.text if isinstance(error, Damaged | ReadFailed) else "its structures are cut short"
        return Volume(kind, store.size_bytes, smallest_bytes=store.size_bytes, dirty=True, fault=text)


def _whole(volume: Volume, store: ReadableStore) -> Volume:
    """A volume that is carried as it is cannot be smaller than its partition."""
    used = volume.used_bytes or store.size_bytes
    return replace(volume, used_bytes=min(used, store.size_bytes), smallest_bytes=store.size_bytes)


def _filesystem_kind(store: ReadableStore, head: bytes) -> VolumeKind | None:
    if head[3:11] == b"NTFS    ":
        return "ntfs"
    if head[3:11] == b"EXFAT   ":
        return "exfat"
    if struct.unpack("<H", signature.peek(store, 1024 + 0x38, 2))[0] == ext.MAGIC:
        return "ext2"
    if fat.looks_like_boot_sector(head):
        return "vfat"
    return None


def _understand(kind: VolumeKind, store: ReadableStore, files: OpenFiles | None) -> Volume:
    if kind == "ntfs":
        return ntfs.read_volume(store, files)
    if kind == "exfat":
        return exfat.read_volume(store)
    if kind == "vfat":
        return fat.read_volume(store)
    return ext.read_volume(store)
