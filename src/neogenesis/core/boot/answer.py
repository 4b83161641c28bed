"""A forecast as a record: the JSON `neogenesis.forecast/1`."""

from __future__ import annotations

from typing import ClassVar, Literal

from neogenesis.core.record import Record

Severity = Literal["note", "caution", "stop"]
#: Where an answer comes from: `proved` by a start that was seen, `read` from the drives, `guessed` by what is usual.
Certainty = Literal["proved", "read", "guessed"]


class Link(Record, frozen=True, kw_only=True):
    """One step from the power button to the system. `drive` is as it was named, empty where none is meant.

    `ok` is None where it cannot be told from the drives.
    """

    step: str
    text: str
    ok: bool | None = True
    drive: str = ""
    partition: int | None = None


class BootFinding(Record, frozen=True, kw_only=True):
    code: str
    severity: Severity
    text: str
    remedy: str = ""
    drive: str = ""
    partition: int | None = None


class Other(Record, frozen=True, kw_only=True):
    """Another chain that could start, and when."""

    when: str
    starts: bool | None
    chain: tuple[Link, ...]


class Forecast(Record, frozen=True, kw_only=True):
    """`starts` is None where it cannot be told; `breaks_at` is the step at which it does not go on, else None."""

    SCHEMA: ClassVar[str] = "neogenesis.forecast/1"

    schema: str = SCHEMA
    starts: bool | None
    chain: tuple[Link, ...]
    breaks_at: str | None = None
    certainty: Certainty = "read"
    mode: str = "uefi"
    findings: tuple[BootFinding, ...] = ()
    others: tuple[Other, ...] = ()
