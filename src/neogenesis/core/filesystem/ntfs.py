"""NTFS: boot sector, volume flags, journal state and the cluster bitmap.

Source: the on-disk structures documented with the Linux kernel's driver (boot sector, file records with update
sequences, attributes 0x20, 0x60, 0x70 and 0x80, mapping pairs, restart pages).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np

from neogenesis.core.errors import Damaged
from neogenesis.core.extent import Array, Extents, runs_of_bits
from neogenesis.core.filesystem.model import OpenFiles, Volume
from neogenesis.core.store import ReadableStore
from neogenesis.core.units import MIB, round_up

_LOGFILE, _VOLUME, _BITMAP = 2, 3, 6
_ATTRIBUTE_LIST, _VOLUME_NAME, _VOLUME_INFORMATION, _DATA, _END = 0x20, 0x60, 0x70, 0x80, 0xFFFFFFFF
_DIRTY_FLAG = 0x0001
_PIECE = MIB  # of bitmap: 8 million clusters at a time keep memory small
_NO_CLIENT, _CLEAN_FLAG = 0xFFFF, 0x0002


@dataclass(frozen=True, slots=True)
class BootSector:
    """`sectors` leaves out the backup boot sector that follows them."""

    sector_bytes: int
    cluster_bytes: int
    sectors: int
    mft_cluster: int
    record_bytes: int
    serial: int
    hidden_sectors: int

    @property
    def clusters(self) -> int:
        return self.sectors * self.sector_bytes // self.cluster_bytes


@dataclass(frozen=True, slots=True)
class Attribute:
    """Resident bytes, or the runs (cluster or -1 for a hole, count) of a non-resident one."""

    resident: bytes | None
    runs: tuple[tuple[int, int], ...]
    size_bytes: int


def read_boot_sector(store: ReadableStore) -> BootSector:
    """Raises Damaged when the figures are impossible."""
    raw = store.read(0, 512)
    sector, spc = struct.unpack_from("<HB", raw, 11)
    hidden, sectors, mft, _, per_record = struct.unpack_from("<I8xQQQb", raw, 28)
    serial = struct.unpack_from("<Q", raw, 72)[0]
    spc = 1 << (256 - spc) if spc > 0x80 else spc
    if sector not in (256, 512, 1024, 2048, 4096) or spc == 0 or spc & (spc - 1) or sector * spc > 2 * MIB:
        raise Damaged("NTFS boot sector", 0, f"sectors of {sector} bytes, {spc} to a cluster, are impossible")
    cluster = sector * spc
    record = 1 << -per_record if -16 <= per_record < 0 else per_record * cluster
    if record not in (512, 1024, 2048, 4096) and not 0 < record <= 65536:
        raise Damaged("NTFS boot sector", 0, "the size of its file records is impossible")
    if not 0 < mft < max(1, sectors * sector // cluster) or sectors * sector > store.size_bytes:
        raise Damaged("NTFS boot sector", 0, "it describes a volume larger than its partition")
    return BootSector(sector, cluster, sectors, mft, record, serial, hidden)


def read_record(store: ReadableStore, boot: BootSector, number: int) -> dict[int, Attribute]:
    """The unnamed attributes of one of the first file records, fixed up; raises Damaged."""
    at = boot.mft_cluster * boot.cluster_bytes + number * boot.record_bytes
    raw = bytearray(store.read(at, boot.record_bytes))
    if raw[:4] != b"FILE":
        raise Damaged("NTFS file record", at, "the signature is missing")
    usa, count, first = struct.unpack_from("<HH12xH", raw, 4)
    for index in range(1, min(count, boot.record_bytes // 512 + 1)):
        tail = index * 512 - 2
        if usa + 2 * index + 2 > len(raw) or raw[tail : tail + 2] != raw[usa : usa + 2]:
            raise Damaged("NTFS file record", at, "it was only half written")
        raw[tail : tail + 2] = raw[usa + 2 * index : usa + 2 * index + 2]
    attributes: dict[int, Attribute] = {}
    while first + 16 <= len(raw):
        kind, length, non_resident, name_length = struct.unpack_from("<IIBB", raw, first)
        if kind == _END:
            break
        if length < 24 or first + length > len(raw):
            raise Damaged("NTFS attribute", at + first, f"its length {length} is impossible")
        if name_length == 0 and kind not in attributes:
            body = bytes(raw[first : first + length])
            attributes[kind] = _non_resident(body, at + first) if non_resident else _resident(body, at + first)
        first += length
    return attributes


def _resident(body: bytes, at: int) -> Attribute:
    size, offset = struct.unpack_from("<IH", body, 16)
    if offset + size > len(body):
        raise Damaged("NTFS attribute", at, "its value lies outside")
    return Attribute(body[offset : offset + size], (), size)


def _non_resident(body: bytes, at: int) -> Attribute:
    if len(body) < 64:
        raise Damaged("NTFS attribute", at, "it is too short")
    offset = struct.unpack_from("<H", body, 32)[0]
    size = struct.unpack_from("<Q", body, 48)[0]
    runs, cluster = [], 0
    while offset < len(body) and body[offset]:
        lengths, places = body[offset] & 15, body[offset] >> 4
        end = offset + 1 + lengths + places
        if not 0 < lengths <= 8 or places > 8 or end > len(body):
            raise Damaged("NTFS mapping pairs", at, "a run is impossible")
        count = int.from_bytes(body[offset + 1 : offset + 1 + lengths], "little")
        if places:
            cluster += int.from_bytes(body[offset + 1 + lengths : end], "little", signed=True)
        runs.append((cluster if places else -1, count))
        offset = end
    return Attribute(None, tuple(runs), size)


def read_volume(store: ReadableStore, files: OpenFiles | None) -> Volume:
    """Everything about an NTFS volume but the system on it; raises Damaged or ReadFailed.

    `files` is asked only when the bitmap is too fragmented for a single file record.
    """
    boot = read_boot_sector(store)
    volume = read_record(store, boot, _VOLUME)
    label_bytes = volume[_VOLUME_NAME].resident if _VOLUME_NAME in volume else b""
    flags = 0
    if _VOLUME_INFORMATION in volume:
        information = volume[_VOLUME_INFORMATION].resident or b""
        flags = struct.unpack_from("<H", information.ljust(12, b"\0"), 10)[0]
    runs = _bitmap_runs(store, boot, files)
    used = _used_clusters(store, boot, runs)
    used_bytes = used.total * boot.cluster_bytes
    copied = Extents(used.array * boot.cluster_bytes)
    backups = [(at, at + boot.sector_bytes) for at in backup_places(store, boot)]
    # The utility needs room to move what lies behind the new end; a fiftieth and 32 MiB have always sufficed.
    smallest = round_up(used_bytes + used_bytes // 50 + 32 * MIB, MIB)
    return Volume(
        kind="ntfs",
        size_bytes=min(store.size_bytes, (boot.sectors + 1) * boot.sector_bytes),
        label=(label_bytes or b"").decode("utf-16-le", "replace"),
        uuid=f"{boot.serial:016X}",
        block_bytes=boot.cluster_bytes,
        used_bytes=used_bytes,
        smallest_bytes=min(smallest, store.size_bytes),
        dirty=bool(flags & _DIRTY_FLAG) or not _journal_is_clean(store, boot),
        allocation=copied.union(Extents.of(backups)),
    )


def backup_places(store: ReadableStore, boot: BootSector) -> list[int]:
    """Where the backup boot sector may stand: behind the counted sectors, and in the partition's last sector.

    They are one place on a volume that fills its partition; systems look at the last sector, some utilities at
    the other one.
    """
    last = store.size_bytes // boot.sector_bytes - 1
    return sorted({min(boot.sectors, last) * boot.sector_bytes, last * boot.sector_bytes})


def _bitmap_runs(store: ReadableStore, boot: BootSector, files: OpenFiles | None) -> list[tuple[int, int]]:
    record = read_record(store, boot, _BITMAP)
    if _DATA in record and _ATTRIBUTE_LIST not in record:
        if record[_DATA].resident is not None:
            raise Damaged("NTFS bitmap", 0, "it is stored where it cannot be")
        return list(record[_DATA].runs)
    if files is None:
        raise Damaged("NTFS bitmap", 0, "its place is not recorded")
    return files().runs_of_inode(_BITMAP)


def _used_clusters(store: ReadableStore, boot: BootSector, runs: list[tuple[int, int]]) -> Extents:
    """Allocated ranges in clusters, read through the runs of the bitmap a piece at a time."""
    found: list[Array] = []
    cluster, needed = 0, (boot.clusters + 7) // 8
    for place, count in runs:
        at, left = place * boot.cluster_bytes, min(count * boot.cluster_bytes, needed - cluster // 8)
        if place < 0 or at + left > store.size_bytes:
            raise Damaged("NTFS bitmap", at, "a run lies outside the volume")
        while left > 0:
            piece = np.frombuffer(store.read(at, min(left, _PIECE)), dtype=np.uint8)
            inside = min(len(piece) * 8, max(0, boot.clusters - cluster))
            found.append(runs_of_bits(piece, inside) + cluster)
            cluster += len(piece) * 8
            at += len(piece)
            left -= len(piece)
    if cluster < boot.clusters:
        raise Damaged("NTFS bitmap", 0, "it is shorter than the volume")
    return Extents.merged(np.concatenate(found))


def journal_is_closed(store: ReadableStore) -> bool:
    """Whether nothing of a volume's journal waits to be replayed; raises Damaged or ReadFailed."""
    return _journal_is_clean(store, read_boot_sector(store))


def check_flag_places(store: ReadableStore) -> list[int]:
    """Where the two bytes of flags stand that ask for a check: in the list of files and its mirror.

    Raises Damaged or ReadFailed.
    """
    boot = read_boot_sector(store)
    mirror = int.from_bytes(store.read(0x38, 8), "little") * boot.cluster_bytes
    found = []
    for base in (boot.mft_cluster * boot.cluster_bytes, mirror):
        at = base + _VOLUME * boot.record_bytes
        raw = store.read(at, boot.record_bytes)
        if raw[:4] != b"FILE":
            raise Damaged("NTFS file record", at, "the signature is missing")
        first = struct.unpack_from("<H", raw, 20)[0]
        while first + 24 <= len(raw):
            kind, length = struct.unpack_from("<II", raw, first)
            if kind == _END or length < 24 or first + length > len(raw):
                break
            if kind == _VOLUME_INFORMATION and not raw[first + 8]:
                place = first + struct.unpack_from("<H", raw, first + 20)[0] + 10
                if place + 2 <= len(raw) and place % 512 < 509:  # not where a sector's check stands
                    found.append(at + place)
            first += length
    return found


def without_check_flag(flags: bytes) -> bytes:
    """The same two bytes without the mark."""
    return (int.from_bytes(flags, "little") & ~_DIRTY_FLAG).to_bytes(2, "little")


def _journal_is_clean(store: ReadableStore, boot: BootSector) -> bool:
    """Whether the restart page says that nothing waits to be replayed; an emptied journal is clean, a lost one not."""
    record = read_record(store, boot, _LOGFILE)
    if _DATA not in record:
        return False
    runs = record[_DATA].runs
    if not runs or runs[0][0] < 0:
        return True
    page = store.read(runs[0][0] * boot.cluster_bytes, 4096)
    if page[:4] == b"\xff\xff\xff\xff":
        return True
    if page[:4] != b"RSTR":
        return False
    area = struct.unpack_from("<H", page, 24)[0]
    if area + 16 > len(page):
        return False
    in_use, flags = struct.unpack_from("<HH", page, area + 12)
    return in_use == _NO_CLIENT or bool(flags & _CLEAN_FLAG)


def place_patches(store: ReadableStore, old_start: int, new_start: int) -> list[tuple[int, bytes]]:
    """What must change in the boot sectors of a volume that moves, so that legacy machines still start it.

    Only a boot sector that records its old place (in sectors, at byte 28) is patched, and its backup with it.
    """
    boot = read_boot_sector(store)
    if boot.hidden_sectors == 0 or boot.hidden_sectors != old_start // boot.sector_bytes:
        return []
    value = struct.pack("<I", new_start // boot.sector_bytes)
    backups = [at for at in backup_places(store, boot) if store.read(at, 8) == store.read(0, 8)]
    return [(at + 28, value) for at in (0, *backups)]
