"""Whether a way is allowed, whether it solves what was asked, and what speaks for it. Each rule is a case of the book.

Source of the rules: what practitioners do (`docs/deciding.md`); the numbers are in `data/decide.toml` and
`data/judgement.toml`.
"""

from __future__ import annotations

from collections.abc import Iterator

from neogenesis.core.decide.case import Facts
from neogenesis.core.decide.way import COPYING, WAYS, Way
from neogenesis.core.judgement import judgement

_ROOM = frozenset(("full", "wants-room"))
_MALWARE = frozenset(("malware", "ransomware"))
_BROKEN_SYSTEM = _MALWARE | {"loop"}


def against(way: Way, facts: Facts) -> Iterator[str]:
    """Each reason that rules a way out, as a sentence."""
    yield from _no_copy(way, facts)
    yield from _locked(way, facts)
    yield from _too_small(way, facts)
    yield from _in_machine(way, facts)
    if way == "salvage" and facts.must_survive == "nothing":
        yield "Nothing has to survive."
    if way == "do-less" and (facts.images_first or facts.symptoms & (_BROKEN_SYSTEM | {"no-start", "no-system"})):
        yield "The trouble does not go away by itself."
    if way == "replace-machine" and facts.replacement is None:
        yield "No price of another machine is known."
    if way == "repair-start":
        yield from _no_start_to_repair(facts)
    if way == "repair-cause":
        if not facts.causes:
            yield "No cause beside the drive was found."
        if facts.images_first:
            yield "The drive itself is in danger: it comes first."
    if way == "refer" and not facts.needs_laboratory:
        yield "What can be done here has not been tried, or nothing is lost with the drive."
    if way == "nothing-yet" and _something_solves(facts):
        yield "There is something that can be done now."


def _no_copy(way: Way, facts: Facts) -> Iterator[str]:
    copies = way in COPYING
    if copies and facts.symptoms & _MALWARE:
        yield "Malware is suspected: its system is never copied."
    if copies and ("no-system" in facts.symptoms or facts.is_empty):
        yield "There is nothing to copy."
    if way in ("replace", "split", "salvage") and not facts.understood and facts.used_bytes is not None:
        yield "What is on it is not understood: only an exact copy carries it."
    if way in (*COPYING, "salvage") and facts.health == "lost-cause" and not facts.imaged:
        yield "The drive no longer answers."
    if way in (*COPYING, "beside") and facts.offered and not facts.fits:
        yield "None of the drives offered fits into the machine."


def _locked(way: Way, facts: Facts) -> Iterator[str]:
    if not facts.encrypted:
        return
    if way in ("replace", "split"):
        yield "A volume is encrypted: nothing is resized before it is decrypted."
    reads = way == "salvage" or (way in ("fresh", "replace-machine") and facts.must_survive != "nothing")
    if reads and facts.key != "held":
        yield "A volume is encrypted and its key is not at hand: no file of it can be read."


def _too_small(way: Way, facts: Facts) -> Iterator[str]:
    new = facts.new_bytes
    if new is None:
        return
    stop = judgement().fill_stop_percent / 100
    if way == "replace" and facts.used_bytes is not None and facts.used_bytes > new * stop:
        yield "What is used does not fit on the new drive."
    elif way == "replace" and facts.unclean and facts.size_bytes is not None and facts.size_bytes > new:
        yield "A volume sleeps or was not closed, and would have to be made smaller: it can only keep its size."
    if way == "split" and facts.system_bytes is not None and facts.system_bytes > new * stop:
        yield "Not even the system fits on the new drive."
    if way == "exact" and facts.size_bytes is not None and facts.size_bytes > new:
        yield "The new drive is smaller than the old one."


def _in_machine(way: Way, facts: Facts) -> Iterator[str]:
    if way in ("split", "beside"):
        if not facts.free_bay:
            yield "There is no second bay for it."
        if facts.images_first:
            yield "The old drive is failing: nothing may stay on it."
    if "wet" in facts.symptoms and way in ("do-less", "beside", "repair-start", "repair-cause"):
        yield "It is wet: it is not switched on before it was taken apart and dried."


def _no_start_to_repair(facts: Facts) -> Iterator[str]:
    if not facts.symptoms & {"no-start", "loop"}:
        yield "It starts."
    if facts.images_first:
        yield "The drive is in danger: nothing is written to it."
    if facts.symptoms & _MALWARE:
        yield "Malware is suspected: its system is not started again."
    if "no-system" in facts.symptoms:
        yield "There is no system to start."


def solves(way: Way, facts: Facts) -> bool:
    """Whether it does what was asked and keeps what must survive."""
    if way == "nothing-yet":
        return not _something_solves(facts)
    if way == "refer" or facts.needs_laboratory:
        return way == "refer" and facts.needs_laboratory
    anew = way in ("fresh", "replace-machine")
    symptoms = facts.symptoms
    if "no-system" in symptoms or facts.must_survive == "nothing":
        return anew
    if facts.health == "lost-cause" and not facts.imaged:
        return anew  # what must survive is in a backup that was checked
    if symptoms & _BROKEN_SYSTEM:
        return anew
    if not facts.understood:
        return way == "exact"
    if facts.encrypted:
        return way == "exact" or (anew and facts.must_survive == "files")
    if way == "salvage":
        return facts.must_survive == "files" and ("no-start" in symptoms or facts.images_first)
    if "no-start" in symptoms and not facts.images_first:
        return _starts_again(way, facts)
    if way == "repair-start":
        return False
    if facts.causes and not facts.images_first and symptoms <= {"slow", "freezes", "full", "noise"}:
        return way == "repair-cause" or (anew and not facts.cause_is_beside) or _also_solves(way, facts)
    return _moves_rightly(way, facts)


def _starts_again(way: Way, facts: Facts) -> bool:
    """A copy of a system that does not start does not start either; with more to mend, the copy is mended too."""
    if facts.symptoms <= {"no-start"}:
        return way in ("repair-start", "fresh", "replace-machine")
    return way != "repair-start" and _moves_rightly(way, facts)


def _also_solves(way: Way, facts: Facts) -> bool:
    """A full drive may be cleared or be replaced by a larger one; for a cable or heat no drive is sold."""
    return not facts.cause_is_beside and way != "do-less" and _moves_rightly(way, facts)


def _moves_rightly(way: Way, facts: Facts) -> bool:
    symptoms = facts.symptoms
    if way in ("repair-cause", "repair-start"):
        return False
    if way in ("fresh", "replace-machine"):
        return True
    if way == "do-less":
        return _room_only(facts) or _drive_is_no_cause(facts)
    if way == "beside":
        return bool(symptoms & _ROOM) and not facts.mechanical and not symptoms & {"slow", "freezes", "noise"}
    if way == "split":
        return facts.must_survive != "files" and bool(facts.mechanical) and not _all_fits(facts)
    return way != "exact"  # it leaves the new room unused: only where nothing else carries what is there


def _something_solves(facts: Facts) -> bool:
    others = (way for way in WAYS if way != "nothing-yet")
    return any(solves(way, facts) and next(against(way, facts), None) is None for way in others)


def _all_fits(facts: Facts) -> bool:
    """Whether everything that is used has its place on the new drive."""
    return not list(_too_small("replace", facts))


def _room_only(facts: Facts) -> bool:
    """Only room is missing, and what is there is not known to be slow, worn or failing."""
    only = bool(facts.symptoms) and facts.symptoms <= _ROOM
    return only and not facts.mechanical and facts.health != "ageing" and not facts.images_first


def _drive_is_no_cause(facts: Facts) -> bool:
    """Only slow, with a drive that is not why."""
    return facts.symptoms == {"slow"} and _slow_beside(facts)


def _slow_beside(facts: Facts) -> bool:
    """Slow with a sound, fast drive that has room: it is not the drive."""
    full = facts.fill_percent >= judgement().why.full_percent
    sound = facts.mechanical is False and not full and facts.health in ("sound", "unknown")
    return "slow" in facts.symptoms and sound


# What speaks for it


_TEXTS: dict[Way, str] = {
    "replace": "Everything stays where it was; nothing is set up again.",
    "split": "The system becomes fast, the data stays where it is.",
    "beside": "Room is added, and nothing has to be touched.",
    "exact": "Sector for sector: nothing has to be understood.",
    "salvage": "The files are brought to safety, and nothing else is attempted.",
    "fresh": "No damage, malware or leftovers come along.",
    "do-less": "A card, cleaning up or memory may be all that is needed.",
    "replace-machine": "A new machine does more, and its updates go on.",
    "repair-start": "A lost entry, a changed mode or a full start-up partition is mended in minutes; nothing is sold.",
    "repair-cause": "It is not the drive: what makes it slow is put right first.",
    "refer": "Only a recovery laboratory opens drives; each start here can cost more of what is on it.",
    "nothing-yet": "Something must come first.",
}
_CAUSES = {
    "cable": "Errors between drive and computer: another cable, dock or port first; note the count and look again.",
    "heat": "It throttles from heat: a pad, an airflow or the fan first; its own limit counts.",
    "full": "It is nearly full, which alone makes it slow: room is made first.",
    "no-drive-noise": "A solid-state drive does not click: it is the fan, a coil or another part.",
}


def in_favour(way: Way, facts: Facts) -> Iterator[str]:
    """As sentences."""
    yield _TEXTS[way]
    if way == "repair-cause":
        yield from (_CAUSES[cause] for cause in facts.causes)
    if way == "refer":
        yield from not_meanwhile(facts)
    if way == "nothing-yet":
        yield from _what_comes_first(facts)
    if facts.imaged:
        yield "What was read already is kept, and is the source from now on."
    elif facts.images_first and way in ("replace", "exact", "salvage", "fresh"):
        yield "The drive is failing: it is imaged first, and the image decides."
    if way == "fresh" and facts.symptoms & _BROKEN_SYSTEM:
        yield "What is wrong is in the system itself."
    if "ransomware" in facts.symptoms and way in ("fresh", "replace-machine"):
        yield "The old drive is kept untouched and labelled so; nothing is promised of what was locked."
    if way == "replace" and _slow_beside(facts):
        yield "It brings room; that it is slow does not come from the drive."
    if way in ("replace", "split") and facts.mechanical:
        yield "The old drive is mechanical; most of the waiting is its own."
    if way in COPYING and facts.unclean:
        yield (
            "A volume sleeps or was not closed: it is copied as it is, at its old size, and repaired on the copy."
            if facts.images_first
            else "A volume sleeps or was not closed: it is copied as it is, at its old size, or shut down fully first."
        )
    if way == "exact" and facts.encrypted:
        yield "It is copied closed; the key will be asked for at the first start."


def not_meanwhile(facts: Facts) -> Iterator[str]:
    """What not to do until the laboratory has it."""
    if "wet" in facts.symptoms:
        yield "Do not switch it on; battery off, drive out. Rice dries nothing."
    if facts.symptoms & {"noise", "dropped"}:
        yield "Do not start it again to see: heads scratch with every start."
    yield "Do not check, repair or mount it; nothing is written to it."


def _what_comes_first(facts: Facts) -> Iterator[str]:
    if facts.encrypted and facts.key != "held":
        yield "The key of the encrypted volume, from whoever holds it."
    elif facts.encrypted:
        yield "Decryption on the customer's own machine."
    new_is_small = any(next(_too_small(way, facts), None) for way in COPYING)
    if new_is_small:
        yield f"{'Or a' if facts.encrypted else 'A'} new drive that is at least as large as the old one."
    if facts.unclean and not facts.images_first and new_is_small:
        yield "A proper shutdown of the system."
    if facts.offered and not facts.fits:
        yield "A drive that fits into the machine."
