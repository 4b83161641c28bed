"""FAT12, FAT16 and FAT32: boot sector, the table itself, label and clean flags, and growing by moving the data.

Source: ECMA-107 and the published FAT32 file system specification (boot sector fields, how the number of
clusters decides the width of the entries, the flags in entry 1).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np

from neogenesis.core.errors import Damaged
from neogenesis.core.extent import Array, Extents, runs_of_flags
from neogenesis.core.filesystem.model import Volume
from neogenesis.core.store import ReadableStore
from neogenesis.core.units import MIB, round_up

_PIECE = 6 * MIB  # of table: a multiple of 12, 16 and 32 bits
_MOST_12, _MOST_16, _MOST_32 = 4084, 65524, 0x0FFFFFF4


@dataclass(frozen=True, slots=True)
class BootSector:
    """Figures of the boot sector; areas are in sectors of `sector_bytes`."""

    sector_bytes: int
    cluster_sectors: int
    reserved: int
    copies: int
    root_entries: int
    sectors: int
    table_sectors: int
    hidden_sectors: int
    root_cluster: int
    backup_sector: int
    serial: int
    wide: bool

    @property
    def root_sectors(self) -> int:
        return -(-self.root_entries * 32 // self.sector_bytes)

    @property
    def data_sector(self) -> int:
        return self.reserved + self.copies * self.table_sectors + self.root_sectors

    @property
    def clusters(self) -> int:
        return (self.sectors - self.data_sector) // self.cluster_sectors

    @property
    def bits(self) -> int:
        if self.wide:
            return 32
        return 12 if self.clusters <= _MOST_12 else 16

    @property
    def cluster_bytes(self) -> int:
        return self.cluster_sectors * self.sector_bytes

    def most_clusters(self) -> int:
        """As many clusters as this width of entries can count."""
        return {12: _MOST_12, 16: _MOST_16, 32: _MOST_32}[self.bits]


def looks_like_boot_sector(raw: bytes) -> bool:
    """A jump, the mark, and figures that belong together."""
    if raw[510:512] != b"\x55\xaa" or raw[0] not in (0xEB, 0xE9):
        return False
    sector, spc, reserved, copies = struct.unpack_from("<HBHB", raw, 11)
    media = raw[21]
    return (
        sector in (512, 1024, 2048, 4096)
        and spc > 0
        and spc & (spc - 1) == 0
        and reserved > 0
        and copies in (1, 2)
        and media >= 0xF0
    )


def read_boot_sector(store: ReadableStore) -> BootSector:
    """Raises Damaged when the figures are impossible."""
    raw = store.read(0, 512)
    if not looks_like_boot_sector(raw):
        raise Damaged("FAT boot sector", 0, "its figures are impossible")
    sector, spc, reserved, copies, root, small, _, table, _, _, hidden, large = struct.unpack_from(
        "<HBHBHHBHHHII", raw, 11
    )
    wide_table, root_cluster, backup = struct.unpack_from("<I4xI2xH", raw, 36)
    wide = table == 0
    boot = BootSector(
        sector_bytes=sector,
        cluster_sectors=spc,
        reserved=reserved,
        copies=copies,
        root_entries=root,
        sectors=small or large,
        table_sectors=wide_table if wide else table,
        hidden_sectors=hidden,
        root_cluster=root_cluster if wide else 0,
        backup_sector=backup if wide and backup not in (0, 0xFFFF) else 0,
        serial=struct.unpack_from("<I", raw, 67 if wide else 39)[0],
        wide=wide,
    )
    if boot.sectors * sector > store.size_bytes or boot.clusters < 1 or boot.table_sectors < 1:
        raise Damaged("FAT boot sector", 0, "it describes a volume larger than its partition")
    if boot.clusters > _MOST_32 or boot.table_sectors * sector * 8 < (boot.clusters + 2) * boot.bits:
        raise Damaged("FAT boot sector", 0, "its table is too short for its clusters")
    return boot


def _used_clusters(store: ReadableStore, boot: BootSector) -> tuple[Extents, int]:
    """Clusters in use, counted from cluster 0 of the data area, and entry 1 with its flags."""
    at, end = boot.reserved * boot.sector_bytes, (boot.clusters + 2) * boot.bits
    end = at + (end + 7) // 8
    found: list[Array] = []
    index, flags = 0, 0
    while at < end:
        raw = np.frombuffer(store.read(at, min(_PIECE, end - at)), dtype=np.uint8)
        at += len(raw)
        values = _entries(raw, boot.bits)
        if index == 0:
            flags = int(values[1])
        if boot.bits == 32:
            values = values & 0x0FFFFFFF
        values = values[: boot.clusters + 2 - index]
        found.append(runs_of_flags((values != 0).astype(np.uint8)) + index)
        index += len(values)
    used = Extents.merged(np.concatenate(found)).clipped(2, boot.clusters + 2)
    return used.shifted(-2), flags


def _entries(raw: np.ndarray[tuple[int], np.dtype[np.uint8]], bits: int) -> Array:
    if bits == 32:
        return raw[: len(raw) // 4 * 4].view("<u4").astype(np.int64)
    if bits == 16:
        return raw[: len(raw) // 2 * 2].view("<u2").astype(np.int64)
    padded = np.concatenate((raw, np.zeros(-len(raw) % 3, dtype=np.uint8))).astype(np.int64).reshape(-1, 3)
    low = padded[:, 0] | (padded[:, 1] & 15) << 8
    high = padded[:, 1] >> 4 | padded[:, 2] << 4
    return np.stack((low, high), axis=1).ravel()


def _label(store: ReadableStore, boot: BootSector) -> str:
    """The label in the root directory, which counts, else the one in the boot sector."""
    if boot.wide:
        if not 2 <= boot.root_cluster < boot.clusters + 2:
            raise Damaged("FAT boot sector", 0, "its root directory lies outside")
        at = boot.data_sector * boot.sector_bytes + (boot.root_cluster - 2) * boot.cluster_bytes
        raw = store.read(at, boot.cluster_bytes)
    else:
        at = (boot.data_sector - boot.root_sectors) * boot.sector_bytes
        raw = store.read(at, boot.root_sectors * boot.sector_bytes)
    for entry in range(0, len(raw) - 31, 32):
        if raw[entry] == 0:
            break
        if raw[entry] != 0xE5 and raw[entry + 11] & 0x3F == 0x08:
            return raw[entry : entry + 11].decode("cp437").rstrip()
    sector = store.read(0, 512)
    text = sector[71:82] if boot.wide else sector[43:54]
    return "" if text.startswith(b"NO NAME") else text.decode("cp437").rstrip("\0 ")


def read_volume(store: ReadableStore) -> Volume:
    """Everything about the volume; raises Damaged or ReadFailed."""
    boot = read_boot_sector(store)
    used, flags = _used_clusters(store, boot)
    head = boot.data_sector * boot.sector_bytes
    clean = {12: True, 16: bool(flags & 0x8000), 32: bool(flags & 0x08000000)}[boot.bits]
    size = boot.sectors * boot.sector_bytes
    # Nothing is moved inside a FAT volume, so it can be cut only behind its last cluster in use.
    least = {12: 1, 16: _MOST_12 + 1, 32: _MOST_16 + 1}[boot.bits]
    smallest = head + max(used.end, least) * boot.cluster_bytes
    return Volume(
        kind="vfat",
        size_bytes=size,
        label=_label(store, boot),
        uuid=f"{boot.serial >> 16:04X}-{boot.serial & 0xFFFF:04X}",
        block_bytes=boot.cluster_bytes,
        used_bytes=used.total * boot.cluster_bytes,
        smallest_bytes=min(size, round_up(smallest, MIB)),
        dirty=not clean,
        allocation=Extents(used.array * boot.cluster_bytes + head).union(Extents.of([(0, head)])),
    )


@dataclass(frozen=True, slots=True)
class Resized:
    """How a FAT volume looks at another size: `patches` replace bytes of its head, and its clusters move.

    All of the data area moves from `old_data_at` to `new_data_at`; entries keep their numbers, so no directory
    changes and names, dates and attributes stay exactly as they are.
    """

    patches: tuple[tuple[int, bytes], ...]
    tables: tuple[tuple[int, int, int], ...]
    old_data_at: int
    new_data_at: int
    data_bytes: int
    size_bytes: int


def resized(store: ReadableStore, old_start: int, new_start: int, new_size_bytes: int) -> Resized:
    """Work out a volume of at most `new_size_bytes`; raises Damaged, or ValueError when it cannot be so small.

    `old_start` and `new_start` are its places on the drives: a boot sector that records its own is told. The width
    of the entries stays, so growth ends where it can count no more clusters. `tables` are copies of (old start,
    length, new start) bytes; bytes of the new head that neither names are zeros.
    """
    boot = read_boot_sector(store)
    records_place = boot.hidden_sectors and boot.hidden_sectors == old_start // boot.sector_bytes
    hidden_sectors = new_start // boot.sector_bytes if records_place else None
    used, _ = _used_clusters(store, boot)
    room = new_size_bytes // boot.sector_bytes
    fixed = boot.reserved + boot.root_sectors
    clusters = min(boot.most_clusters(), (room - fixed) // boot.cluster_sectors)
    while True:
        table = max(boot.table_sectors, -(-(clusters + 2) * boot.bits // (8 * boot.sector_bytes)))
        fit = (room - fixed - boot.copies * table) // boot.cluster_sectors
        if clusters <= fit:
            break
        clusters = fit
    if clusters < used.end or (boot.bits == 32 and clusters <= _MOST_16) or (boot.bits == 16 and clusters <= _MOST_12):
        raise ValueError("the volume cannot be made that small without moving files")
    data_sector = fixed + boot.copies * table
    sectors = data_sector + clusters * boot.cluster_sectors if room > 0xFFFFFFFF else room
    sectors = min(sectors, data_sector + (clusters + 1) * boot.cluster_sectors - 1)
    patches: list[tuple[int, bytes]] = []
    for base in [0] + ([boot.backup_sector * boot.sector_bytes] if boot.backup_sector else []):
        small = sectors < 0x10000 and not boot.wide
        patches.append((base + 19, struct.pack("<H", sectors if small else 0)))
        patches.append((base + 32, struct.pack("<I", 0 if small else sectors)))
        patches.append((base + (36 if boot.wide else 22), struct.pack("<I" if boot.wide else "<H", table)))
        if hidden_sectors is not None:
            patches.append((base + 28, struct.pack("<I", hidden_sectors)))
    if boot.wide and store.read(boot.sector_bytes, 4) == b"RRaA":
        for sector in [1] + ([boot.backup_sector + 1] if boot.backup_sector else []):
            patches.append((sector * boot.sector_bytes + 488, struct.pack("<I", clusters - used.total)))
    tables = [(0, boot.reserved * boot.sector_bytes, 0)]
    old_table = boot.reserved * boot.sector_bytes
    length = ((boot.clusters + 2) * boot.bits + 7) // 8
    for copy in range(boot.copies):
        tables.append((old_table, length, (boot.reserved + copy * table) * boot.sector_bytes))
    root_at = (boot.data_sector - boot.root_sectors) * boot.sector_bytes
    root_bytes = boot.root_sectors * boot.sector_bytes
    tables.append((root_at, root_bytes, (data_sector - boot.root_sectors) * boot.sector_bytes))
    return Resized(
        tuple(patches),
        tuple(t for t in tables if t[1]),
        boot.data_sector * boot.sector_bytes,
        data_sector * boot.sector_bytes,
        min(boot.clusters, clusters) * boot.cluster_bytes,
        sectors * boot.sector_bytes,
    )


def place_patches(store: ReadableStore, old_start: int, new_start: int) -> list[tuple[int, bytes]]:
    """As for NTFS: only a boot sector that records its old place is patched, with its backup."""
    boot = read_boot_sector(store)
    if boot.hidden_sectors == 0 or boot.hidden_sectors != old_start // boot.sector_bytes:
        return []
    value = struct.pack("<I", new_start // boot.sector_bytes)
    backup = [(boot.backup_sector * boot.sector_bytes + 28, value)] if boot.backup_sector else []
    return [(28, value), *backup]
