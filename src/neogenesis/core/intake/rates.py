"""How fast a machine reads, out of what somebody typed or pasted."""

from __future__ import annotations

import re

from neogenesis.core.errors import BadArgument

_UNITS = {"": 1.0, "k": 1e3, "m": 1e6, "g": 1e9, "ki": 2.0**10, "mi": 2.0**20, "gi": 2.0**30}
_RATE = re.compile(r"(\d+(?:[.,]\d+)?)\s*([kmg]?i?)b(?:ytes)?\s*/\s*s(?:ec)?", re.IGNORECASE)
_MOST = 1e11
_LONGEST = 1 << 20


def read_rate(text: str) -> float:
    """Bytes per second: the last rate in a text such as `109.63 MB/sec`; raises BadArgument when there is none."""
    found = _RATE.findall(text[-_LONGEST:])
    if not found:
        raise BadArgument(
            "There is no rate in that text.", "Type one such as 109 MB/s, or paste what the test printed."
        )
    number, unit = found[-1]
    rate = float(number.replace(",", ".")) * _UNITS[unit.lower()]
    if not 0 < rate <= _MOST:
        raise BadArgument(f"“{number} {unit}B/s” is not a rate that a drive has.", "Check figure and unit.")
    return rate
