"""Figures, moments and names in the reader's locale."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from functools import lru_cache

from PyQt6.QtCore import QDateTime, QLocale

from neogenesis.app.language import LANGUAGE, mark, tr
from neogenesis.core.units import binary_text, decimal_text, duration_text


def _local(text: str) -> str:
    return text.replace(".", QLocale().decimalPoint())


def nominal(size_bytes: int) -> str:
    """`500 GB`, as drives are sold."""
    return _local(decimal_text(size_bytes))


def exact(size_bytes: int) -> str:
    """`466 GiB`, as systems count."""
    return _local(binary_text(size_bytes))


def both(size_bytes: int) -> str:
    """`500 GB (466 GiB)`."""
    return f"{nominal(size_bytes)} ({exact(size_bytes)})"


def whole_bytes(size_bytes: int) -> str:
    """All digits, grouped."""
    return QLocale().toString(size_bytes)


def rate(bytes_per_s: float) -> tuple[str, str]:
    """A rate as number and unit, three figures."""
    number, _, unit = nominal(max(0, int(bytes_per_s))).partition(" ")
    return number, f"{unit}/s"


def about(seconds: float) -> str:
    """`18 min`."""
    return duration_text(seconds)


def time_range(low_s: float, high_s: float) -> str:
    """`54 to 68 min`, the unit once where both share it."""
    low, high = about(low_s), about(high_s)
    if low == high:
        return low
    if low.split()[-1] == high.split()[-1] and len(low.split()) == len(high.split()) == 2:
        low = low.split()[0]
    return tr("{0} to {1}").format(low, high)


def clock(moment: datetime) -> str:
    """Hours and minutes."""
    return QLocale().toString(QDateTime(moment).time(), "HH:mm")


def moment_of(text: str) -> datetime | None:
    """A promise as a moment, local and without a zone; None for free text. `2026-11-29 16:00` or ISO 8601."""
    return _moment(text) if text else None


def when(text: str, now: datetime) -> str:
    """A day and a time as a person says it: `today, 16:00`, `tomorrow, 9:00`, `Sun 29 Nov, 16:00`. Free text stays."""
    return _when(text, now.date(), LANGUAGE.changes)


@lru_cache(maxsize=2048)
def _when(text: str, today: date, language: int) -> str:
    """Asked for every job of the list, again and again."""
    moment = moment_of(text)
    if moment is None:
        return text
    days = (moment.date() - today).days
    named = {0: tr("today"), 1: tr("tomorrow"), -1: tr("yesterday")}.get(days)
    day = named or QLocale().toString(
        QDateTime(moment).date(), "ddd d MMM" if moment.year == today.year else "d MMM yyyy"
    )
    return day if len(text) <= len("2026-11-29") else f"{day}, {clock(moment)}"


def _moment(iso: str) -> datetime | None:
    try:
        return datetime.fromisoformat(iso).astimezone().replace(tzinfo=None)
    except (ValueError, OverflowError):
        return None


def clock_of(iso: str) -> str:
    """The clock time of an ISO 8601 text; the text itself when it is none."""
    moment = _moment(iso)
    return clock(moment) if moment else iso


def day_of(iso: str) -> str:
    """The day of an ISO 8601 text, in the reader's way of writing it."""
    moment = _moment(iso)
    return QLocale().toString(QDateTime(moment).date(), QLocale.FormatType.LongFormat) if moment else iso[:10]


def later(iso: str, seconds: float) -> datetime | None:
    """`seconds` after a moment in ISO 8601."""
    moment = _moment(iso)
    return moment + timedelta(seconds=min(seconds, 1e9)) if moment else None


def tail(serial: str) -> str:
    """`··41F2`."""
    return f"··{serial[-4:]}" if serial else ""


_HEALTH_WORDS = {
    "unknown": mark("health not known"),
    "sound": mark("sound"),
    "ageing": mark("ageing"),
    "copy-now": mark("failing"),
    "lost-cause": mark("does not answer"),
}
HEALTH_SEVERITY = {"sound": "good", "ageing": "caution", "copy-now": "stop", "lost-cause": "stop"}
_BUS_NAMES = {
    "sata": "SATA",
    "nvme": "NVMe",
    "usb-sata": mark("SATA in USB"),
    "usb-nvme": mark("NVMe in USB"),
    "pata": "PATA",
    "emmc": "eMMC",
    "card": mark("card"),
    "file": mark("image file"),
}
_ROLE_NAMES = {
    "startup": mark("start-up"),
    "reserved": mark("reserved"),
    "system": mark("system"),
    "data": mark("data"),
    "recovery": mark("recovery"),
    "swap": mark("swap"),
    "unknown": mark("not understood"),
    "free": mark("free"),
}


def health_word(verdict: str) -> str:
    return tr(_HEALTH_WORDS[verdict])


def bus_name(bus: str) -> str:
    """How a drive is connected, in words; what is not known stays as it is."""
    return tr(_BUS_NAMES.get(bus, bus))


def role_name(role: str) -> str:
    return tr(_ROLE_NAMES[role])


def seconds_text(seconds: float) -> str:
    """`198 s`, `27.4 s`."""
    return _local(f"{seconds:.1f}".removesuffix(".0")) + " s"
