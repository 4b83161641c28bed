"""What remedies need done to a volume, through the distribution's utilities."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Callable
from pathlib import Path

from neogenesis.bench.processes.exposed import exposed
from neogenesis.bench.processes.scratch import scratch
from neogenesis.bench.processes.utilities import find_tool
from neogenesis.core.errors import ToolFailed
from neogenesis.core.store import WritableStore

_DAY_S = 86400


class VolumeTools:
    """Implements what remedies need done, through the distribution's utilities.

    The dates that they write are those of today's midnight, so that what is worked out twice comes out the same.
    """

    def __init__(self, new_id: Callable[[], str]) -> None:
        self._new_id = new_id

    def copy_file(self, volume: WritableStore, source: str, target: str) -> None:
        with exposed(volume) as path, scratch("mend") as folder:
            held = folder / "file"
            _run(["mcopy", "-i", str(path), f"::{source}", str(held)])
            _put(path, held, target)

    def put_file(self, volume: WritableStore, data: bytes, target: str) -> None:
        with exposed(volume) as path, scratch("mend") as folder:
            held = folder / "file"
            held.write_bytes(data)
            _put(path, held, target)

    def make_fat(self, volume: WritableStore, label: str, identity: str) -> None:
        with exposed(volume) as path:
            number = identity.replace("-", "") or self._new_id()[:8]
            _run(["mkfs.fat", "--invariant", "-i", number, "-S", str(volume.sector_size), "-n", label, str(path)])

    def new_identity(self, volume: WritableStore, uuid: str) -> None:
        """The utility wants a volume that was checked since its last use; of a sound one that changes dates."""
        with exposed(volume) as path:
            _run(["e2fsck", "-f", "-p", str(path)], (0, 1))
            _run(["tune2fs", "-f", "-U", uuid, str(path)])


def _put(volume: Path, held: Path, target: str) -> None:
    parts = target.split("/")
    for depth in range(1, len(parts)):
        folder = "::" + "/".join(parts[:depth])
        if _run(["mdir", "-b", "-i", str(volume), folder], (0, 1)) != 0:
            _run(["mmd", "-i", str(volume), folder])
    _run(["mcopy", "-n", "-i", str(volume), str(held), f"::{target}"])


def _run(arguments: list[str], allowed: tuple[int, ...] = (0,)) -> int:
    """Raises ToolFailed."""
    midnight = str(int(time.time()) // _DAY_S * _DAY_S)
    done = subprocess.run(
        [find_tool(arguments[0]), *arguments[1:]],
        capture_output=True,
        text=True,
        errors="replace",
        check=False,
        stdin=subprocess.DEVNULL,
        start_new_session=True,
        env={
            "MTOOLS_SKIP_CHECK": "1",
            "LC_ALL": "C",
            "PATH": "/usr/bin:/bin:/usr/sbin:/sbin",
            "SOURCE_DATE_EPOCH": midnight,
            "E2FSPROGS_FAKE_TIME": midnight,
            "E2FSCK_TIME": midnight,
        },
    )
    if done.returncode not in allowed:
        words = " ".join((done.stderr or done.stdout).split())[:200]
        if "Disk full" in words:
            text = "There is no room for it on the start-up partition; nothing was written."
            raise ToolFailed(text, "Make room there first.")
        raise ToolFailed(f"{arguments[0]} failed ({words}); nothing was written.", "Check the volume first.")
    return done.returncode
