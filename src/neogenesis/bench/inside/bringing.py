"""People's files, folders and links onto the new volume: their bytes, whose they are, and their marks."""

from __future__ import annotations

import os
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

import msgspec

from neogenesis.bench.inside.laying import LaidOut, put_file, put_folder, put_link, put_nt_link
from neogenesis.bench.inside.returning import PeopleFiles
from neogenesis.core.errors import BadRecord
from neogenesis.core.reinstall.persons import FIRST_ID, Person
from neogenesis.core.reinstall.returned import GivenFile, GivingBack, Held
from neogenesis.core.system import NO_MARKS, FileMarks
from neogenesis.core.system.inside import EPOCH_1601_S
from neogenesis.core.transfer.prepare import Told

#: Permissions where nothing is known: a person's own are nobody else's.
_OWN_FILE, _OWN_FOLDER, _SHARED_FILE, _SHARED_FOLDER = 0o600, 0o700, 0o644, 0o755
#: Attributes of the NT family that are a person's choice: read-only, hidden, archive, not to be indexed.
_KEPT_ATTRIBUTES = 0x2023
#: The NT family's time counts steps of 100 ns since 1601.
_STEPS = 10_000_000


def bring_back(
    source: PeopleFiles,
    found: GivingBack,
    held: Mapping[str, Held],
    folder: Path,
    family: str,
    is_home: bool,
    made: LaidOut,
    told: Told,
) -> None:
    """Everything that returns, below `folder`, which is the volume's root; with `is_home` that of all homes.

    `held` is by where it lies now. Raises BadRecord for a file that is not what was salvaged.
    """
    bringing = _Bringing(source, found, folder, family, is_home, made)
    for place in found.folders:
        bringing.folder(place.place, place.person, place.marks)
    for one in found.files:
        told(one.size_bytes)
        bringing.file(one, held[one.stored])
    for link in found.links:
        bringing.link(link.place, link.to, link.to_folder, link.person)
    bringing.finish()


class _Bringing:
    def __init__(
        self, source: PeopleFiles, found: GivingBack, folder: Path, family: str, is_home: bool, made: LaidOut
    ) -> None:
        self._source, self._root, self._made = source, folder, made
        self._has_owners, self._is_home, self._is_root = family == "linux", is_home, os.geteuid() == 0
        self._persons = {one.new: one for one in found.persons}
        first = min((one.user for one in found.persons if one.new), default=FIRST_ID)
        self._somebody = Person(old="", new="", user=first, group=first)
        self._folders: list[tuple[str, FileMarks]] = []

    def _inner(self, place: str) -> str:
        return place.partition("/")[2] if self._is_home else place

    def folder(self, place: str, person: str, marks: FileMarks | None) -> None:
        inner, is_new = put_folder(self._root, self._inner(place))
        if is_new:
            mode = _OWN_FOLDER if person else _SHARED_FOLDER
            self._own(inner, person, marks, mode)
            self._folders.append((inner, marks or NO_MARKS))

    def file(self, one: GivenFile, held: Held) -> None:
        """By its checksum where that is on record."""
        name = self._inner(one.place)
        try:
            modified_s = self._source.modified_s(held)
            inner, digest = put_file(
                self._root, name, self._source.pieces(held), self._made, modified_s, anew=one.replaces
            )
        except OSError as error:
            raise BadRecord(
                f"“{held.path}” cannot be given back ({error.strerror}); nothing was written.", "Try again."
            ) from error
        if held.blake3 and digest.hex() != held.blake3:
            raise BadRecord(
                f"“{held.stored}” is not what was salvaged: its checksum differs; nothing was written.",
                "Salvage it again, or take it out of the folder.",
            )
        streams = self._streams(inner, held)
        marks = msgspec.structs.replace(one.marks or NO_MARKS, modified_s=modified_s)
        self._own(inner, one.person, marks, _OWN_FILE if one.person else _SHARED_FILE)
        self._mark(inner, marks, streams)
        if self._source.has_access_list(held):
            self._made.lose("Rights of single people on it", inner)

    def link(self, place: str, to: str, to_folder: bool, person: str) -> None:
        name = self._inner(place)
        if not self._has_owners:
            put_nt_link(self._root, name, to, to_folder, self._made)
            return
        inner = put_link(self._root, name, to, self._made)
        self._own(inner, person, None, 0)

    def finish(self) -> None:
        """Dates of folders, the innermost first: what was put into them has changed them."""
        for inner, marks in sorted(self._folders, key=lambda one: -one[0].count("/")):
            self._mark(inner, marks, ())

    def _own(self, inner: str, person: str, marks: FileMarks | None, mode: int) -> None:
        """Owner and permissions where the volume has them; nothing that runs with its owner's rights returns."""
        if not self._has_owners:
            return
        owner = self._persons.get(person, self._somebody)
        if marks is not None and marks.mode is not None and mode:
            mode = marks.mode & 0o777
        place = self._root / inner
        self._made.owners[inner] = (owner.user, owner.group, mode)
        self._made.marks[inner] = FileMarks(user=owner.user, group=owner.group, mode=mode or None)
        with suppress(OSError):
            if self._is_root:
                os.chown(place, owner.user, owner.group, follow_symlinks=False)
            if mode:
                reachable = 0o700 if place.is_dir() else 0o600
                place.chmod(mode if self._is_root else mode | reachable)

    def _streams(self, inner: str, held: Held) -> tuple[tuple[str, int], ...]:
        """Alternate streams, or attributes by the same names; what was kept."""
        kept = []
        for name, data in self._source.streams(held).items():
            try:
                if data is None or "/" in name:
                    raise ValueError
                os.setxattr(self._root / inner, f"user.{name}", data)
                kept.append((name, len(data)))
            except (OSError, ValueError):
                self._made.lose(f"The stream or attribute “{name[:60]}”", inner)
        return tuple(kept)

    def _mark(self, inner: str, marks: FileMarks, streams: tuple[tuple[str, int], ...]) -> None:
        """Dates, and what the NT family says of a file besides; last of all, since everything else is a change."""
        place, own = self._root / inner, self._made.marks.get(inner, NO_MARKS)
        modified_s, created_s, attributes = marks.modified_s, None, None
        if not self._has_owners:
            try:
                attributes = _set_attributes(place, marks.attributes)
                created_s = _set_times(place, marks)
            except (OSError, OverflowError):
                self._made.lose("When it was made, or that it is hidden or read-only", inner)
        if modified_s is not None and created_s is None:
            with suppress(OSError):
                os.utime(place, (modified_s, modified_s))
        self._made.marks[inner] = FileMarks(
            modified_s=modified_s,
            created_s=created_s,
            user=own.user,
            group=own.group,
            mode=own.mode,
            attributes=attributes,
            streams=() if self._has_owners else streams,
        )


def _set_attributes(place: Path, wanted: int | None) -> int | None:
    """Of the NT family: those that are a person's choice; what it has then."""
    if not wanted or not wanted & _KEPT_ATTRIBUTES:
        return None
    now = int.from_bytes(os.getxattr(place, "system.ntfs_attrib"), "little")
    kept = (now & ~_KEPT_ATTRIBUTES) | (wanted & _KEPT_ATTRIBUTES)
    os.setxattr(place, "system.ntfs_attrib", kept.to_bytes(4, "little"))
    return kept


def _set_times(place: Path, marks: FileMarks) -> float | None:
    """When it was made, changed and read last, in one go: the driver forgets the one over the other."""
    if marks.created_s is None or marks.modified_s is None:
        return None
    times = (marks.created_s, marks.modified_s, marks.modified_s)
    steps = b"".join((int(one * _STEPS) + EPOCH_1601_S * _STEPS).to_bytes(8, "little") for one in times)
    os.setxattr(place, "system.ntfs_times", steps)
    return marks.created_s
