"""What was asked, read off and measured when a machine was taken in: the record `neogenesis.intake/1`.

Everything may be missing; what is missing is still to ask. Times in seconds, capacities in watt-hours, moments as
ISO 8601.
"""

from __future__ import annotations

from statistics import median
from typing import ClassVar, Literal

from neogenesis.core.record import Record

#: Where something is that must survive: only on this machine, said to be elsewhere, or seen elsewhere by us.
Shore = Literal["here", "said", "seen"]
SHORES: tuple[Shore, ...] = ("here", "said", "seen")
When = Literal["before", "after"]


class Valuable(Record, frozen=True, kw_only=True):
    """Something that must survive. `where` is what the customer said of its other place."""

    what: str
    shore: Shore = "here"
    where: str = ""

    @property
    def line(self) -> str:
        return f"{self.what}: {self.where}" if self.where else self.what


class Belonging(Record, frozen=True, kw_only=True):
    """What came with the machine, and whether it went back."""

    what: str
    back: bool = False


class Run(Record, frozen=True, kw_only=True):
    """One run of a stopwatch. `login_s` is when the log-in screen came; `struck` says why a run does not count."""

    seconds: float
    login_s: float | None = None
    at: str = ""
    struck: str = ""


class Timing(Record, frozen=True, kw_only=True):
    """Something timed, before the work or after it."""

    name: str
    when: When = "before"
    method: str = "stopwatch"
    runs: tuple[Run, ...] = ()

    @property
    def counted(self) -> tuple[Run, ...]:
        return tuple(run for run in self.runs if not run.struck)

    @property
    def median_s(self) -> float | None:
        return median(run.seconds for run in self.counted) if self.counted else None

    @property
    def spread_s(self) -> float | None:
        """From the quickest to the slowest run that counts."""
        times = [run.seconds for run in self.counted]
        return max(times) - min(times) if times else None


class Battery(Record, frozen=True, kw_only=True):
    """`machine` and `serial` are what the report says it is of."""

    design_wh: float | None = None
    full_wh: float | None = None
    cycles: int | None = None
    machine: str = ""
    serial: str = ""
    method: str = "typed"

    @property
    def wear_percent(self) -> float | None:
        """What is gone of the capacity that it was made with; a battery above it has lost nothing."""
        if not self.design_wh or self.full_wh is None:
            return None
        return max(0.0, 100 * (1 - self.full_wh / self.design_wh))


class Figure(Record, frozen=True, kw_only=True):
    """Something read off or measured at the machine, as it was typed, with its unit and how it was had."""

    code: str
    text: str
    unit: str = ""
    method: str = ""
    when: When = "before"


class Photograph(Record, frozen=True, kw_only=True):
    """`file` stands in the dossier's folder `photographs`. `fault` says why it cannot be shown; it is kept."""

    file: str
    caption: str = ""
    stop: str = "intake"
    at: str = ""
    size_bytes: int = 0
    width: int = 0
    height: int = 0
    fault: str = ""


class Answer(Record, frozen=True, kw_only=True):
    """What a test of the triage guide showed."""

    test: str
    answer: str
    at: str = ""


class Plate(Record, frozen=True, kw_only=True):
    """What stands on the machine. `profile` is the title of the profile that was found or chosen for it."""

    make: str = ""
    model: str = ""
    serial: str = ""
    profile: str = ""

    @property
    def title(self) -> str:
        return f"{self.make} {self.model}".strip()


Yes = Literal["", "yes", "no"]


class Later(Record, frozen=True, kw_only=True):
    """What will be needed before the end. Of accounts, licences and keys only that somebody holds them."""

    accounts: Yes = ""
    licences: Yes = ""
    firmware_licence: Yes = ""
    recovery_key: Literal["", "customer", "somebody", "nobody", "not-encrypted"] = ""
    recovery_key_who: str = ""
    seal: Literal["", "none", "whole", "broken"] = ""
    warranty: Yes = ""
    consent_to_open: Yes = ""
    budget: str = ""
    old_parts: Literal["", "returned", "kept", "wiped"] = ""
    kept_weeks: int = 0


class Intake(Record, frozen=True, kw_only=True):
    """All of it for one job. `accepted_unseen`: the customer signed for what was only said to be elsewhere.

    `typed` is what stands in lines that were not taken yet, by the name of the line.
    """

    SCHEMA: ClassVar[str] = "neogenesis.intake/1"

    schema: str = SCHEMA
    customer: str = ""
    contact: str = ""
    plate: Plate = Plate()
    condition: tuple[str, ...] = ()
    condition_note: str = ""
    card: Literal["", "none", "inside", "taken-out"] = ""
    came_with: tuple[Belonging, ...] = ()
    nothing_came: bool = False
    symptoms: tuple[str, ...] = ()
    told: str = ""
    since: str = ""
    starts: Literal["", "yes", "sometimes", "no"] = ""
    must_survive: Literal["", "everything", "files", "nothing"] = ""
    valuables: tuple[Valuable, ...] = ()
    accepted_unseen: bool = False
    later: Later = Later()
    timings: tuple[Timing, ...] = ()
    battery: Battery = Battery()
    figures: tuple[Figure, ...] = ()
    photographs: tuple[Photograph, ...] = ()
    triage: tuple[Answer, ...] = ()
    typed: dict[str, str] = {}

    def on_shore(self, shore: Shore) -> tuple[Valuable, ...]:
        return tuple(v for v in self.valuables if v.shore == shore)

    def timing(self, name: str, when: When = "before") -> Timing | None:
        return next((t for t in self.timings if (t.name, t.when) == (name, when)), None)

    def figure(self, code: str, when: When = "before") -> Figure | None:
        return next((f for f in self.figures if (f.code, f.when) == (code, when)), None)
