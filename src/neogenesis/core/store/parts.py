"""One long file kept in several, for media whose file system ends at 4 GiB.

`NAME`, `NAME.part2`, `NAME.part3` and so on, each of the same length but the last: joined in that order they are the
file, byte for byte, so any tool can have it back.
"""

from __future__ import annotations

import os
from bisect import bisect_right
from collections.abc import Sequence
from itertools import accumulate
from pathlib import Path

from neogenesis.core.errors import ReadFailed
from neogenesis.core.store.base import ReadableStore
from neogenesis.core.store.file import Grip, SealedFileStore
from neogenesis.core.store.opener import PathOpener

_MOST_PARTS = 10_000
_MOST_PIECES = 256


def part_path(path: Path, number: int) -> Path:
    """The file of part `number`, counted from 1."""
    return path if number == 1 else path.with_name(f"{path.name}.part{number}")


def existing_parts(path: Path) -> list[Path]:
    """`path` and the parts that stand beside it without a gap."""
    found = [path]
    while len(found) < _MOST_PARTS and part_path(path, len(found) + 1).exists():
        found.append(part_path(path, len(found) + 1))
    return found


class PartFile:
    """A file that is being written in parts of `part_bytes`, or in one piece without it. Raises OSError.

    After one failed sync it refuses everything: what was written before never arrived, and that is said only once.
    """

    def __init__(self, path: Path, part_bytes: int | None = None) -> None:
        self.path, self.part_bytes = path, part_bytes or 1 << 62
        self._descriptors: dict[int, int] = {}
        self._finished: OSError | None = None
        self._open(1)
        for number, _ in enumerate(existing_parts(path)[1:], 2):
            self._open(number)

    def _open(self, number: int) -> int:
        if number not in self._descriptors:
            flags = os.O_RDWR | os.O_CREAT | os.O_CLOEXEC
            self._descriptors[number] = os.open(part_path(self.path, number), flags, 0o644)
        return self._descriptors[number]

    def write_pieces(self, at: int, pieces: Sequence[bytes]) -> None:
        """All pieces one behind the other; inside one part without joining them first."""
        self._refuse_if_finished()
        length = sum(len(piece) for piece in pieces)
        number, inside = divmod(at, self.part_bytes)
        whole = inside + length <= self.part_bytes and len(pieces) <= _MOST_PIECES
        if not (whole and length and os.pwritev(self._open(number + 1), pieces, inside) == length):
            self.write(at, b"".join(pieces))

    def _refuse_if_finished(self) -> None:
        if self._finished is not None:
            raise self._finished

    def write(self, at: int, data: memoryview | bytes) -> None:
        self._refuse_if_finished()
        view, done = memoryview(data), 0
        while done < len(view):
            number, inside = divmod(at + done, self.part_bytes)
            piece = view[done : done + self.part_bytes - inside]
            done += os.pwrite(self._open(number + 1), piece, inside)

    def truncate(self, size: int) -> None:
        """Make the whole `size` long; parts behind its end go away, those before it are full."""
        last = max(1, -(-size // self.part_bytes))
        for number in [n for n in self._descriptors if n > last]:
            os.close(self._descriptors.pop(number))
            part_path(self.path, number).unlink()
        for number in range(1, last + 1):
            os.ftruncate(self._open(number), min(self.part_bytes, size - (number - 1) * self.part_bytes))

    def sync(self) -> None:
        self._refuse_if_finished()
        try:
            for descriptor in self._descriptors.values():
                os.fdatasync(descriptor)
        except OSError as error:
            self._finished = error
            raise

    def close(self) -> None:
        while self._descriptors:
            os.close(self._descriptors.popitem()[1])


class _Joined(ReadableStore):
    """Stores one behind the other; `ends` says where each of them ends."""

    def __init__(self, parts: Sequence[ReadableStore], ends: Sequence[int]) -> None:
        self._parts, self._ends = parts, ends
        self.size_bytes, self.sector_size = ends[-1] if ends else 0, 512

    def read_into(self, offset: int, buffer: memoryview) -> None:
        if offset < 0 or offset + len(buffer) > self.size_bytes:
            raise ReadFailed(offset, len(buffer), "the file ends here")
        at, end = offset, offset + len(buffer)
        while at < end:
            number = bisect_right(self._ends, at)
            stop = min(end, self._ends[number])
            inside = at - (self._ends[number] - self._parts[number].size_bytes)
            self._parts[number].read_into(inside, buffer[at - offset : stop - offset])
            at = stop

    def uncached(self) -> ReadableStore:
        return _Joined([part.uncached() for part in self._parts], self._ends)

    def close(self) -> None:
        for part in self._parts:
            part.close()


class JoinedStore(_Joined):
    """Sealed parts, read as the one file that they are."""

    def __init__(self, path: Path, grip: Grip = "share") -> None:
        parts = list[ReadableStore]()
        try:
            for part in existing_parts(path):
                parts.append(SealedFileStore(PathOpener(part), grip=grip))
        except BaseException:
            for opened in parts:
                opened.close()
            raise
        super().__init__(parts, list(accumulate(part.size_bytes for part in parts)))
