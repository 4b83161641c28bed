"""The plan as a record: the JSON of `neogenesis plan --json`, reviewable and run later."""

from __future__ import annotations

from typing import ClassVar

from neogenesis.core.drive import Drive
from neogenesis.core.estimate import Estimate
from neogenesis.core.plan.policy import Intent, Policy
from neogenesis.core.plan.steps import Step
from neogenesis.core.record import Record
from neogenesis.core.survey import Finding, Survey
from neogenesis.core.table.model import Partition, TableKind
from neogenesis.core.table.types import Role


class LayoutPartition(Partition, frozen=True, kw_only=True):
    """An entry of the new drive's table. `from_partition` is None for a new volume."""

    role: Role
    from_partition: int | None
    used_bytes: int = 0
    title: str = ""


class Layout(Record, frozen=True, kw_only=True):
    table: TableKind
    disk_id: str
    sector_size: int
    size_bytes: int
    partitions: tuple[LayoutPartition, ...]

    def partition(self, number: int) -> LayoutPartition | None:
        return next((p for p in self.partitions if p.number == number), None)


class Gate(Record, frozen=True, kw_only=True):
    """A condition for writing. A closed one says why in `text` and how to open it in `remedy`."""

    code: str
    open: bool
    text: str
    remedy: str = ""


class DriveSource(Record, frozen=True, kw_only=True, tag_field="kind", tag="drive"):
    """A connected drive, known again by who it is and by the fingerprint in its survey."""

    survey: Survey


class ImageSource(Record, frozen=True, kw_only=True, tag_field="kind", tag="image"):
    """An image file, known again by its time of last change as well."""

    survey: Survey


Source = DriveSource | ImageSource


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
    """`operations` are the steps in their order.

    `afterwards` are the steps that a person must take at the machine once the transfer has ended.

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
    operations: tuple[Step, ...]
    gates: tuple[Gate, ...]
    reasons: tuple[str, ...]
    findings: tuple[Finding, ...]
    estimate: Estimate
    afterwards: tuple[str, ...] = ()
    scratch_bytes: int = 0
