"""How far a transfer is, as its events tell it: each event makes a new picture out of the one before."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import TypeVar

from neogenesis.core.plan import Plan
from neogenesis.core.work import Event

_MOST_POINTS = 4000
T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Progress:
    """Bytes and seconds of the transfer's own clock. `shares` of each new partition, by its number, from 0 to 1."""

    started_wall: str = ""
    pace: float = 1.0
    phase: str = ""
    now: str = ""
    operation: int = -1
    copied_bytes: int = 0
    total_bytes: int = 0
    rate_bytes_per_s: float = 0.0
    time_s: float = 0.0
    left_s: tuple[float, float] | None = None
    place_bytes: int = 0
    lost_bytes: int = 0
    shares: Mapping[int, float] = field(default_factory=dict)
    checked_share: float = 0.0
    course: tuple[tuple[float, float], ...] = ()
    copied_before: int = 0
    soundings: tuple[tuple[int, float], ...] = ()
    lost: tuple[tuple[int, int], ...] = ()
    findings: tuple[Event, ...] = ()
    files: tuple[tuple[int, str, int, int], ...] = ()
    celsius: tuple[float | None, float | None] = (None, None)
    outcome: Event | None = None

    def after(self, event: Event, plan: Plan | None) -> Progress:
        """How it stands once `event` was heard; of `plan`, if it is known, come the sizes."""
        then = replace(self, time_s=event.time_s)
        if event.event == "progress":
            return then._moved(event, plan)
        if event.event == "start":
            pace = float(event.figures.get("pace", 1.0))
            return Progress(started_wall=event.wall, pace=pace, lost=self.lost, findings=self.findings)
        if event.event == "operation":
            shares = self._whole_before(event, plan)
            return replace(then, operation=event.operation, phase=event.phase, now=event.text, shares=shares)
        if event.event == "finding":
            then = replace(then, findings=(*self.findings, event))
            if event.code != "unreadable":
                return then
            place = (event.place_bytes, event.place_bytes + event.lost_bytes)
            return replace(then, lost=(*self.lost, place), lost_bytes=self.lost_bytes + event.lost_bytes)
        if event.code == "files-touched":
            return replace(then, files=tuple(tuple(row) for row in event.figures.get("files", [])))
        return replace(then, outcome=event) if event.event == "outcome" else then

    def _moved(self, event: Event, plan: Plan | None) -> Progress:
        then = replace(
            self,
            phase=event.phase,
            copied_bytes=event.copied_bytes,
            total_bytes=event.total_bytes,
            rate_bytes_per_s=event.rate_bytes_per_s,
            left_s=event.left_s,
        )
        if event.phase in ("fill", "compare"):  # nothing comes onto the new drive
            return then
        before = self.copied_before
        if event.phase == "verify" and not before and self.course:
            before = int(self.course[-1][1])  # reading back goes on below what was copied
        then = replace(
            then,
            copied_before=before,
            celsius=(event.figures.get("old_celsius"), event.figures.get("new_celsius")),
            course=with_point(self.course, (event.time_s, before + event.copied_bytes)),
        )
        if event.phase == "verify":
            return replace(then, checked_share=event.copied_bytes / max(1, event.total_bytes))
        shares = self.shares
        if plan and event.partition is not None and event.operation >= 0:
            size = plan.operations[event.operation].bytes
            shares = {**shares, event.partition: min(1.0, event.partition_bytes / max(1, size))}
        soundings = with_point(self.soundings, (event.place_bytes, event.slowest_read_s))
        return replace(then, place_bytes=event.place_bytes, soundings=soundings, shares=shares)

    def _whole_before(self, event: Event, plan: Plan | None) -> Mapping[int, float]:
        """Everything that an earlier step copied is whole."""
        earlier = plan.operations[: max(0, event.operation)] if plan else ()
        return {**self.shares, **{o.partition: 1.0 for o in earlier if o.kind == "copy" and o.partition is not None}}


def with_point(points: tuple[T, ...], point: T) -> tuple[T, ...]:
    """One more; when there are too many to draw, every second is left out."""
    longer = (*points, point)
    return longer[::2] if len(longer) > _MOST_POINTS else longer
