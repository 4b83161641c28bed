"""Asking a drive how it is: from the desktop's disk service, or through the distribution's drive-diagnosis utility.

A drive that stalls is asked once, with a time limit, and never again by itself.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path

from neogenesis.bench.drives import is_hardware, open_sealed, service
from neogenesis.core.drive import Health, HealthReading, judge
from neogenesis.core.drive.smart import read_smart_report
from neogenesis.core.errors import BadRecord, Refused

#: Asks by every way, keeps the time, and does nothing else; for those without the right to there is the installed one.
_HELPER = Path(str(files("neogenesis").joinpath("data/neogenesis-health")))
HELPER_INSTALLED = Path("/usr/lib/neogenesis/neogenesis-health")
_RECORD = b"\x1e"  # RFC 7464
_STALLS, _DISMISSED, _NOT_AUTHORISED = 124, 126, 127
_refused = set[str]()  # drives that somebody would not let be asked: a prompt that was dismissed does not come back


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
    """What the drive says of itself now; None where nothing can be had.

    Raises BadArgument for what is no drive, and Refused where asking is not permitted.
    """
    if not Path(name).is_block_device():
        opened = open_sealed(name, grip="look")
        opened.close()
        return opened.drive.reading
    found = service.health(Path(name))
    return found if found is not None else _from_utility(name)


def _from_utility(name: str) -> HealthReading | None:
    """Nobody is hurried who types a password: the helper keeps the time of each way itself."""
    prompts = os.geteuid() != 0 and HELPER_INSTALLED.exists() and shutil.which("pkexec") is not None
    if not (prompts and name in _refused):
        asking = ["pkexec", str(HELPER_INSTALLED)] if prompts else ["sh", str(_HELPER)]
        done = subprocess.run(
            [*asking, str(Path(name).absolute())], capture_output=True, check=False, stdin=subprocess.DEVNULL
        )
        if done.returncode == _STALLS:
            return HealthReading(answers=False)  # it stalls whoever asks it
        if not (prompts and done.returncode in (_DISMISSED, _NOT_AUTHORISED)):
            return _first_reading(done.stdout.split(_RECORD)[1:])
        _refused.add(name)
    raise Refused(
        "not-permitted",
        f"Asking “{name}” for its health was not permitted; nothing is known of how it is.",
        "Ask again with the password of someone who may, or as root.",
    )


def _first_reading(reports: Sequence[bytes]) -> HealthReading | None:
    """The first that the drive gave, whichever way; else what the plain way says of why there is none: a guessed way
    that leads nowhere says nothing of the drive.
    """
    plain: HealthReading | None = None
    for place, report in enumerate(reports):
        try:
            reading = read_smart_report(report)
        except BadRecord:
            continue
        if reading.status == "answered":
            return reading
        if place == 0:
            plain = reading
    return plain
