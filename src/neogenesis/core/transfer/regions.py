"""The region map: which ranges of the old drive were read, lost, postponed or never tried."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import ClassVar, Literal

import msgspec
import numpy as np

from neogenesis.core.drive import Identity
from neogenesis.core.errors import BadRecord
from neogenesis.core.extent import Extents
from neogenesis.core.record import Record, from_json, in_rows, load, owner_of, save_pieces

State = Literal["read", "lost", "postponed", "untried"]
_STATES: tuple[State, ...] = ("read", "lost", "untried")
_ROWS = 4096
#: A sample of what stands on a new drive is at most so long.
SAMPLE_BYTES = 128 << 10
#: What stands before the regions is never so long.
_HEAD_BYTES = 1 << 20


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


def load_regions_head(path: Path) -> RegionMap | None:
    """Whose a region map is, at the cost of that: without its regions, and not validated further.

    None where it does not begin as we write them.
    """
    try:
        with path.open("rb") as file:
            text = file.read(_HEAD_BYTES)
        head, mark, _ = text.partition(b',"regions":[')
        return from_json(head + b',"regions":[]}', RegionMap, "region map") if mark else None
    except (OSError, BadRecord):
        return None


def load_regions(path: Path) -> RegionMap:
    """A region map, validated whole. Raises BadRecord."""
    found = load(path, RegionMap, "region map")
    at = 0
    for start, end, _ in found.regions:
        if start != at or end <= start:
            raise BadRecord(f"The region map “{path.name}” is damaged at byte {at}.", "Restore a copy, or start over.")
        at = end
    if at != found.size_bytes:
        raise BadRecord(f"The region map “{path.name}” ends at byte {at}, not where its drive does.", "Restore a copy.")
    for start, end, digest in found.samples:
        if not 0 <= start < end <= min(at, start + SAMPLE_BYTES) or not _is_digest(digest):
            raise BadRecord(
                f"The region map “{path.name}” has an impossible sample at byte {start}.", "Restore a copy."
            )
    return found


def _is_digest(text: str) -> bool:
    return len(text) == 64 and set(text) <= set("0123456789abcdef")


def region_rows(size_bytes: int, read: Extents, lost: Extents) -> Iterator[tuple[int, int, State]]:
    """Regions that cover [0, size_bytes) exactly once, in order; `lost` wins where both say something."""
    read = read.clipped(0, size_bytes).minus(lost)
    lost = lost.clipped(0, size_bytes)
    untried = read.union(lost).complement(size_bytes)
    edges = np.concatenate((read.array, lost.array, untried.array))
    states = np.repeat(np.arange(3, dtype=np.uint8), (len(read), len(lost), len(untried)))
    order = np.argsort(edges[:, 0])
    for row in range(0, len(order), _ROWS):
        some = order[row : row + _ROWS]
        starts, ends = edges[some].T.tolist()
        yield from zip(starts, ends, (_STATES[n] for n in states[some].tolist()), strict=True)


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
        **({"ticket": owner} if (owner := owner_of(path.parent)) else {}),
        "schema": RegionMap.SCHEMA,
        "size_bytes": size_bytes,
        "source": source,
        "target": target,
        "samples": samples,
    }

    def pieces() -> Iterator[bytes]:
        yield msgspec.json.encode(head)[:-1] + b',"regions":['
        yield from in_rows(rows)
        yield b"\n]}\n"

    save_pieces(path, pieces())
