"""Finding the profile that a machine's plate means."""

from __future__ import annotations

import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass

from neogenesis.core.machine.model import Machine


@dataclass(frozen=True, slots=True)
class Match:
    """`machine` when exactly one fits; `candidates` are all that could be meant."""

    machine: Machine | None
    candidates: tuple[Machine, ...] = ()


def machine_on_plate(make: str, model: str, known: Sequence[Machine]) -> Match:
    """The profile of that make and exact model.

    What is written in full wins over what only begins so; several that fit are told, never chosen from.
    """
    plate = _words(f"{make} {model}")
    if not plate:
        return Match(None)
    exact = tuple(m for m in known if _words(m.title) == plate)
    if len(exact) == 1:
        return Match(exact[0], exact)
    likely = exact or tuple(
        m for m in known if set(plate) <= set(_words(m.title)) or set(_words(m.title)) <= set(plate)
    )
    return Match(likely[0] if len(likely) == 1 and not exact else None, likely)


def _words(text: str) -> tuple[str, ...]:
    """Folded words, so that `PETREL  14` and `Petrel 14` are one."""
    return tuple(unicodedata.normalize("NFKC", text).casefold().replace(",", " ").replace("-", " ").split())
