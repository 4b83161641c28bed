"""What an old system, on its sealed drive, has for a clean start: its devices, and the driver packages it keeps."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path, PurePosixPath

from neogenesis.bench.drives import open_source
from neogenesis.bench.inside.laying import LaidOut, put_file
from neogenesis.bench.inside.surveying import survey
from neogenesis.bench.processes.reader import open_tree
from neogenesis.core.drivers import Device, Hardware
from neogenesis.core.errors import BadArgument, BadRecord, Damaged, Refused
from neogenesis.core.store import RangeView
from neogenesis.core.survey import survey_drive
from neogenesis.core.system import LISTED_KINDS, FileTree

#: Where the NT family keeps every package that was ever installed, each in a folder of its own.
_STORE = "windows/system32/driverstore/filerepository/"
_INDEXED = (".inf", ".cat")
_MOST_BYTES, _LARGEST_LIST = 8 << 30, 64 << 20
_PIECE = 1 << 20


def is_drive(path: Path) -> bool:
    """Whether a name means a drive or an image rather than a list in a file."""
    try:
        if path.is_block_device() or path.name.endswith(".drive.json"):
            return True
        return path.is_file() and (path.suffix == ".qcow2" or path.stat().st_size > _LARGEST_LIST)
    except OSError:
        return False


def devices_of(drive: Path) -> Hardware:
    """The devices that the old system has on record; raises BadArgument where there is none that does."""
    found = survey(str(drive), inside=True)
    devices = tuple(
        Device(name=d.name, class_name=d.kind, hardware_ids=d.hardware_ids, compatible_ids=d.compatible_ids)
        for inside in found.inside.values()
        for d in inside.devices
        if d.hardware_ids
    )
    if not devices:
        raise BadArgument(f"No system on “{drive}” says which devices it had.", "Give a hardware list.")
    return Hardware(devices=devices)


class OwnPackages:
    """The packages of an old system, in a folder into which they are copied as they are needed."""

    def __init__(self, tree: FileTree, folder: Path) -> None:
        self.folder, self._tree, self._left = folder, tree, _MOST_BYTES
        self._files: dict[str, list[tuple[str, int]]] = {}
        for path, _, inode in tree.walk():
            if path.casefold().startswith(_STORE):
                inner = path[len(_STORE) :]
                self._files.setdefault(inner.partition("/")[0], []).append((inner, inode))
        for files in self._files.values():
            for inner, inode in files:
                if inner.casefold().endswith(_INDEXED):
                    self._take(inner, inode)

    def __bool__(self) -> bool:
        return bool(self._files)

    def complete(self, package: Path) -> None:
        """All files of the package whose INF stands in that folder."""
        name = next(iter(package.relative_to(self.folder).parts), "")
        for inner, inode in self._files.get(name, ()):
            if not (self.folder / inner).exists():
                self._take(inner, inode)

    def _take(self, inner: str, inode: int) -> None:
        put_file(self.folder, inner, self._pieces(inner, inode), LaidOut(), self._tree.modified_s(inode))

    def _pieces(self, inner: str, inode: int) -> Iterator[bytes]:
        for data, lost in self._tree.contents(inode, _PIECE):
            self._left -= len(data)
            if lost or self._left < 0:
                why = "cannot be read" if lost else "is larger than any package"
                text = f"“{PurePosixPath(inner).name}” in the old system's own store {why}; nothing was packed."
                raise BadRecord(text, "Take packages from their makers.")
            yield data


@contextmanager
def own_packages(drive: Path, folder: Path) -> Iterator[OwnPackages]:
    """Those of the first system of the drive that keeps any. Raises BadArgument, or Refused for a failing drive."""
    with closing(open_source(str(drive))) as opened:
        known = survey_drive(opened.store, opened.drive, open_tree).survey
        if known.health.is_failing:
            raise Refused(
                "failing", f"“{drive}” is failing; nothing is read from it directly.", "Image or rescue it first."
            )
        for partition in known.partitions:
            if partition.volume.kind not in LISTED_KINDS:
                continue
            size = min(partition.size_bytes, opened.store.size_bytes - partition.start_bytes)
            try:
                tree = open_tree(RangeView(opened.store, partition.start_bytes, size))
            except Damaged:
                continue
            with closing(tree):
                found = OwnPackages(tree, folder)
                if found:
                    yield found
                    return
    raise BadArgument(f"No system on “{drive}” keeps driver packages.", "Name a folder of packages.")
