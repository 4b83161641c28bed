"""Long work as a process of its own: how others start it, find it again, and steer it."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from neogenesis.bench.processes.work import running_worker

__all__ = ["last_words", "running_worker", "start_command", "steer"]

#: Workers that this process started: remembered until they end, since whoever asked for them may be gone by then.
_children: list[subprocess.Popen[bytes]] = []


def start_command(arguments: Sequence[str], errors_path: Path, cwd: Path | None = None) -> subprocess.Popen[bytes]:
    """Start this program with `arguments` as a process that outlives its parent, in that folder."""
    _children[:] = [child for child in _children if child.poll() is None]
    with errors_path.open("wb") as errors:
        child = subprocess.Popen(
            [sys.executable, "-m", "neogenesis", *arguments],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=errors,
            start_new_session=True,
            cwd=cwd,
        )
    _children.append(child)
    return child


def last_words(plan: Path) -> str:
    """What the last worker of this plan said on its standard error, on one line."""
    try:
        return " ".join(plan.with_name(f"{plan.stem}.errors").read_text("utf-8", "replace").split())
    except OSError:
        return ""


def steer(record: Path, order: str) -> bool:
    """Send `pause`, `go-on` or `stop` to the work under way; False when there is none."""
    process = running_worker(record)
    if process is None:
        return False
    number = {"pause": signal.SIGUSR1, "go-on": signal.SIGUSR2, "stop": signal.SIGTERM}[order]
    with suppress(ProcessLookupError):
        os.kill(process, number)
        return True
    return False
