"""Reading a case with everything that it names, and deciding it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import msgspec

from neogenesis.core.decide import Decision, Facts, decide, read_case
from neogenesis.core.decide.case import facts_of
from neogenesis.core.decide.triage import Triage, triage
from neogenesis.core.drive import Health, judge
from neogenesis.core.drive.smart import read_smart_report
from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.fit import read_part
from neogenesis.core.machine import read_machine
from neogenesis.core.record import from_json
from neogenesis.core.survey import Survey
from neogenesis.core.survey.filling import Filling

_LARGEST_BYTES = 64 << 20


def decide_case(path: Path) -> Decision:
    """Raises BadArgument for a file that is not there, BadRecord for one that cannot be used."""
    return decide(_facts(path)[0])


def triage_case(path: Path) -> Triage:
    """As `decide_case`: what is looked at next."""
    return triage(*_facts(path))


def _facts(path: Path) -> tuple[Facts, Health | None]:
    """Of a case with everything that it names, and what its drive said."""
    case = read_case(read_named(path, "case"), f"case “{path.name}”")
    folder = path.parent
    notes: list[str] = []
    survey, programs = None, None
    if case.survey is not None:
        text = read_named(folder / case.survey, "survey")
        survey = from_json(text, Survey, "survey")
        programs = _programs(text)
    else:
        notes.append("There is no survey: sizes and kinds are usual ones, not those of this drive.")
    health = None
    if case.health is not None:
        health, serial = _health(read_named(folder / case.health, "health reading"))
        if survey is not None and serial and survey.drive.serial and serial != survey.drive.serial:
            notes.append(f"The health reading is of another drive ({serial}); it was not used.")
            health = None
    elif survey is None:
        notes.append("Nothing is known of the drive's health.")
    machine = None
    if case.machine is not None:
        machine = read_machine(read_named(folder / case.machine, "machine"), f"machine “{case.machine}”")
    parts = tuple(read_part(read_named(folder / name, "part"), f"part “{name}”") for name in case.parts)
    fillings = [
        from_json(read_named(folder / name, "count of files"), Filling, "count of files") for name in case.fills
    ]
    facts = facts_of(case, survey, health, machine, parts, programs, tuple(notes), fillings)
    if facts.mechanical is None and "slow" in facts.symptoms:
        ask = "Whether the old drive is mechanical is not known, and decides most: look at it, or at its label."
        facts = replace(facts, notes=(*facts.notes, ask))
    return facts, health or (survey.health if survey is not None else None)


def read_named(path: Path, what: str) -> bytes:
    """A record that somebody named; raises BadArgument when it is not there, BadRecord when it is far too large."""
    try:
        if path.stat().st_size > _LARGEST_BYTES:
            raise BadRecord(f"The {what} “{path.name}” is too large to be one of ours.", "Give the right file.")
        return path.read_bytes()
    except OSError as error:
        raise BadArgument(f"The {what} “{path}” cannot be read ({error.strerror}).", "Check the name.") from error


def _health(text: bytes) -> tuple[Health, str]:
    """A verdict on record, or a raw reading; and the serial of a reading."""
    try:
        raw = msgspec.json.decode(text)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
        raise BadRecord(f"The health reading is not JSON ({error}).", "Give the right file.") from error
    if isinstance(raw, dict) and raw.get("schema") == "neogenesis.health/1":
        return from_json(text, Health, "health record"), ""
    reading = read_smart_report(text)
    return judge(reading), reading.serial


def _programs(text: bytes) -> int | None:
    """How many programs a printed survey counted; None where it did not look."""
    raw: Any = msgspec.json.decode(text)
    counts = [
        len(inside.get("programs", ()))
        for partition in raw.get("partitions", ())
        if isinstance(inside := partition.get("volume", {}).get("inside"), dict)
    ]
    return max(counts, default=None)
