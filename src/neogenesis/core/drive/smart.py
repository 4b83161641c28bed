"""Readings from the JSON that the distribution's drive-diagnosis utility writes (`smartctl --json --all`, version 7).

Vendors pack other things into the upper bytes of raw values, so counts come from the utility's own text where it has
one, and what no count can be is cut to its lower half.
"""

from __future__ import annotations

import re
from typing import Any, Literal

import msgspec

from neogenesis.core.drive.health import Attribute, HealthReading
from neogenesis.core.errors import BadRecord

_REALLOCATED, _HOURS, _SPIN_RETRY, _PATH, _REPORTED = 5, 9, 10, 184, 187
_EVENTS, _PENDING, _UNCORRECTABLE, _CABLE = 196, 197, 198, 199
#: Names under which normalised values count down what is left of a solid-state drive's life; those of used life too.
_LIFE = re.compile(
    r"life.?left|lifetime.?remain|percent.?life|wear.?out|wear.?level|remaining.?life|ssd.?life|life.?used", re.I
)
_SPARE = re.compile(r"avail\w*.?reser?v|unused.?(rsvd|reserv)|spare.?(block|left|percent)", re.I)
_FLASH_FAULT = re.compile(r"(program|erase).?fail", re.I)
#: What a host wrote, under many names, with the unit in the name; counts of the flash itself are something else.
_HOST_WRITES = re.compile(r"lbas?.?written|host.?writes?|lifetime.?writes?|host.?written|total.?writes?", re.I)
_UNIT = re.compile(r"(?<![A-Za-z])(\d{0,4})\s?(KiB|MiB|GiB|TiB|KB|MB|GB|TB)(?![A-Za-z])", re.I)
_UNIT_BYTES = {
    **{"kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40},
    **{"kb": 10**3, "mb": 10**6, "gb": 10**9, "tb": 10**12},
}
#: All ones: a counter that was never set.
_UNSET = frozenset((0xFFFF, 0xFFFF_FFFF))
_FAILED: dict[str, Literal["", "past", "now"]] = {"now": "now", "past": "past"}
_DATA_UNIT_BYTES = 512_000  # NVM Express base specification: thousands of 512-byte units
_PACKED = 1 << 32
_LARGEST_BYTES = 16 << 20
_OPEN_FAILED = 0x02
#: What the utility says where it gave no reading, in the order in which it counts.
_NOT_PERMITTED = re.compile(r"permission|not permitted|not authori|access denied", re.I)
_BUSY = re.compile(r"resource busy|device.{0,12}busy", re.I)
_ASLEEP = re.compile(r"standby|sleep", re.I)
_NO_WAY = re.compile(
    r"unknown usb bridge|specify device type|-d option|unable to detect|unsupported|not supported|inappropriate ioctl"
    r"|invalid (field|argument|request)|pass.?through|no such file",
    re.I,
)
_GONE = re.compile(r"identity failed|open failed|no such device|i/?o error|input/output|not ready|inquiry failed", re.I)


def is_smart_report(raw: object) -> bool:
    """Whether decoded JSON looks like what the utility writes."""
    return isinstance(raw, dict) and ("smartctl" in raw or "json_format_version" in raw)


def read_smart_report(text: bytes) -> HealthReading:
    """The reading in such a report; its status says whether the drive was heard. Raises BadRecord for anything else."""
    if len(text) > _LARGEST_BYTES:
        raise BadRecord("The reading is too large to be one of a drive.", "Give what the utility wrote.")
    try:
        raw = msgspec.json.decode(text)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
        raise BadRecord(f"The reading is not JSON ({error}).", "Give what the utility wrote with --json.") from error
    if not is_smart_report(raw):
        raise BadRecord("The reading is not one of a drive.", "Give what the utility wrote with --json --all.")
    return reading_of(raw)


def reading_of(raw: dict[str, Any]) -> HealthReading:
    """As `read_smart_report`, of decoded JSON. Fields of a wrong type count as missing."""
    attributes = tuple(_attribute(row) for row in _rows(raw, "ata_smart_attributes", "table"))
    nvme = _part(raw, "nvme_smart_health_information_log")
    if not attributes and not nvme and not _has_scsi(raw):
        assessment = _part(raw, "smart_status").get("passed")
        if isinstance(assessment, bool):
            return HealthReading(self_assessment=assessment, **_common(raw))
        return _unheard(raw)
    if nvme:
        return _of_nvme(raw, nvme)
    return _of_ata(raw, attributes) if attributes else _of_scsi(raw)


def reading_of_attributes(
    attributes: tuple[Attribute, ...], totals: dict[int, int] | None = None, sector: int = 512, **more: Any
) -> HealthReading:
    """What numbered attributes of an ATA drive mean; `more` are fields of the reading that are known otherwise.

    `totals` are raw values of all 48 bits by number, for what counts that high; `sector` is the drive's logical sector.
    """
    counts = {one.number: 0 if one.raw in _UNSET else one.raw or 0 for one in attributes}
    wear = [100.0 - a.value for a in attributes if _LIFE.search(a.name) and a.value is not None and a.value <= 100]
    spare = next((a for a in attributes if _SPARE.search(a.name) and a.value is not None and a.value <= 100), None)
    flash = [one for one in attributes if _FLASH_FAULT.search(one.name) and one.raw not in _UNSET]
    return HealthReading(
        reallocated_sectors=counts.get(_REALLOCATED, 0),
        reallocation_events=counts.get(_EVENTS, 0),
        pending_sectors=counts.get(_PENDING, 0),
        uncorrectable_sectors=counts.get(_UNCORRECTABLE, 0),
        reported_errors=counts.get(_REPORTED, 0),
        path_errors=counts.get(_PATH, 0),
        flash_faults=max((one.raw or 0 for one in flash), default=0),
        cable_errors=counts.get(_CABLE, 0),
        spin_retries=counts.get(_SPIN_RETRY, 0),
        wear_percent=max(wear, default=None),
        spare_percent=None if spare is None else spare.value,
        spare_threshold_percent=None if spare is None else spare.threshold or None,
        written_bytes=_written(attributes, totals or {}, sector),
        attributes=attributes,
        **{"power_on_hours": counts.get(_HOURS), **more},
    )


def _written(attributes: tuple[Attribute, ...], totals: dict[int, int], sector: int) -> int | None:
    """Bytes that the host wrote, by the unit in the attribute's name: sectors, or so many of a named unit."""
    for one in attributes:
        count = totals.get(one.number, one.raw or 0)
        if not (_HOST_WRITES.search(one.name) and count):
            continue
        unit = _UNIT.search(one.name)
        if unit is not None:
            return count * int(unit[1] or 1) * _UNIT_BYTES[unit[2].casefold()]
        if re.search(r"lba", one.name, re.I):
            return count * sector
    return None


def _of_ata(raw: dict[str, Any], attributes: tuple[Attribute, ...]) -> HealthReading:
    assessment = _flag(_part(raw, "smart_status").get("passed"))
    rows = _rows(raw, "ata_smart_attributes", "table")
    more: dict[str, Any] = {"kind": "mechanical" if _count(raw.get("rotation_rate")) else "sata", **_common(raw)}
    return reading_of_attributes(
        attributes,
        {_count(row.get("id")): _whole_count(_part(row, "raw")) for row in rows},
        _count(raw.get("logical_block_size")) or 512,
        self_assessment=assessment,
        failed_self_tests=_failed_tests(raw),
        **more,
    )


def _of_nvme(raw: dict[str, Any], log: dict[str, Any]) -> HealthReading:
    written = _large(log.get("data_units_written"))
    warns_at = _number(_part(raw, "nvme_composite_temperature_threshold").get("warning"))
    common = _common(raw)
    celsius = _number(log.get("temperature"))
    return HealthReading(
        media_errors=_count(log.get("media_errors")),
        critical_warning=_count(log.get("critical_warning")),
        spare_percent=_number(log.get("available_spare")),
        spare_threshold_percent=_number(log.get("available_spare_threshold")),
        wear_percent=_number(log.get("percentage_used")),
        written_bytes=None if written is None else written * _DATA_UNIT_BYTES,
        kind="module",
        self_assessment=_flag(_part(raw, "smart_status").get("passed")),
        failed_self_tests=_failed_tests(raw),
        **{
            "temperature_c": celsius,
            "limit_c": warns_at or None,
            "power_on_hours": _hours(log.get("power_on_hours")),
            **common,
        },
    )


def _of_scsi(raw: dict[str, Any]) -> HealthReading:
    counters = _part(raw, "scsi_error_counter_log")
    missed = sum(_count(_part(counters, way).get("total_uncorrected_errors")) for way in ("read", "write", "verify"))
    return HealthReading(
        reallocated_sectors=_count(raw.get("scsi_grown_defect_list")),
        uncorrectable_sectors=missed,
        wear_percent=_number(raw.get("scsi_percentage_used_endurance_indicator")),
        self_assessment=_flag(_part(raw, "smart_status").get("passed")),
        **_common(raw),
    )


def _own_limit(raw: dict[str, Any]) -> float | None:
    """What the drive itself calls too warm: its status commands' limit of operation, or its trip temperature."""
    own = _part(_part(raw, "ata_sct_status"), "temperature")
    for found in (own.get("op_limit_max"), *(_part(raw, "temperature").get(n) for n in ("op_limit_max", "drive_trip"))):
        number = _number(found)
        if number is not None and 30 <= number <= 110:
            return number
    return None


def _has_scsi(raw: dict[str, Any]) -> bool:
    return any(key.startswith("scsi_") and key not in ("scsi_version", "scsi_vendor", "scsi_product") for key in raw)


def _common(raw: dict[str, Any]) -> dict[str, Any]:
    """Fields that reports of every kind have; left out where they are missing."""
    found = {
        "temperature_c": _number(_part(raw, "temperature").get("current")),
        "limit_c": _own_limit(raw),
        "power_on_hours": _hours(_part(raw, "power_on_time").get("hours")),
        "model": raw.get("model_name") if isinstance(raw.get("model_name"), str) else None,
        "serial": raw.get("serial_number") if isinstance(raw.get("serial_number"), str) else None,
    }
    return {name: value for name, value in found.items() if value is not None}


def _unheard(raw: dict[str, Any]) -> HealthReading:
    """Why there is no reading: not let in, no way to ask, or a drive that gives no answer; only that is its fault."""
    head = _part(raw, "smartctl")
    said = " ".join(str(row.get("string", "")) for row in _rows(raw, "smartctl", "messages"))
    common = _common(raw)
    if _NOT_PERMITTED.search(said):
        why = "asking the drive was not permitted, which says nothing about it"
        return HealthReading(status="not-permitted", silence=why, **common)
    if _BUSY.search(said):
        why = "the drive was busy with something else, which says nothing about it"
        return HealthReading(status="not-permitted", silence=why, **common)
    if _ASLEEP.search(said):
        return HealthReading(status="not-supported", silence="the drive sleeps; look again when it has woken", **common)
    gone = _GONE.search(said) or (not said and _count(head.get("exit_status")) & _OPEN_FAILED)
    if _NO_WAY.search(said) or not gone:
        return HealthReading(status="not-supported", silence="the drive gives no readings here", **common)
    return HealthReading(answers=False, status="no-answer", **common)


def _failed_tests(raw: dict[str, Any]) -> int:
    """Tests in the drive's own log that ended with a fault; ones that were broken off do not count."""
    ata = [*_rows(raw, "ata_smart_self_test_log", "standard", "table")]
    ata += _rows(raw, "ata_smart_self_test_log", "extended", "table")
    failed = sum(1 for row in ata if _part(row, "status").get("passed") is False)
    results = [_part(row, "self_test_result").get("value") for row in _rows(raw, "nvme_self_test_log", "table")]
    return failed + sum(1 for value in results if value in (5, 6, 7))  # NVM Express: ended with a failed segment


def _attribute(row: dict[str, Any]) -> Attribute:
    raw = _part(row, "raw")
    number = _count(row.get("id"))
    return Attribute(
        number=number,
        name=str(row.get("name") or f"Attribute {number}").replace("_", " ")[:80],
        value=_hours(row.get("value")),
        worst=_hours(row.get("worst")),
        threshold=_hours(row.get("thresh")),
        raw=_raw_count(raw),
        failed=_FAILED.get(str(row.get("when_failed", "")).casefold(), ""),
    )


def _whole_count(raw: dict[str, Any]) -> int:
    """All 48 bits, of what nobody packs anything into."""
    value = raw.get("value")
    return value if type(value) is int and 0 <= value < 1 << 48 else 0


def _large(value: object) -> int | None:
    """A count of up to 128 bits; the utility writes as text what other programs could not hold."""
    if isinstance(value, str):
        return int(value) if value.isdigit() and len(value) < 40 else None
    found = _number(value)
    return None if found is None or found < 0 else int(found)


def _raw_count(raw: dict[str, Any]) -> int | None:
    text, value = raw.get("string"), raw.get("value")
    found = re.match(r"\s*(\d{1,15})(?!\d)", text) if isinstance(text, str) else None
    count = int(found[1]) if found else (value if type(value) is int and value >= 0 else None)
    if count is None:
        return None
    return count if count < _PACKED else count & 0xFFFF_FFFF


def _rows(raw: dict[str, Any], *way: str) -> list[dict[str, Any]]:
    found: Any = raw
    for key in way:
        found = found.get(key) if isinstance(found, dict) else None
    return [row for row in found if isinstance(row, dict)] if isinstance(found, list) else []


def _part(raw: dict[str, Any], key: str) -> dict[str, Any]:
    found = raw.get(key)
    return found if isinstance(found, dict) else {}


def _number(value: object) -> float | None:
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else None


def _count(value: object) -> int:
    return value if type(value) is int and value > 0 else 0


def _hours(value: object) -> int | None:
    return value if type(value) is int and value >= 0 else None


def _flag(value: object) -> bool | None:
    return value if isinstance(value, bool) else None
