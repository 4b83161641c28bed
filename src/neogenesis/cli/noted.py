"""`--job TICKET`: what a work from a shell did stands in that job's logbook, and its records in that job's dossier."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path
from typing import Any

from neogenesis.core.errors import BadArgument, CannotRecord

WORKS = frozenset(
    [
        "transfer",
        "verify",
        "image",
        "restore",
        "rescue",
        "salvage",
        "recipe",
        "install",
        "media",
        "remedy",
        "undo",
        "run-in",
        "library",
    ]
)
_ENDS = {0: "done", 4: "partial", 5: "differs", 6: "stopped"}
#: Where copies of the records stand, apart from those of the window's own works.
FOLDER = "shell"


@dataclass(frozen=True, slots=True)
class NotedJob:
    """The job that a work is done for."""

    ticket: str
    bench: str
    command: str

    @classmethod
    def of(cls, ticket: str | None, arguments: Sequence[str]) -> NotedJob | None:
        """None without a ticket; raises BadArgument for a command that is no work."""
        if ticket is None:
            return None
        command = next((a for a in arguments if not a.startswith("-")), "")
        if command not in WORKS:
            raise BadArgument("--job belongs to works; nothing was done.", "Use “note” to write into a logbook.")
        named = [a.partition("=")[2] for a in arguments if a.startswith("--bench=")]
        named += [after for a, after in pairwise(arguments) if a == "--bench"]
        return cls(ticket, named[-1] if named else "", command)

    def begin(self, arguments: Sequence[str]) -> None:
        """Nothing begins where this raises: BadArgument for a ticket that is none, CannotRecord for a full disk."""
        self._write("shell", f"From a shell: neogenesis {' '.join(arguments)}")

    def end(self, status: int, text: str, records: Sequence[Path], figures: dict[str, Any]) -> str:
        """Returns what could not be kept, as a sentence; the work itself has ended as it has."""
        if status in (2, 3):
            kind, words = "shell", f"Refused, nothing was written: {text}"
        else:
            kind, words = f"{self.command}-{_ENDS.get(status, 'failed')}", text or "Done."
        try:
            kept = self._keep(records)
            self._write(kind, words, **figures, records=kept)
        except (CannotRecord, OSError) as error:
            return f"The job {self.ticket} could not be told of it ({getattr(error, 'text', '') or error})."
        return ""

    def _keep(self, records: Sequence[Path]) -> list[str]:
        """Copies in the dossier, none over another one; returns their names there."""
        from neogenesis.bench.records.opening import existing_records

        with closing(existing_records(self.bench)) as store:
            folder = store.dossier(self.ticket) / FOLDER
        kept = []
        for path in records:
            folder.mkdir(exist_ok=True)
            number, place = 1, folder / path.name
            while place.exists() and place.read_bytes() != path.read_bytes():
                number += 1
                place = folder / f"{path.stem}-{number}{path.suffix}"
            shutil.copyfile(path, place)
            kept.append(f"{FOLDER}/{place.name}")
        return kept

    def _write(self, kind: str, text: str, **figures: Any) -> None:
        from neogenesis.bench.processes.clock import BenchClock
        from neogenesis.bench.processes.folders import login_name
        from neogenesis.bench.records.opening import existing_records

        with closing(existing_records(self.bench)) as store:
            store.job(self.ticket)
            store.append(self.ticket, BenchClock().wall(), login_name(), kind, text, **figures)
