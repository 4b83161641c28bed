"""The new drive as a plan will make it, for a forecast before anything is copied: its table, the old bytes."""

from __future__ import annotations

import msgspec

from neogenesis.core.boot.drives import BootDrive
from neogenesis.core.plan import Layout
from neogenesis.core.survey.model import TableFacts


def planned_drive(source: BootDrive, layout: Layout, name: str) -> BootDrive:
    """Partitions that are carried over, numbered and named as planned; new volumes are empty and left out."""
    parts, starts = [], dict[int, int]()
    for placed in layout.partitions:
        facts = source.survey.partition(placed.from_partition) if placed.from_partition is not None else None
        if facts is None:
            continue
        starts[placed.number] = placed.start_bytes
        parts.append(
            msgspec.structs.replace(
                facts,
                number=placed.number,
                type_id=placed.type_id,
                unique_id=placed.unique_id,
                attributes=placed.attributes,
                bootable=placed.bootable,
                logical=placed.logical,
            )
        )
    table = TableFacts(kind=layout.table, disk_id=layout.disk_id, problems=())
    survey = msgspec.structs.replace(source.survey, table=table, partitions=tuple(parts))
    made = BootDrive(name, survey, source.store, source.open_tree)
    made.starts = starts
    return made
