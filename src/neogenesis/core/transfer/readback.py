"""Reading back what was written, from the medium."""

from __future__ import annotations

import mmap
import threading
from collections.abc import Callable, Iterable

from blake3 import blake3

from neogenesis.core.errors import Mismatch, ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.plan import Layout
from neogenesis.core.store import ReadableStore
from neogenesis.core.system import Trees, files_touching
from neogenesis.core.transfer.pipeline import CHUNK_BYTES, data_runs, run_together
from neogenesis.core.work import ZEROS, Chunk

_THREADS = 2
#: A chunk may hold hundreds of small files, and any of them may be the one.
_MOST_NAMES = 200


def holds(store: ReadableStore, chunk: Chunk) -> bool:
    """Whether the drive holds what the chunk says; what cannot be read it does not hold."""
    return not wrong_chunks(store, [chunk])


def wrong_chunks(
    store: ReadableStore, chunks: Iterable[Chunk], done: Callable[[Chunk], None] = lambda chunk: None
) -> list[Chunk]:
    """Those of `chunks` that `store` does not hold or cannot read. `done` hears of each, one at a time, and may raise.

    Reads are one at a time and in order; while one thread reads, the other hashes what is still in its processor's
    cache. So it takes as long as the slower of the two.
    """
    wrong, queue = list[Chunk](), iter(chunks)
    reading, telling = threading.Lock(), threading.Lock()

    def begin() -> Callable[[], bool]:
        view = memoryview(mmap.mmap(-1, CHUNK_BYTES))  # page-aligned for direct reads
        return lambda: check_next(view)

    def check_next(view: memoryview) -> bool:
        with reading:
            chunk = next(queue, None)
            if chunk is None:
                return False
            piece = _read(store, chunk.start, chunk.end, view)
        found, at = _Found(chunk.digest), chunk.start
        while piece:
            found.add(piece)
            at += len(piece)
            if at == chunk.end:
                break
            with reading:
                piece = _read(store, at, chunk.end, view)
        with telling:
            if not piece or not found.fits:
                wrong.append(chunk)
            done(chunk)
        return True

    run_together(_THREADS, "read-back", begin)
    return sorted(wrong)


def _read(store: ReadableStore, at: int, end: int, view: memoryview) -> memoryview | None:
    """As much from `at` as `view` takes; None when it cannot be read."""
    piece = view[: min(len(view), end - at)]
    try:
        store.read_into(at, piece)
    except ReadFailed:
        return None
    return piece


class _Found:
    """What has been read of one chunk so far."""

    def __init__(self, expected: bytes) -> None:
        self._expected, self._digest, self._zeros = expected, blake3(), True

    def add(self, piece: memoryview) -> None:
        if self._expected == ZEROS:
            self._zeros = self._zeros and not data_runs(piece)
        else:
            self._digest.update(piece)

    @property
    def fits(self) -> bool:
        return self._zeros if self._expected == ZEROS else self._digest.digest() == self._expected


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
