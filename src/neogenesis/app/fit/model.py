"""What the Fit stop shows: the machine, the shop's parts against its bays, and the set of parts that was chosen."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from pathlib import Path
from typing import ClassVar

import msgspec
import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.decide.model import DecideModel
from neogenesis.app.desk.session import Session
from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.survey.model import SurveyModel
from neogenesis.bench.records.profiles import import_profiles, keep_machine, keep_part, known_parts
from neogenesis.core.decide.price import least_of
from neogenesis.core.errors import BadArgument, NeogenesisError
from neogenesis.core.fit.docked import docked_part
from neogenesis.core.fit.lists import Line, lists_for, name_of
from neogenesis.core.fit.match import Match, usable_bytes
from neogenesis.core.fit.matrix import Matrix, matrix
from neogenesis.core.fit.memory import MemoryFit, fit_memory
from neogenesis.core.fit.numbers import numbers
from neogenesis.core.fit.part import BESIDE, Part, is_amount, money
from neogenesis.core.fit.sets import DriveSet, is_mechanical, likely, made_of, price_of, proposed, worth_having
from neogenesis.core.fit.waiting import Start, drive_wait, start_after
from neogenesis.core.intake import START_UP
from neogenesis.core.job.route import next_needed
from neogenesis.core.judgement import judgement
from neogenesis.core.machine import Machine
from neogenesis.core.record import Record, load, save

#: What stands in a bay as long as the old drive stays in the machine.
OLD_DRIVE = "the old drive"
_STAYS = ("split", "beside")
#: Drives of one nominal size differ by a little.
_ALMOST = 0.95
_BUS = {"usb-sata": "sata", "usb-nvme": "nvme"}


def _suits(match: Match) -> tuple[bool, bool, bool, float]:
    """How well a drive suits its bay."""
    open_, whole = match.verdict != "does-not-fit", match.verdict == "fits"
    return (open_, match.bay.starts_system is not False, whole, match.effective_read_bytes_per_s or 0.0)


class Placed(Record, frozen=True, kw_only=True):
    part: str
    bay: str


class FitChoice(Record, frozen=True, kw_only=True):
    """What was put in and taken, kept in the dossier; money as text. `own` is empty for what is proposed."""

    SCHEMA: ClassVar[str] = "neogenesis.fit-choice/1"

    schema: str = SCHEMA
    budget: str = ""
    with_memory: bool = False
    own: tuple[Placed, ...] = ()
    taken: tuple[Placed, ...] = ()
    modules: tuple[str, ...] = ()
    cost: str = ""
    currency: str = ""

    def __post_init__(self) -> None:
        for text in (self.budget, self.cost):
            if text and not is_amount(text):
                raise ValueError(f"“{text}” is no amount of money")


class FitModel(QObject):
    """`choice` is what is on record. Everything else is worked out from it when it is asked for, once."""

    changed = pyqtSignal()

    def __init__(self, session: Session, survey: SurveyModel, intake: IntakeModel, decide: DecideModel) -> None:
        super().__init__(session)
        self._session, self._survey, self._intake, self._decide = session, survey, intake, decide
        self._bench = session.bench.store.folder
        self._path = session.dossier / "fit.json"
        self.choice = self._load()
        self._parts: list[Part] | None = None
        self.faults: list[str] = []
        self._made: tuple[tuple[Machine, Part | None], list[Part], Matrix] | None = None
        self._rows: dict[str, int] = {}
        self._columns: dict[str, int] = {}
        self.prices: dict[str, Decimal | None] = {}
        self._sets: tuple[Matrix, int, list[DriveSet]] | None = None
        for model in (survey, intake, decide):
            model.changed.connect(self.changed)

    def _load(self) -> FitChoice:
        if not self._path.exists():
            return FitChoice(budget=self._intake.budget)
        try:
            return load(self._path, FitChoice, "fit")
        except NeogenesisError:
            return FitChoice()

    # What is known

    @property
    def machine(self) -> Machine | None:
        """With the old drive in its bay, where the way that was chosen leaves it there."""
        machine = self._intake.match.machine
        if machine is None or self._decide.choice.chosen not in _STAYS:
            return machine
        kind = self.old_kind
        speaks = "sata" if kind == "rotational" else kind
        bays = list(machine.bays)
        for n, bay in enumerate(bays):
            if bay.holds is None and speaks in bay.interfaces:
                bays[n] = msgspec.structs.replace(bay, holds=OLD_DRIVE)
                break
        return msgspec.structs.replace(machine, bays=tuple(bays))

    @property
    def old_kind(self) -> str:
        record = self._survey.record
        if record is None:
            return "rotational"
        return "rotational" if record.drive.rotational else _BUS.get(record.drive.bus, record.drive.bus)

    @property
    def used_bytes(self) -> int:
        """What the new drive must hold; 0 while nobody knows."""
        record = self._survey.record
        return record.used_bytes if record is not None else 0

    @property
    def parts(self) -> list[Part]:
        if self._parts is None:
            self._parts, self.faults = known_parts(self._bench)
            self.prices = {p.id: p.cost for p in self._parts}
        return self._parts

    @property
    def docked(self) -> Part | None:
        """The job's new drive, where it stands in a dock: nobody has to be sold another one. One without a price on
        record counts with the least of its size."""
        dock = self._session.new_dock()
        drive = dock.docked.drive if dock is not None and dock.docked else None
        if drive is None:
            return None
        part = docked_part(drive, self.parts)
        return part if part.price else msgspec.structs.replace(part, price=f"{least_of(drive.size_bytes):.2f}")

    @property
    def drives(self) -> list[Part]:
        """The docked one first, whether it is in the catalogue or not."""
        docked = self.docked
        own = [docked] if docked is not None else []
        return own + [p for p in self.parts if p.kind == "drive" and all(p.id != one.id for one in own)]

    @property
    def currency(self) -> str:
        """Of the catalogue, as far as its prices agree."""
        named = {p.currency for p in self.parts if p.currency and p.price is not None}
        return named.pop() if len(named) == 1 else ""

    @property
    def budget(self) -> Decimal | None:
        return money(self.choice.budget) if self.choice.budget else None

    # Parts against bays

    @property
    def matrix(self) -> Matrix | None:
        """Every drive of the catalogue against every bay; None while the machine is not known."""
        machine = self.machine
        if machine is None or not machine.bays:
            return None
        parts, docked = self.parts, self.docked
        known = (machine, docked)
        if self._made is None or self._made[0] != known or self._made[1] is not parts:
            near = [p for p in self.parts if p.kind in BESIDE]
            table = matrix(machine, self._orderable(self.drives), near, None)
            self._made = (known, parts, table)
            self._rows = {p.id: n for n, p in enumerate(table.parts)}
            self._columns = {b.name: n for n, b in enumerate(table.bays)}
        return self._made[2]

    def _orderable(self, drives: Sequence[Part]) -> list[Part]:
        """What is not in stock can be ordered: one piece."""
        return [p if p.pieces else msgspec.structs.replace(p, stock=None) for p in drives]

    @property
    def needed_bytes(self) -> int:
        """Usable bytes of the system's drive, so that what is used stays below the caution for fill."""
        return int(self.used_bytes * 100 / judgement().fill_caution_percent)

    @property
    def sets(self) -> list[DriveSet]:
        """Sets that nothing beats, the cheapest first."""
        table = self.matrix
        if table is None:
            return []
        needed = self.needed_bytes
        if self._sets is None or self._sets[0] is not table or self._sets[1] != needed:
            prices = self.prices
            self._sets = (table, needed, worth_having(likely(table, prices), prices, needed))
        return self._sets[2]

    @property
    def docked_match(self) -> Match | None:
        """The docked drive in the bay that suits it best, or with what is against it in the first; None without one."""
        docked, table = self.docked, self.matrix
        if docked is None or table is None:
            return None
        found = [m for b in table.bays if (m := self.match(docked.id, b.name)) is not None]
        return max(found, key=_suits, default=None)

    @property
    def docked_cost(self) -> Decimal | None:
        """With what it needs in this machine; None where no price is on record."""
        docked, match = self.docked, self.docked_match
        if docked is None or self.prices.get(docked.id) is None:
            return None
        return price_of(match, self.prices) if match is not None else docked.cost

    def judge_docked(self) -> tuple[bool, Decimal | None]:
        """Whether the docked drive fits as far as is known, and what it costs."""
        match = self.docked_match
        return match is None or match.verdict != "does-not-fit", self.docked_cost

    @property
    def against_docked(self) -> tuple[str, ...]:
        """Why another drive is proposed although one stands in the dock."""
        match = self.docked_match
        if match is None:
            return ()
        against = tuple(r.text for r in match.reasons if r.against)
        if not against and (match.usable_bytes or 0) < self.needed_bytes:
            return ("it has too little room",)
        if not against and self.budget is not None and price_of(match, self.prices) > self.budget:
            return ("it costs more than the budget",)
        return against

    @property
    def proposal(self) -> DriveSet | None:
        """What stands in the dock, where nothing is against it; else out of the catalogue, within the budget, with room
        to grow and no smaller than the old drive, where there is any such set."""
        docked = self.docked_match
        if docked is not None and not self.against_docked:
            return made_of([docked], self.prices)
        record = self._survey.record
        grown = int(self.used_bytes * numbers().set.grow)
        wishes = (max(grown, round(record.drive.size_bytes * _ALMOST)) if record is not None else grown, grown, 0)
        return next((found for room in wishes if (found := proposed(self.sets, self.budget, room))), None)

    @property
    def chosen(self) -> DriveSet | None:
        """What was put together by hand, else the proposal."""
        table = self.matrix
        if table is None:
            return None
        wanted = self.choice.own
        matches = [m for one in wanted if (m := self.match(one.part, one.bay)) is not None]
        able = [m for m in matches if m.verdict != "does-not-fit"]
        return made_of(able, self.prices) if able else self.proposal

    def match(self, part: str, bay: str) -> Match | None:
        table = self.matrix
        if table is None:
            return None
        row, column = self._rows.get(part), self._columns.get(bay)
        return None if row is None or column is None else table.match(row, column)

    def order(self) -> list[int]:
        """Rows of the matrix: what is in the set, then by price what fits and has room, what fits, and the rest."""
        table = self.matrix
        if table is None:
            return []
        chosen = self.chosen
        inside = {m.part.id for m in chosen.matches} if chosen is not None else set()
        fits = table.verdicts.max(axis=1) if table.verdicts.size else np.zeros(len(table.parts))
        far = Decimal(10**9)

        def key(n: int) -> tuple[bool, bool, bool, Decimal, str]:
            part = table.parts[n]
            tight = (usable_bytes(part) or 0) < self.needed_bytes
            return (part.id not in inside, not fits[n], tight, far if part.cost is None else part.cost, part.id)

        return sorted(range(len(table.parts)), key=key)

    # Memory

    @property
    def memory(self) -> MemoryFit | None:
        """The best modules of the catalogue, with what the drives leave of the budget."""
        machine = self.machine
        modules = [p for p in self.parts if p.kind == "memory" and p.pieces]
        if machine is None or machine.memory is None or not modules:
            return None
        left = self.budget
        if left is not None and self.chosen is not None:
            left = max(Decimal(0), left - self.chosen.cost)
        return fit_memory(modules, machine.memory, left)

    @property
    def modules(self) -> list[Part]:
        """Those that are taken along."""
        memory = self.memory
        if not self.choice.with_memory or memory is None:
            return []
        by_id = {p.id: p for p in self.parts}
        return [by_id[i] for i in memory.placed]

    @property
    def cost(self) -> Decimal:
        drives = self.chosen.cost if self.chosen is not None else Decimal(0)
        return drives + sum((m.cost or Decimal(0) for m in self.modules), Decimal(0))

    # What it brings

    @property
    def measured_start_s(self) -> float | None:
        timing = self._intake.intake.timing(START_UP)
        return timing.median_s if timing is not None else None

    def start(self, one: DriveSet) -> Start | None:
        """What a start will take, where one was timed."""
        before = self.measured_start_s
        if before is None:
            return None
        kind = "rotational" if is_mechanical(one.system.part) else str(one.system.part.interface or "sata")
        return start_after(before, self.old_kind, kind, one.system.effective_read_bytes_per_s)

    @property
    def wait_now_s(self) -> float:
        """How long a start waits for the old drive."""
        return drive_wait(self.old_kind)

    def fill_percent(self, one: DriveSet) -> float | None:
        room = one.system.usable_bytes
        return 100 * self.used_bytes / room if room and self.used_bytes else None

    def lists(self) -> list[Line]:
        machine, chosen = self.machine, self.chosen
        if machine is None:
            return []
        known = [*self.parts, *self.drives]
        return lists_for(machine, chosen.matches if chosen is not None else (), self.modules, known)

    # Changes

    def put(self, **fields: object) -> None:
        """Another input; raises BadArgument for what is no amount of money."""
        if "budget" in fields:
            fields["budget"] = text = str(fields["budget"]).replace(",", ".").strip()
            if text and not is_amount(text):
                raise BadArgument(f"“{text}” is no amount of money.", "Type one such as 79.90.")
        new = msgspec.structs.replace(self.choice, **fields)
        if new != self.choice:
            self.choice = new
            save(self._path, new)
            self.changed.emit()

    def choose(self, one: DriveSet | None) -> None:
        """That set; None for what is proposed."""
        own = () if one is None else tuple(Placed(part=p, bay=b) for p, b in one.placed)
        self.put(own=own)

    def place(self, part: str, bay: str) -> None:
        """Put a part into a bay, or take it out again; raises BadArgument where it does not fit."""
        match = self.match(part, bay)
        if match is None:
            raise BadArgument("There is no such part or bay.", "Choose a cell of the table.")
        if match.verdict == "does-not-fit":
            raise BadArgument("It does not fit there.", "Its reasons stand below the table.")
        chosen = self.chosen
        now = {m.bay.name: m.part.id for m in chosen.matches} if chosen is not None else {}
        if now.get(bay) == part:
            del now[bay]
        else:
            pieces = next(p.pieces for p in self._orderable(self.drives) if p.id == part)
            elsewhere = [b for b, p in now.items() if p == part and b != bay]
            for name in elsewhere[: max(0, len(elsewhere) + 1 - pieces)]:
                del now[name]
            now[bay] = part
        self.put(own=tuple(Placed(part=p, bay=b) for b, p in now.items()))

    def take(self) -> None:
        """This set it is: on record, in the logbook, and in the costs of the ways. Raises BadArgument without one."""
        chosen = self.chosen
        if chosen is None:
            raise BadArgument("There is no set of parts.", "Choose a machine, and a part that fits.")
        taken = tuple(Placed(part=p, bay=b) for p, b in chosen.placed)
        cost = f"{self.cost:.2f}"
        modules = tuple(m.id for m in self.modules)
        self.put(taken=taken, modules=modules, cost=cost, currency=self.currency)
        names = ", ".join(f"{name_of(m.part)} into {m.bay.name}" for m in chosen.matches)
        figures: dict[str, object] = {"cost": cost, "parts": [p.part for p in taken], "memory": list(modules)}
        self._session.record("fit", f"Fit: {names}", **figures)
        memory = sum((m.cost or Decimal(0) for m in self.modules), Decimal(0))
        self._decide.put(parts_cost=cost, memory_cost=f"{memory:.2f}" if memory else "")
        self._session.advance(self.next_stop)
        self.changed.emit()

    @property
    def next_stop(self) -> str:
        """Where the way that was chosen goes on."""
        return next_needed("fit", self._decide.choice.chosen)

    # Profiles

    def keep(self, profile: Machine | Part) -> None:
        """Put a changed profile on record; what stood there becomes a former version. Raises NeogenesisError."""
        if isinstance(profile, Machine):
            keep_machine(self._bench, profile, instead=True)
        else:
            keep_part(self._bench, profile, instead=True)
        self._learned()

    def bring(self, place: Path) -> tuple[list[str], list[str]]:
        """Profiles from a file or folder: what was taken, and what was wrong with the rest. Raises BadArgument."""
        taken, faults = import_profiles(self._bench, place)
        self._learned()
        return taken, faults

    def _learned(self) -> None:
        self._parts = None
        self._intake.look_for_machines()
        self.changed.emit()
