"""What is true of the shop, whoever is at the bench: its name, letterhead, people, paper, currency and rate."""

from __future__ import annotations

import re
from pathlib import Path
from typing import ClassVar, Literal

from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.record import Record, load, save

Paper = Literal["", "a4", "letter"]
_FILE = "shop.json"
_MOST_LINES = 8


class Shop(Record, frozen=True, kw_only=True):
    """`letterhead` stands below the name on reports, a line each; `paper` is empty where the locale decides.

    `currency` is a code of ISO 4217, empty where the locale decides; `labour_per_hour` and `tax_percent` are decimal
    text. `learns` tells whether the shop's own past feeds its estimates.
    """

    SCHEMA: ClassVar[str] = "neogenesis.shop/1"

    schema: str = SCHEMA
    name: str = ""
    letterhead: tuple[str, ...] = ()
    technicians: tuple[str, ...] = ()
    paper: Paper = ""
    currency: str = ""
    labour_per_hour: str = ""
    tax_percent: str = ""
    quote_days: str = "14"
    learns: bool = True


def load_shop(folder: Path) -> Shop:
    """The shop that a bench belongs to, an empty one where nothing is on record; raises BadRecord."""
    file = folder / _FILE
    return load(file, Shop, "shop's record") if file.exists() else Shop()


def save_shop(folder: Path, shop: Shop) -> None:
    """Put it on record; one that could not be read is kept beside it. Raises BadRecord."""
    file = folder / _FILE
    try:
        load_shop(folder)
    except BadRecord:
        file.replace(file.with_name(f"{_FILE}.unreadable"))
    save(file, shop)


def parse_lines(text: str) -> tuple[str, ...]:
    """Lines without those that are empty; raises BadArgument for more than stand on a letterhead."""
    lines = tuple(line.strip() for line in text.splitlines() if line.strip())
    if len(lines) > _MOST_LINES:
        raise BadArgument(f"{len(lines)} lines are too many.", f"Use {_MOST_LINES} or fewer.")
    return lines


def parse_currency(text: str) -> str:
    """A code such as `EUR`, or empty; raises BadArgument for anything else."""
    code = text.strip().upper()
    if code and not re.fullmatch(r"[A-Z]{3}", code):
        raise BadArgument(f"“{text}” is not a currency.", "Write its three letters, such as EUR.")
    return code


def parse_labour(text: str) -> str:
    """The price of an hour as decimal text with a point, or empty; raises BadArgument for anything else."""
    amount = text.strip().replace(",", ".")
    if amount and not re.fullmatch(r"\d{1,6}(\.\d{1,2})?", amount, re.ASCII):
        raise BadArgument(f"“{text}” is not the price of an hour.", "Write an amount, such as 54 or 54.50.")
    return amount


def parse_tax(text: str) -> str:
    """Per cent from 0 to 100 as decimal text with a point, or empty; raises BadArgument for anything else."""
    amount = text.strip().removesuffix("%").strip().replace(",", ".")
    if amount and not (re.fullmatch(r"\d{1,3}(\.\d{1,2})?", amount, re.ASCII) and float(amount) <= 100):
        raise BadArgument(f"“{text}” is no tax.", "Type per cent, such as 19.")
    return amount
