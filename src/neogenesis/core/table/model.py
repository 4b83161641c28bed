"""What a table says, free of how it is encoded."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from neogenesis.core.record import Record

TableKind = Literal["gpt", "mbr", "none"]


class Partition(Record, frozen=True):
    """One entry of a table; surveys and plans say more of it in records of their own.

    `type_id` is a GUID in capitals, or `0x07`; `attributes` are the GPT attribute bits.

    `logical` and `bootable` belong to MBR. `unique_id` of an MBR entry is made of the disk id and the number.
    """

    number: int
    start_bytes: int
    size_bytes: int
    type_id: str
    unique_id: str = ""
    name: str = ""
    attributes: int = 0
    logical: bool = False
    bootable: bool = False

    @property
    def end_bytes(self) -> int:
        return self.start_bytes + self.size_bytes


@dataclass(frozen=True, slots=True)
class Problem:
    """Something wrong with a table: a code, whether it can be trusted all the same, and a sentence."""

    code: str
    severity: Literal["note", "caution", "stop"]
    text: str
    remedy: str
    partition: int | None = None


@dataclass(frozen=True, slots=True)
class Table:
    """A table as read. `partitions` are in the order of their place; `copy` says which GPT copy was used."""

    kind: TableKind
    sector_size: int
    disk_id: str = ""
    partitions: tuple[Partition, ...] = ()
    problems: tuple[Problem, ...] = ()
    copy: Literal["primary", "backup", "only"] = "only"
    entry_count: int = 0
    boot_code: bytes = b""
    first_usable_bytes: int = 0


@dataclass(frozen=True, slots=True)
class TableWrite:
    """One step of writing a table. After each step the store is synced before the next one begins."""

    text: str
    pieces: tuple[tuple[int, bytes], ...]
