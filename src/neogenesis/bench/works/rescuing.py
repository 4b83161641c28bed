"""A rescue of a connected drive, and salvage of its files: what the command line and the window both call."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import msgspec

from neogenesis.bench.drives import OpenDrive, OpenTarget, open_source, provider_of, same_bytes, sighting_of
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.processes.telling import EventsTo
from neogenesis.bench.processes.work import Running, only_worker, run_work
from neogenesis.bench.register import Asked, Consent, allow_folder, allow_output, claimed
from neogenesis.bench.works.names import named, write_names
from neogenesis.bench.works.planning import target_of
from neogenesis.core.drive import Drive, Identity, refuse_mounted, refuse_wrong_tail
from neogenesis.core.errors import BadArgument, OnlyChecked, Refused
from neogenesis.core.rescue import PASSES, MapEnds, Rescue, RescueMap, Rests, distrusted, load_map
from neogenesis.core.salvage import Salvage, SalvageSummary, each_kind, wanted_files
from neogenesis.core.store import LiveStore, WatchedStore
from neogenesis.core.survey import survey_drive
from neogenesis.core.system import Touched, files_touching
from neogenesis.core.units import both_text
from neogenesis.core.work import Event, work_hash

#: Into so many stretches a drive is divided when a rescue tells how it stands.
_STRETCHES = 480


@dataclass(frozen=True, slots=True)
class RescueNews:
    """How a rescue stands: its pass, its map, where it reads, and the slowest read since the news before.

    `celsius` is None where no sensor tells.
    """

    name: str
    map: RescueMap
    place: int
    slowest_read_s: float
    celsius: float | None


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
    lost: tuple[tuple[int, int], ...]
    touched: tuple[Touched, ...]
    names: Path


def parse_passes(text: str) -> tuple[tuple[str, ...], int]:
    """The passes named in `matters,out,again=5`, and how often lost sectors are tried again. Raises BadArgument."""
    names, times_again = [], 2
    for part in (p.strip() for p in text.split(",") if p.strip()):
        name, _, count = part.partition("=")
        if name not in PASSES or (count and (name != "again" or not count.isdigit() or int(count) > 100)):
            raise BadArgument(f"--passes does not know “{part}”.", f"Name some of {', '.join(PASSES)} (again=N).")
        names.append(name)
        times_again = int(count) if count else times_again
    return tuple(names) or PASSES, times_again


def rescue_work(drive: Identity) -> str:
    """What is agreed to when a drive is rescued onto another."""
    return work_hash("rescue", source=msgspec.to_builtins(drive))


def rescue_drive(
    drive: str,
    target: str,
    map_path: Path,
    consent: Consent,
    passes: Sequence[str] = PASSES,
    times_again: int = 2,
    events: Sequence[EventsTo] = (),
    moved: bool = False,
) -> Rescued:
    """Rescue `drive` onto `target`, which is made as an image file where there is none. Goes on with a map that exists.

    `moved`: a drive without a serial came back at another place, which a person says; what was read tells as well.

    Raises Refused or BadArgument while nothing has been written, Stopped when the drive vanished or on request,
    Partial when something could not be read.
    """
    map_path = map_path.absolute()
    with closing(open_source(drive, grip="hold", own_map=map_path)) as opened:
        if same_bytes(drive, target):
            raise Refused("target-is-source", f"“{target}” is the old drive itself; it is sealed.", "Name another.")
        refuse_mounted(opened.drive)
        allow_output(map_path, "region-map", (drive, target), consent.bench)
        made = _make_target(target, opened.drive, consent, map_path)
        held = () if made or map_path.exists() else target_of(target, opened.drive.sector_size).holds
        work = rescue_work(opened.drive.identity)
        asked = Asked(
            "rescue",
            work,
            target,
            opened.drive.sector_size,
            held,
            sighting_of(opened),
            resuming=made or map_path.exists(),
        )

        def body(running: Running) -> Rescued:
            with claimed(consent, asked) as claim:
                done = _rescue(opened, claim.target, map_path, passes, times_again, running, claim.begin, moved)
                claim.outcome = "lost" if done.lost_bytes or done.open_bytes else "done"
                if done.touched:
                    running.frame.tell(named(done.touched))
                return done

        clock = BenchClock(opened.hardware.pace, opened.hardware.passed_s)
        run = consent.confirmed.run if consent.confirmed is not None else ""
        return run_work("rescue", body, map_path, events, clock, _ended, check_only=consent.check_only, run=run)


def _ended(done: Rescued) -> Event:
    if not done.lost_bytes and not done.open_bytes:
        return Event(event="outcome", outcome="done", text="Done.")
    text = f"Done, but {done.lost_bytes + done.open_bytes} bytes of the old drive could not be read."
    return Event(event="outcome", outcome="partial", text=text, remedy="The same work tries them again.")


def _rescue(
    opened: OpenDrive,
    goal: OpenTarget,
    map_path: Path,
    passes: Sequence[str],
    times_again: int,
    running: Running,
    begin: Callable[[], None],
    moved: bool,
) -> Rescued:
    if goal.drive.size_bytes < opened.drive.size_bytes:
        raise Refused(
            "too-small", "The new drive is smaller than the old one; nothing was written.", "Take a larger one."
        )
    ends = MapEnds(opened.drive.identity, goal.drive.identity)
    found = RescueMap(opened.drive.size_bytes)
    if map_path.exists():
        found = load_map(map_path, opened.drive.size_bytes, ends, moved)
        distrusted(found, opened.store, goal.store)
    begin()
    hardware, outline = opened.hardware, Outline()

    def news(name: str, current: RescueMap) -> None:
        fetcher = rescue.fetcher
        slowest, fetcher.slowest_read_s = fetcher.slowest_read_s, 0.0
        outline.hear(RescueNews(name, current, fetcher.place, slowest, rests.celsius))
        tried = current.size_bytes - current.total("untried")
        running.teller.progress("rescue", tried, current.size_bytes, outline.event)

    rests = Rests(
        hardware.temperature_c,
        lambda seconds: hardware.rest(seconds, running.frame.control),
        lambda why: running.frame.tell(Event(event="note", code="resting", text=why)),
    )
    rescue = Rescue(
        opened.store,
        goal.store,
        found,
        open_tree,
        running.frame.control,
        running.clock,
        lambda current: current.save(map_path, ends),
        news,
        times_again,
        rests,
        hardware.busy_clock(),
    )
    rescue.run(opened.drive, passes)
    return _result(rescue, map_path)


def _make_target(target: str, drive: Drive, consent: Consent, map_path: Path) -> bool:
    """An empty image file of the drive's size, where nothing stands yet; the typed tail must fit its name."""
    home = provider_of(target)
    if not home.can_make(target):
        return False
    if map_path.exists():
        raise Refused(
            "target-missing",
            f"“{target}” is gone, but its map is there; nothing was written.",
            "Bring it back, or name another map.",
        )
    if consent.tail is not None:
        refuse_wrong_tail(consent.tail, home.tail(Path(target)))
    if consent.check_only:
        raise OnlyChecked
    home.make(target, drive.size_bytes)
    return True


def _result(rescue: Rescue, map_path: Path) -> Rescued:
    lost = rescue.map.ranges("lost").union(rescue.map.ranges("postponed"))
    touched: list[Touched] = []
    if lost and rescue.surveyed is not None:
        parts = rescue.surveyed.survey.partitions
        volumes = [(p.number, p.start_bytes, p.size_bytes) for p in parts if p.volume.understood]
        touched = list(files_touching(rescue.target, volumes, lost, open_tree))
    names = map_path.with_name(f"{map_path.stem}.files.csv")
    write_names(names, touched)
    return Rescued(
        rescue.map.total("read"),
        rescue.map.total("lost"),
        rescue.map.total("postponed") + rescue.map.total("untried"),
        rescue.fetcher.requested_bytes,
        tuple(rescue.map.ranges("lost")),
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
    events: Sequence[EventsTo] = (),
    check_only: bool = False,
    run: str = "",
    region_map: Path | None = None,
) -> SalvageSummary:
    """Copy files out of a drive into `folder`; `tell` hears first how much there is of each kind.

    Raises Refused when there is no room, BadArgument, WriteFailed or Stopped.
    """
    folder = allow_folder(folder.absolute(), (drive,))
    with closing(open_source(drive, grip="hold", region_map=region_map)) as opened:
        refuse_mounted(opened.drive, "The drive")

        def body(running: Running) -> SalvageSummary:
            live = LiveStore(opened.store, running.frame.control.checkpoint)
            live.begin()
            store = WatchedStore(live, running.frame.control.checkpoint)
            survey = survey_drive(store, opened.drive, open_tree).survey
            if volume is not None and survey.partition(volume) is None:
                raise BadArgument(f"The drive has no partition {volume}.", "See its survey for the numbers.")
            listing = wanted_files(store, survey, open_tree, volume, tuple(include), tuple(exclude))
            wanted = listing.wanted
            if not wanted:
                reasons = [*listing.unread]
                if listing.elsewhere:
                    reasons.append(f"the data of {len(listing.elsewhere)} files is not on this drive")
                why = f" ({'; '.join(reasons)})" if reasons else ""
                text = f"No file was found to copy{why}; nothing was written."
                raise Refused("nothing-found", text, "Check patterns.")
            tell(list(each_kind(wanted)))
            if check_only:
                raise OnlyChecked
            _make_folder(folder, sum(w.size_bytes for w in wanted))
            with only_worker(folder / "salvage"):

                def progress(done: int, total: int) -> None:
                    running.teller.progress("salvage", done, total)

                control, clock = running.frame.control, running.clock
                return Salvage(live, survey, open_tree, folder, control, clock, progress).run(listing)

        clock = BenchClock(opened.hardware.pace, opened.hardware.passed_s)
        return run_work("salvage", body, None, events, clock, _salvaged, check_only=check_only, run=run)


def _salvaged(done: SalvageSummary) -> Event:
    if done.is_whole:
        return Event(event="outcome", outcome="done", text="Done.")
    if done.not_here and not done.incomplete and not done.lost:
        text = f"Done, but the data of {len(done.not_here)} files is not on this drive."
        return Event(event="outcome", outcome="partial", text=text)
    if not done.incomplete:
        text = "Done, but some of the lists of files could not be read."
        return Event(event="outcome", outcome="partial", text=text)
    text = f"Done, but {len(done.incomplete)} files could not be read whole."
    return Event(event="outcome", outcome="partial", text=text, remedy="The same work tries them again.")


def _make_folder(folder: Path, needed: int) -> None:
    """Raises BadArgument for a place that cannot be one, Refused when it has no room for so many bytes."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        room = shutil.disk_usage(folder).free
    except OSError as error:
        raise BadArgument(f"“{folder}” cannot be made ({error.strerror}).", "Choose another folder.") from error
    if needed > room and not (folder / "salvage.jsonl").exists():
        raise Refused(
            "too-small",
            f"The folder has room for {both_text(room)}, and {both_text(needed)} are to be copied; "
            "nothing was written.",
            "Choose another folder, or copy less with --include.",
        )
