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
from neogenesis.core.system import Trees

_ORDER = ("documents", "pictures", "mail", "desktop", "saved games", "other of people", "music and films", "rest")


@dataclass(frozen=True, slots=True)
class Wanted:
    """A file to copy out: partition number, path in its volume, size, and where it is found."""

    partition: int
    path: str
    size_bytes: int
    inode: int
    kind: str


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

    Files may stand in those that nothing names any more.
    """

    wanted: list[Wanted]
    left_out: list[NotListed]
    lost: Extents


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
    left_out: list[NotListed] = []
    lost = NONE
    for partition in survey.partitions:
        if volume is not None and partition.number != volume:
            continue
        size = min(partition.size_bytes, store.size_bytes - partition.start_bytes)
        try:
            with closing(trees(RangeView(store, partition.start_bytes, size))) as tree:
                for path, length, inode in tree.walk():
                    internal = path.startswith("$") and partition.volume.kind in ("ntfs", "vfat", "exfat")
                    if internal or (include and not matches(path, include)) or matches(path, exclude):
                        continue
                    found.append(Wanted(partition.number, path, length, inode, kind_of(path)))
                lost = lost.union(tree.lost.shifted(partition.start_bytes))
        except Damaged:
            if partition.volume.kind != "none":
                why = "it is encrypted" if partition.volume.encrypted else "its files cannot be listed"
                left_out.append(NotListed(partition, why))
    found.sort(key=lambda w: (_ORDER.index(w.kind), w.partition, w.path))
    return Listing(found, left_out, lost)


def each_kind(wanted: Sequence[Wanted]) -> Iterator[tuple[str, int, int]]:
    """Kind, files and bytes, in the order in which they are copied."""
    for kind in _ORDER:
        sizes = [w.size_bytes for w in wanted if w.kind == kind]
        if sizes:
            yield kind, len(sizes), sum(sizes)
