"""A machine that does not start: which test comes next, from `data/triage.toml`."""

from __future__ import annotations

import tomllib
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

import msgspec

from neogenesis.core.drive import Health
from neogenesis.core.errors import BadRecord
from neogenesis.core.handed import handed
from neogenesis.core.intake.model import Answer
from neogenesis.core.record import StrictRecord

_END = "end:"
_FAILING, _WET, _HURT = "failing-drive", "wet", "hurt"


class Choice(StrictRecord, frozen=True, kw_only=True):
    """What a test can show, and the id of what comes then; `end:ID` for an end."""

    code: str
    text: str
    next: str


class Test(StrictRecord, frozen=True, kw_only=True):
    """`minutes` is what it takes; `caution` what to mind."""

    __test__ = False

    id: str
    text: str
    minutes: int
    answers: tuple[Choice, ...]
    caution: str = ""


class End(StrictRecord, frozen=True, kw_only=True):
    """What the tests lead to; `goes_to` is the key of the stop that goes on from there."""

    id: str
    text: str
    goes_to: str = ""


class TriageGuide(StrictRecord, frozen=True, kw_only=True):
    start: str
    test: tuple[Test, ...]
    end: tuple[End, ...]

    def test_of(self, key: str) -> Test:
        """Raises KeyError."""
        return {t.id: t for t in self.test}[key]

    def end_of(self, key: str) -> End:
        """Raises KeyError."""
        return {e.id: e for e in self.end}[key]


@dataclass(frozen=True, slots=True)
class Course:
    """`done` are the tests with what they showed; then comes `test`, or nothing more and `end`."""

    done: tuple[tuple[Test, Choice], ...]
    test: Test | None
    end: End | None

    @property
    def minutes(self) -> int:
        return sum(test.minutes for test, _ in self.done)


def course(
    guide: TriageGuide,
    answers: Sequence[Answer],
    health: Health | None = None,
    symptoms: Collection[str] = (),
    mechanical: bool | None = None,
) -> Course:
    """Where the guide stands after these answers; one that does not follow from the one before ends them.

    A drive whose own readings call for an image ends the search at once; water and a hurt mechanical drive end it
    before anything is switched on. Of a drive whose kind is not known the worse is taken.
    """
    given = {a.test: a.answer for a in answers}
    done: list[tuple[Test, Choice]] = []
    key = guide.start
    while not key.startswith(_END):
        test = guide.test_of(key)
        choice = next((c for c in test.answers if c.code == given.get(key)), None)
        if choice is None:
            break
        done.append((test, choice))
        key = choice.next
    if "wet" in symptoms:
        return Course(tuple(done), None, guide.end_of(_WET))
    if mechanical is not False and {"noise", "dropped"} & set(symptoms):
        return Course(tuple(done), None, guide.end_of(_HURT))
    if health is not None and health.image_first:
        return Course(tuple(done), None, guide.end_of(_FAILING))
    if key.startswith(_END):
        return Course(tuple(done), None, guide.end_of(key.removeprefix(_END)))
    return Course(tuple(done), guide.test_of(key), None)


def follows(guide: TriageGuide, test: Test) -> list[tuple[Choice, str]]:
    """What each answer to a test leads to, in words."""
    return [
        (c, guide.end_of(key.removeprefix(_END)).text if (key := c.next).startswith(_END) else guide.test_of(key).text)
        for c in test.answers
    ]


def read_guide(text: str) -> TriageGuide:
    """A guide from TOML; raises BadRecord for one that leads nowhere or round in circles."""
    try:
        raw: dict[str, Any] = tomllib.loads(text)
        guide = msgspec.convert(raw, TriageGuide)
    except (tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
        raise BadRecord(f"The triage guide is damaged ({error}).", "Install the program again.") from error
    tests, ends = {t.id: t for t in guide.test}, {e.id for e in guide.end}

    def visit(key: str, path: tuple[str, ...]) -> None:
        known = key.removeprefix(_END) in ends if key.startswith(_END) else key in tests
        if not known or key in path:
            raise BadRecord(f"The triage guide leads nowhere at “{key}”.", "Install the program again.")
        for choice in () if key.startswith(_END) else tests[key].answers:
            visit(choice.next, (*path, key))

    visit(guide.start, ())
    for end in (_FAILING, _WET, _HURT):
        if end not in ends:
            raise BadRecord(f"The triage guide has no end “{end}”.", "Install the program again.")
    return guide


@cache
def guide() -> TriageGuide:
    """The one that ships; raises LookupError when it was not handed over."""
    return read_guide(handed("triage.toml"))
