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
_SEALED = pytsk3.TSK_FS_ATTR_ENC
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


#: Where data is that a file only points to, by the tag of its reparse point (the published list of tags).
_TAGS = {0x80000013: "deduplicated", 0x80000007: "deduplicated", 0xC0000004: "cloud", 0x80000006: "cloud"}
_TAGS |= {0x80000021: "cloud", 0x80000015: "cloud"} | {0x9000001A | step << 12: "cloud" for step in range(16)}
_JUNCTION, _SYMBOLIC, _LINK_OF_LINUX = 0xA0000003, 0xA000000C, 0xA000001D
#: Folders of an NT system in which nobody keeps anything that could be elsewhere.
_OF_SYSTEM = frozenset({"windows", "programdata", "$recycle.bin", "$extend"})
_STANDARD, _DATA, _CIPHERED = 16, 128, 0x4000
#: Attributes of a file that is kept elsewhere: offline, recalled when it is opened, or when it is read.
_RECALLED = 0x1000 | 0x40000 | 0x400000
_MOST_STREAMS, _LONGEST_TARGET = 64, 4096
_HAS_ENCRYPTION, _EXT_CIPHERED = 0x10000, 0x800


class _Facts:
    """What the NT family's filesystem says of one file besides its data."""

    def __init__(self, entry: Any) -> None:
        self.attributes = self.tag = 0
        self.reparse = b""
        self.streams: list[list[Any]] = []
        data: list[Any] = []
        for one in entry:
            kind, size = int(one.info.type), int(one.info.size)
            if kind == _STANDARD and size >= 36:
                self.attributes = _little(_of_attribute(entry, one, 36)[32:36])
            elif kind == _REPARSE_POINT:
                self.reparse = _of_attribute(entry, one, _LONGEST_TARGET)
                self.tag = _little(self.reparse[:4])
            elif kind == _DATA and one.info.name and len(self.streams) < _MOST_STREAMS:
                self.streams.append([one.info.name.decode("utf-8", "replace"), size])
            elif kind == _DATA and not one.info.name:
                data.append(one)
        self.hollow = not any(int(a.info.flags) & _NON_RESIDENT for a in data) and not any(a.info.size for a in data)
        self.hollow = self.hollow or any(int(run.flags) & _NO_DATA for a in data for run in a)
        self.ciphered = bool(self.attributes & _CIPHERED) or any(int(a.info.flags) & _SEALED for a in data)

    def elsewhere(self, size: int) -> str:
        """Why its data is not here: `cloud`, `deduplicated`, `encrypted` or `unreadable`; empty where it is.

        Files that are in an account and here as well have no holes.
        """
        if self.ciphered:
            return "encrypted"
        if size and self.tag and self.hollow:
            return _TAGS.get(self.tag, "unreadable")
        return "cloud" if size and self.attributes & _RECALLED and self.hollow else ""

    def target(self) -> str | None:
        """Where a junction or a symbolic link leads, as it is written; None for anything else."""
        if self.tag == _LINK_OF_LINUX:
            return self.reparse[12:].decode("utf-8", "surrogateescape")
        if self.tag not in (_JUNCTION, _SYMBOLIC) or len(self.reparse) < 16:
            return None
        at, length = _little(self.reparse[8:10]), _little(self.reparse[10:12])
        base = 16 if self.tag == _JUNCTION else 20
        return self.reparse[base + at : base + at + length].decode("utf-16-le", "replace")


def _little(data: bytes) -> int:
    return int.from_bytes(data, "little")


def _of_attribute(entry: Any, attribute: Any, most: int) -> bytes:
    size = min(int(attribute.info.size), most)
    return bytes(entry.read_random(0, size, attribute.info.type, attribute.info.id))


def _link(entry: Any) -> str | None:
    """Where a symbolic link leads; None for anything else."""
    meta = entry.info.meta
    if meta is None or meta.type != pytsk3.TSK_FS_META_TYPE_LNK:
        return None
    held = meta.link if isinstance(meta.link, bytes) else None
    return (held or entry.read_random(0, min(int(meta.size), 4096))).decode("utf-8", "surrogateescape")


def _is_kept(entry: Any) -> bool:
    """Whether it is there: the library also finds what was deleted and not written over yet, and such a name may by
    now lead to another's inode.
    """
    named = entry.info.name is None or not int(entry.info.name.flags) & pytsk3.TSK_FS_NAME_FLAG_UNALLOC
    return named and (entry.info.meta is None or not int(entry.info.meta.flags) & pytsk3.TSK_FS_META_FLAG_UNALLOC)


def _seconds(meta: Any, name: str) -> float | None:
    found = getattr(meta, name, 0)
    return float(found) + float(getattr(meta, f"{name}_nano", 0)) / 1e9 if found else None


class _ExtInodes:
    """Flags of inodes on an ext volume that has files encrypted one by one; the library does not give them.

    Source: the kernel's documentation of ext4's on-disk layout (super block, group descriptors, inode table).
    """

    def __init__(self, image: Any, head: bytes) -> None:
        self._image = image
        self._block = 1024 << min(_little(head[24:28]), 6)
        self._per_group, self._inode_bytes = _little(head[40:44]), _little(head[88:90]) or 128
        wide = _little(head[96:100]) & 0x80
        self._descriptor = (_little(head[254:256]) or 64) if wide else 32
        self._table = self._block * (_little(head[20:24]) + 1)
        self._has_ciphered = bool(_little(head[96:100]) & _HAS_ENCRYPTION)

    @classmethod
    def of(cls, image: Any) -> _ExtInodes | None:
        """None for a volume of another kind."""
        head = image.read(1024, 1024)
        return cls(image, head) if head[56:58] == b"\x53\xef" and _little(head[40:44]) else None

    def is_ciphered(self, inode: int) -> bool:
        if not self._has_ciphered or inode < 1:
            return False
        group, number = divmod(inode - 1, self._per_group)
        descriptor = self._image.read(self._table + group * self._descriptor, self._descriptor)
        table = _little(descriptor[8:12]) | (_little(descriptor[40:44]) << 32 if len(descriptor) >= 64 else 0)
        return bool(_little(self._image.read(table * self._block + number * self._inode_bytes + 32, 4)) & _EXT_CIPHERED)


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

    _kind = "other"
    _ext: _ExtInodes | None = None

    def __init__(self, handle: int, size: int) -> None:
        self._image = _Asked(handle, size)
        self._volume = pytsk3.FS_Info(self._image)
        self._walk: Iterator[tuple[Any, ...]] = iter(())
        self._kind = "ntfs" if self._volume.info.ftype == pytsk3.TSK_FS_TYPE_NTFS else "other"
        self._ext = _ExtInodes.of(self._image)
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
        """-1 for one that only stands for a file: its bytes are in an account, sealed, or packed in another place."""
        self._last = (inode, self._volume.open_meta(inode=inode))
        size = int(self._last[1].info.meta.size)
        return -1 if self._elsewhere(self._last[1], size, inode) else size

    def _elsewhere(self, entry: Any, size: int, inode: int) -> str:
        if self._kind == "ntfs":
            return _Facts(entry).elsewhere(size)
        return "encrypted" if self._ext is not None and self._ext.is_ciphered(inode) else ""

    def stream(self, inode: int, name: str, most: int) -> bytes:
        """The first bytes of an alternate stream; raises OSError where there is none."""
        entry = self._volume.open_meta(inode=inode)
        for one in entry:
            if int(one.info.type) == _DATA and one.info.name == name.encode("utf-8"):
                return _of_attribute(entry, one, most)
        raise OSError("it has no such stream")

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

    def walk_counted(self) -> list[tuple[Any, ...]]:
        """As `walk`, with why the data is not here instead of inodes; not asked of a system's own files."""
        self._walk = ((path, int(entry.info.meta.size), self._missing(path, entry)) for path, entry in self._files())
        return self.more()

    def _missing(self, path: str, entry: Any) -> str:
        if self._kind != "ntfs" or path.partition("/")[0].casefold() in _OF_SYSTEM:
            return ""
        try:
            return _Facts(entry).elsewhere(int(entry.info.meta.size))
        except OSError:
            return ""

    def walk_entries(self, with_data: bool) -> list[tuple[Any, ...]]:
        """As `walk`, but also folders and links; each as `_entry` describes it, `with_data` followed by `_data_of`."""
        self._walk = (
            (*self._entry(path, entry), self._data_of(entry) if with_data else None)
            for path, entry in self._files(everything=True)
        )
        return self.more()

    def _entry(self, path: str, entry: Any) -> tuple[Any, ...]:
        """Path, size, inode, kind, why its data is not here, where it leads, and a dictionary of its marks."""
        meta = entry.info.meta
        inode, size = int(meta.addr), int(meta.size)
        marks: dict[str, Any] = {"modified_s": _seconds(meta, "mtime"), "created_s": _seconds(meta, "crtime")}
        kind = {pytsk3.TSK_FS_META_TYPE_DIR: "folder", pytsk3.TSK_FS_META_TYPE_LNK: "link"}.get(meta.type, "file")
        try:
            if self._kind == "ntfs":
                facts = _Facts(entry)
                marks |= {"attributes": facts.attributes, "streams": facts.streams}
                target = facts.target()
                elsewhere = facts.elsewhere(size) if kind == "file" else ""
                if target is not None:
                    return path, 0, inode, "link", "", target, marks
                return path, size if kind == "file" else 0, inode, kind, elsewhere, "", marks
            if self._ext is not None:
                marks |= {"user": int(meta.uid), "group": int(meta.gid), "mode": int(meta.mode) & 0o7777}
            elsewhere = self._elsewhere(entry, size, inode) if kind == "file" else ""
            target = _link(entry) or "" if kind == "link" else ""
        except OSError:  # its own record is damaged; its data may still be whole
            elsewhere, target = "", ""
        return path, size if kind == "file" else 0, inode, kind, elsewhere, target, marks

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

    def _files(self, everything: bool = False) -> Iterator[tuple[str, Any]]:
        """Path and entry of every file; with `everything` also of folders, and of links."""
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
                if meta is None or name in (".", "..") or not _is_kept(entry):
                    continue
                path = f"{prefix}{name}"
                if meta.type == pytsk3.TSK_FS_META_TYPE_DIR:
                    waiting.append((f"{path}/", int(meta.addr)))
                    if everything:
                        yield path, entry
                elif (meta.type == pytsk3.TSK_FS_META_TYPE_REG and not name.endswith(_LABEL_ENTRY)) or (
                    everything and meta.type == pytsk3.TSK_FS_META_TYPE_LNK
                ):
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
