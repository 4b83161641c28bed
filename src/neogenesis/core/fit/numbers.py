"""The judgement of Fit, from the tables `[start]`, `[set]` and `[tools]` of `data/decide.toml`."""

from __future__ import annotations

import tomllib
from functools import cache

import msgspec

from neogenesis.core.handed import handed
from neogenesis.core.record import StrictRecord

Shares = tuple[float, float, float]


class StartNumbers(StrictRecord, frozen=True, kw_only=True):
    """`reads` and `bytes` of one start, milliseconds of one access by class, and shares of 1 at p10, p50 and p90."""

    reads: int
    bytes: float
    access_ms: dict[str, float]
    share: dict[str, Shares]


class SetNumbers(StrictRecord, frozen=True, kw_only=True):
    near_s: float
    grow: float
    pad_mm: float


class ToolNumbers(StrictRecord, frozen=True, kw_only=True):
    """Millimetres; shafts by head, and tools by kind of machine."""

    shaft_long_mm: float
    shaft_mm: dict[str, float]
    by_kind: dict[str, tuple[str, ...]]


class FitNumbers(StrictRecord, frozen=True, kw_only=True):
    start: StartNumbers
    set: SetNumbers
    tools: ToolNumbers


@cache
def numbers() -> FitNumbers:
    """Those that ship; raises LookupError when they were not handed over."""
    raw = tomllib.loads(handed("decide.toml"))
    return msgspec.convert({name: raw[name] for name in FitNumbers.__struct_fields__}, FitNumbers)
