"""Memory modules against a board: what fits, the best subset, and what they run at together."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from itertools import combinations

from neogenesis.core.fit.match import Reason, Verdict
from neogenesis.core.fit.part import Part
from neogenesis.core.machine.model import MemoryBoard

#: More pieces than this are not tried in every combination.
_MOST_PIECES = 16


@dataclass(frozen=True, slots=True)
class MemoryFit:
    """`placed` are ids of modules, one for each slot that is taken; `left` those that stay over."""

    verdict: Verdict
    reasons: tuple[tuple[str, Reason], ...]
    effective_mt_s: float | None
    total_gb: float | None
    placed: tuple[str, ...] = ()
    left: tuple[str, ...] = ()


def module_reasons(part: Part, board: MemoryBoard) -> Iterator[Reason]:
    """What speaks against one module on this board; faster memory runs at the board's speed."""
    if board.slots == 0:
        yield Reason("soldered", "the board has no slot; its memory is soldered")
    checks = (
        ("generation", part.generation, board.generation),
        ("form", part.form, board.form),
    )
    for code, own, needed in checks:
        if own is None or needed is None:
            yield Reason(code, f"{code} is not stated; compare before buying", against=False)
        elif own.casefold() != needed.casefold():
            yield Reason(code, f"it is {own}, the board takes {needed}")
    if part.voltage_v is not None and board.voltage_v is not None and part.voltage_v > board.voltage_v:
        yield Reason("voltage", f"it needs {part.voltage_v:g} V, the board gives {board.voltage_v:g} V")
    size, most = part.capacity_gb, board.max_per_slot_gb
    if size is not None and most is not None and size > most:
        yield Reason("per-slot", f"{size:g} GB is more than a slot takes ({most:g} GB)")
    whole = board.max_gb
    if size is not None and whole is not None and size + (board.soldered_gb or 0) > whole:
        yield Reason("maximum", f"the board takes {whole:g} GB in all")
    if part.speed_mt_s is not None and board.speed_mt_s is not None and part.speed_mt_s > board.speed_mt_s:
        yield Reason("speed", f"it runs at the board's {board.speed_mt_s:g} MT/s", against=False)


def fit_memory(parts: Sequence[Part], board: MemoryBoard | None, budget: Decimal | None) -> MemoryFit | None:
    """The best subset: most memory, fewest kinds, the fastest, of one make, the cheapest. None without modules."""
    modules = [p for p in parts if p.kind == "memory"]
    if not modules:
        return None
    if board is None:
        unknown = Reason("slots", "the machine's memory is not on record", against=False)
        ids = tuple(p.id for p in modules)
        return MemoryFit("fits", tuple((i, unknown) for i in ids), None, None, (), ids)
    reasons = [(p.id, r) for p in modules for r in module_reasons(p, board)]
    out = {i for i, r in reasons if r.against}
    pieces = [p for p in modules if p.id not in out for _ in range(min(p.pieces, board.slots or 8, _MOST_PIECES))]
    chosen = _best(pieces[:_MOST_PIECES], board, budget)
    if len(pieces) > len(chosen) and pieces:
        slots = board.slots
        if slots is not None and len(pieces) > slots:
            reasons += [(i, Reason("slots", f"there are {slots} slots")) for i in _left(pieces, chosen)]
        elif board.max_gb is not None:
            text = f"the board takes {board.max_gb:g} GB in all"
            reasons += [(i, Reason("maximum", text)) for i in _left(pieces, chosen)]
    speeds = [p.speed_mt_s for p in chosen if p.speed_mt_s is not None]
    if board.speed_mt_s is not None:
        speeds.append(board.speed_mt_s)
    total = (board.soldered_gb or 0) + sum(p.capacity_gb or 0 for p in chosen)
    left = tuple(dict.fromkeys((*(p.id for p in modules if p.id in out), *_left(pieces, chosen))))
    verdict: Verdict = "fits" if chosen else "does-not-fit"
    return MemoryFit(
        verdict, tuple(reasons), min(speeds, default=None) if chosen else None, total, tuple(p.id for p in chosen), left
    )


def _left(pieces: Sequence[Part], chosen: Sequence[Part]) -> list[str]:
    taken = [p.id for p in chosen]
    left = []
    for piece in pieces:
        if piece.id in taken:
            taken.remove(piece.id)
        elif piece.id not in left:
            left.append(piece.id)
    return left


def _best(pieces: Sequence[Part], board: MemoryBoard, budget: Decimal | None) -> list[Part]:
    slots = len(pieces) if board.slots is None else board.slots
    best: tuple[tuple[float, ...], tuple[Part, ...]] = ((), ())
    for count in range(1, min(slots, len(pieces)) + 1):
        for chosen in combinations(pieces, count):
            size = sum(p.capacity_gb or 0 for p in chosen)
            if board.max_gb is not None and size + (board.soldered_gb or 0) > board.max_gb:
                continue
            cost = sum((p.cost or Decimal(0) for p in chosen), Decimal(0))
            if budget is not None and cost > budget:
                continue
            speed = min((p.speed_mt_s or 0 for p in chosen), default=0)
            kinds, ids = {(p.capacity_gb, p.speed_mt_s) for p in chosen}, {p.id for p in chosen}
            rank = (size, -len(kinds), speed, -len(ids), -float(cost))
            if rank > best[0]:
                best = (rank, chosen)
    return list(best[1])
