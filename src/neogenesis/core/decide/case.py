"""A case as people write it, and the facts that are read out of what it names."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from typing import ClassVar, Literal

from neogenesis.core.drive import Health
from neogenesis.core.errors import BadRecord
from neogenesis.core.fit import Part, fit
from neogenesis.core.fit.matrix import matrix
from neogenesis.core.fit.memory import fit_memory
from neogenesis.core.fit.numbers import numbers as fit_numbers
from neogenesis.core.fit.part import money, one_currency
from neogenesis.core.fit.sets import DriveSet, likely, proposed, worth_having
from neogenesis.core.judgement import judgement
from neogenesis.core.machine import Machine
from neogenesis.core.record import StrictRecord, refuse_faults, strict_from_json
from neogenesis.core.survey import Survey
from neogenesis.core.units import nominal_bytes

Symptom = Literal[
    "slow", "no-start", "loop", "freezes", "noise", "dropped", "full", "malware", "no-system", "wants-room", "wet"
]
_MOST = 1_000_000
MustSurvive = Literal["everything", "files", "nothing"]


class Case(StrictRecord, frozen=True, kw_only=True):
    """Paths are relative to the file. Money is decimal text."""

    SCHEMA: ClassVar[str] = "neogenesis.case/1"

    schema: str
    survey: str | None = None
    health: str | None = None
    machine: str | None = None
    parts: tuple[str, ...] = ()
    symptoms: tuple[Symptom, ...] = ()
    must_survive: MustSurvive = "everything"
    programs: int | None = None
    labour_per_hour: str | float = "0"
    currency: str | None = None
    replacement_price: str | float | None = None
    seats: int = 1
    budget: str | float | None = None


def read_case(text: bytes, what: str = "case") -> Case:
    """A case from its JSON; raises BadRecord that names every fault."""
    case = strict_from_json(text, Case, what)
    faults = []
    for name in ("labour_per_hour", "replacement_price", "budget"):
        value = getattr(case, name)
        if value is not None:
            try:
                faults += [f"“{name}” is negative"] if money(str(value)) < 0 else []
            except InvalidOperation:
                faults.append(f"“{name}” is no amount of money: “{value}”")
    if case.seats < 1:
        faults.append("“seats” is less than one")
    if case.programs is not None and case.programs < 0:
        faults.append("“programs” is negative")
    for name in ("seats", "programs"):
        if (getattr(case, name) or 0) > _MOST:
            faults.append(f"“{name}” is more than {_MOST}")
    refuse_faults(faults, what)
    return case


@dataclass(frozen=True, slots=True)
class Facts:
    """Everything that the model works with. Bytes, and exact money; None where nobody knows.

    `new_bytes` is the capacity of the best drive that fits, `new_cost` what it costs with what it needs; `fits` tells
    whether any was offered that does. `imaged` tells that the old drive was read as a whole already: an image or a
    rescue is the source from now on. `waiting` is what an hour of waiting is worth to the customer; `own_seconds` what
    somebody said that a piece of work takes here; `factors` how much longer a kind of work takes in this shop than is
    usual. `notes` are what was strange about the case.
    """

    symptoms: frozenset[str] = frozenset()
    must_survive: MustSurvive = "everything"
    used_bytes: int | None = None
    system_bytes: int | None = None
    size_bytes: int | None = None
    read_class: str = "rotational"
    mechanical: bool | None = None
    is_empty: bool = False
    understood: bool = True
    encrypted: bool = False
    unclean: bool = False
    fill_percent: float = 0.0
    health: str = "unknown"
    image_first: bool = False
    imaged: bool = False
    programs: int | None = None
    labour: Decimal = Decimal(0)
    currency: str = ""
    replacement: Decimal | None = None
    seats: int = 1
    budget: Decimal | None = None
    machine_kind: str = "other"
    free_bay: bool = False
    removable: bool = True
    offered: bool = False
    fits: bool = False
    new_bytes: int | None = None
    new_cost: Decimal = Decimal(0)
    new_class: str = "sata"
    waiting: Decimal | None = None
    own_seconds: tuple[tuple[str, float], ...] = ()
    factors: tuple[tuple[str, float], ...] = ()
    notes: tuple[str, ...] = ()


def facts_of(
    case: Case,
    survey: Survey | None,
    health: Health | None,
    machine: Machine | None,
    parts: tuple[Part, ...],
    programs: int | None = None,
    notes: tuple[str, ...] = (),
) -> Facts:
    """What a case comes down to. `programs` is what a survey counted, for a case that does not say.

    Raises BadRecord for prices in another currency than the case's.
    """
    currency = one_currency(parts)
    if currency and case.currency and currency != case.currency:
        raise BadRecord(f"The case counts in {case.currency}, its parts cost {currency}.", "Give all in one currency.")
    more: dict[str, object] = {}
    if survey is not None:
        more |= _of_survey(survey)
    verdict = health or (survey.health if survey is not None else None)
    if verdict is not None:
        more |= {"health": verdict.verdict, "image_first": verdict.image_first or verdict.is_failing}
    if machine is not None:
        bays = machine.bays
        held = [b for b in bays if b.holds is not None]
        more |= {
            "machine_kind": machine.kind or "other",
            "free_bay": len(bays) > max(1, len(held)),
            "removable": not bays or any(b.kind != "soldered" for b in bays),
        }
    more |= _of_parts(machine, parts, survey.used_bytes if survey is not None else 0)
    return Facts(
        symptoms=frozenset(case.symptoms),
        must_survive=case.must_survive,
        programs=case.programs if case.programs is not None else programs,
        labour=money(str(case.labour_per_hour)),
        currency=case.currency or currency,
        replacement=None if case.replacement_price is None else money(str(case.replacement_price)),
        seats=case.seats,
        budget=None if case.budget is None else money(str(case.budget)),
        notes=notes,
        **more,  # type: ignore[arg-type]
    )


def _of_survey(survey: Survey) -> dict[str, object]:
    volumes = [p for p in survey.partitions if p.volume.kind != "none"]
    systems = [p for p in survey.partitions if p.role in ("startup", "reserved", "system", "recovery")]
    full = [p for p in volumes if p.volume.understood and p.volume.size_bytes and p.role in ("system", "data")]
    return {
        "used_bytes": survey.used_bytes,
        "system_bytes": sum(p.volume.used_bytes for p in systems),
        "size_bytes": survey.drive.size_bytes,
        "read_class": "rotational" if survey.drive.rotational else survey.drive.bus,
        "mechanical": survey.drive.rotational,
        "is_empty": survey.used_bytes == 0 and not any(p.volume.encrypted for p in volumes),
        "understood": bool(volumes) and all(p.volume.understood or p.volume.encrypted for p in volumes),
        "encrypted": any(p.volume.encrypted for p in volumes),
        "unclean": any(p.volume.dirty or p.volume.hibernated for p in volumes),
        "fill_percent": max((100 * p.volume.used_bytes / p.volume.size_bytes for p in full), default=0.0),
    }


def _of_parts(machine: Machine | None, parts: tuple[Part, ...], used_bytes: int = 0) -> dict[str, object]:
    """The drive that is put where the system starts, of several the one that Fit proposes; without a machine, the
    largest."""
    drives = [p for p in parts if p.kind == "drive"]
    if not drives:
        return {"offered": False}
    if machine is None or not machine.bays:
        best = max(drives, key=lambda p: p.capacity_gb or 0)
        cost = best.cost or Decimal(0)
    else:
        held = {b.holds for b in machine.bays}
        several = [d for d in drives if d.id not in held]
        best_of = _proposed(machine, several, parts, used_bytes) if len(several) > 1 else None
        if best_of is not None:
            return _bought(best_of.system.part, best_of.cost + _memory_cost(machine, parts))
        answer = fit(machine, parts)
        starts = {b.name for b in machine.bays if b.starts_system is not False}
        chosen = [a for a in answer.assignment if a.part not in held and a.part in {p.id for p in drives}]
        if not chosen:
            return {"offered": True, "fits": False}
        by_id = {p.id: p for p in drives}
        first = max(chosen, key=lambda a: (a.bay in starts, by_id[a.part].read_bytes_per_s or 0))
        best = by_id[first.part]
        cost = Decimal(answer.cost)
    return _bought(best, cost)


def _proposed(machine: Machine, drives: list[Part], parts: tuple[Part, ...], used_bytes: int) -> DriveSet | None:
    """Of several drives those that Fit would propose; None where none has room or a price."""
    near = [p for p in parts if p.kind in ("adapter", "caddy")]
    near += [p for p in parts if p.id in {b.holds for b in machine.bays}]
    needed = int(used_bytes * 100 / judgement().fill_caution_percent)
    table = matrix(machine, drives, near, None)
    prices = {p.id: p.cost for p in parts}
    sets = worth_having(likely(table, prices), prices, needed)
    return proposed(sets, None, int(used_bytes * fit_numbers().set.grow)) or proposed(sets, None)


def _memory_cost(machine: Machine, parts: tuple[Part, ...]) -> Decimal:
    memory = fit_memory(parts, machine.memory, None)
    by_id = {p.id: p for p in parts}
    return sum((by_id[i].cost or Decimal(0) for i in memory.placed), Decimal(0)) if memory is not None else Decimal(0)


def _bought(best: Part, cost: Decimal) -> dict[str, object]:
    """What the model hears of the drive on which the system will be."""
    return {
        "offered": True,
        "fits": True,
        "new_bytes": nominal_bytes(round(best.capacity_gb)) if best.capacity_gb else None,
        "new_cost": cost,
        "new_class": best.interface if best.interface in ("sata", "nvme", "pata", "emmc") else "sata",
    }
