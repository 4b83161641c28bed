"""Files inside a volume, read through pytsk3 from any store."""

from __future__ import annotations

from collections.abc import Iterator

import pytsk3

from neogenesis.core.errors import Damaged, ReadFailed
from neogenesis.core.store import ReadableStore

_NO_DATA = pytsk3.TSK_FS_ATTR_RUN_FLAG_SPARSE | pytsk3.TSK_FS_ATTR_RUN_FLAG_FILLER


class _StoreImage(pytsk3.Img_Info):  # type: ignore[misc]
    """A store in the form that the library reads. What cannot be read comes back as zeros and is counted."""

    def __init__(self, store: ReadableStore) -> None:
        self._store = store
        self.failed_reads = 0
        super().__init__(url="", type=pytsk3.TSK_IMG_TYPE_EXTERNAL)

    def close(self) -> None:
        """The store belongs to whoever opened it."""

    def get_size(self) -> int:
        return self._store.size_bytes

    def read(self, offset: int, size: int) -> bytes:
        length = max(0, min(size, self._store.size_bytes - offset))
        try:
            return self._store.read(offset, length)
        except ReadFailed:
            self.failed_reads += 1
            return bytes(length)


class VolumeTree:
    """Paths, sizes and contents of the files in one volume. Paths are relative to its root, with slashes."""

    def __init__(self, store: ReadableStore) -> None:
        """Raises Damaged when the volume cannot be opened."""
        self._image = _StoreImage(store)
        try:
            self._volume = pytsk3.FS_Info(self._image)
        except OSError as error:
            raise Damaged("volume", 0, "its files cannot be listed") from error

    def read(self, path: str, most: int = 1 << 16) -> bytes | None:
        """The first `most` bytes of a file, None when there is no such file."""
        try:
            entry = self._volume.open(f"/{path}")
            size = entry.info.meta.size if entry.info.meta else 0
            return bytes(entry.read_random(0, min(size, most))) if size else b""
        except OSError:
            return None

    def exists(self, path: str) -> bool:
        """Whether a file or folder of that path is there."""
        try:
            self._volume.open(f"/{path}")
        except OSError:
            return False
        return True

    def runs_of_inode(self, inode: int) -> list[tuple[int, int]]:
        """(first cluster, count) of a file's data; raises Damaged."""
        try:
            runs = []
            for attribute in self._volume.open_meta(inode=inode):
                if int(attribute.info.type) in (1, 128) and not attribute.info.name:
                    runs += [(int(run.addr), int(run.len)) for run in attribute]
        except OSError as error:
            raise Damaged("file record", inode, "it cannot be read") from error
        return runs

    def byte_runs(self, inode: int) -> list[tuple[int, int]]:
        """Ranges of the volume where a file's data lies; none for what is kept inside its record or cannot be read."""
        try:
            block = int(self._volume.info.block_size)
            runs = []
            for attribute in self._volume.open_meta(inode=inode):
                if int(attribute.info.type) in (1, 128) and int(attribute.info.flags) & pytsk3.TSK_FS_ATTR_NONRES:
                    runs += [
                        (int(run.addr) * block, (int(run.addr) + int(run.len)) * block)
                        for run in attribute
                        if not int(run.flags) & _NO_DATA
                    ]
        except OSError:
            return []
        return runs

    def walk(self, most: int = 2_000_000) -> Iterator[tuple[str, int, int]]:
        """Every regular file as (path, size in bytes, inode), folders in no certain order."""
        seen: set[int] = set()
        waiting = [("", int(self._volume.info.root_inum))]
        count = 0
        while waiting:
            prefix, inode = waiting.pop()
            if inode in seen:
                continue
            seen.add(inode)
            try:
                entries = list(self._volume.open_dir(inode=inode))
            except OSError:
                continue
            for entry in entries:
                name = entry.info.name.name.decode("utf-8", "surrogateescape")
                meta = entry.info.meta
                if meta is None or name in (".", "..") or not int(meta.flags) & pytsk3.TSK_FS_META_FLAG_ALLOC:
                    continue
                path = f"{prefix}{name}"
                if meta.type == pytsk3.TSK_FS_META_TYPE_DIR:
                    waiting.append((f"{path}/", int(meta.addr)))
                elif meta.type == pytsk3.TSK_FS_META_TYPE_REG:
                    count += 1
                    if count > most:
                        return
                    yield path, int(meta.size), int(meta.addr)
