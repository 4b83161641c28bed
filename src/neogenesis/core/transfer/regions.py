"""The region map: which ranges of the old drive were read, lost, postponed or never tried."""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import ClassVar, Literal

import msgspec

from neogenesis.core.drive import Identity
from neogenesis.core.extent import Extents
from neogenesis.core.record import Record, in_rows, save_pieces

State = Literal["read", "lost", "postponed", "untried"]


class RegionMap(Record, frozen=True, kw_only=True):
    """Sorted half-open regions that cover [0, size_bytes) exactly once.

    `source` and `target` say whose they are. `samples` are [start, end, BLAKE3] of places that stand on the target.
    """

    SCHEMA: ClassVar[str] = "neogenesis.region-map/1"

    schema: str = SCHEMA
    size_bytes: int
    source: Identity | None = None
    target: Identity | None = None
    samples: tuple[tuple[int, int, str], ...] = ()
    regions: tuple[tuple[int, int, State], ...]


def region_rows(size_bytes: int, read: Extents, lost: Extents) -> Iterator[tuple[int, int, State]]:
    """Regions that cover [0, size_bytes) exactly once, in order; `lost` wins where both say something."""
    read = read.clipped(0, size_bytes).minus(lost)
    lost = lost.clipped(0, size_bytes)
    untried = read.union(lost).complement(size_bytes)
    labelled: list[tuple[Extents, State]] = [(read, "read"), (lost, "lost"), (untried, "untried")]
    return heapq.merge(*(_labelled(extents, state) for extents, state in labelled))


def _labelled(extents: Extents, state: State) -> Iterator[tuple[int, int, State]]:
    return ((start, end, state) for start, end in extents)


def save_regions(
    path: Path,
    size_bytes: int,
    rows: Iterable[tuple[int, int, State]],
    source: Identity,
    target: Identity,
    samples: Sequence[tuple[int, int, str]] = (),
) -> None:
    """Write a region map, one region a line, so that a cut leaves the old file or the whole new one.

    Row by row, so that memory does not grow with their number. Raises BadRecord.
    """
    head = {
        "schema": RegionMap.SCHEMA,
        "size_bytes": size_bytes,
        "source": source,
        "target": target,
        "samples": samples,
    }

    def pieces() -> Iterator[bytes]:
        yield msgspec.json.encode(head)[:-1] + b',"regions":['
        yield from in_rows(f'[{start},{end},"{state}"]' for start, end, state in rows)
        yield b"\n]}\n"

    save_pieces(path, pieces())
