"""A clean start: installing against unpacking with the plain tools, people's files against copying, INF files indexed."""

from __future__ import annotations

import json
import os
import random
import statistics
import subprocess
import sys
from pathlib import Path

from tests.bench.figure import Figure, alternate, spread, timed, tmpfs
from tests.drives import blank
from tests.infs import DEVICE, inf, line, package
from tests.systems import system_image

_PROGRAM = [sys.executable, "-m", "neogenesis"]
_FILES, _SMALL_FILES, _INFS, _MODELS, _ROUNDS = 600, 20_000, 10_000, 120, 3


def _image(folder: Path) -> Path:
    """Two thirds of a GiB: half words, half what cannot be packed, in files of a MiB."""
    chance = random.Random(5)
    words = [chance.randbytes(5).hex() for _ in range(4000)]
    files = {}
    for n in range(_FILES):
        text = " ".join(chance.choices(words, k=100_000)).encode()
        files[f"system/data/{n // 50:02d}/{n:04d}.bin"] = text if n % 2 else os.urandom(1_100_000)
    return system_image(folder / "system.tar.zst", files=files)


def _small(folder: Path) -> Path:
    """150 MB of words in 20,000 files, as a system has most of its own."""
    chance = random.Random(6)
    words = [chance.randbytes(5).hex() for _ in range(4000)]
    files = {}
    for n in range(_SMALL_FILES):
        size = min(300_000, int(chance.lognormvariate(8, 1.3)))
        files[f"system/usr/{n // 400:03d}/{n:05d}"] = " ".join(chance.choices(words, k=size // 11 + 1)).encode()
    return system_image(folder / "small.tar.zst", files=files)


def installing() -> list[Figure]:
    """Whole commands: ours plans, unpacks, makes volumes, reads every file back, copies, and reads that back."""
    found = []
    for made, what in ((_image, f"0.66 GB in {_FILES} files"), (_small, f"150 MB in {_SMALL_FILES:,} files")):
        for kind, recipe in (("ext4", "linux-uefi"), ("NTFS", "nt-uefi")):
            with tmpfs(10) as folder:
                own, bare, checked = _against_tar(folder, made(folder), kind, recipe)
            ratios = [b / a for a, b in zip(own, bare, strict=True)]
            how = f"{spread(own, ' s')} against {spread(bare, ' s')}, in memory"
            name = f"Installing {what} onto {kind}, as fast as tar"
            found.append(Figure(name, spread(ratios), "at least 0.8", statistics.median(ratios) >= 0.8, how))
            same = [b / a for a, b in zip(own, checked, strict=True)]
            how = f"against {spread(checked, ' s')}: tar unpacks and compares, cp and cmp carry the volume on"
            found.append(
                Figure("The same, as fast as the plain tools that check as well", spread(same), "-", True, how)
            )
    return found


def _against_tar(folder: Path, image: Path, kind: str, recipe: str) -> list[list[float]]:
    """Seconds of ours, of the plain tools, and of those when they compare and carry on as well, in turns."""
    target, plain, point = folder / "new.img", folder / "plain.img", folder / "point"
    point.mkdir()

    def ours() -> float:
        for left in folder.glob("plan*"):
            left.unlink() if left.is_file() else None
        blank(target, 2500)
        return timed([*_PROGRAM, "install", image, recipe, target, "--confirm", "new", "-o", folder / "plan.json"])[0]

    mount = f"ntfs-3g -o big_writes {plain} {point}" if kind == "NTFS" else f"mount -o loop {plain} {point}"
    make = f"mkntfs -Q -F -q {plain}" if kind == "NTFS" else f"mke2fs -q -F -t ext4 {plain}"
    unpack = f"{make} && {mount} && tar --zstd -xf {image} -C {point} && sync -f {point} && umount {point}"
    compare = f"{mount} && {{ tar --zstd -df {image} -C {point} > {folder}/differs || true; }} && umount {point}"
    carry = f"cp --sparse=always {plain} {plain}.copy && cmp {plain} {plain}.copy"

    def tools(script: str) -> float:
        blank(plain, 2500)
        return timed(["sh", "-c", script])[0]

    return alternate(_ROUNDS, ours, lambda: tools(unpack), lambda: tools(f"{unpack} && {compare} && {carry}"))


def returning() -> list[Figure]:
    """What giving a GiB of people's files back adds to an installation, against `cp -a` of the same."""
    with tmpfs(10) as folder:
        image = system_image(folder / "small.tar.zst")
        data = folder / "files"
        for n in range(512):
            place = data / f"home/ann/{n // 64}/{n}.jpg"
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(os.urandom(2 << 20))
        target = folder / "new.img"

        def install(*more: str | Path) -> float:
            for left in folder.glob("plan*"):
                left.unlink() if left.is_file() else None
            blank(target, 3000)
            plan = ["-o", folder / "plan.json"]
            return timed([*_PROGRAM, "install", image, "linux-uefi", target, "--confirm", "new", *plan, *more])[0]

        def cp() -> float:
            subprocess.run(["rm", "-rf", folder / "copy"], check=True)
            return timed(["cp", "-a", data, folder / "copy"])[0]

        whole, bare, plain = alternate(_ROUNDS, lambda: install("--data", data), install, cp)
        ratios = [(a - b) / c for a, b, c in zip(whole, bare, plain, strict=True)]
    how = "compared with the record, laid out, put onto ext4, read back by file and by chunk"
    return [Figure("A GiB of people's files, time of `cp -a`", spread(ratios), "-", True, how)]


def indexing() -> list[Figure]:
    """10,000 INF files of 240 models each, half of them UTF-16: the first time, and out of the cache."""
    with tmpfs(2) as folder:
        packages = folder / "packages"
        for n in range(_INFS):
            ids = [line(rf"PCI\VEN_1D0B&DEV_{n:04X}&SUBSYS_{k:04X}1D0B") for k in range(_MODELS)]
            text = inf({"Models.NTamd64": ids, "Models.NTx86": ids})
            package(packages / f"{n // 100:03d}/{n:05d}", "d.inf", text, "utf-16-le" if n % 2 else "utf-8")
        hardware = folder / "hardware.json"
        device = {"name": "Link", "class": "Net", "hardware_ids": [DEVICE], "compatible_ids": [], "has_driver": False}
        hardware.write_text(json.dumps({"schema": "neogenesis.hardware/1", "devices": [device]}))
        os.environ["XDG_CACHE_HOME"] = str(folder / "cache")
        first, memory = timed([*_PROGRAM, "drivers", hardware, packages])
        again, more = timed([*_PROGRAM, "drivers", hardware, packages])
    peak = max(memory, more) / 1024
    how = f"{again:.1f} s out of the cache; {peak:.0f} MiB"
    return [Figure("10,000 INF files", f"{first:.1f} s", "under 20 s", first < 20, how)]


PARTS = (installing, returning, indexing)
