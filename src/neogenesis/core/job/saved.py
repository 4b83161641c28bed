"""What was saved from the old drive into files, as the logbook tells it: a source in its stead."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from neogenesis.core.job.model import LogEntry

#: Beside the plan in the dossier: what a rescue of this job has read.
RESCUE_MAP = "rescue.map.json"

SavedAs = Literal["image", "rescue"]
_KINDS: tuple[SavedAs, ...] = ("image", "rescue")


@dataclass(frozen=True, slots=True)
class Saved:
    """`place` is the image, or the file or drive that a rescue went onto."""

    kind: SavedAs
    place: str


def saved_in(log: Iterable[LogEntry]) -> tuple[Saved, ...]:
    """Images and rescues that came to their end, the newest first, each place once."""
    begun, found = dict[str, str](), list[Saved]()
    for entry in log:
        for kind in _KINDS:
            if entry.kind == f"{kind}-start":
                begun[kind] = str(entry.figures.get("place", ""))
            elif entry.kind in (f"{kind}-done", f"{kind}-partial") and begun.get(kind):
                found.append(Saved(kind, begun[kind]))
    return tuple(dict.fromkeys(reversed(found)))
