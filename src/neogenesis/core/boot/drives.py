"""Drives as a firmware and its loaders see them: partitions, and files by any spelling of their path."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field

from neogenesis.core.boot.program import Program, read_program
from neogenesis.core.errors import Damaged, NeogenesisError, ReadFailed
from neogenesis.core.store import RangeView, ReadableStore
from neogenesis.core.survey import PartitionFacts, Survey
from neogenesis.core.system import FileTree, Trees

_LISTED = ("vfat", "exfat", "ntfs", "ext2", "ext3", "ext4", "hfsplus")
_LARGEST_LOADER = 96 << 20


def is_usb(slot: str) -> bool:
    """Whether a slot, by its name, is a USB socket: what stands there is a stick, removable to a firmware."""
    return "usb" in slot.casefold()


@dataclass
class BootDrive:
    """One drive of the machine. `name` is how it was named, `place` its number in the order of the firmware.

    `starts` are where partitions will stand, where that is elsewhere than where they are read.
    """

    name: str
    survey: Survey
    store: ReadableStore
    open_tree: Trees
    place: int = 0
    slot: str = ""
    starts: dict[int, int] = field(default_factory=dict)
    _trees: dict[int, FileTree | None] = field(default_factory=dict)

    @property
    def title(self) -> str:
        """What a person calls it."""
        drive = self.survey.drive
        tail = f"··{drive.serial[-4:]}" if drive.serial else ""
        return " ".join(filter(None, (drive.model, tail))) or self.name.rsplit("/", 1)[-1]

    def partition(self, number: int) -> PartitionFacts | None:
        return self.survey.partition(number)

    @property
    def has_believed_table(self) -> bool:
        """Whether a UEFI firmware takes a GPT for one: by the marked first sector with an entry from sector 1 on.

        Source: UEFI 2.10, section 5.2.3. A table that is only planned is written as it must be.
        """
        if self.survey.table.kind != "gpt" or self.starts:
            return True
        first = self.sector(0)
        entries = [first[446 + 16 * n : 462 + 16 * n] for n in range(4)]
        marked = any(e[4] == 0xEE and int.from_bytes(e[8:12], "little") == 1 for e in entries)
        return first[510:512] == b"\x55\xaa" and marked

    def startups(self) -> list[PartitionFacts]:
        """Partitions where a UEFI firmware looks for loaders: by type, and any FAT of a drive without such."""
        named = [p for p in self.survey.partitions if p.role == "startup" and p.volume.kind == "vfat"]
        return named or [p for p in self.survey.partitions if p.volume.kind == "vfat"]

    def sector(self, offset: int, length: int = 512) -> bytes:
        """Zeros where it cannot be read."""
        try:
            return self.store.read(offset, length)
        except ReadFailed:
            return bytes(length)

    def _tree(self, number: int) -> FileTree | None:
        if number not in self._trees:
            self._trees[number] = None
            facts = self.partition(number)
            if facts is not None and facts.volume.kind in _LISTED:
                size = min(facts.size_bytes, self.store.size_bytes - facts.start_bytes)
                with suppress(NeogenesisError):
                    self._trees[number] = self.open_tree(RangeView(self.store, facts.start_bytes, size))
        return self._trees[number]

    def tree(self, number: int) -> FileTree | None:
        """The files of a partition; None where they cannot be listed."""
        return self._tree(number)

    def find(self, number: int, path: str) -> str | None:
        """The path as it is spelled there, whatever case it is asked in; None when there is no such thing."""
        tree = self._tree(number)
        if tree is None:
            return None
        folds = self.survey.partition(number)
        loose = folds is not None and folds.volume.kind in ("vfat", "exfat", "ntfs")
        return tree.resolve(path.replace("\\", "/"), loose)

    def read(self, number: int, path: str, most: int = _LARGEST_LOADER) -> bytes | None:
        """A file of a partition; None when it is not there or cannot be read."""
        tree, spelled = self._tree(number), self.find(number, path)
        return tree.read(spelled, most) if tree is not None and spelled else None

    def program(self, number: int, path: str) -> tuple[bool, Program | None]:
        """Whether a file is there, and what program it is; None for one that a firmware would not start."""
        data = self.read(number, path)
        if data is None:
            return False, None
        return True, read_program(data, None if len(data) < _LARGEST_LOADER else 1 << 40)

    def names(self, number: int, path: str) -> list[str]:
        """What a folder holds."""
        tree, spelled = self._tree(number), self.find(number, path) if path.strip("/\\") else ""
        return sorted(tree.names(spelled)) if tree is not None and spelled is not None else []

    def close(self) -> None:
        for tree in self._trees.values():
            if tree is not None:
                with suppress(Damaged):
                    tree.close()
        self._trees = {}


Place = tuple[BootDrive, PartitionFacts]


def everywhere(drives: Sequence[BootDrive]) -> Iterator[Place]:
    for drive in drives:
        for facts in drive.survey.partitions:
            yield drive, facts


def by_uuid(drives: Sequence[BootDrive], uuid: str) -> list[Place]:
    """Volumes of that identity, in the order of the firmware."""
    wanted = uuid.casefold()
    return [(d, p) for d, p in everywhere(drives) if p.volume.uuid and p.volume.uuid.casefold() == wanted]


def by_partition_id(drives: Sequence[BootDrive], unique_id: str) -> list[Place]:
    """By the GUID of a GPT, or by an MBR's signature and number as `0a1b2c3d-02`."""
    wanted = unique_id.casefold()
    return [(d, p) for d, p in everywhere(drives) if wanted and partition_name(d, p).casefold() == wanted]


def partition_name(drive: BootDrive, facts: PartitionFacts) -> str:
    """What a kernel calls a partition by; empty where it has no such name."""
    if drive.survey.table.kind != "mbr":
        return facts.unique_id
    try:
        signature = int(drive.survey.table.disk_id or "0", 16)
    except ValueError:
        return ""
    return f"{signature:08x}-{facts.number:02x}" if signature else ""


def by_label(drives: Sequence[BootDrive], label: str) -> list[Place]:
    return [(d, p) for d, p in everywhere(drives) if p.volume.label and p.volume.label == label]


def by_file(drives: Sequence[BootDrive], path: str) -> list[Place]:
    return [(d, p) for d, p in everywhere(drives) if d.find(p.number, path) is not None]
