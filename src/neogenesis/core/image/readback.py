"""Reading an image back before its header stands: what was appended, against the digests in its journal."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import zstandard
from blake3 import blake3

from neogenesis.core.errors import BadArgument, BadRecord, ReadFailed, Refused
from neogenesis.core.image.write import CLUSTER_BYTES
from neogenesis.core.store import JoinedStore, ReadableStore
from neogenesis.core.transfer.ends import Verify
from neogenesis.core.transfer.pipeline import run_together
from neogenesis.core.work.chunks import ZEROS, Chunk
from neogenesis.core.work.journal import JournalState

#: So many chunks, spread evenly, are a sample.
SAMPLE_CHUNKS = 16
_Row = tuple[Chunk, int, list[int]]


def read_back(
    image: Path,
    state: JournalState,
    how_much: Verify,
    threads: int,
    told: Callable[[int], None] = lambda count: None,
) -> tuple[list[tuple[int, int]], int]:
    """Ranges of the drive whose chunks do not stand in the image as they were recorded, and how many bytes were read.

    The medium is asked and not the system's cache, where that can be told apart. A file that is missing or cut short
    lacks what stood there. `told` gets the bytes of each chunk, from several threads at once, and may raise to stop.
    Raises BadRecord for a journal that does not hold together.
    """
    if how_much == "none" or not len(state.chunks):
        return [], 0
    try:
        file: ReadableStore | None = JoinedStore(image, "look")
    except (BadArgument, BadRecord, Refused, OSError):
        file = None  # nothing of it is there
    wrong, lock, read = list[tuple[int, int]](), threading.Lock(), [0]
    rows = _picked(state, how_much)
    medium = file.uncached() if file is not None else None

    def begin() -> Callable[[], bool]:
        unpacker = zstandard.ZstdDecompressor()

        def one() -> bool:
            with lock:
                row = next(rows, None)
            if row is None:
                return False
            chunk = row[0]
            right = medium is not None and _stands(medium, row, unpacker)
            told(chunk.end - chunk.start)
            with lock:
                read[0] += chunk.end - chunk.start
                if not right:
                    wrong.append((chunk.start, chunk.end))
            return True

        return one

    try:
        run_together(threads, "read-back", begin)
    finally:
        if file is not None:
            file.close()
    return sorted(wrong), read[0]


def _picked(state: JournalState, how_much: Verify) -> Iterator[_Row]:
    """What is recorded of each chunk, by place."""
    count = len(state.chunks)
    chosen = np.arange(count)
    if how_much == "sample" and count > SAMPLE_CHUNKS:
        chosen = np.unique(np.linspace(0, count - 1, SAMPLE_CHUNKS).astype(np.int64))
    wanted = set(chosen.tolist())
    if len(state.stored) != count:
        raise _does_not_hold_together()
    both = zip(state.chunks.by_place(), state.stored.by_start(), strict=False)
    for number, (chunk, (start, place, lengths)) in enumerate(both):
        clusters = -(-(chunk.end - chunk.start) // CLUSTER_BYTES)
        if start != chunk.start or len(lengths) != clusters:
            raise _does_not_hold_together()
        if number in wanted:
            yield chunk, place, lengths


def _does_not_hold_together() -> BadRecord:
    return BadRecord(
        "The journal of the image does not hold together; nothing more was written.",
        "Delete it with the image, and start over.",
    )


def _stands(file: ReadableStore, row: _Row, unpacker: zstandard.ZstdDecompressor) -> bool:
    chunk, place, lengths = row
    if not any(lengths):
        return chunk.digest == ZEROS
    digest, left, at = blake3(), chunk.end - chunk.start, place
    try:
        packed = memoryview(file.read(place, sum(lengths)))
        for length in lengths:
            piece = bytes(CLUSTER_BYTES)
            if length:
                piece = unpacker.decompress(packed[at - place : at - place + length], max_output_size=CLUSTER_BYTES)
                at += length
            digest.update(piece[:left] if left < CLUSTER_BYTES else piece)
            left -= CLUSTER_BYTES
    except (ReadFailed, zstandard.ZstdError):
        return False
    return digest.digest() == chunk.digest
