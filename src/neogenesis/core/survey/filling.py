"""What fills a volume: by kind, by person, by folder down to the largest files.

Sizes are those of files; what the allocation map says beyond them (the filesystem itself, what was deleted and is still
held) is told apart. Memory is bounded whatever the tree: beyond so many folders, deep ones count for those above them.
"""

from __future__ import annotations

import heapq
import tomllib
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache
from typing import ClassVar

import msgspec

from neogenesis.core.handed import handed
from neogenesis.core.record import Record, StrictRecord
from neogenesis.core.system.elsewhere import NotHere

_MOST_FOLDERS = 250_000
_SHALLOW = 4
_MOST_LARGEST = 1000
_MOST_NODES = 6000
_LEAST_SHARE = 0.0005
_PEOPLE = ("users/", "home/", "documents and settings/")
_MOST_PEOPLE = 200
#: Files at the root of an NTFS volume that are the filesystem itself (its first records, documented names).
_RECORDS = ("mft", "mftmirr", "logfile", "volume", "attrdef", "bitmap", "boot", "badclus", "secure", "upcase", "extend")
_OF_THE_FILESYSTEM = frozenset(f"${name}" for name in _RECORDS)


class Kind(StrictRecord, frozen=True, kw_only=True):
    """`places` are folders or files from the root, folded; `clear` what clearing would cost, empty for not ours."""

    code: str
    title: str
    because: str
    places: tuple[str, ...]
    clear: str = ""


class _Kinds(StrictRecord, frozen=True, kw_only=True):
    kind: tuple[Kind, ...]


class Share(Record, frozen=True, kw_only=True):
    """Bytes and number of files of a kind, a person or a folder. `name` is a code, a name or a path."""

    name: str
    bytes: int
    files: int


class LargeFile(Record, frozen=True, kw_only=True):
    path: str
    bytes: int


class Filling(Record, frozen=True, kw_only=True):
    """`folders` are those worth telling, by path, each with everything below it; `complete` False: the count was cut
    off. `metadata_runs`: in how many pieces the filesystem's own list of files lies; 0 where that is not told.
    `not_here` are folders with files of which the data is not on the volume, with their number and the sizes that they
    would have; these count nowhere else.
    """

    SCHEMA: ClassVar[str] = "neogenesis.filling/1"

    schema: str = SCHEMA
    fingerprint: str
    partition: int
    size_bytes: int
    used_bytes: int
    files: int
    bytes: int
    kinds: tuple[Share, ...]
    people: tuple[Share, ...]
    folders: tuple[Share, ...]
    largest: tuple[LargeFile, ...]
    complete: bool = True
    seconds: float = 0.0
    metadata_runs: int = 0
    not_here: tuple[Share, ...] = ()

    @property
    def not_here_files(self) -> int:
        return sum(one.files for one in self.not_here)

    @property
    def not_here_bytes(self) -> int:
        return sum(one.bytes for one in self.not_here)

    @property
    def beyond_bytes(self) -> int:
        """Used according to the allocation map and in no file that was counted."""
        return max(0, self.used_bytes - self.bytes)

    @property
    def free_bytes(self) -> int:
        return max(0, self.size_bytes - max(self.used_bytes, self.bytes))


@dataclass(slots=True)
class _Folder:
    bytes: int = 0
    files: int = 0


class FillCount:
    """Counts files one after the other; `filling` says what came of it."""

    def __init__(self) -> None:
        self.files = self.bytes = 0
        self._folders: dict[str, _Folder] = {}
        self._kinds: dict[str, _Folder] = {kind.code: _Folder() for kind in kinds()}
        self._people: dict[str, _Folder] = {}
        self._largest: list[tuple[int, str]] = []
        self._elsewhere: dict[str, _Folder] = {}
        self._last = ""
        self._here: tuple[_Folder, _Folder, _Folder | None] | None = None

    def add(self, path: str, size: int, not_here: NotHere = "") -> None:
        """`path` relative to the root of the volume, with slashes; what is the filesystem itself is not counted.

        `not_here` says why the data of a file is not on the volume.
        """
        if not_here == "cloud":
            self._count_elsewhere(path.rpartition("/")[0], size)
            return
        if path.startswith("$") and path.partition("/")[0].partition(":")[0].casefold() in _OF_THE_FILESYSTEM:
            return
        folder, _, name = path.rpartition("/")
        if folder != self._last or self._here is None or not folder:
            self._here, self._last = self._place(folder, name), folder
        for one in self._here:
            if one is not None:
                one.bytes += size
                one.files += 1
        self.files += 1
        self.bytes += size
        if len(self._largest) < _MOST_LARGEST:
            heapq.heappush(self._largest, (size, path))
        elif size > self._largest[0][0]:
            heapq.heapreplace(self._largest, (size, path))

    def _count_elsewhere(self, folder: str, size: int) -> None:
        if folder not in self._elsewhere and len(self._elsewhere) >= _MOST_NODES:
            folder = "/".join(folder.split("/")[:_SHALLOW])
        held = self._elsewhere.setdefault(folder, _Folder())
        held.bytes += size
        held.files += 1

    def _place(self, folder: str, name: str) -> tuple[_Folder, _Folder, _Folder | None]:
        key = folder
        if key not in self._folders and len(self._folders) >= _MOST_FOLDERS:
            key = "/".join(folder.split("/")[:_SHALLOW])
        kind = kind_of_path(f"{folder}/{name}" if folder else name)
        parts = folder.split("/", 2)
        person = None
        if len(parts) > 1 and f"{parts[0].casefold()}/" in _PEOPLE and len(self._people) < _MOST_PEOPLE:
            person = self._people.setdefault(parts[1], _Folder())
        return self._folders.setdefault(key, _Folder()), self._kinds[kind], person

    def filling(
        self,
        fingerprint: str,
        partition: int,
        size_bytes: int,
        used_bytes: int,
        complete: bool,
        seconds: float,
        metadata_runs: int = 0,
    ) -> Filling:
        return Filling(
            fingerprint=fingerprint,
            partition=partition,
            size_bytes=size_bytes,
            used_bytes=used_bytes,
            files=self.files,
            bytes=self.bytes,
            kinds=tuple(Share(name=c, bytes=f.bytes, files=f.files) for c, f in self._kinds.items() if f.files),
            people=_by_size(self._people.items()),
            folders=self._tree(),
            largest=tuple(LargeFile(path=p, bytes=b) for b, p in sorted(self._largest, reverse=True)),
            complete=complete,
            seconds=seconds,
            metadata_runs=metadata_runs,
            not_here=_by_size(self._elsewhere.items()),
        )

    def _tree(self) -> tuple[Share, ...]:
        """Folders with everything below them, the largest of them, each with all above it."""
        whole: dict[str, _Folder] = {}
        for path, own in self._folders.items():
            at = path
            while True:
                node = whole.setdefault(at, _Folder())
                node.bytes += own.bytes
                node.files += own.files
                if not at:
                    break
                at = at.rpartition("/")[0]
        least = self.bytes * _LEAST_SHARE
        kept = heapq.nlargest(_MOST_NODES, ((f.bytes, p) for p, f in whole.items() if f.bytes >= least or not p))
        return tuple(Share(name=p, bytes=b, files=whole[p].files) for b, p in kept)


def _by_size(items: Iterable[tuple[str, _Folder]]) -> tuple[Share, ...]:
    shares = [Share(name=n, bytes=f.bytes, files=f.files) for n, f in items]
    return tuple(sorted(shares, key=lambda s: -s.bytes))


class _Matcher:
    """Finds the kind of a path; folders are remembered, as files come folder by folder."""

    def __init__(self, known: tuple[Kind, ...]) -> None:
        self.kinds = known
        self._exact: dict[tuple[str, ...], int] = {}
        self._wild: list[tuple[int, tuple[str, ...]]] = []
        for rank, kind in enumerate(known):
            for place in kind.places:
                parts = tuple(place.split("/"))
                if "*" in parts:
                    self._wild.append((rank, parts))
                else:
                    self._exact.setdefault(parts, rank)
        self._deepest = max((len(p) for p in (*self._exact, *(w for _, w in self._wild))), default=1)
        self._roots = {parts[0] for _, parts in self._wild}
        self._last = len(known) - 1

    def rank(self, path: str) -> int:
        parts = tuple(path.casefold().split("/", self._deepest)[: self._deepest])
        found = [self._exact[head] for n in range(1, len(parts) + 1) if (head := parts[:n]) in self._exact]
        if parts[0] in self._roots:
            found += [rank for rank, wild in self._wild if _fits(wild, parts)]
        return min(found, default=self._last)


def _fits(wild: tuple[str, ...], parts: tuple[str, ...]) -> bool:
    return len(parts) >= len(wild) and all(w in ("*", p) for w, p in zip(wild, parts, strict=False))


def kind_of_path(path: str) -> str:
    """The code of the kind that a file belongs to by its path."""
    matcher = _matcher()
    return matcher.kinds[matcher.rank(path)].code


def kinds() -> tuple[Kind, ...]:
    """All kinds, in the order of the data file; the last of them takes what fits nowhere."""
    return _matcher().kinds


@cache
def _matcher() -> _Matcher:
    """Of the kinds that ship; raises LookupError when they were not handed over."""
    return _Matcher(msgspec.convert(tomllib.loads(handed("fills.toml")), _Kinds).kind)
