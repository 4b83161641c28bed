"""One rescue: its passes in their order, with the map on record at every step.

A drive that no longer answers at all is not a drive with many bad places: the last failures are taken back, and the
rescue stops until it is connected again.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from neogenesis.core.drive import Drive
from neogenesis.core.rescue import passes as way
from neogenesis.core.rescue.fetch import Fetcher
from neogenesis.core.rescue.map import RescueMap
from neogenesis.core.rescue.rest import Rests
from neogenesis.core.store import ReadableStore, WritableStore
from neogenesis.core.survey import Surveyed
from neogenesis.core.system import Trees
from neogenesis.core.work import Clock, Control


class Rescue:
    """One rescue of `source` onto `target`, with its map. Not safe to be called from several threads."""

    def __init__(
        self,
        source: ReadableStore,
        target: WritableStore,
        found: RescueMap,
        trees: Trees,
        control: Control,
        clock: Clock,
        save: Callable[[RescueMap], None],
        tell: Callable[[str, RescueMap], None] = lambda name, found: None,
        times_again: int = 2,
        rests: Rests | None = None,
        busy_s: Callable[[], float] | None = None,
    ) -> None:
        """`busy_s` is a clock that tells how long reads take, where the drive has one of its own."""
        self.map, self.target, self.times_again = found, target, times_again
        self._trees, self._tell = trees, tell
        self.current_pass = ""
        self.surveyed: Surveyed | None = None
        self.fetcher = Fetcher(
            source,
            target,
            found,
            control,
            clock,
            save,
            lambda: self._tell(self.current_pass, self.map),
            rests or Rests(),
            busy_s,
        )

    def run(self, drive: Drive, passes: Sequence[str] = way.PASSES) -> None:
        """Do the passes in their order; raises Stopped or WriteFailed with an honest map on record."""
        fetcher = self.fetcher
        steps: dict[str, Callable[[], None]] = {
            "matters": lambda: self._look(drive),
            "out": lambda: way.out(fetcher),
            "back": lambda: way.back(fetcher),
            "rest": lambda: way.rest(fetcher),
            "edges": lambda: way.edges(fetcher),
            "singles": lambda: way.singles(fetcher),
            "again": lambda: way.again(fetcher, self.times_again),
        }
        try:
            for name in way.PASSES:
                if name in passes:
                    self.current_pass = name
                    self._tell(name, self.map)
                    steps[name]()
                    fetcher.save()
            if "singles" in passes and not self.map.total("untried"):
                self._zero_lost()
            self._tell(self.current_pass, self.map)
        finally:
            fetcher.save()

    def _look(self, drive: Drive) -> None:
        self.surveyed = way.matters(self.fetcher, drive, self._trees)

    def _zero_lost(self) -> None:
        """What is lost stands as zeros, not as whatever the new drive held before."""
        for start, end in self.map.ranges("lost").union(self.map.ranges("postponed")):
            self.target.write_zeros(start, end)
