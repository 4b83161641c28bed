"""The one door to files that a person names: none of them is a drive, an image, or somebody else's file.

Our own partial files stand beside what they become, so a folder of devices is no place for them either.
"""

from __future__ import annotations

import os
import re
import stat
import zlib
from collections.abc import Iterable
from contextlib import closing, suppress
from pathlib import Path
from typing import Literal

from neogenesis.bench.drives import provider_of
from neogenesis.bench.drives.system import BlockSystem, among_devices, file_key
from neogenesis.bench.register.register import existing_register
from neogenesis.core.errors import BadArgument, Refused

Kind = Literal["plan", "events", "region-map", "undo", "proof", "table", "picture", "paper", "bundle", "log", "image"]
_HEAD_BYTES = 1 << 16
_STREAMS = ("events", "log")
_NAMES: dict[Kind, str] = {
    "plan": "plan",
    "events": "record of events",
    "region-map": "region map",
    "undo": "record of a remedy",
    "proof": "proof",
    "table": "table",
    "picture": "picture",
    "paper": "paper",
    "bundle": "report of a fault",
    "log": "log",
    "image": "image",
}
#: Character devices that swallow or pass on what is written to them.
_PASSING = re.compile(r"/dev/(null|stdout|stderr|tty|fd/\d+)|/proc/self/fd/\d+")
_LOG = re.compile(rb"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d,\d{3} [A-Z]+ neogenesis ")
_MARK = b"Neogenesis"
_PNG = b"\x89PNG\r\n\x1a\n"
_ZIP_FIRST = b"versions"


def allow_output(
    path: Path, kind: Kind, of: Iterable[str] = (), bench: str = "", force: bool = False, head: bytes = b""
) -> Path:
    """`path`, if a file of that kind may be written there; `of` are the drives and images of the command.

    `head` is how a table of that kind begins. Raises Refused: `output` for what is, or holds, a drive, whatever `force`
    says; `exists` for any other file that is not one of ours of that kind, unless `force`.
    """
    if not path.name:
        raise BadArgument("The name of the file is empty.", "Name one.")
    if kind in _STREAMS and _PASSING.fullmatch(str(path)):
        return path
    try:
        status = path.stat()
    except OSError:
        if among_devices(path):
            raise _is_drive(path, "it would stand among the devices") from None
        return path
    if kind in _STREAMS and stat.S_ISFIFO(status.st_mode):
        return path
    if stat.S_ISDIR(status.st_mode):
        raise BadArgument(f"“{path}” is a folder.", "Name a file in it.")
    if not stat.S_ISREG(status.st_mode):
        raise _is_drive(path, "it is a device")
    if among_devices(path):
        raise _is_drive(path, "it stands among the devices")
    key = file_key(status)
    for name in of:
        if key in _backing(name):
            same = "a drive of this command" if Path(name) == path else f"the same file as “{name}”"
            raise _is_drive(path, f"it is {same}")
    if BlockSystem().loops_on(status):
        raise _is_drive(path, "a device stands on it")
    if _is_known(bench, key, status.st_size):
        raise _is_drive(path, "the register knows it as a drive")
    if status.st_size and kind == "image":
        raise Refused(
            "exists",
            f"“{path}” exists already; a finished image is never written over, and nothing was written.",
            "Name another file, or move that one away.",
        )
    if status.st_size and not _is_ours(path, kind, head):
        if _looks_like_drive(path):
            raise _is_drive(path, "it is an image")
        if not force:
            raise Refused(
                "exists",
                f"“{path}” is there already and is no {_NAMES[kind]} of ours; nothing was written.",
                "Name another file, or add --force to replace it.",
            )
    return path


def allow_folder(path: Path, of: Iterable[str] = ()) -> Path:
    """`path`, if files may be put into it. Raises Refused for a drive, BadArgument for any other file."""
    if path.exists() and not path.is_dir():
        if not path.is_file() or any(file_key(path.stat()) in _backing(name) for name in of) or _looks_like_drive(path):
            raise _is_drive(path, "it is a device or an image")
        raise BadArgument(f"“{path}” is a file.", "Name a folder.")
    if among_devices(path):
        raise _is_drive(path, "it would stand among the devices")
    return path


def marked_picture(data: bytes) -> bytes:
    """A PNG that says who made it, so that it may be made anew in the same place."""
    if not data.startswith(_PNG):
        return data
    text = b"tEXt" + b"Software\0" + _MARK
    chunk = (len(text) - 4).to_bytes(4, "big") + text + zlib.crc32(text).to_bytes(4, "big")
    after = len(_PNG) + 25  # the header chunk stands first, with its 13 bytes
    return data[:after] + chunk + data[after:]


def _is_drive(path: Path, why: str) -> Refused:
    return Refused(
        "output", f"“{path}” is not written to: {why}; nothing was written.", "Name a file of its own for it."
    )


def _backing(name: str) -> set[str]:
    with suppress(OSError):
        return provider_of(name).backing(name)
    return set()


def _is_known(bench: str, key: str, size_bytes: int) -> bool:
    """Whether the register knows a file as a drive; no where there is none. Raises Refused."""
    register = existing_register(bench)
    if register is None:
        return False
    with closing(register):
        return register.is_drive(key, size_bytes)


def _is_ours(path: Path, kind: Kind, head: bytes) -> bool:
    try:
        with path.open("rb") as file:
            first = file.read(_HEAD_BYTES)
            file.seek(max(0, os.fstat(file.fileno()).st_size - _HEAD_BYTES))
            last = file.read(_HEAD_BYTES)
    except OSError:
        return False
    if kind == "table":
        return bool(head) and first.startswith(head)
    if kind == "log":
        return _LOG.match(first) is not None
    if kind == "picture":
        return first.startswith(_PNG) and _MARK in first
    if kind == "paper":
        return first.startswith(b"%PDF-") and any(m in part for part in (first, last) for m in _paper_marks())
    if kind == "bundle":
        return first.startswith(b"PK") and _ZIP_FIRST in first[:80]
    whose = rb'(?:"ticket":\s*"(?:[^"\\]|\\.){0,400}",\s*)?'  # a record in a dossier says so first
    return re.match(rb"\s*\{\s*" + whose + rb'"schema":\s*"neogenesis\.' + kind.encode() + rb"/", first) is not None


def _paper_marks() -> tuple[bytes, ...]:
    """The mark as PDF writers put it: plain, or in two-byte characters."""
    return _MARK, _MARK.decode().encode("utf-16-be")


def _looks_like_drive(path: Path) -> bool:
    """Whether a file begins as drives and images do."""
    try:
        with path.open("rb") as file:
            head = file.read(_HEAD_BYTES)
    except OSError:
        return True
    table = head[510:512] == b"\x55\xaa" or b"EFI PART" in (head[512:520], head[4096:4104])
    return table or head.startswith(b"QFI\xfb") or head[1080:1082] == b"\x53\xef" or head[65600:65608] == b"_BHRfS_M"
