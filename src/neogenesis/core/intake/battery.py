"""A battery's capacity from the text of a report, whatever tool of whatever system wrote it.

Known are reports of the desktop's power service, the kernel's `uevent` files and the NT family's battery report.
"""

from __future__ import annotations

import re
from html import unescape

from neogenesis.core.errors import BadArgument
from neogenesis.core.intake.model import Battery

_LONGEST = 2 << 20
_TAG = re.compile(r"<(?:script|style)\b.*?</(?:script|style)>|<[^>]+>", re.DOTALL | re.IGNORECASE)
_NUMBER = r"([\d][\d.,'’\s\u00a0\u202f]*)"
_WH = r"\s*(mWh|Wh)\b"
_DESIGN = (
    re.compile(rf"energy-full-design:\s*{_NUMBER}{_WH}", re.IGNORECASE),
    re.compile(rf"design capacity\W+{_NUMBER}{_WH}", re.IGNORECASE),
)
_FULL = (
    re.compile(rf"energy-full:\s*{_NUMBER}{_WH}", re.IGNORECASE),
    re.compile(rf"full charge capacity\W+{_NUMBER}{_WH}", re.IGNORECASE),
)
_CYCLES = (
    re.compile(r"charge-cycles:\s*(\d+)", re.IGNORECASE),
    re.compile(r"cycle count\W+(\d+)", re.IGNORECASE),
    re.compile(r"POWER_SUPPLY_CYCLE_COUNT=(\d+)"),
)
_MACHINE = re.compile(r"system product name\W+([^\n]+)", re.IGNORECASE)
_SERIAL = (
    re.compile(r"^\s*serial(?: number)?:?\s+(\S+)\s*$", re.IGNORECASE | re.MULTILINE),
    re.compile(r"POWER_SUPPLY_SERIAL_NUMBER=(\S+)"),
)
#: A cell is sold with up to a tenth more than its label says.
_MOST_OVER = 1.25
_MOST_WH = 400.0


def read_battery(text: str) -> Battery:
    """The battery in a report, or both together with the cycles of the older one; raises BadArgument when none is in it
    or its figures cannot be.
    """
    if len(text) > _LONGEST:
        raise BadArgument("That text is too long to be a battery report.", "Give the report alone.")
    plain = unescape(_TAG.sub(" ", text))
    design, full = _sum_of(_DESIGN, plain), _sum_of(_FULL, plain)
    if design is None and full is None:
        design, full = _from_kernel(plain)
    if design is None and full is None:
        raise BadArgument(
            "Nothing in that text is the capacity of a battery.", "Paste the whole report, or type the figures."
        )
    cycles = next((max(map(int, all_)) for p in _CYCLES if (all_ := p.findall(plain))), None)
    machine = _MACHINE.search(plain)
    serial = next((found.group(1) for p in _SERIAL if (found := p.search(plain))), "")
    return checked(
        Battery(
            design_wh=design,
            full_wh=full,
            cycles=cycles if cycles is None or cycles < 100_000 else None,
            machine=" ".join(machine.group(1).split()) if machine else "",
            serial=serial,
            method="report",
        )
    )


def checked(battery: Battery) -> Battery:
    """The same battery; raises BadArgument for figures that no battery has."""
    for value in (battery.design_wh, battery.full_wh):
        if value is not None and not 0 <= value <= _MOST_WH:
            raise BadArgument(f"{value:g} Wh is not the capacity of such a battery.", "Check figure and unit.")
    if battery.design_wh and battery.full_wh and battery.full_wh > battery.design_wh * _MOST_OVER:
        raise BadArgument(
            f"A battery made for {battery.design_wh:g} Wh does not hold {battery.full_wh:g} Wh.",
            "Check which figure is which.",
        )
    return battery


def _sum_of(patterns: tuple[re.Pattern[str], ...], text: str) -> float | None:
    """Of all batteries of a machine together, in the first of the ways that the report uses."""
    for pattern in patterns:
        found = [_watt_hours(one.group(1), one.group(2)) for one in pattern.finditer(text)]
        if found:
            return sum(found)
    return None


def _watt_hours(figure: str, unit: str) -> float:
    """Milliwatt-hours are whole, so a mark in them groups digits; in watt-hours the last one is the decimal mark."""
    compact = re.sub(r"[\s'’\u00a0\u202f]", "", figure).rstrip(".,")
    if unit.lower() == "mwh":
        return int(re.sub(r"[.,]", "", compact) or 0) / 1000
    whole, _, part = compact.replace(",", ".").rpartition(".")
    return float(f"{whole.replace('.', '')}.{part}") if whole else float(part or 0)


def _from_kernel(text: str) -> tuple[float | None, float | None]:
    """Microwatt-hours, or microampere-hours times the design voltage in microvolts."""

    def number(name: str) -> int | None:
        found = re.search(rf"POWER_SUPPLY_{name}=(\d{{1,18}})\b", text)
        return int(found.group(1)) if found else None

    design, full = number("ENERGY_FULL_DESIGN"), number("ENERGY_FULL")
    if design is not None or full is not None:
        return _micro(design), _micro(full)
    design, full, volts = number("CHARGE_FULL_DESIGN"), number("CHARGE_FULL"), number("VOLTAGE_MIN_DESIGN")
    if volts is None:
        return None, None
    return tuple(None if v is None else v * volts / 1e12 for v in (design, full))  # type: ignore[return-value]


def _micro(value: int | None) -> float | None:
    return None if value is None else value / 1e6
