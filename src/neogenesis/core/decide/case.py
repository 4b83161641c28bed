"""A case as people write it, and the facts that are read out of what it names."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from typing import ClassVar, Literal, get_args

import msgspec

from neogenesis.core.drive import Health
from neogenesis.core.errors import BadRecord
from neogenesis.core.fit import Part, fit
from neogenesis.core.fit.matrix import matrix
from neogenesis.core.fit.memory import fit_memory
from neogenesis.core.fit.numbers import numbers as fit_numbers
from neogenesis.core.fit.part import BESIDE, money, one_currency
from neogenesis.core.fit.sets import DriveSet, likely, proposed, worth_having
from neogenesis.core.judgement import judgement
from neogenesis.core.machine import Machine
from neogenesis.core.record import StrictRecord, strict_from_json
from neogenesis.core.survey import Survey
from neogenesis.core.survey.filling import Filling
from neogenesis.core.swap.path import path_of
from neogenesis.core.units import nominal_bytes

Symptom = Literal[
    "slow",
    "no-start",
    "loop",
    "freezes",
    "noise",
    "dropped",
    "full",
    "malware",
    "ransomware",
    "no-system",
    "wants-room",
    "wet",
]
SYMPTOMS: frozenset[str] = frozenset(get_args(Symptom))
Key = Literal["held", "none", "unknown"]
Backup = Literal["checked", "said", "none", ""]
_MOST = 1_000_000
MustSurvive = Literal["everything", "files", "nothing"]
#: What stands in these nobody understands until a survey has: only an exact copy is safe.
_FORMATS_OF_THEIR_OWN = ("appliance", "vehicle")


class Case(StrictRecord, frozen=True, kw_only=True):
    """Paths are relative to the file. Money is decimal text.

    `fills` are counts of what fills its volumes; `key` is that of an encrypted volume; `backup` one that was checked,
    one that is only spoken of, or none.
    """

    SCHEMA: ClassVar[str] = "neogenesis.case/1"

    schema: str
    survey: str | None = None
    fills: tuple[str, ...] = ()
    health: str | None = None
    machine: str | None = None
    parts: tuple[str, ...] = ()
    symptoms: tuple[Symptom, ...] = ()
    must_survive: MustSurvive = "everything"
    key: Key = "unknown"
    backup: Backup = ""
    programs: int | None = None
    labour_per_hour: str | float = "0"
    currency: str | None = None
    replacement_price: str | float | None = None
    seats: int = 1
    budget: str | float | None = None


def read_case(text: bytes, what: str = "case") -> Case:
    """A case from its JSON; raises BadRecord that names every fault."""
    return strict_from_json(text, Case, what, _faults)


def _faults(case: Case) -> Iterator[str]:
    for name in ("labour_per_hour", "replacement_price", "budget"):
        value = getattr(case, name)
        if value is not None:
            try:
                if money(str(value)) < 0:
                    yield f"“{name}” is negative"
            except InvalidOperation:
                yield f"“{name}” is no amount of money: “{value}”"
    if case.seats < 1:
        yield "“seats” is less than one"
    if case.programs is not None and case.programs < 0:
        yield "“programs” is negative"
    yield from (
        f"“{name}” is more than {_MOST}" for name in ("seats", "programs") if (getattr(case, name) or 0) > _MOST
    )


@dataclass(frozen=True, slots=True)
class Facts:
    """Everything that the model works with. Bytes, and exact money; None where nobody knows.

    `new_bytes` is the capacity of the best drive that fits, `new_cost` what it costs with what it needs (memory too, of
    which `memory_cost` is the part); `new_cache` is how many bytes it takes at full speed, and what it sustains then;
    `fits` tells whether any was offered that does, and `priced` whether its price is known; `driveless` that the
    machine came without any drive as far as is known. `opening_seconds` is what the machine's own steps come to,
    open and closed. `cable` and `heat` are what health found beside the drive. `imaged`
    tells that the old drive was read as a whole already: an image or a rescue is the source from now on. `waiting` is
    what an hour of waiting is worth to the customer; `own_seconds` what somebody said that a piece of work takes here;
    `factors` how much longer a kind of work takes in this shop than is usual. `not_here_bytes` are in an account and
    not on the drive. `recovery` tells whether a partition of that kind is there. `notes` are what was strange about it.
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
    recovery: bool | None = None
    health: str = "unknown"
    cable: bool = False
    heat: bool = False
    key: Key = "unknown"
    backup: Backup = ""
    image_first: bool = False
    imaged: bool = False
    programs: int | None = None
    not_here_bytes: int = 0
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
    priced: bool = True
    driveless: bool = False
    new_class: str = "sata"
    new_cache: tuple[float, float] | None = None
    memory_cost: Decimal = Decimal(0)
    opening_seconds: float | None = None
    waiting: Decimal | None = None
    own_seconds: tuple[tuple[str, float], ...] = ()
    factors: tuple[tuple[str, float], ...] = ()
    notes: tuple[str, ...] = ()

    @property
    def is_hurt(self) -> bool:
        """Water, a fall or a noise that only a mechanical drive makes; of what is not known the worse is taken."""
        return "wet" in self.symptoms or (self.mechanical is not False and bool(self.symptoms & {"noise", "dropped"}))

    @property
    def images_first(self) -> bool:
        """Whether it is read once, gently, and the image decides: failing by its readings, or hurt."""
        return self.image_first or self.is_hurt

    @property
    def needs_laboratory(self) -> bool:
        """Whether what is only on it is not risked on a bench: hurt or silent, without a backup that was checked."""
        lost = self.health == "lost-cause" or self.is_hurt
        precious = self.must_survive != "nothing" and "no-system" not in self.symptoms and not self.is_empty
        return lost and precious and self.backup != "checked" and not self.imaged

    @property
    def causes(self) -> tuple[str, ...]:
        """What makes it slow, or noisy, beside the drive itself: `cable`, `heat`, `full`, `no-drive-noise`."""
        slow = bool(self.symptoms & {"slow", "freezes"})
        found = {
            "cable": self.cable and slow,
            "heat": self.heat and slow and self.mechanical is not True,
            "full": slow and self.mechanical is False and self.fill_percent >= judgement().why.full_percent,
            "no-drive-noise": "noise" in self.symptoms and self.mechanical is False,
        }
        return tuple(cause for cause, is_so in found.items() if is_so)

    @property
    def cause_is_beside(self) -> bool:
        """Whether no other drive would change anything."""
        return bool(set(self.causes) - {"full"})


def facts_of(
    case: Case,
    survey: Survey | None,
    health: Health | None,
    machine: Machine | None,
    parts: tuple[Part, ...],
    programs: int | None = None,
    notes: tuple[str, ...] = (),
    fillings: Iterable[Filling] = (),
) -> Facts:
    """What a case comes down to. `programs` is what a survey counted, for a case that does not say; `fillings` are
    counts of files.

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
        more |= _of_health(verdict)
    if machine is not None:
        bays = machine.bays
        held = [b for b in bays if b.holds is not None]
        starting = [b for b in bays if b.starts_system] or list(bays)
        more |= {
            "machine_kind": machine.kind or "other",
            "free_bay": len(bays) > max(1, len(held)),
            "removable": not bays or any(b.kind != "soldered" for b in starting),
            "opening_seconds": _opening_of(machine),
        }
        if machine.kind in _FORMATS_OF_THEIR_OWN and not (survey is not None and more.get("understood")):
            more["understood"] = False
    more["driveless"] = survey is None and not (machine is not None and any(b.holds for b in machine.bays))
    more |= _of_parts(machine, parts, survey.used_bytes if survey is not None else 0)
    return Facts(
        symptoms=frozenset(case.symptoms),
        must_survive=case.must_survive,
        key=case.key,
        backup=case.backup,
        programs=case.programs if case.programs is not None else programs,
        not_here_bytes=sum(one.not_here_bytes for one in fillings),
        labour=money(str(case.labour_per_hour)),
        currency=case.currency or currency,
        replacement=None if case.replacement_price is None else money(str(case.replacement_price)),
        seats=case.seats,
        budget=None if case.budget is None else money(str(case.budget)),
        notes=notes,
        **more,  # type: ignore[arg-type]
    )


def _opening_of(machine: Machine) -> float | None:
    """Seconds that the guide plans for opening it for its drive and closing it again; None without usable steps."""
    try:
        return sum(row.seconds for row in path_of(machine, ("open", "drive")).rows) or None
    except BadRecord:
        return None


def _of_health(health: Health) -> dict[str, object]:
    """The verdict, and beside it what is no fault of the drive: for heat or a cable alone none is sold."""
    cable = sum(r.value or 0 for r in health.reasons if r.code == "cable")
    only_beside = health.verdict == "ageing" and health.only_beside
    return {
        "health": "sound" if only_beside else health.verdict,
        "image_first": health.image_first or health.is_failing,
        "cable": cable >= judgement().cable_errors,
        "heat": any(r.code == "hot" for r in health.reasons),
    }


def _of_survey(survey: Survey) -> dict[str, object]:
    volumes = [p for p in survey.partitions if p.volume.kind != "none"]
    systems = [p for p in survey.partitions if p.role in ("startup", "reserved", "system", "recovery")]
    unknown = [p for p in survey.partitions if p.volume.kind == "none" and p.role in ("system", "data", "unknown")]
    full = [p for p in volumes if p.volume.understood and p.volume.size_bytes and p.role in ("system", "data")]
    return {
        "used_bytes": survey.used_bytes,
        "system_bytes": sum(p.volume.used_bytes for p in systems),
        "size_bytes": survey.drive.size_bytes,
        "read_class": "rotational" if survey.drive.rotational else survey.drive.bus,
        "mechanical": survey.drive.mechanical,
        "is_empty": survey.used_bytes == 0 and all(p.volume.understood for p in volumes) and not unknown,
        "understood": (bool(volumes) and all(p.volume.understood or p.volume.encrypted for p in volumes))
        and not unknown,
        "encrypted": any(p.volume.encrypted for p in volumes),
        "unclean": any(p.volume.dirty or p.volume.hibernated for p in volumes),
        "recovery": any(p.role == "recovery" for p in survey.partitions),
        "fill_percent": max((100 * p.volume.used_bytes / p.volume.size_bytes for p in full), default=0.0),
    }


def _of_parts(machine: Machine | None, parts: tuple[Part, ...], used_bytes: int = 0) -> dict[str, object]:
    """The drive that is put where the system starts, of several the one that Fit proposes; without a machine, the
    largest."""
    drives = [p for p in parts if p.kind == "drive"]
    if not drives:
        memory = _memory_cost(machine, parts) if machine is not None else Decimal(0)
        return {"offered": False, "memory_cost": memory}
    if machine is None or not machine.bays:
        best = max(drives, key=lambda p: p.capacity_gb or 0)
        return _bought(best, best.cost or Decimal(0))
    held = {b.holds for b in machine.bays}
    several = [d for d in drives if d.id not in held]
    best_of = _proposed(machine, several, parts, used_bytes) if len(several) > 1 else None
    if best_of is not None:
        memory = _memory_cost(machine, parts)
        return _bought(best_of.system.part, best_of.cost + memory, memory)
    answer = fit(machine, parts)
    starts = {b.name for b in machine.bays if b.starts_system is not False}
    chosen = [a for a in answer.assignment if a.part not in held and a.part in {p.id for p in drives}]
    if not chosen:
        return {"offered": True, "fits": False}
    by_id = {p.id: p for p in drives}
    first = max(chosen, key=lambda a: (a.bay in starts, by_id[a.part].read_bytes_per_s or 0))
    best = by_id[first.part]
    memory = _memory_cost(machine, parts)
    one = msgspec.structs.replace(best, stock=1)
    near = tuple(p for p in parts if p.kind in BESIDE or (p.id in held and p.id != best.id))
    return _bought(best, Decimal(fit(machine, (one, *near)).cost) + memory, memory)


def _proposed(machine: Machine, drives: list[Part], parts: tuple[Part, ...], used_bytes: int) -> DriveSet | None:
    """Of several drives those that Fit would propose; None where none has room or a price."""
    near = [p for p in parts if p.kind in BESIDE]
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


def _bought(best: Part, cost: Decimal, memory: Decimal = Decimal(0)) -> dict[str, object]:
    """What the model hears of the drive on which the system will be."""
    return {
        "offered": True,
        "fits": True,
        "new_bytes": nominal_bytes(round(best.capacity_gb)) if best.capacity_gb else None,
        "new_cost": cost,
        "priced": best.cost is not None,
        "memory_cost": memory,
        "new_cache": _cache_of(best),
        "new_class": best.interface if best.interface in ("sata", "nvme", "pata", "emmc") else "sata",
    }


def _cache_of(part: Part) -> tuple[float, float] | None:
    """Only of a drive that says both, and is slower behind its cache."""
    if part.cache_bytes and part.sustained_write_bytes_per_s:
        return part.cache_bytes, part.sustained_write_bytes_per_s
    return None
