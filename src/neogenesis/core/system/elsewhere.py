"""Files of which the data is not on their drive, or not in a form that can be copied: never copied as if it were."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Literal

from neogenesis.core.record import Record
from neogenesis.core.units import both_text, files_text

NotHere = Literal["", "cloud", "encrypted", "deduplicated", "unreadable"]
#: In words, why the data of a file is not here.
NOT_HERE_WORDS: dict[NotHere, str] = {
    "": "",
    "cloud": "its contents are elsewhere, in an account; only a placeholder is on this drive",
    "encrypted": "it is encrypted by itself, and its key is not here",
    "deduplicated": "its contents are packed together with those of other files, in a way that cannot be read here",
    "unreadable": "its contents are packed by its system, in a way that cannot be read here",
}
_OF_MANY: dict[NotHere, str] = {
    "cloud": "in an account",
    "encrypted": "encrypted one by one, the key is not here",
    "deduplicated": "packed together with other files",
    "unreadable": "packed by their system",
}
_MOST_LINES = 20


class NotHereFile(Record, frozen=True, kw_only=True):
    """A file of which the data is not on the drive, or not in a form that can be copied."""

    path: str
    bytes: int
    why: NotHere


def not_here_lines(files: Sequence[NotHereFile], before: str = "not here: ") -> list[str]:
    """By folder and reason, the largest first: how many files, how large; how many more folders there are."""
    found: defaultdict[tuple[str, NotHere], list[int]] = defaultdict(list)
    for one in files:
        found[one.path.rpartition("/")[0] or "/", one.why].append(one.bytes)
    ordered = sorted(found.items(), key=lambda item: -sum(item[1]))
    lines = [
        f"{before}{folder}: {files_text(len(sizes))}, {both_text(sum(sizes))}, {_OF_MANY[why]}"
        for (folder, why), sizes in ordered[:_MOST_LINES]
    ]
    if len(ordered) > _MOST_LINES:
        rest = [size for _, sizes in ordered[_MOST_LINES:] for size in sizes]
        lines.append(f"{before}{len(rest)} files in {len(ordered) - _MOST_LINES} more folders, {both_text(sum(rest))}")
    return lines
