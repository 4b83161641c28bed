"""A volume in a file, mounted by the kernel where nobody else sees it, and gone with whoever mounted it."""

from __future__ import annotations

import ctypes
import os
import subprocess
import tempfile
import threading
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from neogenesis.bench.processes.utilities import find_tool
from neogenesis.core.errors import ToolFailed

_NEW_MOUNTS, _RECURSIVE, _PRIVATE = 0x20000, 0x4000, 1 << 18
_libc = ctypes.CDLL(None, use_errno=True)


class CannotMount(Exception):
    """The kernel does not let this account mount a volume; nothing was done."""


def in_own_mount(volume: Path, kind: str, use: Callable[[Path], None]) -> None:
    """Call `use` with the folder at which the volume is mounted, in a thread that alone sees the mount.

    It goes with the thread, so nothing stays behind where the process is killed. Raises CannotMount, what `use`
    raises, or ToolFailed when the volume cannot be written out.
    """
    raised: list[BaseException] = []

    def work() -> None:
        try:
            _alone(volume, kind, use)
        except BaseException as error:  # noqa: BLE001 - raised where it is waited for
            raised.append(error)

    thread = threading.Thread(target=work, name="mount")
    thread.start()
    thread.join()
    if raised:
        raise raised[0]


def _alone(volume: Path, kind: str, use: Callable[[Path], None]) -> None:
    if os.geteuid() != 0 or _libc.unshare(_NEW_MOUNTS) or _libc.mount(b"none", b"/", None, _RECURSIVE | _PRIVATE, None):
        raise CannotMount
    point = Path(tempfile.mkdtemp(prefix="neogenesis-mount-"))
    try:
        options = "loop,nosuid,nodev,noexec,noatime"
        mounted = subprocess.run(
            [find_tool("mount"), "-t", kind, "-o", options, volume, point], capture_output=True, check=False
        )
        if mounted.returncode:
            raise CannotMount
        try:
            use(point)
        except BaseException:
            subprocess.run([find_tool("umount"), "-l", point], capture_output=True, check=False)
            raise
        ended = subprocess.run([find_tool("umount"), point], capture_output=True, check=False)
        if ended.returncode:
            words = ended.stderr.decode("utf-8", "replace").strip()[:200]
            raise ToolFailed(f"The new volume could not be written out ({words}); nothing was written.", "Try again.")
    finally:
        with suppress(OSError):
            point.rmdir()
