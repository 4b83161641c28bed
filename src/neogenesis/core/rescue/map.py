"""The region map of a rescue while it is being made: which ranges were read, lost, postponed, or never tried."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import msgspec
from blake3 import blake3

from neogenesis.core.drive import Identity
from neogenesis.core.errors import BadRecord, CannotRecord, ReadFailed, Refused
from neogenesis.core.extent import Extents
from neogenesis.core.store import ReadableStore
from neogenesis.core.transfer.regions import SAMPLE_BYTES, State, load_regions, save_regions

_STRETCHES = 32


class RescueMap:
    """Regions that cover [0, size_bytes) exactly once, sorted; neighbours differ. A million of them are no trouble."""

    def __init__(self, size_bytes: int, regions: list[tuple[int, int, State]] | None = None) -> None:
        self.size_bytes = size_bytes
        self._starts = [start for start, _, _ in regions] if regions else [0]
        self._states: list[State] = [state for _, _, state in regions] if regions else ["untried"]
        self.samples: dict[int, tuple[int, int, bytes]] = {}
        self._totals: dict[str, int] = dict.fromkeys(("read", "lost", "postponed", "untried"), 0)
        for start, end, state in self:
            self._totals[state] += end - start

    def __len__(self) -> int:
        return len(self._starts)

    def __iter__(self) -> Iterator[tuple[int, int, State]]:
        for index, start in enumerate(self._starts):
            yield start, self._end(index), self._states[index]

    def _end(self, index: int) -> int:
        return self._starts[index + 1] if index + 1 < len(self._starts) else self.size_bytes

    def total(self, state: State) -> int:
        """Bytes in that state."""
        return self._totals[state]

    def mark(self, start: int, end: int, state: State) -> None:
        """Say what became of [start, end)."""
        start, end = max(0, start), min(end, self.size_bytes)
        if start >= end:
            return
        first = bisect_right(self._starts, start) - 1
        last = bisect_left(self._starts, end) - 1
        for index in range(first, last + 1):
            inside = min(end, self._end(index)) - max(start, self._starts[index])
            self._totals[self._states[index]] -= inside
        self._totals[state] += end - start
        starts, states = [start], [state]
        if self._starts[first] < start:
            if self._states[first] == state:
                starts, states = [self._starts[first]], [state]
            else:
                starts.insert(0, self._starts[first])
                states.insert(0, self._states[first])
        elif first > 0 and self._states[first - 1] == state:
            starts, states = [], []
        if self._end(last) > end:
            if self._states[last] != state:
                starts.append(end)
                states.append(self._states[last])
        elif last + 1 < len(self._starts) and self._states[last + 1] == state:
            last += 1
        self._starts[first : last + 1] = starts
        self._states[first : last + 1] = states

    def remember(self, start: int, data: memoryview) -> None:
        """Keep the checksum of what was put at `start`, one for each stretch of the drive, to know it again by."""
        stretch = start * _STRETCHES // self.size_bytes
        if stretch not in self.samples:
            piece = data[:SAMPLE_BYTES]
            self.samples[stretch] = (start, start + len(piece), blake3(piece).digest())

    def state_at(self, place: int) -> State:
        return self._states[bisect_right(self._starts, place) - 1]

    def ranges_between(self, start: int, end: int, state: State) -> Extents:
        """What of [start, end) is in that state."""
        first = bisect_right(self._starts, start) - 1
        last = bisect_left(self._starts, end)
        found = ((self._starts[i], self._end(i)) for i in range(max(0, first), last) if self._states[i] == state)
        return Extents.of(found).clipped(start, end)

    def ranges(self, state: State) -> Extents:
        """All ranges in that state, as they are now."""
        return Extents.of((start, end) for start, end, found in self if found == state)

    def outline(self, count: int) -> str:
        """The drive in `count` equal stretches, a letter each: l if any is lost, p postponed, u untried, else r."""
        letters = bytearray(b"r" * count)
        for letter, state in ((b"u", "untried"), (b"p", "postponed"), (b"l", "lost")):
            for start, end, found in self:
                if found == state:
                    first, last = start * count // self.size_bytes, -(-end * count // self.size_bytes)
                    letters[first:last] = letter * (last - first)
        return letters.decode("ascii")

    def save(self, path: Path, ends: MapEnds) -> None:
        """Replace the file, one region a line, so that a cut leaves the old map or the whole new one.

        Raises CannotRecord.
        """
        samples = [(start, end, digest.hex()) for start, end, digest in self.samples.values()]
        try:
            save_regions(path, self.size_bytes, self, ends.source, ends.target, samples)
        except BadRecord as error:
            raise CannotRecord(
                f"{error.text} The rescue cannot go on safely.", "Free space there and go on."
            ) from error


@dataclass(frozen=True, slots=True)
class MapEnds:
    """The drive that a map is of, and the one that holds what was read."""

    source: Identity
    target: Identity


def load_map(path: Path, size_bytes: int, ends: MapEnds, moved: bool = False) -> RescueMap:
    """A map that was saved before; raises BadRecord when it is damaged or belongs to other drives.

    `moved`: a person says that a drive without a serial is at another place now, so its place says nothing.
    """
    found = load_regions(path)
    of, onto = (_placeless(found.source), _placeless(found.target)) if moved else (found.source, found.target)
    if found.size_bytes != size_bytes or not (of or ends.source).may_be(ends.source):
        raise BadRecord(
            f"The region map “{path.name}” belongs to another drive; nothing was written.",
            "Connect the drive that the rescue was begun on, or name another map.",
        )
    if not (onto or ends.target).may_be(ends.target):
        raise BadRecord(
            f"The region map “{path.name}” belongs to another new drive, which holds what was read; nothing was "
            "written.",
            "Connect that one, or name another map to start over.",
        )
    result = RescueMap(size_bytes, list(found.regions))
    for start, end, digest in found.samples:
        result.samples[start * _STRETCHES // size_bytes] = (start, end, bytes.fromhex(digest))
    return result


def _placeless(identity: Identity | None) -> Identity | None:
    return msgspec.structs.replace(identity, path="") if identity is not None else None


def distrusted(found: RescueMap, source: ReadableStore, target: ReadableStore) -> int:
    """Read back what the map says stands on `target`, from its medium; what does not is untried again.

    Returns the bytes of it. A map without samples is compared with `source` in a few places. Raises Refused when
    nothing at all is there: then this is another drive.
    """
    medium, wrong, right = target.uncached(), list[tuple[int, int]](), 0
    for start, end, digest in list(found.samples.values()) or _from_source(found, source):
        try:
            holds = blake3(medium.read(start, end - start)).digest() == digest
        except ReadFailed:
            holds = False
        right += holds
        wrong += [] if holds else [(start, end)]
    if wrong and not right:
        raise Refused(
            "target-changed",
            "The new drive does not hold what the map says was read onto it; nothing was written.",
            "Connect the drive that the rescue was begun on, or name another map to start over.",
        )
    for start, end in wrong:
        found.samples = {n: s for n, s in found.samples.items() if s[0] != start}
        for first, last in found.ranges_between(start, end, "read"):
            found.mark(first, last, "untried")
    return sum(end - start for start, end in wrong)


def _from_source(found: RescueMap, source: ReadableStore) -> list[tuple[int, int, bytes]]:
    """Checksums of places that are said to be read, made from the old drive itself: the few of them that hold data."""
    medium, made = source.uncached(), []
    places = list(found.ranges("read").chunks(SAMPLE_BYTES))
    for start, end in places[:: max(1, len(places) // _STRETCHES)]:
        try:
            data = medium.read(start, end - start)
        except ReadFailed:
            continue
        if any(data):
            made.append((start, end, blake3(data).digest()))
    return made
