"""What the Intake stop shows and changes. Every key that is pressed is on record at once."""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from typing import Any

from msgspec.structs import replace
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure, failure_of
from neogenesis.app.intake.stopwatch import Stopwatch
from neogenesis.app.language import mark, tr
from neogenesis.app.survey.model import SurveyModel
from neogenesis.bench.records.profiles import keep_machine, known_machines
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.intake import (
    START_UP,
    Answer,
    Ask,
    Course,
    Intake,
    When,
    cautions_of,
    course,
    gates_of_intake,
    guide,
    keep_intake,
    load_intake,
    of_another_machine,
    set_intake_aside,
    settle_intake,
    still_to_ask,
)
from neogenesis.core.intake.change import struck, with_answer, with_run
from neogenesis.core.job.customers import Customer, customers_of, found_again
from neogenesis.core.job.route import position
from neogenesis.core.machine import Machine, Match, machine_on_plate
from neogenesis.core.plan.model import Gate, Plan

_SETTLE_MS = 700
_AMOUNT = re.compile(r"\d+(?:[.,]\d{1,2})?")
_ANOTHER = mark("Take the report on this machine, or type its figures.")


def _told(still: int, valuables: int) -> str:
    return f"Intake: {still} still to ask, {valuables} on the list of what must survive"


class IntakeModel(QObject):
    """`intake` is what is on record; `failure` what is wrong with its file."""

    changed = pyqtSignal()

    def __init__(self, session: Session, survey: SurveyModel, now: Callable[[], float] = time.monotonic) -> None:
        super().__init__(session)
        self._session, self._survey = session, survey
        self.failure: Failure | None = None
        self.stopwatch = Stopwatch(now)
        self.timed = START_UP
        self._machines: list[Machine] | None = None
        self.machine_faults: list[str] = []
        self._customers: list[Customer] | None = None
        self.intake = self._load()
        self._told = self.intake
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(_SETTLE_MS)
        self._settle.timeout.connect(self._settle_now)

    # What is on record

    def _load(self) -> Intake:
        try:
            intake = load_intake(self._session.dossier)
        except NeogenesisError as error:
            self.failure = failure_of(error)
            try:
                aside = set_intake_aside(self._session.dossier)
            except NeogenesisError as worse:
                self.failure = failure_of(worse)
            else:
                text = tr("The intake could not be read. It was kept as “{0}”, and a new one was begun.")
                self.failure = Failure(text.format(aside.name), tr("Type again what is missing."))
            intake = Intake()
        return self._with_job(intake)

    def _with_job(self, intake: Intake) -> Intake:
        """What the job says, where the intake says nothing yet."""
        job = self._session.job
        intake = replace(intake, customer=intake.customer or job.customer, contact=intake.contact or job.contact)
        if not intake.plate.title and job.machine:
            machine = machine_on_plate("", job.machine, self.machines).machine
            make, model = (machine.make, machine.model) if machine else ("", job.machine)
            intake = replace(intake, plate=replace(intake.plate, make=make, model=model))
        return intake

    def take_in_job(self) -> None:
        """The job's record was changed elsewhere: its customer is the customer."""
        job = self._session.job
        changes = {
            name: getattr(job, name)
            for name in ("customer", "contact")
            if getattr(job, name) and getattr(job, name) != getattr(self.intake, name)
        }
        if changes and self.intake == self._told:
            self.change(**changes)

    def change(self, **fields: Any) -> None:
        self.put(replace(self.intake, **fields))

    def put(self, intake: Intake) -> None:
        """Another intake from now on; it is on record before this returns."""
        if intake == self.intake:
            return
        self.intake = intake
        try:
            keep_intake(self._session.dossier, intake)
        except NeogenesisError as error:
            self.failure = failure_of(error)
        else:
            self._settle.start()
        self.changed.emit()

    def later(self, **fields: Any) -> None:
        self.change(later=replace(self.intake.later, **fields))

    def plate(self, **fields: Any) -> None:
        self.change(plate=replace(self.intake.plate, **fields))

    def type(self, line: str, text: str) -> None:
        """What stands in a line that was not taken yet."""
        typed = {k: v for k, v in self.intake.typed.items() if k != line} | ({line: text} if text else {})
        self.change(typed=typed)

    def _settle_now(self) -> None:
        self._session.bench.work.in_thread(lambda _: None, settle_intake, self._session.dossier)

    def tell(self) -> None:
        """The stop is left: the job's record and its logbook hear what is new."""
        if self.intake == self._told:
            return
        self._told = self.intake
        job, intake = self._session.job, self.intake
        title = intake.plate.title
        machine = job.machine if not title or job.machine.startswith(title) else title
        new = {"customer": intake.customer.strip(), "contact": intake.contact.strip(), "machine": machine}
        new = {name: value for name, value in new.items() if value and value != getattr(job, name)}
        if new:
            self._session.bench.update(self._session.ticket, **new)
        start = intake.timing(START_UP)
        figures: dict[str, object] = {"open": len(self.asks), "only_here": len(intake.on_shore("here"))}
        if start is not None and start.median_s:
            figures |= {"before_s": start.median_s, "runs": len(start.counted)}
        after = intake.timing(START_UP, "after")
        if after is not None and after.median_s:
            figures |= {"after_s": after.median_s, "runs": len(after.counted)}
        self._session.record("intake", _told(len(self.asks), len(intake.valuables)), **figures)

    # Customers and machines

    @property
    def customers(self) -> list[Customer]:
        if self._customers is None:
            own = self._session.ticket
            self._customers = customers_of(j for j in self._session.bench.jobs() if j.ticket != own)
        return self._customers

    def customer(self) -> Customer | None:
        """Who was here before under that name."""
        name = self.intake.customer.strip().casefold()
        return next((c for c in self.customers if c.name.casefold() == name), None)

    def likely(self, typed: str) -> list[Customer]:
        return found_again(self.customers, typed)

    @property
    def machines(self) -> list[Machine]:
        if self._machines is None:
            self._machines, self.machine_faults = known_machines(self._session.bench.store.folder)
        return self._machines

    @property
    def budget(self) -> str:
        """The first amount in what was written about the budget, as decimal text; empty for none."""
        found = _AMOUNT.search(self.intake.later.budget)
        return found.group().replace(",", ".") if found else ""

    def look_for_machines(self) -> None:
        """Profiles were changed elsewhere."""
        self._machines = None

    @property
    def match(self) -> Match:
        plate = self.intake.plate
        chosen = next((m for m in self.machines if m.title == plate.profile), None)
        return Match(chosen, (chosen,)) if chosen else machine_on_plate(plate.make, plate.model, self.machines)

    def choose_machine(self, title: str) -> None:
        machine = next((m for m in self.machines if m.title == title), None)
        if machine is not None:
            self.plate(make=machine.make, model=machine.model, profile=machine.title)

    def new_machine(self) -> str:
        """Put the plate's machine on record as a profile; returns what is wrong, empty for nothing."""
        plate = self.intake.plate
        machine = Machine(schema=Machine.SCHEMA, make=plate.make.strip(), model=plate.model.strip())
        try:
            keep_machine(self._session.bench.store.folder, machine)
        except NeogenesisError as error:
            return error.sentence()
        self._machines = None
        self.plate(profile=machine.title)
        return ""

    # What follows from it

    @property
    def asks(self) -> tuple[Ask, ...]:
        survey = self._survey.record
        encrypted = any(p.volume.encrypted for p in survey.partitions) if survey is not None else None
        return still_to_ask(self.intake, self.match, self._session.job.promise, encrypted)

    @property
    def cautions(self) -> tuple[Ask, ...]:
        odd = of_another_machine(self.intake)
        more = (Ask("battery", odd, "caution", _ANOTHER),) if odd else ()
        return (*cautions_of(self.intake), *more)

    def gates(self, plan: Plan) -> tuple[Gate, ...]:
        """What the customer said that stands against this plan."""
        everything = plan.intent in ("replace", "exact") and not plan.left_behind
        return gates_of_intake(self.intake, everything)

    # Timing

    @property
    def when(self) -> When:
        """Whether a run that is timed now was taken before the work or after it."""
        job = self._session.job
        return "after" if job.closed or position(job.stop) > position("transfer") else "before"

    def press(self) -> None:
        """The key of the stopwatch."""
        self.stopwatch.with_login = self.timed == START_UP
        run = self.stopwatch.press(self._session.bench.clock.wall())
        if run is not None:
            self.put(with_run(self.intake, self.timed, self.when, run))
        self.changed.emit()

    def give_up_run(self) -> None:
        self.stopwatch.give_up()
        self.changed.emit()

    def strike(self, name: str, when: When, number: int, why: str) -> None:
        self.put(struck(self.intake, name, when, number, why))

    # Triage

    @property
    def course(self) -> Course:
        survey = self._survey.record
        health = survey.health if survey is not None else None
        mechanical = survey.drive.mechanical if survey is not None else None
        return course(guide(), self.intake.triage, health, self.intake.symptoms, mechanical)

    def answer(self, test: str, answer: str) -> None:
        self.put(with_answer(self.intake, Answer(test=test, answer=answer, at=self._session.bench.clock.wall())))

    def take_back_answer(self) -> None:
        self.change(triage=self.intake.triage[:-1])

    def close(self) -> None:
        """Nothing that was typed waits any longer."""
        if self._settle.isActive():
            self._settle.stop()
            settle_intake(self._session.dossier)
