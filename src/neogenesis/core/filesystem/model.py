"""What is known of a volume."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal, Protocol

from neogenesis.core.extent import Extents
from neogenesis.core.filesystem.members import Member

VolumeKind = Literal[
    "ntfs",
    "ext4",
    "ext3",
    "ext2",
    "vfat",
    "exfat",
    "btrfs",
    "xfs",
    "apfs",
    "hfsplus",
    "swap",
    "luks",
    "fve",
    "lvm",
    "raid",
    "none",
]
SystemFamily = Literal["nt", "linux", "meridian"]

#: Kinds that the engine can give another size; the others are carried as they are.
RESIZABLE_KINDS = frozenset({"ntfs", "ext4", "ext3", "ext2", "vfat", "exfat"})


class FileRuns(Protocol):
    """Whoever can tell where a file lies, when its own record is too small to say it all."""

    def runs_of_inode(self, inode: int) -> list[tuple[int, int]]:
        """(first cluster, count); raises Damaged."""
        ...


OpenFiles = Callable[[], FileRuns]


@dataclass(frozen=True, slots=True)
class Volume:
    """`size_bytes` is the volume's own size, at most its partition's.

    `used_bytes` is what its allocation map counts; `allocation` are the ranges that a copy must carry (they
    include what no map counts, such as a backup boot sector), relative to the volume, or None when the volume
    is not understood. `smallest_bytes` is the size to which it can safely be shrunk; `fixed` is one that cannot be
    given another size at all, though it is of a kind that usually can; `table_share` is how much of what it grows by
    its own tables take. `fault` says in words why a volume that was recognised could not be read. `member` is there for
    one that belongs to a set.
    """

    kind: VolumeKind
    size_bytes: int
    label: str = ""
    uuid: str = ""
    block_bytes: int = 0
    used_bytes: int = 0
    smallest_bytes: int = 0
    dirty: bool = False
    hibernated: bool = False
    encrypted: bool = False
    system_family: SystemFamily | None = None
    system_name: str = ""
    has_loader: bool = False
    fixed: bool = False
    table_share: float = 0.0
    allocation: Extents | None = None
    fault: str = ""
    member: Member | None = None
