"""Which files lie on given bytes of a drive: what was lost, or found wrong, by name."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass

from neogenesis.core.errors import NeogenesisError
from neogenesis.core.extent import Extents
from neogenesis.core.record import Record
from neogenesis.core.store import RangeView, ReadableStore
from neogenesis.core.system.tree import Trees


@dataclass(frozen=True, slots=True)
class Touched:
    """A file that has bytes in the ranges asked for."""

    partition: int
    path: str
    size_bytes: int
    touched_bytes: int


class LostFile(Record, frozen=True, kw_only=True):
    """A file that lost bytes; `whole` tells that nothing of it is left."""

    path: str
    kind: str = ""
    whole: bool = False

    @classmethod
    def of(cls, file: Touched) -> LostFile:
        return cls(path=file.path, kind="file", whole=file.touched_bytes >= file.size_bytes)


def files_touching(
    store: ReadableStore, volumes: list[tuple[int, int, int]], ranges: Extents, trees: Trees, most: int = 10_000
) -> Iterator[Touched]:
    """Files of `volumes` (partition number, start, size in bytes) with runs in `ranges` of the drive; at most `most`.

    A volume that cannot be listed any more names no files.
    """
    found = 0
    for number, start, size in volumes:
        inside = ranges.clipped(start, start + size).shifted(-start)
        if not inside:
            continue
        try:
            with closing(trees(RangeView(store, start, size))) as tree:
                for path, length, inode in tree.walk():
                    touched = Extents.of(tree.byte_runs(inode)).intersection(inside).total
                    if touched:
                        yield Touched(number, path, length, min(touched, length))
                        found += 1
                        if found >= most:
                            return
        except NeogenesisError:
            continue
