"""A forecast as a record: the JSON `neogenesis.forecast/1`."""

from __future__ import annotations

from typing import ClassVar, Literal

from neogenesis.core.record import Record

Severity = Literal["note", "caution", "stop"]


class Link(Record, frozen=True, kw_only=True):
    """One step from the power button to the system. `drive` is as it was named, empty where none is meant."""

    step: str
    text: str
    ok: bool = True
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
    starts: bool
    chain: tuple[Link, ...]


class Forecast(Record, frozen=True, kw_only=True):
    """`breaks_at` is the step at which it does not go on; None when the system starts."""

    SCHEMA: ClassVar[str] = "neogenesis.forecast/1"

    schema: str = SCHEMA
    starts: bool
    chain: tuple[Link, ...]
    breaks_at: str | None = None
    mode: str = "uefi"
    findings: tuple[BootFinding, ...] = ()
    others: tuple[Other, ...] = ()
