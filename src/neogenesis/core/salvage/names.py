"""Names that the destination can hold, and what kind of thing a path is to its owner."""

from __future__ import annotations

from fnmatch import fnmatchcase
from hashlib import blake2s

from neogenesis.core.file_kinds import Kind, kind_by_name
from neogenesis.core.system import is_of_people

_FORBIDDEN = str.maketrans(dict.fromkeys('<>:"\\|?*', "_") | {chr(n): "_" for n in range(32)})
_RESERVED = {"con", "prn", "aux", "nul", *(f"com{n}" for n in range(1, 10)), *(f"lpt{n}" for n in range(1, 10))}
_LONGEST_BYTES = 200
#: Folders that say what lies in them, and kinds of files that count as the same elsewhere among people's folders.
_KINDS: tuple[tuple[str, tuple[str, ...], tuple[Kind, ...]], ...] = (
    ("pictures", ("/pictures/", "/photos/", "/dcim/"), ("pictures",)),
    ("documents", ("/documents/", "/my documents/"), ("documents",)),
    ("mail", ("/mail/",), ("mail",)),
    ("desktop", ("/desktop/",), ()),
    ("saved games", ("/saved games/",), ()),
    ("music and films", ("/music/", "/videos/"), ("music", "films")),
)
_SAVED_GAME = ".sav"


def kind_of(path: str) -> str:
    """`pictures`, `documents`, `mail`, `desktop`, `saved games`, `music and films`, `other of people`, or `rest`."""
    folded = f"/{path.casefold()}"
    at_home = is_of_people(path)
    by_name = kind_by_name(path) if at_home else "other"
    for kind, folders, same in _KINDS:
        if any(f in folded for f in folders) or by_name in same:
            return kind
    if at_home and folded.endswith(_SAVED_GAME):
        return "saved games"
    return "other of people" if at_home else "rest"


def matches(path: str, patterns: tuple[str, ...]) -> bool:
    """Whether a path, or its last part, fits one of the patterns; letters in either case, `*` also crosses folders."""
    folded = path.casefold()
    name = folded.rsplit("/", 1)[-1]
    return any(fnmatchcase(folded, p.casefold()) or fnmatchcase(name, p.casefold()) for p in patterns)


def plain(part: str) -> str:
    """A part of a path in letters that every filesystem can hold; a mark keeps changed parts apart."""
    made = part.encode("utf-8", "surrogateescape").decode("utf-8", "replace").translate(_FORBIDDEN).rstrip(". ")
    if made.split(".")[0].casefold() in _RESERVED or not made:
        made = f"_{made}"
    if len(made.encode()) > _LONGEST_BYTES or made != part:
        mark = blake2s(part.encode("utf-8", "surrogateescape"), digest_size=3).hexdigest()
        stem, dot, ending = made.rpartition(".")
        if not dot or len(ending) > 10:
            stem, ending = made, ""
        while len(stem.encode()) > _LONGEST_BYTES - 20:
            stem = stem[:-1]
        made = f"{stem}~{mark}" + (f".{ending}" if ending else "")
    return made
