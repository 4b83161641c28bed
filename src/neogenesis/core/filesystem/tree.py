"""Files inside a volume, read through pytsk3 from any store."""

from __future__ import annotations

from collections.abc import Iterator

import pytsk3

from neogenesis.core.errors import Damaged, ReadFailed
from neogenesis.core.filesystem.ext import hangs_readers
from neogenesis.core.store import ReadableStore, read_or_narrow

_LABEL_ENTRY = " (Volume Label Entry)"  # how the library shows the label of a FAT volume among its files
_NO_DATA = pytsk3.TSK_FS_ATTR_RUN_FLAG_SPARSE | pytsk3.TSK_FS_ATTR_RUN_FLAG_FILLER


class _StoreImage(pytsk3.Img_Info):  # type: ignore[misc]
    """A store in the form that the library reads. What cannot be read comes back as zeros and is listed in `lost`."""

    def __init__(self, store: ReadableStore) -> None:
        self._store = store
        self.lost: list[tuple[int, int]] = []
        super().__init__(url="", type=pytsk3.TSK_IMG_TYPE_EXTERNAL)

    def close(self) -> None:
        """The store belongs to whoever opened it."""

    def get_size(self) -> int:
        return self._store.size_bytes

    def read(self, offset: int, size: int) -> bytes:
        length = max(0, min(size, self._store.size_bytes - offset))
        buffer = memoryview(bytearray(length))
        try:
            self.lost += read_or_narrow(self._store, offset, buffer, self._store.sector_size)
        except ReadFailed:
            self.lost.append((offset, offset + length))
        return bytes(buffer)


class VolumeTree:
    """Paths, sizes and contents of the files in one volume. Paths are relative to its root, with slashes."""

    def __init__(self, store: ReadableStore) -> None:
        """Raises Damaged when the volume cannot be opened."""
        if hangs_readers(store):
            raise Damaged("volume", 0, "its files cannot be listed")
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

    def contents(self, inode: int, piece_bytes: int) -> Iterator[tuple[bytes, int]]:
        """A file from its first byte to its last, in pieces, each with how many bytes of it could not be read.

        Raises Damaged when the file cannot be opened any more.
        """
        try:
            entry = self._volume.open_meta(inode=inode)
            size = int(entry.info.meta.size)
            at = 0
            while at < size:
                self._image.lost.clear()
                data = entry.read_random(at, min(piece_bytes, size - at))
                if not data:
                    raise Damaged("file", at, "it ends before its size")
                yield bytes(data), min(len(data), sum(end - start for start, end in self._image.lost))
                at += len(data)
        except OSError as error:
            raise Damaged("file", inode, "it cannot be opened") from error

    def modified_s(self, inode: int) -> float | None:
        """When a file was last changed, in seconds since 1970."""
        try:
            meta = self._volume.open_meta(inode=inode).info.meta
            return float(meta.mtime) + float(getattr(meta, "mtime_nano", 0)) / 1e9 if meta.mtime else None
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
                elif meta.type == pytsk3.TSK_FS_META_TYPE_REG and not name.endswith(_LABEL_ENTRY):
                    count += 1
                    if count > most:
                        return
                    yield path, int(meta.size), int(meta.addr)
