"""Drives in files: raw images, and qcow2 images as the drive that is in them."""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from neogenesis.bench.drives.provider import Hardware, OpenDrive, OpenTarget, Parting
from neogenesis.bench.drives.system import BlockSystem, among_devices, file_key
from neogenesis.core.drive import Drive, Identity
from neogenesis.core.errors import BadArgument, BadRecord, Refused
from neogenesis.core.image import Qcow2Store, is_qcow2
from neogenesis.core.store import FileStore, Grip, PathOpener, ReadableStore, SealedFileStore
from neogenesis.core.table import guess_sector_size


class ImageFile(Hardware):
    """A file has no hardware of its own."""

    has_own_sectors = False

    def __init__(self, status: Callable[[], os.stat_result]) -> None:
        self._status = status

    def changed_ns(self) -> int:
        return self._status().st_mtime_ns


class ImageProvider:
    """Everything that is a file."""

    def __init__(self, system: BlockSystem | None = None) -> None:
        self.system = system or BlockSystem()

    def claims(self, name: str) -> bool:
        return True

    def in_use(self, status: os.stat_result) -> str:
        """Where a file, or a device on it, is mounted, or who shows it as a folder; empty for not at all."""
        return self.system.in_use(self.system.loops_on(status)) or self.system.shown_as_folder(status)

    def open(self, name: str, sector_size: int | None, grip: Grip) -> OpenDrive:
        path = Path(name)
        sealed = SealedFileStore(PathOpener(path), sector_size, grip)
        try:
            status = sealed.status()
            store: ReadableStore = sealed
            status_of: Callable[[], os.stat_result] = sealed.status
            if is_qcow2(sealed.read(0, min(4, sealed.size_bytes))):
                sealed.close()
                store, status_of = Qcow2Store(path, grip=grip), path.stat
            store.sector_size = sector_size or guess_sector_size(store)
            used = bool(self.in_use(status))
            return OpenDrive(_who(path, store, status.st_mtime_ns, used), store, ImageFile(status_of))
        except BaseException:
            sealed.close()
            raise

    def open_target(self, name: str, sector_size: int) -> OpenTarget:
        path = Path(name)
        store = FileStore(PathOpener(path))
        try:
            used = self.in_use(store.status())
            if used:
                raise Refused(
                    "mounted",
                    f"“{name}” is mounted or in use ({used}); nothing was written.",
                    "Unmount it, after making sure that it is the right one.",
                )
            store.sector_size = sector_size
            refuse_compressed(name, store)
            return OpenTarget(_who(path, store, store.status().st_mtime_ns, False), store, ImageFile(store.status))
        except BaseException:
            store.close()
            raise

    def can_make(self, name: str) -> bool:
        path = Path(name)
        return not path.exists() and not among_devices(path)

    def make(self, name: str, size_bytes: int) -> None:
        path = Path(name)
        if not path.parent.is_dir():
            raise BadArgument(f"There is no folder “{path.parent}”.", "Make it first.")
        try:
            with path.open("xb") as file:
                os.ftruncate(file.fileno(), size_bytes)
        except OSError as error:
            raise BadRecord(f"“{path}” cannot be written ({error.strerror}).", "Choose another place.") from error

    def refuse_as_target(self, name: str) -> None:
        store = SealedFileStore(PathOpener(Path(name)), grip="look")
        try:
            refuse_compressed(name, store)
        finally:
            store.close()

    def backing(self, name: str) -> set[str]:
        with suppress(OSError):
            status = Path(name).stat()
            return {file_key(status), *self.system.loops_on(status)}
        return set()

    def insertion(self, name: str) -> str:
        with suppress(OSError):
            return file_key(Path(name).stat())
        return ""

    def alike(self, name: str, drive: Drive) -> list[str]:
        return []

    def again(self, name: str, identity: Identity) -> list[str]:
        return []

    def tail(self, path: Path) -> str:
        return path.stem[-4:]

    def make_safe(self, name: str) -> Parting:
        return Parting(False, "Everything is on the medium; an image file needs nothing more.")


def refuse_compressed(name: str, store: ReadableStore) -> None:
    """Raises Refused for a target that is the file of an image."""
    if is_qcow2(store.read(0, min(4, store.size_bytes))):
        raise Refused(
            "image",
            f"“{name}” is a compressed image, not a drive; nothing was written.",
            "Name a drive or a raw image to write to.",
        )


def _who(path: Path, store: ReadableStore, changed_ns: int, used: bool) -> Drive:
    return Drive(
        path=str(path.resolve()),
        size_bytes=store.size_bytes,
        sector_size=store.sector_size,
        mounted=used,
        changed_ns=changed_ns,
    )
