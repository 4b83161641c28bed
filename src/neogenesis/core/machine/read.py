"""Reading a machine's profile: every fault is named at once."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec

from neogenesis.core.machine.contradictions import contradictions
from neogenesis.core.machine.model import Machine
from neogenesis.core.record import strict_from_json

#: No length, rate, count or capacity of a profile is larger in its unit.
_MOST = 1_000_000


def read_machine(text: bytes, what: str = "machine") -> Machine:
    """A profile from its JSON; raises BadRecord that names every fault."""
    return strict_from_json(text, Machine, what, _faults)


def _faults(machine: Machine) -> Iterator[str]:
    for field, number in _numbers(msgspec.to_builtins(machine)):
        if not 0 <= number <= _MOST:
            yield f"“{field}” is negative" if number < 0 else f"“{field}” is more than {_MOST}"
    yield from contradictions(machine)


def _numbers(value: Any, field: str = "") -> Iterator[tuple[str, float]]:
    """Every number in a profile with where it stands, such as `bays[0].pcie_lanes`."""
    if isinstance(value, dict):
        for key, inner in value.items():
            yield from _numbers(inner, f"{field}.{key}" if field else key)
    elif isinstance(value, list | tuple):
        for place, inner in enumerate(value):
            yield from _numbers(inner, f"{field}[{place}]")
    elif isinstance(value, int | float) and not isinstance(value, bool):
        yield field, value
