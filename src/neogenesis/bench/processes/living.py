"""Which process it is, so that it is known later whether that one still lives: numbers are used again."""

from __future__ import annotations

import os
import socket
from functools import cache
from pathlib import Path


@cache
def _boot() -> str:
    """This start of this computer."""
    try:
        return Path("/proc/sys/kernel/random/boot_id").read_text("ascii").strip()
    except OSError:
        return ""


def _began(process: int) -> str:
    """When a process began, in the kernel's ticks; empty for one that is gone or has ended."""
    try:
        fields = Path(f"/proc/{process}/stat").read_text("ascii", "replace").rpartition(")")[2].split()
    except OSError:
        return ""
    return "" if fields[0] in ("Z", "X") else fields[19]


def this_process() -> str:
    """As `process_name`, of the one that asks."""
    return process_name(os.getpid())


def process_name(number: int) -> str:
    """`NUMBER BEGAN BOOT HOST`; for `lives`."""
    return f"{number} {_began(number)} {_boot()} {socket.gethostname()}"


def lives(process: str) -> bool:
    """Whether the process that called itself so still runs; one of another computer counts as running."""
    number, began, boot, host = [*process.split(" ", 3), "", "", "", ""][:4]
    if host != socket.gethostname():
        return True
    return boot == _boot() and number.isdigit() and bool(began) and _began(int(number)) == began
