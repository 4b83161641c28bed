"""exFAT at another size or place: its clusters move as one block and keep their numbers, so no directory changes.

Only the boot regions, the file allocation table and the allocation bitmap are made anew. Source: the published exFAT
specification, 1.00 (sections 3.1 boot sector, 3.4 boot checksum, 4.1 FAT, 7.1 allocation bitmap).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np

from neogenesis.core.errors import Damaged
from neogenesis.core.filesystem.exfat import Layout, read_layout
from neogenesis.core.filesystem.fat import Resized
from neogenesis.core.store import ReadableStore, WritableStore
from neogenesis.core.units import MIB, round_up

_BOOT_SECTORS = 12
_MOST_CLUSTERS = 0xFFFFFFF5
_LAST = 0xFFFFFFFF
Bits = np.ndarray[tuple[int], np.dtype[np.uint8]]


@dataclass(frozen=True, slots=True)
class _New:
    """The figures that change: sectors of the volume, of its table, where its clusters begin, and how many."""

    sectors: int
    table_sectors: int
    heap_sector: int
    clusters: int


def resized(store: ReadableStore, old_start: int, new_start: int, new_size_bytes: int) -> Resized:
    """Work out a volume of `new_size_bytes`; raises Damaged, or ValueError when it cannot be so small.

    `old_start` and `new_start` are its places on the drives, in bytes, which a boot sector may record.
    """
    old = read_layout(store)
    first_sector = new_start // old.sector_bytes if old.first_sector == old_start // old.sector_bytes else None
    bits = np.unpackbits(np.frombuffer(old.bitmap(store), dtype=np.uint8), bitorder="little")[: old.clusters]
    new = _figures(old, new_size_bytes)
    used = int(np.flatnonzero(bits).max(initial=-1)) + 1
    if new.clusters < used or new.clusters < 1:
        raise ValueError("the volume cannot be made that small without moving files")
    patches: list[tuple[int, bytes]] = []
    bits = np.concatenate((bits[: new.clusters], np.zeros(max(0, new.clusters - old.clusters), dtype=np.uint8)))
    chain = _bitmap_chain(old, new, bits)
    table_at = old.table_sector * old.sector_bytes
    links = {cluster: 0 for cluster in old.bitmap_clusters if cluster < new.clusters + 2}
    links |= dict(zip(chain, [*chain[1:], _LAST], strict=True))
    patches += [(table_at + 4 * cluster, struct.pack("<I", link)) for cluster, link in sorted(links.items())]
    raw = np.packbits(bits, bitorder="little").tobytes()
    for index, cluster in enumerate(chain):
        piece = raw[index * old.cluster_bytes : (index + 1) * old.cluster_bytes]
        at = (new.heap_sector * old.sector_bytes) + (cluster - 2) * old.cluster_bytes
        patches.append((at, piece.ljust(old.cluster_bytes, b"\0")))
    moved = (new.heap_sector - old.heap_sector) * old.sector_bytes
    patches.append((old.bitmap_entry + moved + 20, struct.pack("<IQ", chain[0], len(raw))))
    percent = int(bits.sum()) * 100 // new.clusters
    patches += _boot_patches(store, old, new, percent, first_sector)
    return Resized(
        tuple(patches),
        ((table_at, min(old.clusters, new.clusters) * 4 + 8, table_at),),
        old.heap_sector * old.sector_bytes,
        new.heap_sector * old.sector_bytes,
        min(old.clusters, new.clusters) * old.cluster_bytes,
        new.sectors * old.sector_bytes,
    )


def place_patches(store: ReadableStore, old_start: int, new_start: int) -> list[tuple[int, bytes]]:
    """Both boot regions with the new place, if they record the old one."""
    old = read_layout(store)
    if old.first_sector != old_start // old.sector_bytes:
        return []
    same = _New(old.sectors, old.table_sectors, old.heap_sector, old.clusters)
    return _boot_patches(store, old, same, None, new_start // old.sector_bytes)


def settle(store: WritableStore, sector_bytes: int, first_sector: int, serial: bytes) -> None:
    """Give a volume that was just made its place, its serial, and the sectors of its drive.

    The utility makes sectors of 512 bytes in a file; nothing but the boot regions counts in sectors. Raises Damaged.
    """
    old = read_layout(store)
    shift = (sector_bytes // old.sector_bytes).bit_length() - 1
    region = bytearray(store.read(0, _BOOT_SECTORS * old.sector_bytes))
    fields = struct.unpack_from("<QQIIIII", region, 64)
    _, sectors, table_at, table, heap, clusters, _ = fields
    least = 2 * _BOOT_SECTORS * sector_bytes
    if table_at * old.sector_bytes < least or region[109] < shift or any(v % (1 << shift) for v in (table_at, heap)):
        raise Damaged("exFAT boot sector", 0, "the new volume cannot be given the sectors of its drive")
    struct.pack_into(
        "<QQIIII",
        region,
        64,
        first_sector,
        sectors >> shift,
        table_at >> shift,
        -(-table >> shift),
        heap >> shift,
        clusters,
    )
    region[108], region[109] = region[108] + shift, region[109] - shift
    if serial:
        region[100:104] = serial
    wide = bytearray(_BOOT_SECTORS * sector_bytes)
    for n in range(_BOOT_SECTORS - 1):
        piece = bytes(region[n * old.sector_bytes : (n + 1) * old.sector_bytes])
        at = n * sector_bytes
        if 1 <= n <= 8:  # extended boot sectors end in their mark
            wide[at + sector_bytes - 4 : at + sector_bytes] = piece[-4:]
        else:
            wide[at : at + len(piece)] = piece
    wide[11 * sector_bytes :] = struct.pack("<I", _checksum(bytes(wide[: 11 * sector_bytes]))) * (sector_bytes // 4)
    store.write(0, bytes(wide))
    store.write(_BOOT_SECTORS * sector_bytes, bytes(wide))


def _figures(old: Layout, new_size_bytes: int) -> _New:
    """As many clusters as fit behind a table for them; where they begin keeps its alignment."""
    sectors = new_size_bytes // old.sector_bytes
    alignment = min(old.heap_sector & -old.heap_sector, MIB // old.sector_bytes)
    heap, table = old.heap_sector, old.table_sectors
    while True:
        clusters = min(_MOST_CLUSTERS, (sectors - heap) // old.cluster_sectors)
        needed = -(-(clusters + 2) * 4 // old.sector_bytes)
        if needed <= table:
            return _New(sectors, table, heap, clusters)
        table = needed
        heap = max(heap, round_up(old.table_sector + table, alignment))


def _bitmap_chain(old: Layout, new: _New, bits: Bits) -> list[int]:
    """The clusters of the bitmap, marked in `bits`: those it has, or new ones behind the old end."""
    count = -(-((new.clusters + 7) // 8) // old.cluster_bytes)
    chain = list(old.bitmap_clusters[:count])
    if count > len(chain):
        chain = list(range(old.clusters + 2, old.clusters + 2 + count))
        if chain[-1] >= new.clusters + 2:
            raise ValueError("the volume cannot be grown by so little: its bitmap would not fit")
    for cluster in old.bitmap_clusters:
        if cluster < new.clusters + 2:
            bits[cluster - 2] = 0
    for cluster in chain:
        bits[cluster - 2] = 1
    return chain


def _boot_patches(
    store: ReadableStore, old: Layout, new: _New, percent: int | None, first_sector: int | None
) -> list[tuple[int, bytes]]:
    """Main and backup boot regions whole, each with its checksum."""
    sector, found = old.sector_bytes, []
    for base in (0, _BOOT_SECTORS * sector):
        region = bytearray(store.read(base, _BOOT_SECTORS * sector))
        if first_sector is not None:
            struct.pack_into("<Q", region, 64, first_sector)
        struct.pack_into(
            "<QIIII", region, 72, new.sectors, old.table_sector, new.table_sectors, new.heap_sector, new.clusters
        )
        if percent is not None:
            region[112] = percent
        checksum = _checksum(bytes(region[: 11 * sector]))
        region[11 * sector :] = struct.pack("<I", checksum) * (sector // 4)
        found.append((base, bytes(region)))
    return found


def _checksum(region: bytes) -> int:
    """Over eleven sectors, without the flags and the share in use, which change while the volume is mounted."""
    total = 0
    for index, byte in enumerate(region):
        if index not in (106, 107, 112):
            total = ((total << 31 | total >> 1) + byte) & 0xFFFFFFFF
    return total
