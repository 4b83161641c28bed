"""One transfer from its gates to its outcome: the steps of its plan in their order, each recorded when it is done.

docs/engine.md explains the order of writes. Prepared volumes are made in the work folder; the old table of the new
drive is cleared, its backup first; volumes are copied, with a synced checkpoint in the journal every second or two;
everything is read back; the new table is written, its backup first. Until that last step the new drive has no table,
so a cut never leaves a drive that looks finished.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import partial
from typing import Any

import msgspec
from blake3 import blake3

from neogenesis.core.drive import TABLE_AREA_BYTES
from neogenesis.core.errors import CannotRecord, Mismatch, NeogenesisError, OnlyChecked, Refused, Stopped
from neogenesis.core.extent import Extents
from neogenesis.core.plan import Plan, Step
from neogenesis.core.plan.steps import Copy, MakeVolume
from neogenesis.core.record import to_json
from neogenesis.core.store import LiveStore, ReadableStore
from neogenesis.core.survey import Survey
from neogenesis.core.transfer.admission import check_gates, check_source, check_target, known_wrong, table_mark
from neogenesis.core.transfer.ends import Ends, Verify
from neogenesis.core.transfer.pipeline import Batch, RunList
from neogenesis.core.transfer.prepare import VolumeTools
from neogenesis.core.transfer.progress import Progress
from neogenesis.core.transfer.records import RunFiles, write_records
from neogenesis.core.transfer.same import changed_since, copied_by
from neogenesis.core.transfer.steps import execute, wrong_of
from neogenesis.core.work import Chunk, ChunkLog, Event, Frame, Journal, JournalLimits, Outcome
from neogenesis.core.work.control import Resting
from neogenesis.core.work.journal import Leg

_CHECKPOINT_SECONDS = 2.0
_CHECKPOINT_BYTES = 2 << 30


class Transfer:
    """Runs `plan` between `ends`. The executors of its steps (`steps.py`) work on what is public here."""

    def __init__(
        self,
        plan: Plan,
        ends: Ends,
        files: RunFiles,
        tools: VolumeTools,
        frame: Frame,
        verify: Verify = "full",
        unused: bool = False,
    ) -> None:
        """`unused`: a person says that the old drive was not used since an earlier leg of this transfer."""
        self.plan, self.ends, self.files, self.tools, self.frame, self.verify = plan, ends, files, tools, frame, verify
        self.plan_hash = blake3(to_json(plan)).hexdigest()
        self.busy_s = ends.busy_s or frame.clock.now
        advice = "Connect it again and run the transfer with --resume."
        self._unused = unused
        self.source = LiveStore(ends.source, frame.control.checkpoint, advice)
        forecast = (plan.estimate.seconds_p10, plan.estimate.seconds_p90)
        self.progress = Progress(frame.clock, ends.target_drive, verify == "full", forecast)
        self.volumes: dict[int, tuple[ReadableStore, Extents | None]] = {}
        self.allocations: dict[int, Extents | None] = {}
        self.runs: dict[str, RunList] = {}
        self.later: list[Batch] = []
        self._unrecorded: list[str] = []
        self._began, self._leg = frame.clock.now(), Leg(frame.control, frame.clock)
        self._step = -1
        self._was_finished = False
        self._last_sync = frame.clock.now()
        self._waiting = ChunkLog()
        self._waiting_lost: list[tuple[int, int]] = []
        self._waiting_bytes = 0
        frame.control.tell = self._rest

    journal: Journal

    def run(self, resume: bool) -> Outcome:
        """Raises Refused before anything is written, Stopped, WriteFailed, Mismatch, ToolFailed, or BadRecord."""
        self.tell(
            Event(
                event="start",
                operations=len(self.plan.operations),
                text=self.plan.intent,
                total_bytes=self.plan.estimate.bytes_to_copy,
                figures={"pace": self.frame.clock.pace, "verify": self.verify, "resumed": resume},
            )
        )
        self._admit(resume and self.files.journal.exists())
        try:
            self._was_finished = self.journal.state.done
            if self.ends.check_only:
                raise OnlyChecked
            if not self._was_finished:
                self._run_steps()
            return self._finish()
        finally:
            self.journal.close()

    def _run_steps(self) -> None:
        self.journal.append([["leg"]])
        try:
            for index, step in enumerate(self.plan.operations):
                self._run_step(index, step)
        except NeogenesisError:
            with suppress(CannotRecord):
                self.journal.append([self._leg.line()])
            raise
        self.journal.append([self._leg.line(), ["done"]])

    def _admit(self, resuming: bool) -> None:
        """Everything that is asked before the first write; opens the journal."""
        plan, target = self.plan, self.ends.target
        surveyed, drive = self.ends.look()
        self.source.begin()  # a drive that died while it was looked at is not a changed one
        check_source(plan, drive, surveyed)
        check_gates(plan, surveyed)
        self.allocations = surveyed.allocations
        mark, wrong = table_mark(target.uncached()), list[Chunk]()
        limits = JournalLimits(plan.layout.size_bytes, drive.size_bytes)
        if not resuming:
            check_target(plan, self.ends.target_drive, mark, False)
            self.ends.begin()
            self.files.work.mkdir(0o700, exist_ok=True)
            for path in (self.files.manifest, self.files.regions):
                path.unlink(missing_ok=True)
            self.files.clear_work()
            self.journal = Journal.start(self.files.journal, self.plan_hash, limits)
            return
        journal = Journal.resume(self.files.journal, self.plan_hash, limits)
        try:
            if journal.state.begun:
                mark = plan.target.table_mark  # the new table may stand there already, whole or in part
            check_target(plan, self.ends.target_drive, mark, True)
            self.journal = journal
            if journal.state.done:
                self._admit_finished()
                return
            wrong = known_wrong(journal, target)
            self.ends.begin()
            wrong = sorted({*wrong, *self._changed(journal, surveyed.survey)})
        except NeogenesisError:
            journal.close()
            raise
        self.files.work.mkdir(0o700, exist_ok=True)
        if wrong:
            self.forget_wrong(wrong)

    def _changed(self, journal: Journal, survey: Survey) -> list[Chunk]:
        """What an earlier leg copied that the old drive does not hold any more: it is copied again.

        A failing drive is not read twice, and a person may say that nobody used it.
        """
        if self._unused:
            journal.append([["unused"]])
            self.tell(Event(event="note", code="unused", text="Somebody said that the old drive was not used since."))
            return []
        if survey.health.is_failing:
            return []
        self.tell(Event(event="operation", phase="compare", text="Compare what was copied with the old drive"))
        found = self._differs(journal, whole=True)
        if found:
            text = f"{len(found)} pieces of the old drive are not what was copied of them; they are copied again."
            self.tell(Event(event="note", code="source-used", text=text))
        return found

    def _differs(self, journal: Journal, whole: bool) -> list[Chunk]:
        """As `changed_since`."""
        copied, size = copied_by(self.plan), self.plan.layout.size_bytes

        def told(some: Sequence[Chunk]) -> None:
            self.frame.control.checkpoint()
            if whole:
                self.progress.add(sum(end - start for start, end, _ in some))
                self.report(some[-1].end, 0, None)

        source, lost = copied.of(self.source, size), copied.there(Extents.of(journal.state.lost))
        begin = partial(self.progress.begin, "compare") if whole else lambda total: None
        return changed_since(source, journal.state.chunks, copied, lost, whole, told, begin)

    def _admit_finished(self) -> None:
        """What is finished is read back, and never written again. Raises Refused where the drive was used since."""
        chunks = self.journal.state.chunks
        wrong, read = wrong_of(self) if self.verify != "none" else (known_wrong(self.journal, self.ends.target), 0)
        if wrong:
            raise Refused(
                "changed-since",
                f"This transfer was finished, and the new drive was changed since ({len(wrong)} of {len(chunks)} "
                "pieces are not what was copied): somebody used it. Nothing was written.",
                "Keep it as it is; to write it anew, plan again.",
            )
        if read > self.journal.state.verified_bytes and not self.ends.check_only:
            self.journal.append([["verified", read]])

    def _run_step(self, index: int, step: Step) -> None:
        self.frame.control.checkpoint()
        self._step = index
        done = step.id in self.journal.state.steps
        if not done:
            self.tell(Event(event="operation", text=step.text, phase=step.kind, partition=step.partition))
        execute(self, step, done)
        if not done:
            self.checkpoint(force=True)
            self._unrecorded.append(step.id)
        if self._unrecorded and not self.later:  # what was put off belongs to one of them
            self.journal.append([["step", one] for one in self._unrecorded])
            self._unrecorded.clear()

    def forget_wrong(self, wrong: list[Chunk]) -> None:
        """What does not stand on the new drive is not done: all but preparing comes again, for what is missing."""
        size = self.plan.layout.size_bytes
        area = min(TABLE_AREA_BYTES, size // 2)  # both ends are cleared again, and what stood there with them
        ends: list[list[Any]] = [["forget", 0, area], ["forget", size - area, size]]
        again = [s.id for s in self.plan.operations if s.kind not in ("prepare", "make-volume", "discard")]
        self.journal.append([["wrong", [[c.start, c.end] for c in wrong]], *ends, ["undo", again]])

    def _finish(self) -> Outcome:
        state = self.journal.state
        lost = Extents.of(state.lost)
        digest = write_records(
            self.files, self.plan, self.plan_hash, self.ends.target_drive, self.journal, self.frame.clock
        )
        if self.files.work.exists():
            self.files.clear_work()
            self.files.work.rmdir()
        return Outcome(
            kind="partial" if lost else "done",
            finished_before=self._was_finished,
            copied_bytes=state.chunks.covered.total,
            verified_bytes=state.verified_bytes,
            lost=tuple(lost),
            seconds=state.worked_s,
            paused_seconds=state.paused_s,
            manifest_hash=digest,
        )

    # What the executors and the pipeline call

    def fills(self, step: MakeVolume) -> Callable[[int], None]:
        """Files are put onto a volume from now on, and then compared; hears of their bytes, each byte twice."""
        planned = sum(s.bytes for s in self.plan.operations if isinstance(s, Copy) and s.partition == step.partition)
        self.progress.begin("fill", planned)
        heard = 0

        def told(count: int) -> None:
            nonlocal heard
            self.frame.control.checkpoint()
            heard += count
            self.progress.add(max(0, min(heard // 2, planned) - self.progress.done))
            self.report(0, 0, None)

        return told

    def wrote(self, batch: Batch, chunks: Sequence[Chunk], lost: list[tuple[int, int]], read_seconds: float) -> None:
        """Runs are on their way to the medium; the journal learns of them at the next checkpoint."""
        self._waiting.extend(chunks)
        self._waiting_lost += lost
        origin, length = batch.origin, batch.total
        self._waiting_bytes += length
        self.progress.add(length, origin.partition, read_seconds)
        for start, end in lost:
            self.tell(
                Event(
                    event="finding",
                    code="unreadable",
                    place_bytes=start,
                    lost_bytes=end - start,
                    text=f"Bytes {start} to {end} of the old drive cannot be read.",
                    remedy="They stand as zeros on the new drive and are listed.",
                )
            )
        start, end = batch.runs[-1]
        below = origin.store.places_below(start, min(end, start + 1))
        self.report(below[0][0] if below else 0, origin.target + end, origin.partition)
        self.checkpoint(force=False)

    def put_off(self, batch: Batch) -> None:
        """A bad stretch took its time; it comes again when all else is copied."""
        self.later.append(batch)
        start, end = batch.runs[0][0], batch.runs[-1][1]
        below = batch.origin.store.places_below(start, end)
        self.tell(
            Event(
                event="finding",
                code="put-off",
                place_bytes=below[0][0] if below else start,
                text=f"The old drive struggles at byte {below[0][0] if below else start}; the rest is copied first.",
                remedy="A drive that is failing is better rescued than copied.",
            )
        )

    def checkpoint(self, force: bool) -> None:
        """Sync the new drive, then record what it has confirmed. What a failed sync loses is never recorded."""
        clock = self.frame.clock
        due = clock.now() - self._last_sync > _CHECKPOINT_SECONDS * clock.pace
        if not self._waiting or not (force or due or self._waiting_bytes > _CHECKPOINT_BYTES):
            return
        waiting, lost = self._waiting, self._waiting_lost
        self._waiting, self._waiting_lost, self._waiting_bytes = ChunkLog(), [], 0
        self.ends.target.sync()
        self.journal.add_chunks(waiting, lost, self._leg.line())
        self._last_sync = clock.now()

    def same_source(self) -> None:
        """Raises Mismatch when the old drive is not what it was at the beginning."""
        if self.journal.state.lost:
            return  # a drive that cannot be read everywhere does not read the same twice
        try:
            surveyed, drive = self.ends.look()
            check_source(self.plan, drive, surveyed)
            differs = [] if surveyed.survey.health.is_failing else self._differs(self.journal, whole=False)
        except Stopped:  # asked to, while it was looked at
            raise
        except NeogenesisError as error:
            raise Mismatch(
                "The old drive changed while it was being copied, so the copy holds some of before and some of after; "
                "it has no table and cannot be taken for finished.",
                "Find out who wrote to it, then survey and plan again.",
            ) from error
        if differs:
            self.forget_wrong(differs)
            raise Mismatch(
                f"The old drive changed while it was being copied: {len(differs)} of the pieces that were read again "
                "are not what was copied; the copy has no table and cannot be taken for finished.",
                "Find out who wrote to it, then run the transfer with --resume: what differs is copied again.",
            )

    def report(self, place: int, target: int, partition: int | None) -> None:
        event = self.progress.event(place, target, partition)
        if event is not None:
            self.tell(event)

    def tell(self, event: Event) -> None:
        clock = self.frame.clock
        time_s = round(clock.now() - self._began, 3)
        at = {"time_s": time_s, "wall": clock.wall(), "operation": self._step, "operations": len(self.plan.operations)}
        self.frame.tell(msgspec.structs.replace(event, **at))

    def _rest(self, what: Resting) -> None:
        self.progress.rested(what)
        self.tell(Event(event=what))
