"""Thousands of parts against hundreds of bays at once: what is alike is judged once.

Verdicts and rates are arrays; a single pair with its reasons is made when it is asked for.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

import msgspec
import numpy as np

from neogenesis.core.fit.match import Match, Verdict, bus_rate, match
from neogenesis.core.fit.part import Part
from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import Bay

VERDICTS: tuple[Verdict, ...] = ("does-not-fit", "fits-with", "fits")
_GEOMETRY = (
    *("form", "interface", "key", "length_mm", "sides", "height_above_mm", "height_below_mm", "thickness_mm"),
    "capacity_gb",
)
_BUS = ("interface", "pcie_generation", "pcie_lanes")


@dataclass(frozen=True, slots=True)
class Matrix:
    """`verdicts` holds indices into `VERDICTS`, parts by bays; `rates` bytes per second, not a number where unknown.

    `kind_of` each part is the same number for parts that are alike in all that their verdicts depend on but the price.
    """

    parts: tuple[Part, ...]
    bays: tuple[Bay, ...]
    verdicts: np.ndarray
    rates: np.ndarray
    machine: Machine
    near: tuple[Part, ...]
    budget: Decimal | None
    kind_of: np.ndarray

    def match(self, part: int, bay: int) -> Match:
        """That pair with all its reasons."""
        return match(self.parts[part], self.bays[bay], self.machine, self.near, self.budget)

    def all(self) -> list[Match]:
        return [self.match(p, b) for p in range(len(self.parts)) for b in range(len(self.bays))]

    def worth_trying(self, prices: Sequence[Decimal]) -> list[Match]:
        """Pairs among which the best assignment is: for each bay its best parts, as many as there are bays.

        A part beyond them could always be exchanged for one of them that nobody uses. Under a budget the cheapest are
        kept as well.
        """
        count = len(self.bays)
        cost = np.array([float(p) for p in prices])
        kept: set[tuple[int, int]] = set()
        for bay in range(count):
            able = np.flatnonzero(self.verdicts[:, bay])
            rates = np.nan_to_num(self.rates[able, bay], nan=1.0)
            best = able[np.lexsort((cost[able], -rates))][:count]
            kept |= {(int(p), bay) for p in best}
            if self.budget is not None:
                kept |= {(int(p), bay) for p in able[np.argsort(cost[able], kind="stable")][:count]}
        return [self.match(p, b) for p, b in sorted(kept, key=lambda pair: (pair[1], pair[0]))]


def matrix(machine: Machine, parts: Sequence[Part], near: Sequence[Part], budget: Decimal | None) -> Matrix:
    """Drives against all bays. `near` are adapters, caddies and the parts that bays hold."""
    bays = machine.bays
    part_of, models = _alike([tuple(getattr(p, n) for n in _GEOMETRY) for p in parts])
    plain = [msgspec.structs.replace(b, holds=None, name="", shares_with=()) for b in bays]
    shapes = [msgspec.structs.replace(b, pcie_generation=None, pcie_lanes=None, sata_gbit_s=None) for b in plain]
    bay_of, kinds = _alike([msgspec.json.encode(b) for b in shapes])
    table = np.zeros((len(models), len(kinds)), dtype=np.int8)
    for m, p in enumerate(models):
        for k, b in enumerate(kinds):
            table[m, k] = VERDICTS.index(match(parts[p], plain[b], machine, near).verdict)
    verdicts = table[part_of][:, bay_of] if len(parts) and len(bays) else np.zeros((len(parts), len(bays)), np.int8)
    _rule_out(verdicts, parts, bays, near, budget)
    return Matrix(tuple(parts), bays, verdicts, _rates(parts, bays), machine, tuple(near), budget, part_of)


def _rule_out(
    verdicts: np.ndarray, parts: Sequence[Part], bays: Sequence[Bay], near: Sequence[Part], budget: Decimal | None
) -> None:
    """Bays that are taken, and parts that cost more than there is; what is in the machine already stays."""
    ids = {p.id: n for n, p in enumerate(parts)}
    named = {p.id for p in near}
    own = [(ids[b.holds], n, int(verdicts[ids[b.holds], n])) for n, b in enumerate(bays) if b.holds in ids]
    taken = [n for n, b in enumerate(bays) if b.holds is not None and b.holds not in named]
    verdicts[:, taken] = 0
    if budget is not None:
        dear = [n for n, p in enumerate(parts) if p.cost is not None and p.cost > budget]
        verdicts[dear, :] = 0
    for part, bay, verdict in own:
        verdicts[part, bay] = verdict


def _rates(parts: Sequence[Part], bays: Sequence[Bay]) -> np.ndarray:
    part_of, models = _alike([tuple(getattr(p, n) for n in _BUS) for p in parts])
    bay_of, kinds = _alike([(b.pcie_generation, b.pcie_lanes, b.sata_gbit_s, b.interfaces) for b in bays])
    bus = np.array([[bus_rate(parts[p], bays[b]) for b in kinds] for p in models]).reshape(len(models), len(kinds))
    reads = np.array([np.nan if p.read_bytes_per_s is None else p.read_bytes_per_s for p in parts])
    if not len(parts) or not len(bays):
        return np.zeros((len(parts), len(bays)))
    return np.asarray(np.minimum(reads[:, None], bus[part_of][:, bay_of]))


def _alike(keys: Sequence[object]) -> tuple[np.ndarray, list[int]]:
    """For each key the number of its kind, and for each kind the first place where it stands."""
    kinds: dict[object, int] = {}
    first: list[int] = []
    of = np.empty(len(keys), dtype=np.intp)
    for n, key in enumerate(keys):
        if key not in kinds:
            kinds[key] = len(first)
            first.append(n)
        of[n] = kinds[key]
    return of, first
