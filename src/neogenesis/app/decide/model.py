"""What the Decide stop shows: the facts of the job, the ways weighed, and what was chosen."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta
from decimal import Decimal
from typing import Any, ClassVar

import msgspec
from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.desk.session import Session
from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.plan.model import PlanModel
from neogenesis.app.survey.looks import LooksModel
from neogenesis.app.survey.model import SurveyModel
from neogenesis.core.decide import Case, Decision, Facts, decide
from neogenesis.core.decide.case import SYMPTOMS, Backup, Key, facts_of
from neogenesis.core.decide.decision import WayRow, planned
from neogenesis.core.decide.way import WAYS, Way
from neogenesis.core.decide.ways import Considered, consider
from neogenesis.core.errors import BadArgument, BadRecord, NeogenesisError
from neogenesis.core.fit.part import is_amount, money
from neogenesis.core.intake import Intake
from neogenesis.core.job.route import Added, added, next_needed, not_needed, position
from neogenesis.core.job.shop import parse_labour
from neogenesis.core.plan.policy import Intent
from neogenesis.core.record import Record, load, save

_USUAL_LABOUR = "45"
_MOST_MINUTES = 10_000
_MONEY = ("labour_per_hour", "parts_cost", "memory_cost", "replacement_price", "waiting_per_hour")
#: Who holds the recovery key, as the intake has it.
_KEYS: dict[str, Key] = {"customer": "held", "somebody": "held", "nobody": "none"}
#: Work whose end leaves something that can be gone on with, as the logbook names it.
_SOURCES = ("image", "rescue", "salvage", "transfer")
#: Ways that a plan of a new drive follows.
_PLANNED: tuple[Intent, ...] = ("replace", "split", "beside", "exact", "fresh")


class Choice(Record, frozen=True, kw_only=True):
    """What was put in and chosen, kept in the dossier. Money as text; `why` where it is not what was recommended;
    `minutes` are what somebody said that a kind of work takes here; `memory_cost` is what of `parts_cost` is memory.
    """

    SCHEMA: ClassVar[str] = "neogenesis.choice/1"

    schema: str = SCHEMA
    labour_per_hour: str = _USUAL_LABOUR
    parts_cost: str = ""
    memory_cost: str = ""
    replacement_price: str = ""
    waiting_per_hour: str = ""
    minutes: dict[str, float] = {}
    programs: int | None = None
    chosen: str = ""
    recommended: str = ""
    why: str = ""

    def __post_init__(self) -> None:
        for text in (getattr(self, name) for name in _MONEY):
            if text and not is_amount(text):
                raise ValueError(f"“{text}” is no amount of money")
        if any(not 0 < n <= _MOST_MINUTES for n in self.minutes.values()):
            raise ValueError("minutes of work that nobody has")


class DecideModel(QObject):
    """`decision` is made anew whenever something that it rests on is another one."""

    changed = pyqtSignal()

    def __init__(
        self, session: Session, survey: SurveyModel, intake: IntakeModel, plan: PlanModel, looks: LooksModel
    ) -> None:
        super().__init__(session)
        self._session, self._survey, self._intake, self._plan = session, survey, intake, plan
        self._looks = looks
        self._path = session.dossier / "choice.json"
        self.choice = self._load()
        #: Whether the drive in the dock fits into the machine and what it costs, as Fit knows it.
        self.docked: Callable[[], tuple[bool, Decimal | None]] = lambda: (True, None)
        self._made: tuple[Facts, Decision] | None = None
        for model in (survey, intake, looks):
            model.changed.connect(self.changed)

    def _load(self) -> Choice:
        if not self._path.exists():
            return Choice(labour_per_hour=self._shops_labour())
        try:
            return load(self._path, Choice, "choice")
        except NeogenesisError:
            return Choice()

    def _shops_labour(self) -> str:
        try:
            return parse_labour(self._session.bench.shop.labour_per_hour) or _USUAL_LABOUR
        except BadArgument:
            return _USUAL_LABOUR

    @property
    def facts(self) -> Facts:
        """Of the job as it is known now; raises BadRecord for amounts that are none."""
        intake, choice = self._intake.intake, self.choice
        case = Case(
            schema=Case.SCHEMA,
            symptoms=tuple(s for s in intake.symptoms if s in SYMPTOMS),
            must_survive=intake.must_survive or "everything",
            key=_KEYS.get(intake.later.recovery_key, "unknown"),
            backup=_backup(intake),
            programs=choice.programs,
            labour_per_hour=choice.labour_per_hour,
            currency=self._session.bench.shop.currency or None,
            replacement_price=choice.replacement_price or None,
            budget=self._intake.budget or None,
        )
        counts = [len(one.programs) for one in self._survey.inside.values() if one.programs]
        machine, programs = self._intake.match.machine, max(counts, default=None)
        fillings = tuple(self._looks.fillings.values())
        facts = facts_of(case, self._survey.record, None, machine, (), programs, (), fillings)
        own = tuple((name, 60 * minutes) for name, minutes in sorted(choice.minutes.items()))
        worth = money(choice.waiting_per_hour) if choice.waiting_per_hour else None
        return replace(
            facts,
            waiting=worth,
            own_seconds=own,
            factors=self._session.bench.factors,
            imaged=bool({"image", "rescue"} & set(self.kept)),
            **self._new_drive(),
        )

    def argue(self, name: str, minutes: float | None) -> None:
        """That kind of work takes so many minutes here; None for what is usual. Raises BadArgument."""
        if minutes is not None and not 0 < minutes <= _MOST_MINUTES:
            raise BadArgument(f"{minutes:g} minutes are not possible.", "Type more than 0, such as 12.")
        others = {k: v for k, v in self.choice.minutes.items() if k != name}
        self.put(minutes=others if minutes is None else {**others, name: minutes})

    def _new_drive(self) -> dict[str, Any]:
        """What is known of the new drive, where one was chosen."""
        choice = self.choice
        cost: dict[str, Any] = {"new_cost": money(choice.parts_cost)} if choice.parts_cost else {}
        if choice.memory_cost:
            cost["memory_cost"] = money(choice.memory_cost)
        dock = self._session.new_dock()
        drive = dock.docked.drive if dock is not None and dock.docked else None
        if drive is None:
            return cost
        fits, own = self.docked()
        if "new_cost" not in cost and own is not None:
            cost["new_cost"] = own
        known = {"offered": True, "fits": fits, "priced": "new_cost" in cost}
        return cost | known | {"new_bytes": drive.size_bytes, "new_class": drive.bus}

    @property
    def decision(self) -> Decision:
        facts = self.facts
        if self._made is None or self._made[0] != facts:
            self._made = (facts, decide(facts))
        return self._made[1]

    def considered(self) -> dict[Way, Considered]:
        facts = self.facts
        return {way: consider(way, facts) for way in WAYS}

    def usual(self, way: Way) -> Considered:
        """As it is without what this shop has learned: that is what it learns from."""
        return consider(way, replace(self.facts, factors=()))

    def put(self, **fields: Any) -> None:
        """Another input; raises BadArgument for what is no amount of money."""
        if "parts_cost" in fields:  # typed by hand nobody knows how much of it is memory
            fields = {"memory_cost": ""} | fields
        for name in _MONEY:
            text = str(fields.get(name, "")).replace(",", ".").strip()
            if name in fields:
                fields[name] = text
            if text and not is_amount(text):
                raise BadArgument(f"“{text}” is no amount of money.", "Type one such as 79.90.")
        new = msgspec.structs.replace(self.choice, **fields)
        if new != self.choice:
            self.choice = new
            save(self._path, new)
            self.changed.emit()

    def choose(self, way: Way, why: str = "") -> None:
        """Go that way; against what is recommended only with a reason. Raises BadArgument."""
        decision = self.decision
        row = next(w for w in decision.ways if w.way == way)
        before = self.choice.chosen
        switches = self.is_switch(way)
        if not row.allowed:
            raise BadArgument("That way is not possible.", row.reasons[0])
        if way != decision.recommended and not why.strip():
            raise BadArgument("It is not the recommended way.", "Write down why it is chosen all the same.")
        if switches and not why.strip():
            raise BadArgument("The work has begun in another way.", "Write down why it goes on differently.")
        self.put(chosen=way, recommended=decision.recommended, why=why.strip())
        figures: dict[str, Any] = {"way": way, "recommended": decision.recommended, "cost_p50": row.cost_p50}
        figures |= {"why": why.strip(), "planned": planned(self.usual(way)), "reasons": list(row.reasons)}
        figures["again"] = list(row.again)
        text = _told(way, decision.recommended, why.strip())
        if switches:
            text = _switched(before, way, why.strip())
            figures |= {"from": before, "kept": self.kept}
        self._session.record("decide", text, **figures)
        intent = next((i for i in _PLANNED if i == way), None)
        if intent is not None:
            self._session.bench.update(self._session.ticket, intent=intent)
            if switches:
                self._plan.begin_anew(intent)
            else:
                self._plan.prefer(intent)
        following = next_needed("decide", way)
        if switches:  # the route goes on from here; what was done before stays on record
            self._session.bench.update(self._session.ticket, stop=following)
        else:
            self._session.advance(following)
        self.changed.emit()

    @property
    def taken(self) -> WayRow:
        """The way that is chosen, or else the recommended one."""
        decision = self.decision
        way = self.choice.chosen or decision.recommended
        return next(w for w in decision.ways if w.way == way)

    def next_promise(self) -> str:
        """The next full hour after the way that is taken has ended, 9 times of 10."""
        ends = datetime.now() + timedelta(seconds=self.taken.seconds_p90)
        return f"{ends.replace(minute=0) + timedelta(hours=1):%Y-%m-%d %H:%M}"

    def promise(self, moment: str) -> None:
        """Promise the machine for that moment; the one before stays in the logbook."""
        before = self._session.job.promise
        self._session.bench.update(self._session.ticket, promise=moment)
        self._session.record("promise", f"Promised anew for {moment}; before: {before}", before=before, promise=moment)
        self.changed.emit()

    def is_switch(self, way: str) -> bool:
        """Whether that way is another one than the one in which the work has begun."""
        chosen = self.choice.chosen
        return bool(chosen) and way != chosen and position(self._session.job.stop) >= position("transfer")

    @property
    def kept(self) -> list[str]:
        """What was done already and stays a source: images, rescues, files copied out, copies."""
        ends = {f"{kind}-{end}" for kind in _SOURCES for end in ("done", "partial")}
        return list(dict.fromkeys(e.kind.partition("-")[0] for e in self._session.log() if e.kind in ends))

    @property
    def next_stop(self) -> str:
        """Where the way that was chosen goes on."""
        return next_needed("decide", self.choice.chosen)

    @property
    def skipped(self) -> frozenset[str]:
        return not_needed(self.choice.chosen)

    @property
    def added(self) -> tuple[Added, ...]:
        """What stands on the route beside the stops."""
        record, chosen = self._survey.record, self.choice.chosen
        failing = record is not None and (record.health.image_first or record.health.is_failing)
        return added(chosen, failing, self._intake.intake.must_survive != "nothing")

    @property
    def is_out_of_date(self) -> bool:
        """Whether something changed since, so that another way is recommended now."""
        try:
            return bool(self.choice.chosen) and self.choice.recommended != self.decision.recommended
        except BadRecord:
            return False


def _switched(before: str, way: str, why: str) -> str:
    return f"Switched from {before} to {way}: {why}"


def _told(way: str, recommended: str, why: str) -> str:
    if way == recommended:
        return f"Decided: {way}, as recommended"
    return f"Decided: {way} instead of {recommended}: {why}"


def _backup(intake: Intake) -> Backup:
    """What must survive is elsewhere: all of it as we have seen, or as was said; else there is none that counts."""
    shores = {valuable.shore for valuable in intake.valuables}
    if shores == {"seen"}:
        return "checked"
    return "said" if shores and "here" not in shores else ""
