"""The mark by which a drive's table is known again: digests of its first and of its last MiB."""

from __future__ import annotations

from blake3 import blake3

from neogenesis.core.units import MIB

#: Where tables live: so much at either end of a drive.
TABLE_AREA_BYTES = MIB
_DIGITS = 32


def mark_of(head: bytes, tail: bytes) -> str:
    """32 hexadecimal digits for each end."""
    return blake3(head).hexdigest()[:_DIGITS] + blake3(tail).hexdigest()[:_DIGITS]


def is_cleared(half_mark: str) -> bool:
    """Whether one half of a mark stands for an area of zeros."""
    return half_mark == blake3(bytes(TABLE_AREA_BYTES)).hexdigest()[:_DIGITS]
