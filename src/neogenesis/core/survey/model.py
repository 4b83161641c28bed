"""The survey as a record: the JSON of `neogenesis survey --json`."""

from __future__ import annotations

from typing import ClassVar, Literal

from neogenesis.core.filesystem.model import SystemFamily, VolumeKind
from neogenesis.core.health import Health, HealthReading
from neogenesis.core.record import Record
from neogenesis.core.table.model import TableKind
from neogenesis.core.table.types import Role

Severity = Literal["note", "caution", "stop"]


class Drive(Record, frozen=True, kw_only=True):
    """Who a drive is. `bus` is `file` for a plain image; `changed_ns` is an image file's time of last change.

    `sector_size` is the unit of addresses; `physical_sector_size` what the medium writes at once, 0 if unknown.
    """

    path: str
    size_bytes: int
    sector_size: int
    model: str = ""
    serial: str = ""
    bus: str = "file"
    rotational: bool = False
    mounted: bool = False
    changed_ns: int = 0
    reading: HealthReading | None = None
    physical_sector_size: int = 0


class Finding(Record, frozen=True, kw_only=True):
    code: str
    severity: Severity
    text: str
    remedy: str
    partition: int | None = None


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


class PartitionFacts(Record, frozen=True, kw_only=True):
    number: int
    start_bytes: int
    size_bytes: int
    type_id: str
    role: Role
    volume: VolumeFacts
    unique_id: str = ""
    name: str = ""
    attributes: int = 0
    logical: bool = False
    bootable: bool = False

    @property
    def end_bytes(self) -> int:
        return self.start_bytes + self.size_bytes

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


class Survey(Record, frozen=True, kw_only=True):
    """`fingerprint` covers the table, the heads of the volumes and where their data lies."""

    SCHEMA: ClassVar[str] = "neogenesis.survey/1"

    schema: str = SCHEMA
    drive: Drive
    table: TableFacts
    partitions: tuple[PartitionFacts, ...]
    findings: tuple[Finding, ...]
    fingerprint: str
    health: Health

    def partition(self, number: int) -> PartitionFacts | None:
        return next((p for p in self.partitions if p.number == number), None)

    @property
    def used_bytes(self) -> int:
        return sum(p.volume.used_bytes for p in self.partitions)
