"""What must be bought for a way: each thing by name. What is needed and not chosen yet is not free."""

from __future__ import annotations

from decimal import ROUND_HALF_UP, Decimal
from typing import NamedTuple

from neogenesis.core.decide.case import Facts
from neogenesis.core.decide.numbers import numbers
from neogenesis.core.decide.way import Way
from neogenesis.core.judgement import judgement

_CENT = Decimal("0.01")
_ON_NEW_DRIVE: tuple[Way, ...] = ("replace", "split", "beside", "exact", "salvage")


class Item(NamedTuple):
    """`chosen` is False for what is needed and has no price of its own yet: the amount is the least it will be."""

    what: str
    amount: Decimal
    chosen: bool


def parts_of(way: Way, facts: Facts) -> tuple[Item, ...]:
    """For one seat; labour is not among them."""
    found = []
    if way == "replace-machine":
        found.append(Item("another machine", facts.replacement or Decimal(0), True))
    elif way == "do-less" and facts.memory_cost:
        found.append(Item("memory", facts.memory_cost, True))
    elif way == "refer":
        found.append(Item("a recovery laboratory, by its own quote", Decimal(numbers().price.laboratory), False))
    elif way in _ON_NEW_DRIVE or (way == "fresh" and wants_new_drive(facts)):
        found.append(_drive(way, facts))
    reads = way in ("replace", "exact", "salvage") or (way == "fresh" and facts.must_survive != "nothing")
    if reads and facts.images_first and not facts.imaged:
        found.append(Item("a third drive for the image", least_price(facts.used_bytes), False))
    return tuple(found)


def wants_new_drive(facts: Facts) -> bool:
    """A clean system goes onto the drive that is there only where that one may stay, where nothing on it is the only
    copy of what must survive, and where none was chosen."""
    slow = facts.mechanical is not False and bool(facts.symptoms & {"slow", "freezes"})
    none = facts.driveless and "no-system" in facts.symptoms
    holds = facts.must_survive != "nothing" and facts.backup != "checked"
    return facts.offered or bool(facts.new_cost) or facts.images_first or slow or none or holds


def _drive(way: Way, facts: Facts) -> Item:
    if facts.offered and facts.fits and not facts.priced and not facts.new_cost:
        return Item("drive and what it needs, not priced yet", least_of(facts.new_bytes or 0), False)
    if facts.offered and facts.fits:
        return Item("drive and what it needs", facts.new_cost, True)
    if facts.new_cost:
        return Item("parts", facts.new_cost, True)
    needed = {"exact": facts.size_bytes, "split": facts.system_bytes}.get(way, facts.used_bytes)
    return Item("drive, not chosen yet", least_price(needed), False)


def least_price(held_bytes: int | None) -> Decimal:
    """The least that a drive with room for so many bytes costs."""
    return least_of(Decimal(held_bytes or 0) * 100 / judgement().fill_caution_percent)


def least_of(capacity_bytes: Decimal | int) -> Decimal:
    """The least that a drive of that size costs."""
    price = numbers().price
    by_size = Decimal(capacity_bytes) / Decimal(10**9) * Decimal(price.drive_per_gb)
    return max(Decimal(price.drive_least), by_size.quantize(_CENT, ROUND_HALF_UP))
