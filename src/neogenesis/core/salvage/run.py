"""One salvage: the files that are wanted, and where each of them went."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from itertools import chain
from pathlib import Path
from typing import ClassVar

import msgspec
from blake3 import blake3

from neogenesis.core.drive import Drive
from neogenesis.core.errors import BadRecord, CannotRecord, Damaged, Refused, WriteFailed
from neogenesis.core.extent import NONE, Extents
from neogenesis.core.record import Record, save, save_pieces, to_json
from neogenesis.core.salvage.beneath import Beneath, is_safe
from neogenesis.core.salvage.names import plain
from neogenesis.core.salvage.wanted import Listing, Wanted
from neogenesis.core.store import LostStore, Patience, PutOff, RangeView, ReadableStore
from neogenesis.core.survey import Survey
from neogenesis.core.system import (
    NOT_HERE_WORDS,
    EntryKind,
    FileMarks,
    FileTree,
    NotHere,
    NotHereFile,
    Trees,
)
from neogenesis.core.units import MIB
from neogenesis.core.work import Clock, Control

_PIECE = MIB
_CHECKPOINT_BYTES = 256 * MIB
_CHECKPOINT_FILES = 200
#: Of what an earlier run has saved, so many files are read back before the rest of its list is believed.
_READ_BACK = 64
#: Of a salvage the list of folders and links.
BESIDE = "salvage.beside.jsonl"
_SLASH = "\u2215"  # stands for a slash inside a name


class Saved(Record, frozen=True, kw_only=True):
    """A line of `salvage.jsonl`: where a file came from and went, its BLAKE3, and how many bytes could not be read.

    `drive` and `volume` say whose it is; `renamed` that the folder could not hold its own name. A file of which
    the data is `not_here` has no place in the folder; `lost_bytes` are then all that it has.
    """

    partition: int
    path: str
    saved_as: str
    size_bytes: int
    blake3: str
    modified_s: float | None = None
    lost_bytes: int = 0
    fault: str = ""
    renamed: bool = False
    drive: str = ""
    volume: str = ""
    not_here: NotHere = ""
    marks: FileMarks | None = None


class Beside(Record, frozen=True, kw_only=True):
    """A line of `salvage.beside.jsonl`: a folder, or a link with its target as it is written."""

    partition: int
    path: str
    kind: EntryKind
    saved_as: str = ""
    target: str = ""
    marks: FileMarks | None = None


class SalvageSummary(Record, frozen=True, kw_only=True):
    """`salvage.json`. `kinds` are files and bytes by kind; `incomplete` lists what lost something or failed.

    `renamed` lists files that could not keep their own names, `not_here` those of which the drive has no data. `links`
    and `folders` are noted beside the files. `lost` are ranges that could not be read for the
    lists of files: some may be gone with them that nothing names any more.
    """

    SCHEMA: ClassVar[str] = "neogenesis.salvage/1"

    schema: str = SCHEMA
    created: str
    source: Drive
    files: int
    bytes: int
    kinds: dict[str, tuple[int, int]]
    incomplete: tuple[Saved, ...]
    not_read: tuple[str, ...]
    renamed: tuple[tuple[str, str], ...] = ()
    lost: tuple[tuple[int, int], ...] = ()
    not_here: tuple[NotHereFile, ...] = ()
    not_here_bytes: int = 0
    links: int = 0
    folders: int = 0

    @property
    def is_whole(self) -> bool:
        """Whether nothing is known to be missing."""
        return not self.incomplete and not self.lost and not self.not_here


class Salvage:
    """Copies `wanted` below `folder`; one that was interrupted goes on where it was."""

    def __init__(
        self,
        store: ReadableStore,
        survey: Survey,
        trees: Trees,
        folder: Path,
        control: Control,
        clock: Clock,
        progress: Callable[[int, int], None] = lambda done, total: None,
    ) -> None:
        self.store, self.survey, self.folder, self._open_tree = store, survey, folder, trees
        self.control, self.clock, self.progress = control, clock, progress
        self._log = folder / "salvage.jsonl"
        self._drive = _mark_of(survey)
        self._trees: dict[int, FileTree] = {}
        self._known_lost: dict[int, Extents] = {}
        self._taken: set[str] = set()
        self._beneath = Beneath(folder)

    def run(self, listing: Listing) -> SalvageSummary:
        """Raises Refused for a folder of another drive, BadRecord, WriteFailed, CannotRecord or Stopped."""
        try:
            return self._run(listing)
        finally:
            for tree in self._trees.values():
                tree.close()
            self._beneath.close()

    def _run(self, listing: Listing) -> SalvageSummary:
        wanted = listing.wanted
        earlier = self._earlier()
        done = self._trusted({key: saved for key, saved in earlier.items() if not saved.not_here})
        self._taken = {saved.saved_as.casefold() for saved in done.values()}
        total = sum(w.size_bytes for w in wanted)
        copied = waiting = 0
        lines: list[Saved] = []
        later: list[Wanted] = []
        try:
            for number, item in enumerate(chain(wanted, later)):  # grows while it is gone through
                self.control.checkpoint()
                key = (item.partition, _text(item.path))
                if key not in done or done[key].fault or done[key].lost_bytes:
                    try:
                        done[key] = self._copy(item, done.get(key), patient=number >= len(wanted))
                    except PutOff as found:
                        self._put_off(item, found)
                        later.append(item)
                        continue
                    lines.append(done[key])
                    waiting += done[key].size_bytes
                copied += item.size_bytes
                self.progress(copied, total)
                if waiting > _CHECKPOINT_BYTES or len(lines) >= _CHECKPOINT_FILES:
                    noted, lines, waiting = lines, [], 0
                    self._note(noted)
        finally:
            self._note(lines)
        known = {key for key, saved in earlier.items() if saved.not_here}
        elsewhere = (one for one in listing.elsewhere if (one.partition, _text(one.path)) not in known)
        self._note([self._elsewhere(one) for one in elsewhere])
        self._note_beside(listing.beside)
        return self._summary([done[w.partition, _text(w.path)] for w in wanted], listing)

    # What an earlier run left

    def _earlier(self) -> dict[tuple[int, str], Saved]:
        """What an earlier run has noted; a torn last line is left out. Raises Refused when it was another drive."""
        found: dict[tuple[int, str], Saved] = {}
        for number, saved in self._lines():
            parts = saved.saved_as.split("/")
            if saved.not_here:
                impossible = bool(saved.saved_as or saved.blake3)
            else:
                safe = all(is_safe(p) for p in parts) and _is_digest(saved.blake3)
                impossible = saved.size_bytes < 0 or not safe
            if impossible:
                raise BadRecord(
                    f"The list “{self._log.name}” has an impossible line {number}; nothing more was written.",
                    "Move it away and start over, or choose another folder.",
                )
            if saved.drive and (saved.drive != self._drive or self._other_volume(saved)):
                raise Refused(
                    "another-drive",
                    f"“{self.folder}” holds files of another drive; nothing was written.",
                    "Choose another folder, one for each drive.",
                )
            if saved.drive:
                found[saved.partition, saved.path] = saved
        return found

    def _other_volume(self, saved: Saved) -> bool:
        """Whether another volume stands at that place now; one that cannot be read any more is taken for the same."""
        now = self._uuid(saved.partition)
        return bool(saved.volume and now and saved.volume != now)

    def _uuid(self, number: int) -> str:
        partition = self.survey.partition(number)
        return partition.volume.uuid if partition else ""

    def _lines(self) -> Iterator[tuple[int, Saved]]:
        if not self._log.exists():
            return
        decoder = msgspec.json.Decoder(Saved)
        lines = self._log.read_bytes().split(b"\n")
        for number, line in enumerate(lines, 1):
            if not line:
                continue
            try:
                yield number, decoder.decode(line)
            except msgspec.MsgspecError as error:
                if number == len(lines):
                    continue
                raise BadRecord(
                    f"The list “{self._log.name}” is damaged in line {number}; nothing more was written.",
                    "Move it away and start over, or choose another folder.",
                ) from error

    def _trusted(self, earlier: dict[tuple[int, str], Saved]) -> dict[tuple[int, str], Saved]:
        """Files that are still there; a few are read back, and if one of those is not what it was, all are."""
        there = {k: s for k, s in earlier.items() if self._beneath.holds(s.saved_as.split("/"), s.size_bytes)}
        whole = [s for s in there.values() if not s.fault]
        step = max(1, len(whole) // _READ_BACK)
        if all(self._is_whole(saved) for saved in whole[::step]):
            return there
        return {key: saved for key, saved in there.items() if self._is_whole(saved)}

    def _is_whole(self, saved: Saved) -> bool:
        self.control.checkpoint()
        return self._beneath.holds(saved.saved_as.split("/"), saved.size_bytes, bytes.fromhex(saved.blake3))

    # One file

    def _elsewhere(self, one: Wanted) -> Saved:
        """The line of a file of which the data is not here."""
        return Saved(
            partition=one.partition,
            path=_text(one.path),
            saved_as="",
            size_bytes=0,
            blake3="",
            modified_s=one.marks.modified_s,
            lost_bytes=one.size_bytes,
            fault=NOT_HERE_WORDS[one.not_here],
            drive=self._drive,
            volume=self._uuid(one.partition),
            not_here=one.not_here,
            marks=one.marks,
        )

    def _note_beside(self, beside: Sequence[Wanted]) -> None:
        """Folders are made, also those that hold nothing; links are only noted: the destination may not hold them."""
        lines = []
        for one in beside:
            self.control.checkpoint()
            saved_as = ""
            if one.entry == "folder":
                saved_as = self._make_folder([self._top(one.partition), *one.path.split("/")])
            line = Beside(
                partition=one.partition,
                path=_text(one.path),
                kind=one.entry,
                saved_as=_text(saved_as),
                target=_text(one.target),
                marks=one.marks,
            )
            lines.append(msgspec.json.encode(line) + b"\n")
        try:
            save_pieces(self.folder / BESIDE, lines)
        except BadRecord as error:
            raise CannotRecord(error.text, "Free space there and go on.") from error

    def _make_folder(self, parts: list[str]) -> str:
        """Where it was made, by its own name or one that the destination can hold."""
        for names in (parts, [parts[0], *map(plain, parts[1:])]):
            try:
                with self._beneath.inside(names, make=True):
                    return "/".join(names)
            except (OSError, ValueError) as error:
                if isinstance(error, OSError) and error.errno in _FULL:
                    raise WriteFailed(0, f"“{self.folder}”: {error.strerror}") from error
        return "/".join(parts)

    def _top(self, number: int) -> str:
        partition = self.survey.partition(number)
        title = plain(partition.title) if partition else ""
        return f"{number}-{title}" if title else str(number)

    def _tree(self, number: int) -> FileTree:
        if number not in self._trees:
            partition = self.survey.partition(number)
            if partition is None:
                raise Damaged("partition", 0, f"there is none with the number {number}")
            size = min(partition.size_bytes, self.store.size_bytes - partition.start_bytes)
            view = RangeView(self.store, partition.start_bytes, size)
            known = self._known_lost.get(number)
            self._trees[number] = self._open_tree(view if known is None else LostStore(view, known))
        return self._trees[number]

    def _put_off(self, item: Wanted, found: PutOff) -> None:
        """What is known of a bad stretch is not asked for again, and nothing of it is in a library's memory."""
        self._trees.pop(item.partition).close()
        self._known_lost[item.partition] = self._known_lost.get(item.partition, NONE).union(Extents.of(found.lost))

    def _copy(self, item: Wanted, before: Saved | None, patient: bool) -> Saved:
        """Under a name of its own until it is whole; `before` is what an earlier run got of it.

        Raises PutOff for a file with a bad stretch that takes too long, unless somebody is `patient`.
        """
        top = self._top(item.partition)
        own = item.path.split("/")
        safe = [plain(part) for part in own]
        for parts in ([top, *own], [top, *safe]) if all(is_safe(p) for p in own) else ([top, *safe],):
            try:
                with self._beneath.inside(parts[:-1], make=True) as folder:
                    return self._copy_into(folder, parts, item, before, patient)
            except _NotThisName:
                continue
            except (OSError, ValueError) as error:
                if isinstance(error, OSError) and error.errno in _FULL:
                    raise WriteFailed(0, f"“{self.folder}”: {error.strerror}") from error
                continue
        raise WriteFailed(0, f"no name for “{_text(item.path)}” works in “{self.folder}”")

    def _copy_into(self, folder: int, parts: list[str], item: Wanted, before: Saved | None, patient: bool) -> Saved:
        temporary = f".{blake3('/'.join(parts).encode('utf-8', 'surrogateescape')).hexdigest()[:16]}.part"
        modified: float | None = None

        def patience() -> Patience | None:
            return None if patient else Patience(self.clock.now)

        try:
            descriptor = self._beneath.new_file(folder, temporary)
            with os.fdopen(descriptor, "wb") as file:
                for _ in range(2):
                    digest, lost, size, fault = blake3(), 0, 0, ""
                    file.seek(0)
                    file.truncate()
                    try:
                        tree = self._tree(item.partition)
                        modified = tree.modified_s(item.inode)
                        for data, missing in tree.contents(item.inode, _PIECE, patience):
                            self.control.checkpoint()
                            file.write(data)
                            digest.update(data)
                            lost, size = lost + missing, size + len(data)
                        break
                    except Damaged as error:  # perhaps only because the library's process went over another file
                        fault = error.text
                        self._trees.pop(item.partition, None)
                file.flush()
                if modified is not None:
                    os.utime(descriptor, (modified, modified))
        except BaseException:
            _unlink(folder, temporary)
            raise
        name = self._free_name(folder, parts, size, digest.digest(), before)
        try:
            os.rename(temporary, name, src_dir_fd=folder, dst_dir_fd=folder)
        except OSError as error:
            _unlink(folder, temporary)
            raise _NotThisName from error
        saved_as = "/".join([*parts[:-1], name])
        self._taken.add(saved_as.casefold())
        return Saved(
            partition=item.partition,
            path=_text(item.path),
            saved_as=_text(saved_as),
            size_bytes=size,
            blake3=digest.hexdigest(),
            modified_s=modified,
            lost_bytes=lost + max(0, item.size_bytes - size if fault else 0),
            fault=fault,
            renamed=_SLASH in item.path or [*parts[1:-1], name] != item.path.split("/"),
            drive=self._drive,
            volume=self._uuid(item.partition),
            marks=item.marks,
        )

    def _free_name(self, folder: int, parts: list[str], size: int, digest: bytes, before: Saved | None) -> str:
        """The last part, or with a number where another file, of this run or of whoever else, has that name."""
        stem, dot, ending = parts[-1].rpartition(".")
        number, name = 1, parts[-1]
        while True:
            whole = "/".join([*parts[:-1], name])
            ours = before is not None and before.saved_as == _text(whole)
            if ours or (whole.casefold() not in self._taken and not self._other(folder, name, size, digest)):
                return name
            number += 1
            name = f"{stem}~{number}.{ending}" if dot and stem else f"{parts[-1]}~{number}"

    def _other(self, folder: int, name: str, size: int, digest: bytes) -> bool:
        try:
            return self._beneath.holds_other(folder, name, size, digest)
        except OSError:
            return True

    # Records

    def _note(self, lines: Sequence[Saved]) -> None:
        """Files first, then the list of them: what stands in the list is on the medium."""
        if not lines:
            return
        try:
            self._beneath.sync()
        except OSError as error:
            raise WriteFailed(0, f"“{self.folder}”: {error.strerror}") from error
        try:
            with self._log.open("ab") as file:
                file.write(b"".join(msgspec.json.encode(saved) + b"\n" for saved in lines))
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            raise CannotRecord(
                f"The list “{self._log}” cannot be written ({error.strerror}).", "Free space there and go on."
            ) from error

    def _summary(self, saved: Sequence[Saved], listing: Listing) -> SalvageSummary:
        kinds: dict[str, tuple[int, int]] = {}
        for item, one in zip(listing.wanted, saved, strict=True):
            files, size = kinds.get(item.kind, (0, 0))
            kinds[item.kind] = (files + 1, size + one.size_bytes)
        summary = SalvageSummary(
            created=self.clock.wall(),
            source=self.survey.drive,
            files=len(saved),
            bytes=sum(s.size_bytes for s in saved),
            kinds=kinds,
            incomplete=tuple(s for s in saved if s.lost_bytes or s.fault),
            not_read=listing.unread,
            renamed=tuple((s.path, s.saved_as) for s in saved if s.renamed),
            lost=tuple(listing.lost),
            not_here=tuple(
                NotHereFile(path=_text(one.path), bytes=one.size_bytes, why=one.not_here) for one in listing.elsewhere
            ),
            not_here_bytes=sum(one.size_bytes for one in listing.elsewhere),
            links=sum(one.entry == "link" for one in listing.beside),
            folders=sum(one.entry == "folder" for one in listing.beside),
        )
        save(self.folder / "salvage.json", summary)
        return summary


class _NotThisName(Exception):
    """The folder does not take a name; another one may do."""


_FULL = frozenset({5, 27, 28, 30, 122})  # EIO, EFBIG, ENOSPC, EROFS, EDQUOT: another name would not help


def _mark_of(survey: Survey) -> str:
    """What a drive is known by: who it is, and where its partitions lie."""
    places = [(p.number, p.start_bytes, p.size_bytes) for p in survey.partitions]
    return blake3(to_json([survey.drive.identity, survey.table.disk_id, places])).hexdigest()[:16]


def _is_digest(text: str) -> bool:
    return len(text) == 64 and set(text) <= set("0123456789abcdef")


def _unlink(folder: int, name: str) -> None:
    try:
        os.unlink(name, dir_fd=folder)
    except OSError:
        return


def _text(path: str) -> str:
    """A path as it can be put into JSON: bytes that are no text are shown as such."""
    return path.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
