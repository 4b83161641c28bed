"""Folders from which people's files return: a salvage with its records, or any folder of files."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

import msgspec

from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.reinstall.returned import GivingBack, Held, give_back
from neogenesis.core.salvage import Saved

_RECORDS = ("salvage.jsonl", "salvage.json", "salvage.lock")
_MOST_FILES, _HEAD = 5_000_000, 8


def look_through(folder: Path, family: str, programs: bool, kinds: frozenset[str] = frozenset()) -> GivingBack:
    """What of a folder would return. Raises BadArgument when it is not there, BadRecord for damaged records."""
    if not folder.is_dir():
        raise BadArgument(f"The folder of files “{folder}” is not there.", "Check the name.")
    return give_back(_with_heads(folder), family, programs, kinds)


def _with_heads(folder: Path) -> Iterator[tuple[Held, bytes]]:
    for held in held_files(folder):
        try:
            with open_beneath(folder, held.stored) as file:
                yield held, file.read(_HEAD)
        except OSError:
            continue  # it was taken away since


def held_files(folder: Path) -> Iterator[Held]:
    """By the records of a salvage where they are there, else what lies in the folder."""
    record = folder / _RECORDS[0]
    if record.is_file():
        yield from _of_salvage(record)
        return
    count = 0
    for place, _, names in os.walk(folder):
        for name in sorted(names):
            count += 1
            if count > _MOST_FILES:
                raise BadArgument(f"“{folder}” holds too many files.", "Give a smaller folder.")
            path = Path(place) / name
            if path.is_symlink() or not path.is_file() or name in _RECORDS:
                continue
            inner = path.relative_to(folder).as_posix()
            status = path.stat()
            yield Held(stored=inner, path=inner, size_bytes=status.st_size, modified_s=status.st_mtime)


def _of_salvage(record: Path) -> Iterator[Held]:
    decoder = msgspec.json.Decoder(Saved)
    latest: dict[str, Saved] = {}
    with record.open("rb") as lines:
        for line in lines:
            if not line.endswith(b"\n"):
                break  # cut off while it was written
            try:
                one = decoder.decode(line)
            except (msgspec.MsgspecError, UnicodeDecodeError) as error:
                raise BadRecord(f"The record “{record.name}” is damaged ({error}).", "Salvage again.") from error
            latest[one.saved_as] = one
    for one in latest.values():
        if one.saved_as and not one.fault:
            yield Held(
                stored=one.saved_as,
                path=one.path,
                size_bytes=one.size_bytes,
                blake3=one.blake3,
                lost_bytes=one.lost_bytes,
                modified_s=one.modified_s,
            )


def open_beneath(folder: Path, name: str) -> BinaryIO:
    """A file below a folder, following no link on the way. Raises OSError."""
    parts = name.split("/")
    at = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        for part in parts[:-1]:
            if part in ("", ".", ".."):
                raise OSError(22, "no name")
            deeper = os.open(part, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=at)
            os.close(at)
            at = deeper
        file = os.open(parts[-1], os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK, dir_fd=at)
    finally:
        os.close(at)
    if not stat.S_ISREG(os.fstat(file).st_mode):
        os.close(file)
        raise OSError(22, "no file")
    return os.fdopen(file, "rb")
