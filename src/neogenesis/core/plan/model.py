"""The plan as a record: the JSON of `neogenesis plan --json`, reviewable and run later."""

from __future__ import annotations

from typing import ClassVar, Literal

from neogenesis.core.estimate import Estimate
from neogenesis.core.plan.policy import Intent, Policy
from neogenesis.core.record import Record
from neogenesis.core.survey import Drive, Finding, Survey
from neogenesis.core.table.model import TableKind
from neogenesis.core.table.types import Role

OperationKind = Literal["prepare", "clear-table", "copy", "verify", "discard", "write-table"]


class LayoutPartition(Record, frozen=True, kw_only=True):
    """One partition of the new drive. `from_partition` is None for a new volume."""

    number: int
    start_bytes: int
    size_bytes: int
    role: Role
    type_id: str
    unique_id: str
    name: str
    from_partition: int | None
    attributes: int = 0
    logical: bool = False
    bootable: bool = False
    used_bytes: int = 0
    title: str = ""

    @property
    def end_bytes(self) -> int:
        return self.start_bytes + self.size_bytes


class Layout(Record, frozen=True, kw_only=True):
    table: TableKind
    disk_id: str
    sector_size: int
    size_bytes: int
    partitions: tuple[LayoutPartition, ...]

    def partition(self, number: int) -> LayoutPartition | None:
        return next((p for p in self.partitions if p.number == number), None)


class Operation(Record, frozen=True, kw_only=True):
    """One step. `action` belongs to prepare (grow, shrink, patch, make), `mode` to copy (used, raw).

    A copy without a partition carries the bytes [start_bytes, start_bytes + bytes) between the table and the
    first partition, where loaders of legacy machines live.
    """

    kind: OperationKind
    text: str
    partition: int | None = None
    from_partition: int | None = None
    action: Literal["grow", "shrink", "patch", "make", ""] = ""
    mode: Literal["used", "raw", ""] = ""
    volume_kind: str = ""
    start_bytes: int = 0
    bytes: int = 0


class Gate(Record, frozen=True, kw_only=True):
    """A condition for writing. A closed one says why in `text` and how to open it in `remedy`."""

    code: str
    open: bool
    text: str
    remedy: str = ""


class Source(Record, frozen=True, kw_only=True):
    survey: Survey


class Target(Record, frozen=True, kw_only=True):
    """`drive` is None when the plan was made for a size before any drive was at hand.

    `table_mark` is the fingerprint of the first and last MiB; `holds` names what will be lost.
    """

    size_bytes: int
    sector_size: int
    drive: Drive | None = None
    table_mark: str = ""
    holds: tuple[str, ...] = ()


class Plan(Record, frozen=True, kw_only=True):
    """`afterwards` are the steps that a person must take at the machine once the transfer has ended.

    `scratch_bytes` is about the room that preparing volumes takes beside the plan.
    """

    SCHEMA: ClassVar[str] = "neogenesis.plan/1"

    schema: str = SCHEMA
    intent: Intent
    source: Source
    target: Target
    policy: Policy
    layout: Layout
    left_behind: tuple[int, ...]
    operations: tuple[Operation, ...]
    gates: tuple[Gate, ...]
    reasons: tuple[str, ...]
    findings: tuple[Finding, ...]
    estimate: Estimate
    afterwards: tuple[str, ...] = ()
    scratch_bytes: int = 0
