"""Every number that is an opinion (`data/judgement.toml`, `data/decide.toml`) lies where it says: on one side of it the
answer is another than on the other. What is no limit but an amount is listed as such, with what it is an amount of.
"""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from decimal import Decimal
from pathlib import Path
from typing import Any, cast

import msgspec
import pytest

from neogenesis.core.decide import decide
from neogenesis.core.decide.decision import _row
from neogenesis.core.decide.ways import consider
from neogenesis.core.drive import Drive, Health
from neogenesis.core.errors import ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.fit.match import Match
from neogenesis.core.fit.sets import DriveSet, proposed
from neogenesis.core.image.make import ranges_in_use
from neogenesis.core.job.past import Outcome, learned
from neogenesis.core.judgement import judgement
from neogenesis.core.rescue.fetch import Fetcher
from neogenesis.core.rescue.rest import Rests
from neogenesis.core.store import MemoryStore
from neogenesis.core.store.narrow import Patience
from neogenesis.core.survey import PartitionFacts, Survey, Surveyed, TableFacts, VolumeFacts
from neogenesis.core.survey.filling import FillCount, Filling, Share, kinds
from neogenesis.core.survey.findings import _of_partition
from neogenesis.core.survey.profile import Sounding, SpeedProfile, Zone, _judged, profile_drive
from neogenesis.core.survey.stalls import Stalled, StallWatch
from neogenesis.core.survey.survey import _role
from neogenesis.core.survey.why import AtTheMachine, explanations
from neogenesis.core.system.inside import Inside, Program
from neogenesis.core.table import Partition
from tests.test_decide import GB, with_

DATA = Path(__file__).parents[1] / "src/neogenesis/data"
JUDGEMENT = tomllib.loads((DATA / "judgement.toml").read_text("utf-8"))
DECIDE = tomllib.loads((DATA / "decide.toml").read_text("utf-8"))


def partition(**fields: Any) -> PartitionFacts:
    volume = {"kind": "ext4", "size_bytes": 100_000, "understood": True, **fields}
    return PartitionFacts(
        number=1,
        start_bytes=1 << 20,
        size_bytes=volume["size_bytes"],
        type_id="",
        unique_id="",
        name="",
        attributes=0,
        role="data",
        volume=VolumeFacts(**volume),
    )


def survey(*partitions: PartitionFacts, **fields: Any) -> Survey:
    return Survey(
        drive=Drive(path="/old", size_bytes=1 << 30, sector_size=512),
        table=TableFacts(kind="gpt", disk_id="", problems=()),
        partitions=partitions,
        findings=(),
        fingerprint="f",
        health=Health(verdict="sound"),
        **fields,
    )


def codes(*partitions: PartitionFacts, **more: Any) -> tuple[str, ...]:
    known = {"profile": None, "fillings": (), "inside": (), "machine": AtTheMachine()} | more
    return tuple(one.code for one in explanations(survey(*partitions), **known))


def at_the_machine(field: str) -> Callable[[float], Any]:
    return lambda value: codes(machine=AtTheMachine(**{field: value}))


# What would be seen where a quantity has that value


def nearly_full(percent: float) -> Any:
    return tuple(f.code for f in _of_partition(partition(used_bytes=round(percent * 1000)), ""))


def too_full(percent: float) -> Any:
    return "replace" in {
        row.way for row in decide(with_(used_bytes=round(percent * 10 * GB), new_bytes=1000 * GB)).ways if row.allowed
    }


def gap(length: float) -> Any:
    """Whether two used stretches that far apart are imaged as one."""
    places = Extents.of([(0, 1 << 20), ((1 << 20) + int(length), 3 << 20)])
    held = survey(partition(size_bytes=1 << 26))
    return len(ranges_in_use(Surveyed(held, {1: places})).array)


@dataclass
class Loader:
    """A volume as reading it gives it."""

    kind: str = "ntfs"
    system_family: str = ""
    has_loader: bool = True


def is_startup(size: float) -> Any:
    place = Partition(1, 1 << 20, int(size), "", "", "", 0)
    return _role(place, cast("Any", Loader()))


class Clock:
    """Time that passes when somebody says so."""

    def __init__(self) -> None:
        self.time = 0.0

    def now(self) -> float:
        return self.time


def patience(seconds: float) -> Any:
    clock = Clock()
    made = Patience(clock.now)
    clock.time = seconds
    return made.is_over


class Slow(MemoryStore):
    """Each read takes as long as `takes` says."""

    def __init__(self, clock: Clock, takes: Callable[[int], float], size: int = 64 << 20) -> None:
        super().__init__(size)
        self._clock, self._takes, self.asked = clock, takes, 0

    def read_into(self, offset: int, buffer: memoryview) -> None:
        self._clock.time += self._takes(self.asked)
        self.asked += 1
        super().read_into(offset, buffer)


def profiled(takes: Callable[[int], float]) -> SpeedProfile:
    clock = Clock()
    return profile_drive(Slow(clock, takes, 900 << 20), clock.now, (), "f")


def sampled(rates: list[float], seek: float = 0.001) -> SpeedProfile:
    places = [Sounding(offset_bytes=n << 20, seek_s=seek, bytes_per_s=rate) for n, rate in enumerate(rates)]
    return _judged(places, len(rates) << 20, (), "f", "whole", 1.0)


def errors(count: float) -> Any:
    class Failing(MemoryStore):
        def read_into(self, offset: int, buffer: memoryview) -> None:
            Failing.left -= 1
            if Failing.left >= 0:
                raise ReadFailed(offset, len(buffer), "unreadable")
            super().read_into(offset, buffer)

        left = int(count)

    return profile_drive(Failing(900 << 20), lambda: 0.0, (), "f").ended


def flat(share: float) -> Any:
    """Rates that vary by that share of the median, just below what a link lets through."""
    middle = 2.8e8
    low, high = middle * (1 - share / 2), middle * (1 + share / 2)
    return sampled([low, low, low, *[middle] * 6, high, high, high]).link


def near_link(share: float) -> Any:
    return sampled([2.9e8 * share] * 12).link


def slow_place(share: float) -> Any:
    return len(sampled([1e8] * 9 + [1e8 * share]).zones)


def slow_zone(share: float) -> Any:
    whole = sampled([1e8] * 10)
    zone = Zone(start_bytes=0, end_bytes=round(whole.size_bytes * share), bytes_per_s=1e6)
    return codes(profile=msgspec.structs.replace(whole, zones=(zone,), mechanical=False, link=""))


def filled(**fields: Any) -> Filling:
    made = FillCount().filling("f", 1, 1000, 0, True, 0.0)
    return msgspec.structs.replace(made, **fields)


def reclaimed(share: float) -> Any:
    kind = next(kind for kind in kinds() if kind.clear)
    shares = (Share(name=kind.code, bytes=round(share * 100_000), files=1),)
    return codes(fillings=(filled(size_bytes=100_000, kinds=shares),))


def rested(stalls: list[float], celsius: Callable[[float], float | None] = lambda waited: None) -> list[float]:
    """How long it rests after reads that took so long, a second apart; the temperature by how long it has rested."""
    waits: list[float] = []
    rests = Rests(lambda: celsius(sum(waits)), waits.append)
    for n, took in enumerate(stalls):
        rests.after_read(took, float(n * 1000))
    return waits


def looks(seconds: float) -> Any:
    """How often it looks at the temperature in reads that far apart."""
    seen: list[float] = []
    rests = Rests(lambda: seen.append(0.0) or 20.0)
    for n in range(2):
        rests.after_read(0.01, n * seconds)
    return len(seen)


def is_slow(usual: float) -> Callable[[float], Any]:
    def ask(took: float) -> Any:
        store, clock = MemoryStore(1 << 20), Clock()
        nothing: Any = None
        fetcher = Fetcher(store, store, nothing, nothing, cast("Any", clock), nothing, lambda: None, Rests())
        fetcher._usual[4096] = usual
        return fetcher._is_slow(4096, took)

    return ask


def stalled(seconds: float) -> Any:
    clock = Clock()
    watch = StallWatch(Slow(clock, lambda n: seconds), clock.now)
    try:
        watch.read(0, 512)
    except Stalled:
        return True
    return False


def level(percent: float) -> Any:
    facts = with_()
    one = consider("replace", facts)
    return _row(replace(one, risk_percent=percent), facts).risk


def another_machine(share: float) -> Any:
    """What is proposed where parts and labour are that share of a new machine."""
    found = decide(with_(must_survive="files", replacement=Decimal(100_000)))
    cost = next(Decimal(row.cost_p50) for row in found.ways if row.way == found.recommended)
    dear = (cost / Decimal(str(share))).quantize(Decimal("0.01"))
    return decide(with_(must_survive="files", replacement=dear)).recommended


def near(wait: float) -> Any:
    """Which of two sets is proposed, where the cheaper one waits so much longer."""
    nothing = cast("Match", None)
    dear = DriveSet((), nothing, Decimal(90), 10**12, 5.0)
    cheap = DriveSet((), nothing, Decimal(40), 10**12, 5.0 + wait)
    found = proposed([dear, cheap], None)
    return found is cheap


def factor(jobs: float) -> Any:
    """What is learned of so many jobs that took twice the time: just that, or less."""
    outcomes = [Outcome(str(n), "", "hands", (50.0, 100.0, 200.0), 200.0) for n in range(int(jobs))]
    [one] = learned(outcomes)
    return round(one.factor, 3) == 2.0


#: Each limit, with what is seen at a value of the quantity that it limits, and how near to it is looked.
LIMITS: dict[str, tuple[Callable[[float], Any], float]] = {
    "judgement.fill.caution_percent": (nearly_full, 0.1),
    "judgement.fill.stop_percent": (too_full, 0.1),
    "judgement.copy.gap_bytes": (gap, 1),
    "judgement.copy.stretch_seconds": (patience, 0.1),
    "judgement.startup.largest_bytes": (is_startup, 1),
    "judgement.rescue.slow_times": (lambda n: is_slow(1.0)(n), 0.01),
    "judgement.rescue.slow_least_seconds": (is_slow(0.0001), 0.001),
    "judgement.rescue.stall_seconds": (lambda s: (len(rested([s])), stalled(s + 0.05)), 0.1),
    "judgement.rescue.hot_celsius": (lambda c: len(rested([0.01], lambda w: c if w < 10 else 20)), 0.1),
    "judgement.rescue.cool_celsius": (
        lambda c: len(rested([0.01], lambda w: 60 if w < 10 else c if w < 20 else 20)),
        0.1,
    ),
    "judgement.rescue.look_seconds": (looks, 0.1),
    "judgement.profile.stall_s": (lambda s: profiled(lambda n: s if n == 4 else 0.0001).ended, 0.01),
    "judgement.profile.longest_s": (lambda s: profiled(lambda n: s / 20 if n < 20 else 0.0).ended, 0.1),
    "judgement.profile.most_errors": (errors, 1),
    "judgement.profile.slow_share": (slow_place, 0.01),
    "judgement.profile.mechanical_seek_s": (lambda s: sampled([1e8] * 9, s).mechanical, 0.0001),
    "judgement.profile.flat_share": (flat, 0.002),
    "judgement.profile.link_share": (near_link, 0.001),
    "judgement.why.full_percent": (lambda p: codes(partition(used_bytes=round(p * 1000))), 0.1),
    "judgement.why.hot_celsius": (at_the_machine("hottest_c"), 0.1),
    "judgement.why.little_memory_gb": (at_the_machine("memory_gb"), 0.1),
    "judgement.why.worn_battery_percent": (at_the_machine("battery_wear_percent"), 0.1),
    "judgement.why.slow_zone_share": (slow_zone, 0.001),
    "judgement.why.many_programs": (
        lambda n: codes(inside=(Inside(programs=tuple(Program(name=str(k)) for k in range(int(n)))),)),
        1,
    ),
    "judgement.why.many_metadata_runs": (lambda n: codes(fillings=(filled(metadata_runs=int(n)),)), 1),
    "judgement.why.reclaim_share": (reclaimed, 0.001),
    "decide.risk.above_some": (level, 0.01),
    "decide.risk.above_high": (level, 0.01),
    "decide.weigh.replace_share": (another_machine, 0.005),
    "decide.set.near_s": (near, 0.01),
    "decide.learning.lets_go": (factor, 1),
}
#: Limits of which the case book holds both sides, by the beginnings of its cases' names.
IN_THE_BOOK: dict[str, tuple[str, str]] = {
    "judgement.beside.cable_errors": ("49-cable-errors", "50-cable-errors"),
    "judgement.health.hot_celsius": ("sata-at-55", "sata-at-56"),
    "judgement.health.hot_mechanical_celsius": ("mechanical-at-50", "mechanical-at-51"),
    "judgement.health.hot_module_celsius": ("module-at-70", "module-at-71"),
    "judgement.health.least_spare_percent": ("spare-at-10", "spare-at-11"),
    "judgement.health.worn_percent": ("89-percent-worn", "90-percent-worn"),
    "judgement.health.spent_percent": ("90-percent-worn", "100-percent-worn-and-spare-unknown"),
    "judgement.health.overspent_percent": ("199-percent", "200-percent"),
    "judgement.health.old_hours": ("49-999-hours", "50-000-hours"),
    "decide.set.pad_mm": ("a-pad-fills-the-gap", "just-as-high-as-there-is-room"),
}
#: What is no limit: how fast, how long, how likely, how dear; by the beginning of its name.
AMOUNTS: dict[str, str] = {
    "judgement.copy.gentle": "times the usual time",
    "judgement.rate.": "bytes per second",
    "judgement.decryption.": "bytes per second",
    "judgement.rescue.rest_seconds": "how long it rests first",
    "judgement.rescue.longest_rest_seconds": "how long it rests at most",
    "judgement.rescue.longest_cooling_seconds": "how long it waits at most",
    "judgement.profile.places": "how many places",
    "judgement.profile.piece_bytes": "how much at each",
    "judgement.profile.links.": "what a link lets through",
    "decide.opening.": "minutes",
    "decide.hands.": "minutes",
    "decide.alone.": "minutes",
    "decide.risk.": "per cent that it has to be left",
    "decide.weigh.": "what weighs how much",
    "decide.price.": "money",
    "decide.start.": "reads, bytes and times of a start",
    "decide.set.grow": "times what is used",
    "decide.tools.shaft": "millimetres",
    "decide.learning.strength": "so many jobs as planned",
    "decide.life.": "hours",
}


def numbers_in(raw: Any, name: str) -> Iterator[tuple[str, float]]:
    if isinstance(raw, dict):
        for key, value in raw.items():
            yield from numbers_in(value, f"{name}.{key}")
    elif isinstance(raw, list) and raw and isinstance(raw[0], int | float):
        yield name, raw[1]
    elif isinstance(raw, int | float) or (isinstance(raw, str) and raw.replace(".", "").isdecimal()):
        yield name, float(raw)


NUMBERS = {**dict(numbers_in(JUDGEMENT, "judgement")), **dict(numbers_in(DECIDE, "decide"))}


def test_every_number_is_a_limit_that_is_tried_or_an_amount() -> None:
    named = {*LIMITS, *IN_THE_BOOK}
    left = [one for one in NUMBERS if one not in named and not any(one.startswith(mark) for mark in AMOUNTS)]
    assert not left and named <= set(NUMBERS)
    assert all(any(one.startswith(mark) for one in NUMBERS) for mark in AMOUNTS), "an amount that is none any more"


@pytest.mark.parametrize("name", LIMITS)
def test_a_limit_lies_where_it_says(name: str) -> None:
    """On one side of it the answer is another than on the other, and further away it is the same as near to it."""
    seen, step = LIMITS[name]
    limit = NUMBERS[name]
    below, at, above = seen(limit - step), seen(limit), seen(limit + step)
    assert below != above and at in (below, above)
    assert (seen(limit - 2 * step), seen(limit + 2 * step)) == (below, above)


@pytest.mark.parametrize("name", IN_THE_BOOK)
def test_the_case_book_has_both_sides(name: str) -> None:
    book = [path.stem for path in (Path(__file__).with_name("cases")).rglob("*.toml")]
    assert all(any(one.startswith(beginning) for one in book) for beginning in IN_THE_BOOK[name])


def test_how_long_a_drive_rests() -> None:
    numbers = judgement().rescue
    stalls = rested([numbers.stall_s + 1] * 6)
    assert stalls == [10.0, 20.0, 40.0, 80.0, 80.0, 80.0] and stalls[0] == numbers.rest_s
    assert sum(rested([0.01], lambda waited: 70.0)) == numbers.longest_cooling_s
