"""Whether two descriptions mean one drive, also where it has no serial: by what its ends hold, or by its file."""

from __future__ import annotations

from dataclasses import dataclass

from neogenesis.core.drive.identity import Identity
from neogenesis.core.drive.mark import is_cleared


@dataclass(frozen=True, slots=True)
class Sighting:
    """A drive as it was met: who it says it is, the mark of its ends (empty: not read), and the files below it."""

    identity: Identity
    mark: str = ""
    files: frozenset[str] = frozenset()


def is_one(one: Sighting, other: Sighting) -> bool:
    """True where both may be one drive, as far as either tells.

    Two serials decide. Else a file that holds both decides, and among files the size as well, since the number of a
    file that is gone is given to another; else equal ends that hold anything; else the place, unless the ends are known
    to differ.
    """
    mine, theirs = one.identity, other.identity
    if mine.serial and theirs.serial:
        return (mine.serial, mine.size_bytes) == (theirs.serial, theirs.size_bytes)
    devices = any(path.startswith("/dev/") for path in (mine.path, theirs.path))
    unknown = not (mine.size_bytes and theirs.size_bytes)  # on record from before sizes were
    if one.files & other.files and (devices or unknown or mine.size_bytes == theirs.size_bytes):
        return True
    if mine.size_bytes != theirs.size_bytes:
        return False
    marked = bool(one.mark and other.mark)
    if marked and one.mark == other.mark and not (one.files or other.files) and not is_blank(one.mark):
        return True
    if mine.serial or theirs.serial:
        return False
    return (mine.path, mine.model) == (theirs.path, theirs.model) and not (marked and one.mark != other.mark)


def is_blank(mark: str) -> bool:
    """Whether nothing stands at either end: many drives are alike in that."""
    half = len(mark) // 2
    return is_cleared(mark[:half]) and is_cleared(mark[half:])
