"""Giving people's files back: which of them return, under which name, and what does not and why.

After malware nothing that can be run returns by itself. A file that a system cannot name is given a name that it can,
and that is said; of two files for one place both are kept. Of what programs keep for themselves only what is in an open
format returns, each kind in a folder of its own: mail boxes (RFC 4155, RFC 5322), calendars and addresses (RFC 5545,
RFC 6350), bookmarks.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator
from pathlib import PurePosixPath
from typing import ClassVar

from neogenesis.core.file_kinds import Kind, kind_by_name
from neogenesis.core.record import Record
from neogenesis.core.units import both_text

_MARKS = (b"MZ", b"\x7fELF", b"#!", b"\xca\xfe\xba\xbe", b"\xcf\xfa\xed\xfe")
#: What the NT family holds in no name.
_NOT_IN_NT = frozenset('<>:"|?*\\') | {chr(n) for n in range(32)}
_RESERVED = frozenset(
    {"con", "prn", "aux", "nul", *(f"com{n}" for n in range(1, 10)), *(f"lpt{n}" for n in range(1, 10))}
)
_LONGEST = 240
#: Files at the root of a system's volume that are its own.
_OF_SYSTEM = frozenset(
    {"pagefile.sys", "hiberfil.sys", "swapfile.sys", "bootmgr", "bootnxt", "swapfile", "vmlinuz", "initrd.img"}
)
#: Folders there that are.
_FOLDERS_OF_SYSTEM = re.compile(
    r"windows(\.old)?|program files( \(x86\))?|programdata|perflogs|msocache|recovery|\$recycle\.bin|\$windows\.~bt|"
    r"\$winreagent|system volume information|config\.msi|boot|efi|meridian|etc|usr|var|s?bin|lib(32|64)?|opt|proc|sys|"
    r"dev|run|tmp|root|snap|lost\+found"
)
_HOMES = frozenset({"users", "home", "documents and settings"})
_NOBODYS_HOMES = frozenset({"default", "default user", "all users", "lost+found"})
_SETTINGS = frozenset({"appdata", "application data", "local settings"})
#: So much of a file is looked at to see what it is.
HEAD_BYTES = 256
_BLOCK_BYTES = 4096


class BackWish(Record, frozen=True, kw_only=True):
    """Which kinds return (all where none is named), with `programs` also what can be run.

    Of two files for one place both are kept, or with `newer` the one that was changed last.
    """

    programs: bool = False
    kinds: tuple[str, ...] = ()
    newer: bool = False


class Held(Record, frozen=True, kw_only=True):
    """A file that could return: where it lies in the folder, where it was on its volume, and its checksum if known."""

    stored: str
    path: str
    size_bytes: int
    blake3: str = ""
    lost_bytes: int = 0
    modified_s: float | None = None


class GivenFile(Record, frozen=True, kw_only=True):
    """`place` is where it goes, from the root of its volume; `renamed` that it could not keep its name or place.

    `second` that another file had it already; `stored` is where it lies now (`as_text`).
    `lost_bytes` of it could not be read; they are zeros.
    """

    stored: str
    place: str
    size_bytes: int
    kind: Kind
    renamed: bool = False
    second: bool = False
    lost_bytes: int = 0


class LeftOut(Record, frozen=True, kw_only=True):
    """A file, or a folder of so many, that does not return."""

    path: str
    why: str
    files: int = 1
    size_bytes: int = 0


class GivingBack(Record, frozen=True, kw_only=True):
    """What returns and what does not. `archives` are those that return: what is in them nobody looked at."""

    SCHEMA: ClassVar[str] = "neogenesis.returned/1"

    schema: str = SCHEMA
    files: tuple[GivenFile, ...]
    left_out: tuple[LeftOut, ...]
    archives: tuple[str, ...]

    @property
    def size_bytes(self) -> int:
        return sum(f.size_bytes for f in self.files)

    def kinds(self) -> dict[str, tuple[int, int]]:
        """Files and bytes by kind, the largest first."""
        count, size = Counter[str](), Counter[str]()
        for one in self.files:
            count[one.kind] += 1
            size[one.kind] += one.size_bytes
        return {kind: (count[kind], total) for kind, total in size.most_common()}

    @property
    def room_bytes(self) -> int:
        """What the files take on a volume."""
        return sum(map(_room_bytes, self.files))

    def sentence(self) -> str:
        count = sum(one.files for one in self.left_out)
        left = f", {count} did not" if count else ""
        return f"{len(self.files)} files ({both_text(self.size_bytes)}) were given back{left}."


class KindCount(Record, frozen=True, kw_only=True):
    """`room_bytes` is what the files take on a volume."""

    files: int = 0
    size_bytes: int = 0
    room_bytes: int = 0


class Returnable(Record, frozen=True, kw_only=True):
    """What could return, by kind, for somebody to choose from; and what cannot, by reason.

    `left_out` has for each reason the largest first; `archives` are names of which nobody looked inside.
    """

    kinds: dict[Kind, KindCount]
    left_out: dict[str, tuple[LeftOut, ...]]
    archives: tuple[str, ...]
    renamed: int
    doubles: int
    damaged: tuple[str, ...]

    @property
    def files(self) -> int:
        """All that could return."""
        return sum(n.files for n in self.kinds.values())

    def chosen(self, kinds: Collection[str], programs: bool) -> KindCount:
        """All files of these kinds together; of all kinds where none is named, and with `programs` those as well."""
        some = [n for k, n in self.kinds.items() if (programs if k == "programs" else not kinds or k in kinds)]
        return KindCount(
            files=sum(n.files for n in some),
            size_bytes=sum(n.size_bytes for n in some),
            room_bytes=sum(n.room_bytes for n in some),
        )


def returnable(found: GivingBack) -> Returnable:
    """Of what would return with programs, and nothing chosen."""
    kinds: dict[Kind, list[GivenFile]] = defaultdict(list)
    for one in found.files:
        kinds[one.kind].append(one)
    reasons: dict[str, list[LeftOut]] = defaultdict(list)
    for left in sorted(found.left_out, key=lambda one: -one.size_bytes):
        reasons[left.why].append(left)
    return Returnable(
        kinds={
            kind: KindCount(
                files=len(some), size_bytes=sum(f.size_bytes for f in some), room_bytes=sum(map(_room_bytes, some))
            )
            for kind, some in kinds.items()
        },
        left_out={why: tuple(some) for why, some in reasons.items()},
        archives=found.archives,
        renamed=sum(one.renamed for one in found.files),
        doubles=sum(one.second for one in found.files),
        damaged=tuple(one.place for one in found.files if one.lost_bytes),
    )


def _room_bytes(one: GivenFile) -> int:
    """On a volume of blocks of 4 KiB, with its record."""
    return one.size_bytes // _BLOCK_BYTES * _BLOCK_BYTES + 2 * _BLOCK_BYTES


def kind_of_file(path: str, head: bytes = b"") -> Kind:
    """By its name, and for programs and mail also by how it begins."""
    if head.startswith(_MARKS):
        return "programs"
    known = kind_by_name(path)
    return "mail" if known == "other" and _group(path, head) in ("Mail", "Calendars and addresses") else known


def _group(path: str, head: bytes) -> str:
    """Of what programs keep: the folder for what is in an open format; empty for everything else."""
    text = head.lstrip(b"\xef\xbb\xbf \t\r\n")
    if text.startswith((b"From ", b"Return-Path:", b"Received:", b"Delivered-To:", b"X-Mozilla-Status:")):
        return "Mail"
    if text.startswith((b"BEGIN:VCALENDAR", b"BEGIN:VCARD")):
        return "Calendars and addresses"
    name = PurePosixPath(path).name.casefold()
    if text[:60].upper().startswith(b"<!DOCTYPE NETSCAPE-BOOKMARK-FILE"):
        return "Bookmarks"
    if name == "bookmarks" and text.startswith(b"{") and (b'"roots"' in text or b'"checksum"' in text):
        return "Bookmarks"
    return "Bookmarks" if name == "places.sqlite" and text.startswith(b"SQLite format 3\0") else ""


def give_back(
    files: Iterable[Held],
    head_of: Callable[[Held], bytes | None],
    family: str,
    wish: BackWish = BackWish(),
    modified_of: Callable[[Held], float | None] = lambda held: held.modified_s,
) -> GivingBack:
    """What returns onto a system of that family.

    `head_of` gives a file's first bytes, None when it cannot be read; `modified_of` when it was last changed.
    """
    sorting = _Sorting(family, wish, modified_of)
    for held in files:
        wanted, folder = place_of(held.path, family)
        if not wanted:
            sorting.leave_folder(folder, "It belongs to the old system, not to a person.", held)
            continue
        head = head_of(held)
        if head is None:
            sorting.leave(held, "It cannot be read any more, or only stands for a file that is elsewhere.")
            continue
        group = _group(held.path, head) if folder else ""
        if folder and not group:
            sorting.leave_folder(folder, "Programs keep it for themselves; only open formats return.", held)
            continue
        if group:
            wanted = "/".join([*wanted.split("/")[:2], "Returned", group, *wanted.split("/")[2:]])
        sorting.sort(held, kind_of_file(held.path, head), wanted, bool(folder))
    return sorting.found()


class _Sorting:
    """Files one after the other: given a place, or left out and counted."""

    def __init__(self, family: str, wish: BackWish, modified_of: Callable[[Held], float | None]) -> None:
        self._family, self._wish, self._modified_of = family, wish, modified_of
        self._given: list[GivenFile] = []
        self._held: list[Held] = []
        self._left: list[LeftOut] = []
        self._folders: defaultdict[tuple[str, str], list[int]] = defaultdict(list)
        self._taken: dict[str, int] = {}

    def leave(self, held: Held, why: str) -> None:
        self._left.append(LeftOut(path=as_text(held.path), why=why, size_bytes=held.size_bytes))

    def leave_folder(self, folder: str, why: str, held: Held) -> None:
        """Counted with others of the folder."""
        self._folders[folder, why].append(held.size_bytes)

    def sort(self, held: Held, kind: Kind, wanted: str, moved: bool) -> None:
        wish = self._wish
        if kind == "programs" and not wish.programs:
            self.leave(held, "It can be run; after malware nothing like it returns by itself.")
            return
        if wish.kinds and kind not in wish.kinds and kind != "programs":
            folder = "/".join(held.path.split("/")[:2])
            self.leave_folder(folder, f"It is of the kind {kind}, which was not asked for.", held)
            return
        named = "/".join(_nameable(part, self._family) for part in wanted.split("/"))
        other = self._taken.get(named.casefold())
        if other is not None and wish.newer:
            self._keep_newer(other, held, kind)
            return
        place = next(p for p in _alternatives(named) if p.casefold() not in self._taken)
        self._taken[place.casefold()] = len(self._given)
        renamed = place != wanted or moved
        self._given.append(_given(held, place, kind, renamed, other is not None))
        self._held.append(held)

    def _keep_newer(self, other: int, held: Held, kind: Kind) -> None:
        """Of two for one place the newer one; what has no date counts as old."""
        there = self._held[other]
        if (self._modified_of(held) or 0.0) > (self._modified_of(there) or 0.0):
            before = self._given[other]
            self._given[other] = _given(held, before.place, kind, before.renamed, False)
            self._held[other], held = held, there
        self.leave(held, "A newer file of the same name returns.")

    def found(self) -> GivingBack:
        whole = [
            LeftOut(path=as_text(folder), why=why, files=len(sizes), size_bytes=sum(sizes))
            for (folder, why), sizes in self._folders.items()
        ]
        archives = tuple(one.place for one in self._given if one.kind == "archives")
        return GivingBack(files=tuple(self._given), left_out=(*whole, *self._left), archives=archives)


def _given(held: Held, place: str, kind: Kind, renamed: bool, second: bool) -> GivenFile:
    return GivenFile(
        stored=as_text(held.stored),
        place=place,
        size_bytes=held.size_bytes,
        kind=kind,
        renamed=renamed,
        second=second,
        lost_bytes=held.lost_bytes,
    )


def as_text(path: str) -> str:
    """A path as a record can hold it: bytes that are no text as escapes."""
    return path.encode("utf-8", "backslashreplace").decode()


def place_of(path: str, family: str) -> tuple[str, str]:
    """Where a file of the old system's people goes on the new one, empty for what is no person's.

    And the folder in whose name it is left out: of the system, or of what programs keep for a person.
    """
    parts = [p for p in path.replace("\\", "/").split("/") if p not in ("", ".", "..")]
    if not parts or (len(parts) == 1 and parts[0].casefold() in _OF_SYSTEM):
        return "", path
    top = parts[0].casefold()
    home = "home" if family == "linux" else "Users"
    if top in _HOMES:
        if len(parts) < 3 or parts[1].casefold() in _NOBODYS_HOMES:
            return "", "/".join(parts[:2])
        inner = parts[2].casefold()
        of_programs = inner in _SETTINGS or inner.startswith(("ntuser.", "."))
        return "/".join([home, *parts[1:]]), "/".join(parts[:3]) if of_programs else ""
    if _FOLDERS_OF_SYSTEM.fullmatch(top):
        return "", parts[0]
    return "/".join([home, "Public" if home == "Users" else "shared", "Returned", *parts]), ""


def _nameable(part: str, family: str) -> str:
    """A name that the new system can hold."""
    part = "".join("_" if "\ud800" <= c <= "\udfff" else c for c in part)
    if family != "linux":
        part = "".join("_" if c in _NOT_IN_NT else c for c in part).rstrip(" .") or "_"
        if part.split(".")[0].casefold() in _RESERVED:
            part = f"_{part}"
    while len(part.encode()) > _LONGEST:
        stem, dot, ending = part.rpartition(".")
        part = f"{stem[:-1]}{dot}{ending}" if stem and len(ending) < 20 else part[:-1]
    return part


def _alternatives(place: str) -> Iterator[str]:
    """The place itself, then others beside it."""
    yield place
    folder, slash, name = place.rpartition("/")
    stem, dot, ending = name.rpartition(".")
    if not stem:
        stem, dot, ending = name, "", ""
    number = 2
    while True:
        yield f"{folder}{slash}{stem} ({number}){dot}{ending}"
        number += 1
