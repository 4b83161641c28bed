"""The demo bench: Saltmarsh Repair in the harbour town of Gullhaven, with nine jobs at different stops.

Its drives are real sparse images with real volumes, unpacked at first start. Their hardware is simulated, at the
rates of such drives on a clock that goes sixty times as fast. The job that is already handed over was really
transferred, by the same worker, while the bench was being built.
"""

from __future__ import annotations

import json
import os
import shutil
from datetime import datetime, timedelta
from importlib.resources import files
from pathlib import Path
from typing import Any

from neogenesis.bench.inside import surveying
from neogenesis.bench.processes.folders import LIBRARY
from neogenesis.bench.records.opening import open_records
from neogenesis.bench.register import Consent
from neogenesis.bench.simulated.demo_intakes import make_intakes
from neogenesis.bench.simulated.library import make_library
from neogenesis.bench.simulated.loaders import put_loaders
from neogenesis.bench.simulated.packed import unpack
from neogenesis.bench.works import planning, transferring
from neogenesis.core.job import Job, Shop, save_shop
from neogenesis.core.job.store import JobStore
from neogenesis.core.plan import Policy
from neogenesis.core.record import save, save_bytes
from neogenesis.core.units import both_text, nominal_bytes

_MARK = "bench-is-ready"
#: Where the islander's drive is worn: half-open byte ranges, in user data and between.
_WORN: dict[str, Any] = {
    "unreadable": [
        *([31_138_512_896 + 61_440 * n, 31_138_516_992 + 61_440 * n] for n in range(60)),
        [9_663_676_416, 9_664_200_704],
        [51_949_662_208, 51_949_666_304],
        [51_949_748_224, 51_949_752_320],
        [51_949_842_432, 51_949_850_624],
    ],
    "slow": [[20_401_094_656, 20_669_530_112, 900], [44_023_414_784, 44_040_192_000, 2600]],
}
_DRIVES: dict[str, dict[str, Any]] = {
    "ferry-desk": {
        "model": "Halden 500",
        "serial": "HD5-77129K3D",
        "bus": "sata",
        "rotational": True,
        "clock": "x60",
        "health": {"temperature_c": 31, "power_on_hours": 21900},
        "read": {"bytes_per_s": 1.15e8, "seek_ms": 9},
    },
    "ferry-new": {
        "model": "Corvane N2",
        "serial": "CN2-08341F2",
        "bus": "usb-nvme",
        "clock": "x60",
        "gb": 1000,
        "health": {"temperature_c": 38, "spare_percent": 100, "wear_percent": 0},
        "read": {"bytes_per_s": 9.5e8},
        "write": {"bytes_per_s": 9.0e8, "cache_bytes": 2.2e10, "after_cache_bytes_per_s": 3.4e8},
    },
    "pilots-chart": {
        "model": "Ostrel S",
        "serial": "OS-240-5571C8",
        "bus": "sata",
        "clock": "x60",
        "health": {"temperature_c": 34, "wear_percent": 61, "spare_percent": 88},
        "read": {"bytes_per_s": 4.2e8},
    },
    "pilots-new": {
        "model": "Corvane S5",
        "serial": "CS5-20077B6",
        "bus": "usb-sata",
        "clock": "x60",
        "gb": 500,
        "health": {"temperature_c": 29, "spare_percent": 100, "wear_percent": 0},
        "read": {"bytes_per_s": 4.1e8},
        "write": {"bytes_per_s": 3.6e8},
    },
    "islander-old": {
        "pack": "museum-kiosk",
        "model": "Halden 64",
        "serial": "HD1-30814A6T",
        "bus": "pata",
        "rotational": True,
        "clock": "x60",
        "health": {"temperature_c": 44, "pending_sectors": 52, "reallocated_sectors": 7, "power_on_hours": 48210},
        "heat": {"rest_c": 41, "per_gb_c": 0.9, "cools_c_per_s": 0.05},
        "read": {"bytes_per_s": 4.5e7, "seek_ms": 14, **_WORN},
    },
    "museum-kiosk": {
        "model": "Ostrel M",
        "serial": "OM-64-10992E",
        "bus": "emmc",
        "clock": "x60",
        "read": {"bytes_per_s": 1.4e8},
    },
    "museum-new": {
        "model": "Halden Pebble",
        "serial": "HP1-55A0D7",
        "bus": "usb-sata",
        "clock": "x60",
        "gb": 128,
        "read": {"bytes_per_s": 3.4e8},
        "write": {"bytes_per_s": 2.6e8},
    },
}
_DRIVES |= {
    "ferry-office": {
        "model": "Halden 500",
        "serial": "HD5-80412M7Q",
        "bus": "sata",
        "rotational": True,
        "clock": "x60",
        "health": {"temperature_c": 39, "power_on_hours": 30150},
        "read": {"bytes_per_s": 9.6e7, "seek_ms": 12, "slow": [[310_000_000_000, 330_000_000_000, 240]]},
    },
    "pilots-turn": {
        "model": "Corvane N1",
        "serial": "CN1-4410E6",
        "bus": "usb-nvme",
        "clock": "x60",
        "health": {"temperature_c": 41, "wear_percent": 12, "spare_percent": 100, "power_on_hours": 6100},
        "read": {"bytes_per_s": 8.8e8},
    },
    "museum-system": {
        "model": "Ostrel S",
        "serial": "OS-120-2288D4",
        "bus": "sata",
        "clock": "x60",
        "health": {
            "temperature_c": 36,
            "wear_percent": 44,
            "spare_percent": 93,
            "power_on_hours": 17400,
            "written_bytes": 38_000_000_000_000,
        },
        "read": {"bytes_per_s": 4.6e8},
    },
    "museum-data": {
        "model": "Halden 1000",
        "serial": "HD10-33907P1",
        "bus": "sata",
        "rotational": True,
        "clock": "x60",
        "health": {"temperature_c": 35, "power_on_hours": 17390},
        "read": {"bytes_per_s": 1.4e8, "seek_ms": 10},
    },
    "pocket": {
        "model": "Corvane Wren",
        "serial": "CW-7750B9",
        "bus": "usb-nvme",
        "clock": "x60",
        "health": {"temperature_c": 43, "wear_percent": 3, "spare_percent": 100, "power_on_hours": 900},
        "read": {"bytes_per_s": 9.0e8},
    },
    "pocket-card": {
        "model": "Halden Chip",
        "serial": "HC-128-0715",
        "bus": "card",
        "clock": "x60",
        "read": {"bytes_per_s": 8.5e7},
    },
    "pilots-loop": {
        "model": "Ostrel S",
        "serial": "OS-240-9034A2",
        "bus": "usb-sata",
        "clock": "x60",
        "health": {"temperature_c": 33, "wear_percent": 27, "spare_percent": 97, "power_on_hours": 11200},
        "read": {"bytes_per_s": 4.1e8},
    },
}
_DOCKS = ["ferry-desk", "ferry-new", "pilots-chart", "pilots-new", "islander-old"]
_DOCKS += ["ferry-office", "pilots-turn", "museum-system", "museum-data", "pocket", "pocket-card", "pilots-loop"]


def demo_folder() -> Path:
    """Where the demo bench lives; `NEOGENESIS_DEMO` moves it."""
    named = os.environ.get("NEOGENESIS_DEMO")
    data = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local/share")
    return Path(named) if named else Path(data) / "neogenesis" / "demo"


def demo_bench(folder: Path, reset: bool = False) -> Path:
    """The folder of a demo bench that is ready, built when it is not; takes some seconds."""
    if reset and (folder / "docks.json").exists():
        shutil.rmtree(folder)
    if (folder / _MARK).exists():
        return folder
    drives = folder / "drives"
    drives.mkdir(parents=True, exist_ok=True)
    for name, traits in _DRIVES.items():
        _make_drive(drives, name, dict(traits))
    docks = {"schema": "neogenesis.docks/1", "docks": [f"drives/{name}.drive.json" for name in _DOCKS]}
    save_bytes(folder / "docks.json", json.dumps(docks, indent=2).encode())
    jobs = folder / "bench"
    if jobs.exists():
        shutil.rmtree(jobs)
    _make_jobs(open_records(jobs), drives)
    make_library(jobs / LIBRARY)
    (folder / _MARK).touch()
    return folder


def _make_drive(folder: Path, name: str, traits: dict[str, Any]) -> None:
    image = folder / f"{name}.img"
    image.unlink(missing_ok=True)
    size, pack = traits.pop("gb", None), traits.pop("pack", name)
    if size:
        with image.open("wb") as file:
            file.truncate(nominal_bytes(size))
    else:
        unpack(files("neogenesis").joinpath(f"data/demo/{pack}.pack").read_bytes(), image)
        put_loaders(image)
    spec = {"schema": "neogenesis.simulated-drive/1", "image": image.name, **traits}
    save_bytes(folder / f"{name}.drive.json", json.dumps(spec, indent=2).encode())


_SHOP = Shop(
    name="Saltmarsh Repair",
    letterhead=("Slipway 3, Tern Island", "Tuesday to Saturday, 9 to 17"),
    technicians=("Bench",),
    currency="EUR",
    labour_per_hour="48",
    tax_percent="19",
)


def _make_jobs(store: JobStore, drives: Path) -> None:
    now = datetime.now().astimezone()

    def promise(days: int, hour: int) -> str:
        return (datetime.now() + timedelta(days=days)).strftime(f"%Y-%m-%d {hour:02}:00")

    def drive(name: str) -> str:
        return str(drives / f"{name}.drive.json")

    def log(ticket: str, hours_ago: float, kind: str, text: str, **figures: Any) -> None:
        at = (now - timedelta(hours=hours_ago)).isoformat(timespec="seconds")
        store.append(ticket, at, "Bench", kind, text, **figures)

    save_shop(store.folder, _SHOP)
    store.add(
        Job(
            ticket="T-1042",
            customer="Tern Island Ferry Company",
            machine="Petrel 14, ticket desk",
            promise=promise(3, 16),
            wish="Faster, everything exactly as it was",
            stop="survey",
            old_drive=drive("ferry-desk"),
            new_drive=drive("ferry-new"),
        )
    )
    log("T-1042", 1.2, "intake", "Slow start: 198 s, median of 3 runs", before_s=198, runs=3)

    store.add(
        Job(
            ticket="T-1043",
            customer="Gullhaven Pilots' Office",
            machine="Brightwell Desk 3, chart room",
            promise=promise(4, 12),
            wish="More room for charts",
            stop="transfer",
            old_drive=drive("pilots-chart"),
            new_drive=drive("pilots-new"),
        )
    )
    log("T-1043", 5.4, "intake", "More charts are to come; start 44 s, median of 3 runs", before_s=44, runs=3)
    surveyed = surveying.survey(drive("pilots-chart"))
    save(store.dossier("T-1043") / "survey.json", surveyed.survey)
    log("T-1043", 3.1, "survey", f"Survey finished: {both_text(surveyed.survey.used_bytes)} used, health: sound")
    plan = planning.plan_for(surveyed, drive("pilots-new"), None, Policy(grow=4))
    save(store.dossier("T-1043") / "plan.json", plan)
    log(
        "T-1043",
        2.9,
        "plan",
        f"Plan written: {both_text(plan.estimate.bytes_to_copy)} to copy",
    )

    store.add(
        Job(
            ticket="T-1044",
            customer="An islander of Tern Island",
            machine="Petrel 11, at home",
            promise=promise(6, 17),
            wish="The photographs",
            stop="survey",
            old_drive=drive("islander-old"),
        )
    )
    log("T-1044", 0.6, "intake", "Stands still for minutes; no backup")

    store.add(
        Job(
            ticket="T-1041",
            customer="Lantern Rock Lighthouse Museum",
            machine="Quayside Kiosk, lamp room",
            promise=promise(-1, 17),
            wish="The kiosk must open on Saturday",
            stop="handover",
            closed=True,
            old_drive=drive("museum-kiosk"),
            new_drive=drive("museum-new"),
        )
    )
    log(
        "T-1041",
        76.0,
        "intake",
        "Kiosk freezes in its film; start 121 s, median of 3 runs",
        before_s=121,
        runs=3,
    )
    surveyed = surveying.survey(drive("museum-kiosk"))
    save(store.dossier("T-1041") / "survey.json", surveyed.survey)
    log("T-1041", 74.5, "survey", f"Survey finished: {both_text(surveyed.survey.used_bytes)} used, health: sound")
    path = store.dossier("T-1041") / "plan.json"
    kiosk = planning.plan_for(surveyed, drive("museum-new"), None, Policy())
    save(path, kiosk)
    log("T-1041", 74.2, "plan", f"Plan written: {both_text(kiosk.estimate.bytes_to_copy)} to copy")
    consent = Consent(tail=str(_DRIVES["museum-new"]["serial"])[-4:], bench=str(store.folder))
    outcome = transferring.run_transfer(path, consent, False, "full")
    log(
        "T-1041",
        72.9,
        "transfer-done",
        f"Everything was copied and checked. Copied: {both_text(outcome.copied_bytes)}",
        seconds=outcome.seconds,
        manifest_hash=outcome.manifest_hash,
    )
    log("T-1041", 50.6, "measure", "Start of the machine now: 27 s", after_s=27, runs=3)
    log("T-1041", 50.3, "handover", "Handed over; the old drive is with the customer")
    make_intakes(store, promise, drive, log)
    store.close()
