"""A transfer between drives that are connected: opening the new one, and leaving it so that it can be pulled out."""

from __future__ import annotations

import time
from collections.abc import Callable

import msgspec

from neogenesis.bench.care import temperature_of
from neogenesis.bench.clock import BenchClock
from neogenesis.bench.drives import OpenDrive, OpenTarget, open_target
from neogenesis.bench.simulated import SimulatedDrive
from neogenesis.bench.tools import FilesystemTools
from neogenesis.core.errors import Refused
from neogenesis.core.plan import Plan
from neogenesis.core.store import FileStore, ReadableStore, ReadWay, SealedFileStore, choose_way
from neogenesis.core.survey import Drive, Surveyed
from neogenesis.core.transfer import Control, Event, Outcome, RunFiles, Transfer
from neogenesis.core.transfer.run import Verify
from neogenesis.core.units import GIB, binary_text, decimal_text

_WORTH_MEASURING_BYTES = GIB
_LOOK_SECONDS = 15.0


def carry_out(
    plan: Plan,
    files: RunFiles,
    source: ReadableStore,
    source_now: Callable[[], tuple[Surveyed, Drive]],
    control: Control,
    clock: BenchClock,
    tell: Callable[[Event], None],
    resume: bool,
    verify: Verify,
) -> Outcome:
    """Run `plan` from an open source; raises NeogenesisError. The new drive is read back past the page cache."""
    planned = plan.target.drive
    if planned is None:
        raise Refused(
            "target-missing",
            "The plan names no drive to write to; nothing was written.",
            "Connect the new drive and plan again with it.",
        )
    target = open_target(planned.path, plan.target.sector_size)
    try:
        if isinstance(target.store, FileStore):
            target.store.use(ReadWay(direct=True))
        _choose_reads(plan, source, clock, tell)
        tell = _with_temperatures(plan, source, target, tell)
        tools, busy_s = FilesystemTools(), _own_clock(source)
        transfer = Transfer(
            plan, source, source_now, target.store, target.drive, files, tools, control, clock, tell, verify, busy_s
        )
        outcome = transfer.run(resume)
        target.store.settle()
        return outcome
    finally:
        target.close()


def _own_clock(source: ReadableStore) -> Callable[[], float] | None:
    """A simulated drive knows better than the wall clock how long its reads take."""
    return (lambda: source.busy_s) if isinstance(source, SimulatedDrive) else None


def _with_temperatures(
    plan: Plan, source: ReadableStore, target: OpenTarget, tell: Callable[[Event], None]
) -> Callable[[Event], None]:
    """Progress also tells how warm both drives are, looked at every few seconds."""
    old = temperature_of(OpenDrive(plan.source.survey.drive, source))
    new = temperature_of(OpenDrive(target.drive, target.store))
    looked, figures = [-_LOOK_SECONDS], dict[str, float | None]()

    def told(event: Event) -> None:
        if event.event == "progress":
            if time.monotonic() - looked[0] >= _LOOK_SECONDS:
                looked[0] = time.monotonic()
                figures.update(old_celsius=old(), new_celsius=new())
            event = msgspec.structs.replace(event, figures={**event.figures, **figures})
        tell(event)

    return told


def _choose_reads(plan: Plan, source: ReadableStore, clock: BenchClock, tell: Callable[[Event], None]) -> None:
    """Measure how the old drive is read best, where that is a real device, sound, and worth the second it takes."""
    worth = plan.estimate.bytes_to_copy >= _WORTH_MEASURING_BYTES
    sound = plan.source.survey.health.verdict != "failing"
    if not (worth and sound and isinstance(source, SealedFileStore) and source.is_block_device):
        return
    way = choose_way(source, clock.now)
    several = "several at a time" if way.side_by_side else "one at a time"
    past = ", past the page cache" if way.direct else ""
    tell(
        Event(
            event="note",
            code="read-way",
            text=f"Reads of {binary_text(way.request_bytes)}, {several}{past}: {decimal_text(int(way.bytes_per_s))}/s.",
            rate_bytes_per_s=way.bytes_per_s,
        )
    )
