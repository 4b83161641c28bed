"""What the Transfer stop shows: it starts the worker, listens to its events, and steers it.

The worker goes on without the window. A new window finds it by its lock and reads its events from the start.
"""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import ClassVar, Literal

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from neogenesis.app.desk.bench import Dock
from neogenesis.app.desk.events import EventFile
from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure, failure_of
from neogenesis.app.language import mark, tr
from neogenesis.app.plan.model import PlanModel
from neogenesis.app.transfer.progress import Progress
from neogenesis.app.words import tail
from neogenesis.bench.drives import Parting, confirm_tail, make_safe
from neogenesis.bench.processes import worker
from neogenesis.bench.processes.living import lives, process_name
from neogenesis.bench.works import begun
from neogenesis.bench.works.planning import hash_of
from neogenesis.core.errors import BadRecord, CannotRecord, NeogenesisError
from neogenesis.core.estimate import Estimate, without_reading_back
from neogenesis.core.job import Which
from neogenesis.core.plan import Gate, Plan
from neogenesis.core.record import Record, load, save
from neogenesis.core.transfer import RunFiles, Verify
from neogenesis.core.units import both_text
from neogenesis.core.work import Event, short_hash

State = Literal["no-plan", "ready", "starting", "running", "paused", "stopping", "stopped", "done", "failed"]
#: The two drives, in words.
WHICH: dict[Which, str] = {"old": mark("old"), "new": mark("new")}
_POLL_MS = 120
_AGAIN_MS = 1000
_STATES: dict[str, State] = {"start": "running", "paused": "paused", "resumed": "running"}


class BegunBy(Record, frozen=True, kw_only=True):
    """Which process a run was given to."""

    SCHEMA: ClassVar[str] = "neogenesis.worker/1"

    schema: str = SCHEMA
    run: str
    process: str


class TransferModel(QObject):
    """`changed` comes at every step; `moved` when only figures moved."""

    changed = pyqtSignal()
    moved = pyqtSignal()
    ended = pyqtSignal(str)

    def __init__(self, session: Session, plan: PlanModel) -> None:
        super().__init__(session)
        self._session, self._plan = session, plan
        self.path: Path = session.dossier / "plan.json"
        self.files = RunFiles(self.path)
        self.progress = Progress()
        self.state: State = "no-plan"
        self.failure: Failure | None = None
        self.parting: Parting | None = None
        self.verify: Verify = "full"
        #: Whether other work of the job is under way, as its owner knows.
        self.busy_elsewhere: Callable[[], bool] = lambda: False
        self._process: subprocess.Popen[bytes] | None = None
        self._run = ""
        self._stop_unheard = False
        self._worker_path = session.dossier / "plan.worker.json"
        self._events = EventFile(self.files.events)
        self._timer = QTimer(self)
        self._timer.setInterval(_POLL_MS)
        self._timer.timeout.connect(self._poll)
        self._attach()

    @property
    def plan(self) -> Plan | None:
        """The plan on file: that one is run, not the one that is being changed."""
        return self._plan.written

    def plan_written(self) -> None:
        self._attach()
        self.changed.emit()

    def look_again(self) -> None:
        """Another window or a command may have begun it, or brought it to its end."""
        if self._process is None and not self.is_active and (self._runs() or self._is_beginning()):
            self._attach()
            self.changed.emit()

    def _runs(self) -> bool:
        """Whether a worker is at it: it holds the lock of the plan, or is on its way to that."""
        if worker.running_worker(self.path) is not None:
            return True
        begun_by = self._begun_by()
        return begun_by is not None and begun_by.run == self._run and lives(begun_by.process)

    def _is_beginning(self) -> bool:
        """Whether its beginning is on record since a moment ago, and no worker yet: another window is starting it."""
        if not self._end_is_missing():
            return False
        begun_by = self._begun_by()
        if begun_by is not None and begun_by.run == self._run:
            return lives(begun_by.process)
        return self._session.is_young(self._run)

    def _begun_by(self) -> BegunBy | None:
        try:
            return load(self._worker_path, BegunBy, "record of a worker")
        except NeogenesisError:
            return None

    def _attach(self) -> None:
        """Find out where the transfer of the written plan stands."""
        self.progress, self._events, self.failure = Progress(), EventFile(self.files.events), None
        self.parting = None
        if self.plan is None:
            self.state = "no-plan"
            return
        missing = self._end_is_missing()
        running = self._runs() or self._is_beginning()
        if not running and not self._belongs() and not missing:
            self.state = "ready"
            return
        self._read_events()
        if running:
            self.state = "running" if self.state != "paused" else "paused"
            self._timer.start()
        else:
            self._conclude()
            if self.state == "done" or missing:
                self._note_outcome()

    def _belongs(self) -> bool:
        """Whether a journal of this very plan stands beside it, or its manifest."""
        return begun.has_journal(self.path)

    # What is shown

    def gates(self) -> tuple[Gate, ...]:
        return self._plan.gates_of(self.plan) if self.plan else ()

    @property
    def gates_open(self) -> bool:
        return bool(self.plan) and not self._plan.out_of_date and all(g.open for g in self.gates())

    @property
    def expected_tail(self) -> str:
        drive = self.plan.target.drive if self.plan else None
        return confirm_tail(drive) if drive else ""

    @property
    def target_name(self) -> str:
        drive = self.plan.target.drive if self.plan else None
        return f"{drive.model} {tail(drive.serial)}" if drive and drive.model else tr("the new drive")

    @property
    def ask(self) -> str:
        """How the confirmation is asked for."""
        drive = self.plan.target.drive if self.plan else None
        if drive is not None and drive.serial:
            return tr("To write, type how the new drive's serial ends")
        return tr("To write, type how the new drive's name ends")

    @property
    def subject(self) -> str:
        """What the typed tail confirms: this plan, onto this drive as it is put in now."""
        dock, plan = self._session.new_dock(), self.plan
        return f"{hash_of(plan)} {dock.subject}" if plan is not None and dock is not None and dock.present else ""

    @property
    def sentence(self) -> str:
        """Job, source, target, what is lost there, and the plan: what is agreed to."""
        plan = self.plan
        if plan is None:
            return ""
        old = plan.source.survey.drive
        source = tr("a recipe") if self._plan.is_fresh else f"{old.model} {tail(old.serial)}".strip()
        source = source or Path(old.path).name
        lost = "; ".join(plan.target.holds) or tr("nothing")
        text = tr("{0}: from {1} onto {2}. Lost there: {3}. Plan {4}.")
        return text.format(self._session.ticket, source, self.target_name, lost, short_hash(hash_of(plan)))

    @property
    def why_not_now(self) -> str:
        """What else keeps it from being begun: whose the new drive is, or other work of this job."""
        dock = self._session.new_dock()
        held = self._session.bench.held(dock, self._session.ticket) if dock is not None and dock.present else ""
        if held:
            return tr("The new drive is not to be written to: {0}.").format(held)
        if self.busy_elsewhere():
            return tr("Other work of this job is under way; wait for its end.")
        return self._session.bench.cannot_write

    @property
    def may_write(self) -> bool:
        """Whether all gates are open and both drives are there."""
        here = all(dock is not None and dock.present for _, dock in self.needed_docks())
        return self.gates_open and here and not self.why_not_now

    def needed_docks(self) -> tuple[tuple[Which, Dock | None], ...]:
        """Where the drives are that it reads and writes; what was saved from the old drive needs only the new one."""
        new: tuple[Which, Dock | None] = ("new", self._session.new_dock())
        alone = self._plan.reads_from is not None or self._plan.is_fresh
        return (new,) if alone else (("old", self._session.old_dock()), new)

    def tail_fits(self, typed: str) -> bool:
        return bool(self.expected_tail) and typed.casefold() == self.expected_tail.casefold()

    def estimate_for(self, verify: Verify) -> Estimate | None:
        """How long it will take with that way of checking."""
        plan = self.plan
        if plan is None:
            return None
        copied = plan.estimate.bytes_to_copy
        checked = {"full": copied, "sample": min(copied, 4 << 30), "none": 0}[verify]
        return without_reading_back(plan.estimate, plan.target.drive, copied - checked)

    def next_texts(self) -> list[str]:
        plan = self.plan
        return [o.text for o in plan.operations[self.progress.operation + 1 :]] if plan else []

    @property
    def can_resume(self) -> bool:
        return self.state in ("stopped", "failed") and begun.has_journal(self.path)

    @property
    def is_active(self) -> bool:
        return self.state in ("starting", "running", "paused", "stopping")

    # Orders

    def part(self) -> None:
        """Flush the new drive and switch it off, so that it may be pulled out."""
        drive = self.plan.target.drive if self.plan else None
        if drive is not None and self.state == "done":
            self._session.bench.work.in_thread(self._parted, make_safe, self._session.place("new") or drive.path)

    def _parted(self, found: Parting | Failure) -> None:
        self.parting = Parting(False, found.sentence()) if isinstance(found, Failure) else found
        self._session.record("parting", self.parting.text)
        self.changed.emit()

    def start(self, tail: str, verify: Verify = "full", unused: bool = False) -> bool:
        """Start or resume the worker, with what was confirmed; nothing while a gate is closed.

        `unused`: somebody says that the old drive was not used since it was stopped, so it is not compared.

        It is on record before the worker is there: where the logbook takes nothing, nothing begins.
        """
        plan = self.plan
        if plan is None or self.is_active or not (self.gates_open or self.can_resume):
            return False
        if worker.running_worker(self.path) is not None:  # another window was quicker: watch that one
            self._attach()
            self.changed.emit()
            return False
        self.verify = verify
        resume = self.can_resume
        try:
            confirmed = self._session.confirmation(
                hash_of(plan),
                self._session.new_dock(),
                "" if resume else plan.target.table_mark,
                plan.source.survey.drive.identity,
            )
            path = self._session.keep_confirmation(confirmed)
            self._session.record(
                "transfer-start",
                f"Transfer {'resumed' if resume else 'started'}: {both_text(plan.estimate.bytes_to_copy)} to copy",
                verify=verify,
                run=confirmed.run,
                work=confirmed.work,
                **({"unused": True} if resume and unused else {}),
                **({} if resume else {"planned": {"copy": _spread(plan.estimate)}}),
            )
        except NeogenesisError as error:
            self.failure = failure_of(error)
            self.changed.emit()
            return False
        self._run = confirmed.run
        if not resume:
            self.files.events.unlink(missing_ok=True)
        self.progress, self._events, self.failure = Progress(), EventFile(self.files.events), None
        if resume:
            self._read_events()
            self.progress = replace(self.progress, outcome=None)
        found = (self._session.place("old"), self._session.place("new"))
        self._process = begun.start_worker(
            self.path, tail, path, self._session.records_place, resume, verify, found, unused
        )
        with suppress(BadRecord):  # then other windows know it by its lock, a moment later
            save(self._worker_path, BegunBy(run=self._run, process=process_name(self._process.pid)))
        self.state = "starting"
        self._timer.start()
        self.changed.emit()
        return True

    def pause(self) -> None:
        worker.steer(self.path, "pause")

    def go_on(self) -> None:
        worker.steer(self.path, "go-on")

    def stop(self) -> None:
        """At a safe point; a worker that is only starting hears of it as soon as it listens."""
        if self.is_active:
            self._stop_unheard = not worker.steer(self.path, "stop")
            self.state = "stopping"
            self.changed.emit()

    def close(self) -> None:
        self._timer.stop()

    # Listening

    def _poll(self) -> None:
        news = self._read_events()
        if self._stop_unheard:
            self._stop_unheard = not worker.steer(self.path, "stop")
        if self._over():
            self._read_events()
            self._timer.stop()
            self._conclude()
            self._note_outcome()
            self.changed.emit()
        elif news:
            (self.changed if news == "step" else self.moved).emit()

    def _over(self) -> bool:
        if self._process is not None:
            return self._process.poll() is not None
        return not (self._runs() or self._is_beginning())

    def _read_events(self) -> str:
        """Take in what the worker wrote since; returns `step`, `moved` or nothing."""
        news = ""
        for event in self._events.news():
            heard = self._hear(event)
            news = "step" if "step" in (heard, news) else heard
        return news

    def _hear(self, event: Event) -> str:
        self.progress = self.progress.after(event, self.plan)
        if event.event == "progress":
            return "moved"
        state: State | None = _STATES.get(event.event)
        self.state = "stopping" if self._stop_unheard else state or self.state
        return "step"

    def _conclude(self) -> None:
        """The worker has ended: say how, once."""
        self._stop_unheard = False
        outcome = self.progress.outcome
        process, self._process = self._process, None
        if process is not None:
            process.wait()
        if outcome is None:
            said = worker.last_words(self.path)
            cut_off = Failure("The transfer was cut off. The old drive is untouched.", "Go on from where it was.")
            self.failure = Failure(said) if said else cut_off
            self.state = "stopped" if begun.has_journal(self.path) else "failed"
        elif outcome.outcome in ("done", "partial"):
            self.state = "done"
        elif outcome.outcome == "stopped":
            self.state = "stopped"
            self.failure = Failure(outcome.text, "Go on whenever it suits.")
        else:
            self.state = "failed"
            self.failure = Failure(outcome.text, outcome.remedy, outcome.code)

    def _end_is_missing(self) -> bool:
        """Whether the logbook says that a transfer began, and not how it ended; then its run is known again."""
        starts = [e for e in self._session.log() if e.kind == "transfer-start"]
        if not starts:
            return False
        self._run = str(starts[-1].figures.get("run", ""))
        if self._run:
            return all(e.figures.get("run") != self._run or e is starts[-1] for e in self._session.log())
        return [e.kind for e in self._session.log() if e.kind.startswith("transfer-")][-1] == "transfer-start"

    def _note_outcome(self) -> None:
        """Write the end into the logbook, whether it was watched or is only now found; tried until it is there."""
        try:
            if not self._write_outcome():
                return
        except CannotRecord:
            QTimer.singleShot(_AGAIN_MS, self._note_outcome)
            return
        outcome = self.progress.outcome
        self.ended.emit(outcome.text if outcome else (self.failure.text if self.failure else ""))
        self.changed.emit()

    def _write_outcome(self) -> bool:
        """False where it is on record already."""
        outcome, run = self.progress.outcome, {"run": self._run} if self._run else {}
        if self.state == "done" and outcome is not None:
            manifest = outcome.figures.get("manifest_hash", "")
            if any(manifest and e.figures.get("manifest_hash") == manifest for e in self._session.log()):
                return False
            kind = "transfer-done" if outcome.outcome == "done" else "transfer-partial"
            self._session.record(
                kind,
                f"{outcome.text} Copied: {both_text(outcome.copied_bytes)}",
                seconds=outcome.figures.get("seconds", 0.0),
                manifest_hash=manifest,
                lost_bytes=outcome.lost_bytes,
                **run,
            )
            self._session.advance("swap")
        elif self.failure is not None:
            copied, kind = both_text(self.progress.copied_bytes), f"transfer-{self.state}"
            if outcome is None or outcome.outcome != "stopped":
                self._session.record(kind, self.failure.sentence(), **run)
            elif self.progress.phase in ("copy", "verify"):
                self._session.record(kind, f"Transfer stopped; {copied} are on the new drive", **run)
            else:
                self._session.record(kind, "Transfer stopped; nothing of it is on the new drive yet", **run)
        return True


def _spread(estimate: Estimate) -> list[float]:
    return [estimate.seconds_p10, estimate.seconds_p50, estimate.seconds_p90]
