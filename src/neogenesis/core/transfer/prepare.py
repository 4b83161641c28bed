"""Volumes that get another size, made ready before anything is written.

The sealed volume stays below; what the utilities change is kept in an overlay in the work folder. The result is
checked there. Only then is it copied like any other volume, in one pass.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from neogenesis.core.errors import Damaged, Refused, ToolFailed
from neogenesis.core.filesystem import Volume, exfat_resize, fat, ntfs, read_volume
from neogenesis.core.plan import LayoutPartition
from neogenesis.core.plan.steps import MakeVolume, Prepare
from neogenesis.core.store import (
    FileStore,
    MemoryStore,
    OverlayStore,
    PathOpener,
    PieceStore,
    RangeView,
    ReadableStore,
    WritableRangeView,
    WritableStore,
)
from neogenesis.core.survey import PartitionFacts
from neogenesis.core.system import FileTree
from neogenesis.core.units import KIB

Told = Callable[[int], None]


class VolumeTools(Protocol):
    """The filesystem utilities, as the bench provides them. All raise ToolFailed in words."""

    def resize(self, store: WritableStore, kind: str, size_bytes: int) -> None:
        """Give the volume in `store` another size and leave it clean."""

    def make(self, store: WritableStore, step: MakeVolume, start_bytes: int) -> None:
        """Make the empty volume of a step, which fills `store` and will begin at that byte of its drive."""

    def fill(self, path: Path, store: WritableStore, step: MakeVolume, start_bytes: int, told: Told) -> None:
        """Make a volume with files in the file at `path`, which `store` is as well.

        `told` hears of bytes of files as they are put there, and again as they are compared.
        """

    def open_tree(self, store: ReadableStore) -> FileTree:
        """The files of a volume; raises Damaged."""

    def check(self, store: ReadableStore, kind: str) -> None:
        """Raise ToolFailed unless the filesystem's own checker finds the volume in order."""


def prepared_volume(
    source: ReadableStore,
    old: PartitionFacts | None,
    new: LayoutPartition,
    step: Prepare | MakeVolume,
    folder: Path,
    tools: VolumeTools,
    sector_size: int,
    told: Told,
) -> tuple[ReadableStore, Volume, bool]:
    """The volume for `new`, read again, and whether it was made now (True) or kept from before.

    `told` hears how far its files are, twice their bytes in all.
    `source` is the sealed old drive, `sector_size` that of the new one. Raises ToolFailed, Damaged or Refused; nothing
    is written to a drive.
    """
    path = folder / f"volume-{new.number}"
    size = new.size_bytes
    kept = OverlayStore.was_kept(path)
    if not kept:
        path.unlink(missing_ok=True)
    if old is None:
        if not isinstance(step, MakeVolume):
            raise Refused("plan", "The plan prepares a volume out of nothing; nothing was written.", "Plan again.")
        if step.tree:
            return _filled_volume(path, new, step, tools, sector_size, kept, told)
        overlay = OverlayStore(MemoryStore(0, sector_size), path, size)
        if not kept:
            tools.make(overlay, step, new.start_bytes)
    else:
        view = RangeView(source, old.start_bytes, min(old.size_bytes, source.size_bytes - old.start_bytes))
        if isinstance(step, Prepare) and step.action == "patch":
            overlay = OverlayStore(view, path, size)
            if not kept:
                _patch(overlay, step.volume_kind, old, new)
        elif step.volume_kind in ("vfat", "exfat"):
            overlay = _moved_as_block(view, path, step.volume_kind, old, new, kept)
        else:
            overlay = OverlayStore(view, path, max(size, view.size_bytes))
            if not kept:
                usable = size // KIB * KIB
                tools.resize(overlay, step.volume_kind, usable)
                _patch(WritableRangeView(overlay, 0, size), step.volume_kind, old, new)
    result = WritableRangeView(overlay, 0, size)
    volume = read_volume(result, lambda: tools.open_tree(result))
    if not kept:
        _judge(volume, old, step, result, tools)
        overlay.keep()
    return result, volume, not kept


def _filled_volume(
    path: Path, new: LayoutPartition, step: MakeVolume, tools: VolumeTools, sector_size: int, kept: bool, told: Told
) -> tuple[ReadableStore, Volume, bool]:
    """A volume with files is made in a plain sparse file: the utilities reach that without anything in between."""
    try:
        if not kept:
            with path.open("wb") as file:
                file.truncate(new.size_bytes)
    except OSError as error:
        raise ToolFailed(
            f"There is no file for a volume of this size beside the plan ({error.strerror}); nothing was written.",
            "Put the plan onto another filesystem.",
        ) from error
    store = FileStore(PathOpener(path), sector_size)
    if not kept:
        tools.fill(path, store, step, new.start_bytes, told)
    volume = read_volume(store, lambda: tools.open_tree(store))
    if not kept:
        _judge(volume, None, step, store, tools)
        store.sync()
        OverlayStore.mark_kept(path)
    return store, volume, not kept


def _judge(
    volume: Volume, old: PartitionFacts | None, step: Prepare | MakeVolume, result: ReadableStore, tools: VolumeTools
) -> None:
    """The prepared volume must be understood, clean, the same volume, and pass its own checker."""
    if isinstance(step, Prepare) and step.action == "patch" and volume.allocation is not None:
        return  # eight bytes differ; what was wrong with the volume before is carried as it was
    if volume.allocation is None or volume.dirty or volume.size_bytes > result.size_bytes:
        raise ToolFailed(
            f"The volume is not in order after the step “{step.text}”; nothing was written.",
            "Plan with --grow none, or check the volume on the customer's machine.",
        )
    if old is not None and volume.uuid != old.volume.uuid:
        raise ToolFailed("The prepared volume lost its identity; nothing was written.", "Plan with --grow none.")
    tools.check(result, step.volume_kind)


def _patch(store: WritableStore, kind: str, old: PartitionFacts, new: LayoutPartition) -> None:
    """Let boot sectors that record their own place record the new one."""
    patches = {"ntfs": ntfs.place_patches, "vfat": fat.place_patches, "exfat": exfat_resize.place_patches}
    if new.start_bytes == old.start_bytes or kind not in patches:
        return
    for offset, data in patches[kind](store, old.start_bytes, new.start_bytes):
        if offset + len(data) <= store.size_bytes:
            store.write(offset, data)


def _moved_as_block(
    view: RangeView, path: Path, kind: str, old: PartitionFacts, new: LayoutPartition, kept: bool
) -> OverlayStore:
    """FAT and exFAT need no utility: their data moves as a block behind a longer or shorter table."""
    resize = fat.resized if kind == "vfat" else exfat_resize.resized
    try:
        plan = resize(view, old.start_bytes, new.start_bytes, new.size_bytes)
    except ValueError as error:
        raise Refused("too-small", f"{new.title}: {error}; nothing was written.", "Leave its size as it is.") from error
    pieces = [(target, length, source) for source, length, target in plan.tables]
    pieces.append((plan.new_data_at, plan.data_bytes, plan.old_data_at))
    overlay = OverlayStore(PieceStore(view, new.size_bytes, pieces), path, new.size_bytes)
    if not kept:
        for offset, data in plan.patches:
            overlay.write(offset, data)
        if kind == "vfat" and fat.read_boot_sector(overlay).bits != fat.read_boot_sector(view).bits:
            raise Damaged("FAT", 0, "the resized volume would be of another width")
    return overlay
