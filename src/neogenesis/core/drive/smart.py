"""Readings from the JSON that the distribution's drive-diagnosis utility writes (`smartctl --json --all`, version 7).

Vendors pack other things into the upper bytes of raw values, so counts come from the utility's own text where it has
one, and what no count can be is cut to its lower half.
"""

from __future__ import annotations

import re
from typing import Any

import msgspec

from neogenesis.core.drive.health import Attribute, HealthReading
from neogenesis.core.errors import BadRecord

_REALLOCATED, _HOURS, _SPIN_RETRY, _REPORTED = 5, 9, 10, 187
_PENDING, _UNCORRECTABLE, _CABLE, _WRITTEN = 197, 198, 199, 241
#: Names under which normalised values count down what is left of a solid-state drive's life.
_LIFE = re.compile(r"life.?left|lifetime.?remain|percent.?life|wear.?out|wear.?level|remaining.?life|ssd.?life", re.I)
_DATA_UNIT_BYTES = 512_000  # NVM Express base specification: thousands of 512-byte units
_PACKED = 1 << 32
_LARGEST_BYTES = 16 << 20
_OPEN_FAILED = 0x02
_GONE = re.compile(r"identity failed|open failed|no such device|i/?o error|input/output|not ready|inquiry failed", re.I)
_NO_WAY = re.compile(
    r"unknown usb bridge|specify device type|-d option|unable to detect|standby|sleep|permission", re.I
)


def is_smart_report(raw: object) -> bool:
    """Whether decoded JSON looks like what the utility writes."""
    return isinstance(raw, dict) and ("smartctl" in raw or "json_format_version" in raw)


def read_smart_report(text: bytes) -> HealthReading | None:
    """The reading in such a report; None when the way to the drive gives none. Raises BadRecord for anything else."""
    if len(text) > _LARGEST_BYTES:
        raise BadRecord("The reading is too large to be one of a drive.", "Give what the utility wrote.")
    try:
        raw = msgspec.json.decode(text)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
        raise BadRecord(f"The reading is not JSON ({error}).", "Give what the utility wrote with --json.") from error
    if not is_smart_report(raw):
        raise BadRecord("The reading is not one of a drive.", "Give what the utility wrote with --json --all.")
    return reading_of(raw)


def reading_of(raw: dict[str, Any]) -> HealthReading | None:
    """As `read_smart_report`, of decoded JSON. Fields of a wrong type count as missing."""
    attributes = tuple(_attribute(row) for row in _rows(raw, "ata_smart_attributes", "table"))
    nvme = _part(raw, "nvme_smart_health_information_log")
    if not attributes and not nvme and not _has_scsi(raw):
        assessment = _part(raw, "smart_status").get("passed")
        if isinstance(assessment, bool):
            return HealthReading(self_assessment=assessment, **_common(raw))
        return None if _silent_way(raw) else HealthReading(answers=False, **_common(raw))
    if nvme:
        return _of_nvme(raw, nvme)
    return _of_ata(raw, attributes) if attributes else _of_scsi(raw)


def reading_of_attributes(attributes: tuple[Attribute, ...], **more: Any) -> HealthReading:
    """What numbered attributes of an ATA drive mean; `more` are fields of the reading that are known otherwise."""
    counts = {one.number: one.raw or 0 for one in attributes}
    life = next((a.value for a in attributes if _LIFE.search(a.name) and a.value is not None and a.value <= 100), None)
    written = counts.get(_WRITTEN)
    return HealthReading(
        reallocated_sectors=counts.get(_REALLOCATED, 0),
        pending_sectors=counts.get(_PENDING, 0),
        uncorrectable_sectors=counts.get(_UNCORRECTABLE, 0),
        reported_errors=counts.get(_REPORTED, 0),
        cable_errors=counts.get(_CABLE, 0),
        spin_retries=counts.get(_SPIN_RETRY, 0),
        wear_percent=None if life is None else float(100 - life),
        written_bytes=written * 512 if written else None,
        attributes=attributes,
        **{"power_on_hours": counts.get(_HOURS), **more},
    )


def _of_ata(raw: dict[str, Any], attributes: tuple[Attribute, ...]) -> HealthReading:
    assessment = _flag(_part(raw, "smart_status").get("passed"))
    failed = _failed_tests(raw)
    return reading_of_attributes(attributes, self_assessment=assessment, failed_self_tests=failed, **_common(raw))


def _of_nvme(raw: dict[str, Any], log: dict[str, Any]) -> HealthReading:
    written = _number(log.get("data_units_written"))
    common = _common(raw)
    celsius = _number(log.get("temperature"))
    return HealthReading(
        media_errors=_count(log.get("media_errors")),
        critical_warning=_count(log.get("critical_warning")),
        spare_percent=_number(log.get("available_spare")),
        spare_threshold_percent=_number(log.get("available_spare_threshold")),
        wear_percent=_number(log.get("percentage_used")),
        written_bytes=None if written is None else int(written) * _DATA_UNIT_BYTES,
        self_assessment=_flag(_part(raw, "smart_status").get("passed")),
        failed_self_tests=_failed_tests(raw),
        **{"temperature_c": celsius, "power_on_hours": _hours(log.get("power_on_hours")), **common},
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


def _has_scsi(raw: dict[str, Any]) -> bool:
    return any(key.startswith("scsi_") and key not in ("scsi_version", "scsi_vendor", "scsi_product") for key in raw)


def _common(raw: dict[str, Any]) -> dict[str, Any]:
    """Fields that reports of every kind have; left out where they are missing."""
    found = {
        "temperature_c": _number(_part(raw, "temperature").get("current")),
        "power_on_hours": _hours(_part(raw, "power_on_time").get("hours")),
        "model": raw.get("model_name") if isinstance(raw.get("model_name"), str) else None,
        "serial": raw.get("serial_number") if isinstance(raw.get("serial_number"), str) else None,
    }
    return {name: value for name, value in found.items() if value is not None}


def _silent_way(raw: dict[str, Any]) -> bool:
    """Whether it is the bridge or the right to ask that gives no answer, and not the drive."""
    head = _part(raw, "smartctl")
    said = " ".join(str(row.get("string", "")) for row in _rows(raw, "smartctl", "messages"))
    if _NO_WAY.search(said):
        return True
    return not (_GONE.search(said) or _count(head.get("exit_status")) & _OPEN_FAILED)


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
        failed={"now": "now", "past": "past"}.get(str(row.get("when_failed", "")).casefold(), ""),  # type: ignore[arg-type]
    )


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
