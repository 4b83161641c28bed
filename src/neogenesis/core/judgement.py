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
class RescueNumbers:
    """Seconds and degrees Celsius; `slow_times` is a multiple of the usual time of a read."""

    slow_times: float
    slow_least_s: float
    stall_s: float
    rest_s: float
    longest_rest_s: float
    hot_celsius: float
    cool_celsius: float
    longest_cooling_s: float
    look_s: float


@dataclass(frozen=True, slots=True)
class Judgement:
    fill_caution_percent: int
    fill_stop_percent: int
    copy_gap_bytes: int
    startup_largest_bytes: int
    hot_celsius: int
    least_spare_percent: int
    rates: dict[str, Rate]
    rescue: RescueNumbers


_RESCUE = (
    "slow_times",
    "slow_least_seconds",
    "stall_seconds",
    "rest_seconds",
    "longest_rest_seconds",
    "hot_celsius",
    "cool_celsius",
    "longest_cooling_seconds",
    "look_seconds",
)


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
        RescueNumbers(*(float(raw["rescue"][name]) for name in _RESCUE)),
    )
