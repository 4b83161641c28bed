"""The numbers of the model, from its tables of `data/decide.toml`."""

from __future__ import annotations

import tomllib
from functools import cache

import msgspec

from neogenesis.core.handed import handed
from neogenesis.core.record import StrictRecord

Minutes = tuple[float, float, float]


class Hands(StrictRecord, frozen=True, kw_only=True):
    connect: Minutes
    plan: Minutes
    check: Minutes
    handover: Minutes
    install: Minutes
    drivers: Minutes
    settings: Minutes
    program: Minutes
    files: Minutes
    clean: Minutes
    advise: Minutes
    repair_start: Minutes
    repair_cause: Minutes
    refer: Minutes
    explain: Minutes


class Alone(StrictRecord, frozen=True, kw_only=True):
    install: Minutes
    updates: Minutes


class Risk(StrictRecord, frozen=True, kw_only=True):
    base: float
    failing: float
    hurt: float
    lost: float
    unclean: float
    malware: float
    damaged_system: float
    fresh: float
    above_some: float
    above_high: float


class Weigh(StrictRecord, frozen=True, kw_only=True):
    wait_per_hour: float
    loss_minutes: float
    replace_share: float
    spares_percent: float


class Learning(StrictRecord, frozen=True, kw_only=True):
    strength: float
    lets_go: float


class Price(StrictRecord, frozen=True, kw_only=True):
    """Money as decimal text."""

    drive_least: str
    drive_per_gb: str
    laboratory: str


class Numbers(StrictRecord, frozen=True, kw_only=True):
    opening: dict[str, Minutes]
    hands: Hands
    alone: Alone
    risk: Risk
    price: Price
    weigh: Weigh
    life: dict[str, float]
    learning: Learning


@cache
def numbers() -> Numbers:
    """Those that ship; raises LookupError when they were not handed over."""
    raw = tomllib.loads(handed("decide.toml"))
    own = {name: table for name, table in raw.items() if name in Numbers.__struct_fields__}
    return msgspec.convert(own, Numbers)
