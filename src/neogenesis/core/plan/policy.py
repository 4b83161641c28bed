"""What the technician wants of a plan; everything has a default that suits most jobs."""

from __future__ import annotations

from typing import Literal

from neogenesis.core.plan.appliance import Appliance
from neogenesis.core.record import Record

Intent = Literal["replace", "beside", "split", "exact", "fresh"]
Growth = Literal["system", "share", "none"] | int


class Policy(Record, frozen=True, kw_only=True):
    """`sizes` fixes partitions at a number of bytes, as a person dragged or typed them.

    `grow` may be the number of a partition. `spare_percent` of the new drive stays unallocated at its end.
    `relocate_table` belongs to exact: the backup of a GPT moves to the end of a larger drive. `discard` tells the
    new drive which of its areas hold nothing. `alone`: a person says that the fellows of a set stay as they are, and
    the new drive takes the place of the old one among them. With an `appliance` its class decides the intent and the
    sizes.
    """

    intent: Intent = "replace"
    leave: tuple[int, ...] = ()
    grow: Growth = "system"
    sizes: dict[int, int] = {}
    spare_percent: int = 0
    data_volume_bytes: int | None = None
    recovery: Literal["end", "stay", "leave"] = "end"
    machine: Literal["uefi", "legacy"] | None = None
    identity: Literal["keep", "fresh"] = "keep"
    relocate_table: bool = False
    discard: bool = False
    alone: bool = False
    appliance: Appliance | None = None
