"""What came out, what went back, what lies in the tray, and what is named as missing or kept out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from neogenesis.core.errors import BadArgument
from neogenesis.core.swap.path import Count


@dataclass(frozen=True, slots=True)
class Named:
    """Fasteners that do not go back, with the reason."""

    id: str
    count: int
    reason: str


@dataclass(frozen=True, slots=True)
class Ledger:
    """In every state `out` = `back` + what lies in the tray + what was named out of it.

    `never_out` are those that were not there, or stayed in, when the machine was opened.
    """

    came: tuple[Count, ...] = ()
    went: tuple[Count, ...] = ()
    named: tuple[Named, ...] = ()
    never_out: tuple[Named, ...] = field(default=())

    @property
    def out(self) -> int:
        return sum(n for _, n in self.came)

    @property
    def back(self) -> int:
        return sum(n for _, n in self.went)

    @property
    def tray(self) -> tuple[Count, ...]:
        """By group, without those that are empty."""
        left = Counter(dict(self.came))
        left.subtract(dict(self.went))
        for one in self.named:
            left[one.id] -= one.count
        return tuple((id_, n) for id_, n in left.items() if n)

    def in_tray(self, id_: str) -> int:
        return dict(self.tray).get(id_, 0)

    def taken(self, counts: Iterable[Count]) -> Ledger:
        return Ledger(_added(self.came, counts), self.went, self.named, self.never_out)

    def returned(self, counts: Iterable[Count]) -> Ledger:
        """Raises BadArgument when more would go in than lies in the tray."""
        wanted = tuple(counts)
        for id_, n in wanted:
            if n > self.in_tray(id_):
                raise BadArgument(f"There are not {n} of “{id_}” in the tray.", "Count again.")
        return Ledger(self.came, _added(self.went, wanted), self.named, self.never_out)

    def without(self, id_: str, count: int, reason: str) -> Ledger:
        """Some of what lies in the tray does not go back, and why. Raises BadArgument."""
        if not reason.strip():
            raise BadArgument("What does not go back needs a reason.", "Say why.")
        if not 0 < count <= self.in_tray(id_):
            raise BadArgument(f"There are not {count} of “{id_}” in the tray.", "Count again.")
        return Ledger(self.came, self.went, (*self.named, Named(id_, count, reason.strip())), self.never_out)

    def not_there(self, id_: str, count: int, reason: str) -> Ledger:
        """Some that the profile names did not come out, and why. Raises BadArgument."""
        if not reason.strip():
            raise BadArgument("What did not come out needs a reason.", "Say why.")
        return Ledger(self.came, self.went, self.named, (*self.never_out, Named(id_, count, reason.strip())))


def _added(counts: tuple[Count, ...], more: Iterable[Count]) -> tuple[Count, ...]:
    total = dict(counts)
    for id_, n in more:
        total[id_] = total.get(id_, 0) + n
    return tuple(total.items())


def lines_of(ledger: Ledger) -> Iterator[str]:
    """What was named, for the logbook and the report."""
    for one in ledger.never_out:
        yield f"{one.count} of {one.id}: {one.reason}"
    for one in ledger.named:
        yield f"{one.count} of {one.id} left out: {one.reason}"
