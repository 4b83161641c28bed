"""The same work for many machines: upgrade against replacement, what a budget covers, break-even, and batches.

Sums of n seats: n times the mean, and the square root of n times the spread, of 20,000 draws of one seat. A batch fills
the docks there are: hands go from one machine to the next, copies run beside each other, so that it takes
max(d x hands, hands + alone) for d docks.
"""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from decimal import ROUND_HALF_UP, Decimal

from neogenesis.core.csv_rows import plain_row
from neogenesis.core.decide.case import Facts
from neogenesis.core.decide.numbers import numbers
from neogenesis.core.decide.times import percentiles
from neogenesis.core.decide.way import Way
from neogenesis.core.decide.ways import Considered, consider
from neogenesis.core.errors import BadArgument

_CENT = Decimal("0.01")
#: Standard deviations from the middle to the 10th and 90th percentile of the normal law.
_Z = 1.2816
_MOST_SEATS = 1_000_000
_MOST_BATCHES_NAMED = 200

Span = tuple[float, float, float]
Cash = tuple[Decimal, Decimal, Decimal]


@dataclass(frozen=True, slots=True)
class Seats:
    """`count` machines of one kind; `parts` is what one of them needs in parts."""

    title: str
    kind: str
    count: int
    parts: Decimal


@dataclass(frozen=True, slots=True)
class SeatsCost:
    """For one seat, at the 10th, 50th and 90th percentile: money, and seconds with hands on it and alone."""

    seats: Seats
    cost: Cash
    hands_s: Span
    alone_s: Span


@dataclass(frozen=True, slots=True)
class Batch:
    """Machines by title and number that are worked on together, and when, from the first on."""

    machines: tuple[tuple[str, int], ...]
    start_s: float
    end_s: float


@dataclass(frozen=True, slots=True)
class Fleet:
    """Money for all seats. `covered` is how many of them a budget pays for with the way, `covered_replaced` with other
    machines; `break_even` the price of another machine at which both cost the same for a seat."""

    rows: tuple[SeatsCost, ...]
    total: Cash
    replacement: Decimal | None
    spares: Decimal
    covered: int | None
    covered_replaced: int | None
    break_even: Decimal
    batches: tuple[Batch, ...]
    span_s: Span
    hands_s: Span

    @property
    def seats(self) -> int:
        return sum(row.seats.count for row in self.rows)


def fleet(
    facts: Facts, way: Way, seats: Sequence[Seats], docks: int, replacement: Decimal | None, budget: Decimal | None
) -> Fleet:
    """Raises BadArgument without a machine or a dock."""
    seats = [s for s in seats if s.count > 0]
    if not seats:
        raise BadArgument("There is no machine in the fleet.", "Type how many there are.")
    if docks < 1:
        raise BadArgument("Without a dock nothing can be copied.", "Type how many docks there are.")
    if sum(s.count for s in seats) > _MOST_SEATS:
        raise BadArgument(f"More than {_MOST_SEATS} machines are not counted.", "Type fewer.")
    rows = tuple(_row(facts, way, one) for one in seats)
    total = _total(facts, rows)
    count = sum(s.count for s in seats)
    middle = total[1] / count
    spares = sum((r.seats.parts * r.seats.count for r in rows), Decimal(0))
    batches = _batches(rows, docks)
    hands = _hands(rows)
    return Fleet(
        rows=rows,
        total=total,
        replacement=None if replacement is None else replacement * count,
        spares=_cents(spares * Decimal(str(numbers().weigh.spares_percent)) / 100),
        covered=_covered([(r.cost[1], r.seats.count) for r in rows], budget),
        covered_replaced=None if replacement is None else _covered([(replacement, count)], budget),
        break_even=_cents(middle),
        batches=batches,
        span_s=_span(rows, docks, hands),
        hands_s=hands,
    )


def as_csv(found: Fleet) -> str:
    """What each kind of machine costs, and below it the batches; money as decimal text, times in seconds."""
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(("machine", "seats", "cost_p10", "cost_p50", "cost_p90", "hands_p50_s", "alone_p50_s"))
    for r in found.rows:
        hours = (f"{r.hands_s[1]:.0f}", f"{r.alone_s[1]:.0f}")
        rows.writerow(plain_row((r.seats.title, r.seats.count, *r.cost, *hours)))
    rows.writerow(())
    rows.writerow(("batch", "machines", "start_s", "end_s"))
    for n, b in enumerate(found.batches, 1):
        machines = "; ".join(f"{count} {title}" for title, count in b.machines)
        rows.writerow(plain_row((n, machines, f"{b.start_s:.0f}", f"{b.end_s:.0f}")))
    return out.getvalue()


def _row(facts: Facts, way: Way, seats: Seats) -> SeatsCost:
    one = consider(way, replace(facts, machine_kind=seats.kind or "other"))
    hands = percentiles([p for p in one.pieces if p.hands])
    alone = percentiles([p for p in one.pieces if not p.hands])
    parts = seats.parts if _buys(one) else one.parts_cost
    low, middle, high = (_cents(parts + _labour(s, facts.labour)) for s in hands)
    return SeatsCost(seats, (low, middle, high), hands, alone)


def _buys(one: Considered) -> bool:
    return one.way not in ("do-less", "replace-machine")


def _labour(seconds: float, hourly: Decimal) -> Decimal:
    return Decimal(str(seconds)) / 3600 * hourly


def _cents(amount: Decimal) -> Decimal:
    return amount.quantize(_CENT, ROUND_HALF_UP)


def _total(facts: Facts, rows: Sequence[SeatsCost]) -> Cash:
    """The labour of many seats varies less than that of one: the square root of their number."""
    middle = sum((r.cost[1] * r.seats.count for r in rows), Decimal(0))
    variance = sum(((r.hands_s[2] - r.hands_s[0]) / (2 * _Z)) ** 2 * r.seats.count for r in rows)
    spread = _labour(_Z * math.sqrt(variance), facts.labour)
    return _cents(max(Decimal(0), middle - spread)), _cents(middle), _cents(middle + spread)


def _hands(rows: Sequence[SeatsCost]) -> Span:
    middle = sum(r.hands_s[1] * r.seats.count for r in rows)
    spread = _Z * math.sqrt(sum(((r.hands_s[2] - r.hands_s[0]) / (2 * _Z)) ** 2 * r.seats.count for r in rows))
    return max(0.0, middle - spread), middle, middle + spread


def _covered(costs: Sequence[tuple[Decimal, int]], budget: Decimal | None) -> int | None:
    """How many seats a budget pays for, the cheapest first; all where they cost nothing."""
    if budget is None:
        return None
    left, covered = budget, 0
    for cost, count in sorted(costs):
        able = count if cost <= 0 else min(count, int(left // cost))
        covered += able
        left -= cost * able
    return covered


def _queue(rows: Sequence[SeatsCost]) -> list[tuple[SeatsCost, int]]:
    """Those that run longest alone first, so that no long one is left over at the end."""
    return [(r, r.seats.count) for r in sorted(rows, key=lambda r: -r.alone_s[1])]


def _filled(rows: Sequence[SeatsCost], docks: int) -> list[tuple[list[tuple[SeatsCost, int]], int]]:
    """Batches of machines and numbers; equal ones that follow each other stand once, with how often."""
    found: list[tuple[list[tuple[SeatsCost, int]], int]] = []
    now: list[tuple[SeatsCost, int]] = []
    room = docks
    for row, count in _queue(rows):
        left = count
        if now:
            some = min(room, left)
            now.append((row, some))
            room, left = room - some, left - some
            if not room:
                found.append((now, 1))
                now, room = [], docks
        whole = left // docks if not now else 0
        if whole:
            found.append(([(row, docks)], whole))
            left -= whole * docks
        if left:
            now.append((row, left))
            room -= left
    if now:
        found.append((now, 1))
    return found


def _batch_s(batch: Sequence[tuple[SeatsCost, int]], at: int) -> float:
    hands = sum(r.hands_s[at] * n for r, n in batch)
    first = batch[0][0]
    return max(hands, max(r.alone_s[at] for r, _ in batch) + first.hands_s[at])


def _span(rows: Sequence[SeatsCost], docks: int, hands: Span) -> Span:
    """Of all batches, which vary independently; never less than the hands that it takes."""
    filled = _filled(rows, docks)
    middle = sum(_batch_s(batch, 1) * times for batch, times in filled)
    variance = sum(((_batch_s(b, 2) - _batch_s(b, 0)) / (2 * _Z)) ** 2 * times for b, times in filled)
    spread = _Z * math.sqrt(variance)
    low, high = max(hands[0], middle - spread), max(hands[2], middle + spread)
    return low, max(hands[1], middle), high


def _batches(rows: Sequence[SeatsCost], docks: int) -> tuple[Batch, ...]:
    """One after the other, by the middle times; of a great many only the first are named."""
    found: list[Batch] = []
    at = 0.0
    for batch, times in _filled(rows, docks):
        for _ in range(min(times, _MOST_BATCHES_NAMED - len(found))):
            end = at + _batch_s(batch, 1)
            found.append(Batch(tuple((r.seats.title, n) for r, n in batch), at, end))
            at = end
    return tuple(found)
