"""Verdicts on drives from their own readings: recorded reports written by hand, each as a drive or a bridge would give it."""

from __future__ import annotations

import json
import os
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from neogenesis.bench.drives import diagnosis
from neogenesis.bench.drives.service import ata_reading, nvme_reading
from neogenesis.core.drive import judge
from neogenesis.core.drive.smart import read_smart_report
from neogenesis.core.errors import BadRecord, Refused
from neogenesis.core.record import load
from neogenesis.core.survey import Survey
from tests.drives import blank, run, simulated

_NAMES = {
    1: "Raw_Read_Error_Rate",
    5: "Reallocated_Sector_Ct",
    7: "Seek_Error_Rate",
    9: "Power_On_Hours",
    10: "Spin_Retry_Count",
    177: "Wear_Leveling_Count",
    171: "Program_Fail_Count",
    184: "End-to-End_Error",
    187: "Reported_Uncorrect",
    190: "Airflow_Temperature_Cel",
    194: "Temperature_Celsius",
    196: "Reallocated_Event_Count",
    197: "Current_Pending_Sector",
    198: "Offline_Uncorrectable",
    199: "UDMA_CRC_Error_Count",
    202: "Perc_Rated_Life_Used",
    231: "SSD_Life_Left",
    232: "Available_Reservd_Space",
    241: "Total_LBAs_Written",
    255: "Unknown_Attribute",
}


def report(status: int = 0, messages: tuple[str, ...] = (), **more: Any) -> dict[str, Any]:
    said = [{"string": text, "severity": "error"} for text in messages]
    return {"json_format_version": [1, 0], "smartctl": {"exit_status": status, "messages": said}, **more}


def row(number: int, raw: int | str = 0, value: int = 100, thresh: int = 10, failed: str = "") -> dict[str, Any]:
    text = str(raw)
    count = raw if isinstance(raw, int) else 0
    return {
        "id": number,
        "name": _NAMES[number],
        "value": value,
        "worst": min(value, 100),
        "thresh": thresh,
        "when_failed": failed,
        "raw": {"value": count, "string": text},
    }


def ata(
    *rows: dict[str, Any], hours: int = 9000, celsius: int = 34, passed: bool = True, **more: Any
) -> dict[str, Any]:
    base = {
        "model_name": "Halden 500",
        "serial_number": "HD5-77129K3D",
        "smart_status": {"passed": passed},
        "temperature": {"current": celsius},
        "power_on_time": {"hours": hours},
        "ata_smart_attributes": {"table": [row(1, 0), *rows]},
    }
    return report(**{**base, **more})


def nvme(**changes: Any) -> dict[str, Any]:
    log = {
        "critical_warning": 0,
        "temperature": 38,
        "available_spare": 100,
        "available_spare_threshold": 10,
        "percentage_used": 2,
        "media_errors": 0,
        "power_on_hours": 410,
        "data_units_written": 1000,
    }
    return report(model_name="Corvane N2", nvme_smart_health_information_log={**log, **changes})


def self_test(passed: bool) -> dict[str, Any]:
    return {"ata_smart_self_test_log": {"standard": {"table": [{"status": {"value": 112, "passed": passed}}]}}}


READINGS: dict[str, tuple[dict[str, Any], str, str]] = {
    "a sound mechanical drive": (ata(row(5), row(197), row(198)), "sound", ""),
    "reallocated": (ata(row(5, 7)), "copy-now", "reallocated"),
    "reallocated, packed by the vendor": (ata(row(5, "8 (0 65535)")), "copy-now", "reallocated"),
    "one pending": (ata(row(197, 1)), "copy-now", "pending"),
    "uncorrectable": (ata(row(198, 3)), "copy-now", "uncorrectable"),
    "reads it could not mend": (ata(row(187, 12)), "copy-now", "reported-errors"),
    "raw rates that mean nothing": (ata(row(7, 0x00AB_1234_5678)), "sound", ""),
    "temperature with extremes behind": (ata(row(194, "34 (Min/Max 17/51)")), "sound", ""),
    "a bad cable": (ata(row(199, 421)), "sound", "cable"),
    "a bad cable and a bad sector": (ata(row(199, 421), row(197, 2)), "copy-now", "pending"),
    "hot": (ata(celsius=61), "ageing", "hot"),
    "old": (ata(hours=61_000), "ageing", "old"),
    "slow to spin up": (ata(row(10, 4)), "ageing", "spin-retries"),
    "below the maker's threshold": (ata(row(5, 0, 8, 10, "now")), "copy-now", "failing-now"),
    "was below it once": (ata(row(190, 45, 55, 45, "past")), "ageing", "failed-before"),
    "calls itself failing": (ata(passed=False), "copy-now", "self-assessment"),
    "failed a self-test": (ata(**self_test(False)), "copy-now", "self-test"),
    "passed a self-test": (ata(**self_test(True)), "sound", ""),
    "solid state, nearly used up": (ata(row(231, 0, 6)), "ageing", "worn"),
    "used up, and its spare is not known": (ata(row(231, 0, 0, 0)), "copy-now", "worn"),
    "used up, with spare": (ata(row(231, 0, 0, 0), row(232, 0, 88)), "ageing", "worn"),
    "spare at the maker's threshold": (ata(row(232, 0, 10)), "copy-now", "spare"),
    "life that is used, not left": (ata(row(202, 97, 3, 0)), "ageing", "worn"),
    "attempts to reallocate": (ata(row(196, 14)), "copy-now", "events"),
    "a counter that was never set": (ata(row(198, 65535)), "sound", ""),
    "faults inside the drive": (ata(row(184, 3, 97)), "copy-now", "path"),
    "flash that cannot be written": (ata(row(171, 22)), "ageing", "flash-faults"),
    "a mechanical drive at 51": (ata(celsius=51, rotation_rate=5400), "ageing", "hot"),
    "a mechanical drive at 50": (ata(celsius=50, rotation_rate=5400), "sound", ""),
    "a SATA drive at 55": (ata(celsius=55), "sound", ""),
    "warm, below its own limit": (
        {**nvme(temperature=83), "nvme_composite_temperature_threshold": {"warning": 84, "critical": 88}},
        "sound",
        "",
    ),
    "at its own limit": (
        {**nvme(temperature=84), "nvme_composite_temperature_threshold": {"warning": 84, "critical": 88}},
        "ageing",
        "hot",
    ),
    "a module without a limit at 70": (nvme(temperature=70), "sound", ""),
    "a module without a limit at 71": (nvme(temperature=71), "ageing", "hot"),
    "spare that is not counted": (nvme(available_spare=0, available_spare_threshold=0), "sound", ""),
    "twice its rated writes": (nvme(percentage_used=200), "copy-now", "worn"),
    "an attribute nobody knows": (ata(row(255, 999_999)), "sound", ""),
    "a sound NVMe drive": (nvme(), "sound", ""),
    "NVMe media errors": (nvme(media_errors=1), "copy-now", "media-errors"),
    "NVMe spare at its threshold": (nvme(available_spare=10), "copy-now", "spare"),
    "NVMe spare just above it": (nvme(available_spare=11), "sound", ""),
    "NVMe warns of heat only": (nvme(critical_warning=2, temperature=50), "ageing", "hot"),
    "NVMe read-only": (nvme(critical_warning=8), "copy-now", "warning"),
    "NVMe past its rated writes": (nvme(percentage_used=131), "ageing", "worn"),
    "a bridge nobody knows": (report(1, ("Unknown USB bridge [0x0bad:0x0001 (0x100)]",)), "unknown", "no-readings"),
    "a bridge that knows no such command": (
        report(2, ("Read Device Identity failed: scsi error unsupported field in scsi command",)),
        "unknown",
        "no-readings",
    ),
    "a module behind a bridge": (
        report(2, ("Read NVMe Identify Controller failed: NVME_IOCTL_ADMIN_CMD: Inappropriate ioctl for device",)),
        "unknown",
        "no-readings",
    ),
    "busy": (
        report(2, ("Smartctl open device: /dev/sdb failed: Device or resource busy",)),
        "unknown",
        "not-permitted",
    ),
    "not let in": (report(2, ("open device: /dev/sdb failed: Permission denied",)), "unknown", "not-permitted"),
    "a bridge that answers nothing": (report(), "unknown", "no-readings"),
    "asleep": (report(2, ("Device is in STANDBY mode, exit(2)",)), "unknown", "no-readings"),
    "cannot be identified": (
        report(2, ("Read Device Identity failed: Input/output error",)),
        "lost-cause",
        "no-answer",
    ),
    "only its own word": (report(smart_status={"passed": True}), "sound", ""),
    "SCSI with grown defects": (report(scsi_grown_defect_list=4), "copy-now", "reallocated"),
    "SCSI in order": (report(scsi_grown_defect_list=0), "sound", ""),
}


@pytest.mark.parametrize("name", READINGS)
def test_each_recorded_reading_gets_its_verdict(name: str) -> None:
    raw, verdict, code = READINGS[name]
    found = judge(read_smart_report(json.dumps(raw).encode()))
    assert (found.verdict, found.image_first) == (verdict, verdict in ("copy-now", "lost-cause"))
    assert code in [reason.code for reason in found.reasons] if code else not found.reasons


def test_figures_are_those_of_the_drive() -> None:
    found = judge(read_smart_report(json.dumps(nvme(percentage_used=27)).encode()))
    assert (found.temperature_c, found.hours, found.remaining_percent) == (38, 410, 73)
    packed = read_smart_report(json.dumps(ata(row(197, (5 << 40) | 3), row(241, 1000))).encode())
    assert packed is not None and (packed.pending_sectors, packed.written_bytes) == (3, 512_000)
    reason = judge(packed).reasons[0]
    assert (reason.value, reason.threshold, reason.attribute) == (3, 0, "pending")


@pytest.mark.parametrize(
    ("name", "raw", "written"),
    [
        ("Total_LBAs_Written", 39_062_500_000, 20_000_000_000_000),
        ("Host_Writes_32MiB", 600_000, 600_000 * 32 * 1024**2),
        ("Lifetime_Writes_GiB", 18_626, 18_626 * 1024**3),
        ("Host_Writes_GiB", 7, 7 * 1024**3),
        ("Total_Writes_GB", 7, 7 * 10**9),
        ("NAND_Writes_1GiB", 7, None),
        ("Unknown_Attribute", 7, None),
    ],
)
def test_what_was_written_is_counted_in_the_unit_of_its_name(name: str, raw: int, written: int | None) -> None:
    rows = ata({**row(241, raw), "name": name})
    assert read_smart_report(json.dumps(rows).encode()).written_bytes == written
    assert judge(read_smart_report(json.dumps(rows).encode())).status == "answered"


def test_written_units_beyond_64_bits() -> None:
    found = read_smart_report(json.dumps(nvme(data_units_written=str(1 << 70))).encode())
    assert found.written_bytes == (1 << 70) * 512_000


@pytest.mark.parametrize(
    "text",
    [b"", b"[]", b"{}", b"nonsense", b'{"schema": "other"}', b"[" * 5000, b'{"smartctl": 1' + b" " * 100],
)
def test_what_is_no_reading_is_refused_in_words(text: bytes) -> None:
    with pytest.raises(BadRecord):
        read_smart_report(text)


def test_fields_of_a_wrong_type_count_as_missing() -> None:
    lies = ata(row(5, 0))
    lies["ata_smart_attributes"]["table"] += [None, 7, {"id": "x", "raw": [], "value": "?", "name": None}]
    lies |= {"temperature": "hot", "power_on_time": [], "smart_status": 3, "ata_smart_self_test_log": {"standard": 1}}
    assert judge(read_smart_report(json.dumps(lies).encode())).verdict == "sound"


def test_readings_of_the_disk_service() -> None:
    rows = [(197, "current-pending-sector", 0, 100, 100, 0, 5, 1, {}), (5, "reallocated", 0, 9, 9, 10, 0, 1, {})]
    found = judge(ata_reading({"SmartTemperature": 310.15, "SmartPowerOnSeconds": 7200}, rows))
    assert {"pending", "failing-now"} <= {reason.code for reason in found.reasons}
    assert (found.temperature_c, found.hours) == (37, 2)
    given = {"avail_spare": ("y", 5), "spare_thresh": ("y", 10), "percent_used": ("y", 40), "media_errors": ("t", 0)}
    found = judge(nvme_reading({"SmartCriticalWarning": ["temperature"], "SmartPowerOnHours": 12}, given))
    assert {"spare", "hot"} == {reason.code for reason in found.reasons} and found.remaining_percent == 60


def test_health_command(tmp_path: Path, neogenesis) -> None:
    path = tmp_path / "old.json"
    path.write_text(json.dumps(ata(row(197, 5))))
    found = json.loads(neogenesis("health", path, "--json").stdout)
    assert found["schema"] == "neogenesis.health/1" and found["verdict"] == "copy-now" and found["image_first"]
    assert found["reasons"][0]["value"] == 5 and found["hours"] == 9000
    assert "waiting to be reallocated" in neogenesis("health", path).stdout
    path.write_text("[1, 2]")
    neogenesis("health", path, status=3)
    neogenesis("health", tmp_path / "none.json", status=2)


@pytest.mark.parametrize(
    ("health", "verdict"),
    [
        (None, "unknown"),
        ({"pending_sectors": 3}, "copy-now"),
        (ata(row(197, 5)), "copy-now"),
        ({"verdict": "copy-now"}, None),
        ({"ata_smart_attributes": {"table": []}}, None),
    ],
)
def test_a_simulated_drive_takes_a_reading_or_a_report(
    health: dict[str, Any] | None, verdict: str | None, tmp_path: Path, neogenesis
) -> None:
    """What is not understood must not pass for a sound drive."""
    blank(tmp_path / "old.img", 8)
    old = simulated(tmp_path / "old.drive.json", "old.img", health=health)
    if verdict is None:
        assert "fields that no reading has" in neogenesis("health", old, status=2).stderr
        return
    assert json.loads(neogenesis("health", old, "--json").stdout)["verdict"] == verdict


def test_drives_of_this_machine_are_listed_without_being_opened(neogenesis) -> None:
    found = json.loads(neogenesis("drives", "--json").stdout)
    assert found["schema"] == "neogenesis.drives/1"
    for drive in found["drives"]:
        assert drive["size_bytes"] > 0 and (drive["in_use"] is None or not drive["may_be_target"])
        assert drive["health"]["verdict"] in ("sound", "ageing", "copy-now", "lost-cause", "unknown")


def test_surveys_from_before_are_read_with_todays_verdicts(standard: Path, tmp_path: Path, neogenesis) -> None:
    survey = json.loads(neogenesis("survey", standard, "--json").stdout)
    survey["health"] = {"verdict": "failing", "reasons": ["7 reallocated sectors", "hot"]}
    path = tmp_path / "survey.json"
    path.write_text(json.dumps(survey))
    found = load(path, Survey, "survey").health
    assert (found.verdict, found.why, found.image_first) == ("copy-now", "7 reallocated sectors; hot", True)
    survey["health"] = {"verdict": "nonsense", "reasons": []}
    path.write_text(json.dumps(survey))
    with pytest.raises(BadRecord):
        load(path, Survey, "survey")


# An ordinary user, who is asked for a password


_HELPER = diagnosis._HELPER


@pytest.fixture
def prompted(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[tuple[str, Path]]:
    """A drive, and the folder of a stand-in for `pkexec` that writes down each prompt and ends as `status` says."""
    (tmp_path / "pkexec").write_text(
        "#!/bin/sh\n"
        f'cd "{tmp_path}"; echo "$*" >> prompts; sleep "$(cat seconds)"\n'
        'status=$(cat status); [ "$status" = 0 ] || exit "$status"; exec sh "$@"\n'
    )
    (tmp_path / "pkexec").chmod(0o755)
    (tmp_path / "seconds").write_text("0")
    monkeypatch.setenv("PATH", f"{tmp_path}:{os.environ['PATH']}")
    monkeypatch.setattr(diagnosis, "HELPER_INSTALLED", _HELPER)
    monkeypatch.setattr(os, "geteuid", lambda: 1000)
    diagnosis._refused.clear()
    device = run("losetup", "--find", "--show", blank(tmp_path / "d.img", 8)).strip()
    yield device, tmp_path
    run("losetup", "--detach", device)


@pytest.mark.parametrize("status", ["126", "127"])
def test_a_dismissed_prompt_is_no_verdict_and_does_not_come_back(status: str, prompted: tuple[str, Path]) -> None:
    device, place = prompted
    (place / "status").write_text(status)
    for _ in range(2):
        with pytest.raises(Refused, match="not permitted"):
            diagnosis.health_of(device)
    assert len((place / "prompts").read_text().splitlines()) == 1


def test_one_prompt_is_for_all_ways_and_hurries_nobody(prompted: tuple[str, Path]) -> None:
    """The real helper and the real utility, on a drive that has no readings by any way."""
    device, place = prompted
    (place / "status").write_text("0")
    (place / "seconds").write_text("2")
    assert diagnosis.health_of(device).verdict == "unknown"
    assert len((place / "prompts").read_text().splitlines()) == 1
    asked = subprocess.run(["sh", _HELPER, device], capture_output=True, check=True).stdout
    assert asked.count(b"\x1e") == 8 and asked.count(b'"exit_status"') == 8


def test_a_drive_that_stalls_the_helper_no_longer_answers(prompted: tuple[str, Path]) -> None:
    device, place = prompted
    (place / "status").write_text("124")
    assert diagnosis.health_of(device).verdict == "lost-cause"


def test_the_first_reading_of_the_ways_counts() -> None:
    texts = [report(2, ("Unknown USB bridge",)), ata(row(5, 0)), ata(row(5, 9))]
    assert judge(diagnosis._first_reading([json.dumps(text).encode() for text in texts])).verdict == "sound"


def test_only_the_plain_way_tells_that_a_drive_does_not_answer() -> None:
    silent, gone = (json.dumps(report(2, (text,))).encode() for text in ("Unknown USB bridge", "INQUIRY failed"))
    assert judge(diagnosis._first_reading([silent, gone, gone])).status == "not-supported"
    assert judge(diagnosis._first_reading([gone, silent])).verdict == "lost-cause"


def test_who_may_ask_is_not_prompted_and_any_bridge_is_tried(
    prompted: tuple[str, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    """A utility that gives readings only by one way, as behind a USB bridge."""
    device, place = prompted
    monkeypatch.setattr(os, "geteuid", lambda: 0)
    (place / "found.json").write_text(json.dumps({**ata(row(5, 0)), "smart_status": {"passed": True}}))
    (place / "none.json").write_text(json.dumps(report(1, ("Unknown USB bridge",))))
    (place / "smartctl").write_text(
        f'#!/bin/sh\necho "$*" >> "{place}/asked"\n'
        f'case "$*" in *sntjmicron*) cat "{place}/found.json" ;; *) cat "{place}/none.json"; exit 1 ;; esac\n'
    )
    (place / "smartctl").chmod(0o755)
    assert diagnosis.health_of(device).verdict == "sound"
    assert len((place / "asked").read_text().splitlines()) == 4 and not (place / "prompts").exists()
