"""Readable names of devices, from the distribution's id files; a device without an entry keeps its identifier.

Source: the format of `pci.ids` and `usb.ids`: vendors at the left edge, their devices behind one tab.
"""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path

import msgspec

from neogenesis.core.drivers.hardware import Device, Hardware

_FILES = {
    "PCI": ("/usr/share/misc/pci.ids", "/usr/share/hwdata/pci.ids"),
    "USB": ("/usr/share/misc/usb.ids", "/usr/share/hwdata/usb.ids"),
}
_ID = re.compile(r"(PCI|USB)\\V(?:EN|ID)_([0-9A-F]{4})&(?:DEV|PID)_([0-9A-F]{4})", re.I)
_LARGEST = 16 << 20


@cache
def _text(bus: str) -> str:
    for place in map(Path, _FILES[bus]):
        try:
            if place.stat().st_size <= _LARGEST:
                return "\n" + place.read_text("utf-8", "replace")
        except OSError:
            continue
    return ""


def name_of(bus: str, vendor: str, device: str) -> str:
    """Maker and device; the maker alone, or nothing, where no more is known."""
    text = _text(bus.upper())
    start = text.find(f"\n{vendor.lower()}  ")
    if start < 0:
        return ""
    maker = text[start + 7 : text.find("\n", start + 1)].strip()
    end = re.compile(r"\n[0-9a-fA-F#C]").search(text, start + 1)
    block = text[start : end.start() if end else len(text)]
    found = re.search(rf"\n\t{device.lower()}  ([^\n]*)", block)
    return f"{maker} {found[1].strip()}" if found else maker


def with_names(hardware: Hardware) -> Hardware:
    """The list with a name for each device that has none of its own."""
    return msgspec.structs.replace(hardware, devices=tuple(map(_named, hardware.devices)))


def _named(device: Device) -> Device:
    if device.name:
        return device
    found = next((m for i in (*device.hardware_ids, *device.compatible_ids) if (m := _ID.match(i))), None)
    name = name_of(found[1], found[2], found[3]) if found else ""
    return msgspec.structs.replace(device, name=name) if name else device
