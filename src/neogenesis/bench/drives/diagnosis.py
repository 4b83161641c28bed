"""Asking a drive how it is: from the desktop's disk service, or through the distribution's drive-diagnosis utility.

A drive that stalls is asked once, with a time limit, and never again by itself.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

from neogenesis.bench.drives import is_hardware, open_sealed, service
from neogenesis.core.drive import Health, HealthReading, judge
from neogenesis.core.drive.smart import read_smart_report
from neogenesis.core.errors import BadArgument, BadRecord

_SECONDS = 20.0
#: Ways through a USB bridge, tried in this order until one answers.
_WAYS = ("", "sat", "sntasmedia", "sntjmicron", "sntrealtek", "usbjmicron", "usbprolific", "usbsunplus")
#: Installed with the package; asks for the right to read one drive's health, and does nothing else.
_HELPER = Path("/usr/lib/neogenesis/neogenesis-health")
_PATH = "/usr/sbin:/sbin:/usr/local/sbin"


def health_of(name: str) -> Health:
    """The verdict on a DRIVE, or on a recorded reading in a JSON file; raises BadArgument or BadRecord."""
    path = Path(name)
    if path.suffix != ".json" or not path.is_file() or is_hardware(name):
        return judge(reading_of(name))
    try:
        return judge(read_smart_report(path.read_bytes()))
    except OSError as error:
        raise BadRecord(f"The reading “{name}” cannot be read ({error.strerror}).", "Give another file.") from error


def reading_of(name: str) -> HealthReading | None:
    """What the drive says of itself now; None where nothing can be had. Raises BadArgument for what is no drive."""
    if not Path(name).is_block_device():
        opened = open_sealed(name, grip="look")
        opened.close()
        return opened.drive.reading
    found = service.health(Path(name))
    return found if found is not None else _from_utility(name)


def _asking(utility: str, name: str, way: str) -> list[str]:
    return [utility, "--json", "--all", *(["--device", way] if way else []), name]


def _from_utility(name: str) -> HealthReading | None:
    utility = shutil.which("smartctl") or shutil.which("smartctl", path=_PATH)
    if utility is None:
        return None
    helped = os.geteuid() != 0 and _HELPER.exists() and shutil.which("pkexec") is not None
    latest: HealthReading | None = None
    for way in _WAYS:
        try:
            done = subprocess.run(
                ["pkexec", str(_HELPER), name, way] if helped else _asking(utility, name, way),
                capture_output=True,
                timeout=_SECONDS,
                check=False,
                stdin=subprocess.DEVNULL,
            )
        except subprocess.TimeoutExpired:
            return HealthReading(answers=False)  # it stalls whoever asks it
        except OSError as error:
            raise BadArgument(
                f"“{utility}” cannot be run ({error.strerror}).", "Install smartmontools anew."
            ) from error
        try:
            latest = read_smart_report(done.stdout)
        except BadRecord:
            continue
        if latest is not None:
            return latest
    return latest
