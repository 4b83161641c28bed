"""What must be at hand before the machine is opened: what to buy, what is in stock, tools, and small things.

Shafts of drivers and the tools of a kind of machine, where its profile has no steps, are in `data/decide.toml`.
"""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from neogenesis.core.csv_rows import plain_row
from neogenesis.core.fit.match import Match, pad_for
from neogenesis.core.fit.numbers import numbers
from neogenesis.core.fit.part import Part
from neogenesis.core.machine import Machine

Group = Literal["buy", "stock", "tools", "small"]
_GROUPS: tuple[Group, ...] = ("buy", "stock", "tools", "small")


@dataclass(frozen=True, slots=True)
class Line:
    """`price` is for all of `count`; None where there is none. `why` says what it is for."""

    group: Group
    what: str
    count: int
    why: str = ""
    price: Decimal | None = None


def lists_for(machine: Machine, drives: Sequence[Match], modules: Sequence[Part], parts: Sequence[Part]) -> list[Line]:
    """Everything for fitting those drives and memory modules, by group."""
    by_id = {p.id: p for p in parts}
    wanted: Counter[str] = Counter()
    why: dict[str, str] = {}
    lines: list[Line] = []
    for one in drives:
        if one.bay.holds != one.part.id:
            wanted[one.part.id] += 1
            why.setdefault(one.part.id, one.bay.name)
        for need in one.needs:
            if need.ids:
                wanted[need.ids[0]] += 1
                why.setdefault(need.ids[0], need.text)
            else:
                lines.append(Line("buy", need.text, 1, one.bay.name))
    for module in modules:
        wanted[module.id] += 1
        why.setdefault(module.id, "memory")
    for id_, count in wanted.items():
        lines += _from_stock(by_id[id_], count, why[id_])
    lines += _tools(machine, bool(modules))
    lines += _small(machine, drives, parts)
    return sorted(lines, key=lambda line: _GROUPS.index(line.group))


def name_of(part: Part) -> str:
    """Make, model and size, else its id."""
    size = f"{part.capacity_gb:g} GB" if part.capacity_gb else ""
    return " ".join(filter(None, (part.make, part.model, size))) or part.id


def _from_stock(part: Part, count: int, why: str) -> Iterator[Line]:
    there = min(count, part.stock or 0)
    for group, some in (("stock", there), ("buy", count - there)):
        if some:
            price = None if part.cost is None else part.cost * some
            yield Line("stock" if group == "stock" else "buy", name_of(part), some, why, price)


def _tools(machine: Machine, with_memory: bool) -> Iterator[Line]:
    tools = numbers().tools
    purposes = {"open", "drive", *(["memory"] if with_memory else [])}
    steps = [s for s in machine.steps if not s.purposes or purposes & set(s.purposes)]
    held = {f if isinstance(f, str) else f.id for s in steps for f in s.fasteners}
    screws = [f for f in machine.fasteners if f.id in held] if steps else list(machine.fasteners)
    for head in dict.fromkeys(f.head for f in screws if f.head):
        shaft = tools.shaft_mm.get(head)
        long = max((f.length_mm or 0 for f in screws if f.head == head), default=0)
        count = sum(f.count for f in screws if f.head == head)
        thick = f", shaft {shaft:g} mm" if shaft else ""
        what = f"driver {head}{thick}, at least {tools.shaft_long_mm:g} mm long"
        yield Line("tools", what, 1, f"{count} screws, up to {long:g} mm")
    heads = {f.head for f in screws}
    named = dict.fromkeys(s.tool for s in steps if s.tool and s.tool not in heads)
    for tool in named or dict.fromkeys(tools.by_kind.get(machine.kind or "other", tools.by_kind["other"])):
        yield Line("tools", tool, 1, "opening")
    yield Line("tools", "tweezers of plastic, wrist strap, trays for screws", 1, "always")


def _small(machine: Machine, drives: Sequence[Match], parts: Sequence[Part]) -> Iterator[Line]:
    in_m2 = [m for m in drives if m.bay.kind == "m2"]
    if in_m2:
        yield Line("small", "screw M2x3", len(in_m2), "the drive's own may be missing")
    for one in in_m2:
        up, high = one.bay.clearance_above_mm, one.part.height_above_mm
        if up is None or high is None:
            continue
        gap = up - high
        if pad_for(gap, parts) is None:
            yield Line("small", "no pad", 1, f"only {gap:.2g} mm are free above it in {one.bay.name}")
    if machine.openings is not None and machine.openings.seal:
        yield Line("small", "consent for breaking the seal", 1, machine.openings.seal)


def as_csv(lines: Sequence[Line]) -> str:
    """With a head; prices as decimal text."""
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(("list", "what", "count", "for", "price"))
    for line in lines:
        price = "" if line.price is None else f"{line.price:.2f}"
        rows.writerow(plain_row((line.group, line.what, line.count, line.why, price)))
    return out.getvalue()
