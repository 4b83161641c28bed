"""The numbers that are opinions, from `data/judgement.toml`, where each has its reason beside it."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

Spread = tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class Rate:
    """Sustained bytes per second as 10th, 50th and 90th percentile."""

    read: Spread
    write: Spread


@dataclass(frozen=True, slots=True)
class Judgement:
    fill_caution_percent: int
    fill_stop_percent: int
    copy_gap_bytes: int
    startup_largest_bytes: int
    hot_celsius: int
    least_spare_percent: int
    rates: dict[str, Rate]


@cache
def judgement() -> Judgement:
    raw = tomllib.loads(files("neogenesis").joinpath("data/judgement.toml").read_text("utf-8"))
    return Judgement(
        raw["fill"]["caution_percent"],
        raw["fill"]["stop_percent"],
        raw["copy"]["gap_bytes"],
        raw["startup"]["largest_bytes"],
        raw["health"]["hot_celsius"],
        raw["health"]["least_spare_percent"],
        {name: Rate(tuple(rate["read"]), tuple(rate["write"])) for name, rate in raw["rate"].items()},
    )
