"""Our JSON records: strict on the way in, complete on disk or not at all on the way out.

Every record carries a schema name with a version. Inside the program a record that was read is trusted.
"""

from __future__ import annotations

import os
import stat
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import count, islice
from pathlib import Path
from types import UnionType
from typing import Any, TypeVar, Union, get_args, get_origin

import msgspec

from neogenesis.core.errors import BadRecord

T = TypeVar("T")
#: In a folder whose records belong to one job: says which, and each record beside it says so too.
OWNER_FILE = "dossier.json"
_LARGEST_BYTES = 1 << 31
_ROWS = 1024
_HEAD_BYTES = 256
_learning = threading.Lock()
_renewals: list[Callable[[Any], bool]] = []
_decoders: dict[type[Any], msgspec.json.Decoder[Any]] = {}


class Record(msgspec.Struct, frozen=True, kw_only=True):
    """Base of everything that crosses a boundary; fields that a later version adds are ignored."""


def to_json(record: Any) -> bytes:
    """Readable UTF-8 JSON, two spaces deep, with a final line feed."""
    return msgspec.json.format(msgspec.json.encode(record), indent=2) + b"\n"


def known_only(value: Any) -> Any:
    """Builtins without the fields that are None: what is not known is left out of a file that people write."""
    if isinstance(value, dict):
        return {k: known_only(v) for k, v in value.items() if v is not None}
    if isinstance(value, list | tuple):
        return [known_only(v) for v in value]
    return value


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
        status = path.stat()
        if stat.S_ISFIFO(status.st_mode):  # reading it would wait for somebody at its other end
            raise BadRecord(f"The {what} “{path}” is a pipe and no file; nothing was written.", "Give the file.")
        if status.st_size > _LARGEST_BYTES:
            raise BadRecord(f"The {what} “{path.name}” is too large to be one of ours.", "Give the right file.")
        text = path.read_bytes()
    except OSError as error:
        raise BadRecord(
            f"The {what} “{path}” cannot be read ({error.strerror}); nothing was written.", "Check the name."
        ) from error
    found = from_json(text, kind, f"{what} “{path.name}”")
    refuse_strange(path, text, what)
    return found


def save(path: Path, record: Any, settled: bool = True) -> None:
    """Replace `path` so that a cut leaves the old file or the whole new one; in a dossier it says whose it is.

    `settled` as in `save_pieces`. Raises BadRecord when the place cannot be written.
    """
    owner = "" if isinstance(record, StrictRecord) else owner_of(path.parent)
    save_pieces(path, (_owned(record, owner) if owner else to_json(record),), settled)


class _Owner(msgspec.Struct, frozen=True):
    ticket: str = ""


_owner = msgspec.json.Decoder(_Owner)


def owner_of(folder: Path) -> str:
    """The ticket of the job whose dossier a folder is; empty where it is none, or does not say."""
    try:
        return _owner.decode((folder / OWNER_FILE).read_bytes()).ticket
    except (OSError, msgspec.MsgspecError):
        return ""


def _owned(record: Any, owner: str) -> bytes:
    """As `to_json`, with the ticket first; a record that names one itself stays as it is."""
    text = msgspec.json.encode(record)
    if not text.startswith(b'{"') or hasattr(record, "ticket"):
        return to_json(record)
    return msgspec.json.format(b'{"ticket":' + msgspec.json.encode(owner) + b"," + text[1:], indent=2) + b"\n"


def refuse_strange(path: Path, text: bytes, what: str) -> None:
    """Raises BadRecord for a record of one job in the dossier of another."""
    try:
        written_for = _owner.decode(text).ticket if b'"ticket"' in text[:_HEAD_BYTES] else ""
    except msgspec.MsgspecError:
        return
    owner = owner_of(path.parent) if written_for else ""
    if owner and written_for != owner:
        raise BadRecord(
            f"The {what} “{path.name}” is of the job {written_for}, and lies in the dossier of {owner}; nothing was "
            "written.",
            "Move it to where it belongs.",
        )


def save_bytes(path: Path, data: bytes) -> None:
    """As `save`, for bytes of any kind. Raises BadRecord when the place cannot be written."""
    save_pieces(path, (data,))


def save_pieces(path: Path, pieces: Iterable[bytes], settled: bool = True) -> None:
    """As `save_bytes`, for what is made piece by piece.

    `settled` False leaves it to `settle` to make it survive a power cut; the end of this process it survives anyway.
    """
    temporary = path.with_name(f".{path.name}.new")
    try:
        with temporary.open("wb") as file:
            file.writelines(pieces)
            if settled:
                file.flush()
                os.fsync(file.fileno())
        temporary.replace(path)
        if settled:
            sync_folder(path.parent)
    except OSError as error:
        raise BadRecord(f"“{path}” cannot be written ({error.strerror}).", "Choose another place.") from error


def set_aside(path: Path) -> Path:
    """Keep a file that cannot be read under a free name beside it; returns where. Raises BadRecord."""
    names = (path.with_name(f"{path.name}.unreadable-{number}") for number in count(1))
    aside = next(name for name in names if not name.exists())
    try:
        path.rename(aside)
    except OSError as error:
        raise BadRecord(f"“{path}” cannot be kept aside ({error.strerror}).", "Check its folder.") from error
    return aside


def settle(path: Path) -> None:
    """Make what was saved unsettled survive a power cut; may take a while. Raises BadRecord."""
    try:
        with path.open("rb") as file:
            os.fsync(file.fileno())
        sync_folder(path.parent)
    except OSError as error:
        raise BadRecord(f"“{path}” cannot be written ({error.strerror}).", "Choose another place.") from error


def in_rows(rows: Iterable[tuple[int, int, str]]) -> Iterator[bytes]:
    """What stands between the brackets of a JSON array with one row a line, many rows at a time.

    The texts of the rows hold no brackets.
    """
    left, before = iter(rows), b"\n"
    while some := list(islice(left, _ROWS)):
        yield before + msgspec.json.encode(some)[1:-1].replace(b"],[", b"],\n[")
        before = b",\n"


def sync_folder(folder: Path) -> None:
    """Make a rename inside `folder` survive a power cut."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


class StrictRecord(Record, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Base of records that people write by hand: a key that is not known is a mistake, not a later version."""


def refuse_faults(faults: Sequence[str], what: str) -> None:
    """Raise BadRecord that names every fault of what people wrote, if there is any."""
    if faults:
        raise BadRecord(f"The {what} cannot be used: {'; '.join(faults)}.", "Correct all of it.")


def strict_from_json(
    text: bytes, kind: type[T], what: str, more: Callable[[T], Iterable[str]] = lambda record: ()
) -> T:
    """As `from_json` for a record that people write; the BadRecord names every fault, not only the first.

    `more` finds what is wrong beyond shape and types; of a record with faults of those it is asked about the rest.
    """
    try:
        raw = msgspec.json.decode(text)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
        raise BadRecord(f"The {what} is not JSON ({error}).", "Correct the file.") from error
    expected = getattr(kind, "SCHEMA", None)
    found = raw.get("schema") if isinstance(raw, dict) else None
    if expected and found != expected:
        raise BadRecord(f"The {what} has the schema “{found}” where “{expected}” was expected.", "Give the right file.")
    try:
        record = msgspec.convert(raw, kind)
    except msgspec.ValidationError:
        refuse_faults([*faults_in(raw, kind), *_faults_of_rest(raw, kind, more)], what)
        return from_json(text, kind, what)
    refuse_faults([*more(record)], what)
    return record


def _faults_of_rest(raw: Any, kind: type[T], more: Callable[[T], Iterable[str]]) -> Iterable[str]:
    """What `more` finds in the fields that are of the right shape; nothing where they alone make no record."""
    if not (isinstance(raw, dict) and issubclass(kind, msgspec.Struct)):
        return ()
    fields = {field.encode_name: field for field in msgspec.structs.fields(kind)}
    sound = {n: v for n, v in raw.items() if n in fields and not faults_in(v, fields[n].type, n)}
    try:
        return more(msgspec.convert(sound, kind))
    except msgspec.ValidationError:
        return ()


def faults_in(raw: Any, kind: Any, where: str = "") -> list[str]:
    """Everything in decoded JSON that keeps it from being a `kind`, each as a clause that names its place."""
    options = get_args(kind) if get_origin(kind) in (Union, UnionType) else (kind,)
    struct = next((o for o in options if isinstance(o, type) and issubclass(o, msgspec.Struct)), None)
    if struct is not None and (isinstance(raw, dict) or len(options) == 1):
        return _struct_faults(raw, struct, where)
    rows = next((o for o in options if get_origin(o) is tuple and get_args(o)[-1] is Ellipsis), None)
    if rows is not None and isinstance(raw, list):
        return [f for n, one in enumerate(raw, 1) for f in faults_in(one, get_args(rows)[0], f"{where}[{n}]")]
    try:
        msgspec.convert(raw, kind)
    except msgspec.ValidationError as error:
        return [f"{where or 'it'}: {str(error)[:1].lower()}{str(error)[1:].partition(' - at ')[0]}"]
    return []


def _struct_faults(raw: Any, kind: type[msgspec.Struct], where: str) -> list[str]:
    if not isinstance(raw, dict):
        return [f"{where or 'it'} is not an object"]
    fields = {field.encode_name: field for field in msgspec.structs.fields(kind)}
    place = f"{where}." if where else ""
    faults = [f"“{place}{key}” is not known" for key in raw if key not in fields]
    for name, field in fields.items():
        if name in raw:
            faults += faults_in(raw[name], field.type, f"{place}{name}")
        elif field.required:
            faults.append(f"“{place}{name}” is missing")
    return faults
