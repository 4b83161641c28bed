"""The file listing library, in a process of its own: `python library.py FOLDER`, spoken to over standard streams.

FOLDER holds the library; an isolated interpreter has no other way to the packages of an installed program.

A damaged volume can make the library crash, hang or eat memory; then only this process goes. It imports nothing of
Neogenesis, so that it is quick to start, and reads volumes only by asking whoever started it.

Messages in both directions: four bytes of length, then one letter and a body. In: `C` a command as JSON
`[handle, name, arguments]`, `D` the bytes that were asked for, `E` that they cannot be had. Out: `R` a request
`[handle, offset, length]`, `J` an answer as JSON, `B` an answer in bytes, `F` that it failed, with words.
"""

from __future__ import annotations

import io
import json
import os
import resource
import struct
import sys
from collections.abc import Iterator
from typing import Any

sys.path.extend(sys.argv[1:])
import pytsk3

_LENGTH = struct.Struct("<I")
_MOST_MEMORY = 2 << 30
_BATCH, _LONGEST_IN_RECORD = 512, 4096
_LARGEST_HIVE = 512 << 20
_MOST_KEYS, _MOST_VALUES, _LONGEST_VALUE = 12_000, 400, 8192
_LABEL_ENTRY = " (Volume Label Entry)"  # how the library shows the label of a FAT volume among its files
_NON_RESIDENT = pytsk3.TSK_FS_ATTR_NONRES
_MOST_STEPS, _MOST_NAMES, _REPARSE_POINT = 400, 200_000, 0xC0
_NOT_AS_IT_IS = pytsk3.TSK_FS_ATTR_COMP | pytsk3.TSK_FS_ATTR_ENC | pytsk3.TSK_FS_ATTR_SPARSE
_NO_DATA = pytsk3.TSK_FS_ATTR_RUN_FLAG_SPARSE | pytsk3.TSK_FS_ATTR_RUN_FLAG_FILLER


def _receive() -> tuple[bytes, bytes]:
    head = _exactly(_LENGTH.size)
    body = _exactly(_LENGTH.unpack(head)[0])
    return body[:1], body[1:]


def _exactly(length: int) -> bytes:
    found = bytearray()
    while len(found) < length:
        piece = os.read(0, length - len(found))
        if not piece:
            os._exit(0)  # whoever started this has gone
        found += piece
    return bytes(found)


def _send(letter: bytes, body: bytes) -> None:
    data = _LENGTH.pack(1 + len(body)) + letter + body
    view = memoryview(data)
    while view:
        view = view[os.write(1, view) :]


def _is_placeholder(entry: Any) -> bool:
    """Whether what the list of files has of it points elsewhere, and its own data is a hole. Source: the published
    attribute types of NTFS ($REPARSE_POINT); files that are in an account and here as well have no holes.
    """
    attributes = list(entry)
    if not any(int(a.info.type) == _REPARSE_POINT for a in attributes):
        return False
    data = [a for a in attributes if int(a.info.type) == 128 and not a.info.name]
    runs = [run for a in data for run in a]
    return bool(entry.info.meta.size) and (not runs or any(int(run.flags) & _NO_DATA for run in runs))


def _link(entry: Any) -> str | None:
    """Where a symbolic link leads; None for anything else."""
    meta = entry.info.meta
    if meta is None or meta.type != pytsk3.TSK_FS_META_TYPE_LNK:
        return None
    held = meta.link if isinstance(meta.link, bytes) else None
    return (held or entry.read_random(0, min(int(meta.size), 4096))).decode("utf-8", "surrogateescape")


def _is_kept(entry: Any) -> bool:
    """Whether it is there: the library also finds what was deleted and not written over yet."""
    named = entry.info.name is None or not int(entry.info.name.flags) & pytsk3.TSK_FS_NAME_FLAG_UNALLOC
    return named and (entry.info.meta is None or not int(entry.info.meta.flags) & pytsk3.TSK_FS_META_FLAG_UNALLOC)


class _Asked(pytsk3.Img_Info):  # type: ignore[misc]
    """A volume whose bytes are asked for."""

    def __init__(self, handle: int, size: int) -> None:
        self._handle, self._size = handle, size
        super().__init__(url="", type=pytsk3.TSK_IMG_TYPE_EXTERNAL)

    def close(self) -> None:
        pass

    def get_size(self) -> int:
        return self._size

    def read(self, offset: int, size: int) -> bytes:
        length = max(0, min(size, self._size - offset))
        _send(b"R", json.dumps([self._handle, offset, length]).encode())
        letter, body = _receive()
        if letter != b"D":
            raise OSError("the volume cannot be read")
        return body


class _Volume:
    """One open volume. Names of its methods are the commands."""

    def __init__(self, handle: int, size: int) -> None:
        self._image = _Asked(handle, size)
        self._volume = pytsk3.FS_Info(self._image)
        self._walk: Iterator[tuple[Any, ...]] = iter(())
        self._last: tuple[int, Any] | None = None

    def read(self, path: str, most: int) -> bytes | None:
        try:
            entry = self._volume.open(f"/{path}")
        except OSError:
            return None
        size = entry.info.meta.size if entry.info.meta else 0
        return bytes(entry.read_random(0, min(size, most))) if size else b""

    def exist(self, paths: list[str]) -> list[str]:
        found: list[str] = []
        for path in paths:
            try:
                entry = self._volume.open(f"/{path}")
            except OSError:
                continue
            if _is_kept(entry):
                found.append(path)
        return found

    def resolve(self, path: str, loose: bool) -> str | None:
        """The path as it is spelled there, links inside the volume followed; `loose` takes letters of either case."""
        left = [part for part in path.split("/") if part not in ("", ".")][::-1]
        found: list[str] = []
        for _ in range(_MOST_STEPS):
            if not left:
                return "/".join(found)
            part = left.pop()
            if part == "..":
                del found[-1:]
                continue
            named = self._named("/".join(found), part, loose)
            if named is None:
                return None
            spelled, target = named
            if target is None:
                found.append(spelled)
                continue
            if target.startswith("/"):
                found = []
            left += [p for p in target.split("/") if p not in ("", ".")][::-1]
        return None

    def _named(self, folder: str, part: str, loose: bool) -> tuple[str, str | None] | None:
        """How a name is spelled in a folder, and where it leads if it is a link; None where it is not there."""
        try:
            entry = self._volume.open(f"/{folder}/{part}" if folder else f"/{part}")
            if _is_kept(entry) and not loose:
                return part, _link(entry)
        except OSError:
            if not loose:
                return None
        names = self.names(folder, _MOST_NAMES) if loose else []
        folded = part.casefold()
        spelled = part if part in names else next((n for n in names if n.casefold() == folded), None)
        return None if spelled is None else (spelled, None)

    def names(self, path: str, most: int) -> list[str]:
        """What a folder holds; none when there is no such folder."""
        try:
            folder = self._volume.open_dir(f"/{path}")
        except OSError:
            return []
        found: list[str] = []
        for entry in folder:
            name = entry.info.name.name.decode("utf-8", "replace")
            if name not in (".", "..") and _is_kept(entry):
                found.append(name)
            if len(found) >= most:
                break
        return found

    def hive(self, path: str, wanted: list[tuple[str, int]]) -> list[Any]:
        """Keys of a registry hive, each with so many levels below it; None for one that is not there.

        A key is `[name, {value name: text, number or list of texts}, [keys below]]`.
        """
        import pyregf  # only a system of that family waits for it

        entry = self._volume.open(f"/{path}")
        size = int(entry.info.meta.size) if entry.info.meta else 0
        if not 0 < size <= _LARGEST_HIVE:
            raise ValueError("the hive has an impossible size")
        hive = pyregf.file()
        hive.open_file_object(io.BytesIO(entry.read_random(0, size)))
        found = []
        for name, depth in wanted:
            left = [_MOST_KEYS]
            key = hive.get_key_by_path("\\" + name)
            found.append(None if key is None else _key(key, depth, left))
        return found

    def size(self, inode: int) -> int:
        """-1 for one that only stands for a file: its bytes are in an account, or packed in another place."""
        self._last = (inode, self._volume.open_meta(inode=inode))
        if _is_placeholder(self._last[1]):
            return -1
        return int(self._last[1].info.meta.size)

    def piece(self, inode: int, offset: int, length: int) -> bytes:
        """The file stays open for the next piece: to find its places a chain of millions of links may be followed."""
        if self._last is None or self._last[0] != inode:
            self._last = (inode, self._volume.open_meta(inode=inode))
        return bytes(self._last[1].read_random(offset, length))

    def modified(self, inode: int) -> float | None:
        meta = self._volume.open_meta(inode=inode).info.meta
        return float(meta.mtime) + float(getattr(meta, "mtime_nano", 0)) / 1e9 if meta.mtime else None

    def cluster_runs(self, inode: int) -> list[tuple[int, int]]:
        runs = []
        for attribute in self._volume.open_meta(inode=inode):
            if int(attribute.info.type) in (1, 128) and not attribute.info.name:
                runs += [(int(run.addr), int(run.len)) for run in attribute]
        return runs

    def byte_runs(self, inode: int) -> list[tuple[int, int]]:
        block = int(self._volume.info.block_size)
        runs = []
        for attribute in self._volume.open_meta(inode=inode):
            if int(attribute.info.type) in (1, 128) and int(attribute.info.flags) & _NON_RESIDENT:
                runs += [
                    (int(run.addr) * block, (int(run.addr) + int(run.len)) * block)
                    for run in attribute
                    if not int(run.flags) & _NO_DATA
                ]
        return runs

    def runs_of(self, path: str) -> list[tuple[int, int]]:
        """Where a file's bytes lie in order, by path; none for one that is packed, sealed, has holes or no runs."""
        found = self._data_of(self._volume.open(f"/{path}"))
        return found if isinstance(found, list) else []

    def walk(self) -> list[tuple[Any, ...]]:
        """The first batch of files; `more` gives the next, and an empty one is the end."""
        self._walk = ((path, int(entry.info.meta.size), int(entry.info.meta.addr)) for path, entry in self._files())
        return self.more()

    def walk_with_data(self) -> list[tuple[Any, ...]]:
        """As `walk`, each file with what `_data_of` says of it."""
        self._walk = (
            (path, int(entry.info.meta.size), int(entry.info.meta.addr), self._data_of(entry))
            for path, entry in self._files()
        )
        return self.more()

    def _data_of(self, entry: Any) -> list[tuple[int, int]] | str | None:
        """The ranges of the volume that hold a file from its first byte to its last, or of a file that is kept in its
        record the bytes as hexadecimal digits; None for one that stands there in another way.
        """
        block = int(self._volume.info.block_size)
        try:
            data = [a for a in entry if int(a.info.type) in (1, 128) and not a.info.name]
            if len(data) != 1 or int(data[0].info.flags) & _NOT_AS_IT_IS:
                return None
            size = int(data[0].info.size)
            if not int(data[0].info.flags) & _NON_RESIDENT:
                return bytes(entry.read_random(0, size)).hex() if 0 < size <= _LONGEST_IN_RECORD else None
            runs = list(data[0])
        except OSError:
            return None
        if any(int(run.flags) & _NO_DATA for run in runs) or sum(int(run.len) for run in runs) * block < size:
            return None
        return [(int(run.addr) * block, (int(run.addr) + int(run.len)) * block) for run in runs]

    def more(self) -> list[tuple[Any, ...]]:
        found: list[tuple[Any, ...]] = []
        for item in self._walk:
            found.append(item)
            if len(found) >= _BATCH:
                break
        return found

    def _files(self) -> Iterator[tuple[str, Any]]:
        """Path and entry of every file."""
        seen: set[int] = set()
        waiting = [("", int(self._volume.info.root_inum))]
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
                # A slash inside a name would pass for a folder; it is shown by its look-alike.
                name = entry.info.name.name.decode("utf-8", "surrogateescape").replace("/", "\u2215")
                meta = entry.info.meta
                if meta is None or name in (".", "..") or not int(meta.flags) & pytsk3.TSK_FS_META_FLAG_ALLOC:
                    continue
                path = f"{prefix}{name}"
                if meta.type == pytsk3.TSK_FS_META_TYPE_DIR:
                    waiting.append((f"{path}/", int(meta.addr)))
                elif meta.type == pytsk3.TSK_FS_META_TYPE_REG and not name.endswith(_LABEL_ENTRY):
                    yield path, entry


def _key(key: Any, depth: int, left: list[int]) -> list[Any]:
    """A key with its values and what is below it, as far as `left` keys reach; what is damaged is left out."""
    left[0] -= 1
    values: dict[str, Any] = {}
    try:
        for number in range(min(int(key.number_of_values), _MOST_VALUES)):
            value = key.get_value(number)
            data = _value(value)
            if data is not None:
                values[str(value.name or "")] = data
    except (OSError, ValueError):
        pass
    below = []
    if depth > 0:
        try:
            count = int(key.number_of_sub_keys)
        except (OSError, ValueError):
            count = 0
        for number in range(count):
            if left[0] <= 0:
                break
            try:
                below.append(_key(key.get_sub_key(number), depth - 1, left))
            except (OSError, ValueError):
                left[0] -= 1
    return [str(key.name or ""), values, below]


def _value(value: Any) -> Any:
    """Text, a number, a list of texts; bytes as hexadecimal digits behind `hex:`. None for what is damaged or long."""
    try:
        kind, size = int(value.type), int(value.data_size)
        if size > _LONGEST_VALUE:
            return None
        if kind in (1, 2):
            return str(value.data_as_string or "")
        if kind == 7:
            return [str(text) for text in value.data_as_multi_string]
        if kind in (4, 5, 11):
            return int(value.data_as_integer)
        return "hex:" + bytes(value.data or b"").hex()
    except (OSError, ValueError, TypeError, UnicodeError):
        return None


def main() -> None:
    """Answer commands until the pipe is closed."""
    resource.setrlimit(resource.RLIMIT_AS, (_MOST_MEMORY, _MOST_MEMORY))
    volumes: dict[int, _Volume] = {}
    while True:
        letter, body = _receive()
        if letter != b"C":
            continue
        handle, name, arguments = json.loads(body)
        try:
            answer: Any = None
            if name == "open":
                volumes[handle] = _Volume(handle, *arguments)
            elif name == "close":
                volumes.pop(handle, None)
            else:
                answer = getattr(volumes[handle], name)(*arguments)
        except (OSError, MemoryError, AttributeError, KeyError, ValueError) as error:
            _send(b"F", str(error).encode("utf-8", "replace"))
            continue
        if isinstance(answer, bytes):
            _send(b"B", answer)
        else:
            _send(b"J", json.dumps(answer).encode())


if __name__ == "__main__":
    sys.dont_write_bytecode = True
    main()
