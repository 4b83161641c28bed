"""Reading back what was written, from the medium, while the checksum of the piece before is still being made."""

from __future__ import annotations

import mmap
from collections.abc import Callable, Iterable
from concurrent.futures import Future, ThreadPoolExecutor

from blake3 import blake3

from neogenesis.core.errors import Mismatch, ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.plan import Layout
from neogenesis.core.store import ReadableStore
from neogenesis.core.system import Trees, files_touching
from neogenesis.core.transfer.pipeline import CHUNK_BYTES, data_runs
from neogenesis.core.work import ZEROS, Chunk

_BUFFERS = 3
#: A chunk may hold hundreds of small files, and any of them may be the one.
_MOST_NAMES = 200


def holds(store: ReadableStore, chunk: Chunk) -> bool:
    """Whether the drive holds what the chunk says; what cannot be read it does not hold."""
    return not wrong_chunks(store, [chunk])


def wrong_chunks(
    store: ReadableStore, chunks: Iterable[Chunk], done: Callable[[Chunk], None] = lambda chunk: None
) -> list[Chunk]:
    """Those of `chunks` that `store` does not hold or cannot read. `done` hears of each in turn and may raise.

    One thread reads and another hashes, with three buffers between them, so it takes as long as the slower of the two.
    """
    wrong: list[Chunk] = []
    buffers = [memoryview(mmap.mmap(-1, CHUNK_BYTES)) for _ in range(_BUFFERS)]  # page-aligned for direct reads
    waiting: list[Future[object]] = []

    def settle(most: int) -> None:
        while len(waiting) > most:
            waiting.pop(0).result()

    turn = 0
    with ThreadPoolExecutor(1, "hash") as hasher:
        for chunk in chunks:
            found, readable = _Found(chunk), True
            for at in range(chunk.start, chunk.end, CHUNK_BYTES):
                settle(_BUFFERS - 1)
                piece = buffers[turn % _BUFFERS][: min(CHUNK_BYTES, chunk.end - at)]
                turn += 1
                try:
                    store.read_into(at, piece)
                except ReadFailed:
                    readable = False
                    break
                last = at + len(piece) == chunk.end
                waiting.append(hasher.submit(found.add, piece, wrong if last else None))
            if not readable:
                wrong.append(chunk)
            done(chunk)
        settle(0)
    return sorted(wrong)


class _Found:
    """What has been read of one chunk so far."""

    def __init__(self, chunk: Chunk) -> None:
        self._chunk, self._digest, self._zeros = chunk, blake3(), True

    def add(self, piece: memoryview, wrong: list[Chunk] | None) -> None:
        """With the last piece comes the list of the wrong ones, which the chunk joins unless it fits."""
        if self._chunk.digest == ZEROS:
            self._zeros = self._zeros and not data_runs(piece)
        else:
            self._digest.update(piece)
        if wrong is None:
            return
        fits = self._zeros if self._chunk.digest == ZEROS else self._digest.digest() == self._chunk.digest
        if not fits:
            wrong.append(self._chunk)


def where(layout: Layout, start: int) -> str:
    """In words, what stands at a byte of the new drive."""
    for partition in layout.partitions:
        if partition.start_bytes <= start < partition.end_bytes:
            return f"partition {partition.number} ({partition.title})"
    return "the table area"


def mismatch(
    wrong: list[Chunk], layout: Layout, times: int, listing: tuple[ReadableStore, Trees] | None = None
) -> Mismatch:
    """What differs on the new drive, by chunk and partition, and where the volume can still be listed, by file.

    `times` is how often that has happened now; twice is no accident. 0: nobody knows.
    """
    first = wrong[0]
    more = f" and {len(wrong) - 1} more" if len(wrong) > 1 else ""
    named = ""
    if listing is not None:
        volumes = [(p.number, p.start_bytes, p.size_bytes) for p in layout.partitions]
        ranges = Extents.of((c.start, c.end) for c in wrong)
        files = [
            f"{t.path} (partition {t.partition})"
            for t in files_touching(listing[0], volumes, ranges, listing[1], _MOST_NAMES)
        ]
        if files:
            named = f" Files there: {', '.join(files)}{' and more' if len(files) == _MOST_NAMES else ''}."
    text = (
        f"The new drive does not give back what was written to it: bytes {first.start} to {first.end} in "
        f"{where(layout, first.start)}{more} differ or cannot be read.{named}"
    )
    if times >= 2:
        return Mismatch(
            f"{text} That was not the first time: this new drive is not to be trusted.",
            "Do not hand it over. Try another cable or dock once; then take another drive.",
        )
    remedy = "Do not hand the drive over. Check cable and dock, then "
    again = "run the transfer again with --resume: what differs is copied again." if times else "transfer again."
    return Mismatch(text, remedy + again)
