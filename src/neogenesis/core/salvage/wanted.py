"""Which files are wanted, in the order in which people would miss them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass

from neogenesis.core.errors import Damaged
from neogenesis.core.extent import NONE, Extents
from neogenesis.core.salvage.names import kind_of, matches
from neogenesis.core.store import RangeView, ReadableStore
from neogenesis.core.survey import PartitionFacts, Survey
from neogenesis.core.system import NO_MARKS, EntryKind, FileMarks, NotHere, Trees

_ORDER = ("documents", "pictures", "mail", "desktop", "saved games", "other of people", "music and films", "rest")


@dataclass(frozen=True, slots=True)
class Wanted:
    """A file to copy out: partition number, path in its volume, size, and where it is found.

    Links, with where they lead, and folders have no bytes. `not_here` says why a file's are not on
    the drive in a form that can be copied.
    """

    partition: int
    path: str
    size_bytes: int
    inode: int
    kind: str
    entry: EntryKind = "file"
    target: str = ""
    not_here: NotHere = ""
    marks: FileMarks = NO_MARKS


@dataclass(frozen=True, slots=True)
class NotListed:
    """A partition whose files cannot be listed, and why."""

    partition: PartitionFacts
    why: str

    @property
    def text(self) -> str:
        return f"{self.partition.title} (partition {self.partition.number}): {self.why}"


@dataclass(frozen=True, slots=True)
class Listing:
    """What is to be copied, what cannot be listed, and the ranges of the drive that could not be read for the lists.

    Files may stand in those that nothing names any more. `beside` are links and folders, `elsewhere`
    files of which the data is not here.
    """

    wanted: list[Wanted]
    beside: list[Wanted]
    elsewhere: list[Wanted]
    left_out: list[NotListed]
    lost: Extents

    @property
    def unread(self) -> tuple[str, ...]:
        """What could not be listed, a line each."""
        more = [f"{self.lost.total} bytes of the lists of files cannot be read"] if self.lost else []
        return (*(one.text for one in self.left_out), *more)


def wanted_files(
    store: ReadableStore,
    survey: Survey,
    trees: Trees,
    volume: int | None,
    include: tuple[str, ...],
    exclude: tuple[str, ...],
) -> Listing:
    """Files of the volumes that can be listed, what people miss most first; and why other volumes are left out."""
    found: list[Wanted] = []
    beside: list[Wanted] = []
    elsewhere: list[Wanted] = []
    left_out: list[NotListed] = []
    lost = NONE
    for partition in survey.partitions:
        if volume is not None and partition.number != volume:
            continue
        size = min(partition.size_bytes, store.size_bytes - partition.start_bytes)
        try:
            with closing(trees(RangeView(store, partition.start_bytes, size))) as tree:
                for one in tree.walk_entries():
                    path = one.path
                    internal = path.startswith("$") and partition.volume.kind in ("ntfs", "vfat", "exfat")
                    if internal or (include and not matches(path, include)) or matches(path, exclude):
                        continue
                    to = elsewhere if one.not_here else found if one.kind == "file" else beside
                    about = (kind_of(path), one.kind, one.target, one.not_here, one.marks)
                    to.append(Wanted(partition.number, path, one.size_bytes, one.inode, *about))
                lost = lost.union(tree.lost.shifted(partition.start_bytes))
        except Damaged:
            if partition.volume.kind != "none":
                why = "it is encrypted" if partition.volume.encrypted else "its files cannot be listed"
                left_out.append(NotListed(partition, why))
    for files in (found, beside, elsewhere):
        files.sort(key=lambda w: (_ORDER.index(w.kind), w.partition, w.path))
    return Listing(found, beside, elsewhere, left_out, lost)


def each_kind(wanted: Sequence[Wanted]) -> Iterator[tuple[str, int, int]]:
    """Kind, files and bytes, in the order in which they are copied."""
    for kind in _ORDER:
        sizes = [w.size_bytes for w in wanted if w.kind == kind]
        if sizes:
            yield kind, len(sizes), sum(sizes)
