"""Device classes that accept only certain drives and tables: appliances, vehicle units, consoles.

A data file for each class says which capacities it accepts, the order, sizes and types of its partitions, what
becomes of the rest of the drive, and what must follow at the device. A plan is built from that and checked against it.
"""

from __future__ import annotations

import tomllib
from typing import ClassVar, Literal

import msgspec

from neogenesis.core.errors import BadArgument
from neogenesis.core.record import Record, from_json
from neogenesis.core.units import MIB, both_text, is_of_capacity


class AppliancePartition(Record, frozen=True, kw_only=True):
    """`size_mib` is None where the device takes any size."""

    title: str
    type_id: str
    size_mib: int | None = None


class Appliance(Record, frozen=True, kw_only=True):
    """`rest`: new space stays free, goes to the last partition, or is taken by the device itself later.

    `confirm` is what a person must have seen before anything is written.
    """

    SCHEMA: ClassVar[str] = "neogenesis.appliance/1"

    schema: str
    title: str
    capacities_gb: tuple[int, ...]
    table: Literal["gpt", "mbr", "none"]
    rest: Literal["free", "last", "device"]
    partitions: tuple[AppliancePartition, ...]
    afterwards: tuple[str, ...] = ()
    confirm: tuple[str, ...] = ()

    def accepts(self, size_bytes: int) -> bool:
        """Whether a drive of that size is of an accepted capacity."""
        return any(is_of_capacity(size_bytes, gb) for gb in self.capacities_gb)


def read_appliance(text: str, name: str) -> Appliance:
    """A class from its TOML; raises BadArgument or BadRecord in words that name it."""
    try:
        raw = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise BadArgument(f"The device class “{name}” is not TOML ({error}).", "Correct it.") from error
    return from_json(msgspec.json.encode(raw), Appliance, f"device class “{name}”")


def mismatches(appliance: Appliance, table: str, found: list[tuple[str, int]]) -> list[str]:
    """What the device would not take of a table: its kind, and (type, size in bytes) of its partitions in order."""
    faults = []
    if table != appliance.table:
        faults.append(f"the table is {table}, and it wants {appliance.table}")
    if len(found) != len(appliance.partitions):
        faults.append(f"it has {len(found)} partition{'s' if len(found) != 1 else ''}, not {len(appliance.partitions)}")
    for number, (wanted, (type_id, size)) in enumerate(zip(appliance.partitions, found, strict=False), 1):
        if type_id.casefold() != wanted.type_id.casefold():
            faults.append(f"partition {number} has the type {type_id}, and {wanted.title} wants {wanted.type_id}")
        if wanted.size_mib is not None and size != wanted.size_mib * MIB:
            faults.append(
                f"partition {number} has {both_text(size)}, and {wanted.title} wants {both_text(wanted.size_mib * MIB)}"
            )
    return faults
