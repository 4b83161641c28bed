"""The plan as a record: the JSON of `neogenesis plan --json`, reviewable and run later."""

from __future__ import annotations

from typing import ClassVar, Literal

from neogenesis.core.drive import Drive, Health
from neogenesis.core.estimate import Estimate
from neogenesis.core.filesystem.members import Member
from neogenesis.core.plan.policy import Intent, Policy
from neogenesis.core.plan.steps import Step
from neogenesis.core.record import Record
from neogenesis.core.survey import Finding, Survey, TableFacts
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


class SystemImage(Record, frozen=True, kw_only=True):
    """An archive with a system to be put onto the drive, known again by its checksum (BLAKE3).

    `settings` are what its files are told, by the name of the place holder in them, `answers` what the first start is
    told; `drivers` is a folder that is laid where the system looks for drivers at its first start, `data` a folder or
    drive whose files go back to people, of these `kinds` (all where there are none); with `programs` also those that
    can be run. Of two for one place `same` says which counts, `persons` whose an old home becomes, `without` which
    paths stay out. `data_drive` is the key of that drive's identity. `form` is how it is packed: our archive, or a
    disc; `edition` which of several it is.
    """

    path: str
    digest: str
    size_bytes: int
    name: str
    form: Literal["archive", "disc"] = "archive"
    settings: dict[str, str] = {}
    answers: dict[str, str] = {}
    drivers: str = ""
    data: str = ""
    data_drive: str = ""
    kinds: tuple[str, ...] = ()
    programs: bool = False
    same: Literal["beside", "newer", "keep"] = "beside"
    persons: tuple[tuple[str, str], ...] = ()
    without: tuple[str, ...] = ()
    edition: int = 1


class FreshSource(Record, frozen=True, kw_only=True, tag_field="kind", tag="fresh"):
    """No old drive: volumes by a recipe, empty or filled from a system image.

    `boot_code` goes into the first sector, for machines that start from there.
    """

    recipe: str
    title: str
    system: SystemImage | None = None
    boot_code: bytes = b""

    @property
    def survey(self) -> Survey:
        """That of a drive without anything: there is nothing to carry over."""
        return NOTHING


#: What is surveyed where there is no old drive.
NOTHING = Survey(
    drive=Drive(path="", size_bytes=0, sector_size=512),
    table=TableFacts(kind="none", disk_id="", problems=()),
    partitions=(),
    findings=(),
    fingerprint="",
    health=Health(verdict="unknown"),
)

Source = DriveSource | ImageSource | FreshSource


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

    `scratch_bytes` is about the room that preparing volumes takes beside the plan. `lost` are ranges of the source that
    would be carried, and are missing from it since it was saved from the old drive.

    `also` are the plans of the other drives of a set, run with this one; `fellows` are what stands on them.
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
    lost: tuple[tuple[int, int], ...] = ()
    fellows: tuple[Member, ...] = ()
    also: tuple[Plan, ...] = ()
