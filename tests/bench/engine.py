"""Figures of the engine beyond one copy: exact, images, many targets, rescue, and what the size of a drive costs."""

from __future__ import annotations

import json
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from blake3 import blake3

from tests.bench.figure import Figure, alternate, spread, timed, tmpfs
from tests.drives import LINUX, MIB, NT_DATA, Part, blank, make_drive, place, run, simulated

PROGRAM = [sys.executable, "-m", "neogenesis"]
ROUNDS = 3


def fresh(folder: Path, *keep: str) -> None:
    """Take away what a command leaves beside its inputs."""
    for file in folder.iterdir():
        if file.is_file() and file.name not in keep:
            file.unlink()


WORDS = [
    "tide",
    "berth",
    "ferry",
    "lamp",
    "gull",
    "chart",
    "rope",
    "buoy",
    "pilot",
    "island",
    "fog",
    "bell",
    "harbour",
    "ledger",
    "ticket",
]


def contents(seed: int) -> Iterator[bytes]:
    """What a customer's drive holds, in pieces of 4 MiB: mostly pictures and films, programs, texts, and zeros."""
    rng = random.Random(seed)
    programs = b""
    for library in sorted(Path("/usr/lib/x86_64-linux-gnu").glob("*.so.*"), key=lambda p: p.name):
        if len(programs) < 80 * MIB and library.is_file():
            programs += library.read_bytes()
    while True:
        share = rng.random()
        if share < 0.70:
            yield os.urandom(4 * MIB)
        elif share < 0.80 and programs:
            at = rng.randrange(max(1, len(programs) - 4 * MIB))
            yield programs[at : at + 4 * MIB]
        elif share < 0.90:
            text = " ".join(rng.choice(WORDS) + str(rng.randrange(10_000)) for _ in range(60_000)).encode()
            yield (text * 12)[: 4 * MIB]
        else:
            yield bytes(4 * MIB)


def full_drive(path: Path, mib: int) -> Path:
    """One partition that nobody understands, full to the end: every byte of it must be kept."""
    make_drive(path, mib, [Part(0, LINUX, "")])
    with path.open("r+b") as file:
        file.seek(MIB)
        for piece in contents(11):
            if file.tell() > (mib - 6) * MIB:
                return path
            if any(piece[:64]):
                file.write(piece)
            else:
                file.seek(len(piece), os.SEEK_CUR)
    return path


def used_drive(path: Path, mib: int) -> Path:
    """A volume that was full once and has had half of its files deleted since, as on a drive of some years."""
    tree = path.with_name("tree")
    tree.mkdir()
    pieces = contents(12)
    names = [f"{number:05}" for number in range((mib - 160) // 4)]
    for name in names:
        (tree / name).write_bytes(next(pieces))
    volume = blank(path.with_name("volume"), mib - 2)
    run("mke2fs", "-q", "-F", "-t", "ext4", "-m", "0", "-d", tree, volume)
    shutil.rmtree(tree)
    run("debugfs", "-w", "-f", "/dev/stdin", volume, text="".join(f"rm {name}\n" for name in names[::2]))
    make_drive(path, mib, [Part(0, LINUX, "")])
    place(path, volume, MIB)
    volume.unlink()
    return path


def exact() -> list[Figure]:
    """Sector for sector against cp, and the machine's own limits beside it."""
    with tmpfs(9) as folder:
        old = make_drive(folder / "old.img", 2050, [Part(0, NT_DATA, "")])
        with old.open("r+b") as file:
            file.seek(MIB)
            for _ in range(2047):
                file.write(os.urandom(MIB))
        new, plan = blank(folder / "new.img", 2050), folder / "p.json"
        run(*PROGRAM, "plan", old, new, "--intent", "exact", "-o", plan)

        def ours() -> float:
            blank(new, 2050)
            fresh(folder, "old.img", "new.img", "p.json")
            timed([*PROGRAM, "transfer", plan, "--confirm", "new", "--verify", "none"])
            events = [json.loads(line) for line in (folder / "p.events.jsonl").read_text().splitlines()]
            begun = next(e["time_s"] for e in events if e.get("event") == "operation" and e.get("phase") == "copy")
            return float(events[-1]["time_s"]) - float(begun)

        def cp() -> float:
            (folder / "cp.img").unlink(missing_ok=True)
            return timed(["cp", "--sparse=never", old, folder / "cp.img"])[0]

        copied, plain = alternate(7, ours, cp)
        buffer = bytearray(8 * MIB)
        started = time.perf_counter()
        with old.open("rb", buffering=0) as file:
            while file.readinto(buffer):
                pass
        reading = time.perf_counter() - started
        started = time.perf_counter()
        for _ in range(256):
            blake3(buffer).digest()
        hashing = time.perf_counter() - started
        started = time.perf_counter()
        with (folder / "w.img").open("wb", buffering=0) as file:
            for _ in range(256):
                file.write(buffer)
        writing = time.perf_counter() - started
    ratios = [a / b for a, b in zip(copied, plain, strict=True)]
    limit = max(reading, hashing, writing)
    return [
        Figure(
            "Exact transfer of 2 GiB, time of `cp --sparse=never`",
            spread(ratios),
            "at most 1.1",
            statistics.median(ratios) <= 1.1,
            "copy step with BLAKE3, in memory, seven rounds",
        ),
        Figure(
            "The same, against the slowest of reading, hashing, writing alone",
            f"{statistics.median(copied) / limit:.2f}",
            "-",
            True,
            f"alone: read {reading:.2f} s, hash {hashing:.2f} s, write {writing:.2f} s",
        ),
    ]


def image_against_qemu(folder: Path, old: Path, memory: list[float]) -> tuple[list[float], float]:
    """How many times as fast, round by round, and the size against that of the other; both read back what they made."""
    ours_out, theirs_out = folder / "o.qcow2", folder / "q.qcow2"

    def ours() -> float:
        fresh(folder, old.name, "q.qcow2")
        seconds, peak = timed([*PROGRAM, "image", old, ours_out])
        memory.append(peak / 1024)
        return seconds

    def theirs() -> float:
        theirs_out.unlink(missing_ok=True)
        options = ["-O", "qcow2", "-c", "-o", "compression_type=zstd", "-W", "-m", "16"]
        converted = timed(["qemu-img", "convert", *options, old, theirs_out])[0]
        return converted + timed(["qemu-img", "compare", old, theirs_out])[0]

    one, other = alternate(ROUNDS, ours, theirs)
    run("qemu-img", "check", ours_out)
    sizes = ours_out.stat().st_size / theirs_out.stat().st_size
    theirs_out.unlink()
    return [b / a for a, b in zip(one, other, strict=True)], sizes


def images() -> list[Figure]:
    memory: list[float] = []
    with tmpfs(16) as folder:
        in_use_speed, in_use_size = image_against_qemu(folder, used_drive(folder / "old.img", 6000), memory)
    with tmpfs(14) as folder:
        old = full_drive(folder / "old.img", 3000)
        speed, size = image_against_qemu(folder, old, memory)
        old.unlink()
        ours_out = folder / "o.qcow2"

        def restore() -> float:
            for file in folder.glob("o.qcow2.onto-*"):
                file.unlink()
            blank(folder / "new.img", 3000)
            return timed([*PROGRAM, "restore", ours_out, folder / "new.img", "--confirm", "new", "--verify", "none"])[0]

        def back() -> float:
            (folder / "raw.img").unlink(missing_ok=True)
            return timed(["qemu-img", "convert", "-O", "raw", ours_out, folder / "raw.img"])[0]

        restored, converted = alternate(ROUNDS, restore, back)
        (folder / "raw.img").unlink()
        (folder / "new.img").unlink()

        def onto(count: int) -> float:
            for file in (*folder.glob("o.qcow2.onto-*"), *folder.glob("t*.img")):
                file.unlink()
            names = [f"t{n}" for n in range(count)]
            for name in names:
                blank(folder / f"{name}.img", 3000)
                traits = {"serial": f"TARGET{name.upper()}", "clock": "real", "write": {"bytes_per_s": 2.5e8}}
                simulated(folder / f"{name}.drive.json", f"{name}.img", **traits)
            confirm = [word for name in names for word in ("--confirm", f"TARGET{name.upper()}"[-4:])]
            targets = [folder / f"{name}.drive.json" for name in names]
            return timed([*PROGRAM, "restore", ours_out, *targets, *confirm, "--verify", "none"])[0]

        def memory_alone() -> float:
            """Four plain writers of as much fresh memory at once: what the machine itself gives."""
            for file in folder.glob("t*.img"):
                file.unlink()
            began = time.perf_counter()
            writers = [
                subprocess.Popen(["dd", "if=/dev/zero", f"of={folder}/t{n}.img", "bs=1M", "count=3000", "status=none"])
                for n in range(4)
            ]
            for writer in writers:
                writer.wait()
            return time.perf_counter() - began

        single, several, bare = alternate(ROUNDS, lambda: onto(1), lambda: onto(4), memory_alone)
    again = [a / b for a, b in zip(restored, converted, strict=True)]
    many = [b / a for a, b in zip(single, several, strict=True)]
    return [
        Figure(
            "Image of a drive in use: how many times as fast as `qemu-img convert -c` with zstd and `compare`",
            spread(in_use_speed),
            "at least 3",
            statistics.median(in_use_speed) >= 3,
            "whole process, 6 GB, half of its files deleted since: only what is in use is read",
        ),
        Figure("The same: size against that tool's", f"{in_use_size:.3f}", "at most 1.02", in_use_size <= 1.02, ""),
        Figure(
            "Image of a drive of which every byte counts, against the same",
            spread(speed),
            "at least 3",
            statistics.median(speed) >= 3,
            "whole process, 3 GB that nobody understands: all of it is read",
        ),
        Figure("The same: size against that tool's", f"{size:.3f}", "at most 1.02", size <= 1.02, ""),
        Figure("Image: peak memory", spread(memory, " MiB", 0), "at most 300 MiB", max(memory) <= 300, ""),
        Figure(
            "Restore: time of `qemu-img convert` back to raw",
            spread(again),
            "at most 1",
            statistics.median(again) <= 1,
            "whole process, no read-back",
        ),
        Figure(
            "Restore to 4 targets: time of 1",
            spread(many),
            "at most 1.25",
            statistics.median(many) <= 1.25,
            f"targets of 250 MB/s each, two processor cores; one took {statistics.median(single):.1f} s, four "
            f"{statistics.median(several):.1f} s, and four plain writers of as much fresh memory {spread(bare, ' s', 1)}",
        ),
    ]


def rescue() -> list[Figure]:
    from neogenesis.bench.processes.clock import BenchClock
    from neogenesis.bench.processes.reader import open_tree
    from neogenesis.core.drive import Drive
    from neogenesis.core.extent import Extents
    from neogenesis.core.rescue import Rescue, RescueMap
    from neogenesis.core.store import FileStore, PathOpener
    from neogenesis.core.work import Control
    from tests.test_rescue import Failing

    size, rng = 2 << 30, random.Random(5)
    lost = Extents.of((at, at + 512) for at in (rng.randrange(size // 512) * 512 for _ in range(1000)))
    source = Failing(size, lost)
    found = RescueMap(size)
    with tmpfs(4) as folder:
        target = FileStore(PathOpener(blank(folder / "t.img", 2048)))
        Rescue(source, target, found, open_tree, Control(), BenchClock(), lambda m: None).run(
            Drive(path="x", size_bytes=size, sector_size=512)
        )
        target.close()
    share = source.requested / size
    right = found.ranges("lost") == lost
    return [
        Figure(
            "Rescue of 2 GiB with 1,000 damaged places: bytes asked of the drive, of a clean copy",
            f"{share:.3f}",
            "at most 1.3",
            share <= 1.3 and right,
            "and exactly the damaged sectors are lost" if right else "WRONG sectors lost",
        ),
    ]


def _time_of_size(gb: int, tree: Path) -> list[float]:
    size = gb * 10**9 // MIB * MIB
    with tmpfs(18) as folder:
        old, volume, new, plan = (folder / name for name in ("old.img", "volume", f"n{gb}.img", "p.json"))
        for path, length in ((old, size), (volume, size - 2 * MIB), (new, size)):
            with path.open("wb") as file:
                file.truncate(length)
        run("sfdisk", "-q", old, text=f"label: gpt\ntype={LINUX}\n")
        run("mke2fs", "-q", "-F", "-t", "ext4", "-d", tree, volume)
        place(old, volume, MIB)
        volume.unlink()
        run(*PROGRAM, "plan", old, new, "--grow", "none", "-o", plan)

        def one() -> float:
            with new.open("wb") as file:
                file.truncate(size)
            fresh(folder, "old.img", new.name, "p.json")
            return timed([*PROGRAM, "transfer", plan, "--confirm", f"n{gb}"[-4:], "--verify", "none"])[0]

        return alternate(ROUNDS, one)[0]


def sizes() -> list[Figure]:
    """8 GB in use on drives of 64 GB, 500 GB and 8 TB; one after the other, since they fill the memory."""
    sizes_gb, times = (64, 500, 8000), []
    with tempfile.TemporaryDirectory(prefix="neogenesis-bench-") as tree:
        with (Path(tree) / "film.bin").open("wb") as film:
            for _ in range(8000):
                film.write(os.urandom(1_000_000))
        for gb in sizes_gb:
            times.append(_time_of_size(gb, Path(tree)))
    medians = [statistics.median(t) for t in times]
    worst = max(medians) / min(medians)
    text = ", ".join(f"{gb} GB: {m:.2f} s" for gb, m in zip(sizes_gb, medians, strict=True))
    return [
        Figure(
            "8 GB in use on larger and larger drives: slowest against fastest",
            f"{worst:.2f}",
            "at most 1.2",
            worst <= 1.2,
            text,
        )
    ]


def side_by_side() -> list[Figure]:
    """Two transfers begun together, each of a GiB: how evenly they share the machine."""
    with tmpfs(6) as folder:
        plans = []
        for name in ("a", "b"):
            old = make_drive(folder / f"old{name}.img", 1026, [Part(0, NT_DATA, "")])
            with old.open("r+b") as file:
                file.seek(MIB)
                for _ in range(1023):
                    file.write(os.urandom(MIB))
            new, plan = blank(folder / f"new{name}.img", 1026), folder / f"p{name}.json"
            run(*PROGRAM, "plan", old, new, "--intent", "exact", "-o", plan)
            plans.append((plan, new))
        ratios = []
        for _ in range(ROUNDS):
            for plan, new in plans:
                blank(new, 1026)
                for file in folder.glob(f"{plan.stem}.*"):
                    if file.is_file() and file != plan:
                        file.unlink()
            began = time.perf_counter()
            running = [
                subprocess.Popen([*PROGRAM, "transfer", plan, "--confirm", new.stem[-4:]], stdout=subprocess.DEVNULL)
                for plan, new in plans
            ]
            ends = []
            while running:
                for process in list(running):
                    if process.poll() is not None:
                        ends.append(time.perf_counter() - began)
                        running.remove(process)
                time.sleep(0.005)
            ratios.append(max(ends) / min(ends))
    fair = statistics.median(ratios) <= 1.2
    how = "two transfers of 1 GiB with full read-back, begun together"
    return [Figure("Side by side: the slower against the quicker", spread(ratios), "at most 1.2", fair, how)]


PARTS = (exact, images, rescue, sizes, side_by_side)
