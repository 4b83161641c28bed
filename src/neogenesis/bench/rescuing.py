"""A rescue of a connected drive, and salvage of its files: what the command line and the window both call."""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from neogenesis.bench.care import temperature_of, waiting
from neogenesis.bench.clock import BenchClock
from neogenesis.bench.drives import clock_factor, confirm_tail, open_sealed, open_target, same_bytes
from neogenesis.bench.names import write_names
from neogenesis.bench.simulated import SimulatedDrive
from neogenesis.bench.worker import only_worker, steered_by_signals
from neogenesis.core.errors import BadArgument, BadRecord, Refused
from neogenesis.core.filesystem.names import Touched, files_touching
from neogenesis.core.rescue import PASSES, Rescue, RescueMap, Rests, load_map
from neogenesis.core.salvage import Salvage, SalvageSummary, wanted_files
from neogenesis.core.salvage.run import each_kind
from neogenesis.core.survey import Drive, survey_drive
from neogenesis.core.transfer import Control, Event
from neogenesis.core.transfer.identify import check_tail
from neogenesis.core.units import both_text

#: Into so many stretches a drive is divided when a rescue tells how it stands.
_STRETCHES = 480


@dataclass(frozen=True, slots=True)
class RescueNews:
    """How a rescue stands: its pass, its map, where it reads, and the slowest read since the news before.

    `resting` says why the drive is being left alone, if it is; `celsius` is None where no sensor tells.
    """

    name: str
    map: RescueMap
    place: int
    slowest_read_s: float
    celsius: float | None
    resting: str = ""


class Outline:
    """Turns news into what is told of them: a sketch of the map, the slowest read since the last time, and more.

    A map of a million regions takes long to sketch, so that is done for at most a twentieth of the time.
    """

    def __init__(self) -> None:
        self._news: RescueNews | None = None
        self._slowest_s = 0.0
        self._sketch, self._again_at = "", 0.0

    def hear(self, news: RescueNews) -> None:
        self._news, self._slowest_s = news, max(self._slowest_s, news.slowest_read_s)

    def event(self) -> Event:
        """What there is to tell now."""
        news, slowest, self._slowest_s = self._news, self._slowest_s, 0.0
        if news is None:
            return Event(event="progress")
        began = time.monotonic()
        if began >= self._again_at:
            self._sketch = news.map.outline(_STRETCHES)
            self._again_at = time.monotonic() + 20 * (time.monotonic() - began)
        lost, postponed = news.map.total("lost"), news.map.total("postponed")
        return Event(
            event="progress",
            text=news.name,
            place_bytes=news.place,
            slowest_read_s=slowest,
            lost_bytes=lost + postponed,
            figures={
                "outline": self._sketch,
                "read_bytes": news.map.total("read"),
                "lost_bytes": lost,
                "postponed_bytes": postponed,
                "celsius": news.celsius,
            },
        )


@dataclass(frozen=True, slots=True)
class Rescued:
    """What was had, in bytes, and which files lost something."""

    read_bytes: int
    lost_bytes: int
    open_bytes: int
    requested_bytes: int
    touched: tuple[Touched, ...]
    names: Path


def parse_passes(text: str) -> tuple[tuple[str, ...], int]:
    """The passes named in `first,forward,retry=5`, and how often lost sectors are tried again. Raises BadArgument."""
    names, retries = [], 2
    for part in (p.strip() for p in text.split(",") if p.strip()):
        name, _, count = part.partition("=")
        if name not in PASSES or (count and (name != "retry" or not count.isdigit() or int(count) > 100)):
            raise BadArgument(f"--passes does not know “{part}”.", f"Name some of {', '.join(PASSES)} (retry=N).")
        names.append(name)
        retries = int(count) if count else retries
    return tuple(names) or PASSES, retries


def rescue_drive(
    drive: str,
    target: str,
    map_path: Path,
    tail: str,
    passes: Sequence[str] = PASSES,
    retries: int = 2,
    tell: Callable[[RescueNews], None] = lambda news: None,
) -> Rescued:
    """Rescue `drive` onto `target`, which is made as an image file where there is none. Goes on with a map that exists.

    Raises Refused or BadArgument while nothing has been written, Stopped when the drive vanished or on request.
    """
    map_path = map_path.absolute()
    opened = open_sealed(drive)
    try:
        if same_bytes(drive, target):
            raise Refused("target-is-source", f"“{target}” is the old drive itself; it is sealed.", "Name another.")
        if opened.drive.mounted:
            raise Refused("mounted", "The old drive is mounted; nothing was written.", "Unmount it.")
        made = _make_image_file(Path(target), opened.drive, tail, map_path)
        control = Control()
        with only_worker(map_path), steered_by_signals(control):
            goal = open_target(target, opened.drive.sector_size)
            try:
                if not made:
                    check_tail(tail, confirm_tail(goal.drive))
                if goal.drive.size_bytes < opened.drive.size_bytes:
                    raise Refused(
                        "too-small",
                        "The new drive is smaller than the old one; nothing was written.",
                        "Take a larger one.",
                    )
                source = {"serial": opened.drive.serial, "size_bytes": opened.drive.size_bytes}
                found = _map_of(map_path, opened.drive, source)
                simulated = opened.store if isinstance(opened.store, SimulatedDrive) else None
                clock = BenchClock(clock_factor(drive), lambda: simulated.passed_s if simulated else 0.0)

                def news(name: str, current: RescueMap, resting: str = "") -> None:
                    slowest, rescue.slowest_read_s = rescue.slowest_read_s, 0.0
                    tell(RescueNews(name, current, rescue.place, slowest, rests.celsius, resting))

                rests = Rests(
                    temperature_of(opened),
                    waiting(opened, control),
                    lambda why: news(rescue.current_pass, found, why),
                )
                rescue = Rescue(
                    opened.store,
                    goal.store,
                    found,
                    control,
                    clock,
                    lambda current: current.save(map_path, source),
                    news,
                    retries,
                    rests,
                    (lambda: simulated.busy_s) if simulated else None,
                )
                rescue.run(opened.drive, passes)
                return _result(rescue, map_path)
            finally:
                goal.close()
    finally:
        opened.close()


def _make_image_file(target: Path, drive: Drive, tail: str, map_path: Path) -> bool:
    """A sparse file of the drive's size, where nothing stands yet; the typed tail must fit its name."""
    if target.exists() or target.name.endswith(".drive.json"):
        return False
    if map_path.exists():
        raise Refused(
            "target-missing",
            f"“{target}” is gone, but its map is there; nothing was written.",
            "Bring it back, or name another map.",
        )
    if not target.parent.is_dir():
        raise BadArgument(f"There is no folder “{target.parent}”.", "Make it first.")
    check_tail(tail, target.stem[-4:])
    try:
        with target.open("xb") as file:
            os.ftruncate(file.fileno(), drive.size_bytes)
    except OSError as error:
        raise BadRecord(f"“{target}” cannot be written ({error.strerror}).", "Choose another place.") from error
    return True


def _map_of(path: Path, drive: Drive, source: dict[str, object]) -> RescueMap:
    if path.exists():
        return load_map(path, drive.size_bytes, source)
    return RescueMap(drive.size_bytes)


def _result(rescue: Rescue, map_path: Path) -> Rescued:
    lost = rescue.map.ranges("lost").union(rescue.map.ranges("postponed"))
    touched: list[Touched] = []
    if lost and rescue.surveyed is not None:
        parts = rescue.surveyed.survey.partitions
        volumes = [(p.number, p.start_bytes, p.size_bytes) for p in parts if p.volume.understood]
        touched = list(files_touching(rescue.target, volumes, lost))
    names = map_path.with_name(f"{map_path.stem}.files.csv")
    write_names(names, touched)
    return Rescued(
        rescue.map.total("read"),
        rescue.map.total("lost"),
        rescue.map.total("postponed") + rescue.map.total("untried"),
        rescue.requested_bytes,
        tuple(touched),
        names,
    )


def salvage_files(
    drive: str,
    folder: Path,
    volume: int | None,
    include: Sequence[str],
    exclude: Sequence[str],
    tell: Callable[[Sequence[tuple[str, int, int]]], None] = lambda kinds: None,
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> SalvageSummary:
    """Copy files out of a drive into `folder`; `tell` hears first how much there is of each kind.

    Raises Refused when there is no room, BadArgument, WriteFailed or Stopped.
    """
    folder = folder.absolute()
    control = Control()
    with steered_by_signals(control):
        return _salvage(drive, folder, volume, include, exclude, tell, progress, control)


def _salvage(
    drive: str,
    folder: Path,
    volume: int | None,
    include: Sequence[str],
    exclude: Sequence[str],
    tell: Callable[[Sequence[tuple[str, int, int]]], None],
    progress: Callable[[int, int], None],
    control: Control,
) -> SalvageSummary:
    opened = open_sealed(drive)
    try:
        if opened.drive.mounted:
            raise Refused("mounted", "The drive is mounted; nothing was written.", "Unmount it.")
        survey = survey_drive(opened.store, opened.drive).survey
        if volume is not None and survey.partition(volume) is None:
            raise BadArgument(f"The drive has no partition {volume}.", "See its survey for the numbers.")
        wanted, left_out = wanted_files(opened.store, survey, volume, tuple(include), tuple(exclude))
        if not wanted:
            why = f" ({'; '.join(left_out)})" if left_out else ""
            raise Refused("nothing-found", f"No file was found to copy{why}; nothing was written.", "Check patterns.")
        tell(list(each_kind(wanted)))
        try:
            folder.mkdir(parents=True, exist_ok=True)
            room = shutil.disk_usage(folder).free
        except OSError as error:
            raise BadArgument(f"“{folder}” cannot be made ({error.strerror}).", "Choose another folder.") from error
        needed = sum(w.size_bytes for w in wanted)
        if needed > room and not (folder / "salvage.jsonl").exists():
            raise Refused(
                "too-small",
                f"The folder has room for {both_text(room)}, and {both_text(needed)} are to be copied; "
                "nothing was written.",
                "Choose another folder, or copy less with --include.",
            )
        with only_worker(folder / "salvage"):
            clock = BenchClock(clock_factor(drive))
            return Salvage(opened.store, survey, folder, control, clock, progress).run(wanted, left_out)
    finally:
        opened.close()
