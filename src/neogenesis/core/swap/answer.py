"""What `neogenesis swap` answers: the JSON `neogenesis.swap/1`."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from typing import ClassVar

from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import Purpose, SomeOf
from neogenesis.core.record import Record
from neogenesis.core.swap.ledger import Ledger
from neogenesis.core.swap.numbers import numbers
from neogenesis.core.swap.path import Count, Row, path_of
from neogenesis.core.swap.tray import places


class CautionText(Record, frozen=True, kw_only=True):
    code: str
    text: str


class Fact(Record, frozen=True, kw_only=True):
    """Something to know before it is opened: `seal`, `cover_sensor`, `first_start_needs_mains`, `battery_percent`."""

    code: str
    text: str


class Place(Record, frozen=True, kw_only=True):
    """On the machine as it lies, from the upper left, 0 to 1: what came out there lies there in the tray."""

    x: float
    y: float


class TipAnswer(Record, frozen=True, kw_only=True):
    """What went wrong here before: how it shows, what it usually is, how it is undone."""

    shows: str
    usually: str
    undo: tuple[str, ...]


class RowAnswer(Record, frozen=True, kw_only=True):
    """`step` is the id in the profile; in `closing` that of the step which is undone. Captive ones are `loosened`.

    `hidden_under` is what must come off before its fasteners are seen; `tray` where they lie.
    """

    step: str
    text: str
    fasteners: tuple[SomeOf, ...] = ()
    loosened: tuple[SomeOf, ...] = ()
    cautions: tuple[str, ...] = ()
    aids: tuple[str, ...] = ()
    hidden_under: str | None = None
    tray: Place | None = None
    tips: tuple[TipAnswer, ...] = ()
    seconds: float = 0.0
    wait_s: float = 0.0


class SwapAnswer(Record, frozen=True, kw_only=True):
    SCHEMA: ClassVar[str] = "neogenesis.swap/1"

    schema: str = SCHEMA
    machine: str
    defers: str
    facts: tuple[Fact, ...]
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
        facts=tuple(_facts(machine, path.cautions)),
        cautions=tuple(CautionText(code=c, text=words.cautions[c].text) for c in path.cautions),
        tools=path.tools,
        opening=_rows(machine, path.opening),
        work=_rows(machine, path.work),
        closing=_rows(machine, path.closing),
        fasteners_out=ledger.out,
        fasteners_in=ledger.back,
        left_in_trays=_counts(ledger.tray),
        seconds=sum(row.seconds for row in path.rows),
    )


def _facts(machine: Machine, cautions: Collection[str]) -> Iterator[Fact]:
    texts, openings = numbers().facts, machine.openings
    if "lithium" in cautions:
        yield Fact(code="battery_percent", text=texts["battery_percent"])
    if openings is not None and openings.seal:
        yield Fact(code="seal", text=texts["seal"].format(openings.seal))
    if openings is not None and openings.cover_sensor:
        yield Fact(code="cover_sensor", text=texts["cover_sensor"])
    if openings is not None and openings.first_start_needs_mains:
        yield Fact(code="first_start_needs_mains", text=texts["first_start_needs_mains"])


def _tips(machine: Machine, row: Row) -> Iterator[TipAnswer]:
    """Those of this machine's own past, and the usual mistakes of such a step."""
    for tip in machine.tips:
        if tip.step == row.step.id:
            yield TipAnswer(shows=tip.shows, usually="", undo=tip.undo)
    phase = "closing" if row.phase == "closing" else "opening"
    for mistake in numbers().mistakes:
        if row.step.do in mistake.at and mistake.phase in (phase, "any"):
            yield TipAnswer(shows=mistake.shows, usually=mistake.usually, undo=mistake.undo)


def _rows(machine: Machine, rows: Iterable[Row]) -> tuple[RowAnswer, ...]:
    groups, spots = {f.id: f for f in machine.fasteners}, places(machine)

    def tray(row: Row) -> Place | None:
        first = next((spots[i][0] for i, n in row.fasteners if n and spots.get(i)), None)
        return None if first is None else Place(x=round(first[0], 3), y=round(first[1], 3))

    def hidden(row: Row) -> str | None:
        found = dict.fromkeys(groups[i].hidden_under for i, _ in (*row.fasteners, *row.loosened) if i in groups)
        return ", ".join(text for text in found if text) or None

    return tuple(
        RowAnswer(
            step=row.step.id,
            text=row.text,
            fasteners=_counts(row.fasteners),
            loosened=_counts(row.loosened),
            cautions=row.step.cautions if row.phase != "closing" else (),
            aids=tuple(numbers().aids[a].text for a in row.step.aids),
            hidden_under=hidden(row),
            tray=tray(row),
            tips=tuple(_tips(machine, row)),
            seconds=row.seconds,
            wait_s=row.wait_s,
        )
        for row in rows
    )


def _counts(counts: Iterable[Count]) -> tuple[SomeOf, ...]:
    return tuple(SomeOf(id=id_, count=n) for id_, n in counts if n)
