"""The recommendation: every way weighed, one recommended, the runner-up, and what would change the choice."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from decimal import ROUND_HALF_UP, Decimal
from typing import Any, ClassVar, Literal

from neogenesis.core.decide.case import Facts
from neogenesis.core.decide.connections import Link, connections
from neogenesis.core.decide.numbers import numbers
from neogenesis.core.decide.schools import for_copying, for_starting_clean
from neogenesis.core.decide.times import hands_middle, middle_seconds, percentiles
from neogenesis.core.decide.way import WAYS, Connection, Way
from neogenesis.core.decide.ways import Considered, consider, kind_of, life_percent
from neogenesis.core.record import Record

_CENT = Decimal("0.01")
_MOST_CHANGES = 8
#: What nobody asks for as a second choice.
_NO_SECOND: tuple[Way, ...] = ("refer", "nothing-yet")


class PriceItem(Record, frozen=True, kw_only=True):
    """A part of the price as decimal text; `chosen` is False where it is the least of what is still to be chosen."""

    what: str
    amount: str
    chosen: bool


class WayRow(Record, frozen=True, kw_only=True):
    """Times in seconds and money for one seat. `solves`: it does what was asked and keeps what must survive;
    `life_percent` is the share of the old drive's remaining reading that it takes.
    """

    way: Way
    allowed: bool
    reasons: tuple[str, ...]
    seconds_p10: float
    seconds_p50: float
    seconds_p90: float
    hands_on_seconds_p50: float
    openings: int
    connection: Connection
    cost_p50: str
    cost_total_p50: str
    price_items: tuple[PriceItem, ...] = ()
    keeps: tuple[str, ...]
    again: tuple[str, ...]
    risk: Literal["low", "some", "high"]
    risk_percent: float
    solves: bool
    risk_reasons: tuple[str, ...] = ()
    life_percent: float = 0.0
    connections: tuple[Link, ...] = ()


class Decision(Record, frozen=True, kw_only=True):
    """The answer of `neogenesis decide`. `spares` is beside all totals; `notes` are what was strange about the case."""

    SCHEMA: ClassVar[str] = "neogenesis.decision/1"

    schema: str = SCHEMA
    ways: tuple[WayRow, ...]
    recommended: Way
    runner_up: Way | None
    would_change: tuple[str, ...]
    first: Literal["image"] | None
    currency: str
    seats: int
    seats_within_budget: int | None
    spares: str
    notes: tuple[str, ...]
    for_copying: tuple[str, ...] = ()
    for_starting_clean: tuple[str, ...] = ()


def decide(facts: Facts) -> Decision:
    """Weigh all ways for a case."""
    considered = {way: consider(way, facts) for way in WAYS}
    order = ranked(considered, facts)
    chosen = considered[order[0]]
    cost = _cost(chosen, facts)
    return Decision(
        ways=tuple(_row(c, facts) for c in considered.values()),
        recommended=order[0],
        runner_up=_second(order, considered),
        would_change=tuple(_changes(facts, order[0]))[:_MOST_CHANGES],
        first=_first(order[0], facts),
        currency=facts.currency,
        seats=facts.seats,
        seats_within_budget=_within(facts.budget, cost, facts.seats),
        spares=_text(chosen.parts_cost * facts.seats * Decimal(numbers().weigh.spares_percent) / 100),
        notes=facts.notes,
        for_copying=tuple(for_copying(facts)),
        for_starting_clean=tuple(for_starting_clean(facts)),
    )


def _second(order: Sequence[Way], considered: dict[Way, Considered]) -> Way | None:
    """The next that is allowed; where nothing is tried, only one that solves it as well."""
    for way in order[1:]:
        one = considered[way]
        if one.allowed and way not in _NO_SECOND and (one.solves or order[0] not in _NO_SECOND):
            return way
    return None


def _first(recommended: Way, facts: Facts) -> Literal["image"] | None:
    """A failing drive is imaged whatever the way; one that was hurt is not even started for what a laboratory does."""
    if facts.imaged or not facts.images_first:
        return None
    return "image" if facts.image_first or recommended not in _NO_SECOND else None


def _within(budget: Decimal | None, cost: Decimal, seats: int) -> int | None:
    """How many seats a budget covers; None without one, all of them where they cost nothing."""
    if budget is None:
        return None
    return int(budget // cost) if cost > 0 else seats


def ranked(considered: dict[Way, Considered], facts: Facts) -> list[Way]:
    """Ways from best to worst: what is allowed and solves it, then what is allowed, each by its weight."""

    def key(way: Way) -> tuple[bool, bool, Decimal, int]:
        one = considered[way]
        return (not one.allowed, not one.solves, _weight(one, facts), WAYS.index(way))

    order = sorted(WAYS, key=key)
    new = facts.replacement
    best = considered[order[0]]
    machine = considered["replace-machine"]
    if new is not None and best.way != "replace-machine" and machine.allowed and machine.solves and best.solves:
        share = Decimal(str(numbers().weigh.replace_share))
        if _cost(best, facts) > new * share and facts.must_survive != "everything":
            order.remove("replace-machine")
            order.insert(0, "replace-machine")
    return order


def _weight(one: Considered, facts: Facts) -> Decimal:
    """Money, with waiting, loss and risk in the money of labour; without a price of labour, an hour counts as 40."""
    weigh = numbers().weigh
    hour = facts.labour or Decimal(40)
    worth = facts.waiting if facts.waiting is not None else usual_waiting(hour)
    waiting = Decimal(middle_seconds(one.pieces) / 3600) * worth
    loss = Decimal(str(weigh.loss_minutes)) / 60 * hour * one.again_count
    risk = Decimal(one.risk_percent / 100) * 8 * hour
    return _cost(one, facts) + waiting + loss + risk


def usual_waiting(hour: Decimal) -> Decimal:
    """What an hour of waiting is worth where the customer did not say, for a price of labour."""
    return Decimal(str(numbers().weigh.wait_per_hour)) / 10 * hour


def _cost(one: Considered, facts: Facts) -> Decimal:
    hands = Decimal(hands_middle(one.pieces)) / 3600
    return (one.parts_cost + hands * facts.labour).quantize(_CENT, ROUND_HALF_UP)


def _text(amount: Decimal) -> str:
    return f"{amount.quantize(_CENT, ROUND_HALF_UP)}"


def planned(one: Considered) -> dict[str, tuple[float, float, float]]:
    """Seconds at the 10th, 50th and 90th percentile by kind of work, for comparing with what it took."""
    kinds = dict.fromkeys(kind_of(p) for p in one.pieces)
    return {kind: percentiles([p for p in one.pieces if kind_of(p) == kind]) for kind in kinds}


def _row(one: Considered, facts: Facts) -> WayRow:
    low, middle, high = percentiles(one.pieces)
    risk = numbers().risk
    level: Literal["low", "some", "high"] = "low"
    if one.risk_percent >= risk.above_some:
        level = "high" if one.risk_percent >= risk.above_high else "some"
    cost = _cost(one, facts)
    return WayRow(
        way=one.way,
        allowed=one.allowed,
        reasons=one.reasons,
        seconds_p10=low,
        seconds_p50=middle,
        seconds_p90=high,
        hands_on_seconds_p50=hands_middle(one.pieces),
        openings=one.openings,
        connection=one.connection,
        cost_p50=_text(cost),
        cost_total_p50=_text(cost * facts.seats),
        price_items=_items(one, cost),
        keeps=one.keeps,
        again=one.again,
        risk=level,
        risk_percent=round(one.risk_percent, 1),
        solves=one.solves,
        risk_reasons=one.risk_reasons,
        life_percent=round(life_percent(one, facts), 3),
        connections=connections(one.way, facts),
    )


def _items(one: Considered, cost: Decimal) -> tuple[PriceItem, ...]:
    """Labour and every part; they come to the price exactly."""
    parts = [PriceItem(what=item.what, amount=_text(item.amount), chosen=item.chosen) for item in one.items]
    labour = cost - sum((Decimal(item.amount) for item in parts), Decimal(0))
    return (PriceItem(what="labour", amount=_text(labour), chosen=True), *parts)


# What would change the choice


def _best(facts: Facts) -> Way:
    return ranked({way: consider(way, facts) for way in WAYS}, facts)[0]


def _changes(facts: Facts, now: Way) -> Iterator[str]:
    """For each input its nearest change that flips the choice, found by trying."""
    for text, other in _toggled(facts):
        then = _best(other)
        if then != now:
            yield f"{text}: {then}"
    for name, values, current, more, less in _ranges(facts):
        yield from _flips(facts, now, name, values, current, more, less)


def _ranges(facts: Facts) -> Iterator[tuple[str, Sequence[Any], Any, str, str]]:
    """Inputs that are amounts: the values that are tried, the present one, and the words for above and below."""
    programs = facts.programs if facts.programs is not None else 12
    yield "programs", range(401), programs, "With {0} programs or more", "With {0} programs or fewer"
    hourly = [Decimal(n) for n in range(1, 301)]
    yield "labour", hourly, facts.labour, "If labour cost {0} an hour or more", "If labour cost {0} an hour or less"
    worth = facts.waiting if facts.waiting is not None else usual_waiting(facts.labour or Decimal(40))
    more, less = "If waiting were worth {0} an hour or more", "If waiting were worth {0} an hour or less"
    yield "waiting", hourly, worth, more, less
    if facts.offered:
        prices = [Decimal(n) for n in range(5, 2001, 5)]
        yield "new_cost", prices, facts.new_cost, "If the parts cost {0} or more", "If the parts cost {0} or less"
    if facts.replacement is not None:
        prices = [Decimal(n) for n in range(10, 5001, 10)]
        more, less = "If another machine cost {0} or more", "If another machine cost {0} or less"
        yield "replacement", prices, facts.replacement, more, less


_SYMPTOM_TEXTS = {
    "malware": ("If malware were suspected", "If there were no malware"),
    "loop": ("If it restarted in a loop", "If it did not restart in a loop"),
    "no-system": ("If there were no system", "If there were a system"),
}
_SURVIVE_TEXTS = {
    "everything": "If everything had to stay as it was",
    "files": "If only the files mattered",
    "nothing": "If nothing had to survive",
}


def _toggled(facts: Facts) -> Iterator[tuple[str, Facts]]:
    if facts.image_first:
        yield "If the drive were sound", replace(facts, health="sound", image_first=False)
    elif not facts.is_hurt:
        yield "If the drive were failing", replace(facts, health="copy-now", image_first=True)
    if facts.needs_laboratory:
        yield "With a backup that was checked", replace(facts, backup="checked")
    if facts.encrypted:
        yield "Once it is decrypted", replace(facts, encrypted=False)
        if facts.key != "held":
            yield "With its key at hand", replace(facts, key="held")
    if facts.unclean and not facts.images_first:
        yield "Once it was shut down fully", replace(facts, unclean=False)
    for code, (with_it, without_it) in _SYMPTOM_TEXTS.items():
        has = code in facts.symptoms
        yield (without_it if has else with_it), replace(facts, symptoms=facts.symptoms ^ {code})
    for survive, text in _SURVIVE_TEXTS.items():
        if survive != facts.must_survive:
            yield text, replace(facts, must_survive=survive)  # type: ignore[arg-type]
    if facts.mechanical is not None:
        text = "If the old drive were solid-state" if facts.mechanical else "If the old drive were mechanical"
        kind = "sata" if facts.mechanical else "rotational"
        yield text, replace(facts, mechanical=not facts.mechanical, read_class=kind)
    else:
        yield "If the old drive were solid-state", replace(facts, mechanical=False, read_class="sata")
        yield "If the old drive were mechanical", replace(facts, mechanical=True, read_class="rotational")


def _flips(
    facts: Facts, now: Way, name: str, values: Sequence[Any], current: Any, more: str, less: str
) -> Iterator[str]:
    """The nearest value above and below the present one that flips the choice, by halving between far and near."""
    above = [v for v in values if v > current]
    below = [v for v in values if v < current][::-1]
    for side, text in ((above, more), (below, less)):
        found = _first_flip(side, lambda v: _best(replace(facts, **{name: v})) != now)
        if found is not None:
            yield f"{text.format(found)}: {_best(replace(facts, **{name: found}))}"


def _first_flip(values: Sequence[Any], flips: Callable[[Any], bool]) -> Any | None:
    """The first of `values` at which the choice is another one, if it stays so from there on; None for none."""
    if not values or not flips(values[-1]):
        return None
    low, high = 0, len(values) - 1
    while low < high:
        middle = (low + high) // 2
        if flips(values[middle]):
            high = middle
        else:
            low = middle + 1
    return values[low]
