"""The numbers of the model, from `data/decide.toml`. The core reads no files: the text is handed in."""

from __future__ import annotations

import tomllib

import msgspec

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


class Alone(StrictRecord, frozen=True, kw_only=True):
    install: Minutes
    updates: Minutes
    image_again: float
    gentle: float


class Risk(StrictRecord, frozen=True, kw_only=True):
    base: float
    failing: float
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


class Numbers(StrictRecord, frozen=True, kw_only=True):
    opening: dict[str, Minutes]
    hands: Hands
    alone: Alone
    risk: Risk
    weigh: Weigh


_handed_in: list[Numbers] = []


def numbers() -> Numbers:
    """What was handed in last; an IndexError says that nothing was."""
    return _handed_in[-1]


def hand_in_numbers(text: str) -> None:
    _handed_in[:] = [msgspec.convert(tomllib.loads(text), Numbers)]
