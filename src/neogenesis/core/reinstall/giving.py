"""Giving people's files back: for each where it goes, decided folder by folder before anything is written.

After malware nothing that can be run returns by itself. A file that a system cannot name is given a name that it can,
and that is said. Of what programs keep for themselves only what is in an open format returns, each kind in a folder of
its own: mail boxes (RFC 4155, RFC 5322), calendars and addresses (RFC 5545, RFC 6350), bookmarks.
"""

from __future__ import annotations

import posixpath
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import PurePosixPath

import msgspec

from neogenesis.core.file_kinds import Kind, kind_by_name
from neogenesis.core.reinstall.names import alternatives, is_too_long, name_key, nameable
from neogenesis.core.reinstall.persons import Account, Person, mapped
from neogenesis.core.reinstall.places import Belongs, Volume, belongs, uses_of_volumes
from neogenesis.core.reinstall.returned import (
    BackWish,
    GivenFile,
    GivenFolder,
    GivenLink,
    GivingBack,
    Held,
    LeftOut,
    NotKept,
    Standing,
    as_text,
)
from neogenesis.core.salvage.names import matches
from neogenesis.core.system import FileMarks, NotHere, NotHereFile

_MARKS = (b"\x7fELF", b"#!", b"\xca\xfe\xba\xbe", b"\xcf\xfa\xed\xfe")
NOT_HERE_REASONS: dict[NotHere, str] = {
    "cloud": "Its contents are elsewhere, in an account; only a placeholder is here.",
    "encrypted": "It is encrypted by itself, and its key is not here.",
    "deduplicated": "Its contents are packed together with those of other files, in a way that cannot be read here.",
    "unreadable": "Its contents are packed by its system, in a way that cannot be read here.",
}
#: Why what no person made stays out.
OF_THE_SYSTEM = "It belongs to the old system, not to a person."
#: Attributes of the NT family: one of the system's own links has both.
_HIDDEN_AND_OF_SYSTEM = 0x6
_MOST_EXAMPLES = 200
#: A person's own folder is the second one from the root.
_HOME_DEPTH = 2


def kind_of_file(path: str, head: bytes = b"") -> Kind:
    """By its name, and for programs and mail also by how it begins."""
    known = kind_by_name(path)
    is_letters = known in ("documents", "mail", "other") and _is_text(head[2:])
    if head.startswith(_MARKS) or (head.startswith(b"MZ") and not is_letters):
        return "programs"
    return "mail" if known == "other" and _group(path, head) in ("Mail", "Calendars and addresses") else known


def _is_text(data: bytes) -> bool:
    """Whether there is something, and all of it is written in letters: the header of a program never is."""
    return bool(data) and not any(byte < 9 or 13 < byte < 32 for byte in data)


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


@dataclass(frozen=True, slots=True)
class Reading:
    """How the files of a source are looked into: the first bytes (None when it cannot be read), the checksum as text
    by `blake3` or `sha1` (None when it cannot be read whole), and when it was changed last.
    """

    head: Callable[[Held], bytes | None]
    digest: Callable[[Held, str], str | None] = lambda held, way: held.blake3 if way == "blake3" else None
    modified_s: Callable[[Held], float | None] = lambda held: held.modified_s


@dataclass(frozen=True, slots=True)
class Destination:
    """The system that people's files go to: its family, its people, and what its image puts among their folders.

    Volumes of Linux hold owners and permissions, those of the NT family alternate streams.
    """

    family: str
    accounts: Sequence[Account] = ()
    standing: Sequence[Standing] = ()

    @property
    def holds_owners(self) -> bool:
        return self.family == "linux"


def give_back(
    files: Iterable[Held], reading: Reading, destination: Destination, wish: BackWish = BackWish()
) -> GivingBack:
    """What returns, and as what."""
    held = list(files)
    uses = uses_of_volumes((one.volume, one.path) for one in held)
    family = destination.family
    wheres = [belongs(h.path, family, uses.get(h.volume, Volume()), h.kind == "folder") for h in held]
    persons = mapped(_homes(held, wheres), destination.accounts, dict(wish.persons))
    sorting = _Sorting(destination, wish, reading, persons)
    sorting.marks = {
        (one.volume, "/".join(_parts(one.path))): one.marks for one in held if one.kind == "folder" and one.marks
    }
    for kind, sort in (("file", sorting.sort_file), ("folder", sorting.sort_folder), ("link", sorting.sort_link)):
        for one, where in zip(held, wheres, strict=True):
            if one.kind == kind:
                sort(one, where)
    return sorting.found()


def _homes(held: Sequence[Held], wheres: Sequence[Belongs]) -> dict[str, int | None]:
    """Each old home by its name, with the number that owns most of it, where that is known."""
    spelled: dict[str, str] = {}
    owners: defaultdict[str, Counter[int]] = defaultdict(Counter)
    for one, where in zip(held, wheres, strict=True):
        if where.person:
            key = where.person.casefold()
            spelled.setdefault(key, where.person)
            if one.marks is not None and one.marks.user is not None:
                owners[key][one.marks.user] += 1
    return {name: owners[key].most_common(1)[0][0] if owners[key] else None for key, name in spelled.items()}


def _parts(path: str) -> list[str]:
    return [p for p in path.split("/") if p not in ("", ".", "..")]


@dataclass(slots=True)
class _Folder:
    """A folder of the new volume. `children` are by what their names have in common, `by_raw` by old names."""

    path: str
    person: str = ""
    raw: str | None = None
    children: dict[str, _Folder | int | Standing] = field(default_factory=dict)
    by_raw: dict[str, _Folder] = field(default_factory=dict)
    marks: FileMarks | None = None
    is_given: bool = False


class _Sorting:
    """Files one after the other: given a place, or left out and counted."""

    def __init__(self, destination: Destination, wish: BackWish, reading: Reading, persons: dict[str, Person]) -> None:
        self._family, self._wish, self._reading, self._persons = destination.family, wish, reading, persons
        self._holds_owners = destination.holds_owners
        self.marks: dict[tuple[str, str], FileMarks] = {}
        self._root = _Folder("")
        for one in destination.standing:
            self._stand(one)
        self._given: list[GivenFile] = []
        self._held: list[Held] = []
        self._left: list[LeftOut] = []
        self._links: list[GivenLink] = []
        self._there: list[str] = []
        self._not_here: list[NotHereFile] = []
        self._folders: defaultdict[tuple[str, str], list[int]] = defaultdict(list)
        self._not_kept: defaultdict[str, list[str]] = defaultdict(list)
        self._not_kept_files: Counter[str] = Counter()
        self._places: dict[tuple[str, str], str] = {}

    def _stand(self, one: Standing) -> None:
        node = self._root
        *above, name = one.place.split("/")
        for part in above:
            child = node.children.get(name_key(part, self._family))
            if not isinstance(child, _Folder):
                child = _Folder(f"{node.path}/{part}".lstrip("/"))
                node.children[name_key(part, self._family)] = child
            node = child
        key = name_key(name, self._family)
        if not one.is_folder:
            node.children.setdefault(key, one)
        elif not isinstance(node.children.get(key), _Folder):
            node.children[key] = _Folder(one.place)

    # What stays out

    def leave(self, held: Held, why: str) -> None:
        self._left.append(LeftOut(path=as_text(held.path), why=why, size_bytes=held.size_bytes))

    def leave_folder(self, folder: str, why: str, held: Held) -> None:
        """Counted with others of the folder."""
        self._folders[folder, why].append(held.size_bytes)

    def _note(self, what: str, place: str) -> None:
        self._not_kept_files[what] += 1
        if len(self._not_kept[what]) < _MOST_EXAMPLES:
            self._not_kept[what].append(place)

    # One file, folder or link

    def sort_file(self, held: Held, where: Belongs) -> None:
        wanted, wish = where.parts, self._wish
        if not wanted:
            self.leave_folder(where.group, OF_THE_SYSTEM, held)
            return
        if not self._is_wanted(held, where):
            return
        if held.not_here:
            self._not_here.append(NotHereFile(path=as_text(held.path), bytes=held.size_bytes, why=held.not_here))
            self.leave(held, NOT_HERE_REASONS[held.not_here])
            return
        head = self._reading.head(held)
        if head is None:
            self.leave(held, "It cannot be read any more, or only stands for a file that is elsewhere.")
            return
        group = _group(held.path, head) if where.of_programs else ""
        if where.of_programs and not group:
            self.leave_folder(where.group, "Programs keep it for themselves; only open formats return.", held)
            return
        if group:
            wanted = (*wanted[:2], "Returned", group, *wanted[2:])
        kind = kind_of_file(held.path, head)
        if kind == "programs" and not wish.programs:
            self.leave(held, "It can be run; after malware nothing like it returns by itself.")
            return
        if wish.kinds and kind not in wish.kinds and kind != "programs":
            folder = "/".join(held.path.split("/")[:2])
            self.leave_folder(folder, f"It is of the kind {kind}, which was not asked for.", held)
            return
        self._place_file(held, where, wanted, kind, bool(group))

    def _is_wanted(self, held: Held, where: Belongs) -> bool:
        if self._wish.without and matches(held.path, self._wish.without):
            self.leave(held, "It was chosen to stay out.")
            return False
        person = self._persons.get(where.person.casefold()) if where.person else None
        if person is not None and not person.new:
            self.leave_folder(where.group, f"{person.old}'s files were chosen to stay out.", held)
            return False
        return True

    def sort_folder(self, held: Held, where: Belongs) -> None:
        """Folders return with what is in them; where no kind was chosen, also those that hold nothing."""
        if not where.parts or where.of_programs or len(where.parts) < 2 or self._wish.kinds:
            return
        person = self._persons.get(where.person.casefold()) if where.person else None
        if (person is not None and not person.new) or (self._wish.without and matches(held.path, self._wish.without)):
            return
        self._folder(held, where, where.parts).is_given = True

    def sort_link(self, held: Held, where: Belongs) -> None:
        """A link returns where what it leads to does."""
        if not where.parts or where.of_programs:
            return
        attributes = held.marks.attributes if held.marks is not None else None
        if attributes is not None and attributes & _HIDDEN_AND_OF_SYSTEM == _HIDDEN_AND_OF_SYSTEM:
            self.leave_folder(where.group, "It is one of the old system's own links; the new one has its own.", held)
            return
        if not self._is_wanted(held, where):
            return
        aim = _aim(held)
        place = self._places.get((held.volume, aim)) if aim is not None else None
        if place is None or self._wish.kinds:
            self.leave(held, f"It is a link to “{as_text(held.target)[:200]}”, which does not return.")
            return
        folder = self._folder(held, where, where.parts[:-1])
        name = self._free(folder, nameable(where.parts[-1], self._family))
        made = f"{folder.path}/{name}"
        folder.children[name_key(name, self._family)] = Standing(place=made, is_folder=False)
        to_folder = isinstance(self._at(place), _Folder)
        to = posixpath.relpath(f"/{place}", f"/{folder.path}")
        self._links.append(GivenLink(place=made, to=to, to_folder=to_folder, person=folder.person))

    def _at(self, place: str) -> _Folder | int | Standing | None:
        """What goes to a place of the new volume."""
        node: _Folder | int | Standing | None = self._root
        for part in place.split("/"):
            node = node.children.get(name_key(part, self._family)) if isinstance(node, _Folder) else None
        return node

    def _place_file(self, held: Held, where: Belongs, wanted: Sequence[str], kind: Kind, moved: bool) -> None:
        folder = self._folder(held, where, wanted[:-1])
        first = nameable(wanted[-1], self._family)
        there = folder.children.get(name_key(first, self._family))
        if isinstance(there, Standing):
            if self._is_same(held, there):
                self._there.append(as_text(there.place))
                self._remember(held, there.place)
                return
            if self._wish.same == "keep":
                self.leave(held, "The new system has a file of that name, which is kept.")
                return
            if self._wish.same == "newer":
                if (self._reading.modified_s(held) or 0.0) <= (there.modified_s or 0.0):
                    self.leave(held, "A newer file of the same name is there.")
                    return
                self._give(held, folder, there.place.rpartition("/")[2], wanted, kind, moved, replaces=True)
                return
        elif isinstance(there, int):
            if self._wish.same == "newer":
                self._keep_newer(there, held, kind)
                return
            if self._wish.same == "keep":
                self.leave(held, "Another file of the same name returns, which is kept.")
                return
        name = self._free(folder, first)
        self._give(held, folder, name, wanted, kind, moved, second=name != first)

    def _give(
        self,
        held: Held,
        folder: _Folder,
        name: str,
        wanted: Sequence[str],
        kind: Kind,
        moved: bool,
        second: bool = False,
        replaces: bool = False,
    ) -> None:
        place = f"{folder.path}/{name}"
        folder.children[name_key(name, self._family)] = len(self._given)
        asked = name_key("/".join([*folder.path.split("/")[:2], *wanted[2:]]), self._family)
        renamed = name_key(place, self._family) != asked or moved
        if is_too_long(place, self._family):
            self._note("The path is longer than ordinary programs open", place)
        self._note_marks(held, place)
        self._remember(held, place)
        self._held.append(held)
        self._given.append(
            GivenFile(
                stored=as_text(held.stored),
                place=place,
                size_bytes=held.size_bytes,
                kind=kind,
                renamed=renamed,
                second=second,
                replaces=replaces,
                lost_bytes=held.lost_bytes,
                person=folder.person,
                marks=held.marks,
            )
        )

    def _remember(self, held: Held, place: str) -> None:
        self._places[held.volume, "/".join(_parts(held.path))] = place

    def _note_marks(self, held: Held, place: str) -> None:
        """What the new volume has no place for."""
        marks = held.marks
        if marks is None:
            return
        if self._holds_owners and marks.streams:
            self._note("It has alternate streams, which the new volume does not hold", place)
        if not self._holds_owners and marks.mode is not None and marks.mode & 0o077 == 0:
            self._note("Only its owner could read it; the new volume has rules of its own", place)

    def _is_same(self, held: Held, there: Standing) -> bool:
        if there.is_folder or there.size_bytes != held.size_bytes:
            return False
        if not held.size_bytes or not there.digest:
            return not held.size_bytes
        way, _, digest = there.digest.partition(":")
        return self._reading.digest(held, way) == digest

    def _keep_newer(self, other: int, held: Held, kind: Kind) -> None:
        """Of two for one place the newer one; what has no date counts as old."""
        there = self._held[other]
        if (self._reading.modified_s(held) or 0.0) > (self._reading.modified_s(there) or 0.0):
            before = self._given[other]
            self._given[other] = msgspec.structs.replace(
                before,
                stored=as_text(held.stored),
                size_bytes=held.size_bytes,
                kind=kind,
                lost_bytes=held.lost_bytes,
                marks=held.marks,
            )
            self._remember(held, before.place)
            self._held[other], held = held, there
        self.leave(held, "A newer file of the same name returns.")

    # Folders

    def _folder(self, held: Held, where: Belongs, wanted: Sequence[str]) -> _Folder:
        """The folder of these parts on the new volume, made where it is not there yet, for something in it.

        The end of its path is that of the old one, but for what goes to a place that the old volume did not have.
        """
        person = self._persons.get(where.person.casefold()) if where.person else None
        old = _parts(held.path)
        ahead = len(old) - len(where.parts) if wanted == where.parts[: len(wanted)] else -len(where.parts)
        node = self._root
        for done, raw in enumerate(wanted, 1):
            node = self._below(node, raw, person.new if person is not None and done == _HOME_DEPTH else raw)
            if person is not None and done >= _HOME_DEPTH:
                node.person = person.new
            if done + ahead > 0:
                was = held.volume, "/".join(old[: done + ahead])
                self._places.setdefault(was, node.path)
                node.marks = node.marks or self.marks.get(was)
        return node

    def _below(self, node: _Folder, raw: str, part: str) -> _Folder:
        known = node.by_raw.get(name_key(raw, self._family))
        if known is not None:
            return known
        name = nameable(part, self._family)
        for candidate in alternatives(name):
            key = name_key(candidate, self._family)
            child = node.children.get(key)
            same_name = candidate == name and name_key(part, self._family) == key
            if child is None:
                child = node.children[key] = _Folder(f"{node.path}/{candidate}".lstrip("/"), raw=raw)
            elif not isinstance(child, _Folder) or not (same_name or child.raw == raw):
                continue
            node.by_raw[name_key(raw, self._family)] = child
            return child
        raise AssertionError

    def _free(self, folder: _Folder, name: str) -> str:
        return next(n for n in alternatives(name) if name_key(n, self._family) not in folder.children)

    def _all_folders(self, node: _Folder) -> Iterable[_Folder]:
        for child in node.children.values():
            if isinstance(child, _Folder):
                yield child
                yield from self._all_folders(child)

    def _given_folders(self) -> list[GivenFolder]:
        """Those that hold something that returns, and those that return by themselves; not the one of all homes."""
        places = [*(one.place for one in self._given), *(one.place for one in self._links)]
        used = {p for place in places for p in _above(place)}
        used |= {p for f in self._all_folders(self._root) if f.is_given for p in (f.path, *_above(f.path))}
        return [
            GivenFolder(place=f.path, person=f.person, marks=f.marks)
            for f in self._all_folders(self._root)
            if f.path in used and "/" in f.path
        ]

    def found(self) -> GivingBack:
        whole = [
            LeftOut(path=as_text(folder), why=why, files=len(sizes), size_bytes=sum(sizes))
            for (folder, why), sizes in self._folders.items()
        ]
        count, size = Counter[str](), Counter[str]()
        for one in self._given:
            count[one.person] += one.kind != "programs"
            size[one.person] += one.size_bytes if one.kind != "programs" else 0
        return GivingBack(
            files=tuple(self._given),
            left_out=(*whole, *self._left),
            archives=tuple(one.place for one in self._given if one.kind == "archives"),
            folders=tuple(self._given_folders()),
            links=tuple(self._links),
            persons=tuple(
                msgspec.structs.replace(one, files=count[one.new], size_bytes=size[one.new])
                for one in self._persons.values()
            ),
            there_already=tuple(self._there),
            not_here=tuple(self._not_here),
            not_here_bytes=sum(one.bytes for one in self._not_here),
            not_kept=tuple(
                NotKept(what=what, files=self._not_kept_files[what], places=tuple(places))
                for what, places in self._not_kept.items()
            ),
        )


def _above(place: str) -> list[str]:
    """The folders around a place, but for the root."""
    parts = place.split("/")[:-1]
    return ["/".join(parts[:n]) for n in range(1, len(parts) + 1)]


def _aim(held: Held) -> str | None:
    """The path on its own volume that a link leads to; None for one that leads nowhere there."""
    target = held.target.replace("\\??\\", "").replace("\\", "/")
    if len(target) > 1 and target[1] == ":":
        target = target[2:] if target[2:3] == "/" else f"/{target[2:]}"
    if not target or "\0" in target:
        return None
    folder = posixpath.dirname(held.path.strip("/"))
    path = posixpath.normpath(target if target.startswith("/") else f"{folder}/{target}").lstrip("/")
    return None if path.startswith("..") or path in ("", ".") else path
