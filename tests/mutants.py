"""Applies each deliberate breakage to a copy of the source and runs the tests that must see it: `make test-mutants`."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tests.broken import BROKEN, Broken

ROOT = Path(__file__).resolve().parents[1]
_AT_ONCE = os.cpu_count() or 1
_FAILED = 1
_SECONDS = 600


def judge(broken: Broken) -> str:
    """Empty when it was caught, else why not."""
    with tempfile.TemporaryDirectory(prefix="neogenesis-mutant-") as name:
        folder = Path(name)
        for part in ("src", "tests"):
            shutil.copytree(ROOT / part, folder / part, ignore=shutil.ignore_patterns("__pycache__"))
        for part in ("pyproject.toml", "README.md", "Makefile"):
            shutil.copy(ROOT / part, folder / part)
        path = folder / "src/neogenesis" / broken.file
        text = path.read_text("utf-8")
        if text.count(broken.before) != 1:
            return f"what is to be broken stands there {text.count(broken.before)} times"
        path.write_text(text.replace(broken.before, broken.after), "utf-8")
        environment = {**os.environ, "PYTHONPATH": f"{folder / 'src'}:{folder}"}
        try:
            done = subprocess.run(
                [sys.executable, "-m", "pytest", "-x", "-n", "0", "-p", "no:cacheprovider", *broken.tests.split()],
                cwd=folder,
                env=environment,
                capture_output=True,
                text=True,
                check=False,
                timeout=_SECONDS,
            )
        except subprocess.TimeoutExpired:
            return ""  # it was noticed: the tests did not come to an end
        return "" if done.returncode == _FAILED else f"pytest ended with {done.returncode}: {done.stdout[-300:]}"


def main() -> None:
    wanted = [b for b in BROKEN if not sys.argv[1:] or any(word in b.name for word in sys.argv[1:])]
    missed = 0
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        for broken, why in zip(wanted, pool.map(judge, wanted), strict=True):
            missed += bool(why)
            print(f"{'MISSED' if why else 'caught'}  {broken.name}{': ' + why if why else ''}", flush=True)  # noqa: T201
    print(f"{len(wanted) - missed} passed, {missed} failed")  # noqa: T201
    sys.exit(bool(missed))


if __name__ == "__main__":
    main()
