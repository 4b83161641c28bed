"""Memory modules against a board: what fits, the best subset, and what they run at together."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from itertools import combinations

from neogenesis.core.fit.match import Reason, Verdict, unstated
from neogenesis.core.fit.part import Part
from neogenesis.core.machine.model import MemoryBoard

#: More pieces than this are not tried in every combination.
_MOST_PIECES = 16


@dataclass(frozen=True, slots=True)
class MemoryFit:
    """`placed` are ids of modules, one for each slot that is taken; `left` those that stay over. `dual_channel` tells
    whether two equal ones run as a pair; None where what is soldered decides it.
    """

    verdict: Verdict
    reasons: tuple[tuple[str, Reason], ...]
    effective_mt_s: float | None
    total_gb: float | None
    dual_channel: bool | None = None
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
            yield unstated(f"its {code}" if own is None else f"the {code} that the board takes")
        elif _alike(own) != _alike(needed):
            yield Reason(code, f"it is {own}, the board takes {needed}")
    if part.voltage_v is not None and board.voltage_v is not None and part.voltage_v > board.voltage_v:
        yield Reason("voltage", f"it needs {part.voltage_v:g} V, the board gives {board.voltage_v:g} V")
    elif part.voltage_v is None and (board.generation or "").casefold().endswith("l"):
        yield unstated("its voltage, and the board gives less than usual")
    if board.ecc and part.ecc is False:
        yield Reason("ecc", "the board wants modules that check themselves")
    elif board.ecc is False and part.ecc:
        yield Reason("ecc", "it checks itself, which this board does not use", "caution")
    size, most = part.capacity_gb, board.max_per_slot_gb
    if size is not None and most is not None and size > most:
        yield Reason("per-slot", f"{size:g} GB is more than a slot takes ({most:g} GB)")
    whole = board.max_gb
    if size is not None and whole is not None and size + (board.soldered_gb or 0) > whole:
        yield Reason("maximum", f"the board takes {whole:g} GB in all")
    if part.speed_mt_s is not None and board.speed_mt_s is not None and part.speed_mt_s > board.speed_mt_s:
        yield Reason("speed", f"it runs at the board's {board.speed_mt_s:g} MT/s", "caution")


def fit_memory(parts: Sequence[Part], board: MemoryBoard | None, budget: Decimal | None) -> MemoryFit | None:
    """The best subset: most memory, fewest kinds, the fastest, of one make, the cheapest. None without modules."""
    modules = [p for p in parts if p.kind == "memory"]
    if not modules:
        return None
    if board is None:
        unknown = unstated("the machine's memory is not on record")
        ids = tuple(p.id for p in modules)
        return MemoryFit("fits-with", tuple((i, unknown) for i in ids), None, None, None, (), ids)
    reasons = [(p.id, r) for p in modules for r in module_reasons(p, board)]
    out = {i for i, r in reasons if r.against}
    pieces = [p for p in modules if p.id not in out for _ in range(min(p.pieces, board.slots or 8, _MOST_PIECES))]
    chosen = _best(pieces[:_MOST_PIECES], board, budget)
    by_id = {p.id: p for p in modules}
    reasons += [(i, _why_left(by_id[i], chosen, board, budget)) for i in _left(pieces, chosen)]
    pair = _is_pair(chosen, board)
    if len(chosen) > 1 and pair is False:
        text = "mixed with another: both run at the slower's speed, and only in part as a pair"
        reasons.append((chosen[0].id, Reason("pair", text, "caution")))
    speeds = [p.speed_mt_s for p in chosen if p.speed_mt_s is not None]
    if board.speed_mt_s is not None:
        speeds.append(board.speed_mt_s)
    total = (board.soldered_gb or 0) + sum(p.capacity_gb or 0 for p in chosen)
    left = tuple(dict.fromkeys((*(p.id for p in modules if p.id in out), *_left(pieces, chosen))))
    taken = {p.id for p in chosen}
    is_open = any(i in taken and r.severity == "unstated" for i, r in reasons)
    verdict: Verdict = "does-not-fit" if not chosen else "fits-with" if is_open else "fits"
    speed = min(speeds, default=None) if chosen else None
    return MemoryFit(verdict, tuple(reasons), speed, total, pair, tuple(p.id for p in chosen), left)


def _alike(kind: str) -> str:
    """Modules of the lower voltage are of the same kind: they run on boards of the usual one."""
    folded = kind.casefold()
    return folded.removesuffix("l") if folded.startswith("ddr") else folded


def _is_pair(chosen: Sequence[Part], board: MemoryBoard) -> bool | None:
    """Two equal modules run as a pair; with soldered memory a single one may, which the board's maker says."""
    if not chosen or board.soldered_gb:
        return None
    return len(chosen) % 2 == 0 and len({(p.capacity_gb, p.speed_mt_s, p.ranks) for p in chosen}) == 1


def _why_left(part: Part, chosen: Sequence[Part], board: MemoryBoard, budget: Decimal | None) -> Reason:
    """What really keeps one more of it out."""
    size = sum(p.capacity_gb or 0 for p in chosen) + (board.soldered_gb or 0) + (part.capacity_gb or 0)
    cost = _price((*chosen, part), board)
    if board.slots is not None and len(chosen) >= board.slots:
        if board.slots == 1:
            return Reason("slots", "there is one slot, and another fills it better")
        return Reason("slots", f"there are {board.slots} slots, and others fill them better")
    if board.max_gb is not None and size > board.max_gb:
        return Reason("maximum", f"the board takes {board.max_gb:g} GB in all")
    if budget is not None and cost > budget:
        return Reason("budget", f"it costs {part.price}, and {budget} are left of the budget")
    return Reason("slots", "others are better")


def _left(pieces: Sequence[Part], chosen: Sequence[Part]) -> list[str]:
    taken = [p.id for p in chosen]
    left = []
    for piece in pieces:
        if piece.id in taken:
            taken.remove(piece.id)
        elif piece.id not in left:
            left.append(piece.id)
    return left


def _price(chosen: Sequence[Part], board: MemoryBoard) -> Decimal:
    """Modules that are in the machine already cost nothing."""
    there, total = list(board.present), Decimal(0)
    for part in chosen:
        if part.id in there:
            there.remove(part.id)
        else:
            total += part.cost or Decimal(0)
    return total


def _best(pieces: Sequence[Part], board: MemoryBoard, budget: Decimal | None) -> list[Part]:
    slots = len(pieces) if board.slots is None else board.slots
    best: tuple[tuple[float, ...], tuple[Part, ...]] = ((), ())
    for count in range(1, min(slots, len(pieces)) + 1):
        for chosen in combinations(pieces, count):
            size = sum(p.capacity_gb or 0 for p in chosen)
            if board.max_gb is not None and size + (board.soldered_gb or 0) > board.max_gb:
                continue
            cost = _price(chosen, board)
            if budget is not None and cost > budget:
                continue
            speed = min((p.speed_mt_s or 0 for p in chosen), default=0)
            kinds, ids = {(p.capacity_gb, p.speed_mt_s) for p in chosen}, {p.id for p in chosen}
            paired = _is_pair(chosen, board) is True
            rank = (size, paired, -len(kinds), speed, -len(ids), -float(cost))
            if rank > best[0]:
                best = (rank, chosen)
    return list(best[1])
