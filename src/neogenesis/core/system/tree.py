"""Files inside a volume, whatever its filesystem. The library that lists them runs in a process that can be killed.

Core declares what it wants of that process (`Channel`); the bench starts it and serves its reads.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal, Protocol, get_args

from neogenesis.core.errors import Damaged, ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.record import Record
from neogenesis.core.store import Patience, PutOff, ReadableStore, read_or_narrow
from neogenesis.core.system.elsewhere import NotHere

_MOST_FILES = 2_000_000


class ServedStore:
    """A store as the library's process reads it: what cannot be read comes back as zeros and is listed in `lost`.

    With `patience`, a bad stretch that takes too long comes back as zeros; `put_off` is what is known of it then.
    """

    def __init__(self, store: ReadableStore) -> None:
        self._store = store
        self.size_bytes = store.size_bytes
        self.lost: list[tuple[int, int]] = []
        self.patience: Patience | None = None
        self.put_off: PutOff | None = None

    def read(self, offset: int, length: int) -> bytes:
        length = max(0, min(length, self.size_bytes - offset))
        buffer = bytearray(length)
        try:
            if self.put_off is None:
                view, sector = memoryview(buffer), self._store.sector_size
                self.lost += read_or_narrow(self._store, offset, view, sector, patience=self.patience)
        except PutOff as found:
            self.put_off = found
        except ReadFailed:
            self.lost.append((offset, offset + length))
        return bytes(buffer)


Value = str | int | list[str]
#: What is to be written under a key: names and values, bytes as they are.
HiveValues = Mapping[str, str | int | list[str] | bytes]


@dataclass(frozen=True, slots=True)
class HiveKey:
    """A key of a registry hive. Names of values are folded; bytes are hexadecimal digits behind `hex:`."""

    name: str
    values: dict[str, Value]
    keys: tuple[HiveKey, ...]

    def text(self, name: str) -> str:
        value = self.values.get(name.casefold())
        return value.strip() if isinstance(value, str) and not value.startswith("hex:") else ""

    def number(self, name: str) -> int | None:
        value = self.values.get(name.casefold())
        return value if isinstance(value, int) else None

    def raw(self, name: str) -> bytes:
        value = self.values.get(name.casefold())
        if not isinstance(value, str) or not value.startswith("hex:"):
            return b""
        try:
            return bytes.fromhex(value[4:])
        except ValueError:  # a text that only begins so
            return b""

    def texts(self, name: str) -> tuple[str, ...]:
        value = self.values.get(name.casefold())
        return tuple(value) if isinstance(value, list) else ((value,) if isinstance(value, str) else ())


def _hive_key(raw: Any) -> HiveKey:
    name, values, keys = raw
    folded = {str(n).casefold(): v for n, v in values.items() if isinstance(v, str | int | list)}
    return HiveKey(str(name), folded, tuple(map(_hive_key, keys)))


class Channel(Protocol):
    """One volume, open in the library's process. Every call may raise Damaged: the library failed, hung or crashed."""

    def call(self, name: str, *arguments: Any) -> Any:
        """The answer to a command, JSON or bytes; reads of the volume are served meanwhile."""
        ...

    def close(self) -> None: ...


OpenChannel = Callable[[ServedStore], Channel]
Data = list[tuple[int, int]] | bytes | None
EntryKind = Literal["file", "folder", "link"]
_MOST_MODE, _MOST_ATTRIBUTES = 0o7777, 0xFFFFFFFF


class FileMarks(Record, frozen=True, kw_only=True):
    """What a file has besides its bytes, each as far as its filesystem has it.

    Times are seconds since 1970, `attributes` those of the NT family (hidden, read-only, ...), `mode` permission bits,
    `streams` names and bytes of alternate streams.
    """

    modified_s: float | None = None
    created_s: float | None = None
    user: int | None = None
    group: int | None = None
    mode: int | None = None
    attributes: int | None = None
    streams: tuple[tuple[str, int], ...] = ()


#: Of a file of which nothing else is known.
NO_MARKS = FileMarks()


@dataclass(frozen=True, slots=True)
class Entry:
    """A file, a folder, or a link (also a junction) with its `target` as it is written.

    `not_here` says why its data is not on this drive in a form that can be copied. `data` are the ranges of the volume
    that hold it in order, the last one up to the end of its block, or the bytes of a small file that is kept in its
    record; None for one that stands there in another way (packed, with holes, damaged), or that nobody asked of.
    """

    path: str
    size_bytes: int
    inode: int
    kind: EntryKind
    not_here: NotHere
    target: str
    marks: FileMarks
    data: Data


class FileTree:
    """Paths, sizes and contents of the files in one volume. Paths are relative to its root, with slashes."""

    def __init__(self, store: ReadableStore, open_channel: OpenChannel) -> None:
        """Raises Damaged when the volume cannot be opened."""
        self._served = ServedStore(store)
        self._channel = open_channel(self._served)

    def close(self) -> None:
        self._channel.close()

    @property
    def lost(self) -> Extents:
        """Ranges of the volume that could not be read so far, since it was opened or a file was begun."""
        return Extents.of(self._served.lost)

    def read(self, path: str, most: int = 1 << 16) -> bytes | None:
        """The first `most` bytes of a file, None when there is no such file or it cannot be read."""
        try:
            found = self._channel.call("read", path, most)
        except Damaged:
            return None
        return found if isinstance(found, bytes) else None

    def which_exist(self, paths: Sequence[str]) -> set[str]:
        """Those of `paths` that are files or folders."""
        try:
            return {str(path) for path in self._channel.call("exist", list(paths))}
        except Damaged:
            return set()

    def resolve(self, path: str, loose: bool = False) -> str | None:
        """The path as it is spelled there, with links inside the volume followed; None when it is not there.

        `loose` takes letters of either case, as FAT and NTFS do.
        """
        try:
            found = self._channel.call("resolve", path, loose)
        except Damaged:
            return None
        return found if isinstance(found, str) else None

    def names(self, path: str, most: int = 20_000) -> list[str]:
        """What a folder holds, in no certain order; none when it is not there or cannot be read."""
        try:
            return [str(name) for name in self._channel.call("names", path, most)]
        except Damaged:
            return []

    def hive(self, path: str, wanted: Sequence[tuple[str, int]]) -> list[HiveKey | None]:
        """Keys of a registry hive by their path from its root, each with so many levels of keys below it.

        None for a key that is not there; raises Damaged when the hive is missing or makes no sense.
        """
        found = self._channel.call("hive", path, list(wanted))
        if not isinstance(found, list) or len(found) != len(wanted):
            raise Damaged("hive", 0, "it answers nonsense")
        return [None if raw is None else _hive_key(raw) for raw in found]

    def contents(
        self, inode: int, piece_bytes: int, patience: Callable[[], Patience | None] = lambda: None
    ) -> Iterator[tuple[bytes, int]]:
        """A file from its first byte to its last, in pieces, each with how many bytes of it could not be read.

        `patience` is asked for what each piece may take. Raises Damaged when the file cannot be opened any more, or is
        only a placeholder, PutOff when a piece takes too long; close the tree then, which keeps what it was given.
        """
        found, at = self._channel.call("size", inode), 0
        if found == -1:
            raise Damaged("file", 0, "only a placeholder of it is on this drive, its contents are elsewhere")
        size = _number(found)
        while at < size:
            served = self._served
            served.lost.clear()
            served.patience = patience()
            try:
                data = self._channel.call("piece", inode, at, min(piece_bytes, size - at))
            finally:
                served.patience = None
            if served.put_off is not None:
                raise served.put_off
            if not isinstance(data, bytes) or not data:
                raise Damaged("file", at, "it ends before its size")
            yield data, min(len(data), sum(end - start for start, end in self._served.lost))
            at += len(data)

    def modified_s(self, inode: int) -> float | None:
        """When a file was last changed, in seconds since 1970."""
        try:
            found = self._channel.call("modified", inode)
        except Damaged:
            return None
        return float(found) if isinstance(found, int | float) else None

    def runs_of_inode(self, inode: int) -> list[tuple[int, int]]:
        """(first cluster, count) of a file's data; raises Damaged."""
        return _pairs(self._channel.call("cluster_runs", inode))

    def byte_runs(self, inode: int) -> list[tuple[int, int]]:
        """Ranges of the volume where a file's data lies; none for what is kept inside its record or cannot be read."""
        try:
            return _pairs(self._channel.call("byte_runs", inode))
        except Damaged:
            return []

    def runs_of(self, path: str) -> list[tuple[int, int]]:
        """Ranges of the volume that hold a file in order, by path; none for one that is not there or is not kept as it
        is: packed, sealed, with holes, or inside its own record.
        """
        try:
            return _pairs(self._channel.call("runs_of", path))
        except Damaged:
            return []

    def walk(self, most: int = _MOST_FILES) -> Iterator[tuple[str, int, int]]:
        """Every regular file as (path, size in bytes, inode), folders in no certain order; raises Damaged."""
        for path, size, inode in self._walked("walk", most):
            yield str(path), _number(size), _number(inode)

    def walk_counted(self, most: int = _MOST_FILES) -> Iterator[tuple[str, int, NotHere]]:
        """Every regular file as (path, size in bytes, why its data is not here), quicker than `walk_entries`; raises
        Damaged.
        """
        for path, size, not_here in self._walked("walk_counted", most):
            if not_here not in get_args(NotHere):
                raise Damaged("file", 0, "it is listed in an impossible way")
            yield str(path), _number(size), not_here

    def walk_entries(self, with_data: bool = False, most: int = _MOST_FILES) -> Iterator[Entry]:
        """Every file, folder and link, in no certain order, `with_data` also where its bytes are; raises Damaged."""
        for raw in self._walked("walk_entries", most, with_data):
            yield _entry(raw)

    def stream(self, inode: int, name: str, most: int = 1 << 20) -> bytes | None:
        """The first `most` bytes of an alternate stream of a file; None where it cannot be read."""
        try:
            found = self._channel.call("stream", inode, name, most)
        except Damaged:
            return None
        return found if isinstance(found, bytes) else None

    def _walked(self, command: str, most: int, *arguments: Any) -> Iterator[Any]:
        batch = self._channel.call(command, *arguments)
        while batch:
            yield from batch[:most]
            most -= len(batch)
            if most <= 0:
                return
            batch = self._channel.call("more")


Trees = Callable[[ReadableStore], FileTree]


def _number(found: Any) -> int:
    if not isinstance(found, int) or found < 0:
        raise Damaged("file", 0, "it has an impossible size or place")
    return found


def _pairs(found: Any) -> list[tuple[int, int]]:
    return [(int(a), int(b)) for a, b in found]


def _entry(raw: Any) -> Entry:
    path, size, inode, kind, not_here, target, marks, data = raw
    if kind not in get_args(EntryKind) or not_here not in get_args(NotHere) or not isinstance(marks, dict):
        raise Damaged("file", 0, "it is listed in an impossible way")
    found = bytes.fromhex(data) if isinstance(data, str) else None if data is None else _pairs(data)
    return Entry(str(path), _number(size), _number(inode), kind, not_here, str(target), _marks(marks), found)


def _marks(raw: dict[str, Any]) -> FileMarks:
    """What of it is possible; a damaged record says anything."""

    def within(name: str, most: int) -> int | None:
        value = raw.get(name)
        return value if isinstance(value, int) and 0 <= value <= most else None

    def time(name: str) -> float | None:
        value = raw.get(name)
        return float(value) if isinstance(value, int | float) else None

    return FileMarks(
        modified_s=time("modified_s"),
        created_s=time("created_s"),
        user=within("user", _MOST_ATTRIBUTES),
        group=within("group", _MOST_ATTRIBUTES),
        mode=within("mode", _MOST_MODE),
        attributes=within("attributes", _MOST_ATTRIBUTES),
        streams=tuple((str(name), int(size)) for name, size in raw.get("streams", ())),
    )
