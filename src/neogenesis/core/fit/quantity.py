"""Amounts as people type them, with or without a unit, in the unit that a profile keeps."""

from __future__ import annotations

import re

from neogenesis.core.errors import BadArgument

#: For each kind of amount its units by what is typed, the one that is kept first; each times so much.
UNITS: dict[str, dict[str, float]] = {
    "mm": {"mm": 1, "cm": 10, "in": 25.4, "inch": 25.4, "inches": 25.4, "″": 25.4, '"': 25.4},
    "GB": {"GB": 1, "TB": 1000, "MB": 0.001, "GiB": 1.073741824, "TiB": 1099.511627776, "MiB": 0.001048576},
    "bytes": {"bytes": 1, "B": 1, "MB": 1e6, "GB": 1e9, "TB": 1e12, "MiB": 2**20, "GiB": 2**30},
    "bytes/s": {
        **{"bytes/s": 1, "B/s": 1, "kB/s": 1e3, "MB/s": 1e6, "GB/s": 1e9, "MiB/s": 2**20, "GiB/s": 2**30},
        **{"Mbit/s": 1.25e5, "Gbit/s": 1.25e8},
    },
    "Gbit/s": {"Gbit/s": 1, "Mbit/s": 0.001, "GB/s": 8, "MB/s": 0.008},
    "V": {"V": 1, "mV": 0.001},
    "MT/s": {"MT/s": 1, "MHz": 2, "GT/s": 1000},
    "TB": {"TB": 1, "PB": 1000, "GB": 0.001},
    "years": {"years": 1, "year": 1, "months": 1 / 12},
    "": {},
}
_AMOUNT = re.compile(r"\s*(\d{1,15}(?:[.,]\d{1,6})?|\d{1,3}[eE]\d{1,2})\s*(.*?)\s*")


def parse_amount(text: str, unit: str) -> float | None:
    """`22`, `2.2 cm` or `0,87 in` in millimetres for `mm`; None for nothing. Raises BadArgument with the units."""
    if not text.strip():
        return None
    found = _AMOUNT.fullmatch(text)
    units = UNITS[unit]
    names = ", ".join(units)
    if found is None:
        raise BadArgument(
            f"“{text.strip()}” is no amount.", f"Type a number, with one of {names}." if names else "Type a number."
        )
    number, named = float(found.group(1).replace(",", ".")), found.group(2)
    if not named:
        return number
    for name, times in units.items():
        if named.casefold() == name.casefold() and (named == name or name.casefold() not in _TWO_MEANINGS):
            return round(number * times, 6)
    raise BadArgument(f"“{named}” is no unit for this.", f"Use one of {names}." if names else "Type a plain number.")


#: Letters that mean another unit in capitals.
_TWO_MEANINGS = ("mv",)


def parse_amounts(text: str, unit: str) -> list[float]:
    """Several, parted by semicolons or blanks between numbers: `42; 60; 80`. Raises BadArgument."""
    pieces = [p for p in re.split(r"[;/]|,\s+|(?<=\d)\s+(?=\d)", text) if p.strip()]
    return [amount for piece in pieces if (amount := parse_amount(piece, unit)) is not None]


def shown_amount(value: float | None) -> str:
    """As it is typed again, without needless digits."""
    if value is None:
        return ""
    return f"{value:.0f}" if value == int(value) else f"{value:g}"
