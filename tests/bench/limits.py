"""Figures with the limit that the machine sets beside them, taken in the same run: reading back, packing, fragments,
preparing, and memory that must not grow with the drive."""

from __future__ import annotations

import mmap
import os
import statistics
import tempfile
import threading
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import numpy as np
import zstandard
from blake3 import blake3

from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.works.tools import FilesystemTools
from neogenesis.core.store import OverlayStore, PathOpener, SealedFileStore
from neogenesis.core.transfer.readback import wrong_chunks
from neogenesis.core.work import Chunk
from tests.bench.engine import PROGRAM, fresh, full_drive
from tests.bench.figure import ROUNDS, Figure, alternate, spread, timed, tmpfs
from tests.drives import MIB, blank, run

_CORES = os.cpu_count() or 1
_PIECE = 2 * MIB
_LARGE_BYTES = 8_001_563_222_016


def _on_all_cores(path: Path, work: Callable[[memoryview], object], piece: int = _PIECE, count: int = _CORES) -> float:
    """Seconds that `work` takes for all of a file, in pieces, on every core; reading it included."""
    size = path.stat().st_size
    places, taking = iter(range(0, size, piece)), threading.Lock()

    def one() -> None:
        buffer = memoryview(mmap.mmap(-1, piece))
        descriptor = os.open(path, os.O_RDONLY)
        while True:
            with taking:
                at = next(places, None)
            if at is None:
                break
            work(buffer[: os.preadv(descriptor, [buffer], at)])
        os.close(descriptor)

    began = time.perf_counter()
    threads = [threading.Thread(target=one) for _ in range(count)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return time.perf_counter() - began


def packing() -> list[Figure]:
    """The whole image command against nothing but the compressor and the hash on the same data.

    Beside it the same with a checksum in each piece and what comes out written to a file, and the start of the program:
    what a machine can do at best that keeps its result.
    """
    with tmpfs(10) as folder:
        old = full_drive(folder / "old.img", 3000)

        def bare(out: int | None = None) -> float:
            kept = out is not None
            packers, writing, ends = threading.local(), threading.Lock(), [0]

            def work(data: memoryview) -> None:
                if not hasattr(packers, "one"):
                    packers.one = zstandard.ZstdCompressor(level=1, write_checksum=kept)
                blake3(data).digest()
                packed = packers.one.compress(data)
                if out is not None:
                    with writing:
                        os.pwrite(out, packed, ends[0])
                        ends[0] += len(packed)

            return _on_all_cores(old, work)

        def kept() -> float:
            fresh(folder, "old.img")
            with (folder / "o.packed").open("wb") as file:
                took = bare(file.fileno())
            return took + timed([*PROGRAM, "--version"])[0]

        def ours() -> float:
            fresh(folder, "old.img")
            return timed([*PROGRAM, "image", old, folder / "o.qcow2", "--verify", "none"])[0]

        image, limit, written = alternate(ROUNDS, ours, bare, kept)
    ratios = [a / b for a, b in zip(image, limit, strict=True)]
    least = statistics.median(a / b for a, b in zip(written, limit, strict=True))
    return [
        Figure(
            "Image of which every byte counts, against bare compression and hashing of the same data",
            spread(ratios),
            "at most 1.4",
            statistics.median(ratios) <= 1.4,
            f"whole process, 3 GB, nothing read back; bare: {statistics.median(limit):.2f} s on {_CORES} cores, nothing written; "
            f"with checksums, what comes out written, and the program's start: {least:.2f} of that",
        )
    ]


def reading_back() -> list[Figure]:
    with tmpfs(3) as folder:
        path = folder / "new.img"
        with path.open("wb") as file:
            for _ in range(1024):
                file.write(os.urandom(MIB))
        step = 4 * MIB
        with path.open("rb", buffering=0) as raw:
            places = range(0, 1024 * MIB, step)
            chunks = [Chunk(at, at + step, blake3(raw.read(step)).digest()) for at in places]
        buffer = memoryview(mmap.mmap(-1, step))

        def read() -> float:
            with path.open("rb", buffering=0) as file:
                began = time.perf_counter()
                while file.readinto(buffer):
                    pass
                return time.perf_counter() - began

        def hashed() -> float:
            began = time.perf_counter()
            for _ in chunks:
                blake3(buffer).digest()
            return time.perf_counter() - began

        def ours() -> float:
            with closing(SealedFileStore(PathOpener(path))) as store:
                began = time.perf_counter()
                assert not wrong_chunks(store, chunks)
                return time.perf_counter() - began

        def bare() -> float:
            """Two threads that do nothing else: what two cores that share their memory can do."""
            return _on_all_cores(path, lambda data: blake3(data).digest(), step, 2)

        both, reading, hashing, limit = alternate(ROUNDS, ours, read, hashed, bare)
    ratios = [a / max(b, c) for a, b, c in zip(both, reading, hashing, strict=True)]
    return [
        Figure(
            "Reading back, against the slower of reading and hashing alone",
            spread(ratios),
            "at most 1.15",
            statistics.median(ratios) <= 1.15,
            f"1 GiB in memory; read {statistics.median(reading):.2f} s, hash {statistics.median(hashing):.2f} s, "
            f"two bare threads that do both {statistics.median(limit):.2f} s",
        )
    ]


def fragments() -> list[Figure]:
    """2 GiB in 64,000 runs of 32 KiB, and the same in one: an NTFS volume whose map is written by hand."""
    cluster, runs, length, stride = 4096, 64_000, 8, 32
    with tmpfs(13) as folder:
        size = 2 * runs * stride * cluster + 1024 * MIB  # what mkntfs makes stands in the first half
        olds, piece = [], os.urandom(length * cluster)
        first = size // 2 // cluster + 16_384

        def places(old: Path) -> list[int]:
            step = stride if old.stem == "many" else length
            return [(first + number * step) * cluster for number in range(runs)]

        for name in ("one", "many"):
            old = folder / f"{name}.img"
            with old.open("wb") as file:
                file.truncate(size)
            run("mkntfs", "-Q", "-F", "-q", old)
            with closing(SealedFileStore(PathOpener(old))) as store, closing(open_tree(store)) as tree:
                bitmap_at = tree.runs_of_inode(6)[0][0] * cluster
            wanted = np.arange(runs * length)
            if name == "many":
                wanted = wanted // length * stride + wanted % length
            bits = np.zeros(size // cluster // 8, dtype=np.uint8)
            np.bitwise_or.at(bits, (wanted + first) // 8, (1 << ((wanted + first) % 8)).astype(np.uint8))
            with old.open("r+b") as file:
                file.seek(bitmap_at)
                kept = np.frombuffer(file.read(len(bits)), dtype=np.uint8)
                file.seek(bitmap_at)
                file.write((bits | kept).tobytes())
                for place in places(old):
                    file.seek(place)
                    file.write(piece)
            olds.append(old)

        def copy(old: Path) -> float:
            fresh(folder, "one.img", "many.img")
            new, plan = folder / "new.img", folder / "p.json"
            with new.open("wb") as file:  # a drive has its places; a hole in memory would first have to be found one
                file.truncate(size + 4 * MIB)
                for place in places(old):
                    file.seek(place)
                    file.write(piece)
            run(*PROGRAM, "plan", old, new, "--grow", "none", "-o", plan)
            return timed([*PROGRAM, "transfer", plan, "--confirm", "new", "--verify", "none"])[0]

        def bare(old: Path) -> float:
            """One thread that does nothing but read, hash and write each run."""
            copy = os.open(folder / "new.img", os.O_WRONLY)
            source, buffer = os.open(old, os.O_RDONLY), memoryview(mmap.mmap(-1, length * cluster))
            began = time.perf_counter()
            for place in places(old):
                os.preadv(source, [buffer], place)
                blake3(buffer).digest()
                os.pwrite(copy, buffer, place)
            took = time.perf_counter() - began
            os.close(source)
            os.close(copy)
            return took

        many, limit, one = alternate(ROUNDS, lambda: copy(olds[1]), lambda: bare(olds[1]), lambda: copy(olds[0]))
    ratios = [a / b for a, b in zip(many, one, strict=True)]
    least = statistics.median(a / b for a, b in zip(limit, one, strict=True))
    how = f"whole process, 2 GiB in 64,000 runs; one bare thread on the same runs takes {least:.2f} of one run"
    met = statistics.median(ratios) <= 1.6
    return [Figure("Fragmented: time of one run", spread(ratios), "at most 1.6", met, how)]


def preparing() -> list[Figure]:
    """Growing and shrinking a volume of 200,000 files in an overlay, against the utility on a plain file."""
    figures = []
    with tmpfs(10) as folder:
        tree = folder / "tree"
        for number in range(200_000):
            if number % 500 == 0:
                (tree / str(number)).mkdir(parents=True)
                inside = tree / str(number)
            (inside / str(number)).write_bytes(b"x" * 300)
        volume = blank(folder / "volume", 2500)
        run("mke2fs", "-q", "-F", "-t", "ext4", "-N", "260000", "-d", tree, volume)
        run("rm", "-rf", tree)
        for word, mib in (("Growing", 4000), ("Shrinking", 2000)):

            def plain(mib: int = mib) -> float:
                copy = folder / "copy"
                run("cp", "--sparse=always", volume, copy)
                os.truncate(copy, max(mib, 2500) * MIB)
                began = time.perf_counter()
                run("e2fsck", "-f", "-p", copy, ok=(0, 1))
                run("resize2fs", "-f", copy, f"{mib * 1024}K")
                return time.perf_counter() - began

            def ours(mib: int = mib) -> float:
                for file in folder.glob("overlay*"):
                    file.unlink()
                with closing(SealedFileStore(PathOpener(volume))) as base:
                    overlay = OverlayStore(base, folder / "overlay", max(mib, 2500) * MIB)
                    began = time.perf_counter()
                    FilesystemTools().resize(overlay, "ext4", mib * MIB)
                    took = time.perf_counter() - began
                    overlay.close()
                    return took

            shown, utility = alternate(3, ours, plain)
            ratios = [a / b for a, b in zip(shown, utility, strict=True)]
            name = f"{word} a volume of 200,000 files: time of the utility on a plain file"
            met = statistics.median(ratios) <= 1.7
            figures.append(
                Figure(name, spread(ratios), "at most 1.7", met, f"{statistics.median(utility):.2f} s alone")
            )
    return figures


def memory() -> list[Figure]:
    """A drive of 8 TB, its volume used in a million runs: what each command takes at most."""
    peaks = {}
    with tempfile.TemporaryDirectory(prefix="neogenesis-bench-") as name:
        folder = Path(name)
        old, new, plan = folder / "old.img", folder / "new1.img", folder / "p.json"
        with old.open("wb") as file:
            file.truncate(_LARGE_BYTES)
        run("mkntfs", "-Q", "-F", "-q", old)
        with closing(SealedFileStore(PathOpener(old))) as store, closing(open_tree(store)) as tree:
            bitmap_at = tree.runs_of_inode(6)[0][0] * 4096
        bits = np.zeros(24_000_000 // 8, dtype=np.uint8)
        places = np.arange(1_000_000) * 24
        np.bitwise_or.at(bits, places // 8, (1 << (places % 8)).astype(np.uint8))
        with old.open("r+b") as file:
            file.seek(bitmap_at + 10_000_000 // 8)
            file.write(bits.tobytes())
        with new.open("wb") as file:
            file.truncate(_LARGE_BYTES + 10 * MIB)
        for command in (
            ["survey", old],
            ["plan", old, new, "--grow", "none", "-o", plan],
            ["transfer", plan, "--confirm", "new1", "--verify", "none"],
            ["verify", plan, new],
            ["image", old, folder / "o.qcow2"],
        ):
            peaks[str(command[0])] = timed([*PROGRAM, *command])[1] / 1024
    worst = max(peaks.values())
    text = ", ".join(f"{name} {peak:.0f}" for name, peak in peaks.items())
    return [
        Figure(
            "Memory on 8 TB used in a million runs",
            f"{worst:.0f} MiB",
            "at most 200 MiB",
            worst <= 200,
            f"peak of each command in MiB: {text}",
        )
    ]


LIMITS = (packing, reading_back, fragments, preparing, memory)
