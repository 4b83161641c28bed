"""What fills it: a million files, against the plain way of listing them on the mounted volume."""

from __future__ import annotations

import resource
import subprocess
import time
from pathlib import Path

from tests.bench.engine import PROGRAM
from tests.bench.figure import ROUNDS, Figure, alternate, spread, timed, tmpfs
from tests.drives import run

_FILES, _IN_FOLDER = 1_000_000, 200
_GOAL_S, _GOAL_MIB = 60.0, 300.0


def _volume_with_files(folder: Path) -> Path:
    image, point = folder / "files.img", folder / "mounted"
    point.mkdir()
    with image.open("wb") as file:
        file.truncate(3 << 30)
    run("mke2fs", "-q", "-F", "-t", "ext4", "-O", "^has_journal,inline_data", "-I", "256", "-N", str(1_100_000), image)
    run("mount", "-o", "loop", image, point)
    try:
        for number in range(_FILES // _IN_FOLDER):
            inner = point / f"home/person{number % 7}/folder{number % 50}/sub{number}"
            inner.mkdir(parents=True)
            for file in range(_IN_FOLDER):
                (inner / f"file number {file}.txt").write_bytes(b"x" * (file % 40))
    finally:
        run("umount", point)
    return image


def filling() -> list[Figure]:
    """The whole command with its survey; the other way is `find` on the mounted volume, printing every size."""
    with tmpfs(5) as folder:
        image = _volume_with_files(folder)
        point, memory = folder / "mounted", []

        def ours() -> float:
            seconds, peak = timed([*PROGRAM, "fills", image])
            memory.append(max(peak, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss) / 1024)
            return seconds

        def plain() -> float:
            run("mount", "-o", "loop,ro", image, point)
            try:
                started = time.perf_counter()
                subprocess.run(
                    ["find", point, "-type", "f", "-printf", "%s %p\n"], stdout=subprocess.DEVNULL, check=True
                )
                return time.perf_counter() - started
            finally:
                run("umount", point)

        mine, theirs = alternate(min(3, ROUNDS), ours, plain)
        ratios = [a / b for a, b in zip(mine, theirs, strict=True)]
        return [
            Figure(
                "What fills it, 1,000,000 files",
                spread(mine, " s", 1),
                f"at most {_GOAL_S:.0f} s",
                max(mine) <= _GOAL_S,
                f"`neogenesis fills` on an ext4 image; {spread(ratios)} of `find` printing every size of the mounted volume",
            ),
            Figure(
                "Memory while counting them",
                f"{max(memory):.0f} MiB",
                f"at most {_GOAL_MIB:.0f} MiB",
                max(memory) <= _GOAL_MIB,
                "the larger of the program and the process that lists files",
            ),
        ]


PARTS = (filling,)
