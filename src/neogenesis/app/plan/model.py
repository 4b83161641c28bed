"""What the Plan stop shows, and the one way to change it: another policy, which can be undone."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import ClassVar, Literal

import msgspec
from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure, failure_of
from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.language import mark, said, tr
from neogenesis.app.plan.fresh import FreshModel
from neogenesis.app.survey.model import SurveyModel
from neogenesis.bench.processes import worker
from neogenesis.bench.records.shipped import appliance_names, load_appliance
from neogenesis.bench.works import planning
from neogenesis.bench.works.planning import PlanEnds
from neogenesis.core.drive import Drive
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job.saved import RESCUE_MAP, Saved
from neogenesis.core.plan import Plan, Policy, make_plan
from neogenesis.core.plan.layout import is_resizable
from neogenesis.core.plan.model import FreshSource, Gate, Target
from neogenesis.core.plan.policy import Intent
from neogenesis.core.record import Record, load, save
from neogenesis.core.survey import PartitionFacts, Surveyed
from neogenesis.core.transfer import RunFiles
from neogenesis.core.undo import Undo
from neogenesis.core.units import MIB, both_text, round_down

State = Literal["no-survey", "no-drive", "absent", "reading", "ready", "shown", "locked"]


#: The code of a gate that a person opens with a tick.
CONFIRM = "confirm"
_CONFIRMED = "confirmed.json"
_DRIVERS_FIRST = mark("The drivers that the installation itself needs are on the stick.")


class Confirmed(Record, frozen=True, kw_only=True):
    """What a person has seen before anything was written."""

    SCHEMA: ClassVar[str] = "neogenesis.confirmed/1"

    schema: str = SCHEMA
    texts: tuple[str, ...] = ()


class Draft(Record, frozen=True, kw_only=True):
    """What was changed at Plan and is not written yet."""

    SCHEMA: ClassVar[str] = "neogenesis.plan-draft/1"

    schema: str = SCHEMA
    policy: Policy


class PlanModel(QObject):
    """`plan` is the last one that works; `refusal` says why the policy wanted now has none.

    `filed` tells that another plan, or none, is on file.
    """

    changed = pyqtSignal()
    filed = pyqtSignal()

    def __init__(self, session: Session, survey: SurveyModel, intake: IntakeModel) -> None:
        super().__init__(session)
        self._session, self._survey, self._intake = session, survey, intake
        self.path: Path = session.dossier / "plan.json"
        session.drives_chosen.connect(self._drives_chosen)
        self.plan: Plan | None = None
        self.written: Plan | None = None
        self.policy = Policy()
        self.confirmed = self._load_confirmed()
        self.refusal: Failure | None = None
        self.failure: Failure | None = None
        self.reading = False
        self.fresh = FreshModel(session, survey)
        self.fresh.changed.connect(self._fresh_changed)
        self._from: Saved | None = None
        self._ends: PlanEnds | None = None
        self._asked = ""
        self._undoing = Undo[Policy]()
        self._ids: list[str] = []
        self._stamp = 0
        if self.path.exists():
            self._stamp = self.path.stat().st_mtime_ns
            try:
                self.written = self.plan = planning.load_plan(self.path)
                self.policy = self.written.policy
                if self.is_fresh:
                    self.fresh.adopt(self.written)
                else:
                    self._from = self._saved_at(self.written.source.survey.drive)
            except NeogenesisError as error:
                self.failure = failure_of(error)
        self._take_draft()

    def _take_draft(self) -> None:
        """Go on where a window was closed before it wrote the plan."""
        if not self._draft_path.exists() or self.is_fresh or self.is_carried_out():
            return
        with suppress(NeogenesisError):  # a draft that cannot be read is none
            self.policy = load(self._draft_path, Draft, "draft of the plan").policy

    def _keep_draft(self) -> None:
        if self.is_fresh or (self.written is not None and self.policy == self.written.policy):
            self._draft_path.unlink(missing_ok=True)
            return
        with suppress(NeogenesisError):  # it is shown all the same
            save(self._draft_path, Draft(policy=self.policy), settled=False)

    @property
    def _draft_path(self) -> Path:
        return self.path.with_suffix(".draft.json")

    @property
    def is_fresh(self) -> bool:
        """Whether nothing is copied: the plan follows a recipe."""
        return self.policy.intent == "fresh"

    def _fresh_changed(self) -> None:
        if self.is_fresh and not self.is_carried_out():
            self.plan, self.refusal, self.failure = self.fresh.plan, self.fresh.refusal, self.fresh.failure
            self.changed.emit()

    # Where it is read from

    @property
    def saved(self) -> tuple[Saved, ...]:
        """What was saved from the old drive and can be the source instead of it."""
        return self._session.saved()

    @property
    def reads_from(self) -> Saved | None:
        """What stands for the old drive; None while that is read itself."""
        return self._from

    @property
    def lost_bytes(self) -> int:
        """What is missing from the source that was read."""
        return self._ends.lost_bytes if self._ends is not None else 0

    def read_from(self, saved: Saved | None) -> None:
        """Take what was saved as the source, or None for the old drive itself."""
        if saved == self._from or self.reading or self.is_carried_out():
            return
        self._from, self._ends = saved, None
        self.prepare()
        self.changed.emit()

    def _saved_at(self, drive: Drive) -> Saved | None:
        return next((one for one in self.saved if Path(one.place).resolve() == Path(drive.path)), None)

    def _is_old(self, drive: Drive) -> bool:
        """Whether it is the old drive of the job, or what was saved from it."""
        return self._session.means("old", drive) or self._saved_at(drive) is not None

    @property
    def _source(self) -> Surveyed | None:
        """The old drive, or what was saved from it, as it was read, while the job means that one."""
        found = self._ends.source if self._ends is not None else None
        return found if found is not None and self._is_old(found.survey.drive) else None

    @property
    def _target(self) -> Target | None:
        """The new drive as it was read, while the job means that one."""
        found = self._ends.target if self._ends is not None else None
        return found if found is not None and found.drive and self._session.means("new", found.drive) else None

    def gates_of(self, plan: Plan) -> tuple[Gate, ...]:
        """Those of the plan, those that the intake closes, and what a person must have seen."""
        seen = tuple(
            Gate(code=CONFIRM, open=text in self.confirmed, text=tr("To be ticked: {0}").format(said(text)))
            for text in self.to_confirm(plan)
        )
        return (*plan.gates, *self._intake.gates(plan), *seen)

    def to_confirm(self, plan: Plan) -> tuple[str, ...]:
        """What a person must have seen before this plan is carried out."""
        device, fresh = plan.policy.appliance, self.fresh
        if isinstance(plan.source, FreshSource):
            kind, _, name = plan.source.recipe.partition(":")
            device = load_appliance(name) if kind == "appliance" and name in appliance_names() else None
        told = device.confirm if device is not None else ()
        needed = fresh.coverage is not None and fresh.coverage.during_installation
        if isinstance(plan.source, FreshSource) and plan.source.system is None and needed and not fresh.wish.drivers:
            told = (*told, _DRIVERS_FIRST)
        return told

    def confirm(self, text: str, seen: bool) -> None:
        """What a person has seen; it stays with the job and stands in the logbook."""
        others = tuple(t for t in self.confirmed if t != text)
        self.confirmed = (*others, text) if seen else others
        save(self._session.dossier / _CONFIRMED, Confirmed(texts=self.confirmed))
        self._session.record("confirmed", f"Seen: {text}" if seen else f"Not seen any more: {text}", seen=seen)
        self.changed.emit()

    def _load_confirmed(self) -> tuple[str, ...]:
        """Nothing where the record cannot be read: then it is asked again."""
        path = self._session.dossier / _CONFIRMED
        try:
            return load(path, Confirmed, "record of what was seen").texts if path.exists() else ()
        except NeogenesisError:
            return ()

    def reload(self) -> None:
        """Another window may have written a plan, or taken it away: the one on file counts."""
        try:
            stamp = self.path.stat().st_mtime_ns
        except OSError:
            stamp = 0
        if stamp == self._stamp or self.reading:
            return
        self._stamp, before = stamp, self.written
        try:
            self.written = planning.load_plan(self.path) if stamp else None
        except NeogenesisError as error:
            self.failure = failure_of(error)
            return
        if self.written != before:
            if self.written is not None:
                self.plan, self.policy = self.written, self.written.policy
            self.filed.emit()
            self.changed.emit()

    @property
    def is_unwritten(self) -> bool:
        """Whether what is shown at Plan is another plan than the one on file."""
        return self.written is not None and self.plan is not None and not self.is_written and self.state == "ready"

    @property
    def out_of_date(self) -> str:
        """Why the plan on file is not one for the drives of this job any more; empty while it is."""
        if self.is_unwritten:
            return tr("The plan was changed and is not written: what would run is the one on file.")
        return self._for_other_drives

    @property
    def _for_other_drives(self) -> str:
        plan = self.written
        if plan is None:
            return ""
        if not isinstance(plan.source, FreshSource) and not self._is_old(plan.source.survey.drive):
            return tr("The plan on file was made from another old drive than this job has now.")
        if plan.target.drive is not None and not self._session.means("new", plan.target.drive):
            return tr("The plan on file was made for another new drive than this job has now.")
        return ""

    @property
    def state(self) -> State:
        job = self._session.job
        if self.reading or (self.is_fresh and self.fresh.reading):
            return "reading"
        if self.plan is not None and self.is_carried_out():
            return "locked"
        if self.is_fresh:
            if not job.new_drive:
                return "no-drive"
            return "ready" if self.fresh.target is not None else "shown" if self.plan is not None else "absent"
        if self._source is not None and self._target is not None:
            return "ready"
        if self._survey.record is None:
            return "no-survey"
        if not job.new_drive:
            return "no-drive"
        if self.plan is not None:
            return "shown"
        return "absent"

    def is_carried_out(self) -> bool:
        """Whether a transfer of the written plan is under way, or has ended well."""
        files = RunFiles(self.path)
        return files.manifest.exists() or worker.running_worker(self.path) is not None

    @property
    def is_written(self) -> bool:
        return self.plan is not None and self.plan == self.written

    @property
    def can_undo(self) -> bool:
        return self._undoing.can_undo or (self.is_fresh and self.fresh.can_undo)

    @property
    def can_redo(self) -> bool:
        return self._undoing.can_redo or (self.is_fresh and self.fresh.can_redo)

    # Getting ready

    def choose(self, name: str) -> None:
        """Take another drive as the new one; the layout is made for it at once."""
        self._session.choose_drive("new", name)
        self.prepare()

    def _drives_chosen(self) -> None:
        """What was shown is of other drives; the policy stays, but for sizes and what is left behind."""
        if self.is_carried_out():
            return
        self.plan = self.refusal = self.failure = None
        self.fresh.forget()
        self.policy = msgspec.structs.replace(self.policy, sizes={}, leave=())
        self._draft_path.unlink(missing_ok=True)
        self._undoing = Undo()
        self.changed.emit()

    def prepare(self) -> None:
        """Read both drives again, so that a plan can be made; does nothing when that has been done."""
        job = self._session.job
        if self.is_fresh:
            if self.state != "locked":
                self.fresh.prepare()
            return
        if self.reading or self.state in ("ready", "locked") or not job.old_drive or not job.new_drive:
            return
        if self._survey.record is None:
            return
        old, new = self._session.place("old"), self._session.place("new")
        if not old and self._from is None and self.written is None:  # what was saved does as well
            self._from = next(iter(self.saved), None)
        if not new or not (old or self._from):
            self.changed.emit()
            return
        self.reading, self.failure, self._asked = True, None, job.new_drive
        self.changed.emit()
        work = self._session.bench.work
        if self._from is not None:
            who = job.identity("old")
            region_map = self._session.dossier / RESCUE_MAP
            work.in_process(self._read, planning.plan_ends_saved, self._from, region_map, who, new)
        else:
            work.in_process(self._read, planning.plan_ends, old, new)

    def _read(self, found: PlanEnds | Failure) -> None:
        self.reading = False
        if isinstance(found, Failure):
            self.failure = found
        else:
            self._ends = found
            if found.target.drive is not None and self._asked == self._session.job.new_drive:
                self._session.learn("new", found.target.drive)
            if self._source is None or self._target is None:  # other drives were chosen, or put there, meanwhile
                self.changed.emit()
                self.prepare()
                return
            if self.written is not None and self.policy == self.written.policy and self._still_fits(self.written):
                self.plan = self.written
            else:
                self._remake()
        self.changed.emit()

    def _still_fits(self, plan: Plan) -> bool:
        """Whether the plan on file was made from what is connected now."""
        if self._source is None or self._target is None or self._for_other_drives:
            return False
        return plan.source.survey.fingerprint == self._source.survey.fingerprint and plan.target == self._target

    # Changing

    def change(self, **changes: object) -> None:
        """Another policy; the one before can be had back with `undo`."""
        if self.state != "ready":
            return
        wanted = msgspec.structs.replace(self.policy, **changes)
        if wanted != self.policy:
            self._undoing.remember(self.policy)
            self._set(wanted)

    def take_intent(self, intent: Intent) -> None:
        """Another intent where one of the two is a clean start, which has wishes of its own."""
        if self.state != "locked" and intent != self.policy.intent:
            self._undoing.remember(self.policy)
            self._arrive(Policy(intent=intent))

    def _arrive(self, policy: Policy) -> None:
        """At a policy of whatever intent."""
        self.policy, self.plan, self.refusal = policy, None, None
        self._keep_draft()
        if self.is_fresh:
            if self._target is not None and self.fresh.target is None:
                self.fresh.know(self._target)
            self._fresh_changed()
        elif self._source is not None and self._target is not None:
            self._remake()
        self.prepare()
        self.changed.emit()

    def undo(self) -> None:
        if self.state == "ready" and self.is_fresh and self.fresh.can_undo:
            self.fresh.undo()
        elif self.state == "ready" and self._undoing.can_undo:
            self._arrive(self._undoing.undo(self.policy))

    def redo(self) -> None:
        if self.state == "ready" and self.is_fresh and self.fresh.can_redo:
            self.fresh.redo()
        elif self.state == "ready" and self._undoing.can_redo:
            self._arrive(self._undoing.redo(self.policy))

    def prefer(self, intent: Intent) -> None:
        """What was decided, for a plan that nobody has begun."""
        if self.written is not None or self.policy.intent == intent:
            return
        if "fresh" in (intent, self.policy.intent):
            self.take_intent(intent)
            return
        if self.state == "ready":
            self.change(intent=intent)
        else:
            self.policy = msgspec.structs.replace(self.policy, intent=intent)

    def begin_anew(self, intent: Intent) -> None:
        """After another way was chosen in the middle of the work: a plan of that kind, from what was saved so far."""
        if worker.running_worker(self.path) is not None:
            return
        self._from = next(iter(self.saved), None)
        self.policy = Policy(intent=intent)
        self.plan, self.refusal = None, None
        if self.written is not None:
            self.start_over()
        else:
            self._ends = None
            self.changed.emit()

    def toggle(self, number: int) -> None:
        """Carry a partition over, or leave it behind."""
        if self.policy.intent not in ("replace", "split"):
            return
        leave = set(self.policy.leave) ^ {number}
        sizes = {n: s for n, s in self.policy.sizes.items() if n != number}
        self.change(leave=tuple(sorted(leave)), sizes=sizes)

    def resize(self, number: int, size_bytes: int) -> None:
        """Give a partition that size; a neighbour behind it that can take the difference does."""
        sizes = {**self.policy.sizes, number: size_bytes}
        self.change(sizes=sizes)

    def move_boundary(self, number: int, size_bytes: int, before: Plan, policy: Policy) -> None:
        """Drag the lower edge of a partition, starting from the plan and policy `before` the drag."""
        current = before.layout.partition(number)
        if current is None or self.state != "ready" or policy.intent not in ("replace", "split"):
            return
        size = self.clamp(number, size_bytes)
        sizes = {**policy.sizes, number: size}
        below = next((p for p in before.layout.partitions if p.start_bytes == current.end_bytes), None)
        facts = self.facts(below.from_partition) if below else None
        if below is not None and facts is not None and is_resizable(facts) and below.role in ("system", "data"):
            both = current.size_bytes + below.size_bytes
            least = facts.volume.smallest_bytes
            size = min(size, round_down(both - least, MIB))
            sizes = {**policy.sizes, number: size, below.number: both - size}
        wanted = msgspec.structs.replace(policy, sizes=sizes)
        if wanted != self.policy:
            self._set(wanted)

    def end_drag(self, before: Policy) -> None:
        """Make the whole drag one step of undo."""
        if before != self.policy:
            self._undoing.remember(before)
            self.changed.emit()

    def facts(self, number: int | None) -> PartitionFacts | None:
        survey = self._survey.record if self._source is None else self._source.survey
        return survey.partition(number) if survey and number is not None else None

    def clamp(self, number: int, size_bytes: int) -> int:
        """The nearest size that the partition can have."""
        facts = self.facts(number)
        least = facts.volume.smallest_bytes if facts else MIB
        most = self._target.size_bytes if self._target else size_bytes
        return max(-(-least // MIB) * MIB, min(round_down(size_bytes, MIB), most))

    def _set(self, policy: Policy) -> None:
        self.policy = policy
        self._keep_draft()
        self._remake()
        self.changed.emit()

    def _remake(self) -> None:
        if self._source is None or self._target is None:
            return
        kept = iter(list(self._ids))

        def same_id() -> str:
            """New volumes keep their identity while the plan is being changed."""
            found = next(kept, None)
            if found is None:
                found = planning.new_id()
                self._ids.append(found)
            return found

        try:
            self.plan = make_plan(self._source, self._target, self.policy, same_id)
            self.refusal = None
        except NeogenesisError as error:
            self.refusal = failure_of(error)

    def start_over(self) -> None:
        """Keep the records of a transfer that has ended in a folder beside, and let another plan be made."""
        if worker.running_worker(self.path) is not None:
            return
        number = 1
        while (folder := self._session.dossier / f"earlier-{number}").exists():
            number += 1
        folder.mkdir()
        for file in sorted(self._session.dossier.glob(f"{self.path.stem}.*")):
            file.rename(folder / file.name)
        self._session.record("plan", f"Earlier plan and its records kept as {folder.name}")
        self.written, self._stamp = None, 0
        self._ends = None
        self._undoing = Undo()
        self.filed.emit()
        self.prepare()
        self.changed.emit()

    def write(self) -> None:
        """Put the plan on file, from where a transfer runs it."""
        if self.plan is None or self.refusal is not None or self.state != "ready":
            return
        try:
            save(self.path, self.plan)
            written = load(self.path, Plan, "plan")  # as it is read when it runs: 7 may have become 7.0
        except NeogenesisError as error:
            self.failure = failure_of(error)
            self.changed.emit()
            return
        self.written, self._stamp = written, self.path.stat().st_mtime_ns
        self._draft_path.unlink(missing_ok=True)
        self._session.record(
            "plan",
            f"Plan written: {both_text(self.plan.estimate.bytes_to_copy)} to copy",
            bytes_to_copy=self.plan.estimate.bytes_to_copy,
            partitions=len(self.plan.layout.partitions),
            left_behind=list(self.plan.left_behind),
        )
        self._session.advance("transfer")
        self.filed.emit()
        self.changed.emit()
