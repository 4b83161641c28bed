"""The judgement and the words of Swap, from `data/swap.toml`."""

from __future__ import annotations

import tomllib
from functools import cache
from typing import Literal

import msgspec

from neogenesis.core.handed import handed
from neogenesis.core.machine.model import Doing
from neogenesis.core.record import StrictRecord


class Seconds(StrictRecord, frozen=True, kw_only=True):
    """Of one step by what is done, of one fastener out and in, of one thing made ready, and what is a pause."""

    remove: float
    lift: float
    unplug: float
    slide: float
    pry: float
    drain: float
    photograph: float
    check: float
    screw_out: float
    screw_in: float
    prepare: float
    pause: float

    def of(self, do: Doing) -> float:
        return float(getattr(self, do))


class Hold(StrictRecord, frozen=True, kw_only=True):
    caution_s: float
    bounce_s: float


class Caution(StrictRecord, frozen=True, kw_only=True):
    title: str
    text: str


class Aid(StrictRecord, frozen=True, kw_only=True):
    """How something lies the right way round."""

    text: str


class Prepare(StrictRecord, frozen=True, kw_only=True):
    """Something that is ready before the first screw; `when` says for which machines."""

    code: str
    when: str
    text: str
    why: str


class Look(StrictRecord, frozen=True, kw_only=True):
    text: str
    when: str


class Mistake(StrictRecord, frozen=True, kw_only=True):
    """How something that went wrong shows, what it usually is, and how it is undone."""

    code: str
    shows: str
    usually: str
    at: tuple[Doing, ...]
    phase: Literal["opening", "closing", "any"]
    undo: tuple[str, ...]


class Extra(StrictRecord, frozen=True, kw_only=True):
    """What is cheap while the machine is open; `price` without tax, in the shop's currency."""

    code: str
    title: str
    minutes: float
    price: str
    why: str
    cautions: tuple[str, ...] = ()
    needs: str = ""


class Wait(StrictRecord, frozen=True, kw_only=True):
    """What is normal at a first start: seconds from, usual and up to, and from when on to worry."""

    code: str
    when: str
    text: str
    normal_s: tuple[float, float, float]
    worry_s: float


class SwapNumbers(StrictRecord, frozen=True, kw_only=True):
    defers: str
    seconds: Seconds
    wait: dict[str, float]
    hold: Hold
    prepare: tuple[Prepare, ...]
    of_kind: dict[str, tuple[str, ...]]
    facts: dict[str, str]
    cautions: dict[str, Caution]
    aids: dict[str, Aid]
    look: tuple[Look, ...]
    mistakes: tuple[Mistake, ...]
    offers: tuple[Extra, ...]
    waiting: tuple[Wait, ...]


@cache
def numbers() -> SwapNumbers:
    """Those that ship; raises LookupError when they were not handed over."""
    return msgspec.convert(tomllib.loads(handed("swap.toml")), SwapNumbers)
