"""exFAT: boot sector, allocation bitmap, label, dirty flag. Source: the published exFAT specification, 1.00."""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np

from neogenesis.core.errors import Damaged
from neogenesis.core.extent import Extents, runs_of_bits
from neogenesis.core.filesystem.model import Volume
from neogenesis.core.store import ReadableStore
from neogenesis.core.units import MIB, round_up

_BITMAP_ENTRY, _LABEL_ENTRY = 0x81, 0x83
_MOST_ROOT_CLUSTERS = 4096
_DIRTY_FLAG = 0x0002


@dataclass(frozen=True, slots=True)
class Layout:
    """Where things are. Areas in sectors of `sector_bytes`; clusters are counted from 2; `bitmap_entry` in bytes."""

    sector_bytes: int
    cluster_sectors: int
    first_sector: int
    sectors: int
    table_sector: int
    table_sectors: int
    heap_sector: int
    clusters: int
    serial: int
    flags: int
    bitmap_entry: int
    bitmap_clusters: tuple[int, ...]
    label: str

    @property
    def cluster_bytes(self) -> int:
        return self.cluster_sectors * self.sector_bytes

    @property
    def heap_bytes(self) -> int:
        """Where cluster 2 begins, in bytes."""
        return self.heap_sector * self.sector_bytes

    def bitmap(self, store: ReadableStore) -> bytes:
        """One bit for each cluster, in whole bytes."""
        needed = (self.clusters + 7) // 8
        pieces: list[bytes] = []
        for number in self.bitmap_clusters:
            place = self.heap_bytes + (number - 2) * self.cluster_bytes
            pieces.append(store.read(place, min(self.cluster_bytes, needed - self.cluster_bytes * len(pieces))))
        raw = b"".join(pieces)
        if len(raw) < needed:
            raise Damaged("exFAT bitmap", self.bitmap_entry, "it is shorter than the volume")
        return raw


def read_layout(store: ReadableStore) -> Layout:
    """Raises Damaged or ReadFailed."""
    raw = store.read(0, 512)
    first, length, fat_at, fat_length, heap, clusters, root, serial, _, flags, sector_shift, cluster_shift = (
        struct.unpack_from("<QQIIIIIIHHBB", raw, 64)
    )
    if not 9 <= sector_shift <= 12 or cluster_shift > 25 - sector_shift:
        raise Damaged("exFAT boot sector", 0, "its sector or cluster size is impossible")
    sector, cluster = 1 << sector_shift, 1 << (sector_shift + cluster_shift)
    heap_at = heap * sector
    if length * sector > store.size_bytes or heap_at + clusters * cluster > length * sector:
        raise Damaged("exFAT boot sector", 0, "it describes a volume larger than its partition")

    def place(number: int) -> int:
        if not 2 <= number < clusters + 2:
            raise Damaged("exFAT chain", fat_at * sector, f"cluster {number} lies outside")
        return int(heap_at + (number - 2) * cluster)

    def chain(first: int, most: int) -> list[int]:
        """Clusters of a chain, each once; an entry that says nothing means that they lie side by side."""
        found: list[int] = []
        seen: set[int] = set()
        while len(found) < most and 2 <= first < clusters + 2 and first not in seen:
            found.append(first)
            seen.add(first)
            following = int.from_bytes(store.read(fat_at * sector + 4 * first, 4), "little")
            first = following or first + 1
        return found

    bitmap: tuple[int, int] | None = None
    entry_at, label = 0, ""
    for number in chain(root, _MOST_ROOT_CLUSTERS):
        block = store.read(place(number), cluster)
        for at in range(0, cluster, 32):
            kind = block[at]
            if kind == _BITMAP_ENTRY and bitmap is None:
                bitmap = struct.unpack_from("<IQ", block, at + 20)
                entry_at = place(number) + at
            elif kind == _LABEL_ENTRY:
                label = block[at + 2 : at + 2 + 2 * min(block[at + 1], 11)].decode("utf-16-le", "replace")
        if bitmap or block[-32] == 0:
            break
    needed = (clusters + 7) // 8
    if bitmap is None or bitmap[1] < needed:
        raise Damaged("exFAT root directory", place(root), "it names no allocation bitmap")
    return Layout(
        sector_bytes=sector,
        cluster_sectors=1 << cluster_shift,
        first_sector=first,
        sectors=length,
        table_sector=fat_at,
        table_sectors=fat_length,
        heap_sector=heap,
        clusters=clusters,
        serial=serial,
        flags=flags,
        bitmap_entry=entry_at,
        bitmap_clusters=tuple(chain(bitmap[0], -(-needed // cluster))),
        label=label,
    )


def read_volume(store: ReadableStore) -> Volume:
    """Everything about the volume; raises Damaged or ReadFailed."""
    layout = read_layout(store)
    bits = np.frombuffer(layout.bitmap(store), dtype=np.uint8)
    used = Extents(runs_of_bits(bits, layout.clusters))
    size, cluster, heap_at = layout.sectors * layout.sector_bytes, layout.cluster_bytes, layout.heap_bytes
    return Volume(
        kind="exfat",
        size_bytes=size,
        label=layout.label,
        uuid=f"{layout.serial >> 16:04X}-{layout.serial & 0xFFFF:04X}",
        block_bytes=cluster,
        used_bytes=used.total * cluster,
        smallest_bytes=min(size, round_up(heap_at + used.end * cluster, MIB)),
        dirty=bool(layout.flags & _DIRTY_FLAG),
        allocation=Extents(used.array * cluster + heap_at).union(Extents.of([(0, heap_at)])),
    )
