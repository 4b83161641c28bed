"""The region map of a rescue while it is being made: which ranges were read, lost, postponed, or never tried."""

from __future__ import annotations

import os
from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from pathlib import Path

import msgspec

from neogenesis.core.errors import BadRecord
from neogenesis.core.extent import Extents
from neogenesis.core.record import load, sync_folder
from neogenesis.core.transfer.regions import RegionMap, State


class RescueMap:
    """Regions that cover [0, size_bytes) exactly once, sorted; neighbours differ. A million of them are no trouble."""

    def __init__(self, size_bytes: int, regions: list[tuple[int, int, State]] | None = None) -> None:
        self.size_bytes = size_bytes
        self._starts = [start for start, _, _ in regions] if regions else [0]
        self._states: list[State] = [state for _, _, state in regions] if regions else ["untried"]
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

    def save(self, path: Path, source: dict[str, object]) -> None:
        """Replace the file, one region a line, so that a cut leaves the old map or the whole new one.

        `source` says whose map it is.
        """
        temporary = path.with_name(f".{path.name}.new")
        try:
            with temporary.open("w", encoding="ascii") as file:
                head = {"schema": RegionMap.SCHEMA, "size_bytes": self.size_bytes, "source": source}
                file.write(msgspec.json.encode(head).decode()[:-1] + ',"regions":[\n')
                rows = (f'[{start},{end},"{state}"]' for start, end, state in self)
                for index, row in enumerate(rows):
                    file.write((",\n" if index else "") + row)
                file.write("\n]}\n")
                file.flush()
                os.fsync(file.fileno())
            temporary.replace(path)
            sync_folder(path.parent)
        except OSError as error:
            raise BadRecord(
                f"The map “{path}” cannot be written ({error.strerror}).", "Free space there and go on."
            ) from error


def load_map(path: Path, size_bytes: int, source: dict[str, object]) -> RescueMap:
    """A map that was saved before; raises BadRecord when it is damaged or belongs to another drive."""
    found = load(path, RegionMap, "region map")
    at = 0
    for start, end, _ in found.regions:
        if start != at or end <= start:
            raise BadRecord(f"The region map “{path.name}” is damaged at byte {at}.", "Restore a copy, or start over.")
        at = end
    if at != found.size_bytes or found.size_bytes != size_bytes or found.source not in (None, source):
        raise BadRecord(
            f"The region map “{path.name}” belongs to another drive; nothing was written.",
            "Connect the drive that the rescue was begun on, or name another map.",
        )
    return RescueMap(size_bytes, list(found.regions))
