"""One executor for each type of step. All are told whether the step was done by an earlier run."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Protocol

import numpy as np
from blake3 import blake3

from neogenesis.core.drive import TABLE_AREA_BYTES
from neogenesis.core.errors import Refused
from neogenesis.core.extent import Extents
from neogenesis.core.judgement import judgement
from neogenesis.core.plan import Plan, Step
from neogenesis.core.plan.steps import (
    ClearTable,
    Copy,
    Discard,
    MakeVolume,
    Prepare,
    Verify,
    WriteRanges,
    WriteTable,
)
from neogenesis.core.store import LiveStore, RangeView, ReadableStore
from neogenesis.core.transfer.ends import Ends
from neogenesis.core.transfer.ends import Verify as Checking
from neogenesis.core.transfer.pipeline import Batch, Origin, RunList, run_pipeline
from neogenesis.core.transfer.prepare import VolumeTools, prepared_volume
from neogenesis.core.transfer.progress import Progress
from neogenesis.core.transfer.readback import mismatch, wrong_chunks
from neogenesis.core.transfer.records import RunFiles
from neogenesis.core.transfer.table import clear_table, final_writes, not_there, write_in_order
from neogenesis.core.units import MIB, round_down
from neogenesis.core.work import ZEROS, Chunk, ChunkLog, Event, Frame, Journal

SAMPLE_CHUNKS = 512


class Transfer(Protocol):
    """What the executors work on: one transfer under way (`run.Transfer`)."""

    plan: Plan
    ends: Ends
    files: RunFiles
    tools: VolumeTools
    frame: Frame
    verify: Checking
    plan_hash: str
    journal: Journal
    progress: Progress
    source: LiveStore
    volumes: dict[int, tuple[ReadableStore, Extents | None]]
    allocations: dict[int, Extents | None]
    runs: dict[str, RunList]
    later: list[Batch]
    busy_s: Callable[[], float]

    def tell(self, event: Event) -> None: ...

    def report(self, place: int, target: int, partition: int | None) -> None: ...

    def fills(self, step: MakeVolume) -> Callable[[int], None]: ...

    def forget_wrong(self, wrong: list[Chunk]) -> None: ...

    def same_source(self) -> None: ...

    def wrote(
        self, batch: Batch, chunks: Sequence[Chunk], lost: list[tuple[int, int]], read_seconds: float
    ) -> None: ...

    def put_off(self, batch: Batch) -> None: ...


def execute(transfer: Transfer, step: Step, done: bool) -> None:
    """Run a step, or what an earlier run left of it."""
    _EXECUTORS[type(step)](transfer, step, done)


def _prepare(transfer: Transfer, step: Prepare | MakeVolume, done: bool) -> None:
    """Also asked for again by every resume that still copies: the copy reads from what is prepared."""
    plan, journal = transfer.plan, transfer.journal
    copies = {s.id for s in plan.operations if isinstance(s, Copy) and s.partition == step.partition}
    if done and copies <= journal.state.steps:
        return
    new = plan.layout.partition(step.partition or 0)
    if new is None:
        raise Refused("plan", "The plan prepares a partition that it does not lay out.", "Plan again.")
    old = plan.source.survey.partition(step.from_partition) if isinstance(step, Prepare) else None
    files = transfer.files
    sector = plan.layout.sector_size
    told = transfer.fills(step) if isinstance(step, MakeVolume) and step.tree and not done else lambda count: None
    store, volume, made_now = prepared_volume(transfer.source, old, new, step, files.work, transfer.tools, sector, told)
    if made_now and done:
        journal.append([["forget", new.start_bytes, new.end_bytes]])
    allocation = volume.allocation
    if isinstance(step, MakeVolume) and step.whole and allocation is not None:
        edge = min(MIB, new.size_bytes)
        allocation = allocation.union(Extents.of([(0, edge), (new.size_bytes - edge, new.size_bytes)]))
    transfer.volumes[new.number] = (store, allocation)


def _clear(transfer: Transfer, step: ClearTable, done: bool) -> None:
    if not done:
        clear_table(transfer.ends.target, step.ranges)


def _discard(transfer: Transfer, step: Discard, done: bool) -> None:
    """Before anything is copied: what a drive does with places that were discarded is its own business."""
    target = transfer.ends.target
    last = round_down(target.size_bytes - TABLE_AREA_BYTES, MIB)
    if done or last <= TABLE_AREA_BYTES:
        return
    if not target.discard(TABLE_AREA_BYTES, last):
        transfer.tell(Event(event="note", code="no-discard", text="The new drive cannot be told what is free."))
    target.sync()


def _copy(transfer: Transfer, step: Copy, done: bool) -> None:
    progress, covered = transfer.progress, transfer.journal.state.chunks.covered
    if progress.phase != "copy":
        copies = [s for s in transfer.plan.operations if isinstance(s, Copy)]
        transfer.runs = {s.id: runs_of_step(transfer, s) for s in copies}
        transfer.allocations, transfer.volumes = {}, {}  # not needed any more, and large for a fragmented drive
        progress.begin("copy", sum(runs.total for runs in transfer.runs.values()))
    runs = transfer.runs.pop(step.id)
    left = runs.without(covered)
    progress.skip(runs.total if done else runs.total - left.total, step.partition)
    if not done:
        run_pipeline(left, transfer.ends.target, transfer, transfer.frame.control, transfer.busy_s)
    if not transfer.runs:
        _copy_later(transfer)


def _copy_later(transfer: Transfer) -> None:
    """What was put off, when all else is copied: now it is tried to the last sector."""
    later = transfer.later
    if later:
        text = f"Bad stretches that were put off are read now, sector by sector: {len(later)}."
        transfer.tell(Event(event="note", code="put-off", text=text))
        run_pipeline(later, transfer.ends.target, transfer, transfer.frame.control, transfer.busy_s, patient=True)
        later.clear()


def runs_of_step(transfer: Transfer, step: Copy) -> RunList:
    """What a copy carries."""
    source, plan = transfer.source, transfer.plan
    if step.partition is None:
        start, length = step.start_bytes, step.bytes
        return RunList.of(Origin(RangeView(source, start, length), start, None), None, length)
    new = plan.layout.partition(step.partition)
    old = plan.source.survey.partition(step.from_partition) if step.from_partition is not None else None
    if new is None:
        raise Refused("plan", "The plan copies a partition that it does not lay out.", "Plan again.")
    if new.number in transfer.volumes:
        store, allocation = transfer.volumes[new.number]
    elif old is not None and old.number in transfer.allocations:
        store, allocation = RangeView(source, old.start_bytes, old.size_bytes), transfer.allocations[old.number]
    else:  # prepared by an earlier run, and copied by it
        return RunList.of(Origin(RangeView(source, 0, 0), new.start_bytes, new.number), Extents.of([]), 0)
    joined = allocation.joined(judgement().copy_gap_bytes) if allocation is not None else None
    return RunList.of(Origin(store, new.start_bytes, new.number), joined, new.size_bytes)


def _write_ranges(transfer: Transfer, step: WriteRanges, done: bool) -> None:
    """Each place must hold what was seen when the plan was made, or already what is to be written."""
    if done:
        return
    target = transfer.ends.target
    medium = target.uncached()
    for one in step.ranges:
        found = blake3(medium.read(one.start_bytes, len(one.data))).hexdigest()
        if found not in (one.before, blake3(one.data).hexdigest()):
            raise Refused(
                "target-changed",
                f"Byte {one.start_bytes} of the new drive does not hold what was there when this was planned; "
                "it was left alone.",
                "Plan again.",
            )
    written = {}
    for one in step.ranges:
        target.write(one.start_bytes, one.data)
        written[one.start_bytes] = one.data
    target.sync()
    _check_written(transfer, written)


def _check_written(transfer: Transfer, written: dict[int, bytes]) -> None:
    """Raises Mismatch unless the medium gives back what was just written."""
    wrong = [Chunk(start, end, ZEROS) for start, end in not_there(transfer.ends.target, written)]
    if wrong:
        transfer.forget_wrong(wrong)
        raise mismatch(wrong, transfer.plan.layout, transfer.journal.state.times_wrong)


def _verify(transfer: Transfer, step: Verify, done: bool) -> None:
    state, chosen = transfer.journal.state, _to_verify(transfer)
    wanted = int(sum(state.chunks.edges[chosen, 1] - state.chunks.edges[chosen, 0]))
    if transfer.verify == "none" or (done and state.verified_bytes >= wanted):
        return  # what was begun with less reading back is read back all the same, once more of it is wanted
    wrong, read = wrong_of(transfer)
    if wrong:
        transfer.forget_wrong(wrong)
        raise mismatch(wrong, transfer.plan.layout, transfer.journal.state.times_wrong)
    transfer.journal.append([["verified", read]])


def wrong_of(transfer: Transfer) -> tuple[list[Chunk], int]:
    """Read back as it is wanted: the chunks that are not there, and how many bytes were read."""
    progress, state = transfer.progress, transfer.journal.state
    chosen = _to_verify(transfer)
    progress.begin("verify", int(sum(state.chunks.edges[chosen, 1] - state.chunks.edges[chosen, 0])))
    edges = state.chunks.edges[chosen]
    ordered = state.chunks.picked(chosen[np.argsort(edges[:, 0], kind="stable")])

    def told(some: Sequence[Chunk]) -> None:
        transfer.frame.control.checkpoint()
        progress.add(sum(end - start for start, end, _ in some))
        transfer.report(0, some[-1].end, None)

    return wrong_chunks(transfer.ends.target.uncached(), ordered, told), progress.done


def _to_verify(transfer: Transfer) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
    """Indices of the chunks to read back: all of them, or some by chance, and the same ones after a resume."""
    count = len(transfer.journal.state.chunks)
    if transfer.verify == "sample" and count > SAMPLE_CHUNKS:
        chance = np.random.default_rng(int(transfer.plan_hash[:16], 16))
        return chance.choice(count, SAMPLE_CHUNKS, replace=False).astype(np.int64)
    return np.arange(count, dtype=np.int64)


def _write_table(transfer: Transfer, step: WriteTable, done: bool) -> None:
    if done:
        return
    transfer.same_source()
    transfer.journal.append([["begun", step.id]])
    steps, lost = final_writes(transfer.plan, transfer.source)
    written = write_in_order(transfer.ends.target, steps)
    _check_written(transfer, written)
    chunks = ChunkLog()
    chunks.extend([Chunk(at, at + len(data), blake3(data).digest()) for at, data in written.items()])
    transfer.journal.add_chunks(chunks, lost)


_EXECUTORS: dict[type[Any], Callable[[Transfer, Any, bool], None]] = {
    Prepare: _prepare,
    MakeVolume: _prepare,
    ClearTable: _clear,
    Discard: _discard,
    Copy: _copy,
    WriteRanges: _write_ranges,
    Verify: _verify,
    WriteTable: _write_table,
}
