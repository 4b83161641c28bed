"""The drive that stands in a dock for a job, as a part: it is judged against the machine before another one is sold."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from neogenesis.core.drive.identity import Drive
from neogenesis.core.fit.part import Part
from neogenesis.core.machine.model import Interface
from neogenesis.core.units import nominal_bytes

#: Id of a docked drive that the catalogue does not know.
IN_DOCK = "in the dock"
_SPEAKS: dict[str, Interface] = {
    "sata": "sata",
    "usb-sata": "sata",
    "nvme": "nvme",
    "usb-nvme": "nvme",
    "pata": "pata",
    "emmc": "emmc",
}
#: Drives of one nominal size differ by so much.
_ALIKE = 0.03


def docked_part(drive: Drive, parts: Sequence[Part]) -> Part:
    """The catalogue's part of that make, model and size; else what the drive says of itself, without a price.

    There is one piece of it at least, whatever stands on the shelf.
    """
    known = next((p for p in parts if p.kind == "drive" and _is_it(p, drive)), None)
    if known is not None:
        return msgspec.structs.replace(known, stock=max(1, known.stock or 0))
    size = drive.size_bytes / 1e9
    return Part(
        schema=Part.SCHEMA,
        id=IN_DOCK,
        kind="drive",
        model=drive.model or None,
        interface=_SPEAKS.get(drive.bus),
        capacity_gb=round(size) if size >= 1 else round(size, 3),
        mechanical=drive.mechanical,
        stock=1,
    )


def _is_it(part: Part, drive: Drive) -> bool:
    words = f"{part.make or ''} {part.model or ''}".casefold().split()
    if part.model is None or not part.capacity_gb or not set(words) <= set(drive.model.casefold().split()):
        return False
    if part.interface is not None and _SPEAKS.get(drive.bus, part.interface) != part.interface:
        return False
    size = nominal_bytes(round(part.capacity_gb))
    return abs(size - drive.size_bytes) <= _ALIKE * size
