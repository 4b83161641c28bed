"""ext2, ext3 and ext4: superblock, group descriptors and block bitmaps.

Source: the ext4 data structures documented with the Linux kernel (super block, block group descriptors,
flexible groups, meta block groups, uninitialised bitmaps, clusters).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np

from neogenesis.core.errors import Damaged
from neogenesis.core.extent import Array, Extents, runs_of_bits
from neogenesis.core.filesystem.model import Volume, VolumeKind
from neogenesis.core.store import ReadableStore
from neogenesis.core.units import MIB, round_up

MAGIC = 0xEF53
_SUPER_AT, _SUPER_SIZE = 1024, 1024
_COMPAT_JOURNAL, _COMPAT_SPARSE2, _COMPAT_STABLE_INODES = 0x4, 0x200, 0x800
_INCOMPAT_RECOVER, _INCOMPAT_JOURNAL_DEVICE, _INCOMPAT_META_BG = 0x4, 0x8, 0x10
_INCOMPAT_64BIT, _INCOMPAT_FLEX_BG = 0x80, 0x200
_INCOMPAT_EXT4 = 0x40 | 0x80 | 0x200  # extents, 64 bit, flexible groups
_RO_SPARSE, _RO_GDT_CSUM, _RO_BIGALLOC, _RO_CSUM = 0x1, 0x10, 0x200, 0x400
_RO_EXT4 = 0x8 | _RO_GDT_CSUM | 0x20 | 0x40 | _RO_BIGALLOC | _RO_CSUM
_BLOCK_UNINIT = 0x2
_GROUPS_AT_ONCE = 256
_MOST_GROUPS = 1 << 22


@dataclass(frozen=True, slots=True)
class Super:
    """The figures of the superblock that matter here. Blocks are `block_bytes` long."""

    blocks: int
    free_blocks: int
    inodes: int
    free_inodes: int
    first_block: int
    block_bytes: int
    cluster_blocks: int
    group_blocks: int
    group_inodes: int
    inode_bytes: int
    state: int
    compat: int
    incompat: int
    ro_compat: int
    uuid: str
    label: str
    descriptor_bytes: int
    reserved_gdt: int
    first_meta_bg: int
    backup_groups: tuple[int, int]
    flex_groups: int

    @property
    def groups(self) -> int:
        return -(-(self.blocks - self.first_block) // self.group_blocks)

    @property
    def super_block(self) -> int:
        """Where the first superblock stands; with clusters and 1 KiB blocks that is not the first data block."""
        return max(self.first_block, _SUPER_AT // self.block_bytes)

    @property
    def table_blocks(self) -> int:
        """Blocks of one group's inode table."""
        return -(-self.group_inodes * self.inode_bytes // self.block_bytes)

    @property
    def kind(self) -> VolumeKind:
        if self.incompat & _INCOMPAT_EXT4 or self.ro_compat & _RO_EXT4:
            return "ext4"
        return "ext3" if self.compat & _COMPAT_JOURNAL else "ext2"

    @property
    def fixed(self) -> bool:
        """Whether it has what the resizing utility does not support: clusters, inodes that must not move, no files."""
        return bool(
            self.ro_compat & _RO_BIGALLOC
            or self.compat & _COMPAT_STABLE_INODES
            or self.incompat & _INCOMPAT_JOURNAL_DEVICE
        )

    def groups_with_backups(self) -> list[int]:
        """Groups that carry a copy of the superblock and the descriptors: the first always."""
        if self.compat & _COMPAT_SPARSE2:
            return sorted({0, *(g for g in self.backup_groups if 0 < g < self.groups)})
        if not self.ro_compat & _RO_SPARSE:
            return list(range(self.groups))
        found = {0, 1}
        for base in (3, 5, 7):
            power = base
            while power < self.groups:
                found.add(power)
                power *= base
        return sorted(g for g in found if g < self.groups)


def is_possible_inode_size(inode_bytes: int, block_bytes: int) -> bool:
    """A power of two from 128 bytes to a block."""
    return 128 <= inode_bytes <= block_bytes and not inode_bytes & (inode_bytes - 1)


def read_super(store: ReadableStore) -> Super:
    """Raises Damaged when the figures are impossible."""
    raw = store.read(_SUPER_AT, _SUPER_SIZE)

    def u16(at: int) -> int:
        return int(struct.unpack_from("<H", raw, at)[0])

    def u32(at: int) -> int:
        return int(struct.unpack_from("<I", raw, at)[0])

    if u16(0x38) != MAGIC:
        raise Damaged("ext superblock", _SUPER_AT, "the signature is missing")
    log_block, log_cluster = u32(0x18), u32(0x1C)
    wide = bool(u32(0x60) & _INCOMPAT_64BIT)
    if log_block > 6 or log_cluster > 20:
        raise Damaged("ext superblock", _SUPER_AT, "its block size is impossible")
    block = 1024 << log_block
    bigalloc = bool(u32(0x64) & _RO_BIGALLOC)
    raw_uuid = raw[0x68:0x78].hex()
    uuid = "-".join((raw_uuid[:8], raw_uuid[8:12], raw_uuid[12:16], raw_uuid[16:20], raw_uuid[20:]))
    found = Super(
        blocks=u32(0x4) | (u32(0x150) << 32 if wide else 0),
        free_blocks=u32(0xC) | (u32(0x158) << 32 if wide else 0),
        inodes=u32(0x0),
        free_inodes=u32(0x10),
        first_block=u32(0x14),
        block_bytes=block,
        cluster_blocks=1 << (log_cluster - log_block) if bigalloc and log_cluster >= log_block else 1,
        group_blocks=u32(0x20),
        group_inodes=u32(0x28),
        inode_bytes=u16(0x58) if u32(0x4C) else 128,
        state=u16(0x3A),
        compat=u32(0x5C),
        incompat=u32(0x60),
        ro_compat=u32(0x64),
        uuid=uuid,
        label=raw[0x78:0x88].split(b"\0")[0].decode("utf-8", "replace"),
        descriptor_bytes=(u16(0xFE) or 64) if wide else 32,
        reserved_gdt=u16(0xCE),
        first_meta_bg=u32(0x104),
        backup_groups=(u32(0x24C), u32(0x250)),
        flex_groups=1 << min(raw[0x174], 22) if u32(0x60) & _INCOMPAT_FLEX_BG else 1,
    )
    if not 0 < found.group_blocks <= block * 8 * found.cluster_blocks or not 0 < found.group_inodes <= block * 8:
        raise Damaged("ext superblock", _SUPER_AT, "its groups are impossible")
    if not is_possible_inode_size(found.inode_bytes, block):
        raise Damaged("ext superblock", _SUPER_AT, "its inode size is impossible")
    if not found.first_block < found.blocks or found.blocks * block > store.size_bytes:
        raise Damaged("ext superblock", _SUPER_AT, "it describes a volume larger than its partition")
    if found.groups > _MOST_GROUPS or not 32 <= found.descriptor_bytes <= block:
        raise Damaged("ext superblock", _SUPER_AT, "its group descriptors are impossible")
    return found


def _descriptors(store: ReadableStore, sb: Super) -> np.ndarray[tuple[int, int], np.dtype[np.uint8]]:
    """Raw group descriptors, shape (groups, descriptor_bytes)."""
    per_block = sb.block_bytes // sb.descriptor_bytes
    count = -(-sb.groups // per_block)
    linear = count
    if sb.incompat & _INCOMPAT_META_BG:
        linear = min(count, sb.first_meta_bg)
    backups = set(sb.groups_with_backups())
    pieces = [store.read((sb.super_block + 1) * sb.block_bytes, linear * sb.block_bytes)] if linear else []
    for index in range(linear, count):
        group = index * per_block
        place = sb.first_block + group * sb.group_blocks + (1 if group in backups else 0)
        pieces.append(store.read(place * sb.block_bytes, sb.block_bytes))
    raw = np.frombuffer(b"".join(pieces), dtype=np.uint8)
    return raw[: sb.groups * sb.descriptor_bytes].reshape(sb.groups, sb.descriptor_bytes)


def _meta_descriptors(sb: Super) -> Array:
    """Where meta groups keep their descriptors: a block in their first, second and last group; ranges in blocks.

    No bitmap tells of them while the group is uninitialised. Source: the kernel's documentation, “Meta Block Groups”.
    """
    per_block = sb.block_bytes // sb.descriptor_bytes
    first = sb.first_meta_bg if sb.incompat & _INCOMPAT_META_BG else -(-sb.groups // per_block)
    metas = np.arange(first, -(-sb.groups // per_block), dtype=np.int64) * per_block
    groups = np.concatenate((metas, metas + 1, metas + per_block - 1))
    groups = groups[groups < sb.groups]
    behind_super = np.isin(groups, np.array(sb.groups_with_backups(), dtype=np.int64))
    places = sb.first_block + groups * sb.group_blocks + behind_super
    return np.stack((places, np.minimum(places + 1, sb.blocks)), axis=1)


def _field(descriptors: np.ndarray[tuple[int, int], np.dtype[np.uint8]], low: int, high: int) -> Array:
    """A 32-bit field with its upper half where the descriptors are wide enough."""
    value = np.ascontiguousarray(descriptors[:, low : low + 4]).view("<u4").astype(np.int64).ravel()
    if descriptors.shape[1] >= 64:
        value |= np.ascontiguousarray(descriptors[:, high : high + 4]).view("<u4").astype(np.int64).ravel() << 32
    return value


def _free_blocks(descriptors: np.ndarray[tuple[int, int], np.dtype[np.uint8]], sb: Super) -> Array:
    """What each group's descriptor counts as free, in blocks."""
    count = np.ascontiguousarray(descriptors[:, 0x0C:0x0E]).view("<u2").astype(np.int64).ravel()
    if descriptors.shape[1] >= 64:
        count |= np.ascontiguousarray(descriptors[:, 0x2C:0x2E]).view("<u2").astype(np.int64).ravel() << 16
    return count * sb.cluster_blocks


def _allocation(store: ReadableStore, sb: Super) -> tuple[Extents, int]:
    """Allocated ranges in blocks, from the bitmaps and from where the metadata must be; and the blocks in use.

    In use is what the bitmaps count; for a group whose bitmap was never written, what its descriptor counts.
    """
    descriptors = _descriptors(store, sb)
    bitmaps, inode_bitmaps, tables = (_field(descriptors, lo, lo + 32) for lo in (0, 4, 8))
    flags = np.ascontiguousarray(descriptors[:, 0x12:0x14]).view("<u2").ravel()
    uninit = (flags & _BLOCK_UNINIT).astype(bool)
    if not sb.ro_compat & (_RO_GDT_CSUM | _RO_CSUM):
        uninit[:] = False
    limit = sb.blocks
    for places, length in ((bitmaps, 1), (inode_bitmaps, 1), (tables, sb.table_blocks)):
        if (places < sb.first_block).any() or (places + length > limit).any():
            raise Damaged("ext group descriptors", (sb.first_block + 1) * sb.block_bytes, "a place lies outside")
    found = [np.stack((p, p + n), axis=1) for p, n in ((bitmaps, 1), (inode_bitmaps, 1), (tables, sb.table_blocks))]
    gdt = -(-sb.groups * sb.descriptor_bytes // sb.block_bytes) + sb.reserved_gdt
    if sb.incompat & _INCOMPAT_META_BG:
        gdt = min(gdt, sb.first_meta_bg) + 1
    heads = [max(sb.super_block, sb.first_block + g * sb.group_blocks) for g in sb.groups_with_backups()]
    found.append(np.array([(h, min(h + 1 + gdt, limit)) for h in heads], dtype=np.int64).reshape(-1, 2))
    found.append(_meta_descriptors(sb))
    group_bits = sb.group_blocks // sb.cluster_blocks
    starts = sb.first_block + np.arange(sb.groups, dtype=np.int64) * sb.group_blocks
    lengths = np.minimum(starts + sb.group_blocks, limit) - starts
    in_use = int((lengths - _free_blocks(descriptors, sb))[uninit].sum())
    for first in range(0, sb.groups, _GROUPS_AT_ONCE):
        stop = min(first + _GROUPS_AT_ONCE, sb.groups)
        rows = _bitmap_rows(store, sb, bitmaps[first:stop], uninit[first:stop])
        if group_bits % 8 == 0:
            bitmap = np.ascontiguousarray(rows[:, : group_bits // 8])
        else:
            bits = np.unpackbits(rows, axis=1, bitorder="little")[:, :group_bits]
            bitmap = np.packbits(bits, axis=None, bitorder="little")
        runs = runs_of_bits(bitmap.ravel(), (stop - first) * group_bits) + first * group_bits
        ranges = np.minimum(runs * sb.cluster_blocks + sb.first_block, limit)
        in_use += int((ranges[:, 1] - ranges[:, 0]).sum())
        found.append(ranges)
    every = Extents.merged(np.concatenate([f for f in found if len(f)])).clipped(sb.first_block, limit)
    return every, min(max(in_use, 0), limit)


def _bitmap_rows(
    store: ReadableStore, sb: Super, places: Array, uninit: np.ndarray[tuple[int], np.dtype[np.bool_]]
) -> np.ndarray[tuple[int, int], np.dtype[np.uint8]]:
    """The bitmaps of neighbouring groups, a row each; zeros for one that was never written.

    Those that stand side by side are read at once.
    """
    rows = np.zeros((len(places), sb.block_bytes), dtype=np.uint8)
    wanted = np.flatnonzero(~uninit)
    breaks = np.flatnonzero((np.diff(places[wanted]) != 1) | (np.diff(wanted) != 1)) + 1
    for run in np.split(wanted, breaks):
        if len(run):
            piece = rows[run[0] : run[-1] + 1].reshape(-1).data
            store.read_into(int(places[run[0]]) * sb.block_bytes, piece)
    return rows


def _smallest_blocks(sb: Super, used_blocks: int) -> int:
    """Fewest blocks that hold the data with the metadata of as many groups as they need.

    The utility wants room for growing extent trees as well: a twentieth and 4,096 blocks are added. Inode tables of
    flexible groups stand together in the first of them, so those of all its groups are there while it shrinks.
    """
    if sb.fixed:
        return sb.blocks
    per_group = sb.table_blocks + 2
    data = max(0, used_blocks - sb.groups * per_group)
    data += data // 20 + 4096
    by_data = -(-data // max(1, sb.group_blocks - per_group))
    by_inodes = -(-(sb.inodes - sb.free_inodes) // sb.group_inodes)
    groups = max(1, by_data, by_inodes)
    together = min(sb.groups, round_up(groups, sb.flex_groups)) * per_group
    return min(sb.blocks, max(data + together, groups * sb.group_blocks if by_inodes > by_data else 0))


def read_volume(store: ReadableStore) -> Volume:
    """Everything about the volume but the system on it; raises Damaged or ReadFailed."""
    sb = read_super(store)
    used, in_use = _allocation(store, sb)
    copied = Extents(used.array * sb.block_bytes).union(Extents.of([(0, 2048)]))
    size = sb.blocks * sb.block_bytes
    return Volume(
        kind=sb.kind,
        size_bytes=size,
        label=sb.label,
        uuid=sb.uuid,
        block_bytes=sb.block_bytes,
        used_bytes=in_use * sb.block_bytes,
        smallest_bytes=min(size, round_up(_smallest_blocks(sb, used.total) * sb.block_bytes, MIB)),
        dirty=not sb.state & 1 or bool(sb.state & 2) or bool(sb.incompat & _INCOMPAT_RECOVER),
        fixed=sb.fixed,
        table_share=(sb.table_blocks + 2) / sb.group_blocks,
        allocation=copied,
    )
