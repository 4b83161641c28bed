"""One transfer from its gates to its outcome.

The order of writes, which docs/engine.md explains: prepared volumes are made in the work folder; the old table of
the new drive is cleared, its backup first; volumes are copied, with a synced checkpoint in the journal every second
or two; everything is read back; the new table is written, its backup first. Until that last step the new drive
has no table, so a cut never leaves a drive that looks finished.
"""

from __future__ import annotations

import mmap
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

import msgspec
import numpy as np
from blake3 import blake3

from neogenesis import __version__
from neogenesis.core.errors import Refused
from neogenesis.core.estimate import rate_of, remaining_seconds
from neogenesis.core.extent import Extents
from neogenesis.core.judgement import judgement
from neogenesis.core.plan import Operation, Plan
from neogenesis.core.plan.intents import relocates
from neogenesis.core.plan.model import OperationKind
from neogenesis.core.record import save, to_json
from neogenesis.core.store import RangeView, ReadableStore, WritableStore, read_or_narrow
from neogenesis.core.survey import Drive, Surveyed
from neogenesis.core.survey.survey import TABLE_AREA_BYTES
from neogenesis.core.table import Partition, TableWrite, build_gpt, build_mbr, gpt_usable
from neogenesis.core.transfer.chunks import ZEROS, Chunk
from neogenesis.core.transfer.control import Clock, Control
from neogenesis.core.transfer.events import Event, Outcome
from neogenesis.core.transfer.identify import check_source, check_target, table_mark
from neogenesis.core.transfer.journal import Journal
from neogenesis.core.transfer.manifest import chunk_matches, mismatch, save_manifest
from neogenesis.core.transfer.pipeline import CHUNK_BYTES, Piece, SourceReader, pieces_of, run_pipeline
from neogenesis.core.transfer.prepare import VolumeTools, prepared_volume
from neogenesis.core.transfer.regions import region_map
from neogenesis.core.units import MIB, round_down, round_up

Verify = Literal["full", "sample", "none"]
_CHECKPOINT_SECONDS = 2.0
_CHECKPOINT_BYTES = 2 << 30
_PROGRESS_SECONDS = 0.2
SAMPLE_CHUNKS = 512
_KNOWN_CHUNKS = 16


@dataclass(frozen=True, slots=True)
class RunFiles:
    """The files that a transfer keeps beside its plan, all named after it."""

    plan: Path

    def _beside(self, ending: str) -> Path:
        return self.plan.with_name(f"{self.plan.stem}.{ending}")

    @property
    def journal(self) -> Path:
        return self._beside("journal")

    @property
    def manifest(self) -> Path:
        return self._beside("manifest.json")

    @property
    def regions(self) -> Path:
        return self._beside("regions.json")

    @property
    def events(self) -> Path:
        return self._beside("events.jsonl")

    @property
    def names(self) -> Path:
        """Files that lost something."""
        return self._beside("files.csv")

    @property
    def work(self) -> Path:
        return self._beside("work")


@dataclass
class _Progress:
    """What has been carried in the current phase, and how fast lately. Seconds of the transfer's clock."""

    started: float
    total: int
    done: int = 0
    resumed: int = 0
    told: float = 0.0
    told_done: int = 0
    rate: float = 0.0
    slowest_read: float = 0.0
    by_partition: dict[int, int] = field(default_factory=dict)


class Transfer:
    """Runs `plan` from `source` to `target`; both are open, `source` without any means to write."""

    def __init__(
        self,
        plan: Plan,
        source: ReadableStore,
        source_now: Callable[[], tuple[Surveyed, Drive]],
        target: WritableStore,
        target_drive: Drive,
        files: RunFiles,
        tools: VolumeTools,
        control: Control,
        clock: Clock,
        tell: Callable[[Event], None],
        verify: Verify = "full",
        busy_s: Callable[[], float] | None = None,
    ) -> None:
        """`busy_s` is a clock that tells how long reads take, where the old drive has one of its own."""
        self._busy_s = busy_s or clock.now
        self.plan, self.source, self.target, self.target_drive = plan, source, target, target_drive
        self.source_now, self.files, self.tools = source_now, files, tools
        self.control, self.clock, self._tell_out, self.verify = control, clock, tell, verify
        self.plan_hash = blake3(to_json(plan)).hexdigest()
        self._began = clock.now()
        self._journal: Journal | None = None
        self._operation = -1
        self._waiting: list[Chunk] = []
        self._waiting_lost: list[tuple[int, int]] = []
        self._waiting_bytes = 0
        self._last_sync = clock.now()
        self._progress = _Progress(clock.now(), 0)
        self._rested_at = 0.0
        self._reader = SourceReader()
        control.tell = self._rest

    # The way through a plan

    def run(self, resume: bool) -> Outcome:
        """Raises Refused before anything is written, Stopped, WriteFailed, Mismatch, ToolFailed or BadRecord."""
        self._tell(
            Event(
                event="start",
                operations=len(self.plan.operations),
                text=self.plan.intent,
                total_bytes=self.plan.estimate.bytes_to_copy,
                figures={"pace": self.clock.pace, "verify": self.verify, "resumed": resume},
            )
        )
        allocations = self._check_gates(resume)
        self.files.work.mkdir(exist_ok=True)
        journal = self._open_journal(resume)
        try:
            if not journal.state.done:
                self._go(journal, allocations)
            return self._finish(journal)
        finally:
            journal.close()

    def _check_gates(self, resume: bool) -> dict[int, Extents | None]:
        closed = [g for g in self.plan.gates if not g.open]
        if closed:
            raise Refused(closed[0].code, f"{closed[0].text} Nothing was written.", closed[0].remedy)
        resuming = resume and self.files.journal.exists()
        surveyed, drive = self.source_now()
        self._reader.remember(self.source)
        check_source(self.plan, drive, surveyed.survey.fingerprint)
        mark = table_mark(self.target)
        if resuming:
            state = Journal.resume(self.files.journal, self.plan_hash)
            state.close()
            if state.state.verified or state.state.done:
                mark = self.plan.target.table_mark  # the new table may stand there already, whole or in part
            self._check_known_chunks(state)
        check_target(self.plan, self.target_drive, mark, resuming)
        return surveyed.allocations

    def _check_known_chunks(self, journal: Journal) -> None:
        """A drive that does not hold what the journal says was written to it is another drive."""
        chunks = journal.state.chunks
        buffer = memoryview(bytearray(CHUNK_BYTES))
        step = max(1, len(chunks) // _KNOWN_CHUNKS)
        for index in range(0, len(chunks), step):
            if chunks[index].end - chunks[index].start > len(buffer):
                continue
            if not chunk_matches(self.target, chunks[index], buffer):
                raise Refused(
                    "target-changed",
                    "The new drive does not hold what was already copied to it; nothing more was written.",
                    "Connect the drive that the transfer was started on, or delete its journal and plan again.",
                )

    def _open_journal(self, resume: bool) -> Journal:
        if resume and self.files.journal.exists():
            return Journal.resume(self.files.journal, self.plan_hash)
        for path in (self.files.manifest, self.files.regions):
            path.unlink(missing_ok=True)
        for path in self.files.work.iterdir():
            path.unlink()
        return Journal.start(self.files.journal, self.plan_hash)

    def _go(self, journal: Journal, allocations: dict[int, Extents | None]) -> None:
        self._journal = journal
        volumes = self._prepare(journal)
        if not journal.state.cleared:
            self._begin_kind("clear-table")
            self._clear_table()
            journal.append([["cleared"]])
        if not journal.state.copied:
            self._copy_all(journal, allocations, volumes)
            journal.append([["copied"]])
        if not journal.state.verified:
            self._begin_kind("verify")
            journal.append([["verified", self._verify_all(journal)]])
        self._begin_kind("discard")
        self._discard_free(journal)
        self._begin_kind("write-table")
        self._write_table(journal)
        journal.append([["done"]])

    def _begin_kind(self, kind: OperationKind) -> None:
        self.control.checkpoint()
        for index, operation in enumerate(self.plan.operations):
            if operation.kind == kind:
                self._begin(index, operation)

    def _begin(self, index: int, operation: Operation) -> None:
        self._operation = index
        self._tell(Event(event="operation", text=operation.text, phase=operation.kind, partition=operation.partition))

    # Steps

    def _prepare(self, journal: Journal) -> dict[int, tuple[ReadableStore, Extents | None]]:
        """Make or reopen the prepared volumes, by number of the new partition."""
        found: dict[int, tuple[ReadableStore, Extents | None]] = {}
        for index, operation in enumerate(self.plan.operations):
            if operation.kind != "prepare" or operation.partition is None:
                continue
            self.control.checkpoint()
            self._begin(index, operation)
            new = self.plan.layout.partition(operation.partition)
            if new is None:
                raise Refused("plan", "The plan prepares a partition that it does not lay out.", "Plan again.")
            old = self.plan.source.survey.partition(operation.from_partition or 0)
            store, volume, made_now = prepared_volume(self.source, old, new, operation, self.files.work, self.tools)
            if made_now and len(journal.state.chunks):
                journal.append([["forget", new.start_bytes, new.end_bytes]])
            if made_now:
                journal.append([["prepared", new.number]])
            found[new.number] = (store, volume.allocation)
        return found

    def _clear_table(self) -> None:
        """Backup first: while the first table stands, the drive still is what it was."""
        size = min(TABLE_AREA_BYTES, self.target.size_bytes // 2)
        self.target.write_zeros(self.target.size_bytes - size, self.target.size_bytes)
        self.target.sync()
        self.target.write_zeros(0, size)
        self.target.sync()

    def _copy_all(
        self,
        journal: Journal,
        allocations: dict[int, Extents | None],
        volumes: dict[int, tuple[ReadableStore, Extents | None]],
    ) -> None:
        done = journal.state.chunks.covered
        copies = [
            (i, o, list(self._pieces(o, allocations, volumes)))
            for i, o in enumerate(self.plan.operations)
            if o.kind == "copy"
        ]
        total = sum(p.length for _, _, pieces in copies for p in pieces)
        self._progress = _Progress(self.clock.now(), total)
        for index, operation, pieces in copies:
            left = [p for p in pieces if not done.contains(p.target, p.target + p.length)]
            resumed = sum(p.length for p in pieces) - sum(p.length for p in left)
            self._progress.done += resumed
            self._progress.resumed += resumed
            if operation.partition is not None:
                self._progress.by_partition[operation.partition] = resumed
            self._begin(index, operation)
            if left:
                run_pipeline(iter(left), self.target, self, self.control, self._busy_s, self._reader)
        self._checkpoint(force=True)

    def _pieces(
        self,
        operation: Operation,
        allocations: dict[int, Extents | None],
        volumes: dict[int, tuple[ReadableStore, Extents | None]],
    ) -> Iterator[Piece]:
        if operation.partition is None:
            start, length = operation.start_bytes, operation.bytes
            return pieces_of(RangeView(self.source, start, length), None, length, start, start, None)
        new = self.plan.layout.partition(operation.partition)
        if new is None:
            raise Refused("plan", "The plan copies a partition that it does not lay out.", "Plan again.")
        gap = judgement().copy_gap_bytes
        if new.number in volumes:
            store, allocation = volumes[new.number]
            old = self.plan.source.survey.partition(new.from_partition or 0)
            place = old.start_bytes if old else None
        else:
            old = self.plan.source.survey.partition(new.from_partition or 0)
            if old is None or old.number not in allocations:
                raise Refused("plan", "The plan copies a partition that the old drive does not have.", "Plan again.")
            store, place = RangeView(self.source, old.start_bytes, old.size_bytes), old.start_bytes
            allocation = allocations[old.number]
        joined = allocation.joined(gap) if allocation is not None else None
        return pieces_of(store, joined, new.size_bytes, new.start_bytes, place, new.number)

    def wrote(self, piece: Piece, chunk: Chunk, lost: list[tuple[int, int]], read_seconds: float) -> None:
        """A piece is on its way to the medium; the journal learns of it at the next checkpoint."""
        self._waiting.append(chunk)
        self._waiting_lost += lost
        self._waiting_bytes += piece.length
        progress = self._progress
        progress.done += piece.length
        progress.slowest_read = max(progress.slowest_read, read_seconds)
        if piece.partition is not None:
            progress.by_partition[piece.partition] = progress.by_partition.get(piece.partition, 0) + piece.length
        for start, end in lost:
            self._tell(
                Event(
                    event="finding",
                    code="unreadable",
                    place_bytes=start,
                    lost_bytes=end - start,
                    text=f"Bytes {start} to {end} of the old drive cannot be read.",
                    remedy="They stand as zeros on the new drive and are listed.",
                )
            )
        self._report("copy", piece.drive_place or 0, piece.target + piece.length, piece.partition)
        self._checkpoint(force=False)

    def _checkpoint(self, force: bool) -> None:
        now = self.clock.now()
        due = now - self._last_sync > _CHECKPOINT_SECONDS * self.clock.pace or self._waiting_bytes > _CHECKPOINT_BYTES
        if not (force or due) or self._journal is None or not self._waiting:
            return
        self.target.sync()
        self._journal.add_chunks(self._waiting, self._waiting_lost)
        self._waiting, self._waiting_lost, self._waiting_bytes = [], [], 0
        self._last_sync = self.clock.now()

    def _verify_all(self, journal: Journal) -> int:
        """Returns the bytes that were read back and compared; raises Mismatch."""
        chunks = journal.state.chunks
        if self.verify == "none":
            return 0
        indices = np.arange(len(chunks))
        if self.verify == "sample" and len(chunks) > SAMPLE_CHUNKS:
            chosen = np.random.default_rng(int(self.plan_hash[:16], 16))  # by chance, and the same after a resume
            indices = chosen.choice(len(chunks), SAMPLE_CHUNKS, replace=False)
        ordered = sorted((chunks[int(i)] for i in indices), key=lambda c: c.start)
        self._progress = _Progress(self.clock.now(), sum(c.end - c.start for c in ordered))
        buffer = memoryview(mmap.mmap(-1, CHUNK_BYTES))  # page-aligned, so that a device can fill it directly
        wrong = []
        for chunk in ordered:
            self.control.checkpoint()
            self.target.forget_cached(chunk.start, chunk.end)
            if not chunk_matches(self.target, chunk, buffer):
                wrong.append(chunk)
            self._progress.done += chunk.end - chunk.start
            self._report("verify", 0, chunk.end, None)
        if wrong:
            raise mismatch(wrong, self.plan.layout)
        return self._progress.done

    def _discard_free(self, journal: Journal) -> None:
        """Whatever neither the copy nor a table covers, where the plan says so; on the new drive only."""
        if not any(o.kind == "discard" for o in self.plan.operations):
            return
        size = self.target.size_bytes
        tables = Extents.of([(0, TABLE_AREA_BYTES), (max(0, size - TABLE_AREA_BYTES), size)])
        for start, end in journal.state.chunks.covered.union(tables).complement(size):
            first, last = round_up(start, MIB), round_down(end, MIB)
            if first < last and not self.target.discard(first, last):
                self._tell(Event(event="note", code="no-discard", text="The new drive cannot be told what is free."))
                return
        self.target.sync()

    def _table_writes(self) -> tuple[tuple[TableWrite, ...], list[tuple[int, int]]]:
        """The steps, and the ranges of the old drive that could not be read for them."""
        survey = self.plan.source.survey
        if self.plan.intent == "exact":
            return self._exact_ends()
        if self.plan.intent == "beside":
            return self._new_table(0, b""), []
        return self._new_table(survey.table.entry_count, survey.table.boot_code), []

    def _exact_ends(self) -> tuple[tuple[TableWrite, ...], list[tuple[int, int]]]:
        """The last MiB, then the first: its sectors 0 and 1, which make a table count, at the very end."""
        survey = self.plan.source.survey
        size, sector = survey.drive.size_bytes, survey.drive.sector_size
        head = min(TABLE_AREA_BYTES, size)
        tail = (max(head, size - TABLE_AREA_BYTES), size)
        table: tuple[TableWrite, ...] = ()
        cut = min(2 * sector, head)
        if relocates(survey, self.plan.policy):
            table = self._new_table(survey.table.entry_count, survey.table.boot_code)
            cut = gpt_usable(size, sector, survey.table.entry_count)[0]
            tail = (tail[0], min(size, table[0].pieces[0][0]))
        ends = [("last MiB", *tail), ("first MiB", cut, head)]
        if not table:
            ends.append(("first sectors", 0, cut))
        steps, lost = [], []
        for name, start, end in ends:
            buffer = memoryview(bytearray(max(0, end - start)))
            if buffer:
                lost += read_or_narrow(self.source, start, buffer, sector)
                steps.append(TableWrite(name, ((start, bytes(buffer)),)))
        return (*steps, *table), lost

    def _new_table(self, entry_count: int, code: bytes) -> tuple[TableWrite, ...]:
        layout = self.plan.layout
        partitions = [
            Partition(
                p.number,
                p.start_bytes,
                p.size_bytes,
                p.type_id,
                p.unique_id,
                p.name,
                p.attributes,
                p.logical,
                p.bootable,
            )
            for p in layout.partitions
        ]
        if layout.table == "gpt":
            return build_gpt(layout.size_bytes, layout.sector_size, layout.disk_id, partitions, entry_count, code)
        if layout.table == "mbr":
            return build_mbr(layout.size_bytes, layout.sector_size, layout.disk_id, partitions, code)
        return ()

    def _write_table(self, journal: Journal) -> None:
        pieces: list[tuple[int, bytes]] = []
        steps, lost = self._table_writes()
        for step in steps:
            for offset, data in step.pieces:
                self.target.write(offset, data)
                pieces.append((offset, data))
            self.target.sync()
        for offset, data in pieces:
            self.target.forget_cached(offset, offset + len(data))
            if self.target.read(offset, len(data)) != data:
                raise mismatch([Chunk(offset, offset + len(data), ZEROS)], self.plan.layout)
        written = dict(pieces)
        journal.add_chunks([Chunk(o, o + len(d), blake3(d).digest()) for o, d in written.items()], lost)

    def _finish(self, journal: Journal) -> Outcome:
        lost = Extents.of(journal.state.lost)
        head = {
            "schema": "neogenesis.manifest/1",
            "program": f"neogenesis {__version__}",
            "created": self.clock.wall(),
            "source": self.plan.source.survey.drive,
            "target": self.target_drive,
            "plan_hash": self.plan_hash,
            "size_bytes": self.plan.layout.size_bytes,
            "layout": self.plan.layout,
            "verified_bytes": journal.state.verified_bytes,
            "lost": tuple(lost),
        }
        unique = {c.start: c for c in journal.state.chunks}
        manifest_hash = save_manifest(self.files.manifest, head, unique.values())
        save(self.files.regions, region_map(self.plan.source.survey.drive.size_bytes, self._read_ranges(journal), lost))
        for path in self.files.work.iterdir():
            path.unlink()
        self.files.work.rmdir()
        kind: Literal["done", "partial"] = "partial" if lost else "done"
        return Outcome(
            kind=kind,
            copied_bytes=sum(c.end - c.start for c in unique.values()),
            verified_bytes=journal.state.verified_bytes,
            lost=tuple(lost),
            seconds=self.clock.now() - self._began,
            manifest_hash=manifest_hash,
        )

    def _read_ranges(self, journal: Journal) -> Extents:
        """Ranges of the old drive that were carried, from where their copies stand."""
        read = Extents.of([])
        covered = journal.state.chunks.covered
        if self.plan.intent == "exact":
            return covered.clipped(0, self.plan.source.survey.drive.size_bytes)
        for new in self.plan.layout.partitions:
            old = self.plan.source.survey.partition(new.from_partition or 0)
            if old is not None:
                size = min(old.size_bytes, new.size_bytes)
                part = covered.clipped(new.start_bytes, new.start_bytes + size)
                read = read.union(part.shifted(old.start_bytes - new.start_bytes))
        return read

    # Telling

    def _rest(self, what: Literal["paused", "resumed"]) -> None:
        """Time at rest does not count against the rate."""
        if what == "paused":
            self._rested_at = self.clock.now()
        else:
            self._progress.started += self.clock.now() - self._rested_at
            self._progress.told = 0.0
        self._tell(Event(event=what))

    def _report(self, phase: str, place: int, target: int, partition: int | None) -> None:
        progress, now = self._progress, self.clock.now()
        since = now - progress.told
        if progress.told and since < _PROGRESS_SECONDS * self.clock.pace and progress.done < progress.total:
            return
        if progress.told and since > 0:
            latest = (progress.done - progress.told_done) / since
            progress.rate = latest if not progress.rate else 0.7 * progress.rate + 0.3 * latest
        left = remaining_seconds(
            progress.done - progress.resumed, now - progress.started, progress.total - progress.done, progress.rate
        )
        if phase == "copy" and self.verify == "full":
            # Reading back usually goes at the pace of the copy or faster, at best at that of the target's reads.
            fastest = rate_of(self.target_drive).read[2]
            left = (left[0] + progress.total / fastest, left[1] + progress.total / max(progress.rate, 1.0))
        self._tell(
            Event(
                event="progress",
                phase=phase,
                partition=partition,
                partition_bytes=progress.by_partition.get(partition or -1, 0),
                copied_bytes=progress.done,
                total_bytes=progress.total,
                rate_bytes_per_s=progress.rate,
                slowest_read_s=progress.slowest_read,
                place_bytes=place,
                target_bytes=target,
                left_s=left,
            )
        )
        progress.told, progress.told_done, progress.slowest_read = now, progress.done, 0.0

    def _tell(self, event: Event) -> None:
        self._tell_out(
            msgspec.structs.replace(
                event,
                time_s=round(self.clock.now() - self._began, 3),
                wall=self.clock.wall(),
                operation=self._operation,
                operations=len(self.plan.operations),
            )
        )
