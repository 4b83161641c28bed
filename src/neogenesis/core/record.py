"""Our JSON records: strict on the way in, complete on disk or not at all on the way out.

Every record carries a schema name with a version. Inside the program a record that was read is trusted.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterable, Iterator
from itertools import islice
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from neogenesis.core.errors import BadRecord

T = TypeVar("T")
_LARGEST_BYTES = 1 << 31
_ROWS = 1024
_learning = threading.Lock()
_renewals: list[Callable[[Any], bool]] = []
_decoders: dict[type[Any], msgspec.json.Decoder[Any]] = {}


class Record(msgspec.Struct, frozen=True, kw_only=True):
    """Base of everything that crosses a boundary; fields that a later version adds are ignored."""


def to_json(record: Any) -> bytes:
    """Readable UTF-8 JSON, two spaces deep, with a final line feed."""
    return msgspec.json.format(msgspec.json.encode(record), indent=2) + b"\n"


def _decoder(kind: type[T]) -> msgspec.json.Decoder[T]:
    """One decoder for each kind, made by one thread at a time: the library crashes when two learn a type at once."""
    with _learning:
        found = _decoders.get(kind)
        if found is None:
            found = _decoders[kind] = msgspec.json.Decoder(kind)
        return found


def _decoded(text: bytes, kind: type[T]) -> T:
    """As it stands, else brought from an older form to the present one."""
    try:
        return _decoder(kind).decode(text)
    except msgspec.ValidationError:
        raw = msgspec.json.decode(text)
        if not sum(renew(raw) for renew in _renewals):  # each of them, not the first that fits
            raise
        return _decoder(kind).decode(msgspec.json.encode(raw))


def renews_older_records(renew: Callable[[Any], bool]) -> Callable[[Any], bool]:
    """Register a function that changes decoded JSON of an older form in place, and says whether it did."""
    _renewals.append(renew)
    return renew


def from_json(text: bytes, kind: type[T], what: str) -> T:
    """The record of `kind` in `text`; raises BadRecord in words that name `what`."""
    try:
        record = _decoded(text, kind)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
        raise BadRecord(
            f"The {what} is damaged or not one of ours ({error}); nothing was written.",
            f"Make the {what} again or restore it from a copy.",
        ) from error
    expected = getattr(kind, "SCHEMA", None)
    found = getattr(record, "schema", None)
    if expected and found != expected:
        raise BadRecord(
            f"The {what} has the schema “{found}” where “{expected}” was expected; nothing was written.",
            "Give the right file, or use the version of the program that wrote it.",
        )
    return record


def load(path: Path, kind: type[T], what: str) -> T:
    """Read and validate a record; raises BadRecord when it is missing, too large, damaged or of another kind."""
    try:
        if path.stat().st_size > _LARGEST_BYTES:
            raise BadRecord(f"The {what} “{path.name}” is too large to be one of ours.", "Give the right file.")
        text = path.read_bytes()
    except OSError as error:
        raise BadRecord(
            f"The {what} “{path}” cannot be read ({error.strerror}); nothing was written.", "Check the name."
        ) from error
    return from_json(text, kind, f"{what} “{path.name}”")


def save(path: Path, record: Any) -> None:
    """Replace `path` so that a cut leaves the old file or the whole new one."""
    save_bytes(path, to_json(record))


def save_bytes(path: Path, data: bytes) -> None:
    """As `save`, for bytes of any kind. Raises BadRecord when the place cannot be written."""
    save_pieces(path, (data,))


def save_pieces(path: Path, pieces: Iterable[bytes]) -> None:
    """As `save_bytes`, for what is made piece by piece."""
    temporary = path.with_name(f".{path.name}.new")
    try:
        with temporary.open("wb") as file:
            file.writelines(pieces)
            file.flush()
            os.fsync(file.fileno())
        temporary.replace(path)
        sync_folder(path.parent)
    except OSError as error:
        raise BadRecord(f"“{path}” cannot be written ({error.strerror}).", "Choose another place.") from error


def in_rows(rows: Iterable[str]) -> Iterator[bytes]:
    """What stands between the brackets of a JSON array with one row a line, many rows at a time."""
    left, before = iter(rows), ""
    while some := list(islice(left, _ROWS)):
        yield (before + "\n" + ",\n".join(some)).encode()
        before = ","


def sync_folder(folder: Path) -> None:
    """Make a rename inside `folder` survive a power cut."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
