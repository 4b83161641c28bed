"""Readings of a drive over the time of a job: what changed from first to last, and how long it will last."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec

from neogenesis.core.drive.health import HealthReading
from neogenesis.core.errors import BadRecord
from neogenesis.core.record import Record

#: Counts that only grow when something goes wrong, with their words.
_FAULTS = (
    ("reallocated_sectors", "reallocated sectors"),
    ("pending_sectors", "sectors waiting to be reallocated"),
    ("uncorrectable_sectors", "uncorrectable sectors"),
    ("reported_errors", "reads that could not be mended"),
    ("media_errors", "media errors"),
    ("failed_self_tests", "failed self-tests"),
)
#: A count in whole per cent says next to nothing of a pace before it has made some steps.
_LEAST_WEAR, _LEAST_HOURS = 5.0, 100
_HOURS_OF_A_YEAR = 8766
_MOST_LINES = 10_000
_NEWS_CELSIUS, _NEWS_HOURS = 2.0, 1


class HealthEntry(Record, frozen=True, kw_only=True):
    """A reading with its moment in ISO 8601."""

    at: str
    reading: HealthReading


class Trend(Record, frozen=True, kw_only=True):
    """One count or figure, first and last; `worse` when it must worry."""

    name: str
    first: float
    last: float
    worse: bool = False


class Endurance(Record, frozen=True, kw_only=True):
    """What is left of the rated writes, at the pace of the drive's life so far: hours of running, and bytes."""

    wear_percent: float
    hours_left: float | None
    bytes_left: float | None

    @property
    def years_of_running(self) -> float | None:
        return self.hours_left / _HOURS_OF_A_YEAR if self.hours_left is not None else None


def load_history(path: Path) -> tuple[HealthEntry, ...]:
    """Entries in their order; lines that make no sense, as a cut leaves them, are left out."""
    found = []
    try:
        with path.open("rb") as file:
            for number, line in enumerate(file):
                if number >= _MOST_LINES:
                    break
                try:
                    found.append(msgspec.json.decode(line, type=HealthEntry))
                except msgspec.MsgspecError:
                    continue
    except OSError:
        return ()
    return tuple(found)


def add_to_history(path: Path, entry: HealthEntry) -> bool:
    """Append a reading that tells something new; raises BadRecord. Returns whether it did.

    Hours go on by themselves and a degree more or less is nothing new. The drive's single attributes are not kept.
    """
    entry = msgspec.structs.replace(entry, reading=msgspec.structs.replace(entry.reading, attributes=()))
    known = load_history(path)
    if known and (len(known) >= _MOST_LINES or not _is_news(known[-1].reading, entry.reading)):
        return False
    try:
        with path.open("ab") as file:
            file.write(msgspec.json.encode(entry) + b"\n")
    except OSError as error:
        raise BadRecord(f"“{path}” cannot be written ({error.strerror}).", "Free space there.") from error
    return True


def _is_news(last: HealthReading, now: HealthReading) -> bool:
    one, other = (r.temperature_c if r.temperature_c is not None else 0.0 for r in (last, now))
    hours = (now.power_on_hours or 0) - (last.power_on_hours or 0)
    same = msgspec.structs.replace(
        now, temperature_c=last.temperature_c, power_on_hours=last.power_on_hours, written_bytes=last.written_bytes
    )
    return same != last or abs(one - other) >= _NEWS_CELSIUS or hours >= _NEWS_HOURS


def trends(entries: Sequence[HealthEntry]) -> tuple[Trend, ...]:
    """What changed from the first reading to the last; faults that grew come first."""
    if len(entries) < 2:
        return ()
    first, last = entries[0].reading, entries[-1].reading
    found = []
    for name, _ in _FAULTS:
        one, other = getattr(first, name), getattr(last, name)
        if one != other:
            found.append(Trend(name=name, first=one, last=other, worse=other > one))
    if first.cable_errors != last.cable_errors:
        found.append(Trend(name="cable_errors", first=first.cable_errors, last=last.cable_errors))
    for name in ("wear_percent", "spare_percent", "power_on_hours", "written_bytes"):
        one, other = getattr(first, name), getattr(last, name)
        if one is not None and other is not None and one != other:
            found.append(Trend(name=name, first=one, last=other))
    return tuple(sorted(found, key=lambda t: not t.worse))


def worsening(entries: Sequence[HealthEntry]) -> str:
    """What got worse since the first reading, as one sentence; empty for nothing."""
    words = dict(_FAULTS)
    grown = [f"{words[t.name]} {t.first:g} → {t.last:g}" for t in trends(entries) if t.worse]
    return f"It got worse while it was here: {', '.join(grown)}." if grown else ""


def endurance_of(reading: HealthReading) -> Endurance | None:
    """None where the drive does not say how worn it is, or is too new to tell a pace."""
    wear, hours = reading.wear_percent, reading.power_on_hours
    if wear is None or wear < _LEAST_WEAR:
        return None
    left = max(0.0, 100.0 - wear) / wear
    return Endurance(
        wear_percent=wear,
        hours_left=hours * left if hours is not None and hours >= _LEAST_HOURS else None,
        bytes_left=reading.written_bytes * left if reading.written_bytes else None,
    )
