"""Files below a folder that stands for the root of a volume; whatever comes in, nothing is written outside of it.

Images are foreign. Their links are made when all their files are there, hard ones first, so that no file is written
through one. What is put there later follows links as the system on that volume would: from the folder as its root.
"""
# Names as text: a path object for each of a hundred thousand files costs more than writing them.
# ruff: noqa: PTH101, PTH102, PTH108, PTH114, PTH115, PTH211

from __future__ import annotations

import os
import re
import stat
import struct
from base64 import b64decode
from collections import deque
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from blake3 import blake3

from neogenesis.core.errors import BadRecord
from neogenesis.core.reinstall.names import name_key
from neogenesis.core.system import FileMarks

_XATTR, _XATTR_PACKED = "SCHILY.xattr.", "LIBARCHIVE.xattr."
_ACCESS_LISTS = {
    "SCHILY.acl.access": "system.posix_acl_access",
    "SCHILY.acl.default": "system.posix_acl_default",
}
#: By who is meant: tags without a number, and with one.
_ACL_TAGS = {"user": (0x01, 0x02), "group": (0x04, 0x08), "mask": (0x10, 0x10), "other": (0x20, 0x20)}
_ACL_TAGS |= {letters: tags for (word, tags) in list(_ACL_TAGS.items()) for letters in (word[0],)}
_MOST_LINKS = 40
#: The NT family's symbolic link, and that its target is relative.
_SYMBOLIC, _RELATIVE = 0xA000000C, 1
#: Zeros of at least so many bytes become a hole.
_LEAST_HOLE = 64 << 10
#: What a system says of owners, dates and attributes that it cannot hold.
_HINDERED = (OSError, OverflowError, ValueError)
_NEW_FILE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC


@dataclass(slots=True)
class LaidOut:
    """What was put into a folder: checksums of its files, its marks and links, and owners that want rights to be set.

    `left_out` are members of an image that no volume is given: devices, links that lead out of it or stand in the way.
    `not_kept` are places of what could not be had on the volume, by what it is.
    """

    digests: dict[str, bytes] = field(default_factory=dict)
    owners: dict[str, tuple[int, int, int]] = field(default_factory=dict)
    left_out: list[str] = field(default_factory=list)
    marks: dict[str, FileMarks] = field(default_factory=dict)
    links: dict[str, str] = field(default_factory=dict)
    not_kept: dict[str, list[str]] = field(default_factory=dict)

    def lose(self, what: str, place: str) -> None:
        self.not_kept.setdefault(what, []).append(place)


@dataclass(frozen=True, slots=True)
class Marks:
    """What a member is to have besides its bytes; times in seconds since 1970, `more` extended attributes."""

    user: int
    group: int
    mode: int
    modified_s: float
    more: dict[str, bytes]


class Layer:
    """Lays members of an image below a folder that holds nothing yet but what it put there.

    `kind` is the filesystem that they are for; `told` hears of bytes as they are written. Paths are relative, with
    slashes, and were checked to lead nowhere else.
    """

    def __init__(self, folder: Path, kind: str, told: Callable[[int], None]) -> None:
        self.made, self._told = LaidOut(), told
        self._root, self._kind, self._is_root = str(folder), kind, os.geteuid() == 0
        self.holds_owners = kind == "ext4"
        self._folders = {""}
        self._marked: list[tuple[str, Marks]] = []
        self._hard: list[tuple[str, str]] = []
        self._symbolic: dict[str, tuple[str, Marks]] = {}
        self._spelled: dict[tuple[str, str], str] = {}

    def _is_taken(self, inner: str) -> bool:
        """Whether the volume has that name already. Where only its system takes two for the same, that is said."""
        if self.holds_owners:
            return False
        folder, _, name = inner.rpartition("/")
        is_double = self._spelled.setdefault((folder, name_key(name, "nt")), name) != name
        if is_double:
            self.made.lose("Another name that its system takes for the same", inner)
        return is_double and self._kind == "vfat"

    def add_folder(self, inner: str, marks: Marks) -> None:
        self._make_folders(inner)
        self._marked.append((inner, marks))
        self._own(inner, marks)

    def add_file(self, inner: str, pieces: Iterable[memoryview | bytes], size: int | None, marks: Marks) -> None:
        """With a `size`, zeros become holes, and the file gets that length. Of two with one name the last counts."""
        if self._is_taken(inner):
            return
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
            self._mark(file, inner, marks)
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
            self._mark(place, inner, marks)
            if self.holds_owners:
                self.made.links[inner] = target
        for inner, marks in sorted(self._marked, key=lambda one: -one[0].count("/")):
            self._mark(f"{self._root}/{inner}", inner, marks)
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

    def _mark(self, place: int | str, inner: str, marks: Marks) -> None:
        """Owner, permissions, attributes and date, as far as the folder's filesystem and our rights go."""
        by_name: dict[str, Any] = {} if isinstance(place, int) else {"follow_symlinks": False}
        reachable = 0o600 if isinstance(place, int) else 0o700
        if self.holds_owners:
            if self._is_root:
                with suppress(*_HINDERED):
                    os.chown(place, marks.user, marks.group, **by_name)
            if isinstance(place, int) or not os.path.islink(place):
                with suppress(*_HINDERED):
                    os.chmod(place, stat.S_IMODE(marks.mode) | (0 if self._is_root else reachable))
        for name, value in marks.more.items():
            try:
                os.setxattr(place, name, value, **by_name)
            except _HINDERED:
                self.made.lose(f"The attribute {name}", inner)
        with suppress(*_HINDERED):
            os.utime(place, (marks.modified_s, marks.modified_s), **by_name)
        is_link = isinstance(place, str) and os.path.islink(place)
        has_list = "system.posix_acl_access" in marks.more  # which says what the group may
        has_own_times = any(name.startswith("system.ntfs_") for name in marks.more)
        self.made.marks[inner] = FileMarks(
            modified_s=None if is_link or has_own_times else marks.modified_s,
            user=marks.user if self.holds_owners else None,
            group=marks.group if self.holds_owners else None,
            mode=stat.S_IMODE(marks.mode) if self.holds_owners and not is_link and not has_list else None,
        )


def extended_attributes(headers: Mapping[str, str]) -> dict[str, bytes]:
    """Of an archive's own headers those that are extended attributes: of two archivers, and access lists (acl(5)).

    What cannot be read as one is passed over.
    """
    found: dict[str, bytes] = {}
    for header, text in headers.items():
        with suppress(ValueError, LookupError):
            if header.startswith(_XATTR):
                found[header[len(_XATTR) :]] = text.encode("utf-8", "surrogateescape")
            elif header.startswith(_XATTR_PACKED):
                found.setdefault(unquote(header[len(_XATTR_PACKED) :]), b64decode(f"{text}==="))
            elif header in _ACCESS_LISTS:
                found[_ACCESS_LISTS[header]] = _access_list(text)
    return found


def _access_list(text: str) -> bytes:
    """An access list as the kernel holds it, by its text with numbers, also behind names (`user:ann:r--:1000`).

    Source: the kernel's `posix_acl_xattr.h`.
    """
    entries = []
    for line in re.split(r"[,\n]", text):
        fields = line.partition("#")[0].strip().split(":")
        if fields == [""]:
            continue
        kind, who, rights, *more = fields
        number = more[0] if more else who
        tag = _ACL_TAGS[kind.removeprefix("default").strip() or kind][bool(who)]
        value = sum(bit for letter, bit in (("r", 4), ("w", 2), ("x", 1)) if letter in rights)
        entries.append((tag, value, int(number) if who else 0xFFFFFFFF))
    return struct.pack("<I", 2) + b"".join(struct.pack("<HHI", *entry) for entry in sorted(entries))


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
    made.marks.pop(inner, None)
    made.links.pop(inner, None)
    return inner, digest.digest()


def put_folder(root: Path, name: str) -> tuple[str, bool]:
    """A folder where its name leads, with those around it; where that is, and whether it was not there before."""
    inner = inside(root, name)
    place = root / inner
    if place.is_dir() and not place.is_symlink():
        return inner, False
    try:
        place.mkdir(parents=True)
    except OSError as error:
        raise BadRecord(f"The folder “{name}” cannot be made ({error.strerror}); nothing was written.", "") from error
    return inner, True


def put_link(root: Path, name: str, target: str, made: LaidOut) -> str:
    """A symbolic link in the place of whatever stands there; returns where that is. Raises BadRecord."""
    inner = inside(root, name)
    place = root / inner
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        with suppress(FileNotFoundError):
            place.unlink()
        place.symlink_to(target)
    except OSError as error:
        raise BadRecord(f"The link “{name}” cannot be made ({error.strerror}); nothing was written.", "") from error
    made.digests.pop(inner, None)
    made.marks.pop(inner, None)
    made.links[inner] = target
    return inner


def put_nt_link(root: Path, name: str, target: str, to_folder: bool, made: LaidOut) -> None:
    """A symbolic link of the NT family, relative to its own folder. What cannot be made is said.

    Source: the family's published structure of reparse points (REPARSE_DATA_BUFFER).
    """
    inner = inside(root, name)
    place = root / inner
    path = target.replace("/", "\\").encode("utf-16-le")
    names = struct.pack("<HHHHI", 0, len(path), len(path), len(path), _RELATIVE) + path + path
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        place.mkdir() if to_folder else place.touch(exist_ok=False)
        os.setxattr(place, "system.ntfs_reparse_data", struct.pack("<IHH", _SYMBOLIC, len(names), 0) + names)
    except OSError:
        made.lose("A link", inner)
        return
    made.links[inner] = target
