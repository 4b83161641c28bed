"""One salvage: which files, in which order, and where each of them went."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

import msgspec
from blake3 import blake3

from neogenesis.core.errors import BadRecord, Damaged, WriteFailed
from neogenesis.core.filesystem import VolumeTree
from neogenesis.core.record import Record, save
from neogenesis.core.salvage.names import kind_of, matches, plain
from neogenesis.core.store import RangeView, ReadableStore
from neogenesis.core.survey import Drive, Survey
from neogenesis.core.transfer.control import Clock, Control
from neogenesis.core.units import MIB

_PIECE = MIB
_ORDER = ("documents", "pictures", "mail", "desktop", "saved games", "other of people", "music and films", "rest")
_CHECKPOINT_BYTES = 256 * MIB
_CHECKPOINT_FILES = 200


@dataclass(frozen=True, slots=True)
class Wanted:
    """A file to copy out: partition number, path in its volume, size, and where it is found."""

    partition: int
    path: str
    size_bytes: int
    inode: int
    kind: str


class Saved(Record, frozen=True, kw_only=True):
    """A line of `salvage.jsonl`: where a file came from and went, its BLAKE3, and how many bytes could not be read."""

    partition: int
    path: str
    saved_as: str
    size_bytes: int
    blake3: str
    modified_s: float | None = None
    lost_bytes: int = 0
    fault: str = ""


class SalvageSummary(Record, frozen=True, kw_only=True):
    """`salvage.json`. `kinds` are files and bytes by kind; `incomplete` lists what lost something or failed."""

    SCHEMA: ClassVar[str] = "neogenesis.salvage/1"

    schema: str = SCHEMA
    created: str
    source: Drive
    files: int
    bytes: int
    kinds: dict[str, tuple[int, int]]
    incomplete: tuple[Saved, ...]
    not_read: tuple[str, ...]


def wanted_files(
    store: ReadableStore, survey: Survey, volume: int | None, include: tuple[str, ...], exclude: tuple[str, ...]
) -> tuple[list[Wanted], list[str]]:
    """Files of the volumes that can be listed, what people miss most first; and why other volumes are left out."""
    found: list[Wanted] = []
    left_out: list[str] = []
    for partition in survey.partitions:
        if volume is not None and partition.number != volume:
            continue
        size = min(partition.size_bytes, store.size_bytes - partition.start_bytes)
        try:
            tree = VolumeTree(RangeView(store, partition.start_bytes, size))
        except Damaged:
            if partition.volume.kind != "none":
                why = "it is encrypted" if partition.volume.encrypted else "its files cannot be listed"
                left_out.append(f"{partition.title} (partition {partition.number}): {why}")
            continue
        for path, length, inode in tree.walk():
            internal = path.startswith("$") and partition.volume.kind in ("ntfs", "vfat", "exfat")
            if internal or (include and not matches(path, include)) or matches(path, exclude):
                continue
            found.append(Wanted(partition.number, path, length, inode, kind_of(path)))
    found.sort(key=lambda w: (_ORDER.index(w.kind), w.partition, w.path))
    return found, left_out


class Salvage:
    """Copies `wanted` below `folder`; one that was interrupted goes on where it was."""

    def __init__(
        self,
        store: ReadableStore,
        survey: Survey,
        folder: Path,
        control: Control,
        clock: Clock,
        progress: Callable[[int, int], None] = lambda done, total: None,
    ) -> None:
        self.store, self.survey, self.folder = store, survey, folder
        self.control, self.clock, self.progress = control, clock, progress
        self._log = folder / "salvage.jsonl"
        self._trees: dict[int, VolumeTree] = {}
        self._taken: set[str] = set()

    def run(self, wanted: Sequence[Wanted], left_out: Sequence[str]) -> SalvageSummary:
        """Raises BadRecord, WriteFailed when the folder takes no more, or Stopped."""
        done = self._earlier()
        self._taken = {saved.saved_as.casefold() for saved in done.values()}
        total = sum(w.size_bytes for w in wanted)
        copied = waiting = since = 0
        lines: list[Saved] = []
        try:
            for item in wanted:
                self.control.checkpoint()
                key = (item.partition, item.path)
                if key not in done or not self._still_there(done[key]):
                    saved = self._copy(item)
                    done[key] = saved
                    lines.append(saved)
                    waiting, since = waiting + saved.size_bytes, since + 1
                copied += item.size_bytes
                self.progress(copied, total)
                if waiting > _CHECKPOINT_BYTES or since >= _CHECKPOINT_FILES:
                    self._note(lines)
                    lines, waiting, since = [], 0, 0
        finally:
            self._note(lines)
        return self._summary([done[w.partition, w.path] for w in wanted], wanted, left_out)

    def _earlier(self) -> dict[tuple[int, str], Saved]:
        """What an earlier run has noted; a torn last line is left out."""
        found: dict[tuple[int, str], Saved] = {}
        if not self._log.exists():
            return found
        decoder = msgspec.json.Decoder(Saved)
        lines = self._log.read_bytes().split(b"\n")
        for number, line in enumerate(lines, 1):
            if not line:
                continue
            try:
                saved = decoder.decode(line)
            except msgspec.MsgspecError as error:
                if number == len(lines):
                    continue
                raise BadRecord(
                    f"The list “{self._log.name}” is damaged in line {number}; nothing more was written.",
                    "Move it away and start over, or choose another folder.",
                ) from error
            found[saved.partition, saved.path] = saved
        return found

    def _still_there(self, saved: Saved) -> bool:
        if saved.fault or saved.lost_bytes:
            return False  # another try may get more
        try:
            return (self.folder / saved.saved_as).stat().st_size == saved.size_bytes
        except OSError:
            return False

    def _tree(self, number: int) -> VolumeTree:
        if number not in self._trees:
            partition = self.survey.partition(number)
            if partition is None:
                raise Damaged("partition", 0, f"there is none with the number {number}")
            size = min(partition.size_bytes, self.store.size_bytes - partition.start_bytes)
            self._trees[number] = VolumeTree(RangeView(self.store, partition.start_bytes, size))
        return self._trees[number]

    def _copy(self, item: Wanted) -> Saved:
        tree = self._tree(item.partition)
        modified = tree.modified_s(item.inode)
        target, name = self._place(item)
        digest, lost, size, fault = blake3(), 0, 0, ""
        temporary = target.with_name(f".{blake3(name.encode('utf-8', 'surrogateescape')).hexdigest()[:16]}.part")
        try:
            with temporary.open("wb") as file:
                try:
                    for data, missing in tree.contents(item.inode, _PIECE):
                        self.control.checkpoint()
                        file.write(data)
                        digest.update(data)
                        lost, size = lost + missing, size + len(data)
                except Damaged as error:
                    fault = error.text
            if modified is not None:
                os.utime(temporary, (modified, modified))
            temporary.replace(target)
        except OSError as error:
            temporary.unlink(missing_ok=True)
            raise WriteFailed(size, f"“{target}”: {error.strerror}") from error
        return Saved(
            partition=item.partition,
            path=_text(item.path),
            saved_as=_text(name),
            size_bytes=size,
            blake3=digest.hexdigest(),
            modified_s=modified,
            lost_bytes=lost + max(0, item.size_bytes - size if fault else 0),
            fault=fault,
        )

    def _place(self, item: Wanted) -> tuple[Path, str]:
        """Where the file goes: under its own name where the folder can hold it, else under a plain one."""
        partition = self.survey.partition(item.partition)
        title = plain(partition.title) if partition else ""
        top = f"{item.partition}-{title}" if title else str(item.partition)
        parts = item.path.split("/")
        for made in ("/".join(parts), "/".join(plain(p) for p in parts)):
            name = f"{top}/{made}"
            number = 1
            while name.casefold() in self._taken:
                number += 1
                stem, dot, ending = made.rpartition(".")
                name = f"{top}/{stem}~{number}.{ending}" if dot and "/" not in ending else f"{top}/{made}~{number}"
            target = self.folder / name
            try:
                target.parent.mkdir(parents=True, exist_ok=True)
                target.touch()
            except (OSError, ValueError):
                continue
            self._taken.add(name.casefold())
            return target, name
        raise WriteFailed(0, f"no name for “{_text(item.path)}” works in “{self.folder}”")

    def _note(self, lines: Sequence[Saved]) -> None:
        if not lines:
            return
        try:
            with self._log.open("ab") as file:
                file.write(b"".join(msgspec.json.encode(saved) + b"\n" for saved in lines))
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            raise WriteFailed(0, f"“{self._log}”: {error.strerror}") from error

    def _summary(self, saved: Sequence[Saved], wanted: Sequence[Wanted], left_out: Sequence[str]) -> SalvageSummary:
        kinds: dict[str, tuple[int, int]] = {}
        for item, one in zip(wanted, saved, strict=True):
            files, size = kinds.get(item.kind, (0, 0))
            kinds[item.kind] = (files + 1, size + one.size_bytes)
        summary = SalvageSummary(
            created=self.clock.wall(),
            source=self.survey.drive,
            files=len(saved),
            bytes=sum(s.size_bytes for s in saved),
            kinds=kinds,
            incomplete=tuple(s for s in saved if s.lost_bytes or s.fault),
            not_read=tuple(left_out),
        )
        save(self.folder / "salvage.json", summary)
        return summary


def _text(path: str) -> str:
    """A path as it can be put into JSON: bytes that are no text are shown as such."""
    return path.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


def each_kind(wanted: Sequence[Wanted]) -> Iterator[tuple[str, int, int]]:
    """Kind, files and bytes, in the order in which they are copied."""
    for kind in _ORDER:
        sizes = [w.size_bytes for w in wanted if w.kind == kind]
        if sizes:
            yield kind, len(sizes), sum(sizes)
