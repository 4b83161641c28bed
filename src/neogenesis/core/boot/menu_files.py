"""What a path in the menu of a loader means: volumes by the names that the loader gives them, and files on them.

Source: GNU GRUB manual 2.06, chapter 13 (naming). What cannot be read here ends as open.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from neogenesis.core.boot.condition import Open
from neogenesis.core.boot.drives import BootDrive, Place, everywhere
from neogenesis.core.boot.root import printable

LARGEST_MENU = 4 << 20
DEVICE = re.compile(r"\(([^()]*)\)(.*)", re.DOTALL)
_PACKED = (b"\x1f\x8b", b"\xfd7")
_HD = re.compile(r"hd(\d{1,4})(?:,(?:gpt|msdos|apple)?(\d{1,4}))?$")
#: Kinds of volumes that such a loader reads, and this program does not.
CLOSED = ("btrfs", "xfs", "apfs", "lvm", "raid")


@dataclass
class MenuFiles:
    """Files as a loader finds them that was started from `home`; paths without a volume lie on that of `root`."""

    drives: Sequence[BootDrive]
    home: Place
    architecture: str = "x86_64"
    platform: str = "efi"
    variables: dict[str, str] = field(default_factory=dict)
    memory_files: dict[str, str] = field(default_factory=dict)

    def _device(self, place: Place) -> str:
        drive, facts = place
        kind = "gpt" if drive.survey.table.kind == "gpt" else "msdos"
        return f"hd{self.drives.index(drive)},{kind}{facts.number}"

    def place_of(self, device: str) -> Place | None:
        """The volume that `hd0,gpt2` means; None where there is none."""
        name = device.strip().casefold()
        found = _HD.match(name)
        if found is None:
            is_layer = name.startswith(("lvm", "md/", "mduuid/", "crypto", "cryptouuid/", "ldm/"))
            if is_layer and any(p.volume.kind in ("lvm", "raid", "luks") for _, p in everywhere(self.drives)):
                raise Open(f"What is on ({device}) cannot be looked at from here")
            return None
        if int(found[1]) >= len(self.drives):
            return None
        drive = self.drives[int(found[1])]
        if found[2] is None:  # a volume without a table
            facts = drive.partition(1) if drive.survey.table.kind == "none" else None
        else:
            facts = drive.partition(int(found[2]))
        return (drive, facts) if facts is not None else None

    def resolve(self, path: str) -> tuple[Place, str] | None:
        """Volume and path of `(hd0,gpt2)/x`, or of `/x` below root."""
        found = DEVICE.match(path)
        device, rest = (found[1], found[2]) if found else (self.variables.get("root", ""), path)
        place = self.place_of(device)
        return (place, rest) if place is not None else None

    def _find(self, place: Place, path: str) -> str | None:
        """The file or folder there; raises Open where the loader reads what is closed here."""
        drive, facts = place
        if drive.tree(facts.number) is None and facts.volume.kind != "none":
            if facts.volume.kind in CLOSED or facts.volume.understood:
                raise Open(f"What is on {facts.title} cannot be looked at from here")
            return None
        return drive.find(facts.number, path)

    def where(self, path: str) -> tuple[Place, str] | None:
        """The place of a file that is there."""
        found = self.resolve(path)
        if found is None or not found[1].startswith("/"):
            return None
        spelled = self._find(*found)
        return (found[0], spelled) if spelled is not None else None

    def _text(self, path: str) -> str | None:
        """The text of a script; None where it is not there."""
        if path.startswith("(memdisk)"):
            return self.memory_files.get(path.removeprefix("(memdisk)").strip("/"))
        found = self.where(path)
        if found is None:
            return None
        (drive, facts), spelled = found
        data = drive.read(facts.number, spelled, LARGEST_MENU)
        if data is not None and data[:2] in _PACKED:
            raise Open(f"{printable(path)} is packed, and whether the loader unpacks it rests on a module")
        return data.decode("utf-8", "replace") if data is not None else None
