"""The next test for a case, or the word to stop: from its symptoms, and never against a caution."""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar

from neogenesis.core.decide.case import Facts
from neogenesis.core.decide.rules import not_meanwhile
from neogenesis.core.drive import Health
from neogenesis.core.intake.triage import course, guide
from neogenesis.core.record import Record


class NextTest(Record, frozen=True, kw_only=True):
    code: str
    text: str


class Triage(Record, frozen=True, kw_only=True):
    """The answer of `neogenesis triage`. `next` is None where nothing more is tried; `refer`: to a laboratory."""

    SCHEMA: ClassVar[str] = "neogenesis.triage/1"

    schema: str = SCHEMA
    next: NextTest | None
    refer: bool
    reasons: tuple[str, ...]
    do_not: tuple[str, ...]


_STARTS_BADLY = frozenset(("no-start", "loop", "freezes"))
_SURVEY = NextTest(code="survey", text="Pull the drive and survey it in a dock: what is on it decides.")


def triage(facts: Facts, health: Health | None = None) -> Triage:
    """What comes next for a case; `health` is what the drive itself said."""
    found = course(guide(), (), health, facts.symptoms, facts.mechanical)
    following: NextTest | None = _SURVEY
    reasons = list(_reasons(facts))
    if found.end is not None:
        following, reasons = None, [found.end.text, *reasons]
        if found.end.id == "failing-drive":
            following = NextTest(code="image", text="Image it first, gently, and decide from the image.")
    elif "no-start" in facts.symptoms and found.test is not None:
        caution = f" {found.test.caution}" if found.test.caution else ""
        following = NextTest(code=found.test.id, text=found.test.text + caution)
    elif "no-system" in facts.symptoms:
        following = NextTest(code="fresh", text="Nothing is to be looked for: media, drivers and a licence are needed.")
    return Triage(
        next=None if facts.needs_laboratory else following,
        refer=facts.needs_laboratory,
        reasons=tuple(reasons),
        do_not=tuple(_do_not(facts)),
    )


def _reasons(facts: Facts) -> Iterator[str]:
    if facts.health == "lost-cause":
        yield "The drive no longer answers."
    if facts.needs_laboratory:
        yield "What is on it is nowhere else, as far as is known: a recovery laboratory is asked first."
    if facts.is_hurt and facts.backup == "checked":
        yield "A backup was checked: the drive is replaced, and read gently at most."
    if facts.symptoms & {"malware", "ransomware"}:
        yield "Malware is suspected: its system is not started."
    if facts.causes:
        yield "It is likely not the drive: what is beside it is looked at first."


def _do_not(facts: Facts) -> Iterator[str]:
    if facts.is_hurt or facts.needs_laboratory:
        yield from not_meanwhile(facts)
    elif facts.images_first:
        yield "Do not check, repair or mount it, and do not keep testing it."
    if facts.symptoms & {"malware", "ransomware"}:
        yield "Do not start its system, and connect it to no network."
    if "ransomware" in facts.symptoms:
        yield "Do not write to the old drive: it is kept untouched and labelled."
