"""Files below a folder that stands for the root of a volume; whatever comes in, nothing is written outside of it.

Images are foreign. Their links are made when all their files are there, hard ones first, so that no file is written
through one. What is put there later follows links as the system on that volume would: from the folder as its root.
"""
# Names as text: a path object for each of a hundred thousand files costs more than writing them.
# ruff: noqa: PTH101, PTH102, PTH108, PTH114, PTH115, PTH211

from __future__ import annotations

import os
import stat
from collections import deque
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from blake3 import blake3

from neogenesis.core.errors import BadRecord

_XATTR = "SCHILY.xattr."
_MOST_LINKS = 40
#: Zeros of at least so many bytes become a hole.
_LEAST_HOLE = 64 << 10
#: What a system says of owners, dates and attributes that it cannot hold.
_HINDERED = (OSError, OverflowError, ValueError)
_NEW_FILE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC


@dataclass(slots=True)
class LaidOut:
    """What was put into a folder: checksums of its files, and what could not be set there without rights.

    `left_out` are members of an image that no volume is given: devices, links that lead out of it or stand in the way.
    """

    digests: dict[str, bytes] = field(default_factory=dict)
    owners: dict[str, tuple[int, int, int]] = field(default_factory=dict)
    left_out: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Marks:
    """What a member is to have besides its bytes; times in seconds since 1970, `more` extended attributes."""

    user: int
    group: int
    mode: int
    modified_s: float
    more: dict[str, str]


class Layer:
    """Lays members of an image below a folder that holds nothing yet but what it put there.

    With `owned` the folder's filesystem holds owners and permissions; `told` hears of bytes as they are written. Paths
    are relative, with slashes, and were checked to lead nowhere else.
    """

    def __init__(self, folder: Path, owned: bool, told: Callable[[int], None]) -> None:
        self.made, self._told = LaidOut(), told
        self._root, self._owned, self._is_root = str(folder), owned, os.geteuid() == 0
        self._folders = {""}
        self._marked: list[tuple[str, Marks]] = []
        self._hard: list[tuple[str, str]] = []
        self._symbolic: dict[str, tuple[str, Marks]] = {}

    def add_folder(self, inner: str, marks: Marks) -> None:
        self._make_folders(inner)
        self._marked.append((inner, marks))
        self._own(inner, marks)

    def add_file(self, inner: str, pieces: Iterable[memoryview | bytes], size: int | None, marks: Marks) -> None:
        """With a `size`, zeros become holes, and the file gets that length. Of two with one name the last counts."""
        self._make_folders(inner.rpartition("/")[0])
        place, digest = f"{self._root}/{inner}", blake3(max_threads=1)
        try:
            file = os.open(place, _NEW_FILE, 0o600)
        except FileExistsError:
            os.unlink(place)
            file = os.open(place, _NEW_FILE, 0o600)
        try:
            for piece in pieces:
                digest.update(piece)
                self._told(len(piece))
                if size is None or not _skipped(file, piece):
                    _write_whole(file, piece)
            if size is not None:
                os.ftruncate(file, size)
            self._mark(file, marks)
        finally:
            os.close(file)
        self.made.digests[inner] = digest.digest()
        if not self._is_root:
            self._own(inner, marks)

    def add_hard_link(self, inner: str, to: str) -> None:
        self._make_folders(inner.rpartition("/")[0])
        self._hard.append((inner, to))

    def add_symbolic_link(self, inner: str, target: str, marks: Marks) -> None:
        self._make_folders(inner.rpartition("/")[0])
        self._symbolic[inner] = (target, marks)

    def leave_out(self, inner: str) -> None:
        self.made.left_out.append(inner)

    def finish(self) -> LaidOut:
        """Links, then the marks of folders, the innermost first."""
        for inner, to in self._hard:
            place, digest = f"{self._root}/{inner}", self.made.digests.get(to)
            if to in self._symbolic:
                self._symbolic[inner] = self._symbolic[to]
            elif digest is None or os.path.lexists(place):  # it leads to no file of this volume, or is one already
                self.leave_out(inner)
            else:
                os.link(f"{self._root}/{to}", place, follow_symlinks=False)
                self.made.digests[inner] = digest
        for inner, (target, marks) in self._symbolic.items():
            place = f"{self._root}/{inner}"
            if os.path.lexists(place) or "\0" in target:
                self.leave_out(inner)
                continue
            os.symlink(target, place)
            self._own(inner, marks)
            self._mark(place, marks)
        for inner, marks in sorted(self._marked, key=lambda one: -one[0].count("/")):
            self._mark(f"{self._root}/{inner}", marks)
        return self.made

    def _make_folders(self, inner: str) -> None:
        if inner in self._folders:
            return
        self._make_folders(inner.rpartition("/")[0])
        place = f"{self._root}/{inner}"
        try:
            os.mkdir(place, 0o755)
        except FileExistsError:
            if not stat.S_ISDIR(os.lstat(place).st_mode):
                raise
        self._folders.add(inner)

    def _own(self, inner: str, marks: Marks) -> None:
        self.made.owners[inner] = (marks.user, marks.group, marks.mode)

    def _mark(self, place: int | str, marks: Marks) -> None:
        """Owner, permissions, attributes and date, as far as the folder's filesystem and our rights go."""
        by_name: dict[str, Any] = {} if isinstance(place, int) else {"follow_symlinks": False}
        reachable = 0o600 if isinstance(place, int) else 0o700
        if self._owned:
            if self._is_root:
                with suppress(*_HINDERED):
                    os.chown(place, marks.user, marks.group, **by_name)
            if isinstance(place, int) or not os.path.islink(place):
                with suppress(*_HINDERED):
                    os.chmod(place, stat.S_IMODE(marks.mode) | (0 if self._is_root else reachable))
        for name, value in marks.more.items():
            with suppress(*_HINDERED):
                os.setxattr(place, name, value.encode("utf-8", "surrogateescape"), **by_name)
        with suppress(*_HINDERED):
            os.utime(place, (marks.modified_s, marks.modified_s), **by_name)


def extended_attributes(headers: Mapping[str, str]) -> dict[str, str]:
    """Of an archive's own headers those that are extended attributes."""
    return {name[len(_XATTR) :]: value for name, value in headers.items() if name.startswith(_XATTR)} if headers else {}


def _skipped(file: int, piece: memoryview | bytes) -> bool:
    """Whether a piece is all zeros, and was left as a hole."""
    if len(piece) < _LEAST_HOLE or piece != bytes(len(piece)):
        return False
    os.lseek(file, len(piece), os.SEEK_CUR)
    return True


def _write_whole(file: int, piece: memoryview | bytes) -> None:
    view = memoryview(piece)
    while view:
        view = view[os.write(file, view) :]


def inside(root: Path, name: str) -> str:
    """Where a name leads on the volume whose root is `root`, followed as the system on it would; never outside.

    Relative to `root`, without links but for its last part. Raises BadRecord for a name that leads in a circle.
    """
    waiting, found, links = deque(name.split("/")), list[str](), 0
    while waiting:
        part = waiting.popleft()
        if part in ("", "."):
            continue
        if part == "..":
            found = found[:-1]
            continue
        place = root.joinpath(*found, part)
        if waiting and place.is_symlink():
            links += 1
            if links > _MOST_LINKS:
                raise BadRecord(
                    f"“{name}” leads in a circle on the new volume; nothing was written.", "Take another image."
                )
            target = os.readlink(place)
            found = [] if target.startswith("/") else found
            waiting.extendleft(reversed(target.split("/")))
        else:
            found.append(part)
    return "/".join(found)


def put_file(
    root: Path, name: str, pieces: Iterable[bytes], made: LaidOut, modified_s: float | None = None, anew: bool = True
) -> tuple[str, bytes]:
    """A file besides those of an image, where its name leads. Returns where that is, and its checksum.

    With `anew` it stands for one that is there, else that is an error. Raises OSError or BadRecord.
    """
    inner = inside(root, name)
    place, digest = root / inner, blake3(max_threads=1)
    place.parent.mkdir(parents=True, exist_ok=True)
    if anew:
        with suppress(FileNotFoundError):
            place.unlink()
    file = os.open(place, _NEW_FILE, 0o644)
    try:
        length = 0
        for piece in pieces:
            digest.update(piece)
            length += len(piece)
            if not _skipped(file, piece):
                _write_whole(file, piece)
        os.ftruncate(file, length)
        if modified_s is not None:
            os.utime(file, (modified_s, modified_s))
    finally:
        os.close(file)
    made.digests[inner] = digest.digest()
    return inner, digest.digest()
