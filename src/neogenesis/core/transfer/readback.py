"""Reading back what was written, from the medium."""

from __future__ import annotations

import mmap
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence

from blake3 import blake3

from neogenesis.core.errors import Mismatch, ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.plan import Layout
from neogenesis.core.store import ReadableStore
from neogenesis.core.system import Trees, files_touching
from neogenesis.core.transfer.pipeline import CHUNK_BYTES, MOST_TOGETHER, data_runs, run_together
from neogenesis.core.work import ZEROS, Chunk

_THREADS = 2
#: A chunk may hold hundreds of small files, and any of them may be the one.
_MOST_NAMES = 200


def wrong_chunks(
    store: ReadableStore, chunks: Iterable[Chunk], done: Callable[[Sequence[Chunk]], None] = lambda some: None
) -> list[Chunk]:
    """Those of `chunks` that `store` does not hold or cannot read. `done` hears of them as they come, and may raise.

    Reads are one at a time and in order; while one thread reads, the other hashes what is still in its processor's
    cache. So it takes as long as the slower of the two. Small chunks, as a fragmented volume has them, are read and
    told of many at a time.
    """
    wrong, queue = list[Chunk](), _together(chunks)
    reading, telling = threading.Lock(), threading.Lock()

    def begin() -> Callable[[], bool]:
        view = memoryview(mmap.mmap(-1, CHUNK_BYTES))  # page-aligned for direct reads
        return lambda: check_next(view)

    def check_next(view: memoryview) -> bool:
        with reading:
            some = next(queue, None)
            if some is None:
                return False
            pieces = _read_all(store, some, view)
        if some[0].end - some[0].start > len(view):
            missed = [] if long_fits(some[0], pieces[0], view) else some
        else:
            missed = [c for c, piece in zip(some, pieces, strict=True) if piece is None or not _fits(c.digest, piece)]
        with telling:
            wrong.extend(missed)
            done(some)
        return True

    def long_fits(chunk: Chunk, piece: memoryview | None, view: memoryview) -> bool:
        """Whether a chunk that is longer than `view`, of which `piece` has been read, is there."""
        found, at = _Found(chunk.digest), chunk.start
        while piece:
            found.add(piece)
            at += len(piece)
            if at == chunk.end:
                return found.fits
            with reading:
                piece = _read(store, at, chunk.end, view)
        return False

    run_together(_THREADS, "read-back", begin)
    return sorted(wrong)


def _together(chunks: Iterable[Chunk]) -> Iterator[list[Chunk]]:
    """Chunks in their order, as many at a time as are small enough to be read together."""
    some, length = list[Chunk](), 0
    for chunk in chunks:
        size = chunk.end - chunk.start
        if some and (length + size > CHUNK_BYTES or len(some) >= MOST_TOGETHER):
            yield some
            some, length = [], 0
        some.append(chunk)
        length += size
    if some:
        yield some


def _read_all(store: ReadableStore, some: list[Chunk], view: memoryview) -> list[memoryview | None]:
    """Each of several chunks, one behind the other in `view`, or the beginning of a long one; None for what cannot be.

    When one of several cannot be read, each is asked for by itself.
    """
    if len(some) == 1:
        return [_read(store, some[0].start, some[0].end, view)]
    pieces, at = list[memoryview | None](), 0
    for chunk in some:
        pieces.append(view[at : at + chunk.end - chunk.start])
        at += chunk.end - chunk.start
    try:
        store.read_runs([chunk[:2] for chunk in some], view[:at])
    except ReadFailed:
        return [_read(store, c.start, c.end, p) for c, p in zip(some, pieces, strict=True) if p is not None]
    return pieces


def _read(store: ReadableStore, at: int, end: int, view: memoryview) -> memoryview | None:
    """As much from `at` as `view` takes; None when it cannot be read."""
    piece = view[: min(len(view), end - at)]
    try:
        store.read_into(at, piece)
    except ReadFailed:
        return None
    return piece


def _fits(expected: bytes, piece: memoryview) -> bool:
    """Whether the bytes of a whole chunk have its digest."""
    return not data_runs(piece) if expected == ZEROS else blake3(piece).digest() == expected


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
