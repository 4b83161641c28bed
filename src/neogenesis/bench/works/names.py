"""The names of files that lost something: as a table beside the other records, and as an event."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from pathlib import Path

from neogenesis.core.csv_rows import plain_row
from neogenesis.core.errors import BadRecord
from neogenesis.core.system import Touched
from neogenesis.core.work import Event

_MOST_NAMED = 100


def named(touched: Sequence[Touched]) -> Event:
    """The files that lost something, as far as an event should carry them: those that lost most."""
    worst = sorted(touched, key=lambda t: -t.touched_bytes)[:_MOST_NAMED]
    files = [(t.partition, _printable(t.path), t.touched_bytes, t.size_bytes) for t in worst]
    return Event(
        event="note",
        code="files-touched",
        text=f"{len(touched)} files lost something.",
        figures={"count": len(touched), "files": files},
    )


def _printable(path: str) -> str:
    """Names that are no proper text on the old drive can still be told."""
    return path.encode("utf-8", "replace").decode("utf-8")


def write_names(path: Path, touched: Sequence[Touched]) -> None:
    """Files that lost something, as CSV; raises BadRecord."""
    try:
        with path.open("w", newline="", encoding="utf-8", errors="surrogateescape") as file:
            rows = csv.writer(file)
            rows.writerow(["partition", "path", "size_bytes", "lost_bytes"])
            rows.writerows(plain_row((t.partition, t.path, t.size_bytes, t.touched_bytes)) for t in touched)
    except OSError as error:
        raise BadRecord(f"“{path}” cannot be written ({error.strerror}).", "Free space there.") from error
