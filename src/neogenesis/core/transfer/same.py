"""Whether the old drive still holds what was copied from it: an interrupted copy must not mix two of its states.

The survey's fingerprint covers tables, heads and maps of volumes that are understood. What it cannot see is asked of
the bytes themselves: all that was copied of what nobody understands, a sample of the rest, and all of that too once
the sample differs.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from neogenesis.core.extent import NONE, Extents
from neogenesis.core.plan import Plan
from neogenesis.core.plan.steps import Copy, MakeVolume, Prepare
from neogenesis.core.store import PieceStore, ReadableStore
from neogenesis.core.survey import Survey
from neogenesis.core.transfer.readback import wrong_chunks
from neogenesis.core.work.chunks import Chunk, ChunkLog, Indices

_FEWEST, _MOST = 4, 64


@dataclass(frozen=True, slots=True)
class Copied:
    """What of a new drive comes from the old one as it stands there.

    `pieces` are (start on the new drive, bytes, start on the old one); of `understood`, in places of the new drive,
    the fingerprint covers all but the contents of files.
    """

    pieces: tuple[tuple[int, int, int], ...]
    understood: Extents

    def there(self, ranges: Extents) -> Extents:
        """Ranges of the old drive, in places of the new one."""
        found = NONE
        for start, length, old in self.pieces:
            found = found.union(ranges.clipped(old, old + length).shifted(start - old))
        return found

    def of(self, source: ReadableStore, size_bytes: int) -> ReadableStore:
        """The old drive in places of the new one; zeros where nothing of it goes."""
        return PieceStore(source, size_bytes, self.pieces)


def copied_by(plan: Plan) -> Copied:
    """Volumes that are made ready first are left out: what stands on the new drive is not what stands on the old."""
    survey, pieces, understood = plan.source.survey, [], NONE
    prepared = {step.partition for step in plan.operations if isinstance(step, Prepare | MakeVolume)}
    for step in plan.operations:
        if not isinstance(step, Copy) or (step.partition is not None and step.partition in prepared):
            continue
        if step.partition is None:
            pieces.append((step.start_bytes, step.bytes, step.start_bytes))
            understood = understood.union(
                understood_of(survey).clipped(step.start_bytes, step.start_bytes + step.bytes)
            )
            continue
        new, old = plan.layout.partition(step.partition), survey.partition(step.from_partition or 0)
        if new is None or old is None:
            continue
        size = min(new.size_bytes, old.size_bytes)
        pieces.append((new.start_bytes, size, old.start_bytes))
        if old.volume.understood:
            understood = understood.union(Extents.of([(new.start_bytes, new.start_bytes + size)]))
    return Copied(tuple(pieces), understood)


def understood_of(survey: Survey) -> Extents:
    """The volumes of a drive that are understood."""
    return Extents.of((p.start_bytes, p.end_bytes) for p in survey.partitions if p.volume.understood)


def changed_since(
    source: ReadableStore,
    chunks: ChunkLog,
    copied: Copied,
    lost: Extents,
    whole: bool,
    told: Callable[[Sequence[Chunk]], None] = lambda some: None,
    begin: Callable[[int], None] = lambda total: None,
) -> list[Chunk]:
    """The chunks that `source`, in places of the new drive, does not hold any more; `lost` ones are not asked for.

    With `whole` everything is read of what is not understood, and of all once a sample differs. Zeros on the new drive
    say nothing of a volume whose map says what is used. `begin` hears how many bytes are going to be read.
    """
    here = Extents.of((start, start + length) for start, length, _ in copied.pieces)
    latest = chunks.latest()
    edges = chunks.edges[latest]
    asked = here.contain(edges) & ~lost.touch(edges)
    known = copied.understood.contain(edges)
    doubtful, sampled = latest[asked & ~known], latest[asked & known & ~chunks.are_zeros[latest]]
    if whole:
        first = np.concatenate((doubtful, _some(sampled)))
    else:
        first = np.concatenate((_some(doubtful), _some(sampled)))
    wrong = _wrong(source, chunks, first, told, begin)
    if wrong and whole:
        wrong += _wrong(source, chunks, np.setdiff1d(sampled, first), told, begin)
    return wrong


def _wrong(
    source: ReadableStore,
    chunks: ChunkLog,
    indices: Indices,
    told: Callable[[Sequence[Chunk]], None],
    begin: Callable[[int], None],
) -> list[Chunk]:
    edges = chunks.edges[indices]
    begin(int((edges[:, 1] - edges[:, 0]).sum()))
    return wrong_chunks(source.uncached(), chunks.picked(indices[np.argsort(edges[:, 0], kind="stable")]), told)


def _some(indices: Indices) -> Indices:
    """A hundredth, spread over all of them."""
    count = min(len(indices), max(_FEWEST, min(_MOST, len(indices) // 100)))
    return indices[np.linspace(0, len(indices) - 1, count, dtype=np.int64)] if count else indices
