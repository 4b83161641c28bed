"""Where people's files return from: a salvage with its records, any folder of files, a drive or its image."""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Iterable, Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, Protocol

import msgspec
from blake3 import blake3

from neogenesis.bench.drives import OpenDrive, open_source, same_bytes
from neogenesis.bench.processes.reader import open_tree
from neogenesis.core.errors import BadArgument, BadRecord, Damaged, NeogenesisError, Refused
from neogenesis.core.reinstall.giving import Destination, Reading, give_back
from neogenesis.core.reinstall.returned import (
    HEAD_BYTES,
    BackWish,
    GivingBack,
    Held,
    LeftOut,
    Returnable,
    returnable,
)
from neogenesis.core.salvage import BESIDE, Beside, Saved
from neogenesis.core.salvage.wanted import Wanted, wanted_files
from neogenesis.core.store import RangeView
from neogenesis.core.survey import survey_drive
from neogenesis.core.system import EntryKind, FileMarks, FileTree

_RECORDS = ("salvage.jsonl", BESIDE, "salvage.json", "salvage.lock")
_MOST_FILES, _PIECE = 5_000_000, 1 << 20
#: Of a folder so many files are looked at to see whether permissions mean anything there.
_LOOKED_AT = 500
#: What a filesystem holds of a stream or an attribute.
_LONGEST_STREAM = 60_000
_OWN_ATTRIBUTE, _ACCESS_LIST = "user.", "system.posix_acl_access"


class PeopleFiles(Protocol):
    """What holds people's files. `identity` is the key of the drive's, empty for a folder."""

    identity: str

    def files(self) -> Iterator[Held]:
        """All that it holds, whether it returns or not."""
        ...

    def unlisted(self) -> Sequence[str]:
        """Volumes whose files cannot even be listed, and why."""
        ...

    def head(self, held: Held) -> bytes | None:
        """A file's first bytes, None when it cannot be read."""
        ...

    def pieces(self, held: Held) -> Iterator[bytes]:
        """A file from its first byte to its last. Raises OSError or NeogenesisError."""
        ...

    def modified_s(self, held: Held) -> float | None:
        """When it was last changed, in seconds since 1970, where that is known."""
        ...

    def streams(self, held: Held) -> dict[str, bytes | None]:
        """Its alternate streams, or attributes that a person or program gave it, by name; None for what is too long."""
        ...

    def has_access_list(self, held: Held) -> bool:
        """Whether rights of single people are set on it."""
        ...


@contextmanager
def people_files(data: Path, identity: str = "") -> Iterator[PeopleFiles]:
    """A folder with a salvage or plain files, or a drive or image, sealed. `identity` is the key of the planned drive.

    Raises BadArgument when it is not there, Refused for a drive that should be salvaged first or is another one.
    """
    if data.is_dir():
        yield _Folder(data)
        return
    if not data.exists():
        raise BadArgument(f"There is no folder and no drive of files at “{data}”.", "Check the name.")
    with closing(open_source(str(data))) as opened:
        if identity and opened.drive.identity.key != identity:
            raise Refused(
                "source-changed",
                f"“{data}” is not the drive that people's files were to come from; nothing was written.",
                "Plan again.",
            )
        found = _Drive(opened)
        try:
            yield found
        finally:
            found.close()


class _Folder:
    def __init__(self, folder: Path) -> None:
        self._folder, self.identity = folder, ""

    def files(self) -> Iterator[Held]:
        return held_files(self._folder)

    def unlisted(self) -> Sequence[str]:
        return ()

    def head(self, held: Held) -> bytes | None:
        try:
            with open_beneath(self._folder, held.stored) as file:
                return file.read(HEAD_BYTES)
        except OSError:
            return None

    def modified_s(self, held: Held) -> float | None:
        return held.modified_s

    def pieces(self, held: Held) -> Iterator[bytes]:
        with open_beneath(self._folder, held.stored) as file:
            while piece := file.read(_PIECE):
                yield piece

    def streams(self, held: Held) -> dict[str, bytes | None]:
        names = [name for name in self._attributes(held) if name.startswith(_OWN_ATTRIBUTE)]
        found: dict[str, bytes | None] = {}
        with suppress(OSError), open_beneath(self._folder, held.stored) as file:
            for name in names:
                value = os.getxattr(file.fileno(), name)
                found[name.removeprefix(_OWN_ATTRIBUTE)] = value if len(value) <= _LONGEST_STREAM else None
        return found

    def has_access_list(self, held: Held) -> bool:
        return _ACCESS_LIST in self._attributes(held)

    def _attributes(self, held: Held) -> list[str]:
        try:
            with open_beneath(self._folder, held.stored) as file:
                return os.listxattr(file.fileno())
        except OSError:
            return []


class _Drive:
    """The volumes of a sealed drive whose files can be listed. It is read once; whatever resists wants a salvage."""

    def __init__(self, opened: OpenDrive) -> None:
        survey = survey_drive(opened.store, opened.drive, open_tree).survey
        if survey.health.is_failing:
            raise Refused(
                "failing",
                f"“{survey.drive.path}” is failing; files are not taken from it directly, nothing was written.",
                "Salvage it, and give the files back from that folder.",
            )
        listing = wanted_files(opened.store, survey, open_tree, None, (), ())
        self._unlisted = [one.text for one in listing.left_out if one.partition.volume.kind != "swap"]
        if listing.lost:
            self._unlisted.append(f"{listing.lost.total} bytes of the lists of files cannot be read")
        everything = (*listing.wanted, *listing.elsewhere, *listing.beside)
        self._wanted = {f"{one.partition}:{one.path}": one for one in everything}
        self._survey, self._store, self.identity = survey, opened.store, opened.drive.identity.key
        self._trees: dict[int, FileTree] = {}

    def close(self) -> None:
        for tree in self._trees.values():
            tree.close()

    def unlisted(self) -> Sequence[str]:
        return self._unlisted

    def files(self) -> Iterator[Held]:
        for stored, one in self._wanted.items():
            yield Held(
                stored=stored,
                path=one.path,
                size_bytes=one.size_bytes,
                modified_s=one.marks.modified_s,
                kind=one.entry,
                target=one.target,
                not_here=one.not_here,
                marks=one.marks,
                volume=str(one.partition),
            )

    def head(self, held: Held) -> bytes | None:
        one = self._wanted[held.stored]
        try:
            return next((data for data, lost in self._tree(one).contents(one.inode, HEAD_BYTES) if not lost), b"")
        except Damaged:
            return None

    def modified_s(self, held: Held) -> float | None:
        return held.modified_s

    def streams(self, held: Held) -> dict[str, bytes | None]:
        one, found = self._wanted[held.stored], dict[str, bytes | None]()
        for name, size in one.marks.streams:
            found[name] = self._tree(one).stream(one.inode, name) if size <= _LONGEST_STREAM else None
        return found

    def has_access_list(self, held: Held) -> bool:
        return False

    def pieces(self, held: Held) -> Iterator[bytes]:
        one = self._wanted[held.stored]
        for data, lost in self._tree(one).contents(one.inode, _PIECE):
            if lost:
                raise BadRecord(
                    f"“{held.path}” cannot be read whole from its drive; nothing was written.",
                    "Salvage the drive, and give the files back from that folder.",
                )
            yield data

    def _tree(self, one: Wanted) -> FileTree:
        if one.partition not in self._trees:
            partition = self._survey.partition(one.partition)
            assert partition is not None
            size = min(partition.size_bytes, self._store.size_bytes - partition.start_bytes)
            self._trees[one.partition] = open_tree(RangeView(self._store, partition.start_bytes, size))
        return self._trees[one.partition]


def look_through(data: Path, destination: Destination, wish: BackWish = BackWish()) -> tuple[GivingBack, str]:
    """What of a folder or drive would return, and the key of the drive's identity.

    Raises as `people_files`, BadArgument for a person who has no home there, BadRecord for damaged records.
    """
    with people_files(data) as source:
        return given_back(source, source.files(), destination, wish), source.identity


def given_back(source: PeopleFiles, files: Iterable[Held], destination: Destination, wish: BackWish) -> GivingBack:
    """What of an open source's `files` returns; volumes that could not be looked into are among what does not.

    Raises BadArgument for a person who has no home there.
    """
    reading = Reading(source.head, lambda held, way: _digest(source, held, way), source.modified_s)
    found = give_back(files, reading, destination, wish)
    known = {one.old.casefold() for one in found.persons}
    unknown = [old for old, _ in wish.persons if old.casefold() not in known]
    if unknown:
        names = ", ".join(one.old for one in found.persons) or "nobody"
        raise BadArgument(f"“{unknown[0]}” has no home among these files.", f"There are: {names}.")
    closed = tuple(LeftOut(path=text, why="Its files could not be looked at.", files=0) for text in source.unlisted())
    return msgspec.structs.replace(found, left_out=(*closed, *found.left_out))


def _digest(source: PeopleFiles, held: Held, way: str) -> str | None:
    """A file's checksum as text, by BLAKE3 or SHA-1; None when it cannot be read whole."""
    if way == "blake3" and held.blake3:
        return held.blake3
    digest = blake3() if way == "blake3" else hashlib.sha1(usedforsecurity=False)
    try:
        for piece in source.pieces(held):
            digest.update(piece)
    except (OSError, NeogenesisError):
        return None
    return digest.hexdigest()


@dataclass(frozen=True, slots=True)
class WayBack:
    """How people's files return: from `data`, a folder or the drive of that identity.

    `room_bytes` is what was found that they take, `count` how many records of files.
    """

    data: Path
    wish: BackWish
    drive: str
    room_bytes: int
    count: int = 0


def way_back(
    data: Path, destination: Destination, wish: BackWish = BackWish(), onto: Sequence[str] = ()
) -> tuple[WayBack, GivingBack]:
    """Look through what is to return. `onto` are the drives that are made anew. Raises BadArgument or Refused."""
    if any(not data.is_dir() and same_bytes(str(data), target) for target in onto):
        raise BadArgument(
            f"“{data}” is made anew itself; no files can return from it.", "Name another drive or folder."
        )
    found, drive = look_through(data, destination, wish)
    if not found.files and not found.there_already:
        count = sum(one.files for one in found.left_out)
        raise BadArgument(
            f"Of “{data}” nothing would go back to people; {count} files stay out. Nothing was written.",
            "Name another folder or drive, or other kinds.",
        )
    return WayBack(data, wish, drive, found.room_bytes, found.count), found


def what_could_return(data: Path, destination: Destination, wish: BackWish) -> tuple[Returnable, str]:
    """For somebody to choose from, and the key of the drive it is on. Raises as `way_back`."""
    every = BackWish(programs=True, same=wish.same, persons=wish.persons, without=wish.without)
    found, drive = look_through(data, destination, every)
    return returnable(found), drive


def held_files(folder: Path) -> Iterator[Held]:
    """By the records of a salvage where they are there, else what lies in the folder."""
    record = folder / _RECORDS[0]
    if record.is_file():
        yield from _of_salvage(record)
        return
    count, holds_modes = 0, _holds_modes(folder)
    for place, folders, names in os.walk(folder):
        for name in sorted([*folders, *names]):
            count += 1
            if count > _MOST_FILES:
                raise BadArgument(f"“{folder}” holds too many files.", "Give a smaller folder.")
            path = Path(place) / name
            status = path.lstat()
            kind = _KIND_OF.get(stat.S_IFMT(status.st_mode))
            if kind is None or (name in _RECORDS and Path(place) == folder):
                continue
            inner = path.relative_to(folder).as_posix()
            yield Held(
                stored=inner,
                path=inner,
                size_bytes=status.st_size if kind == "file" else 0,
                modified_s=status.st_mtime,
                kind=kind,
                target=str(path.readlink()) if kind == "link" else "",
                marks=FileMarks(
                    modified_s=status.st_mtime,
                    user=status.st_uid if holds_modes else None,
                    group=status.st_gid if holds_modes else None,
                    mode=stat.S_IMODE(status.st_mode) if holds_modes else None,
                ),
            )


_KIND_OF: dict[int, EntryKind] = {stat.S_IFREG: "file", stat.S_IFDIR: "folder", stat.S_IFLNK: "link"}


def _holds_modes(folder: Path) -> bool:
    """Whether a folder's filesystem keeps permissions: on others every file can be run, by everybody or nobody else."""
    files = (p for p in folder.rglob("*") if p.is_file() and not p.is_symlink())
    modes = {stat.S_IMODE(p.stat().st_mode) for p, _ in zip(files, range(_LOOKED_AT), strict=False)}
    return len(modes) != 1 or not modes & {0o777, 0o755, 0o700}


def _of_salvage(record: Path) -> Iterator[Held]:
    decoder = msgspec.json.Decoder(Saved)
    latest: dict[tuple[str, int, str], Saved] = {}
    with record.open("rb") as lines:
        for line in lines:
            if not line.endswith(b"\n"):
                break  # cut off while it was written
            try:
                one = decoder.decode(line)
            except (msgspec.MsgspecError, UnicodeDecodeError) as error:
                raise BadRecord(f"The record “{record.name}” is damaged ({error}).", "Salvage again.") from error
            latest[one.drive, one.partition, one.path] = one
    for one in latest.values():
        if one.not_here or (one.saved_as and not one.fault):
            yield Held(
                stored=one.saved_as,
                path=one.path,
                size_bytes=one.lost_bytes if one.not_here else one.size_bytes,
                blake3=one.blake3,
                lost_bytes=0 if one.not_here else one.lost_bytes,
                modified_s=one.modified_s,
                not_here=one.not_here,
                marks=one.marks,
                volume=str(one.partition),
            )
    beside = record.with_name(BESIDE)
    for line in beside.read_bytes().splitlines() if beside.is_file() else ():
        try:
            more = msgspec.json.decode(line, type=Beside)
        except (msgspec.MsgspecError, UnicodeDecodeError) as error:
            raise BadRecord(f"The record “{beside.name}” is damaged ({error}).", "Salvage again.") from error
        yield Held(
            stored=more.saved_as,
            path=more.path,
            size_bytes=0,
            kind=more.kind,
            target=more.target,
            marks=more.marks,
            volume=str(more.partition),
        )


def open_beneath(folder: Path, name: str) -> BinaryIO:
    """A file below a folder, following no link on the way. Raises OSError."""
    parts = name.split("/")
    at = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        for part in parts[:-1]:
            if part in ("", ".", ".."):
                raise OSError(22, "no name")
            deeper = os.open(part, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=at)
            os.close(at)
            at = deeper
        file = os.open(parts[-1], os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK, dir_fd=at)
    finally:
        os.close(at)
    if not stat.S_ISREG(os.fstat(file).st_mode):
        os.close(file)
        raise OSError(22, "no file")
    return os.fdopen(file, "rb")
