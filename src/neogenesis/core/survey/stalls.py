"""A drive that stalls while it is surveyed is left alone: the survey goes on with as few reads as it can."""

from __future__ import annotations

from collections.abc import Callable

from neogenesis.core.drive import Health, Reason
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.extent import Extents
from neogenesis.core.judgement import judgement
from neogenesis.core.store import ReadableStore


class Stalled(NeogenesisError):
    """One read took so long that no further one is asked for."""


class StallWatch(ReadableStore):
    """Reads `base` until one read stalls; then raises Stalled, for that one and for all that follow.

    `now` gives seconds by the drive's own time.
    """

    def __init__(self, base: ReadableStore, now: Callable[[], float]) -> None:
        self._base, self._now = base, now
        self.size_bytes, self.sector_size = base.size_bytes, base.sector_size
        self.longest_s = 0.0
        self.has_stalled = False

    def read_into(self, offset: int, buffer: memoryview) -> None:
        if self.has_stalled:
            raise Stalled("The drive stalls; nothing more was read from it.", "Image it first, gently.")
        began = self._now()
        try:
            self._base.read_into(offset, buffer)
        finally:
            took = self._now() - began
            self.longest_s = max(self.longest_s, took)
            self.has_stalled = took > judgement().rescue.stall_s
        if self.has_stalled:
            raise Stalled("The drive stalls; nothing more was read from it.", "Image it first, gently.")

    def extents_with_data(self) -> Extents:
        return self._base.extents_with_data()


def stalling(health: Health, seconds: float) -> Health:
    """The verdict on a drive that stalled, whatever its readings say: at least to be copied now, image first."""
    reason = Reason(
        code="stalls",
        text=f"it stood still for {seconds:.0f} s while it was read",
        attribute="read",
        value=round(seconds, 1),
        threshold=judgement().rescue.stall_s,
    )
    verdict = health.verdict if health.is_failing else "copy-now"
    return Health(
        verdict=verdict,
        reasons=(*(r for r in health.reasons if r.code != "no-readings"), reason),
        image_first=True,
        temperature_c=health.temperature_c,
        hours=health.hours,
        remaining_percent=health.remaining_percent,
    )
