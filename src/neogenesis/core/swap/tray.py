"""Where fasteners are, as a drawing in the machine's own outline: in the machine, in the tray, next, or missing.

Coordinates go from 0 to 1, from the upper left of the machine as it lies. The code of shapes is our own: the shape
tells the length, the sign inside the head; what is odd has a ring around it.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import Fastener
from neogenesis.core.swap.guide import Guide

Shape = Literal["disc", "hexagon", "diamond", "square", "triangle", "drop"]
Sign = Literal["cross", "star", "five", "bar", "socket", "dot"]
State = Literal["in-machine", "here", "next", "in-tray", "missing", "captive"]
#: From the shortest length on.
SHAPES: tuple[Shape, ...] = ("disc", "hexagon", "diamond", "square", "triangle", "drop")
_EDGE, _GAP = 0.06, 0.07
_AROUND = ("edge", "outer", "around", "rim", "seam", "corner")


@dataclass(frozen=True, slots=True)
class Kind:
    """How the pieces of one group are drawn, and what stands beside them."""

    id: str
    shape: Shape
    sign: Sign
    head: str
    length_mm: float | None
    odd: bool
    captive: bool
    place: str
    hidden_under: str | None
    cover_reused: bool | None


@dataclass(frozen=True, slots=True)
class Piece:
    """One fastener where it belongs; `number` counts within its group."""

    kind: Kind
    number: int
    x: float
    y: float
    state: State


def sign_of(head: str) -> Sign:
    """From the usual names of driver heads: PH and JIS, T and TX, P or PL, H, SL."""
    name = head.upper().replace(" ", "")
    if name.startswith(("PH", "PZ", "JIS", "+")):
        return "cross"
    if name.startswith(("TX", "T", "TORX")) and any(c.isdigit() for c in name):
        return "star"
    if name.startswith(("P", "PL")) and any(c.isdigit() for c in name):
        return "five"
    if name.startswith(("SL", "FLAT", "-")):
        return "bar"
    if name.startswith(("H", "HEX")):
        return "socket"
    return "dot"


@lru_cache(maxsize=64)
def kinds(machine: Machine) -> dict[str, Kind]:
    """By group; every length of the machine has its own shape, as far as there are shapes."""
    lengths = sorted({f.length_mm for f in machine.fasteners if f.length_mm is not None})
    return {f.id: _kind(f, lengths) for f in machine.fasteners}


def _kind(f: Fastener, lengths: list[float]) -> Kind:
    rank = lengths.index(f.length_mm) if f.length_mm is not None else 0
    shape = SHAPES[min(rank, len(SHAPES) - 1)]
    return Kind(
        f.id,
        shape,
        sign_of(f.head),
        f.head,
        f.length_mm,
        bool(f.odd),
        f.captive,
        f.place,
        f.hidden_under,
        f.cover_reused,
    )


@lru_cache(maxsize=64)
def places(machine: Machine) -> dict[str, tuple[tuple[float, float], ...]]:
    """Where each piece of each group sits: as the profile says, else spread as its words say."""
    return {f.id: _places(f) for f in machine.fasteners}


def _places(f: Fastener) -> tuple[tuple[float, float], ...]:
    if len(f.spots) == f.count:
        return f.spots
    if f.count == 1:
        return ((_or(f.x, 0.5), _or(f.y, 0.5)),)
    if f.x is None or f.y is None or any(word in f.place.casefold() for word in _AROUND):
        return tuple(_on_rim(n / f.count) for n in range(f.count))
    across = max(1, min(f.count, int((1 - 2 * _EDGE) / _GAP) + 1))
    rows = math.ceil(f.count / across)
    found = []
    for n in range(f.count):
        line, column = divmod(n, across)
        wide = min(across, f.count - line * across)
        x = f.x + (column - (wide - 1) / 2) * _GAP
        y = f.y + (line - (rows - 1) / 2) * _GAP
        shift = f.x - min(max(f.x, _EDGE + (wide - 1) / 2 * _GAP), 1 - _EDGE - (wide - 1) / 2 * _GAP)
        found.append((x - shift, min(max(y, _EDGE), 1 - _EDGE)))
    return tuple(found)


def _or(value: float | None, other: float) -> float:
    return other if value is None else value


def _on_rim(share: float) -> tuple[float, float]:
    """A place on the rim, clockwise from the upper left."""
    side = 1 - 2 * _EDGE
    edge, along = divmod(share * 4 % 4, 1)
    return {
        0: (_EDGE + along * side, _EDGE),
        1: (1 - _EDGE, _EDGE + along * side),
        2: (1 - _EDGE - along * side, 1 - _EDGE),
        3: (_EDGE, 1 - _EDGE - along * side),
    }[int(edge)]


def pieces(guide: Guide) -> list[Piece]:
    """Every fastener of the path, with where it is now."""
    machine, row, ledger = guide.record.machine, guide.row, guide.where.ledger
    taken = {id_ for r in (*guide.path.opening, *guide.path.work) for id_, _ in (*r.fasteners, *r.loosened)}
    here = {id_: whole - done for id_, done, whole in guide.open_counts}
    absent: dict[str, int] = {}
    for one in (*ledger.never_out, *ledger.named):
        absent[one.id] = absent.get(one.id, 0) + one.count
    found = []
    for fastener in machine.fasteners:
        id_ = fastener.id
        if id_ not in taken:
            continue
        kind, spots, lying = kinds(machine)[id_], places(machine)[id_], ledger.in_tray(id_)
        closing = row is not None and row.phase == "closing"
        left = here.get(id_, 0) if guide.next_piece else 0
        is_next = id_ == guide.next_piece
        for n, (x, y) in enumerate(spots):
            state: State = "in-tray" if n < lying else "in-machine"
            if fastener.captive:
                state = "captive"
            elif n >= len(spots) - absent.get(id_, 0):
                state = "missing"
            elif closing and lying - left <= n < lying:
                state = "next" if is_next and n == lying - 1 else "here"
            elif not closing and lying <= n < lying + left:
                state = "next" if is_next and n == lying else "here"
            found.append(Piece(kind, n, x, y, state))
    return found
