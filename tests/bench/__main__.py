"""Measures and prints; `--write` also puts the figures and the chart into docs/performance.md.

Each part is kept below `build/bench` by the commit that it measured, so that a run that was cut short goes on where it
was; `--again` measures all anew.
"""

from __future__ import annotations

import json
import multiprocessing
import os
import re
import shutil
import statistics
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from importlib import import_module
from pathlib import Path

import msgspec

from tests.bench.chart import draw
from tests.bench.engine import PARTS
from tests.bench.figure import ROOT, ROUNDS, Figure, alternate, spread, timed, tmpfs
from tests.bench.fresh import PARTS as FRESH
from tests.bench.judging import PARTS as JUDGING
from tests.bench.limits import LIMITS
from tests.bench.looks import PARTS as LOOKS
from tests.drives import (
    MIB,
    NT_DATA,
    STARTUP,
    Part,
    blank,
    make_drive,
    place,
    run,
    set_docks,
    simulated,
    standard_parts,
)

PROGRAM = [sys.executable, "-m", "neogenesis"]


def transfer_against_cp() -> list[Figure]:
    """Incompressible data of 2 GiB, file to file in memory, checksums on, verification off."""
    with tmpfs(9) as folder:
        old = make_drive(folder / "old.img", 2080, [Part(0, NT_DATA, "")])
        with old.open("r+b") as file:
            file.seek(MIB)
            for _ in range(2048):
                file.write(os.urandom(MIB))
        new, plan, memory = folder / "new.img", folder / "p.json", []
        blank(new, 2080)
        run(sys.executable, "-m", "neogenesis", "plan", old, new, "--grow", "none", "-o", plan)

        def ours() -> float:
            blank(new, 2080)
            for file in folder.glob("p.*"):
                if file.is_file() and file != plan:
                    file.unlink()
            _, peak = timed([*PROGRAM, "transfer", plan, "--confirm", "new", "--verify", "none"])
            memory.append(peak / 1024)
            events = [json.loads(line) for line in (folder / "p.events.jsonl").read_text().splitlines()]
            begun = next(e["time_s"] for e in events if e.get("event") == "operation" and e.get("phase") == "copy")
            return float(events[-1]["time_s"]) - float(begun)

        def whole() -> float:
            blank(new, 2080)
            for file in folder.glob("p.*"):
                if file.is_file() and file != plan:
                    file.unlink()
            return timed([*PROGRAM, "transfer", plan, "--confirm", "new", "--verify", "none"])[0]

        def cp() -> float:
            (folder / "cp.img").unlink(missing_ok=True)
            return timed(["cp", "--sparse=never", old, folder / "cp.img"])[0]

        copied, process, plain = alternate(ROUNDS, ours, whole, cp)
    ratios = [a / b for a, b in zip(copied, plain, strict=True)]
    whole_ratios = [a / b for a, b in zip(process, plain, strict=True)]
    return [
        Figure(
            "Transfer, time of `cp --sparse=never` for the same 2 GiB",
            spread(ratios),
            "at most 1.3",
            statistics.median(ratios) <= 1.3,
            "copy step of the worker, BLAKE3 on, verification off, file to file in memory",
        ),
        Figure(
            "The same with start-up, survey, journal, table and manifest",
            spread(whole_ratios),
            "at most 1.25",
            statistics.median(whole_ratios) <= 1.25,
            "whole process",
        ),
        Figure(
            "Peak memory of the worker",
            spread(memory, " MiB", 0),
            "at most 300 MiB",
            max(memory) <= 300,
            "2 GiB of data",
        ),
    ]


def large_drives() -> list[Figure]:
    """Drives that are large and nearly empty: their size must not matter."""
    figures = []
    with tempfile.TemporaryDirectory(prefix="neogenesis-bench-") as name:
        folder = Path(name)
        image = folder / "old.img"
        with image.open("wb") as file:
            file.truncate(500_107_862_016)
        run("sfdisk", "-q", image, text=f"label: gpt\nsize=260MiB, type={STARTUP}\ntype={NT_DATA}\n")
        volume = folder / "volume"
        with volume.open("wb") as file:
            file.truncate(499_832_061_952)
        run("mkntfs", "-Q", "-F", "-q", volume)
        place(image, volume, 273_678_336)
        volume.unlink()
        seconds, _memory = zip(*(timed([*PROGRAM, "survey", image, "--json"]) for _ in range(ROUNDS)), strict=True)
        figures.append(
            Figure(
                "Survey of a 500 GB drive with NTFS",
                spread(list(seconds), " s"),
                "under 3 s",
                statistics.median(seconds) < 3,
                "whole process",
            )
        )
        four = folder / "four.img"
        with four.open("wb") as file:
            file.truncate(4_000_787_030_016)
        run("mkntfs", "-Q", "-F", "-q", four)
        took, peak = timed([*PROGRAM, "survey", four, "--json"])
        figures.append(
            Figure(
                "Survey of a 4 TB volume: memory",
                f"{peak / 1024:.0f} MiB, {took:.1f} s",
                "under 300 MiB",
                peak / 1024 < 300,
                "whole process",
            )
        )
        code = (
            "import time, statistics; from neogenesis.bench.inside.surveying import survey; from neogenesis.bench.works.planning import target_of; from neogenesis.core.plan import Policy, make_plan\n"
            f"s = survey({str(image)!r}); t = target_of({str(blank(folder / 'new.img', 953_869))!r}, 512)\n"
            "times = []\n"
            "for n in range(20):\n"
            "    a = time.perf_counter(); make_plan(s, t, Policy(spare_percent=n % 5), lambda: 'X'); times.append(time.perf_counter() - a)\n"
            "print(statistics.median(times) * 1000)"
        )
        milliseconds = float(run(sys.executable, "-c", code))
        figures.append(
            Figure(
                "Making a plan for it",
                f"{milliseconds:.1f} ms",
                "under 100 ms",
                milliseconds < 100,
                "median of 20, in one process",
            )
        )
    return figures


def window() -> list[Figure]:
    """First paint, and the longest pause of the event loop while a transfer runs."""
    paints, pauses = _window_runs(1, 4)
    return [
        _at_most(
            "First paint of the window", paints, " s", 1.2, 2, "from the start of the process, Qt's offscreen screen"
        ),
        _at_most(
            "Longest pause of the event loop during a transfer",
            pauses,
            " ms",
            100,
            0,
            "a probe that wants to run every 5 ms, the real worker beside it",
        ),
    ]


def busy_window() -> list[Figure]:
    """The same for a shop with 400 jobs and 12 docks, by somebody who goes to and fro meanwhile."""
    paints, pauses = _window_runs(400, 12)
    how = "400 jobs, 12 docks; searching, opening jobs and going from stop to stop while a transfer runs"
    return [
        _at_most("First paint with 400 jobs and 12 docks", paints, " s", 1.2, 2, how),
        _at_most("Longest pause with 400 jobs and 12 docks", pauses, " ms", 100, 0, how),
    ]


def _at_most(name: str, values: list[float], unit: str, most: float, digits: int, how: str) -> Figure:
    return Figure(name, spread(values, unit, digits), f"at most {most:g}{unit}", statistics.median(values) <= most, how)


def _window_runs(jobs: int, docks: int) -> tuple[list[float], list[float]]:
    """First paints in seconds, longest pauses in milliseconds."""
    with tempfile.TemporaryDirectory(prefix="neogenesis-bench-") as name:
        folder = Path(name)
        make_drive(folder / "old.img", 640, standard_parts())
        blank(folder / "new.img", 1400)
        blank(folder / "more.img", 1400)
        simulated(folder / "old.drive.json", "old.img", serial="OLD00001", clock="real", read={"bytes_per_s": 2e7})
        simulated(folder / "new.drive.json", "new.img", serial="NEW00002")
        names: list[str | None] = ["old.drive.json", "new.drive.json"]
        for number in range(2, docks if docks > 4 else 2):
            simulated(folder / f"{number}.drive.json", "more.img", serial=f"MORE{number:04}")
            names.append(f"{number}.drive.json")
        set_docks(folder, [*names, *[None] * (docks - len(names))])
        paints, pauses = [], []
        for _ in range(ROUNDS):
            shutil.rmtree(folder / "bench", ignore_errors=True)
            blank(folder / "new.img", 1400)
            if jobs > 1:
                run(sys.executable, "-c", _FILL, folder, str(jobs))
            said = run(sys.executable, "-m", "tests.bench.window", folder, str(time.time()), str(jobs))
            found = re.search(r"paint (\S+) pause (\S+)", said)
            assert found, said
            paints.append(float(found.group(1)))
            pauses.append(float(found.group(2)))
    return paints, pauses


#: Before the clock starts.
_FILL = """
import sys; from pathlib import Path
from neogenesis.bench.records.opening import open_records
from tests.bench.window import fill
store = open_records(Path(sys.argv[1]) / "bench"); fill(store, Path(sys.argv[1]), int(sys.argv[2])); store.close()
"""


def table(figures: list[Figure]) -> str:
    lines = ["| what | measured: median (least to most) | goal | met | how |", "|---|---|---|---|---|"]
    lines += [f"| {f.name} | {f.value} | {f.goal} | {'yes' if f.met else '**no**'} | {f.how} |" for f in figures]
    return "\n".join(lines)


def main() -> None:
    screen = ROOT / "src/neogenesis/data/screen.json"
    os.environ.setdefault("QT_QPA_PLATFORM", f"offscreen:configfile={screen}")
    figures: list[Figure] = []
    wanted = [name for name in sys.argv[1:] if not name.startswith("-")]
    commit = run("git", "-C", ROOT, "rev-parse", "--short", "HEAD").strip()
    own = import_module("tests.bench.__main__")  # by the name under which another process finds them
    for part in (
        own.transfer_against_cp,
        own.large_drives,
        own.window,
        own.busy_window,
        *PARTS,
        *LIMITS,
        *LOOKS,
        *JUDGING,
        *FRESH,
    ):
        if wanted and part.__name__ not in wanted:
            continue
        kept = ROOT / "build/bench" / commit / f"{part.__name__}.json"
        if kept.exists() and not wanted and "--again" not in sys.argv:
            figures += msgspec.json.decode(kept.read_bytes(), type=list[Figure])
            continue
        print(f"{part.__name__} …", flush=True)  # noqa: T201
        began = time.monotonic()
        # In a process of its own: what is started from a large one counts its memory as well.
        with ProcessPoolExecutor(1, multiprocessing.get_context("spawn")) as apart:
            found = apart.submit(part).result()
        kept.parent.mkdir(parents=True, exist_ok=True)
        kept.write_bytes(msgspec.json.encode(found))
        figures += found
        print(table(found), f"\n{time.monotonic() - began:.0f} s\n", flush=True)  # noqa: T201
    print(table(figures))  # noqa: T201
    if "--write" in sys.argv:
        path = ROOT / "docs/performance.md"
        text = path.read_text("utf-8")
        start, end = "<!-- figures -->", "<!-- end of figures -->"
        before, rest = text.split(start)
        path.write_text(before + start + "\n" + table(figures) + "\n" + end + rest.split(end)[1], "utf-8")
        path.with_suffix(".svg").write_text(draw(figures), "utf-8")


if __name__ == "__main__":
    main()
