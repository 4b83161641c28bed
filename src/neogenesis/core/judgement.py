"""The numbers that are opinions, each with its reason beside it in `data/judgement.toml`.

The core reads no files: whoever starts the program hands the text in, and everything below asks `judgement()`.
"""

from __future__ import annotations

import tomllib
from dataclasses import dataclass

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
class ProfileNumbers:
    """How a drive is sampled. Seconds, bytes, shares from 0 to 1; `links` are ceilings in bytes per second by name."""

    places: int
    piece_bytes: int
    longest_s: float
    stall_s: float
    most_errors: int
    slow_share: float
    mechanical_seek_s: float
    flat_share: float
    link_share: float
    links: dict[str, float]


@dataclass(frozen=True, slots=True)
class WhyNumbers:
    """From which figures on something explains that a machine is slow or full."""

    full_percent: float
    hot_celsius: float
    little_memory_gb: float
    slow_zone_share: float
    many_programs: int
    many_metadata_runs: int
    worn_battery_percent: float
    reclaim_share: float


@dataclass(frozen=True, slots=True)
class Judgement:
    fill_caution_percent: int
    fill_stop_percent: int
    copy_gap_bytes: int
    gentle: float
    stretch_seconds: float
    cable_errors: int
    startup_largest_bytes: int
    hot_celsius: int
    hot_mechanical_celsius: int
    hot_module_celsius: int
    least_spare_percent: int
    worn_percent: int
    spent_percent: int
    overspent_percent: int
    old_hours: int
    rates: dict[str, Rate]
    rescue: RescueNumbers
    decryption: Spread
    profile: ProfileNumbers
    why: WhyNumbers


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


_handed_in: list[Judgement] = []


def judgement() -> Judgement:
    """What was handed in last; an IndexError says that nothing was."""
    return _handed_in[-1]


def hand_in_judgement(text: str) -> None:
    """Use the numbers in `text`, TOML as shipped; raises KeyError or tomllib.TOMLDecodeError for anything less."""
    raw = tomllib.loads(text)
    numbers = Judgement(
        raw["fill"]["caution_percent"],
        raw["fill"]["stop_percent"],
        raw["copy"]["gap_bytes"],
        raw["copy"]["gentle"],
        raw["copy"]["stretch_seconds"],
        raw["beside"]["cable_errors"],
        raw["startup"]["largest_bytes"],
        raw["health"]["hot_celsius"],
        raw["health"]["hot_mechanical_celsius"],
        raw["health"]["hot_module_celsius"],
        raw["health"]["least_spare_percent"],
        raw["health"]["worn_percent"],
        raw["health"]["spent_percent"],
        raw["health"]["overspent_percent"],
        raw["health"]["old_hours"],
        {name: Rate(tuple(rate["read"]), tuple(rate["write"])) for name, rate in raw["rate"].items()},
        RescueNumbers(*(float(raw["rescue"][name]) for name in _RESCUE)),
        tuple(raw["decryption"]["rate"]),
        ProfileNumbers(**raw["profile"]),
        WhyNumbers(**raw["why"]),
    )
    _handed_in[:] = [numbers]
