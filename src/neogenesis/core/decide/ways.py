"""The ways: whether each is allowed, what it keeps and what must be done again, how risky it is, and its parts.

A way's time is a list of pieces, each as 10th, 50th and 90th percentile in seconds and with or without hands on it; the
model of `times` draws from them.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal

from neogenesis.core.decide.case import Facts
from neogenesis.core.decide.numbers import Minutes, numbers
from neogenesis.core.decide.price import Item, parts_of, wants_new_drive
from neogenesis.core.decide.rules import against, in_favour, solves
from neogenesis.core.decide.way import COPYING, IN_WORDS, Connection, Way
from neogenesis.core.estimate import copy_seconds
from neogenesis.core.judgement import judgement
from neogenesis.core.units import both_text

_READING: tuple[Way, ...] = ("replace", "split", "exact", "salvage")
#: Without a survey, what such drives usually hold.
_USUAL_BYTES = 120_000_000_000


@dataclass(frozen=True, slots=True)
class Piece:
    """`spread` in seconds; `hands` tells that somebody must stand by; `name` is the kind of work."""

    spread: Minutes
    hands: bool
    name: str = ""


@dataclass(frozen=True, slots=True)
class Considered:
    """One way for one case. `solves` tells whether it does what the customer needs; `risk_percent` that it fails."""

    way: Way
    allowed: bool
    solves: bool
    reasons: tuple[str, ...]
    pieces: tuple[Piece, ...]
    connection: Connection
    openings: int
    items: tuple[Item, ...]
    keeps: tuple[str, ...]
    again: tuple[str, ...]
    risk_percent: float
    risk_reasons: tuple[str, ...] = ()
    again_count: int = field(default=0)

    @property
    def parts_cost(self) -> Decimal:
        return sum((item.amount for item in self.items), Decimal(0))


def consider(way: Way, facts: Facts) -> Considered:
    """Everything about one way but its drawn times."""
    reasons_against = list(against(way, facts))
    keeps, again = _keeps(way, facts), _again(way, facts)
    connection = _connection(way, facts)
    openings = _openings(way, connection, facts)
    risks = list(_risks(way, facts))
    return Considered(
        way=way,
        allowed=not reasons_against,
        solves=solves(way, facts),
        reasons=tuple(reasons_against) or tuple(in_favour(way, facts)),
        pieces=tuple(_adjusted(piece, facts) for piece in _pieces(way, facts, openings)),
        connection=connection,
        openings=openings,
        items=parts_of(way, facts),
        keeps=keeps,
        again=again,
        risk_percent=_together(risks),
        risk_reasons=tuple(text for _, text in risks if text),
        again_count=len(again) if way in ("fresh", "salvage", "replace-machine") else 0,
    )


# What it keeps, what must be done again


def _keeps(way: Way, facts: Facts) -> tuple[str, ...]:
    files = () if facts.must_survive == "nothing" else ("files",)
    if way in (*COPYING, "beside", "do-less", "repair-start", "repair-cause"):
        return (*files, "programs", "settings", "licences", "accounts")
    return files if way in ("salvage", "fresh", "replace-machine") else ()


def _again(way: Way, facts: Facts) -> tuple[str, ...]:
    elsewhere = facts.not_here_bytes if facts.must_survive != "nothing" else 0
    fetched = (f"{both_text(elsewhere)} that are only in an account, fetched from there",) if elsewhere else ()
    if way in ("fresh", "replace-machine"):
        programs = facts.programs
        named = f"{programs} programs" if programs else "programs"
        if "no-system" in facts.symptoms:
            return ("drivers", "accounts", *fetched)
        return (named, "settings", "drivers", "licences", "accounts", *fetched)
    if way == "salvage":
        return ("a system to use the files with", *fetched)
    again = []
    if facts.encrypted and way == "exact":
        again.append("the key at the first start")
        if facts.symptoms & {"full", "wants-room"}:
            again.append("the new room, which its own system gives to the encrypted volume")
    if way == "replace" and facts.recovery is not False:
        again.append("a moved recovery may have to be registered")
    return tuple(again)


# Time


def _pieces(way: Way, facts: Facts, openings: int) -> Iterator[Piece]:
    n = numbers()
    hands = n.hands
    usual = n.opening.get(facts.machine_kind, n.opening["other"])
    if facts.opening_seconds is not None:  # its own steps, with the spread that is usual
        low, middle, high = usual
        own = facts.opening_seconds / 60
        usual = (own * low / middle, own, own * high / middle)
    for _ in range(openings):
        yield _hands(usual, "opening")
    copied = facts.used_bytes if facts.used_bytes is not None else _USUAL_BYTES
    if way in COPYING:
        yield from (_hands(hands.connect, "connect"), _hands(hands.plan, "plan"), _hands(hands.check, "check"))
        size = {"split": facts.system_bytes, "exact": facts.size_bytes}.get(way) or copied
        yield from _copying(size, facts, prepared=int(way != "exact"))
    elif way == "beside":
        yield from (_hands(hands.plan, "plan"), _hands(hands.check, "check"))
    elif way == "salvage":
        yield from (_hands(hands.connect, "connect"), _hands(hands.files, "files"))
        yield from _copying(copied, facts)
    elif way == "fresh":
        yield from (
            _hands(hands.install, "install"),
            _alone(n.alone.install, "installation"),
            _alone(n.alone.updates, "updates"),
            _hands(hands.drivers, "drivers"),
        )
        if facts.must_survive != "nothing" and "no-system" not in facts.symptoms:
            yield from (
                _hands(hands.connect, "connect"),
                _hands(hands.files, "files"),
                _hands(hands.settings, "settings"),
            )
            yield from _copying(copied, facts)
            yield from _copying(copied, facts, back=True)
            yield from _programs(facts)
        yield _hands(hands.check, "check")
    elif way == "do-less":
        yield _hands(hands.clean, "clean")
    elif way == "repair-start":
        yield from (_hands(hands.repair_start, "repair"), _hands(hands.check, "check"))
    elif way == "repair-cause":
        yield from (_hands(hands.repair_cause, "repair"), _hands(hands.check, "check"))
    elif way in ("refer", "nothing-yet"):
        yield _hands(hands.refer if way == "refer" else hands.explain, "advise")
        return
    else:
        yield from (_hands(hands.advise, "advise"), _hands(hands.files, "files"))
        yield from _copying(copied, facts)
        if facts.must_survive == "everything" and "no-system" not in facts.symptoms:
            yield _hands(hands.settings, "settings")
            yield from _programs(facts)
    yield _hands(hands.handover, "handover")


def _programs(facts: Facts) -> Iterator[Piece]:
    """Each program that has to come back."""
    for _ in range(min(facts.programs if facts.programs is not None else 12, 400)):
        yield _hands(numbers().hands.program, "program")


def _hands(minutes: Minutes, name: str) -> Piece:
    return Piece(_seconds(minutes), True, name)


def _alone(minutes: Minutes, name: str) -> Piece:
    return Piece(_seconds(minutes), False, name)


def _adjusted(piece: Piece, facts: Facts) -> Piece:
    """As somebody said for this case, else as the shop's own past has it."""
    for name, seconds in facts.own_seconds:
        if name == piece.name and piece.spread[1] > 0:
            return replace(piece, spread=_times(piece.spread, seconds / piece.spread[1]))
    factors = dict(facts.factors)
    for kind in (piece.name, kind_of(piece)):  # its own kind of work first
        if kind in factors:
            return replace(piece, spread=_times(piece.spread, factors[kind]))
    return piece


def kind_of(piece: Piece) -> str:
    """Under which kind of work the shop's past is counted: `hands`, or what runs alone by its name."""
    return "hands" if piece.hands else piece.name


def _times(spread: Minutes, factor: float) -> Minutes:
    low, middle, high = spread
    return (low * factor, middle * factor, high * factor)


def _seconds(minutes: Minutes) -> Minutes:
    low, middle, high = minutes
    return (60 * low, 60 * middle, 60 * high)


def _copying(size_bytes: int, facts: Facts, back: bool = False, prepared: int = 0) -> Iterator[Piece]:
    """Bytes over the slower of both ends, and read back: the plan's own estimate. A failing drive is imaged first, and
    gently."""
    rates = judgement().rates
    old, new = rates.get(facts.read_class, rates["file"]), rates.get(facts.new_class, rates["sata"])
    cache = facts.new_cache if not back else None
    image = (0.0, 0.0, 0.0)
    if facts.imaged and not back:
        old = rates["file"]
    elif facts.images_first and not back:
        image = copy_seconds(old, rates["sata"], size_bytes, 0, size_bytes, gentle=judgement().gentle)
        old = rates["sata"]
    copy = copy_seconds(old, new, size_bytes, prepared, size_bytes, cache=cache)
    low, middle, high = (a + b for a, b in zip(image, copy, strict=True))
    yield Piece((low, middle, high), False, "copy back" if back else "copy")


def _connection(way: Way, facts: Facts) -> Connection:
    if way == "replace-machine":
        return "second-dock"
    if way in IN_WORDS:
        return "stick"
    if not facts.removable:
        return "internal-slot" if facts.free_bay and facts.fits else "stick"
    if facts.images_first and not facts.imaged:
        return "third-drive"
    if way in ("beside", "split"):
        return "internal-slot"
    return "stick" if way == "fresh" and not facts.offered else "enclosure"


def _openings(way: Way, connection: Connection, facts: Facts) -> int:
    if way in IN_WORDS:
        return 0
    if way == "fresh" and facts.removable and wants_new_drive(facts):
        return 1
    return 0 if connection == "stick" else 1


def _risks(way: Way, facts: Facts) -> Iterator[tuple[float, str]]:
    """Chances in per cent that the way has to be left, each with its reason; the usual one has none."""
    r = numbers().risk
    reads = way in _READING or (way == "fresh" and facts.must_survive != "nothing")
    touches = reads and not facts.imaged
    yield r.base, ""
    if touches and facts.health == "lost-cause":
        yield r.lost, "The old drive no longer answers."
    elif touches and facts.image_first:
        yield r.failing, "The old drive is failing, and has to be read."
    if touches and facts.is_hurt:
        yield r.hurt, "The drive was hurt: each start can cost more of it."
    if way in COPYING and facts.unclean:
        yield r.unclean, "A volume is unclean: files may be damaged already."
    if way not in ("fresh", "replace-machine", "salvage", "refer", "nothing-yet"):
        if "malware" in facts.symptoms:
            yield r.malware, "Malware would stay."
        if "loop" in facts.symptoms:
            yield r.damaged_system, "The damage in the system would stay."
    if way == "fresh":
        yield r.fresh, "A program or driver may not be found again."


def _together(risks: Sequence[tuple[float, str]]) -> float:
    """Per cent; independent chances of failing."""
    stays = 1.0
    for chance, _ in risks:
        stays *= 1 - chance / 100
    return 100 * (1 - stays)


def life_percent(one: Considered, facts: Facts) -> float:
    """Share of the reading that such an old drive usually still has in it; 0 where it is not read any more."""
    if facts.imaged:
        return 0.0
    hours = sum(p.spread[1] for p in one.pieces if p.name == "copy") / 3600
    return min(100.0, 100 * hours / numbers().life.get(facts.health, numbers().life["unknown"]))
