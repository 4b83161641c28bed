"""What the Swap stop shows: the guide of the opening under way, what was agreed beside it, and photographs."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from neogenesis.app.decide.model import DecideModel
from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure, failure_of
from neogenesis.app.fit.model import FitModel
from neogenesis.app.intake.model import IntakeModel
from neogenesis.bench.records.photographs import keep_photograph
from neogenesis.bench.records.profiles import keep_machine
from neogenesis.core.errors import BadArgument, NeogenesisError
from neogenesis.core.intake import PHOTOGRAPHS
from neogenesis.core.job.route import next_needed
from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import Purpose, Tip
from neogenesis.core.record import load, save
from neogenesis.core.swap import Row, path_of
from neogenesis.core.swap.guide import Act, Deed, Guide, GuideRecord, begun
from neogenesis.core.swap.ledger import lines_of
from neogenesis.core.swap.numbers import Extra, Wait, numbers

_STAYS = ("split", "beside", "do-less")
_TICK_MS = 250
#: Deeds that the logbook tells of, each as it is said.
_TOLD: dict[Deed, str] = {"acknowledge": "swap-caution", "mistake": "swap-mistake", "swollen": "swap-stopped"}


class SwapModel(QObject):
    """`changed` comes with every act, `ticked` while time must pass, `trouble` with what went wrong in the background.

    `failure` says why there is no guide.
    """

    changed = pyqtSignal()
    ticked = pyqtSignal()
    trouble = pyqtSignal(str)

    def __init__(self, session: Session, intake: IntakeModel, decide: DecideModel, fit: FitModel) -> None:
        super().__init__(session)
        self._session, self._intake, self._decide, self._fit = session, intake, decide, fit
        self.guide: Guide | None = None
        self.failure: Failure | None = None
        self.tips: tuple[Tip, ...] = ()
        self._waits_until: datetime | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(_TICK_MS)
        self._timer.timeout.connect(self._tick)
        if self._path.exists():
            try:
                self.guide = Guide(load(self._path, GuideRecord, "record of the opening"))
            except NeogenesisError as error:
                self.failure = failure_of(error)

    @property
    def _path(self) -> Path:
        return self._session.dossier / "swap.json"

    # What is to be done

    @property
    def machine(self) -> Machine | None:
        """Of the opening under way, else the one that the job is about."""
        return self.guide.record.machine if self.guide is not None else self._intake.match.machine

    @property
    def purposes(self) -> set[Purpose]:
        """What the machine is opened for."""
        return {"drive", "memory"} if self._fit.modules or self._fit.choice.modules else {"drive"}

    @property
    def bays(self) -> set[str] | None:
        """Where something goes in or comes out at the opening in front; None where nobody chose yet."""
        return self._bays_at(self.this_opening)

    def _bays_at(self, opening: int) -> set[str] | None:
        """Where it is opened twice, the first time only the new drive goes in."""
        machine, taken = self._intake.match.machine, {one.bay for one in self._fit.choice.taken}
        first_of_two = opening == 1 and self.openings > 1
        if machine is None or not taken or first_of_two or self._decide.choice.chosen in _STAYS:
            return taken or None
        kind = self._fit.old_kind
        speaks = "sata" if kind == "rotational" else kind
        old = next((b.name for b in machine.bays if b.holds is None and speaks in b.interfaces), None)
        return taken | ({old} if old is not None else set())

    @property
    def openings(self) -> int:
        """How often it is opened, the way that was chosen."""
        return max(1, self._decide.taken.openings)

    @property
    def this_opening(self) -> int:
        return self.guide.record.opening if self.guide is not None else 1

    @property
    def is_busy(self) -> bool:
        """Whether a machine lies open now."""
        guide = self.guide
        return guide is not None and not guide.where.finished and not guide.where.stopped

    @property
    def has_steps(self) -> bool:
        machine = self.machine
        return machine is not None and bool(machine.steps)

    def planned_s(self) -> float:
        """Seconds for one opening; 0 where the profile has no steps, or cannot be true."""
        machine = self.machine
        if machine is None or not machine.steps:
            return 0.0
        try:
            return (self.guide or begun(machine, self.purposes, self.bays)).planned_s
        except NeogenesisError:
            return 0.0

    def begin(self, opening: int = 1) -> None:
        """Start leading; raises BadRecord for a profile whose steps cannot be true, BadArgument without a machine."""
        machine = self._intake.match.machine
        if machine is None or not machine.steps:
            raise BadArgument("No steps are known of this machine.", "Record them while you work.")
        self._put_aside()
        self._take(begun(machine, self.purposes, self._bays_at(opening), opening, self.openings))
        figures: dict[str, Any] = {"purposes": sorted(self.purposes), "opening": opening}
        planned = self._planned_opening()
        if planned is not None:
            figures["planned"] = {"opening": planned}
        self._session.record("swap-start", f"Opening {machine.title}", **figures)
        self._session.advance("swap")

    def begin_open(self) -> None:
        """Its steps were written down while it was opened: lead from where it lies open now, everything counted out.

        Raises BadRecord and BadArgument.
        """
        self.begin()
        while self.guide is not None and (self.guide.row is None or self.guide.row.phase != "closing"):
            guide, now = self.guide, datetime.now().astimezone().isoformat()
            deed = guide.press() or "waited"
            ids = {"count": guide.next_piece, "acknowledge": guide.pending}
            self.guide = guide.acted(Act(at=now, deed=deed, id=ids.get(deed, ""), count=1 if deed == "count" else 0))
        if self.guide is not None:
            self._take(self.guide)
        self._session.record("swap-open", "It lies open; its steps were written down meanwhile")

    def _planned_opening(self) -> tuple[float, float, float] | None:
        """What the estimates of the ways count for one opening."""
        pieces = self._decide.usual(self._decide.taken.way).pieces
        return next((piece.spread for piece in pieces if piece.name == "opening"), None)

    def _put_aside(self) -> None:
        """What was recorded of an opening before stays beside."""
        if self._path.exists():
            number = 1
            while (beside := self._session.dossier / f"swap-{number}.json").exists():
                number += 1
            self._path.rename(beside)
        self.guide = self.failure = None

    # Acting

    def press(self) -> None:
        """The one key."""
        guide = self.guide
        if guide is None:
            return
        deed = guide.press()
        if deed is None:
            self._start_wait(guide)
            return
        ids = {"count": guide.next_piece, "acknowledge": guide.pending}
        self.act(deed, ids.get(deed, ""), 1 if deed == "count" else 0)

    def count_all(self) -> None:
        """All that is left of this step came out, or went in."""
        while self.guide is not None and self.guide.press() == "count":
            group = self.guide.next_piece
            left = next(whole - done for id_, done, whole in self.guide.open_counts if id_ == group)
            self.act("count", group, left)

    def back(self) -> None:
        self._stop_wait()
        if self.guide is not None and self.guide.can_go_back:
            self.act("back")

    def act(self, deed: Deed, id_: str = "", count: int = 0, text: str = "") -> None:
        """Do one thing and put it on file before it is shown. Raises BadArgument when it cannot be done now."""
        guide = self.guide
        if guide is None:
            raise BadArgument("No machine is open.", "Begin first.")
        act = Act(at=datetime.now().astimezone().isoformat(), deed=deed, id=id_, count=count, text=text)
        self._take(guide.acted(act))
        self._tell(guide, act)

    def _take(self, guide: Guide) -> None:
        save(self._path, guide.record)
        self._stop_wait()
        self.guide, self.failure = guide, None
        self.changed.emit()

    def _tell(self, before: Guide, act: Act) -> None:
        """Into the logbook goes what somebody may ask for later; not every screw."""
        record, words = self._session.record, numbers()
        if act.deed == "acknowledge":
            record("swap-caution", f"Caution read: {words.cautions[act.id].title}", code=act.id)
        elif act.deed == "swollen":
            record("swap-stopped", "Swollen battery: the work was stopped")
        elif act.deed == "mistake" and self.guide is not None and self.guide.where.trouble is not None:
            record("swap-mistake", f"Went wrong: {self.guide.where.trouble.shows}", code=act.id)
        elif act.deed == "absent":
            record("swap-missing", f"Did not come out: {act.count} of {act.id}, {act.text}", id=act.id, count=act.count)
        elif act.deed == "lost":
            record("swap-missing", f"Does not go back: {act.count} of {act.id}, {act.text}", id=act.id, count=act.count)
        elif act.deed == "agree":
            extra = self._extra(act.id)
            figures = {"title": extra.title, "price": extra.price, "minutes": extra.minutes}
            record("swap-extra", f"Agreed while it is open: {extra.title}", **figures)
        elif act.deed == "finish" and self.guide is not None:
            self._tell_end(self.guide)

    def _tell_end(self, guide: Guide) -> None:
        ledger, seconds = guide.where.ledger, guide.spent_s
        self._session.record(
            "swap-done",
            f"Closed: {ledger.out} fasteners out, {ledger.back} back in, {seconds / 60:.0f} min with hands on it",
            hands_s=round(seconds, 1),
            out=ledger.out,
            back=ledger.back,
            named=list(lines_of(ledger)),
            opening=guide.record.opening,
            machine=guide.record.machine.title,
        )
        if guide.record.opening >= guide.record.openings:
            self._session.advance(self.next_stop)

    @property
    def next_stop(self) -> str:
        return next_needed("swap", self._decide.choice.chosen)

    # Time that must pass

    @property
    def left_s(self) -> float | None:
        """Seconds until the work may go on; None while nothing runs."""
        if self._waits_until is None:
            return None
        return max(0.0, (self._waits_until - datetime.now()).total_seconds())

    def _start_wait(self, guide: Guide) -> None:
        if guide.must_wait_s and self._waits_until is None:
            self._waits_until = datetime.fromtimestamp(datetime.now().timestamp() + guide.must_wait_s)
            self._timer.start()
            self.changed.emit()

    def _stop_wait(self) -> None:
        self._waits_until = None
        self._timer.stop()

    def _tick(self) -> None:
        if self.left_s:
            self.ticked.emit()
        elif self._waits_until is not None:
            self.act("waited")

    # While it is open

    def extras(self) -> list[Extra]:
        """What is cheap now and was neither agreed nor declined yet, for such a machine."""
        guide, machine = self.guide, self.machine
        if machine is None:
            return []
        said = {a.id for a in guide.record.acts if a.deed in ("agree", "decline")} if guide is not None else set()
        laptop = machine.kind in ("", "laptop", "convertible")
        memory = machine.memory is not None and bool(machine.memory.slots) and "memory" not in self.purposes
        able = {"": True, "laptop": laptop, "memory": memory}
        return [e for e in numbers().offers if able.get(e.needs, False) and e.code not in said]

    def _extra(self, code: str) -> Extra:
        return next(e for e in numbers().offers if e.code == code)

    @property
    def agreed(self) -> list[Extra]:
        return [self._extra(code) for code in self.guide.agreed] if self.guide is not None else []

    # Photographs

    def photograph(self, sources: Sequence[Path]) -> None:
        """Keep originals at the step in front; they are copied in the background, `trouble` says what fails."""
        row = self.guide.row if self.guide is not None else None
        if row is None:
            return
        work, dossier, step = self._session.bench.work, self._session.dossier, row.step.id
        for source in sources:
            work.in_thread(lambda got: self._photographed(got, step), keep_photograph, source, dossier)

    def _photographed(self, got: Path | Failure, step: str) -> None:
        if isinstance(got, Failure):
            self.trouble.emit(got.sentence())
        elif self.guide is not None:
            self.act("photograph", step, 0, got.name)

    def photographs_of(self, row: Row | None) -> list[Path]:
        """Those of that step, as long as they are there."""
        guide = self.guide
        if guide is None or row is None:
            return []
        folder = self._session.dossier / PHOTOGRAPHS
        names = [name for step, name in guide.photographs if step == row.step.id]
        return [path for name in names if (path := folder / name).is_file()]

    # Profiles

    def keep_tip(self, code: str) -> None:
        """A mistake that was made here becomes a tip of the profile, for the next one. Raises NeogenesisError."""
        guide = self.guide
        if guide is None or guide.row is None:
            return
        known = next((m for m in guide.mistakes() if m.code == code), None)
        if known is None or known.code.startswith("tip:"):
            return
        tip = Tip(step=guide.row.step.id, shows=known.shows, undo=known.undo)
        machine = self._intake.match.machine or guide.record.machine
        if tip not in machine.tips:
            self.keep_profile(msgspec.structs.replace(machine, tips=(*machine.tips, tip)))
        self.act("tip", code)

    def keep_profile(self, machine: Machine) -> None:
        """Put it on record; what stood there becomes a former version. Raises NeogenesisError."""
        path_of(machine)
        keep_machine(self._session.bench.store.folder, machine, instead=True)
        self._intake.look_for_machines()
        self.changed.emit()

    def blank_profile(self) -> Machine:
        """A profile to begin with for the machine on the job's plate."""
        known = self._intake.match.machine
        if known is not None:
            return known
        plate = self._intake.intake.plate
        make = plate.make or self._session.job.machine.partition(" ")[0] or "?"
        model = plate.model or self._session.job.machine.partition(" ")[2] or "?"
        return Machine(schema=Machine.SCHEMA, make=make, model=model)

    # Afterwards

    def waits(self) -> list[Wait]:
        """What is normal at the first start of this machine."""
        machine = self.machine
        mains = machine is not None and machine.openings is not None and machine.openings.first_start_needs_mains
        has = {
            "always": True,
            "memory": "memory" in self.purposes or bool({"memory"} & {e.code for e in self.agreed}),
            "mains": mains or bool(machine is not None and machine.has_battery),
            "fresh": self._decide.choice.chosen == "fresh",
        }
        return [w for w in numbers().waiting if has.get(w.when, False)]

    def close(self) -> None:
        self._stop_wait()
