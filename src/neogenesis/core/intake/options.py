"""What an intake offers and asks, from `data/intake.toml`."""

from __future__ import annotations

import tomllib
from functools import cache
from typing import Any, Literal

import msgspec

from neogenesis.core.handed import handed
from neogenesis.core.record import StrictRecord


class Symptom(StrictRecord, frozen=True, kw_only=True):
    code: str
    title: str
    because: str


class Condition(StrictRecord, frozen=True, kw_only=True):
    """`text` and `remedy` are said where the condition asks for care."""

    code: str
    title: str
    severity: Literal["note", "caution", "stop"] = "note"
    text: str = ""
    remedy: str = ""


class Offers(StrictRecord, frozen=True, kw_only=True):
    came_with: tuple[str, ...]
    valuables: tuple[str, ...]


class FigureKind(StrictRecord, frozen=True, kw_only=True):
    """`compare`: measured again after the job."""

    code: str
    title: str
    unit: str = ""
    hint: str = ""
    compare: bool = False


class Question(StrictRecord, frozen=True, kw_only=True):
    code: str
    text: str
    severity: Literal["note", "caution"] = "note"
    why: str = ""


class Options(StrictRecord, frozen=True, kw_only=True):
    symptom: tuple[Symptom, ...]
    condition: tuple[Condition, ...]
    offers: Offers
    figure: tuple[FigureKind, ...]
    question: tuple[Question, ...]

    def question_of(self, code: str) -> Question:
        """Raises KeyError."""
        return {q.code: q for q in self.question}[code]

    def condition_of(self, code: str) -> Condition | None:
        return next((c for c in self.condition if c.code == code), None)

    def symptom_title(self, code: str) -> str:
        return next((s.title for s in self.symptom if s.code == code), code)

    def figure_kind(self, code: str) -> FigureKind | None:
        return next((f for f in self.figure if f.code == code), None)


@cache
def options() -> Options:
    """Those that ship; raises LookupError when they were not handed over."""
    raw: dict[str, Any] = tomllib.loads(handed("intake.toml"))
    return msgspec.convert(raw, Options)
