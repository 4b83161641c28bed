"""The region map: which ranges of the old drive were read, lost, postponed or never tried."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, ClassVar, Literal

from neogenesis.core.extent import Extents
from neogenesis.core.record import Record

State = Literal["read", "lost", "postponed", "untried"]


class RegionMap(Record, frozen=True, kw_only=True):
    """Sorted half-open regions that cover [0, size_bytes) exactly once; `source` says whose they are."""

    SCHEMA: ClassVar[str] = "neogenesis.region-map/1"

    schema: str = SCHEMA
    size_bytes: int
    source: dict[str, Any] | None = None
    regions: tuple[tuple[int, int, State], ...]


def region_map(size_bytes: int, read: Extents, lost: Extents) -> RegionMap:
    """`lost` wins where both say something."""
    read = read.clipped(0, size_bytes).minus(lost)
    untried = read.union(lost).complement(size_bytes)

    def labelled(extents: Extents, state: State) -> Iterator[tuple[int, int, State]]:
        return ((start, end, state) for start, end in extents)

    regions = sorted(
        [*labelled(read, "read"), *labelled(lost.clipped(0, size_bytes), "lost"), *labelled(untried, "untried")]
    )
    return RegionMap(size_bytes=size_bytes, regions=tuple(regions))
