"""How fast a drive reads, place by place: sampled gently, for a short time, never on one not to be stressed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from statistics import median
from typing import ClassVar, Literal

from neogenesis.core.drive import Health
from neogenesis.core.errors import ReadFailed, Refused
from neogenesis.core.judgement import judgement
from neogenesis.core.record import Record
from neogenesis.core.store import ReadableStore

_FIRST_BYTES = 4096
Ended = Literal["whole", "time", "stalls", "errors", "stopped"]


class Sounding(Record, frozen=True, kw_only=True):
    """One place: seconds until its first bytes, and the rate behind them; a rate of None could not be read."""

    offset_bytes: int
    seek_s: float
    bytes_per_s: float | None


class Zone(Record, frozen=True, kw_only=True):
    """Neighbouring places that are slow or cannot be read, and the partitions that lie there by number."""

    start_bytes: int
    end_bytes: int
    bytes_per_s: float | None
    partitions: tuple[int, ...] = ()


class SpeedProfile(Record, frozen=True, kw_only=True):
    """`link` names what is probably before the drive and sets the pace; empty where nothing does."""

    SCHEMA: ClassVar[str] = "neogenesis.speed-profile/1"

    schema: str = SCHEMA
    fingerprint: str
    size_bytes: int
    soundings: tuple[Sounding, ...]
    zones: tuple[Zone, ...]
    median_bytes_per_s: float | None
    median_seek_s: float | None
    mechanical: bool
    link: str
    ended: Ended
    seconds: float

    @property
    def slow_share(self) -> float:
        """How much of the drive is slow, from 0 to 1."""
        return sum(z.end_bytes - z.start_bytes for z in self.zones) / self.size_bytes if self.size_bytes else 0.0


def refuse_to_stress(health: Health) -> None:
    """Raises Refused for a drive that is only to be read once, gently."""
    if health.image_first:
        raise Refused(
            "failing",
            f"The drive is not to be stressed: {health.why}; its speed was not measured.",
            "Image it first, gently.",
        )


def profile_drive(
    store: ReadableStore,
    now: Callable[[], float],
    places: Sequence[tuple[int, int, int]],
    fingerprint: str,
    tell: Callable[[Sounding], object] = lambda sounding: None,
    goes_on: Callable[[], bool] = lambda: True,
) -> SpeedProfile:
    """Sample `store` from its first byte to its last. `now` goes by the drive's own time.

    `places` are partitions as number, first byte and end.
    """
    numbers, began = judgement().profile, now()
    drive = store.uncached()
    count = max(1, min(numbers.places, store.size_bytes // numbers.piece_bytes))
    sector = max(512, drive.sector_size)
    soundings: list[Sounding] = []
    errors, ended = 0, "whole"
    buffer = memoryview(bytearray(numbers.piece_bytes))
    for number in range(count if store.size_bytes else 0):
        if not goes_on():
            ended = "stopped"
            break
        if now() - began > numbers.longest_s:
            ended = "time"
            break
        length = min(numbers.piece_bytes, store.size_bytes)
        offset = (store.size_bytes - length) * number // max(1, count - 1) // sector * sector
        sounding = _sound(drive, offset, buffer[: length // sector * sector or length], now)
        soundings.append(sounding)
        tell(sounding)
        errors += sounding.bytes_per_s is None
        if sounding.seek_s > numbers.stall_s:
            ended = "stalls"
            break
        if errors > numbers.most_errors:
            ended = "errors"
            break
    return _judged(soundings, store.size_bytes, places, fingerprint, ended, now() - began)  # type: ignore[arg-type]


def _sound(store: ReadableStore, offset: int, buffer: memoryview, now: Callable[[], float]) -> Sounding:
    began = now()
    first = min(_FIRST_BYTES, len(buffer))
    try:
        store.read_into(offset, buffer[:first])
        found = now()
        if len(buffer) > first:
            store.read_into(offset + first, buffer[first:])
        took = now() - found
    except ReadFailed:
        return Sounding(offset_bytes=offset, seek_s=now() - began, bytes_per_s=None)
    rest = len(buffer) - first
    return Sounding(offset_bytes=offset, seek_s=found - began, bytes_per_s=rest / max(took, 1e-6) if rest else None)


def _judged(
    soundings: list[Sounding],
    size_bytes: int,
    places: Sequence[tuple[int, int, int]],
    fingerprint: str,
    ended: Ended,
    seconds: float,
) -> SpeedProfile:
    numbers = judgement().profile
    rates = [s.bytes_per_s for s in soundings if s.bytes_per_s is not None]
    usual = median(rates) if rates else None
    seek = median(s.seek_s for s in soundings) if soundings else None
    return SpeedProfile(
        fingerprint=fingerprint,
        size_bytes=size_bytes,
        soundings=tuple(soundings),
        zones=tuple(_zones(soundings, size_bytes, usual, places)),
        median_bytes_per_s=usual,
        median_seek_s=seek,
        mechanical=seek is not None and seek >= numbers.mechanical_seek_s,
        link=_link(rates, usual),
        ended=ended,
        seconds=seconds,
    )


def _link(rates: list[float], usual: float | None) -> str:
    """The link whose ceiling lies just above a rate that hardly varies: then the drive is not what sets it."""
    numbers = judgement().profile
    if usual is None or len(rates) < 8:
        return ""
    ordered = sorted(rates)
    tenth, ninetieth = ordered[len(ordered) // 10], ordered[-1 - len(ordered) // 10]
    if ninetieth - tenth > usual * numbers.flat_share:
        return ""
    for name, ceiling in sorted(numbers.links.items(), key=lambda item: item[1]):
        if ceiling * numbers.link_share <= usual <= ceiling * 1.02:
            return name
    return ""


def _zones(
    soundings: list[Sounding], size_bytes: int, usual: float | None, places: Sequence[tuple[int, int, int]]
) -> list[Zone]:
    """Each place stands for the stretch up to the next one."""
    if usual is None:
        return []
    slow = usual * judgement().profile.slow_share
    zones: list[Zone] = []
    for number, one in enumerate(soundings):
        rate = one.bytes_per_s
        if rate is not None and rate >= slow:
            continue
        end = soundings[number + 1].offset_bytes if number + 1 < len(soundings) else size_bytes
        last = zones[-1] if zones else None
        if last is not None and last.end_bytes == one.offset_bytes:
            rates = [r for r in (last.bytes_per_s, rate) if r is not None]
            zones[-1] = _zone(last.start_bytes, end, min(rates) if len(rates) == 2 else None, places)
        else:
            zones.append(_zone(one.offset_bytes, end, rate, places))
    return zones


def _zone(start: int, end: int, rate: float | None, places: Sequence[tuple[int, int, int]]) -> Zone:
    inside = tuple(number for number, first, after in places if first < end and start < after)
    return Zone(start_bytes=start, end_bytes=end, bytes_per_s=rate, partitions=inside)
