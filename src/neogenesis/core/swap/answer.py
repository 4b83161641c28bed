"""What `neogenesis swap` answers: the JSON `neogenesis.swap/1`."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import ClassVar

from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import Purpose, SomeOf
from neogenesis.core.record import Record
from neogenesis.core.swap.ledger import Ledger
from neogenesis.core.swap.numbers import numbers
from neogenesis.core.swap.path import Count, Row, path_of


class CautionText(Record, frozen=True, kw_only=True):
    code: str
    text: str


class RowAnswer(Record, frozen=True, kw_only=True):
    """`step` is the id in the profile; in `closing` that of the step which is undone. Captive ones are `loosened`."""

    step: str
    text: str
    fasteners: tuple[SomeOf, ...] = ()
    loosened: tuple[SomeOf, ...] = ()
    cautions: tuple[str, ...] = ()
    aids: tuple[str, ...] = ()
    seconds: float = 0.0
    wait_s: float = 0.0


class SwapAnswer(Record, frozen=True, kw_only=True):
    SCHEMA: ClassVar[str] = "neogenesis.swap/1"

    schema: str = SCHEMA
    machine: str
    defers: str
    cautions: tuple[CautionText, ...]
    tools: tuple[str, ...]
    opening: tuple[RowAnswer, ...]
    work: tuple[RowAnswer, ...]
    closing: tuple[RowAnswer, ...]
    fasteners_out: int
    fasteners_in: int
    left_in_trays: tuple[SomeOf, ...]
    seconds: float


def answer_for(
    machine: Machine, purposes: Collection[Purpose] | None = None, bays: Collection[str] | None = None
) -> SwapAnswer:
    """Of every step the profile has, or of those for these purposes and bays. Raises BadRecord."""
    path, words = path_of(machine, purposes, bays), numbers()
    ledger = Ledger()
    for row in (*path.opening, *path.work):
        ledger = ledger.taken(row.fasteners)
    for row in path.closing:
        ledger = ledger.returned(row.fasteners)
    return SwapAnswer(
        machine=machine.title,
        defers=words.defers,
        cautions=tuple(CautionText(code=c, text=words.cautions[c].text) for c in path.cautions),
        tools=path.tools,
        opening=_rows(path.opening),
        work=_rows(path.work),
        closing=_rows(path.closing),
        fasteners_out=ledger.out,
        fasteners_in=ledger.back,
        left_in_trays=_counts(ledger.tray),
        seconds=sum(row.seconds for row in path.rows),
    )


def _rows(rows: Iterable[Row]) -> tuple[RowAnswer, ...]:
    return tuple(
        RowAnswer(
            step=row.step.id,
            text=row.text,
            fasteners=_counts(row.fasteners),
            loosened=_counts(row.loosened),
            cautions=row.step.cautions if row.phase != "closing" else (),
            aids=tuple(numbers().aids[a].text for a in row.step.aids),
            seconds=row.seconds,
            wait_s=row.wait_s,
        )
        for row in rows
    )


def _counts(counts: Iterable[Count]) -> tuple[SomeOf, ...]:
    return tuple(SomeOf(id=id_, count=n) for id_, n in counts if n)
