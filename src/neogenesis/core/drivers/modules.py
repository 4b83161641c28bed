"""The same question for a Linux kernel: which module claims a device, and which firmware files that module wants.

Sources: `modules.alias` as depmod(8) writes it; the `.modinfo` section of a module (`include/linux/module.h`), also of
those that are built in (`modules.builtin.modinfo`); the aliases of PCI and USB devices (`scripts/mod/file2alias.c`).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from fnmatch import translate

from neogenesis.core.drivers.hardware import Device

_LONGEST_LINE = 4096
_FIRMWARE = re.compile(rb"(?:^|\0)firmware=([\x20-\x7e]{1,255})(?=\0)")


def aliases(text: str) -> Iterator[tuple[str, str]]:
    """Pattern and module of each line."""
    for line in text.splitlines():
        parts = line[:_LONGEST_LINE].split()
        if len(parts) == 3 and parts[0] == "alias":
            yield parts[1], parts[2]


def built_in_aliases(modinfo: bytes) -> str:
    """Of modules that are built into the kernel, as the lines of a file of aliases."""
    found = re.findall(rb"(?:^|\0)([\w-]{1,64})\.alias=([\x20-\x7e]{1,512})(?=\0|$)", modinfo)
    return "".join(f"alias {alias.decode()} {module.decode()}\n" for module, alias in found)


def alias_of(device: Device) -> str:
    """The alias that a kernel looks for; where only numbers are known, with question marks for what is not."""
    if device.modalias:
        return device.modalias
    ids = [one.upper() for one in (*device.hardware_ids, *device.compatible_ids)]
    pci = next((m for one in ids if (m := _PCI_ID.match(one))), None)
    if pci is not None:
        sub = next((m for one in ids if (m := _SUBSYSTEM_ID.search(one))), None)
        code = max((m[1] for one in ids if (m := _CLASS_ID.search(one))), key=len, default="").ljust(6, "?")
        vendor, own = (f"0000{sub[2]}", f"0000{sub[1]}") if sub is not None else ("????????", "????????")
        numbers = f"v0000{pci[1]}d0000{pci[2]}sv{vendor}sd{own}"
        return f"pci:{numbers}bc{code[:2]}sc{code[2:4]}i{code[4:]}"
    usb = next((m for one in ids if (m := _USB_ID.match(one))), None)
    return f"usb:v{usb[1]}p{usb[2]}d????dc??dsc??dp??ic??isc??ip??in??" if usb is not None else ""


_PCI_ID = re.compile(r"PCI\\VEN_([0-9A-F]{4})&DEV_([0-9A-F]{4})")
_SUBSYSTEM_ID = re.compile(r"SUBSYS_([0-9A-F]{4})([0-9A-F]{4})")
_CLASS_ID = re.compile(r"CC_([0-9A-F]{4,6})")
_USB_ID = re.compile(r"USB\\VID_([0-9A-F]{4})&PID_([0-9A-F]{4})")
#: The programming interface at the end of a PCI alias: what lists devices in short does not say it.
_INTERFACE = re.compile(r"i[0-9A-F]{2}\*?$", re.I)


def claimed(devices: Iterable[tuple[int, Device]], text: str) -> dict[int, list[tuple[str, str]]]:
    """For each device with an alias, the patterns and modules that claim it, the most exact pattern first."""
    wanted = [(number, alias) for number, device in devices if (alias := alias_of(device))]
    found: dict[int, list[tuple[str, str]]] = {}
    buses = {alias.split(":", 1)[0] for _, alias in wanted}
    for pattern, module in aliases(text):
        if pattern.split(":", 1)[0] not in buses:
            continue
        compiled: dict[bool, re.Pattern[str]] = {}
        for number, alias in wanted:
            if pattern[:9] != alias[:9] and "*" not in pattern[:9]:
                continue
            is_short = alias.endswith("i??")
            if is_short not in compiled:
                compiled[is_short] = re.compile(translate(_INTERFACE.sub("i*", pattern) if is_short else pattern))
            if compiled[is_short].match(alias):
                found.setdefault(number, []).append((pattern, module))
    for one in found.values():
        one.sort(key=lambda pair: (pair[0].count("*"), -len(pair[0]), pair[1]))
    return found


def firmware_of(module: bytes) -> list[str]:
    """The firmware files that an unpacked module names."""
    return list(dict.fromkeys(m.decode("ascii") for m in _FIRMWARE.findall(module)))
