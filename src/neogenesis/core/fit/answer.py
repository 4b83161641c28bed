"""Parts against a machine as a whole: the matrix, the memory, the best assignment, and what it costs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import ClassVar

from neogenesis.core.errors import BadRecord
from neogenesis.core.fit.assign import assign
from neogenesis.core.fit.match import Match, Reason
from neogenesis.core.fit.matrix import matrix
from neogenesis.core.fit.memory import MemoryFit, fit_memory
from neogenesis.core.fit.part import BESIDE, Part, one_currency
from neogenesis.core.machine import Machine
from neogenesis.core.record import Record

#: As many pairs are tried as they are; of more, only those that can matter.
_FEW_PAIRS = 400


class SaidReason(Record, frozen=True, kw_only=True):
    """`part` is named where several share a list; `severity` is `against`, `caution` or `unstated`."""

    code: str
    text: str
    part: str = ""
    severity: str = "against"


class FitRow(Record, frozen=True, kw_only=True):
    part: str
    bay: str
    verdict: str
    reasons: tuple[SaidReason, ...]
    needs: tuple[str, ...]
    effective_read_bytes_per_s: float | None
    usable_bytes: int | None


class MemoryRow(Record, frozen=True, kw_only=True):
    verdict: str
    reasons: tuple[SaidReason, ...]
    effective_mt_s: float | None
    total_gb: float | None
    dual_channel: bool | None = None


class Placed(Record, frozen=True, kw_only=True):
    part: str
    bay: str


class Fit(Record, frozen=True, kw_only=True):
    """The answer of `neogenesis fit`. `cost` is decimal text; `cost_without` names what is needed and has no price."""

    SCHEMA: ClassVar[str] = "neogenesis.fit/1"

    schema: str = SCHEMA
    fits: tuple[FitRow, ...]
    memory: MemoryRow | None
    assignment: tuple[Placed, ...]
    cost: str
    currency: str
    cost_without: tuple[str, ...]
    unassigned: tuple[str, ...]
    unassigned_reasons: tuple[SaidReason, ...] = ()


def fit(machine: Machine, parts: Sequence[Part], budget: Decimal | None = None) -> Fit:
    """Every drive against every bay, and the best assignment. Raises BadRecord for ids that stand twice."""
    every = tuple(parts)
    ids = [p.id for p in every]
    twice = sorted({i for i in ids if ids.count(i) > 1}) if len(set(ids)) < len(ids) else []
    if twice:
        raise BadRecord(f"More than one part has the id {', '.join(twice)}.", "Give each its own, or a stock.")
    currency = one_currency(every)
    helpers = [p for p in every if p.kind in BESIDE]
    held = {bay.holds for bay in machine.bays if bay.holds}
    near = [*helpers, *(p for p in every if p.id in held)]
    drives = [p for p in every if p.kind == "drive"]
    table = matrix(machine, drives, near, budget)
    rows = table.all()
    prices = {p.id: p.cost for p in every}
    few = len(rows) <= _FEW_PAIRS
    chosen = assign(rows if few else table.worth_trying([p.cost or Decimal(0) for p in drives]), prices, budget)
    spent = _cost(chosen, prices, {p.id: p.pieces for p in helpers})
    memory = fit_memory(every, machine.memory, None if budget is None else budget - spent[0])
    placed_modules = memory.placed if memory is not None else ()
    there = machine.memory.present if machine.memory is not None else ()
    modules = _without(placed_modules, there)
    total = spent[0] + sum((prices[i] or Decimal(0) for i in modules), Decimal(0))
    without = [*spent[1], *(f"price of {i}" for i in modules if prices[i] is None)]
    placed = [Placed(part=m.part.id, bay=m.bay.name) for m in chosen]
    placed += [Placed(part=i, bay=f"memory {n}") for n, i in enumerate(placed_modules, 1)]
    done = {p.part for p in placed}
    left = [p.id for p in every if p.kind == "drive" and p.id not in done]
    return Fit(
        fits=tuple(map(_row, rows)),
        memory=_memory(memory),
        assignment=tuple(placed),
        cost=f"{total:.2f}",
        currency=currency,
        cost_without=tuple(without),
        unassigned=(*left, *(memory.left if memory is not None else ())),
        unassigned_reasons=tuple(_why_left(left, rows, budget)),
    )


def _without(modules: Sequence[str], there: Sequence[str]) -> list[str]:
    """Those that are not in the machine already."""
    left, bought = list(there), []
    for one in modules:
        if one in left:
            left.remove(one)
        else:
            bought.append(one)
    return bought


def _why_left(left: Sequence[str], rows: Sequence[Match], budget: Decimal | None) -> Iterator[SaidReason]:
    """Of drives that fit somewhere and were not placed; what keeps others out stands at each pair."""
    for part in left:
        able = [m for m in rows if m.part.id == part and m.verdict != "does-not-fit"]
        if not able:
            continue
        if not able[0].part.pieces:
            yield SaidReason(part=part, code="stock", text="there is none in stock")
        elif budget is not None:
            yield SaidReason(part=part, code="budget", text=f"others are better within the budget of {budget}")
        else:
            yield SaidReason(part=part, code="occupied", text="every bay that takes it has a better use")


def _cost(
    chosen: Sequence[Match], prices: dict[str, Decimal | None], pieces: dict[str, int]
) -> tuple[Decimal, list[str]]:
    """What the chosen parts cost with what they need, and what of it has no price; what is in stock is spent once."""
    total, without = Decimal(0), []
    left = dict(pieces)
    for one in chosen:
        if one.bay.holds == one.part.id:
            continue  # it is in the machine already
        if one.part.cost is None:
            without.append(f"price of {one.part.id}")
        total += one.part.cost or Decimal(0)
        for need in one.needs:
            found = next((i for i in need.ids if left.get(i, 0)), None)
            price = prices.get(found) if found is not None else None
            if found is not None:
                left[found] -= 1
            if price is None:
                without.append(need.text)
            total += price or Decimal(0)
    return total, without


def _row(one: Match) -> FitRow:
    rate = one.effective_read_bytes_per_s
    return FitRow(
        part=one.part.id,
        bay=one.bay.name,
        verdict=one.verdict,
        reasons=tuple(_said(r) for r in one.reasons),
        needs=tuple(n.text for n in one.needs if not n.optional),
        effective_read_bytes_per_s=rate,
        usable_bytes=one.usable_bytes,
    )


def _said(reason: Reason, part: str = "") -> SaidReason:
    return SaidReason(code=reason.code, text=reason.text, part=part, severity=reason.severity)


def _memory(found: MemoryFit | None) -> MemoryRow | None:
    if found is None:
        return None
    return MemoryRow(
        verdict=found.verdict,
        reasons=tuple(_said(r, i) for i, r in found.reasons),
        effective_mt_s=found.effective_mt_s,
        total_gb=found.total_gb,
        dual_channel=found.dual_channel,
    )
