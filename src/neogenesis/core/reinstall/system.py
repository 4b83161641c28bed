"""What a system image says of itself: the JSON `neogenesis.system/1` inside it.

An image is an archive: a description, and a folder for each volume that it fills. Its files may hold place holders
such as `@@SYSTEM_ID@@`; in the files that the description names they are replaced by what the new drive and the answers
give.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar, Literal

import msgspec

from neogenesis.core.plan.model import Layout
from neogenesis.core.plan.steps import MakeVolume, Step
from neogenesis.core.record import StrictRecord, refuse_faults, strict_from_json

Firmware = Literal["uefi", "legacy"]
_KEYS = ("startup", "reserved", "system", "home", "linux", "data", "recovery", "swap")
#: Names under which a description may stand in an archive.
DESCRIPTIONS = ("neogenesis.system.json", "system.json")


class SystemDescription(StrictRecord, frozen=True, kw_only=True):
    """`trees` are the folders of the archive that go onto volumes, by the key of a recipe's part.

    `settings` names files, by their place in the archive, in which place holders are replaced. `boot_code` and `core`
    are the first sector's code and what it loads, for legacy machines. `drivers_to` is where the system looks for
    drivers at its first start, below its own volume. `says` is what a trial boot can wait for.
    """

    SCHEMA: ClassVar[str] = "neogenesis.system/1"

    schema: str
    name: str
    family: Literal["nt", "linux", "meridian"]
    architecture: str = "x86_64"
    firmware: tuple[Firmware, ...] = ("uefi",)
    trees: dict[str, str] = msgspec.field(default_factory=lambda: {"system": "system", "startup": "startup"})
    settings: tuple[str, ...] = ()
    boot_code: str = ""
    core: str = ""
    drivers_to: str = ""
    says: str = ""
    recipes: tuple[str, ...] = ()


def read_description(data: bytes) -> SystemDescription:
    """Raises BadRecord that names every fault."""
    found = strict_from_json(data, SystemDescription, "system description")
    faults = [f"“trees” names “{key[:40]}”, which no recipe has" for key in found.trees if key not in _KEYS]
    paths = [*found.trees.values(), *found.settings, found.boot_code, found.core, found.drivers_to]
    faults += [f"“{p[:60]}” leads out of the archive" for p in paths if p.startswith("/") or ".." in p.split("/")]
    if "system" not in found.trees:
        faults.append("“trees” has no system")
    refuse_faults(faults, "system description")
    return found


def volume_id_text(kind: str, volume_id: str) -> str:
    """A GUID as much of it as a filesystem holds, in its own way of writing."""
    digits = volume_id.replace("-", "")
    if kind in ("vfat", "exfat"):
        return f"{digits[:4]}-{digits[4:8]}".upper()
    if kind == "ntfs":
        return digits[:16].upper()
    return volume_id.lower()


def settings_for(
    layout: Layout, steps: tuple[Step, ...], keys: Mapping[int, str], more: Mapping[str, str]
) -> dict[str, str]:
    """Place holders and their values: for each part `KEY_ID` (the volume) and `KEY_PART` (its partition), `DISK_ID`."""
    found = {"DISK_ID": layout.disk_id.lower(), **more}
    made = {s.partition: s for s in steps if isinstance(s, MakeVolume)}
    for place in layout.partitions:
        name = keys[place.number].upper()
        short = layout.disk_id.removeprefix("0x")
        found[f"{name}_PART"] = place.unique_id.lower() or f"{short}-{place.number:02x}"
        step = made.get(place.number)
        if step is not None:
            found[f"{name}_ID"] = volume_id_text(step.volume_kind, step.volume_id)
    return found


def replaced(data: bytes, settings: Mapping[str, str]) -> bytes:
    """A file with its place holders replaced."""
    for name, value in settings.items():
        data = data.replace(f"@@{name}@@".encode(), value.encode())
    return data
