"""What lives on a volume, told from its files: the family of its system, a loader, a sleeping system."""

from __future__ import annotations

from dataclasses import replace

from neogenesis.core.filesystem import Volume
from neogenesis.core.system.family import find_system, has_loader
from neogenesis.core.system.tree import FileTree

#: Kinds whose files the library lists.
LISTED_KINDS = frozenset({"ntfs", "ext2", "ext3", "ext4", "vfat", "exfat"})
_HIBERNATED = (b"hibr", b"HIBR")


def with_system(volume: Volume, tree: FileTree) -> Volume:
    """The volume with what its files tell."""
    family, name = find_system(tree)
    hibernation = tree.read("hiberfil.sys", 8) if volume.kind == "ntfs" else None
    return replace(
        volume,
        system_family=family,
        system_name=name,
        has_loader=has_loader(tree),
        hibernated=(hibernation or b"")[:4] in _HIBERNATED,
    )
