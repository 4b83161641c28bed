"""The same question for a Linux kernel: which module claims a device, and which firmware files that module wants.

Sources: `modules.alias` as depmod(8) writes it; the `.modinfo` section of a module (`include/linux/module.h`).
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


def claimed(devices: Iterable[tuple[int, Device]], text: str) -> dict[int, list[tuple[str, str]]]:
    """For each device with an alias, the patterns and modules that claim it, the most exact pattern first."""
    wanted = [(number, device.modalias) for number, device in devices if device.modalias]
    found: dict[int, list[tuple[str, str]]] = {}
    buses = {alias.split(":", 1)[0] for _, alias in wanted}
    for pattern, module in aliases(text):
        if pattern.split(":", 1)[0] not in buses:
            continue
        compiled = None
        for number, alias in wanted:
            if pattern[:9] != alias[:9] and "*" not in pattern[:9]:
                continue
            compiled = compiled or re.compile(translate(pattern))
            if compiled.match(alias):
                found.setdefault(number, []).append((pattern, module))
    for one in found.values():
        one.sort(key=lambda pair: (pair[0].count("*"), -len(pair[0]), pair[1]))
    return found


def firmware_of(module: bytes) -> list[str]:
    """The firmware files that an unpacked module names."""
    return list(dict.fromkeys(m.decode("ascii") for m in _FIRMWARE.findall(module)))
