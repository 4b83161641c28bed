"""What of people's files returns, and what does not and why: the records of it, `neogenesis.returned/1`."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Collection
from typing import ClassVar, Literal, get_args

from neogenesis.core.file_kinds import Kind
from neogenesis.core.record import Record
from neogenesis.core.reinstall.persons import Person
from neogenesis.core.system import EntryKind, FileMarks, NotHere, NotHereFile
from neogenesis.core.units import both_text, files_text

#: So much of a file is looked at to see what it is.
HEAD_BYTES = 256
_BLOCK_BYTES = 4096


#: Of a file for which another one stands there already: kept beside it, the newer one of both, or what is there.
Same = Literal["beside", "newer", "keep"]
SAME: tuple[Same, ...] = get_args(Same)


class BackWish(Record, frozen=True, kw_only=True):
    """Which kinds return (all where none is named), with `programs` also what can be run.

    `persons` says for old homes whose they become, nobody's where the new name is empty; `without` are patterns of
    paths that stay out.
    """

    programs: bool = False
    kinds: tuple[str, ...] = ()
    same: Same = "beside"
    persons: tuple[tuple[str, str], ...] = ()
    without: tuple[str, ...] = ()


class Held(Record, frozen=True, kw_only=True):
    """A file, folder or link that could return: where it lies, where it was on its `volume`, its checksum if known.

    Links have a `target` as it is written. `not_here` says why a file has no data here.
    """

    stored: str
    path: str
    size_bytes: int
    blake3: str = ""
    lost_bytes: int = 0
    modified_s: float | None = None
    kind: EntryKind = "file"
    target: str = ""
    not_here: NotHere = ""
    marks: FileMarks | None = None
    volume: str = ""


class Standing(Record, frozen=True, kw_only=True):
    """What a system image itself puts among people's folders: its place from the root, and a file's checksum as
    `blake3:...` or `sha1:...`.
    """

    place: str
    is_folder: bool
    size_bytes: int = 0
    digest: str = ""
    modified_s: float | None = None


class GivenFile(Record, frozen=True, kw_only=True):
    """`place` is where it goes, from the root of its volume; `renamed` that it could not keep its name or place.

    `second` that another file had it already; `replaces` that it takes the place of one of the image's own. `stored`
    is where it lies now (`as_text`), `person` whose it is, by the new name. `lost_bytes` could not be read; they are
    zeros.
    """

    stored: str
    place: str
    size_bytes: int
    kind: Kind
    renamed: bool = False
    second: bool = False
    replaces: bool = False
    lost_bytes: int = 0
    person: str = ""
    marks: FileMarks | None = None


class GivenFolder(Record, frozen=True, kw_only=True):
    """A folder of people's with its marks, whether it holds anything or not."""

    place: str
    person: str = ""
    marks: FileMarks | None = None


class GivenLink(Record, frozen=True, kw_only=True):
    """A link to something that returns as well: `to` from its own folder, with slashes."""

    place: str
    to: str
    to_folder: bool = False
    person: str = ""


class NotKept(Record, frozen=True, kw_only=True):
    """What so many files cannot have on the new volume, or what is to be known of them, with some of their places."""

    what: str
    files: int
    places: tuple[str, ...] = ()


class LeftOut(Record, frozen=True, kw_only=True):
    """A file, or a folder of so many, that does not return."""

    path: str
    why: str
    files: int = 1
    size_bytes: int = 0


class GivingBack(Record, frozen=True, kw_only=True):
    """What returns and what does not. `archives` are those that return: what is in them nobody looked at.

    `there_already` are files that the image itself holds, byte for byte; `not_here` those of which there is no data.
    """

    SCHEMA: ClassVar[str] = "neogenesis.returned/1"

    schema: str = SCHEMA
    files: tuple[GivenFile, ...]
    left_out: tuple[LeftOut, ...]
    archives: tuple[str, ...]
    folders: tuple[GivenFolder, ...] = ()
    links: tuple[GivenLink, ...] = ()
    persons: tuple[Person, ...] = ()
    there_already: tuple[str, ...] = ()
    not_here: tuple[NotHereFile, ...] = ()
    not_here_bytes: int = 0
    not_kept: tuple[NotKept, ...] = ()

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
        """What the files and folders take on a volume."""
        return sum(map(_room_bytes, self.files)) + 2 * _BLOCK_BYTES * (len(self.folders) + len(self.links))

    @property
    def count(self) -> int:
        """How many records of files the volume needs for them."""
        return len(self.files) + len(self.folders) + len(self.links)

    def sentence(self) -> str:
        count = sum(one.files for one in self.left_out)
        left = f", {count} did not" if count else ""
        there = f", {len(self.there_already)} were there already" if self.there_already else ""
        return f"{files_text(len(self.files))} ({both_text(self.size_bytes)}) were given back{there}{left}."


class KindCount(Record, frozen=True, kw_only=True):
    """`room_bytes` is what the files take on a volume."""

    files: int = 0
    size_bytes: int = 0
    room_bytes: int = 0


class Returnable(Record, frozen=True, kw_only=True):
    """What could return, by kind, for somebody to choose from; and what cannot, by reason.

    `left_out` has for each reason the largest first; `archives` are names of which nobody looked inside.
    `beside_count` folders and links, which take `beside_room_bytes`, return where no kind is chosen.
    """

    kinds: dict[Kind, KindCount]
    left_out: dict[str, tuple[LeftOut, ...]]
    archives: tuple[str, ...]
    renamed: int
    doubles: int
    damaged: tuple[str, ...]
    persons: tuple[Person, ...] = ()
    there_already: int = 0
    not_here: tuple[NotHereFile, ...] = ()
    not_kept: tuple[NotKept, ...] = ()
    beside_room_bytes: int = 0
    beside_count: int = 0

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
            room_bytes=sum(n.room_bytes for n in some) + (0 if kinds else self.beside_room_bytes),
        )

    def count_of(self, chosen: KindCount, kinds: Collection[str]) -> int:
        """How many records of files the volume needs for what was chosen."""
        return chosen.files + (0 if kinds else self.beside_count)


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
        persons=found.persons,
        there_already=len(found.there_already),
        not_here=found.not_here,
        not_kept=found.not_kept,
        beside_room_bytes=2 * _BLOCK_BYTES * (len(found.folders) + len(found.links)),
        beside_count=len(found.folders) + len(found.links),
    )


def _room_bytes(one: GivenFile) -> int:
    """On a volume of blocks of 4 KiB, with its record."""
    return one.size_bytes // _BLOCK_BYTES * _BLOCK_BYTES + 2 * _BLOCK_BYTES


def as_text(path: str) -> str:
    """A path as a record can hold it: bytes that are no text as escapes."""
    return path.encode("utf-8", "backslashreplace").decode()
