"""One measured figure, and how times are taken."""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

ROUNDS = 5
ROOT = Path(__file__).resolve().parents[2]


@dataclass(frozen=True)
class Figure:
    """One line: what was measured, the median and the spread, the goal, and how."""

    name: str
    value: str
    goal: str
    met: bool
    how: str


@contextmanager
def tmpfs(gib: int) -> Iterator[Path]:
    """A folder in memory, so that a disk's moods do not count."""
    base = Path("/dev/shm") if shutil.disk_usage("/dev/shm").free > gib << 30 else Path(tempfile.gettempdir())
    folder = Path(tempfile.mkdtemp(prefix="neogenesis-bench-", dir=base))
    try:
        yield folder
    finally:
        shutil.rmtree(folder)


def timed(command: list[str | Path]) -> tuple[float, int]:
    """Wall seconds, and the peak memory in KiB of the process."""
    started = time.perf_counter()
    process = subprocess.Popen([str(c) for c in command], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, cwd=ROOT)
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - started
    words = process.stderr.read().decode() if process.stderr else ""
    if process.stderr:
        process.stderr.close()
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"{command}: {words}")
    return seconds, usage.ru_maxrss


def spread(values: list[float], unit: str = "", digits: int = 2) -> str:
    return f"{statistics.median(values):.{digits}f}{unit} ({min(values):.{digits}f} to {max(values):.{digits}f})"


def alternate(rounds: int, *work: Callable[[], float]) -> list[list[float]]:
    """Each in turn, so that a slow moment hits all alike; the first round warms up and is dropped."""
    found: list[list[float]] = [[] for _ in work]
    for number in range(rounds + 1):
        for index, do in enumerate(work):
            seconds = do()
            if number:
                found[index].append(seconds)
    return found
