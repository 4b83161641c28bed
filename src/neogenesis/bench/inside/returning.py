"""Where people's files return from: a salvage with its records, any folder of files, a drive or its image."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, Protocol

import msgspec

from neogenesis.bench.drives import OpenDrive, open_source, same_bytes
from neogenesis.bench.processes.reader import open_tree
from neogenesis.core.errors import BadArgument, BadRecord, Damaged, Refused
from neogenesis.core.reinstall.returned import (
    HEAD_BYTES,
    BackWish,
    GivingBack,
    Held,
    LeftOut,
    Returnable,
    give_back,
    returnable,
)
from neogenesis.core.salvage import Saved
from neogenesis.core.salvage.wanted import Wanted, wanted_files
from neogenesis.core.store import RangeView
from neogenesis.core.survey import survey_drive
from neogenesis.core.system import FileTree

_RECORDS = ("salvage.jsonl", "salvage.json", "salvage.lock")
_MOST_FILES, _PIECE = 5_000_000, 1 << 20


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
        self._wanted = {f"{one.partition}:{one.path}": one for one in listing.wanted}
        self._survey, self._store, self.identity = survey, opened.store, opened.drive.identity.key
        self._trees: dict[int, FileTree] = {}

    def close(self) -> None:
        for tree in self._trees.values():
            tree.close()

    def unlisted(self) -> Sequence[str]:
        return self._unlisted

    def files(self) -> Iterator[Held]:
        for stored, one in self._wanted.items():
            yield Held(stored=stored, path=one.path, size_bytes=one.size_bytes)

    def head(self, held: Held) -> bytes | None:
        one = self._wanted[held.stored]
        try:
            return next((data for data, lost in self._tree(one).contents(one.inode, HEAD_BYTES) if not lost), b"")
        except Damaged:
            return None

    def modified_s(self, held: Held) -> float | None:
        one = self._wanted[held.stored]
        return self._tree(one).modified_s(one.inode)

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


def look_through(data: Path, family: str, wish: BackWish = BackWish()) -> tuple[GivingBack, str]:
    """What of a folder or drive would return, and the key of the drive's identity.

    Raises as `people_files`, and BadRecord for damaged records.
    """
    with people_files(data) as source:
        return given_back(source, source.files(), family, wish), source.identity


def given_back(source: PeopleFiles, files: Iterable[Held], family: str, wish: BackWish) -> GivingBack:
    """What of an open source's `files` returns; volumes that could not be looked into are among what does not."""
    found = give_back(files, source.head, family, wish, source.modified_s)
    closed = tuple(LeftOut(path=text, why="Its files could not be looked at.", files=0) for text in source.unlisted())
    return msgspec.structs.replace(found, left_out=(*closed, *found.left_out))


@dataclass(frozen=True, slots=True)
class WayBack:
    """How people's files return: from `data`, a folder or the drive of that identity.

    `room_bytes` is what was found that they take.
    """

    data: Path
    wish: BackWish
    drive: str
    room_bytes: int


def way_back(
    data: Path, family: str, wish: BackWish = BackWish(), onto: Sequence[str] = ()
) -> tuple[WayBack, GivingBack]:
    """Look through what is to return. `onto` are the drives that are made anew. Raises BadArgument or Refused."""
    if any(not data.is_dir() and same_bytes(str(data), target) for target in onto):
        raise BadArgument(
            f"“{data}” is made anew itself; no files can return from it.", "Name another drive or folder."
        )
    found, drive = look_through(data, family, wish)
    if not found.files:
        count = sum(one.files for one in found.left_out)
        raise BadArgument(
            f"Of “{data}” nothing would go back to people; {count} files stay out. Nothing was written.",
            "Name another folder or drive, or other kinds.",
        )
    return WayBack(data, wish, drive, found.room_bytes), found


def what_could_return(data: Path, family: str) -> tuple[Returnable, str]:
    """For somebody to choose from, and the key of the drive it is on. Raises as `way_back`."""
    found, drive = look_through(data, family, BackWish(programs=True))
    return returnable(found), drive


def held_files(folder: Path) -> Iterator[Held]:
    """By the records of a salvage where they are there, else what lies in the folder."""
    record = folder / _RECORDS[0]
    if record.is_file():
        yield from _of_salvage(record)
        return
    count = 0
    for place, _, names in os.walk(folder):
        for name in sorted(names):
            count += 1
            if count > _MOST_FILES:
                raise BadArgument(f"“{folder}” holds too many files.", "Give a smaller folder.")
            path = Path(place) / name
            if path.is_symlink() or not path.is_file() or name in _RECORDS:
                continue
            inner = path.relative_to(folder).as_posix()
            status = path.stat()
            yield Held(stored=inner, path=inner, size_bytes=status.st_size, modified_s=status.st_mtime)


def _of_salvage(record: Path) -> Iterator[Held]:
    decoder = msgspec.json.Decoder(Saved)
    latest: dict[str, Saved] = {}
    with record.open("rb") as lines:
        for line in lines:
            if not line.endswith(b"\n"):
                break  # cut off while it was written
            try:
                one = decoder.decode(line)
            except (msgspec.MsgspecError, UnicodeDecodeError) as error:
                raise BadRecord(f"The record “{record.name}” is damaged ({error}).", "Salvage again.") from error
            latest[one.saved_as] = one
    for one in latest.values():
        if one.saved_as and not one.fault:
            yield Held(
                stored=one.saved_as,
                path=one.path,
                size_bytes=one.size_bytes,
                blake3=one.blake3,
                lost_bytes=one.lost_bytes,
                modified_s=one.modified_s,
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
