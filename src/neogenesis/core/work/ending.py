"""How a command of the shell ended, as a record: what a script reads instead of our words."""

from __future__ import annotations

from typing import ClassVar, Literal

from neogenesis.core.record import Record
from neogenesis.core.system import LostFile, NotHereFile


class SizeProbe(Record, frozen=True, kw_only=True):
    """Whether a stick is as large as it says: what it holds at most where it lies, and how much was tested."""

    drive: str
    honest: bool
    real_bytes: int
    confidence: float
    tested_bytes: int


class Ending(Record, frozen=True, kw_only=True):
    """The end of a work. `lost` are half-open ranges of bytes of the source, `records` the files that tell more.

    `not_here` are files of which the source has no data that could be copied. `starts` is by which firmware a stick as
    it was written is started, `probes` what the test of its size found.
    """

    SCHEMA: ClassVar[str] = "neogenesis.outcome/1"

    schema: str = SCHEMA
    command: str = ""
    status: Literal["done", "lost", "differs", "stopped", "failed"] = "done"
    code: str = ""
    text: str = ""
    source: str = ""
    target: str = ""
    copied_bytes: int = 0
    verified_bytes: int = 0
    verified: Literal["full", "sample", "none"] = "none"
    lost: tuple[tuple[int, int], ...] = ()
    lost_files: tuple[LostFile, ...] = ()
    not_here: tuple[NotHereFile, ...] = ()
    not_here_bytes: int = 0
    starts: tuple[str, ...] = ()
    probes: tuple[SizeProbe, ...] = ()
    seconds: float = 0.0
    paused_seconds: float = 0.0
    records: tuple[str, ...] = ()


class ClosedGate(Record, frozen=True, kw_only=True):
    code: str
    text: str


class Refusal(Record, frozen=True, kw_only=True):
    """Nothing was written: a gate is closed, or the command was not understood."""

    SCHEMA: ClassVar[str] = "neogenesis.refusal/1"

    schema: str = SCHEMA
    command: str
    status: Literal["refused", "usage"]
    code: str
    text: str
    do: str
    gates: tuple[ClosedGate, ...] = ()
