"""What a transfer tells while it runs: one JSON object a line."""

from __future__ import annotations

from typing import Any, Literal

from neogenesis.core.record import Record
from neogenesis.core.system import LostFile

EventKind = Literal["start", "operation", "progress", "finding", "note", "paused", "resumed", "outcome"]


class Event(Record, frozen=True, kw_only=True, omit_defaults=True, tag_field="schema", tag="neogenesis.events/1"):
    """Times are seconds of the transfer's clock since it started; `wall` is the time of day.

    `copied_bytes` of `total_bytes` counts what the current phase has done (copy, verify, or fill: files for a volume,
    half when they are put there, whole when they were compared); `place_bytes` is where the old drive is being read,
    `target_bytes` where the new one is written. `left_s` is the range of the time left for everything that is still to
    do. `target` names the drive where one source goes onto several.
    """

    event: EventKind
    time_s: float = 0.0
    wall: str = ""
    operation: int = -1
    operations: int = 0
    phase: str = ""
    text: str = ""
    partition: int | None = None
    partition_bytes: int = 0
    copied_bytes: int = 0
    total_bytes: int = 0
    rate_bytes_per_s: float = 0.0
    slowest_read_s: float = 0.0
    place_bytes: int = 0
    target_bytes: int = 0
    left_s: tuple[float, float] | None = None
    lost_bytes: int = 0
    code: str = ""
    remedy: str = ""
    outcome: Literal["", "done", "partial", "stopped", "refused", "mismatch", "failed"] = ""
    target: str = ""
    figures: dict[str, Any] = {}


class Outcome(Record, frozen=True, kw_only=True):
    """How a transfer ended; nothing overwrites it. `finished_before`: it was asked to go on, and was done already.

    `seconds` are those of all its legs, without the pauses; `lost_files` are named where somebody has looked. `notes`
    say what a new volume was not given.
    """

    kind: Literal["done", "partial"]
    copied_bytes: int
    verified_bytes: int
    lost: tuple[tuple[int, int], ...]
    seconds: float
    manifest_hash: str
    finished_before: bool = False
    paused_seconds: float = 0.0
    lost_files: tuple[LostFile, ...] = ()
    notes: tuple[str, ...] = ()
