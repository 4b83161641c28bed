"""One long file kept in several, for media whose file system ends at 4 GiB.

`NAME`, `NAME.part2`, `NAME.part3` and so on, each of the same length but the last: joined in that order they are the
file, byte for byte, so any tool can have it back.
"""

from __future__ import annotations

import os
from pathlib import Path

_MOST_PARTS = 10_000


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
    """A file that is being written in parts of `part_bytes`, or in one piece without it. Raises OSError."""

    def __init__(self, path: Path, part_bytes: int | None = None) -> None:
        self.path, self.part_bytes = path, part_bytes or 1 << 62
        self._descriptors: dict[int, int] = {}
        self._open(1)
        for number, _ in enumerate(existing_parts(path)[1:], 2):
            self._open(number)

    def _open(self, number: int) -> int:
        if number not in self._descriptors:
            flags = os.O_RDWR | os.O_CREAT | os.O_CLOEXEC
            self._descriptors[number] = os.open(part_path(self.path, number), flags, 0o644)
        return self._descriptors[number]

    def write(self, at: int, data: memoryview | bytes) -> None:
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
        for descriptor in self._descriptors.values():
            os.fdatasync(descriptor)

    def close(self) -> None:
        while self._descriptors:
            os.close(self._descriptors.popitem()[1])
