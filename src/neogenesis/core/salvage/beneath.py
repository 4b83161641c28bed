"""A folder that nothing gets out of: names from a drive are opened below it one by one, and no link is followed.

What a drive calls its files is not to be trusted, and neither is what lies in the folder already.
"""

from __future__ import annotations

import ctypes
import os
import stat
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from blake3 import blake3

_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_PIECE = 1 << 20
_libc = ctypes.CDLL(None, use_errno=True)


def is_safe(part: str) -> bool:
    """Whether a part of a path names something inside the folder it stands in, and nothing else."""
    return part not in ("", ".", "..") and "/" not in part and "\0" not in part


class Beneath:
    """The destination of a salvage. Names are parts of a path; all methods raise OSError or ValueError."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._root = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)

    def close(self) -> None:
        os.close(self._root)

    @contextmanager
    def inside(self, parts: Sequence[str], make: bool = False) -> Iterator[int]:
        """A descriptor of the folder of these parts, made on the way where `make` says so."""
        at = os.dup(self._root)
        try:
            for part in parts:
                if not is_safe(part):
                    raise ValueError(f"“{part}” is no name")
                if make:
                    with suppress(FileExistsError):
                        os.mkdir(part, 0o755, dir_fd=at)
                deeper = os.open(part, _FOLDER, dir_fd=at)
                os.close(at)
                at = deeper
            yield at
        finally:
            os.close(at)

    def new_file(self, folder: int, name: str) -> int:
        """A descriptor of a file that was not there before; one of ours that was left over goes away."""
        with suppress(FileNotFoundError):
            os.unlink(name, dir_fd=folder)
        return os.open(name, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o644, dir_fd=folder)

    def holds_other(self, folder: int, name: str, size: int, digest: bytes) -> bool:
        """Whether something stands at `name` that is not this very file."""
        try:
            found = os.stat(name, dir_fd=folder, follow_symlinks=False)
        except FileNotFoundError:
            return False
        if not stat.S_ISREG(found.st_mode) or found.st_size != size:
            return True
        return self._digest(folder, name) != digest

    def holds(self, parts: Sequence[str], size: int, digest: bytes | None = None) -> bool:
        """Whether a regular file of that size, and with that BLAKE3 if it is given, stands there."""
        try:
            with self.inside(parts[:-1]) as folder:
                found = os.stat(parts[-1], dir_fd=folder, follow_symlinks=False)
                if not stat.S_ISREG(found.st_mode) or found.st_size != size:
                    return False
                return digest is None or self._digest(folder, parts[-1]) == digest
        except (OSError, ValueError):
            return False

    def _digest(self, folder: int, name: str) -> bytes:
        made = blake3()
        descriptor = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folder)
        with os.fdopen(descriptor, "rb", buffering=0) as file:
            while piece := file.read(_PIECE):
                made.update(piece)
        return made.digest()

    def sync(self) -> None:
        """Everything that was written to the file system of the folder is on its medium, names as well."""
        if _libc.syncfs(self._root) != 0:
            number = ctypes.get_errno()
            raise OSError(number, os.strerror(number))
