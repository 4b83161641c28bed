"""Names on the new volume: which its system can hold, and which it takes for the same.

Sources: the NT family's published rules for naming files; POSIX for the others.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

#: What the NT family holds in no name.
_NOT_IN_NT = frozenset('<>:"|?*\\') | {chr(n) for n in range(32)}
_RESERVED = frozenset(
    {"con", "prn", "aux", "nul", *(f"com{n}" for n in range(1, 10)), *(f"lpt{n}" for n in range(1, 10))}
)
_LONGEST = 240
#: Paths of more letters than this many programs of the NT family cannot open; with the letter of the drive.
_LONGEST_NT_PATH = 259 - len("C:\\")


@lru_cache(1 << 16)
def name_key(part: str, family: str) -> str:
    """What two names have in common that the system of that family takes for the same."""
    if family == "linux":
        return part
    return "".join(upper if len(upper := letter.upper()) == 1 else letter for letter in part)


@lru_cache(1 << 16)
def nameable(part: str, family: str) -> str:
    """A name that the system of that family can hold and open: the same one wherever it can."""
    part = "".join("_" if "\ud800" <= c <= "\udfff" else c for c in part)
    if family != "linux":
        part = "".join("_" if c in _NOT_IN_NT else c for c in part).rstrip(" .") or "_"
        if part.split(".")[0].rstrip(" ").casefold() in _RESERVED:
            part = f"_{part}"
    while len(part.encode()) > _LONGEST:
        stem, dot, ending = part.rpartition(".")
        part = f"{stem[:-1]}{dot}{ending}" if stem and len(ending) < 20 else part[:-1]
    return part


def is_too_long(place: str, family: str) -> bool:
    """Whether a path is longer than ordinary programs of that family open."""
    return family != "linux" and len(place.encode("utf-16-le", "surrogatepass")) // 2 > _LONGEST_NT_PATH


def alternatives(name: str) -> Iterator[str]:
    """The name itself, then others beside it."""
    yield name
    stem, dot, ending = name.rpartition(".")
    if not stem:
        stem, dot, ending = name, "", ""
    number = 2
    while True:
        yield f"{stem} ({number}){dot}{ending}"
        number += 1
