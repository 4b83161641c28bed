"""What is said and looked at around the first start, from `data/first-boot.toml`."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache

import msgspec

from neogenesis.core.drive import Drive, Health
from neogenesis.core.fit.part import Part
from neogenesis.core.handed import handed
from neogenesis.core.plan import Layout
from neogenesis.core.record import StrictRecord
from neogenesis.core.run_in import RunIn, compared, sentences
from neogenesis.core.units import both_text

#: Drives slow down by themselves somewhat above this, in degrees Celsius; product sheets name 70 as the usual limit.
_WARM_C = 70.0
#: A drive that is sold as new has run for some tests, and no longer.
_NEW_HOURS = 50


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


@dataclass(frozen=True, slots=True)
class Known:
    """What is on record of the new drive; None for what nobody knows.

    `written` is the layout that was written and read back. `link` is what it is connected by now, `link_most` what it
    could have.
    """

    drive: Drive | None = None
    health: Health | None = None
    written: Layout | None = None
    link: str = ""
    link_most: str = ""
    run_in: RunIn | None = None
    part: Part | None = None


@dataclass(frozen=True, slots=True)
class Filled:
    """What the records say of a check; `settled` when nobody has to look any more."""

    text: str
    settled: bool = False


def filled(code: str, known: Known) -> Filled | None:
    """What fills a check by itself; None for one that only eyes can see."""
    drive, run = known.drive, known.run_in
    if code == "capacity" and drive is not None:
        return Filled(f"{both_text(drive.size_bytes)}; some systems show only the second figure.")
    if code == "second-volume" and known.written is not None:
        new = [p for p in known.written.partitions if p.role == "data" and p.from_partition is None]
        if new:
            return Filled(f"{new[0].title}, {both_text(new[0].size_bytes)}, was made and read back.", True)
    if code == "recovery" and known.written is not None:
        found = next((p for p in known.written.partitions if p.role == "recovery"), None)
        if found is not None:
            return Filled(f"It is partition {found.number}, from {both_text(found.start_bytes)} on.")
    if code == "health" and known.health is not None and known.health.verdict != "unknown":
        hours = known.health.hours
        if known.health.verdict != "sound":
            return Filled(f"Not sound: {known.health.why}.")
        text = "Sound; it does not tell its hours." if hours is None else f"Sound, {hours:,} hours."
        return Filled(text, hours is not None and hours <= _NEW_HOURS)
    if code == "link" and known.link:
        if known.link_most and known.link != known.link_most:
            return Filled(f"Here it runs at {known.link}, and could at {known.link_most}.")
        return Filled(f"Here it runs at {known.link}.", bool(known.link_most))
    if code == "pace" and run is not None:
        told = sentences(run, known.part)
        short = any(row.is_short for row in compared(run, known.part))
        return Filled(told[0] if told else "", known.part is not None and not short)
    if code == "heat" and run is not None and run.temperature_after_c is not None:
        warm = run.temperature_after_c
        return Filled(f"{warm:.0f} °C after the run-in.", warm < _WARM_C)
    return None
