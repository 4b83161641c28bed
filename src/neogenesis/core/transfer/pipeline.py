"""Moving bytes: a few threads that each read, hash and write one chunk at a time.

Reading and writing are each one at a time and in order, so a mechanical drive is never torn between places; while
one thread writes, the next reads and a third hashes. Memory is one buffer per thread, whatever the drive's size.
"""

from __future__ import annotations

import mmap
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import pairwise
from typing import Protocol

import numpy as np
from blake3 import blake3

from neogenesis.core.errors import ReadFailed, Stopped
from neogenesis.core.extent import Extents
from neogenesis.core.store import ReadableStore, WritableStore, read_or_narrow, still_answers
from neogenesis.core.transfer.chunks import ZEROS, Chunk
from neogenesis.core.transfer.control import Control
from neogenesis.core.units import KIB, MIB

#: Small enough to stay in the processor's cache between reading, hashing and writing, large enough for few records.
CHUNK_BYTES = 4 * MIB
_ZERO_STEP_BYTES = 256 * MIB
_THREADS = 3
_ZERO_BLOCK = 64 * KIB


@dataclass(frozen=True, slots=True)
class Piece:
    """Carry `length` bytes to `target` on the new drive, from `place` of `store`; without a store, zeros.

    `drive_place` is where on the old drive the store's bytes come from, for records of what was lost; None for
    what is not on the old drive.
    """

    target: int
    length: int
    store: ReadableStore | None = None
    place: int = 0
    drive_place: int | None = None
    partition: int | None = None


class Listener(Protocol):
    """Hears of each piece that the new drive has taken; called from several threads, one at a time."""

    def wrote(self, piece: Piece, chunk: Chunk, lost: list[tuple[int, int]], read_seconds: float) -> None: ...


def pieces_of(
    store: ReadableStore,
    allocation: Extents | None,
    size: int,
    target: int,
    drive_place: int | None,
    partition: int | None,
) -> Iterator[Piece]:
    """A volume in pieces, in order. Holes of the store are not read but made zero on the target.

    Where a volume's own map says “unused”, nothing is written, but for the first and last MiB: what another
    volume left there could be mistaken for a signature.
    """
    used = Extents.whole(size) if allocation is None else allocation.clipped(0, size)
    data = used.intersection(store.extents_with_data().widened(64 * KIB, size))
    edges = Extents.of([(0, min(MIB, size)), (max(0, size - MIB), size)])
    zeros = used.union(edges).minus(data)
    found = [(start, end, True) for start, end in data.chunks(CHUNK_BYTES)]
    found += [(start, end, False) for start, end in zeros.chunks(_ZERO_STEP_BYTES)]
    for start, end, has_data in sorted(found):
        yield Piece(
            target + start,
            end - start,
            store if has_data else None,
            start,
            None if drive_place is None else drive_place + start,
            partition,
        )


class SourceReader:
    """Reads pieces, and tells a bad place from a drive that is gone: then what could be read before cannot any more."""

    def __init__(self) -> None:
        self._first: tuple[ReadableStore, int] | None = None
        self._latest: tuple[ReadableStore, int] | None = None

    def remember(self, store: ReadableStore) -> None:
        """Take the first sector of the old drive as known to be readable, if it is."""
        try:
            store.read(0, min(store.sector_size, store.size_bytes))
        except ReadFailed:
            return
        self._first = (store, 0)

    def read(self, piece: Piece, view: memoryview) -> list[tuple[int, int]]:
        """Fill `view`; returns what is lost. Raises Stopped when the drive no longer answers."""
        store = piece.store
        if store is None:
            return []
        sector = store.sector_size
        try:
            store.read_into(piece.place, view[: piece.length])
        except ReadFailed:
            self._ask_whether_alive()
            return read_or_narrow(store, piece.place, view[: piece.length], sector)
        self._latest = (store, piece.place)
        return []

    def _ask_whether_alive(self) -> None:
        known = [place for place in (self._latest, self._first) if place is not None]
        if known and not still_answers(known):
            raise Stopped(
                "The old drive no longer answers; what was copied so far is kept.",
                "Connect it again and run the transfer with --resume.",
            )


def run_pipeline(
    pieces: Iterator[Piece],
    target: WritableStore,
    listener: Listener,
    control: Control,
    seconds: Callable[[], float],
    source: SourceReader,
) -> None:
    """Carry all `pieces`; raises the first failure, after every thread has ended. Stopped leaves what was done."""
    reading, writing, telling = threading.Lock(), threading.Lock(), threading.Lock()

    def begin() -> Callable[[], bool]:
        memory = mmap.mmap(-1, CHUNK_BYTES)  # page-aligned; given back when the last view of it has gone
        view = memoryview(memory)
        return lambda: carry_next(view)

    def carry_next(view: memoryview) -> bool:
        control.checkpoint()
        with reading:
            piece = next(pieces, None)
            if piece is None:
                return False
            started = seconds()
            side_by_side = piece.store is not None and piece.store.parallel_reads
            lost = [] if side_by_side else source.read(piece, view)
        if side_by_side:
            lost = source.read(piece, view)
        took = seconds() - started
        if piece.store is None:
            chunk = Chunk(piece.target, piece.target + piece.length, ZEROS)
            with writing:
                target.write_zeros(piece.target, piece.target + piece.length)
        else:
            data = view[: piece.length]
            runs = data_runs(data)
            chunk = Chunk(piece.target, piece.target + piece.length, blake3(data).digest() if runs else ZEROS)
            with writing:
                write_runs(target, piece.target, data, runs)
        with telling:
            listener.wrote(piece, chunk, _on_drive(piece, lost), took)
        return True

    run_together(_THREADS, "copy", begin)


def run_together(count: int, name: str, begin: Callable[[], Callable[[], bool]]) -> None:
    """Threads that call what `begin` gave each until it says False; raises the first failure when all have ended."""
    failures: list[BaseException] = []

    def work() -> None:
        try:
            step = begin()
            while not failures and step():
                pass
        except BaseException as error:  # noqa: BLE001 - carried to the caller's thread below
            failures.append(error)

    threads = [threading.Thread(target=work, name=f"{name}-{n}") for n in range(count)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    if failures:
        raise failures[0]


def write_runs(target: WritableStore, at: int, data: memoryview, runs: list[tuple[int, int]]) -> None:
    """Data as it is, and zero runs as holes where the target can have them."""
    if not target.makes_holes:
        if runs:
            target.write(at, data)
        else:
            target.write_zeros(at, at + len(data))
        return
    last = 0
    for start, end in runs:
        if start > last:
            target.write_zeros(at + last, at + start)
        target.write(at + start, data[start:end])
        last = end
    if last < len(data):
        target.write_zeros(at + last, at + len(data))


def data_runs(data: memoryview) -> list[tuple[int, int]]:
    """Ranges of `data`, cut at multiples of 64 KiB, that are not all zero."""
    length = len(data)
    whole = length // _ZERO_BLOCK
    words = np.frombuffer(data[: whole * _ZERO_BLOCK], dtype=np.uint64).reshape(whole, _ZERO_BLOCK // 8)
    seen = words[:, 0] != 0  # most blocks that hold anything show it at once
    if not seen.all():
        doubtful = np.flatnonzero(~seen)
        seen[doubtful] = words[doubtful].any(axis=1)
    flags = seen.tolist()
    if length > whole * _ZERO_BLOCK:
        flags.append(bool(np.frombuffer(data[whole * _ZERO_BLOCK :], dtype=np.uint8).any()))
    edges = [0, *(i for i, (a, b) in enumerate(pairwise(flags), 1) if a != b), len(flags)]
    return [(a * _ZERO_BLOCK, min(b * _ZERO_BLOCK, length)) for a, b in pairwise(edges) if flags[a]]


def _on_drive(piece: Piece, lost: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Lost ranges in bytes of the old drive."""
    base = piece.place if piece.drive_place is None else piece.drive_place
    return [(start - piece.place + base, end - piece.place + base) for start, end in lost]
