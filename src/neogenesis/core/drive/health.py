"""A drive's own readings turned into a verdict with reasons. Thresholds are in the judgement file."""

from __future__ import annotations

from typing import Literal

from neogenesis.core.judgement import judgement
from neogenesis.core.record import Record


class HealthReading(Record, frozen=True, kw_only=True):
    """What a drive says of itself; None where it says nothing. Hours, percent and degrees Celsius."""

    temperature_c: float | None = None
    reallocated_sectors: int = 0
    pending_sectors: int = 0
    uncorrectable_sectors: int = 0
    media_errors: int = 0
    spare_percent: float | None = None
    wear_percent: float | None = None
    critical_warning: bool = False
    power_on_hours: int | None = None


class Health(Record, frozen=True, kw_only=True):
    """`verdict`, and why, each reason a clause that can follow a colon."""

    verdict: Literal["sound", "watch", "failing", "unknown"]
    reasons: tuple[str, ...] = ()


def judge(reading: HealthReading | None) -> Health:
    """Any damaged sector or media error means failing: image first and do not keep testing."""
    if reading is None:
        return Health(verdict="unknown", reasons=("the drive gives no readings here",))
    failing = [
        f"{count:,} {what}"
        for count, what in (
            (reading.reallocated_sectors, "reallocated sectors"),
            (reading.pending_sectors, "sectors waiting to be reallocated"),
            (reading.uncorrectable_sectors, "uncorrectable sectors"),
            (reading.media_errors, "media errors"),
        )
        if count
    ]
    if reading.critical_warning:
        failing.append("the drive itself warns")
    if reading.spare_percent is not None and reading.spare_percent < judgement().least_spare_percent:
        failing.append(f"only {reading.spare_percent:.0f} % of its spare area is left")
    if failing:
        return Health(verdict="failing", reasons=tuple(failing))
    if reading.temperature_c is not None and reading.temperature_c > judgement().hot_celsius:
        return Health(verdict="watch", reasons=(f"{reading.temperature_c:.0f} °C is hot; let it cool",))
    return Health(verdict="sound")
