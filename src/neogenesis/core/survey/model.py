"""The survey as a record: the JSON of `neogenesis survey --json`."""

from __future__ import annotations

from typing import ClassVar, Literal

from neogenesis.core.drive import Drive, Health
from neogenesis.core.extent import Extents
from neogenesis.core.filesystem.encryption import Encryption
from neogenesis.core.filesystem.members import Member
from neogenesis.core.filesystem.model import SystemFamily, VolumeKind
from neogenesis.core.record import Record
from neogenesis.core.system.inside import Inside
from neogenesis.core.system.touched import LostFile
from neogenesis.core.table.model import Partition, TableKind
from neogenesis.core.table.types import Role

Severity = Literal["note", "caution", "stop"]


class Finding(Record, frozen=True, kw_only=True):
    """`fellows` are the others of a set that this drive is one of."""

    code: str
    severity: Severity
    text: str
    remedy: str
    partition: int | None = None
    fellows: tuple[str, ...] = ()


class VolumeFacts(Record, frozen=True, kw_only=True):
    kind: VolumeKind
    size_bytes: int
    label: str = ""
    uuid: str = ""
    block_bytes: int = 0
    used_bytes: int = 0
    smallest_bytes: int = 0
    dirty: bool = False
    hibernated: bool = False
    encrypted: bool = False
    system_family: SystemFamily | None = None
    system_name: str = ""
    understood: bool = False
    fixed: bool = False
    table_share: float = 0.0
    encryption: Encryption | None = None
    member: Member | None = None


class PartitionFacts(Partition, frozen=True, kw_only=True):
    """An entry of the table with what is inside it."""

    role: Role
    volume: VolumeFacts

    @property
    def title(self) -> str:
        """What a person calls it: the label of the volume, the name of the entry, or its number."""
        return self.volume.label or self.name or f"Partition {self.number}"


class TableFacts(Record, frozen=True, kw_only=True):
    kind: TableKind
    disk_id: str
    problems: tuple[str, ...]
    copy: str = "only"
    entry_count: int = 0
    boot_code: bytes = b""


class SystemsInside(Record, frozen=True, kw_only=True):
    """What the systems on a drive say of themselves, by partition number; `fingerprint` as in `Survey`."""

    SCHEMA: ClassVar[str] = "neogenesis.inside/1"

    schema: str = SCHEMA
    fingerprint: str
    systems: dict[int, Inside]


class InheritedLosses(Record, frozen=True, kw_only=True):
    """What could not be read when this was saved from a drive: bytes in all, half-open ranges, and the files on them.

    Of very many files the first are named.
    """

    bytes: int
    ranges: tuple[tuple[int, int], ...]
    files: tuple[LostFile, ...] = ()


class Survey(Record, frozen=True, kw_only=True):
    """`fingerprint` covers the table, the heads of the volumes and where their data lies.

    `inherited_losses` is there for an image or a rescue whose own record was found.
    """

    SCHEMA: ClassVar[str] = "neogenesis.survey/1"

    schema: str = SCHEMA
    drive: Drive
    table: TableFacts
    partitions: tuple[PartitionFacts, ...]
    findings: tuple[Finding, ...]
    fingerprint: str
    health: Health
    inherited_losses: InheritedLosses | None = None

    @property
    def lost(self) -> Extents:
        """What is missing from the start, of this survey's drive."""
        return Extents.of(self.inherited_losses.ranges if self.inherited_losses is not None else ())

    def partition(self, number: int) -> PartitionFacts | None:
        return next((p for p in self.partitions if p.number == number), None)

    @property
    def used_bytes(self) -> int:
        return sum(p.volume.used_bytes for p in self.partitions)
