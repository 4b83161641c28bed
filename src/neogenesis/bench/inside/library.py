"""A library of images and driver packages: its index with checksums, and fetching from a source that may break off.

A source is any folder, a mounted share for instance, with a `catalogue.json`; or a simulated one (`NAME.source.json`),
which has a pace and breaks. What was fetched in part lies in `NAME.part` and is gone on with.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import ClassVar

from blake3 import blake3

from neogenesis.core.errors import BadArgument, BadRecord, Mismatch, Stopped
from neogenesis.core.media.library import Catalogue, Held, Index, Item, Row, compared, kind_of, read_catalogue
from neogenesis.core.record import Record, load, save, sync_folder

_CATALOGUE, _INDEX, _PART, _SOURCE = "catalogue.json", "index.json", ".part", ".source.json"
_PIECE, _LARGEST_CATALOGUE = 1 << 20, 16 << 20
_TELL_SECONDS = 0.1


class SimulatedSource(Record, frozen=True, kw_only=True):
    """A stand-in for an outside source: a folder, its pace, and after how many bytes of a file it breaks off."""

    SCHEMA: ClassVar[str] = "neogenesis.simulated-source/1"

    schema: str
    folder: str
    bytes_per_s: float | None = None
    breaks_after_bytes: int | None = None


class Source:
    """Where files are fetched from. Raises BadArgument when it is not there, BadRecord when its catalogue is none."""

    def __init__(self, place: Path) -> None:
        self._spec: SimulatedSource | None = None
        self.folder = place
        if place.name.endswith(_SOURCE):
            self._spec = load(place, SimulatedSource, "source")
            self.folder = place.parent / self._spec.folder
        path = self.folder / _CATALOGUE
        try:
            if path.stat().st_size > _LARGEST_CATALOGUE:
                raise BadRecord(f"The catalogue of “{place}” is too large to be one.", "Give the right folder.")
            data = path.read_bytes()
        except OSError as error:
            text = f"The source “{place}” has no catalogue that can be read ({error.strerror})."
            raise BadArgument(text, "Check the name, and whether the share is mounted.") from error
        self.catalogue: Catalogue = read_catalogue(data)

    def read_from(self, item: Item, start: int) -> Iterator[bytes]:
        """Bytes of a file from `start` on; raises OSError where it breaks off."""
        given = 0
        with (self.folder / item.name).open("rb") as file:
            file.seek(start)
            while piece := file.read(_PIECE):
                if self._spec is not None:
                    given = self._pace(given, piece)
                yield piece

    def _pace(self, given: int, piece: bytes) -> int:
        spec = self._spec
        if spec is not None and spec.bytes_per_s:
            time.sleep(len(piece) / spec.bytes_per_s)
        if spec is not None and spec.breaks_after_bytes is not None and given + len(piece) > spec.breaks_after_bytes:
            raise OSError(104, "the connection broke off")
        return given + len(piece)


def index_library(folder: Path) -> Index:
    """The index as it is now; only what changed is read. Raises BadArgument when the folder is not there."""
    if not folder.is_dir():
        raise BadArgument(f"The library “{folder}” is not there.", "Check the name, and whether the share is mounted.")
    path = folder / _INDEX
    try:
        before = {f.name: f for f in load(path, Index, "index").files} if path.exists() else {}
    except BadRecord:
        before = {}  # it can be worked out again
    files = []
    for entry in sorted(folder.iterdir()):
        if entry.is_symlink() or not entry.is_file() or entry.name in (_INDEX, _CATALOGUE):
            continue
        if entry.name.startswith(".") or entry.name.endswith((_PART, _SOURCE, ".json")):
            continue
        status = entry.stat()
        known = before.get(entry.name)
        if known is not None and (known.size_bytes, known.changed_ns) == (status.st_size, status.st_mtime_ns):
            files.append(known)
            continue
        files.append(
            Held(
                name=entry.name,
                size_bytes=status.st_size,
                changed_ns=status.st_mtime_ns,
                blake3=_digest(entry),
                kind=kind_of(entry.name),
            )
        )
    found = Index(files=tuple(files))
    if files != list(before.values()):
        save(path, found)
    return found


def _digest(path: Path) -> str:
    digest = blake3()
    with path.open("rb") as file:
        while piece := file.read(_PIECE):
            digest.update(piece)
    return digest.hexdigest()


def look_at_library(folder: Path, source: Source | None) -> list[Row]:
    """What is had and what is offered."""
    return compared(index_library(folder), source.catalogue if source is not None else None)


class Fetched(Record, frozen=True):
    """How far a file has come, in bytes."""

    done: int
    total: int


def look_from(folder: str, source: str) -> list[Row]:
    """As `look_at_library`, for a process of its own; without a source, what is had."""
    return look_at_library(Path(folder), Source(Path(source)) if source else None)


def fetch_from(folder: str, source: str, name: str, tell: Callable[[Fetched], object] = lambda fetched: None) -> str:
    """As `fetch`, for a process of its own; tells at most ten times a second."""
    last = 0.0

    def told(done: int, total: int) -> None:
        nonlocal last
        if time.monotonic() - last >= _TELL_SECONDS:
            last = time.monotonic()
            tell(Fetched(done, total))

    return str(fetch(Path(folder), Source(Path(source)), name, told))


def fetch(folder: Path, source: Source, name: str, told: Callable[[int, int], None] = lambda done, total: None) -> Path:
    """One file into the library, from where an earlier attempt broke off.

    Raises BadArgument for a file that is not offered, Stopped where the source breaks off, Mismatch for other bytes.
    """
    item = next((i for i in source.catalogue.items if i.name == name), None)
    if item is None:
        raise BadArgument(f"“{name}” is not offered.", "Look at what is: neogenesis library FOLDER --from SOURCE.")
    if not folder.is_dir():
        raise BadArgument(f"The library “{folder}” is not there.", "Check the name.")
    part, whole = folder / f"{name}{_PART}", folder / name
    try:
        with part.open("ab") as out:
            start = out.tell()
            if start > item.size_bytes:
                out.truncate(0)
                start = 0
            told(start, item.size_bytes)
            for piece in source.read_from(item, start):
                out.write(piece)
                start += len(piece)
                told(start, item.size_bytes)
                if start > item.size_bytes:
                    break
            out.flush()
            os.fsync(out.fileno())
    except OSError as error:
        raise Stopped(
            f"“{name}” was not fetched to its end ({error.strerror or error}); what came is kept.",
            "Give the same command again: it goes on from there.",
        ) from error
    if part.stat().st_size < item.size_bytes:
        raise Stopped(f"“{name}” ended before its size; what came is kept.", "Give the same command again.")
    if _digest(part) != item.blake3:
        part.unlink()
        raise Mismatch(f"“{name}” is not what the catalogue says: its checksum differs.", "Fetch it again.")
    part.replace(whole)
    sync_folder(folder)
    return whole
