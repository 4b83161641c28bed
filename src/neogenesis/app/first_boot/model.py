"""What the First boot stop shows: the forecast of the drives as they will be fitted, remedies, a trial, checks."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import ClassVar, TypeVar

import msgspec
from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.decide.model import DecideModel
from neogenesis.app.desk.bench import Dock
from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure, Handle, failure_of
from neogenesis.app.first_boot.mending import Mended, Mending
from neogenesis.app.first_boot.run_in_model import RunInModel
from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.language import said, tr
from neogenesis.app.plan.model import PlanModel
from neogenesis.bench.drives import confirm_tail
from neogenesis.bench.emulator.trial import TrialAnswer, try_drives
from neogenesis.bench.works.mending import (
    BootLook,
    look_at_plan,
    look_at_start,
)
from neogenesis.bench.works.run_in import link_of
from neogenesis.core.boot import Forecast
from neogenesis.core.boot.after import AfterCheck, Filled, Known, filled, first_boot_texts
from neogenesis.core.boot.entries import BootList, faults_of, with_entries
from neogenesis.core.boot.remedy import RemedyRow
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job import stop_titled
from neogenesis.core.job.deeds import came_with_drive
from neogenesis.core.machine import Machine
from neogenesis.core.plan.model import FreshSource
from neogenesis.core.record import Record, load, refuse_faults, save, set_aside
from neogenesis.core.reinstall.afterwards import (
    AfterwardsRecord,
    Scheduled,
    Timed,
    after_steps,
    fits_between,
    free_until,
    schedule,
    steps_for,
)
from neogenesis.core.work import work_hash

_STAYS = ("split", "beside")
T = TypeVar("T")
_MOST_TEXT = 20_000
_MOST_TOLD = 4
#: Entries that say that something was put onto the new drive.
_WRITES = (
    "transfer-done",
    "transfer-partial",
    "restore-done",
    "restore-partial",
    "rescue-done",
    "rescue-partial",
    "remedy-done",
    "remedy",
    "undo-done",
    "remedy-undone",
)
#: What may be done to an old drive that stays in the machine.
_OF_OLD = ("restamp-table", "restamp-volume")


#: Of what is looked at after the start: what a customer was promised.
_PROMISED = ("cold", "own-file", "encryption", "old-label")


class AfterRecord(Record, frozen=True, kw_only=True):
    """What was looked at after the first start; kept in the dossier.

    `proven` is what was seen to start, and `tried` what the trial on file is of: a new drive with what was put onto it,
    as `FirstBootModel.subject` names it.
    """

    SCHEMA: ClassVar[str] = "neogenesis.first-boot/1"

    schema: str = SCHEMA
    checked: tuple[str, ...] = ()
    remedies: tuple[Mended, ...] = ()
    proven: str = ""
    tried: str = ""


class FirstBootModel(QObject):
    """`look` is what was found last; `trial` how the last one ended; `said` the serial text of the one under way.

    `failure` is of the last order, `trouble` of the job's own record of this stop.
    """

    changed = pyqtSignal()
    moved = pyqtSignal()

    def __init__(
        self, session: Session, intake: IntakeModel, decide: DecideModel, plan: PlanModel, run_in: RunInModel
    ) -> None:
        super().__init__(session)
        self._session, self._intake, self._decide, self._plan = session, intake, decide, plan
        self._run_in = run_in
        self.look: BootLook | None = None
        self.trial: TrialAnswer | None = None
        self.failure: Failure | None = None
        self.trouble: Failure | None = None
        self.said = ""
        self.looking = self.trying = False
        self._asked: tuple[str, ...] = ()
        self._handle: Handle | None = None
        self._path = session.dossier / "first-boot.json"
        self.record = self._load(self._path, AfterRecord, "first boot") or AfterRecord()
        self._entries_path = session.dossier / "boot-entries.json"
        self.entries = self._load(self._entries_path, BootList, "list of boot entries")
        path = session.dossier / "afterwards.json"
        self.steps = self._load(path, AfterwardsRecord, "list of steps") or AfterwardsRecord()
        self._mends = Mending(session, lambda: self.record.remedies, lambda rows: self._keep(remedies=rows))
        self._mends.changed.connect(self.changed)
        self._mends.ended.connect(self._mended)
        self._trying = ""
        self.trial = None
        if self.record.tried and self.record.tried == self.subject:
            self.trial = self._load(self.trial_path, TrialAnswer, "trial")
        self.said = self.trial.serial[-_MOST_TEXT:] if self.trial is not None else ""
        session.drives_chosen.connect(self._forget)
        self.look_again()

    def _load(self, path: Path, kind: type[T], what: str) -> T | None:
        """A record of this stop; one that cannot be read is kept aside and said."""
        if not path.exists():
            return None
        try:
            return load(path, kind, what)
        except NeogenesisError as error:
            self.trouble = failure_of(error)
        try:
            aside = set_aside(path)
        except NeogenesisError as worse:
            self.trouble = failure_of(worse)
        else:
            text = tr("What was looked at could not be read. It was kept as “{0}”, and a new record was begun.")
            then = tr("Tick again what was seen; records of remedies are still in the job's folder.")
            self.trouble = Failure(text.format(aside.name), then)
        return None

    # What is looked at

    @property
    def old_stays(self) -> bool:
        return self._decide.choice.chosen in _STAYS

    @property
    def machine(self) -> Machine | None:
        """As its profile says, with its own list of boot entries where that was taken down."""
        return with_entries(self._intake.match.machine, self.entries)

    @property
    def trial_path(self) -> Path:
        return self._session.dossier / "trial-boot.json"

    @property
    def picture_path(self) -> Path:
        """The emulated screen, the newest picture of it."""
        return self._session.dossier / "trial-boot.png"

    @property
    def keys_path(self) -> Path:
        """What was pressed in the last trial, one key a line."""
        return self._session.dossier / "trial-boot.keys"

    def startups(self) -> list[tuple[str, str, int]]:
        """Start-up partitions that an entry may name: in words, the partition's identity, its number."""
        plan = self._plan.written
        if plan is None:
            return []
        new = [(tr("new drive"), p.unique_id, p.number) for p in plan.layout.partitions if p.role == "startup"]
        old = [(tr("old drive"), p.unique_id, p.number) for p in plan.source.survey.partitions if p.role == "startup"]
        return [(f"{words}, {tr('partition {0}').format(n)}", unique, n) for words, unique, n in (*new, *old) if unique]

    def keep_entries(self, entries: BootList) -> None:
        """The machine's own list, from now on part of every forecast and trial. Raises BadRecord."""
        refuse_faults(faults_of(entries), "list")
        save(self._entries_path, entries)
        self.entries = entries
        self._session.record("boot-entries", f"The machine's own list: {len(entries.boot_entries)} entries")
        self.refresh()
        self.changed.emit()

    def drives(self) -> tuple[str, ...]:
        """The new drive first, as it will be fitted; the old one behind it where it stays in the machine."""
        new, old = self._session.place("new"), self._session.place("old")
        return tuple(filter(None, (new, old if self.old_stays else "")))

    @property
    def is_planned(self) -> bool:
        """Whether the new drive is looked at as the plan will make it, since nothing was copied yet."""
        plan = self._plan
        return plan.written is not None and not (plan.is_fresh or plan.out_of_date or plan.is_carried_out())

    @property
    def mending(self) -> bool:
        return self._mends.is_active

    @property
    def is_busy(self) -> bool:
        return self.looking or self.trying or self.mending

    @property
    def subject(self) -> str:
        """The new drive with what was put onto it: another drive, another copy or another remedy is another subject."""
        job = self._session.job
        written = [e.hash for e in self._session.log() if e.kind in _WRITES and job.new_identity]
        return work_hash("start", drive=job.new_identity, written=written) if job.new_identity else ""

    def _forget(self) -> None:
        self.look = self.trial = None
        self.said = ""
        self.changed.emit()

    def prepare(self) -> None:
        """Look, unless that was done of these drives."""
        wanted = (*self.drives(), "planned" if self.is_planned else "")
        if wanted != self._asked and (self.drives() or self.is_planned):
            self.refresh()

    def refresh(self) -> None:
        """Read the drives again, sealed; the answer comes later through `changed`."""
        drives = self.drives()
        if self.is_busy or not (drives or self.is_planned):
            return
        self.looking, self.failure, self._asked = True, None, (*drives, "planned" if self.is_planned else "")
        self.changed.emit()
        work = self._session.bench.work
        if self.is_planned:
            work.in_process(self._looked, look_at_plan, self._plan.path, self.machine)
        else:
            work.in_process(self._looked, look_at_start, list(drives), self.machine)

    def _looked(self, found: BootLook | Failure) -> None:
        self.looking = False
        if isinstance(found, Failure):
            self.failure = found
        else:
            self.look = found
            starts = found.forecast.starts
            figures = {"starts": starts, "breaks_at": found.forecast.breaks_at}
            says = {True: "it starts", False: "it does not start", None: "it cannot be told"}[starts]
            self._session.record("forecast", f"Forecast: {says}", **figures)
        self.changed.emit()

    def after(self, remedy: RemedyRow) -> Forecast | None:
        """What would start once that is mended."""
        return self.look.mended.get(f"{remedy.code} {remedy.drive}") if self.look is not None else None

    @property
    def is_proven(self) -> bool:
        """Whether the new drive, as it is written now, was seen to start, in this session or an earlier one."""
        return bool(self.record.proven) and self.record.proven == self.subject

    @property
    def remedies(self) -> tuple[RemedyRow, ...]:
        """For the new drive; after a split, once that is proven to start, new identities for the old one as well."""
        if self.look is None:
            return ()
        new, old = self._session.place("new"), self._session.place("old")
        split = self._decide.choice.chosen == "split" and self.is_proven
        return tuple(
            r for r in self.look.remedies if r.drive == new or (split and r.drive == old and r.code in _OF_OLD)
        )

    def tail_of(self, drive: str) -> str:
        """What is typed to confirm the drive that a remedy, or putting one back, writes to."""
        dock = self._dock_of(drive)
        return confirm_tail(dock.docked.drive) if dock is not None and dock.docked else ""

    def _dock_of(self, drive: str) -> Dock | None:
        return self._session.old_dock() if drive == self._session.place("old") else self._session.new_dock()

    @property
    def last_mended(self) -> Mended | None:
        """What would be put back."""
        return self.record.remedies[-1] if self.record.remedies else None

    @property
    def is_cut(self) -> bool:
        """Whether the last remedy was cut off before all of it was written."""
        return self.last_mended is not None and self._mends.is_cut(self.last_mended)

    # Mending

    def finish(self, tail: str) -> bool:
        """Write the rest of the last remedy, which was cut off."""
        last = self.last_mended
        if self.is_busy or last is None:
            return False
        self.failure = None
        return self._mends.finish(last, self._dock_of(last.drive), tail)

    def subject_of(self, remedy: RemedyRow) -> str:
        """What a typed tail confirms: this change, on that drive as it is put in now."""
        dock = self._dock_of(remedy.drive)
        return f"{remedy.code} {remedy.changes} {dock.subject if dock is not None else ''}"

    def mend(self, remedy: RemedyRow, tail: str) -> bool:
        """One remedy, by a process that outlives this window; False where it could not be begun."""
        if self.is_busy or remedy not in self.remedies:
            return False
        self.failure = None
        beside = [name for name in self._asked if name and name != "planned"]
        return self._mends.mend(remedy, self._dock_of(remedy.drive), tail, beside)

    def put_back(self, tail: str) -> bool:
        """Undo the last remedy, byte for byte."""
        last = self.last_mended
        if self.is_busy or last is None:
            return False
        self.failure = None
        return self._mends.put_back(last, self._dock_of(last.drive), tail)

    def look_again(self) -> None:
        """A remedy that another window began, or that was cut off with it, is heard to its end here."""
        self._mends.look_again()

    def _mended(self) -> None:
        """It has ended, or could not be begun."""
        failure = self._mends.failure
        self.refresh()
        self.failure = failure or self.failure
        self.changed.emit()

    # A trial

    def try_it(self) -> None:
        """Start the drives in an emulated machine, on throw-away overlays."""
        drives = self.drives()
        if self.is_busy or not drives:
            return
        self.trying, self.failure, self.trial, self.said = True, None, None, ""
        self._trying = self.subject
        legacy = self.look is not None and self.look.forecast.mode == "legacy"
        for path in (self.picture_path, self.keys_path):
            path.unlink(missing_ok=True)
        self.changed.emit()
        asked = (list(drives), self.machine, legacy, self._expected(), self.picture_path, self.keys_path)
        self._handle = self._session.bench.work.in_process(self._tried, try_drives, *asked, heard=self._hear)

    def _expected(self) -> str:
        """What a system that prints its release at the start says; empty for those that do not."""
        plan = self._plan.written
        if plan is not None and isinstance(plan.source, FreshSource):
            return self._says(plan.source)
        volumes = [p.volume for p in plan.source.survey.partitions] if plan is not None else []
        return next((v.system_name for v in volumes if v.system_family == "meridian" and v.system_name), "")

    def _says(self, source: FreshSource) -> str:
        """What a system image says of itself; its name where it was not looked into this time."""
        held = self._plan.fresh.system
        return held.description.says if held is not None else source.system.name if source.system is not None else ""

    def stop_trial(self) -> None:
        if self.trying and self._handle is not None:
            self._handle.give_up()
            self.trying = False
            self.changed.emit()

    def press(self, key: str) -> None:
        """Send a key to the emulated machine, by the name that the emulator gives it."""
        if self.trying:
            with self.keys_path.open("a", encoding="utf-8") as file:
                file.write(key + "\n")

    def _hear(self, text: str) -> None:
        """Serial text; an empty one tells of a new picture."""
        self.said = (self.said + text)[-_MOST_TEXT:]
        self.moved.emit()

    def _tried(self, got: TrialAnswer | Failure) -> None:
        self.trying = False
        if isinstance(got, Failure):
            self.failure = got
        else:
            of_this = self._trying == self.subject
            self.trial, self.said = (got, got.serial[-_MOST_TEXT:]) if of_this else (None, "")
            save(self.trial_path, got)
            started = got.loader_ran and got.started in ("", self._session.place("new"))
            if of_this:
                self._keep(tried=self.subject, proven=self.subject if started else self.record.proven)
            ran, seconds = got.loader_ran, f"{got.seconds:.0f}"
            self._session.record("trial-boot", f"Trial: {'a' if ran else 'no'} loader ran, {seconds} s", loader_ran=ran)
        self.changed.emit()

    # After a clean system

    @property
    def is_fresh(self) -> bool:
        return self._plan.is_fresh

    def seconds(self) -> float:
        """Now, in seconds since the epoch, by the bench's clock."""
        return datetime.fromisoformat(self._session.bench.clock.wall()).timestamp()

    def afterwards(self) -> list[Scheduled]:
        """What follows a clean system, as it stands now."""
        held = self._plan.fresh.system
        family = held.description.family if held is not None else ""
        return schedule(steps_for(family, self.steps.left_out), self.steps.steps, self.seconds())

    def meanwhile(self) -> list[str]:
        """What could be done at other benches while nothing here wants hands; the nearest promises first."""
        minutes, told = free_until(self.afterwards()), list[str]()
        if minutes < 1:
            return []
        bench = self._session.bench
        others = [
            j for j in bench.jobs() if not j.closed and j.shelf != "archived" and j.ticket != self._session.ticket
        ]
        for job in sorted(others, key=lambda j: j.promise or "9"):
            path = bench.store.dossier(job.ticket) / "afterwards.json"
            try:
                timed = load(path, AfterwardsRecord, "list of steps") if path.exists() else AfterwardsRecord()
            except NeogenesisError:
                continue
            if not timed.steps:
                told.append(tr("{0}: {1}").format(job.ticket, said(stop_titled(job.stop).title)))
                continue
            step = fits_between(schedule(steps_for("", timed.left_out), timed.steps, self.seconds()), minutes)
            if step is not None:
                text = tr("{0}: {1} ({2} min)")
                told.append(text.format(job.ticket, said(step.step.text), round(step.hands_end)))
        return told[:_MOST_TOLD]

    def begin_step(self, code: str) -> None:
        self._time(code, begun=self.seconds(), ended=None)

    def end_step(self, code: str) -> None:
        """It has ended; how long it took goes into the logbook. A clock that was set back takes no time away."""
        begun = self.steps.steps.get(code, Timed()).begun
        self._time(code, ended=max(self.seconds(), begun or 0.0))
        timed = self.steps.steps[code]
        text = next(s.text for s in after_steps() if s.code == code)
        taken = max(0.0, (timed.ended or 0) - (timed.begun or timed.ended or 0)) / 60
        self._session.record("after-step", f"Done: {text}, {taken:.0f} min", code=code, minutes=round(taken, 1))

    def leave_out(self, code: str) -> None:
        """This job does without a step."""
        self._keep_steps(left_out=(*self.steps.left_out, code))
        text = next(s.text for s in after_steps() if s.code == code)
        self._session.record("after-step", f"Not needed: {text}", code=code)

    def take_all_steps(self) -> None:
        """What was left out is needed again."""
        self._keep_steps(left_out=())

    def _time(self, code: str, **times: float | None) -> None:
        timed = msgspec.structs.replace(self.steps.steps.get(code, Timed()), **times)
        self._keep_steps(steps={**self.steps.steps, code: timed})

    def _keep_steps(self, **fields: object) -> None:
        self.steps = msgspec.structs.replace(self.steps, **fields)
        save(self._session.dossier / "afterwards.json", self.steps)
        self.changed.emit()

    # Afterwards

    def checks(self) -> list[AfterCheck]:
        """What is looked at at this machine."""
        plan = self._plan.written
        parts = plan.source.survey.partitions if plan is not None else ()
        has = {
            "": True,
            "old": came_with_drive(self._session.job, self._intake.intake),
            "second": self.old_stays or (plan is not None and plan.policy.data_volume_bytes is not None),
            "recovery": any(p.role == "recovery" for p in parts),
            "encrypted": any(p.volume.encrypted for p in parts),
            "memory": any(e.kind == "fit" and e.figures.get("memory") for e in self._session.log()),
        }
        return [c for c in first_boot_texts().checks if has.get(c.when, False)]

    def known(self) -> Known:
        """What is on record of the new drive."""
        dock, plan = self._session.new_dock(), self._plan
        docked = dock.docked if dock is not None and dock.present else None
        link = link_of(docked.name) if docked is not None else None
        return Known(
            drive=docked.drive if docked is not None else None,
            health=docked.health if docked is not None else None,
            written=plan.written.layout if plan.written is not None and plan.is_carried_out() else None,
            link=link.now if link is not None else "",
            link_most=link.most if link is not None else "",
            run_in=self._run_in.found,
            part=self._run_in.part,
        )

    def fillings(self) -> dict[str, Filled]:
        """What the records say of the checks, by their code."""
        known = self.known()
        told = {c.code: filled(c.code, known) for c in self.checks()}
        return {code: one for code, one in told.items() if one is not None}

    def promised(self) -> list[AfterCheck]:
        """What was promised with the work, and nobody has looked at yet; nothing where no first start belongs to it."""
        if "first-boot" in self._decide.skipped:
            return []
        return [c for c in self.checks() if c.code in _PROMISED and c.code not in self.record.checked]

    @property
    def is_all_seen(self) -> bool:
        """Whether everything was ticked, or the records leave nothing to look at."""
        seen = {*self.record.checked, *(code for code, one in self.fillings().items() if one.settled)}
        return all(c.code in seen for c in self.checks())

    def check(self, code: str, done: bool) -> None:
        others = tuple(c for c in self.record.checked if c != code)
        self._keep(checked=(*others, code) if done else others)
        text = next(c.text for c in first_boot_texts().checks if c.code == code)
        self._session.record("after-check", f"Seen: {text}" if done else f"Not seen any more: {text}", code=code)
        if self.is_all_seen:
            self._session.advance("handover")
        self.changed.emit()

    def _keep(self, **fields: object) -> None:
        self.record = msgspec.structs.replace(self.record, **fields)
        save(self._path, self.record)

    def close(self) -> None:
        """A remedy that is being written goes on; a trial does not."""
        self.stop_trial()
        self._mends.close()
