"""exFAT: boot sector, allocation bitmap, label, dirty flag. Source: the published exFAT specification, 1.00."""

from __future__ import annotations

import struct

import numpy as np

from neogenesis.core.errors import Damaged
from neogenesis.core.extent import Extents, runs_of_bits
from neogenesis.core.filesystem.model import Volume
from neogenesis.core.store import ReadableStore
from neogenesis.core.units import MIB, round_up

_BITMAP_ENTRY, _LABEL_ENTRY = 0x81, 0x83
_MOST_ROOT_CLUSTERS = 4096
_DIRTY_FLAG = 0x0002


def read_volume(store: ReadableStore) -> Volume:
    """Everything about the volume; raises Damaged or ReadFailed."""
    raw = store.read(0, 512)
    length, fat_at, _, heap, clusters, root, serial, _, flags, sector_shift, cluster_shift = struct.unpack_from(
        "<QIIIIIIHHBB", raw, 72
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
    label = ""
    for number in chain(root, _MOST_ROOT_CLUSTERS):
        block = store.read(place(number), cluster)
        for at in range(0, cluster, 32):
            kind = block[at]
            if kind == _BITMAP_ENTRY and bitmap is None:
                bitmap = struct.unpack_from("<IQ", block, at + 20)
            elif kind == _LABEL_ENTRY:
                label = block[at + 2 : at + 2 + 2 * min(block[at + 1], 11)].decode("utf-16-le", "replace")
        if bitmap or block[-32] == 0:
            break
    needed = (clusters + 7) // 8
    if bitmap is None or bitmap[1] < needed:
        raise Damaged("exFAT root directory", place(root), "it names no allocation bitmap")
    pieces: list[bytes] = []
    for number in chain(bitmap[0], -(-needed // cluster)):
        pieces.append(store.read(place(number), min(cluster, needed - cluster * len(pieces))))
    bits = np.frombuffer(b"".join(pieces), dtype=np.uint8)
    if len(bits) * 8 < clusters:
        raise Damaged("exFAT bitmap", place(bitmap[0]), "it is shorter than the volume")
    used = Extents(runs_of_bits(bits, clusters))
    size = length * sector
    return Volume(
        kind="exfat",
        size_bytes=size,
        label=label,
        uuid=f"{serial >> 16:04X}-{serial & 0xFFFF:04X}",
        block_bytes=cluster,
        used_bytes=used.total * cluster,
        smallest_bytes=min(size, round_up(heap_at + used.end * cluster, MIB)),
        dirty=bool(flags & _DIRTY_FLAG),
        allocation=Extents(used.array * cluster + heap_at).union(Extents.of([(0, heap_at)])),
    )
