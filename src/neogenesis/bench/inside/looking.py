"""Looks at a connected drive that take longer than a survey: what fills it, and how fast it reads."""

from __future__ import annotations

import csv
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from neogenesis.bench.drives import open_sealed, open_source, refuse_empty
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.register import allow_output
from neogenesis.core.csv_rows import plain_row
from neogenesis.core.errors import BadArgument, BadRecord, Damaged
from neogenesis.core.store import RangeView
from neogenesis.core.survey import Survey
from neogenesis.core.survey.filling import FillCount, Filling, kind_of_path
from neogenesis.core.survey.profile import Sounding, SpeedProfile, profile_drive, refuse_to_stress
from neogenesis.core.system import LISTED_KINDS, FileTree

_MOST_FILES = 6_000_000
_LONGEST_S = 300.0
_TELL_EVERY = 20_000
_ALL = 1 << 40
#: The record of the list of files itself, documented as the first.
_MFT = 0


class Counted(NamedTuple):
    """How far a count has come."""

    files: int
    bytes: int


def fillable(survey: Survey) -> list[int]:
    """Numbers of the partitions whose files can be listed, the largest in use first."""
    listed = [p for p in survey.partitions if p.volume.kind in LISTED_KINDS]
    return [p.number for p in sorted(listed, key=lambda p: -p.volume.used_bytes)]


def what_fills(
    name: str,
    survey: Survey,
    number: int,
    tell: Callable[[Counted], object] = lambda counted: None,
    longest_s: float = _LONGEST_S,
    most_files: int = _MOST_FILES,
) -> Filling:
    """Count the files of one partition, sealed. Cut off after so long or so many files, and then said so.

    Raises BadArgument for a partition without files, Damaged when they cannot be listed at all.
    """
    partition = survey.partition(number)
    if partition is None or partition.volume.kind not in LISTED_KINDS:
        known = ", ".join(map(str, fillable(survey))) or "none"
        raise BadArgument(f"Partition {number} has no files that can be listed.", f"Those that have: {known}.")
    began, count, complete = time.monotonic(), FillCount(), True
    opened = open_source(name)
    try:
        size = min(partition.size_bytes, opened.store.size_bytes - partition.start_bytes)
        tree = open_tree(RangeView(opened.store, partition.start_bytes, size))
        try:
            pieces = _metadata_runs(tree, partition.volume.kind)
            for path, length, not_here in tree.walk_counted(_ALL):
                if count.files >= most_files:
                    complete = False
                    break
                count.add(path, length, not_here)
                if count.files % _TELL_EVERY == 0:
                    tell(Counted(count.files, count.bytes))
                    if time.monotonic() - began > longest_s:
                        complete = False
                        break
        except Damaged:
            if not count.files:
                raise
            complete = False
        finally:
            tree.close()
    finally:
        opened.close()
    volume = partition.volume
    seconds = time.monotonic() - began
    return count.filling(survey.fingerprint, number, volume.size_bytes, volume.used_bytes, complete, seconds, pieces)


def _metadata_runs(tree: FileTree, kind: str) -> int:
    """In how many pieces the list of all files of an NTFS volume lies; 0 for others."""
    try:
        return len(tree.runs_of_inode(_MFT)) if kind == "ntfs" else 0
    except Damaged:
        return 0


#: How such a table begins.
FILLING_HEAD = b"what,name,kind,bytes,files\r\n"


def write_filling(path: Path, filling: Filling) -> None:
    """Kinds, people, folders and the largest files as one CSV; raises BadRecord."""
    allow_output(path, "table", force=True)  # whoever asks has settled whose file it replaces
    try:
        with path.open("w", newline="", encoding="utf-8", errors="surrogateescape") as file:
            file.write(FILLING_HEAD.decode())
            rows = csv.writer(file)
            rows.writerows(("kind", s.name, s.name, s.bytes, s.files) for s in filling.kinds)
            rows.writerows(plain_row(("person", s.name, "", s.bytes, s.files)) for s in filling.people)
            folders = (("folder", s.name, kind_of_path(s.name), s.bytes, s.files) for s in filling.folders)
            rows.writerows(plain_row(row) for row in folders)
            files = (("file", f.path, kind_of_path(f.path), f.bytes, 1) for f in filling.largest)
            rows.writerows(plain_row(row) for row in files)
    except OSError as error:
        raise BadRecord(f"“{path}” cannot be written ({error.strerror}).", "Choose another place.") from error


def read_speed(name: str, survey: Survey, tell: Callable[[Sounding], object] = lambda sounding: None) -> SpeedProfile:
    """Sample how fast a drive reads, sealed; raises Refused for one that is not to be stressed."""
    refuse_to_stress(survey.health)
    opened = open_sealed(name)
    try:
        refuse_empty(name, opened.drive)
        places = [(p.number, p.start_bytes, p.end_bytes) for p in survey.partitions]
        return profile_drive(opened.store, opened.seconds, places, survey.fingerprint, tell)
    finally:
        opened.close()
