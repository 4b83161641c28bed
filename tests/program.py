"""Runs the program as a process of its own, forked from one that has imported it already.

Half a second of imports is saved each time, which is more than most commands take. What is run is the whole program, from
its first line to its exit status; tests that look at its start itself, or kill it, start it afresh.
"""

from __future__ import annotations

import multiprocessing
import os
import sys
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

_SECONDS = 1200.0 if os.environ.get("NEOGENESIS_LONG") else 180.0
_CONTEXT = multiprocessing.get_context("forkserver")
#: With all that the commands load when they are asked for.
_LOADED = [
    "neogenesis.cli.main",
    *(f"neogenesis.cli.{name}" for name in ("planning", "works", "bench", "looks", "judging", "boot", "fresh")),
    *(f"neogenesis.bench.works.{name}" for name in ("imaging", "rescuing", "mending", "installing", "media", "run_in")),
    *("neogenesis.bench.inside.booting", "neogenesis.bench.inside.looking", "neogenesis.bench.records.opening"),
    *("neogenesis.bench.processes.worker", "neogenesis.core.work.ending", "tests.program"),
]
_CONTEXT.set_forkserver_preload(_LOADED)


@dataclass(frozen=True, slots=True)
class Done:
    """How it ended and what it said."""

    returncode: int
    stdout: str
    stderr: str


def run_program(arguments: Sequence[str | Path]) -> Done:
    """Run `neogenesis` with these arguments, this process's environment and its folder; raises TimeoutError."""
    with tempfile.TemporaryDirectory(prefix="neogenesis-said-") as folder:
        said = [Path(folder) / name for name in ("out", "err")]
        line = [str(argument) for argument in arguments]
        process = _CONTEXT.Process(target=_program, args=(line, dict(os.environ), str(Path.cwd()), said))
        process.start()
        process.join(_SECONDS)
        if process.is_alive():
            process.kill()
            raise TimeoutError(f"neogenesis {' '.join(line)}")
        status = process.exitcode
        process.close()
        assert status is not None
        return Done(status, *(path.read_text("utf-8") for path in said))


def _program(arguments: list[str], environment: dict[str, str], folder: str, said: list[Path]) -> None:
    os.environ.clear()
    os.environ.update(environment)
    os.chdir(folder)
    for number, path in enumerate(said, 1):
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT)
        os.dup2(descriptor, number)
        os.close(descriptor)
    sys.stdout, sys.stderr = (open(number, "w", encoding="utf-8", closefd=False) for number in (1, 2))  # noqa: SIM115
    sys.argv = ["neogenesis", *arguments]
    from neogenesis.cli.main import main

    try:
        main()
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
