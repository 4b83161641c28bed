"""Walking a machine open and shut: what is in front of the hands now, and what a press of the one key does.

Everything that is done is an act, and where the work stands follows from the acts in their order. So it stands after a
restart where it stood, and going back takes the last act away. The record of it is `neogenesis.swap-guide/1`.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property
from itertools import pairwise
from typing import ClassVar, Literal

import msgspec

from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import Purpose
from neogenesis.core.record import Record
from neogenesis.core.swap.ledger import Ledger
from neogenesis.core.swap.numbers import Mistake, Prepare, numbers
from neogenesis.core.swap.path import Path, Row, cautions_of, has_battery, path_of

Deed = Literal[
    "ready",  # something was made ready
    "acknowledge",  # a caution was read; `id` is its code
    "waited",  # the time of a step has passed
    "count",  # `count` of group `id` came out, or went in
    "absent",  # `count` of group `id` did not come out, with a reason
    "lost",  # `count` of group `id` do not go back, with a reason
    "leave",  # what is not counted in yet stays in the tray for now
    "on",  # the next step
    "mistake",  # `id` is its code; its undoing follows
    "undone",  # one step of undoing a mistake
    "swollen",  # a swollen battery was seen: nothing more is done
    "agree",  # the customer wants the extra `id`
    "decline",  # or does not
    "photograph",  # `text` is the file
    "note",
    "tip",  # a mistake became a tip of the profile
    "finish",
    "back",  # the act before is taken away
]
_SILENT = ("photograph", "note", "tip", "agree", "decline")


class Act(Record, frozen=True, kw_only=True):
    """`at` is local time in ISO 8601 with its offset."""

    at: str
    deed: Deed
    id: str = ""
    count: int = 0
    text: str = ""


class GuideRecord(Record, frozen=True, kw_only=True):
    """What is led through, and what was done; the profile as it was when it began. `bays` is None for all of them."""

    SCHEMA: ClassVar[str] = "neogenesis.swap-guide/1"

    schema: str = SCHEMA
    machine: Machine
    purposes: tuple[Purpose, ...]
    bays: tuple[str, ...] | None = None
    opening: int = 1
    openings: int = 1
    acts: tuple[Act, ...] = ()


@dataclass(frozen=True, slots=True)
class Trouble:
    """A mistake that is being undone; `done` of its steps are."""

    code: str
    shows: str
    undo: tuple[str, ...]
    done: int = 0


@dataclass(frozen=True, slots=True)
class Where:
    """How far it is. `ready` things are made ready, `row` is the place in the path, `counted` by group in that row."""

    ready: int = 0
    row: int = 0
    counted: tuple[tuple[str, int], ...] = ()
    missing: tuple[tuple[str, int], ...] = ()
    waited: bool = False
    left: bool = False
    acknowledged: frozenset[str] = frozenset()
    ledger: Ledger = field(default_factory=Ledger)
    trouble: Trouble | None = None
    stopped: bool = False
    finished: bool = False


def to_prepare(machine: Machine, path: Path) -> tuple[Prepare, ...]:
    """What must be ready for this machine, before its first screw."""
    codes = set(path.cautions)
    checked = any("mains" in row.step.cautions for row in (*path.opening, *path.work))
    has = {
        "off": not checked,  # else a step of the profile says so
        "always": True,
        "battery": has_battery(machine) or "lithium" in codes,
        "card": bool(machine.card_reader),
        "optical": any(b.kind == "optical" for b in machine.bays),
        "glass": "glass" in codes,
        "sharp": "sharp" in codes,
        "vehicle": "vehicle" in codes or machine.kind == "vehicle",
        "supply": "supply" in codes,
    }
    return tuple(p for p in numbers().prepare if has.get(p.when, False))


class Guide:
    """One opening of one machine. Raises BadRecord for a profile whose steps cannot be true, or acts that cannot be."""

    def __init__(self, record: GuideRecord) -> None:
        self.record = record
        self.path = path_of(record.machine, record.purposes, record.bays)
        self.rows = tuple(r for r in self.path.rows if not r.is_idle)
        self.prepare = to_prepare(record.machine, self.path)
        self._trail: list[Where] = [Where()]
        for act in record.acts:
            try:
                self._do(act)
            except BadArgument as error:
                raise BadRecord(
                    f"The record of this opening does not hold together ({error.text})", "Count everything anew."
                ) from error

    @property
    def where(self) -> Where:
        return self._trail[-1]

    # What is in front

    @property
    def row(self) -> Row | None:
        """The step in front; None while something is made ready, and at the end."""
        if self.preparing is not None or self.where.row >= len(self.rows):
            return None
        return self.rows[self.where.row]

    @property
    def following(self) -> Row | None:
        """What comes after it."""
        place = 0 if self.preparing is not None else self.where.row + 1
        return self.rows[place] if place < len(self.rows) else None

    @property
    def preparing(self) -> Prepare | None:
        return self.prepare[self.where.ready] if self.where.ready < len(self.prepare) else None

    @property
    def pending(self) -> str:
        """A caution that must be acknowledged before anything else is done; empty for none."""
        for code in self._cautions_here():
            if code not in self.where.acknowledged:
                return code
        return ""

    def _cautions_here(self) -> Iterator[str]:
        row = self.row
        if row is None or row.phase == "closing":
            return
        if self.where.row == 0:
            yield from cautions_of(self.record.machine)
        yield from row.step.cautions

    @property
    def is_last_look(self) -> bool:
        """Whether the work inside is done and nothing is closed yet."""
        place, rows = self.where.row, self.rows
        if self.row is None:
            return False
        closing = next((n for n, row in enumerate(rows) if row.phase == "closing"), len(rows))
        return place in (closing - 1, closing)

    @property
    def open_counts(self) -> tuple[tuple[str, int, int], ...]:
        """Group, how many of it are counted, and how many this step has of it."""
        row = self.row
        if row is None:
            return ()
        counted, missing = dict(self.where.counted), dict(self.where.missing)
        found = []
        for id_, n in row.fasteners:
            whole = n - missing.get(id_, 0)
            if row.phase == "closing":
                whole = min(whole, self.where.ledger.in_tray(id_) + counted.get(id_, 0))
            found.append((id_, counted.get(id_, 0), whole))
        return tuple(found)

    @property
    def next_piece(self) -> str:
        """The group of the fastener that is counted next; empty when all are."""
        if self.where.left:
            return ""
        return next((id_ for id_, done, whole in self.open_counts if done < whole), "")

    @property
    def must_wait_s(self) -> float:
        """How long nothing may be done now; 0 for no such time, or when it has passed."""
        row = self.row
        if row is None or self.where.waited or self.next_piece or self.pending:
            return 0.0
        return row.wait_s

    @property
    def is_through(self) -> bool:
        """Whether all steps are done and only the end is left."""
        return self.preparing is None and self.where.row >= len(self.rows)

    @property
    def left_over(self) -> tuple[tuple[str, int], ...]:
        """What still lies in the tray at the end."""
        return self.where.ledger.tray

    @property
    def share(self) -> float:
        """How much of the planned time is behind, from 0 to 1."""
        whole = self.planned_s
        done = numbers().seconds.prepare * self.where.ready + sum(r.seconds for r in self.rows[: self.where.row])
        return done / whole if whole else 1.0

    @cached_property
    def planned_s(self) -> float:
        return numbers().seconds.prepare * len(self.prepare) + sum(r.seconds for r in self.rows)

    @property
    def spent_s(self) -> float:
        """Seconds with hands on it so far; longer interruptions do not count."""
        moments = [datetime.fromisoformat(act.at) for act in self.record.acts]
        gaps = ((b - a).total_seconds() for a, b in pairwise(moments))
        return sum(gap for gap in gaps if 0 < gap <= numbers().seconds.pause)

    @property
    def agreed(self) -> tuple[str, ...]:
        """Codes of the extras that the customer wants."""
        said: dict[str, bool] = {}
        for act in self.record.acts:
            if act.deed in ("agree", "decline"):
                said[act.id] = act.deed == "agree"
        return tuple(code for code, wanted in said.items() if wanted)

    @property
    def photographs(self) -> tuple[tuple[str, str], ...]:
        """Step and file, in the order in which they were taken."""
        return tuple((act.id, act.text) for act in self.record.acts if act.deed == "photograph")

    def mistakes(self) -> tuple[Trouble, ...]:
        """What is known to go wrong at the step in front: tips of the profile first."""
        row = self.row
        if row is None:
            return ()
        own = [Trouble(f"tip:{n}", t.shows, t.undo) for n, t in enumerate(self._tips(row.step.id))]
        return (*own, *(Trouble(m.code, m.shows, m.undo) for m in known_mistakes(row)))

    def _tips(self, step: str) -> Iterator[Mistake]:
        for tip in self.record.machine.tips:
            if tip.step.casefold() == step.casefold():
                yield Mistake(code="", shows=tip.shows, usually="", at=(), phase="any", undo=tip.undo)

    # Acting

    def press(self) -> Deed | None:
        """What the one key does now; None when it does nothing: while time must pass, at the end, and when stopped."""
        here = self.where
        if here.stopped or here.finished:
            return None
        if here.trouble is not None:
            return "undone"
        if self.preparing is not None:
            return "ready"
        if self.pending:
            return "acknowledge"
        if self.next_piece:
            return "count"
        if self.must_wait_s:
            return None
        return "finish" if self.is_through else "on"

    def acted(self, act: Act) -> Guide:
        """The guide after one more act; raises BadArgument when it cannot be done now."""
        made = Guide.__new__(Guide)
        made.record, made.path, made.rows, made.prepare = self.record, self.path, self.rows, self.prepare
        made._trail = list(self._trail)
        made._do(act)
        made.record = msgspec.structs.replace(self.record, acts=(*self.record.acts, act))
        return made

    @property
    def can_go_back(self) -> bool:
        return len(self._trail) > 1 and not self.where.finished

    def _do(self, act: Act) -> None:
        if act.deed in _SILENT:
            return
        if act.deed == "back":
            if not self.can_go_back:
                raise BadArgument("There is nothing to go back to.", "Go on.")
            self._trail.pop()
            return
        if self.where.finished:
            raise BadArgument("This opening is finished.", "Begin another one.")
        if self.where.stopped:
            raise BadArgument("The work was stopped.", "Hand the machine to a proper service.")
        self._trail.append(self._after(act))

    def _after(self, act: Act) -> Where:
        here = self.where
        if act.deed == "swollen":
            return replace(here, stopped=True)
        if act.deed == "mistake":
            return replace(here, trouble=self._trouble(act))
        if act.deed == "undone" and here.trouble is not None:
            trouble = replace(here.trouble, done=here.trouble.done + 1)
            return replace(here, trouble=trouble if trouble.done < len(trouble.undo) else None)
        if here.trouble is not None:
            raise BadArgument("A mistake is being undone.", "Go through its steps first.")
        if act.deed == "ready" and self.preparing is not None:
            return replace(here, ready=here.ready + 1)
        if act.deed == "lost":
            return self._without(act)
        if act.deed == "finish":
            return self._finished()
        return self._in_row(act)

    def _trouble(self, act: Act) -> Trouble:
        for known in self.mistakes():
            if known.code == act.id:
                return known
        return Trouble(act.id or "other", act.text, (act.text,))

    def _in_row(self, act: Act) -> Where:
        here, row = self.where, self.row
        if row is None:
            raise BadArgument("There is no step in front.", "Look at what comes next.")
        if act.deed == "acknowledge" and act.id == self.pending:
            return replace(here, acknowledged=here.acknowledged | {act.id})
        if self.pending:
            raise BadArgument("A caution stands before this step.", "Read it, and acknowledge it.")
        if act.deed == "count":
            return self._counted(row, act)
        if act.deed == "absent" and row.phase != "closing":
            return self._absent(act)
        if act.deed == "waited" and self.must_wait_s:
            return replace(here, waited=True)
        if act.deed == "leave" and row.phase == "closing" and self.next_piece:
            return replace(here, left=True)
        if act.deed == "on" and not self.next_piece and not self.must_wait_s:
            return replace(here, row=here.row + 1, counted=(), missing=(), waited=False, left=False)
        raise BadArgument("That cannot be done at this step.", "Look at what comes next.")

    def _open(self, id_: str) -> int:
        return next((whole - done for known, done, whole in self.open_counts if known == id_), 0)

    def _counted(self, row: Row, act: Act) -> Where:
        here = self.where
        if not 0 < act.count <= self._open(act.id):
            raise BadArgument(f"There are not {act.count} of “{act.id}” left at this step.", "Count again.")
        counts = ((act.id, act.count),)
        ledger = here.ledger.returned(counts) if row.phase == "closing" else here.ledger.taken(counts)
        return replace(here, ledger=ledger, counted=_plus(here.counted, act), left=False)

    def _absent(self, act: Act) -> Where:
        here = self.where
        if not 0 < act.count <= self._open(act.id):
            raise BadArgument(f"There are not {act.count} of “{act.id}” left at this step.", "Count again.")
        ledger = here.ledger.not_there(act.id, act.count, act.text)
        return replace(here, ledger=ledger, missing=_plus(here.missing, act))

    def _without(self, act: Act) -> Where:
        return replace(self.where, ledger=self.where.ledger.without(act.id, act.count, act.text))

    def _finished(self) -> Where:
        if not self.is_through:
            raise BadArgument("The machine is not closed yet.", "Go through the steps that are left.")
        left = self.left_over
        if left:
            told = ", ".join(f"{n} of “{id_}”" for id_, n in left)
            raise BadArgument(
                f"Something is left in the tray: {told}.", "Go back and put it in, or say why it stays out."
            )
        return replace(self.where, finished=True)


def known_mistakes(row: Row) -> Iterator[Mistake]:
    """Of those that ship, the ones that can happen at such a step."""
    side = "closing" if row.phase == "closing" else "opening"
    for mistake in numbers().mistakes:
        if row.step.do in mistake.at and mistake.phase in ("any", side):
            yield mistake


def begun(
    machine: Machine,
    purposes: Collection[Purpose],
    bays: Collection[str] | None = None,
    opening: int = 1,
    openings: int = 1,
) -> Guide:
    """A guide at its start; raises BadRecord."""
    record = GuideRecord(
        machine=machine,
        purposes=tuple(sorted(purposes)),
        bays=None if bays is None else tuple(sorted(bays)),
        opening=opening,
        openings=openings,
    )
    return Guide(record)


def _plus(counts: tuple[tuple[str, int], ...], act: Act) -> tuple[tuple[str, int], ...]:
    total = dict(counts)
    total[act.id] = total.get(act.id, 0) + act.count
    return tuple(total.items())
