"""How far an image, restore, rescue, salvage or stick is, as its events tell it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from neogenesis.app.transfer.progress import with_point
from neogenesis.core.work import Event


@dataclass(frozen=True, slots=True)
class Lane:
    """How one of several targets stands. `outcome` is empty while it goes on, then a severity."""

    target: str
    phase: str = ""
    now: str = ""
    copied_bytes: int = 0
    total_bytes: int = 0
    rate_bytes_per_s: float = 0.0
    left_s: tuple[float, float] | None = None
    outcome: str = ""
    text: str = ""
    remedy: str = ""

    @property
    def share(self) -> float:
        return self.copied_bytes / max(1, self.total_bytes)

    @property
    def carried_bytes(self) -> int:
        """Copied, and then read back, one after the other."""
        if self.phase == "fill":  # nothing is on the drive yet
            return 0
        return self.copied_bytes + (self.total_bytes if self.phase == "verify" else 0)

    def after(self, event: Event) -> Lane:
        if event.event == "progress":
            return replace(
                self,
                phase=event.phase,
                copied_bytes=event.copied_bytes,
                total_bytes=event.total_bytes,
                rate_bytes_per_s=event.rate_bytes_per_s,
                left_s=event.left_s,
            )
        if event.event == "operation":
            return replace(self, now=event.text)
        if event.code == "target-done":
            return replace(self, outcome="good", text=event.text)
        if event.code == "target-dropped":
            return replace(self, outcome="stop", text=event.text, remedy=event.remedy)
        return self


@dataclass(frozen=True, slots=True)
class Heard:
    """`lanes` by their target; `course` is bytes done over seconds, `soundings` the slowest read at each place."""

    started_wall: str = ""
    pace: float = 1.0
    latest: Event | None = None
    outcome: Event | None = None
    resting: str = ""
    outline: str = ""
    course: tuple[tuple[float, float], ...] = ()
    soundings: tuple[tuple[int, float], ...] = ()
    lanes: Mapping[str, Lane] = field(default_factory=dict)
    files: tuple[tuple[int, str, int, int], ...] = ()
    files_count: int = 0

    def figure(self, name: str) -> float | None:
        """A number of the latest progress."""
        value = self.latest.figures.get(name) if self.latest else None
        return float(value) if isinstance(value, int | float) else None

    def after(self, event: Event) -> Heard:
        """How it stands once `event` was heard."""
        if event.target:
            return self._with_lane(event)
        if event.event == "outcome":
            return replace(self, outcome=event)
        if event.event == "start":
            return replace(self, started_wall=event.wall, pace=float(event.figures.get("pace", 1.0)))
        if event.code == "resting":
            return replace(self, resting=event.text)
        if event.code == "files-touched":
            files = tuple(tuple(row) for row in event.figures.get("files", []))
            return replace(self, files=files, files_count=int(event.figures.get("count", 0)))
        if event.event != "progress":
            return self
        return replace(
            self,
            latest=event,
            resting="",
            outline=str(event.figures.get("outline", self.outline)),
            course=self._course_with(event.time_s, event.copied_bytes),
            soundings=with_point(self.soundings, (event.place_bytes, event.slowest_read_s)),
        )

    def _with_lane(self, event: Event) -> Heard:
        lane = self.lanes.get(event.target, Lane(event.target)).after(event)
        then = replace(self, lanes={**self.lanes, event.target: lane})
        if event.event != "progress":
            return then
        carried = sum(one.carried_bytes for one in then.lanes.values())
        return replace(then, latest=event, course=self._course_with(event.time_s, carried))

    def _course_with(self, time_s: float, done_bytes: float) -> tuple[tuple[float, float], ...]:
        later = not self.course or time_s > self.course[-1][0]
        return with_point(self.course, (time_s, done_bytes)) if later else self.course
