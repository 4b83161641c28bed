"""Parts against a machine as a whole: the matrix, the memory, the best assignment, and what it costs."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import ClassVar

import msgspec

from neogenesis.core.errors import BadRecord
from neogenesis.core.fit.assign import assign
from neogenesis.core.fit.match import Match, Reason, usable_bytes
from neogenesis.core.fit.matrix import Matrix, matrix
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
    table, answer = _judged(machine, parts, budget)
    return msgspec.structs.replace(answer, fits=tuple(map(_row, table.all())))


def fit_in_pieces(machine: Machine, parts: Sequence[Part], budget: Decimal | None = None) -> Iterator[bytes]:
    """As `fit`, as JSON in pieces: memory does not grow with the number of pairs. Raises BadRecord before the first."""
    table, answer = _judged(machine, parts, budget)
    head = msgspec.json.encode(answer)
    before, _, after = head.partition(b'"fits":[]')
    yield before + b'"fits":[\n'
    rows = _rows_as_json(table)
    yield next(rows, b"")
    for row in rows:
        yield b",\n" + row
    yield b"]" + after + b"\n"


def _rows_as_json(table: Matrix) -> Iterator[bytes]:
    """What is alike is judged, and put into words, once for each bay."""
    known: dict[tuple[int, int], bytes] = {}
    encode, budget = msgspec.json.encode, table.budget
    beside = sum((p.cost or Decimal(0) for p in table.near if p.kind in BESIDE), Decimal(0))  # the most that is needed
    names = [encode(bay.name) for bay in table.bays]
    for p, part in enumerate(table.parts):
        kind, own, usable = int(table.kind_of[p]), encode(part.id), encode(usable_bytes(part))
        special = budget is not None and part.cost is not None and part.cost + beside > budget
        rates = table.rates[p].tolist()
        for b, bay in enumerate(table.bays):
            middle = None if special or bay.holds == part.id else known.get((kind, b))
            if middle is None:
                row = _row(table.match(p, b))
                middle = b'"verdict":%b,"reasons":%b,"needs":%b,' % (
                    encode(row.verdict),
                    encode(row.reasons),
                    encode(row.needs),
                )
                if not special and bay.holds != part.id:
                    known[kind, b] = middle
            against = middle.startswith(b'"verdict":"does-not-fit"')
            rate = b"null" if against or math.isnan(rates[b]) else encode(rates[b])
            yield b'{"part":%b,"bay":%b,%b"effective_read_bytes_per_s":%b,"usable_bytes":%b}' % (
                own,
                names[b],
                middle,
                rate,
                usable,
            )


def _judged(machine: Machine, parts: Sequence[Part], budget: Decimal | None) -> tuple[Matrix, Fit]:
    """The table of pairs, and the answer without them."""
    every = tuple(parts)
    counts = Counter(p.id for p in every)
    twice = sorted(i for i, count in counts.items() if count > 1)
    if twice:
        raise BadRecord(f"More than one part has the id {', '.join(twice)}.", "Give each its own, or a stock.")
    currency = one_currency(every)
    helpers = [p for p in every if p.kind in BESIDE]
    held = {bay.holds for bay in machine.bays if bay.holds}
    near = [*helpers, *(p for p in every if p.id in held)]
    drives = [p for p in every if p.kind == "drive"]
    table = matrix(machine, drives, near, budget)
    prices = {p.id: p.cost for p in every}
    few = len(drives) * len(machine.bays) <= _FEW_PAIRS
    able = table.all() if few else table.worth_trying([p.cost or Decimal(0) for p in drives])
    chosen = assign(able, prices, budget)
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
    left = [n for n, p in enumerate(drives) if p.id not in done]
    answer = Fit(
        fits=(),
        memory=_memory(memory),
        assignment=tuple(placed),
        cost=f"{total:.2f}",
        currency=currency,
        cost_without=tuple(without),
        unassigned=(*(drives[n].id for n in left), *(memory.left if memory is not None else ())),
        unassigned_reasons=tuple(_why_left(left, table)),
    )
    return table, answer


def _without(modules: Sequence[str], there: Sequence[str]) -> list[str]:
    """Those that are not in the machine already."""
    left, bought = list(there), []
    for one in modules:
        if one in left:
            left.remove(one)
        else:
            bought.append(one)
    return bought


def _why_left(left: Sequence[int], table: Matrix) -> Iterator[SaidReason]:
    """Of drives that fit somewhere and were not placed; what keeps others out stands at each pair."""
    able = [bool(row.any()) for row in table.verdicts]
    for number in left:
        part = table.parts[number]
        if not able[number]:
            continue
        if not part.pieces:
            yield SaidReason(part=part.id, code="stock", text="there is none in stock")
        elif table.budget is not None:
            text = f"others are better within the budget of {table.budget}"
            yield SaidReason(part=part.id, code="budget", text=text)
        else:
            yield SaidReason(part=part.id, code="occupied", text="every bay that takes it has a better use")


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
