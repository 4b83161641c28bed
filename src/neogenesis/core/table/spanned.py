"""Drives whose table tells only half: dynamic disks, and members of arrays that a machine's firmware makes.

Their volumes may reach over several drives, so carrying single partitions over gives something that no system reads.
Sources: the type ids in use on GPT and MBR drives; the places and marks of firmware
arrays as the utility libraries of Linux (util-linux, libblkid) look for them.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from neogenesis.core.errors import ReadFailed
from neogenesis.core.store import ReadableStore
from neogenesis.core.table.model import Partition, Problem

_DYNAMIC = frozenset(
    {
        "0x42",
        "5808C8AA-7E8F-42E0-85D2-E1E90434CFB3",  # its database
        "AF9B60A0-1431-4F62-BC68-3311714A69AD",  # its data
    }
)
#: Bytes before the end of the drive (negative) or from its beginning, an offset there, and the mark.
FIRMWARE_MARKS: tuple[tuple[int, int, bytes], ...] = (
    (-1024, 0, b"Intel Raid ISM Cfg Sig. "),
    (-512, 0, b"\xde\x11\xde\x11"),
    (-1024, 0, b"NVIDIA  "),
    (-63 * 512, 0, b"Promise Technology, Inc."),
    (-512, 0, b"$XIDE$"),
    (-512, 0, b"\x37\xfc\x4d\x1e"),
    (9 * 512, 32, b"\xf0\x16\x78\x5a"),
    (9 * 512, 32, b"\xfd\x16\x78\x5a"),
)
#: Type of a partition whose contents are spread over the drives of a pool.
_POOLED = "E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D"
#: Codes of the problems: a plan that carries single partitions must not be run.
SPANNED_CODES = frozenset({"dynamic-disk", "firmware-array", "pooled-disk"})
#: Who its fellows are, as far as a drive of such a group says so itself.
UNNAMED_FELLOWS = ("the other drives of its group",)
_REMEDY = "Copy it exactly, together with its fellows, or salvage its files on the customer's machine."


def spanned_problems(store: ReadableStore, partitions: Sequence[Partition]) -> Iterator[Problem]:
    """What says that the drive does not stand alone."""
    if any(p.type_id in _DYNAMIC for p in partitions):
        yield Problem(
            "dynamic-disk",
            "stop",
            "The drive is a dynamic disk: its volumes are described elsewhere and may reach over several drives.",
            _REMEDY,
        )
    if any(p.type_id == _POOLED for p in partitions):
        yield Problem(
            "pooled-disk",
            "stop",
            "The drive is one of a pool: its contents are spread over all drives of it.",
            _REMEDY,
        )
    if any(_holds(store, place, offset, mark) for place, offset, mark in FIRMWARE_MARKS):
        yield Problem(
            "firmware-array",
            "stop",
            "The drive is a member of an array that the machine's firmware makes.",
            _REMEDY,
        )


def _holds(store: ReadableStore, place: int, offset: int, mark: bytes) -> bool:
    at = (store.size_bytes // 512 * 512 + place if place < 0 else place) + offset
    if at < 0 or at + len(mark) > store.size_bytes:
        return False
    try:
        return store.read(at, len(mark)) == mark
    except ReadFailed:
        return False
