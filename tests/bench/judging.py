"""The judgement calls: the model of the ways, the matrix of parts and bays, and the best assignment."""

from __future__ import annotations

import random
import resource
import time
from collections.abc import Callable
from dataclasses import replace
from decimal import Decimal

import neogenesis.bench  # noqa: F401 - hands the numbers in
from neogenesis.core.decide import decide
from neogenesis.core.decide.fleet import Seats, fleet
from neogenesis.core.fit import Part
from neogenesis.core.fit.assign import assign
from neogenesis.core.fit.matrix import matrix
from neogenesis.core.fit.sets import likely, worth_having
from neogenesis.core.machine import Machine
from tests.bench.figure import ROUNDS, Figure, spread
from tests.test_decide import USUAL
from tests.test_fit import bay, low_bay, machine, part, ssd

_PARTS, _BAYS, _SEVERAL, _FEW = 5000, 200, 12, 4


def _times(work: Callable[[int], object]) -> list[float]:
    work(0)
    found = []
    for number in range(1, ROUNDS + 1):
        started = time.perf_counter()
        work(number)
        found.append(1000 * (time.perf_counter() - started))
    return found


def _catalogue(bays: int) -> tuple[Machine, list[Part]]:
    rng = random.Random(1)
    parts = [
        (ssd if rng.random() < 0.5 else part)(
            f"p{n}",
            read_bytes_per_s=rng.randrange(1, 70) * 1e8,
            price=str(rng.randrange(20, 300)),
            capacity_gb=rng.choice([250, 500, 1000, 2000]),
        )
        for n in range(_PARTS)
    ]
    places = [(low_bay if rng.random() < 0.5 else bay)(f"b{n}", starts_system=rng.random() < 0.5) for n in range(bays)]
    return machine(*places), parts


def judging() -> list[Figure]:
    """In this process, as the window asks for them while a slider moves."""
    ways = _times(lambda n: decide(replace(USUAL, programs=n)))
    large, parts = _catalogue(_BAYS)
    many = _times(lambda n: matrix(large, parts, (), None))
    several, parts = _catalogue(_SEVERAL)
    prices = {p.id: p.cost for p in parts}
    chosen = matrix(several, parts, (), None).worth_trying([prices[p.id] or 0 for p in parts])  # type: ignore[misc]
    placed = _times(lambda n: assign(chosen, prices, None))
    few, parts = _catalogue(_FEW)
    able = likely(matrix(few, parts, (), None), prices)
    sets = _times(lambda n: worth_having(able, prices, 10**9 * n))
    office = [Seats(f"m{n}", kind, 400, Decimal(60)) for n, kind in enumerate(("laptop", "tower", "all-in-one"))]
    many_seats = _times(
        lambda n: fleet(replace(USUAL, programs=n), "replace", office, 8, Decimal(400), Decimal(30_000))
    )
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return [
        Figure("Eight ways weighed, 20,000 draws each", spread(ways, " ms", 0), "at most 200 ms", max(ways) <= 200, ""),
        Figure(
            f"{_PARTS:,} parts against {_BAYS} bays",
            spread(many, " ms", 0),
            "at most 2,000 ms and 300 MiB",
            max(many) <= 2000 and memory <= 300,
            f"{memory:.0f} MiB in all",
        ),
        Figure(
            f"Best of {_PARTS:,} parts for {_SEVERAL} bays",
            spread(placed, " ms", 0),
            "-",
            True,
            "exact, after what cannot matter was left out",
        ),
        Figure(
            f"Sets of {_PARTS:,} parts for {_FEW} bays", spread(sets, " ms", 0), "at most 500 ms", max(sets) <= 500, ""
        ),
        Figure("1,200 seats on 8 docks", spread(many_seats, " ms", 0), "at most 200 ms", max(many_seats) <= 200, ""),
    ]


PARTS = (judging,)
