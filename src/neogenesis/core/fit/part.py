"""A part as a record: the JSON `neogenesis.part/1`. Lengths in millimetres, rates in bytes per second, money as text.

What is not stated is None: it never refuses, it is said.
"""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal, InvalidOperation
from typing import ClassVar, Literal

from neogenesis.core.errors import BadRecord
from neogenesis.core.machine.model import BayKind, Interface
from neogenesis.core.record import StrictRecord, strict_from_json

PartKind = Literal["drive", "memory", "enclosure", "adapter", "caddy", "heat-spreader", "pad", "screw", "stick"]


#: What stands beside a drive, and is judged with it.
BESIDE: tuple[PartKind, ...] = ("adapter", "caddy", "pad", "heat-spreader")


class Part(StrictRecord, frozen=True, kw_only=True, rename={"from_": "from"}):
    """`stock` is how many pieces there are; one where it is not said. `from_` stands as `from` in the file."""

    SCHEMA: ClassVar[str] = "neogenesis.part/1"

    schema: str
    id: str
    kind: PartKind
    price: str | None = None
    currency: str | None = None
    stock: int | None = None
    warranty_years: float | None = None
    form: BayKind | str | None = None
    interface: Interface | None = None
    key: Literal["M", "B+M", "B"] | None = None
    length_mm: float | None = None
    sides: Literal[1, 2] | None = None
    height_above_mm: float | None = None
    height_below_mm: float | None = None
    thickness_mm: float | None = None
    pcie_generation: int | None = None
    pcie_lanes: int | None = None
    capacity_gb: float | None = None
    read_bytes_per_s: float | None = None
    write_bytes_per_s: float | None = None
    cache_bytes: float | None = None
    sustained_write_bytes_per_s: float | None = None
    endurance_tbw: float | None = None
    generation: str | None = None
    voltage_v: float | None = None
    speed_mt_s: float | None = None
    ranks: int | None = None
    ecc: bool | None = None
    mechanical: bool | None = None
    from_: str | None = None
    to: str | None = None
    height_mm: float | None = None
    model: str | None = None
    make: str | None = None

    @property
    def pieces(self) -> int:
        return 1 if self.stock is None else max(0, self.stock)

    @property
    def cost(self) -> Decimal | None:
        """None where no price is on record."""
        return None if self.price is None else Decimal(self.price)


#: Amounts beyond these are slips of the hand, and would not keep exact to the cent when they are added.
_MOST_MONEY = 10**9
_EXPONENTS = range(-30, 10)

_POSITIVE = (
    "length_mm",
    "height_above_mm",
    "height_below_mm",
    "thickness_mm",
    "capacity_gb",
    "read_bytes_per_s",
    "write_bytes_per_s",
    "sustained_write_bytes_per_s",
    "speed_mt_s",
    "voltage_v",
    "height_mm",
    "endurance_tbw",
    "warranty_years",
    "stock",
)


def read_part(text: bytes, what: str = "part") -> Part:
    """A part from its JSON; raises BadRecord that names every fault."""
    return strict_from_json(text, Part, what, _faults)


def _faults(part: Part) -> Iterator[str]:
    yield from (f"“{name}” is negative" for name in _POSITIVE if (getattr(part, name) or 0) < 0)
    if not part.id.strip():
        yield "“id” is empty"
    if part.price is not None:
        try:
            amount = money(part.price)
        except InvalidOperation:
            yield f"“price” is no amount of money: “{part.price}”"
        else:
            if amount < 0:
                yield "“price” is negative"
    yield from _contradictions(part)


def _contradictions(part: Part) -> Iterator[str]:
    """What cannot be true of any part."""
    if part.length_mm is not None and part.form in ("2.5", "3.5", "pata-2.5", "optical"):
        yield f"“length_mm” is for M.2, and the form is {part.form}"
    if part.key is not None and part.form not in (None, "m2"):
        yield f"“key” is for M.2, and the form is {part.form}"
    if part.sides == 2 and part.height_below_mm == 0:
        yield "“sides” is 2, and height_below_mm is 0"
    write, after = part.write_bytes_per_s, part.sustained_write_bytes_per_s
    if write is not None and after is not None and after > write:
        yield "“sustained_write_bytes_per_s” is more than write_bytes_per_s"


def money(text: str) -> Decimal:
    """An amount such as `79.90`, under a billion; raises InvalidOperation for anything else."""
    amount = Decimal(text.strip())
    exponent = amount.as_tuple().exponent
    if not isinstance(exponent, int) or exponent not in _EXPONENTS or abs(amount) >= _MOST_MONEY:
        raise InvalidOperation
    return amount


def is_amount(text: str) -> bool:
    """Whether a text is an amount of money that is not negative."""
    try:
        return money(text) >= 0
    except InvalidOperation:
        return False


def one_currency(parts: tuple[Part, ...]) -> str:
    """The currency of all prices, empty where none is named; raises BadRecord when they are mixed."""
    named = sorted({p.currency for p in parts if p.currency and p.price is not None})
    if len(named) > 1:
        raise BadRecord(f"The prices are in different currencies: {', '.join(named)}.", "Give all in one of them.")
    return named[0] if named else ""
