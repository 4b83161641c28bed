"""What is said and looked at around the first start, from `data/first-boot.toml`."""

from __future__ import annotations

import tomllib
from functools import cache

import msgspec

from neogenesis.core.handed import handed
from neogenesis.core.record import StrictRecord


class Message(StrictRecord, frozen=True, kw_only=True):
    """What is seen, what it usually means, and what to do then."""

    shows: str
    means: str
    then: tuple[str, ...]


class AfterCheck(StrictRecord, frozen=True, kw_only=True):
    code: str
    text: str
    when: str = ""


class FirstBootTexts(StrictRecord, frozen=True, kw_only=True):
    messages: tuple[Message, ...]
    checks: tuple[AfterCheck, ...]


@cache
def first_boot_texts() -> FirstBootTexts:
    """Those that ship; raises LookupError when they were not handed over."""
    return msgspec.convert(tomllib.loads(handed("first-boot.toml")), FirstBootTexts)
