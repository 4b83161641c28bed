"""The eight ways: whether each is allowed, what it keeps and what must be done again, how risky it is, and its parts.

A way's time is a list of pieces, each as 10th, 50th and 90th percentile in seconds and with or without hands on it; the
model of `times` draws from them.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Literal

from neogenesis.core.decide.case import Facts
from neogenesis.core.decide.numbers import Minutes, numbers
from neogenesis.core.judgement import judgement

Way = Literal["replace", "split", "beside", "exact", "salvage", "fresh", "do-less", "replace-machine"]
WAYS: tuple[Way, ...] = ("replace", "split", "beside", "exact", "salvage", "fresh", "do-less", "replace-machine")
Connection = Literal["enclosure", "second-dock", "internal-slot", "third-drive", "stick"]
_ROOM = frozenset(("full", "wants-room"))
_READING: tuple[Way, ...] = ("replace", "split", "exact", "salvage")
_BROKEN_SYSTEM = frozenset(("loop", "malware"))
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
    parts_cost: Decimal
    keeps: tuple[str, ...]
    again: tuple[str, ...]
    risk_percent: float
    risk_reasons: tuple[str, ...] = ()
    again_count: int = field(default=0)


def consider(way: Way, facts: Facts) -> Considered:
    """Everything about one way but its drawn times."""
    against = list(_against(way, facts))
    keeps, again = _keeps(way, facts), _again(way, facts)
    connection = _connection(way, facts)
    openings = _openings(way, connection)
    risks = list(_risks(way, facts))
    return Considered(
        way=way,
        allowed=not against,
        solves=_solves(way, facts),
        reasons=tuple(against) or tuple(_for(way, facts)),
        pieces=tuple(_adjusted(piece, facts) for piece in _pieces(way, facts, openings)),
        connection=connection,
        openings=openings,
        parts_cost=_parts_cost(way, facts),
        keeps=keeps,
        again=again,
        risk_percent=_together(risks),
        risk_reasons=tuple(text for _, text in risks if text),
        again_count=len(again) if way in ("fresh", "salvage", "replace-machine") else 0,
    )


def _parts_cost(way: Way, facts: Facts) -> Decimal:
    if way == "replace-machine":
        return facts.replacement or Decimal(0)
    if way == "do-less" or (way == "fresh" and not facts.offered):
        return Decimal(0)
    return facts.new_cost


# Allowed or not


def _against(way: Way, facts: Facts) -> Iterator[str]:
    """Each reason that rules a way out, as a sentence."""
    copies_system = way in ("replace", "split", "exact")
    if copies_system and "malware" in facts.symptoms:
        yield "Malware is suspected: its system is never copied."
    if copies_system and ("no-system" in facts.symptoms or facts.is_empty):
        yield "There is nothing to copy."
    if way in ("replace", "split") and facts.encrypted:
        yield "A volume is encrypted: nothing is resized before it is decrypted."
    if way in ("replace", "split") and facts.unclean:
        yield "A volume is unclean or holds a sleeping system: shut it down fully first."
    if way in ("replace", "split", "salvage") and not facts.understood and facts.used_bytes is not None:
        yield "What is on it is not understood: only an exact copy carries it."
    if copies_system and facts.health == "lost-cause" and not facts.imaged:
        yield "The drive no longer answers."
    if way in ("replace", "split", "exact", "beside") and facts.offered and not facts.fits:
        yield "None of the drives offered fits into the machine."
    yield from _too_small(way, facts)
    if way in ("split", "beside") and not facts.free_bay:
        yield "There is no second bay for it."
    if way in ("split", "beside") and facts.image_first:
        yield "The old drive is failing: nothing may stay on it."
    if way == "salvage" and facts.must_survive == "nothing":
        yield "Nothing has to survive."
    if way == "do-less" and (facts.image_first or facts.symptoms & {"malware", "loop", "no-start", "no-system", "wet"}):
        yield "The trouble does not go away by itself."
    if way == "replace-machine" and facts.replacement is None:
        yield "No price of another machine is known."


def _too_small(way: Way, facts: Facts) -> Iterator[str]:
    new = facts.new_bytes
    if new is None:
        return
    stop = judgement().fill_stop_percent / 100
    if way == "replace" and facts.used_bytes is not None and facts.used_bytes > new * stop:
        yield "What is used does not fit on the new drive."
    if way == "split" and facts.system_bytes is not None and facts.system_bytes > new * stop:
        yield "Not even the system fits on the new drive."
    if way == "exact" and facts.size_bytes is not None and facts.size_bytes > new:
        yield "The new drive is smaller than the old one."


def _solves(way: Way, facts: Facts) -> bool:
    """Whether it does what was asked and keeps what must survive."""
    symptoms = facts.symptoms
    if "no-system" in symptoms or facts.must_survive == "nothing":
        return way in ("fresh", "replace-machine")
    if facts.health == "lost-cause":
        return way in ("salvage", "replace-machine")
    if symptoms & _BROKEN_SYSTEM:
        return way in ("fresh", "replace-machine")
    if not facts.understood:
        return way == "exact"
    if facts.encrypted:
        return way == "exact"
    files_only = facts.must_survive == "files"
    if way in ("salvage",):
        return files_only and ("no-start" in symptoms or facts.image_first)
    if way == "fresh":
        return True
    if way == "do-less":
        return _room_only(facts) or _drive_is_no_cause(facts)
    if way == "beside":
        return bool(symptoms & _ROOM) and not facts.mechanical and not symptoms & {"slow", "freezes", "noise"}
    if way == "split":
        return not files_only and bool(facts.mechanical) and not _all_fits(facts)
    return way != "exact"  # it leaves the new room unused: only where nothing else carries what is there


def _all_fits(facts: Facts) -> bool:
    """Whether everything that is used has its place on the new drive."""
    return not list(_too_small("replace", facts))


def _room_only(facts: Facts) -> bool:
    """Only room is missing, and what is there is fast and sound."""
    return bool(facts.symptoms) and facts.symptoms <= _ROOM and not facts.mechanical and not facts.image_first


def _drive_is_no_cause(facts: Facts) -> bool:
    """Slow with a sound, fast drive that has room: it is not the drive."""
    full = facts.fill_percent >= judgement().why.full_percent
    return (
        facts.symptoms <= {"slow"}
        and bool(facts.symptoms)
        and facts.mechanical is False
        and not full
        and (facts.health in ("sound", "unknown"))
    )


# For it, what it keeps, what must be done again


def _for(way: Way, facts: Facts) -> Iterator[str]:
    texts: dict[Way, str] = {
        "replace": "Everything stays where it was; nothing is set up again.",
        "split": "The system becomes fast, the data stays where it is.",
        "beside": "Room is added, and nothing has to be touched.",
        "exact": "Sector for sector: nothing has to be understood.",
        "salvage": "The files are brought to safety, and nothing else is attempted.",
        "fresh": "No damage, malware or leftovers come along.",
        "do-less": "A card, cleaning up or memory may be all that is needed.",
        "replace-machine": "A new machine does more, and its updates go on.",
    }
    yield texts[way]
    if facts.imaged:
        yield "What was read already is kept, and is the source from now on."
    elif facts.image_first and way in ("replace", "exact", "salvage", "fresh"):
        yield "The drive is failing: it is imaged first, and the image decides."
    if way == "fresh" and facts.symptoms & _BROKEN_SYSTEM:
        yield "What is wrong is in the system itself."
    if way in ("replace", "split") and facts.mechanical:
        yield "The old drive is mechanical; most of the waiting is its own."


def _keeps(way: Way, facts: Facts) -> tuple[str, ...]:
    files = () if facts.must_survive == "nothing" else ("files",)
    if way in ("replace", "split", "exact", "beside", "do-less"):
        return (*files, "programs", "settings", "licences", "accounts")
    return files if way in ("salvage", "fresh", "replace-machine") else ()


def _again(way: Way, facts: Facts) -> tuple[str, ...]:
    if way in ("fresh", "replace-machine"):
        programs = facts.programs
        named = f"{programs} programs" if programs else "programs"
        if "no-system" in facts.symptoms:
            return ("drivers", "accounts")
        return (named, "settings", "drivers", "licences", "accounts")
    if way == "salvage":
        return ("a system to use the files with",)
    again = []
    if facts.encrypted and way in ("replace", "split", "exact"):
        again.append("encryption")
    if way == "replace":
        again.append("a moved recovery may have to be registered")
    return tuple(again)


# Time


def _pieces(way: Way, facts: Facts, openings: int) -> Iterator[Piece]:
    n = numbers()
    hands = n.hands
    for _ in range(openings):
        yield _hands(n.opening.get(facts.machine_kind, n.opening["other"]), "opening")
    copied = facts.used_bytes if facts.used_bytes is not None else _USUAL_BYTES
    if way in ("replace", "split", "exact"):
        yield from (_hands(hands.connect, "connect"), _hands(hands.plan, "plan"), _hands(hands.check, "check"))
        size = {"split": facts.system_bytes, "exact": facts.size_bytes}.get(way) or copied
        yield from _copying(size, facts)
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
            for _ in range(min(facts.programs if facts.programs is not None else 12, 400)):
                yield _hands(hands.program, "program")
        yield _hands(hands.check, "check")
    elif way == "do-less":
        yield _hands(hands.clean, "clean")
    else:
        yield from (_hands(hands.advise, "advise"), _hands(hands.files, "files"))
        yield from _copying(copied, facts)
    yield _hands(hands.handover, "handover")


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


def _copying(size_bytes: int, facts: Facts, back: bool = False) -> Iterator[Piece]:
    """Bytes over the slower of both ends, and read back; a failing drive is imaged first, and gently."""
    rates = judgement().rates
    old = rates.get(facts.read_class, rates["file"]).read
    new = rates.get(facts.new_class, rates["sata"]).write
    slow, middle, fast = (min(a, b) for a, b in zip(old, new, strict=True))
    alone = numbers().alone
    factor = 2.0
    if facts.imaged and not back:
        old = rates["file"].read
        slow, middle, fast = (min(a, b) for a, b in zip(old, new, strict=True))
    elif facts.image_first and not back:
        factor = alone.gentle + alone.image_again
    spread = (factor * size_bytes / fast, factor * size_bytes / middle, factor * size_bytes / slow)
    yield Piece(spread, False, "copy back" if back else "copy")


def _connection(way: Way, facts: Facts) -> Connection:
    if way == "do-less":
        return "stick"
    if way == "replace-machine":
        return "second-dock"
    if not facts.removable:
        return "stick"
    if facts.image_first and not facts.imaged:
        return "third-drive"
    if way in ("beside", "split"):
        return "internal-slot"
    return "stick" if way == "fresh" and not facts.offered else "enclosure"


def _openings(way: Way, connection: Connection) -> int:
    if way in ("do-less", "replace-machine"):
        return 0
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
    if way in ("replace", "split", "exact") and facts.unclean:
        yield r.unclean, "A volume is unclean: files may be damaged already."
    if way not in ("fresh", "replace-machine", "salvage"):
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
