"""Moving bytes: a few threads that each read, hash and write one chunk at a time.

Reading and writing are each one at a time and in order, so a mechanical drive is never torn between places; while
one thread writes, the next reads and a third hashes. Memory is one buffer per thread, whatever the drive's size.
"""

from __future__ import annotations

import mmap
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import NamedTuple, Protocol

import numpy as np
from blake3 import blake3

from neogenesis.core.errors import ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.store import LostStore, Patience, PutOff, ReadableStore, WritableStore, read_or_narrow
from neogenesis.core.units import KIB, MIB
from neogenesis.core.work.chunks import ZEROS, Chunk
from neogenesis.core.work.control import Control

#: Small enough to stay in the processor's cache between reading, hashing and writing, large enough for few records.
CHUNK_BYTES = 4 * MIB
_ZERO_STEP_BYTES = 256 * MIB
#: Of which more than two would only hold each other up over very many small requests.
_THREADS, _THREADS_SCATTERED = 3, 2
#: So many small runs are carried, and read back, at a time.
MOST_TOGETHER = 256
_ZERO_BLOCK = 64 * KIB
_MANY_RUNS = 1000


@dataclass(frozen=True, slots=True)
class Origin:
    """Where the bytes of a volume come from and go to: byte n of `store` to byte `target` + n of the new drive."""

    store: ReadableStore
    target: int
    partition: int | None


class Batch(NamedTuple):
    """Runs of one store that are carried together, each [start, end) of it; with `zeros` they are not read."""

    origin: Origin
    runs: Sequence[tuple[int, int]]
    zeros: bool

    @property
    def total(self) -> int:
        """Bytes of all runs."""
        return sum(end - start for start, end in self.runs)


class Listener(Protocol):
    """Hears of what the new drive has taken; called from several threads, one at a time.

    `chunks` are in the order of the batch's runs; `lost` are ranges of the old drive.
    """

    def wrote(
        self, batch: Batch, chunks: Sequence[Chunk], lost: list[tuple[int, int]], read_seconds: float
    ) -> None: ...

    def put_off(self, batch: Batch) -> None:
        """A bad stretch took its time, and nothing of it was written; `batch` is to be carried after all others."""
        ...


class RunList:
    """What is carried of a volume, in order, cut as it is asked for: memory grows with its runs, never with its size.

    Holes of the store are not read but made zero on the target. Where a volume's own map says “unused”, nothing is
    written, but for the first and last MiB: what another volume left there could be mistaken for a signature.
    """

    def __init__(self, origin: Origin, data: Extents, zeros: Extents) -> None:
        """`data` and `zeros` are ranges of the store that have nothing in common."""
        self._origin, self._data, self._zeros = origin, data, zeros

    @classmethod
    def of(cls, origin: Origin, allocation: Extents | None, size: int) -> RunList:
        """`allocation` of the volume, None for all of its `size` bytes.

        Among many small runs holes are not looked for: reading one of them costs no more than asking.
        """
        used = Extents.whole(size) if allocation is None else allocation.clipped(0, size)
        data = (
            used if _is_scattered(used) else used.intersection(origin.store.extents_with_data().widened(64 * KIB, size))
        )
        edges = Extents.of([(0, min(MIB, size)), (max(0, size - MIB), size)])
        holes = used.minus(data) if data.total < used.total else Extents.of([])
        return cls(origin, data, edges.minus(data).union(holes))

    def without(self, covered: Extents) -> RunList:
        """What is left when `covered` of the new drive is done already."""
        if not covered:
            return self
        here = covered.shifted(-self._origin.target)
        return RunList(self._origin, self._data.minus(here), self._zeros.minus(here))

    @property
    def total(self) -> int:
        """Bytes of all runs."""
        return self._data.total + self._zeros.total

    @property
    def is_scattered(self) -> bool:
        """Whether it is very many small runs, as a fragmented volume has them."""
        return _is_scattered(self._data)

    def __iter__(self) -> Iterator[Batch]:
        """Many small runs, as a fragmented volume has them, cost little more together than one."""
        zeros = self._zeros.chunks(_ZERO_STEP_BYTES)
        waiting: list[tuple[int, int]] = []
        length, next_zeros = 0, next(zeros, None)
        for run in self._data.chunks(CHUNK_BYTES):
            start, end = run
            is_next = next_zeros is None or start < next_zeros[0]
            if waiting and (not is_next or length + end - start > CHUNK_BYTES or len(waiting) >= MOST_TOGETHER):
                yield Batch(self._origin, waiting, False)
                waiting, length = [], 0
            while next_zeros is not None and next_zeros[0] < start:
                yield Batch(self._origin, [next_zeros], True)
                next_zeros = next(zeros, None)
            waiting.append(run)
            length += end - start
        if waiting:
            yield Batch(self._origin, waiting, False)
        while next_zeros is not None:
            yield Batch(self._origin, [next_zeros], True)
            next_zeros = next(zeros, None)


def _is_scattered(runs: Extents) -> bool:
    return len(runs) > _MANY_RUNS and runs.total < len(runs) * MIB


def run_pipeline(
    batches: Iterable[Batch],
    target: WritableStore,
    listener: Listener,
    control: Control,
    seconds: Callable[[], float],
    patient: bool = False,
) -> None:
    """Carry all `batches`; raises the first failure, after every thread has ended. Stopped leaves what was done.

    A bad stretch that takes too long is put off, unless somebody is `patient`.
    """
    reading, writing, telling = threading.Lock(), threading.Lock(), threading.Lock()
    queue = iter(batches)
    is_scattered = isinstance(batches, RunList) and batches.is_scattered

    def begin() -> Callable[[], bool]:
        memory = mmap.mmap(-1, CHUNK_BYTES)  # page-aligned; given back when the last view of it has gone
        view = memoryview(memory)
        return lambda: carry_next(view)

    def carry_next(view: memoryview) -> bool:
        control.checkpoint()
        with reading:
            batch = next(queue, None)
            if batch is None:
                return False
            side_by_side = batch.origin.store.parallel_reads and len(batch.runs) == 1
            read = None if side_by_side else _read(batch, view, seconds, patient)
        lost, took, is_whole = read or _read(batch, view, seconds, patient)
        if not is_whole:
            store = LostStore(batch.origin.store, Extents.of(lost))
            with telling:
                listener.put_off(batch._replace(origin=replace(batch.origin, store=store)))
            return True
        chunks = _chunks(batch, view, bool(lost))
        with writing:
            _write(target, chunks, view, batch.zeros)
        below = [place for start, end in lost for place in batch.origin.store.places_below(start, end)]
        with telling:
            listener.wrote(batch, chunks, below, took)
        return True

    run_together(_THREADS_SCATTERED if is_scattered else _THREADS, "copy", begin)


def _read(
    batch: Batch, view: memoryview, seconds: Callable[[], float], patient: bool
) -> tuple[list[tuple[int, int]], float, bool]:
    """Fill `view` with the runs, one behind the other.

    What is known to be lost, in bytes of the store; how long it took; and whether all of it was tried.
    """
    started = seconds()
    store, lost, at = batch.origin.store, list[tuple[int, int]](), 0
    if batch.zeros:
        return lost, seconds() - started, True
    try:
        store.read_runs(batch.runs, view)
    except ReadFailed:
        patience, alone = None if patient else Patience(seconds), len(batch.runs) == 1
        for start, end in batch.runs:
            part = view[at : at + end - start]
            at += end - start
            try:
                lost += read_or_narrow(store, start, part, store.sector_size, alone, patience)
            except PutOff as found:
                return lost + found.lost, seconds() - started, False
    return lost, seconds() - started, True


def _chunks(batch: Batch, data: memoryview, with_losses: bool) -> list[Chunk]:
    """A chunk for each run of the batch, whose bytes stand in `data` one behind the other."""
    to, chunks, at = batch.origin.target, list[Chunk](), 0
    for start, end in batch.runs:
        if batch.zeros:
            chunks.append(Chunk(to + start, to + end, ZEROS))
            continue
        part = data[at : at + end - start]
        at += end - start
        if not (part[0] or data_runs(part)):
            digest = ZEROS
        else:
            digest = blake3(part).digest() if with_losses else batch.origin.store.digest_of(start, part)
        chunks.append(Chunk(to + start, to + end, digest))
    return chunks


def _write(target: WritableStore, chunks: list[Chunk], data: memoryview, zeros: bool) -> None:
    if len(chunks) > 1 and all(chunk.digest != ZEROS for chunk in chunks):  # small, and all of them hold something
        target.write_runs([chunk[:2] for chunk in chunks], data)
        return
    at = 0
    for start, end, digest in chunks:
        if zeros or digest == ZEROS:
            target.write_zeros(start, end)
        else:
            part = data[at : at + end - start]
            write_runs(target, start, part, data_runs(part))
        at += end - start


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


def holds_data(data: memoryview) -> bool:
    """Whether any byte is not zero; most data show it at one of the first places that are looked at."""
    whole = len(data) // 8 * 8
    words = np.frombuffer(data[:whole], dtype=np.uint64)
    return bool(words[:: _ZERO_BLOCK // 8].any() or np.bitwise_or.reduce(words) or any(data[whole:]))


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
        seen[doubtful] = [np.bitwise_or.reduce(words[block]) != 0 for block in doubtful]
    flags = seen.tolist()
    if length > whole * _ZERO_BLOCK:
        flags.append(bool(np.frombuffer(data[whole * _ZERO_BLOCK :], dtype=np.uint8).any()))
    edges = [0, *(i for i, (a, b) in enumerate(pairwise(flags), 1) if a != b), len(flags)]
    return [(a * _ZERO_BLOCK, min(b * _ZERO_BLOCK, length)) for a, b in pairwise(edges) if flags[a]]
