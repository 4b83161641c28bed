"""Moving bytes: a few threads that each read, hash and write one chunk at a time.

Reading and writing are each one at a time and in order, so a mechanical drive is never torn between places; while
one thread writes, the next reads and a third hashes. Memory is one buffer per thread, whatever the drive's size.
"""

from __future__ import annotations

import heapq
import mmap
import threading
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from typing import NamedTuple, Protocol

import numpy as np
from blake3 import blake3

from neogenesis.core.errors import ReadFailed, Stopped
from neogenesis.core.extent import Extents
from neogenesis.core.store import ReadableStore, WritableStore, read_or_narrow, still_answers
from neogenesis.core.units import KIB, MIB
from neogenesis.core.work.chunks import ZEROS, Chunk
from neogenesis.core.work.control import Control

#: Small enough to stay in the processor's cache between reading, hashing and writing, large enough for few records.
CHUNK_BYTES = 4 * MIB
_ZERO_STEP_BYTES = 256 * MIB
_THREADS = 3
_MOST_TOGETHER = 256
_ZERO_BLOCK = 64 * KIB


class Piece(NamedTuple):
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
    """Hears of what the new drive has taken; called from several threads, one at a time.

    `chunks` are in the order of `pieces`; `lost` are ranges of the old drive.
    """

    def wrote(
        self, pieces: Sequence[Piece], chunks: Sequence[Chunk], lost: list[tuple[int, int]], read_seconds: float
    ) -> None: ...


class PieceList:
    """A volume in pieces, in order, cut as they are asked for: memory grows with its runs, never with its size.

    Holes of the store are not read but made zero on the target. Where a volume's own map says “unused”, nothing is
    written, but for the first and last MiB: what another volume left there could be mistaken for a signature.
    """

    def __init__(
        self,
        store: ReadableStore,
        data: Extents,
        zeros: Extents,
        target: int,
        drive_place: int | None,
        partition: int | None,
        covered: Extents | None = None,
    ) -> None:
        self._store, self._data, self._zeros = store, data, zeros
        self._target, self._drive_place, self._partition = target, drive_place, partition
        self._covered = covered

    @classmethod
    def of(
        cls,
        store: ReadableStore,
        allocation: Extents | None,
        size: int,
        target: int,
        drive_place: int | None,
        partition: int | None,
    ) -> PieceList:
        """`allocation` of the volume, None for all of it; `target` is where it begins on the new drive."""
        used = Extents.whole(size) if allocation is None else allocation.clipped(0, size)
        data = used.intersection(store.extents_with_data().widened(64 * KIB, size))
        edges = Extents.of([(0, min(MIB, size)), (max(0, size - MIB), size)])
        holes = used.minus(data) if data.total < used.total else Extents.of([])
        return cls(store, data, edges.minus(data).union(holes), target, drive_place, partition)

    def without(self, covered: Extents) -> PieceList:
        """What is left when `covered` of the new drive is done already."""
        place, partition = self._drive_place, self._partition
        return PieceList(self._store, self._data, self._zeros, self._target, place, partition, covered)

    @property
    def total(self) -> int:
        """Bytes of all pieces."""
        whole = self._data.union(self._zeros)
        if self._covered is not None:
            whole = whole.minus(self._covered.shifted(-self._target).clipped(0, whole.end))
        return whole.total

    def __iter__(self) -> Iterator[Piece]:
        merged = heapq.merge(
            ((start, end, True) for start, end in self._data.chunks(CHUNK_BYTES)),
            ((start, end, False) for start, end in self._zeros.chunks(_ZERO_STEP_BYTES)),
        )
        for start, end, has_data in merged:
            at = self._target + start
            if self._covered is not None and self._covered.contains(at, self._target + end):
                continue
            place = None if self._drive_place is None else self._drive_place + start
            yield Piece(at, end - start, self._store if has_data else None, start, place, self._partition)


def batches(pieces: Iterator[Piece]) -> Iterator[list[Piece]]:
    """Pieces that are carried together: many small ones, as a fragmented volume has them, cost little more than one."""
    waiting: list[Piece] = []
    length = 0
    for piece in pieces:
        alone = piece.store is None
        if waiting and (alone or length + piece.length > CHUNK_BYTES or len(waiting) >= _MOST_TOGETHER):
            yield waiting
            waiting, length = [], 0
        if alone:
            yield [piece]
        else:
            waiting.append(piece)
            length += piece.length
    if waiting:
        yield waiting


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
            lost = read_or_narrow(store, piece.place, view[: piece.length], sector)
            if lost:
                self._ask_whether_alive()  # it may have died in between, and then none of that is a bad place
            return lost
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
    queue = batches(pieces)

    def begin() -> Callable[[], bool]:
        memory = mmap.mmap(-1, CHUNK_BYTES)  # page-aligned; given back when the last view of it has gone
        view = memoryview(memory)
        return lambda: carry_next(view)

    def read(batch: list[Piece], view: memoryview) -> list[tuple[int, int]]:
        lost, at = list[tuple[int, int]](), 0
        for piece in batch:
            lost += _on_drive(piece, source.read(piece, view[at:]))
            at += piece.length if piece.store is not None else 0
        return lost

    def carry_next(view: memoryview) -> bool:
        control.checkpoint()
        with reading:
            batch = next(queue, None)
            if batch is None:
                return False
            started = seconds()
            side_by_side = batch[0].store is not None and batch[0].store.parallel_reads
            lost = [] if side_by_side else read(batch, view)
        if side_by_side:
            lost = read(batch, view)
        took = seconds() - started
        chunks, data, at = list[Chunk](), list[tuple[int, memoryview, list[tuple[int, int]]]](), 0
        for piece in batch:
            if piece.store is None:
                chunks.append(Chunk(piece.target, piece.target + piece.length, ZEROS))
                continue
            part = view[at : at + piece.length]
            at += piece.length
            runs = data_runs(part)
            data.append((piece.target, part, runs))
            chunks.append(Chunk(piece.target, piece.target + piece.length, blake3(part).digest() if runs else ZEROS))
        with writing:
            if not data:
                target.write_zeros(batch[0].target, batch[0].target + batch[0].length)
            for place, part, runs in data:
                write_runs(target, place, part, runs)
        with telling:
            listener.wrote(batch, chunks, lost, took)
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
    if length <= _ZERO_BLOCK:
        return [(0, length)] if length and (data[0] or np.frombuffer(data, dtype=np.uint8).any()) else []
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
