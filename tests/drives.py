"""Real drives for the tests, made by the distribution's own utilities and judged by them as well."""

from __future__ import annotations

import hashlib
import json
import os
import random
import struct
import subprocess
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from neogenesis.bench.processes.reader import open_tree
from neogenesis.core.filesystem.exfat import read_layout
from neogenesis.core.store import PathOpener, RangeView, SealedFileStore

MIB = 1 << 20
STARTUP = "C12A7328-F81F-11D2-BA4B-00A0C93EC93B"
RESERVED = "E3C9E316-0B5C-4DB8-817D-F92DF00215AE"
NT_DATA = "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"
RECOVERY = "DE94BBA4-06D1-4D40-A16A-BFD50179D6AC"
LINUX = "0FC63DAF-8483-4772-8E79-3D69D8477DE4"
SWAP = "0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"


def run(*arguments: str | Path, text: str | None = None, ok: Sequence[int] = (0,)) -> str:
    """Run a utility and return what it printed; fails the test with its own words."""
    done = subprocess.run(
        [str(a) for a in arguments],
        input=text,
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "PATH": os.environ["PATH"] + ":/usr/sbin:/sbin", "LC_ALL": "C", "MTOOLS_SKIP_CHECK": "1"},
    )
    assert done.returncode in ok, f"{arguments}: {done.returncode}\n{done.stdout}\n{done.stderr}"
    return done.stdout


@dataclass
class Part:
    """A partition to make: `kind` is ntfs, ext4, ext2, fat32, fat16, exfat, swap, luks, btrfs, xfs or raw."""

    mib: int
    type_id: str
    kind: str
    label: str = ""
    files: dict[str, bytes] = field(default_factory=dict)
    name: str = ""
    options: tuple[str, ...] = ()
    number: int = 0


def make_volume(path: Path, part: Part, size: int) -> None:
    """A volume of exactly `size` bytes with its files in it."""
    path.unlink(missing_ok=True)
    with path.open("wb") as file:
        file.truncate(size)
    label = part.label
    if part.kind == "ntfs":
        run("mkntfs", "-Q", "-F", "-q", "-L", label, *part.options, path)
        _fill_ntfs(path, part.files)
    elif part.kind.startswith("ext"):
        run("mke2fs", "-q", "-F", "-t", part.kind, "-L", label, *part.options, path)
        _fill_ext(path, part.files)
    elif part.kind.startswith("fat"):
        run("mkfs.fat", "-F", part.kind[3:], "-n", label.upper()[:11] or "NONE", *part.options, path)
        for name, data in part.files.items():
            _fill_fat(path, name, data)
    elif part.kind == "exfat":
        run("mkfs.exfat", "-L", label, *part.options, path)
        for name, data in part.files.items():
            _fill_exfat(path, name, data)
    elif part.kind == "swap":
        run("mkswap", "-L", label, path)
    elif part.kind == "luks":
        run(
            "cryptsetup",
            "luksFormat",
            "--batch-mode",
            "--pbkdf-force-iterations",
            "4",
            "--pbkdf-memory",
            "32",
            "--key-file",
            "-",
            path,
            text="tide table",
        )
    elif part.kind == "btrfs":
        run("mkfs.btrfs", "-q", "-L", label, path)
    elif part.kind == "xfs":
        run("mkfs.xfs", "-q", "-L", label, path)
    elif part.kind == "raw":
        with path.open("r+b") as file:
            file.write(random.Random(part.mib).randbytes(min(size, 4 * MIB)))


def _fill_ext(path: Path, files: dict[str, bytes]) -> None:
    orders = []
    made: set[str] = set()
    for index, (name, data) in enumerate(files.items()):
        parts = name.split("/")[:-1]
        for depth in range(1, len(parts) + 1):
            folder = "/".join(parts[:depth])
            if folder not in made:
                made.add(folder)
                orders.append(f"mkdir {folder}")
        host = path.with_name(f"{path.name}.{index}")
        host.write_bytes(data)
        orders.append(f'write {host} "{name}"')
    if orders:
        run("debugfs", "-w", "-f", "/dev/stdin", path, text="\n".join(orders) + "\n")
    for index in range(len(files)):
        path.with_name(f"{path.name}.{index}").unlink()


def _fill_ntfs(path: Path, files: dict[str, bytes]) -> None:
    """Through the real driver: the utilities alone cannot make folders."""
    if not files:
        return
    point = path.with_name(path.name + ".mnt")
    point.mkdir()
    run("ntfs-3g", path, point)
    try:
        for name, data in files.items():
            file = point / name
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_bytes(data)
    finally:
        run("fusermount3", "-u", point)
        point.rmdir()


def _fill_fat(path: Path, name: str, data: bytes) -> None:
    parts = name.split("/")
    for depth in range(1, len(parts)):
        run("mmd", "-D", "s", "-i", path, "::" + "/".join(parts[:depth]), ok=(0, 1))
    host = path.with_name(path.name + ".file")
    host.write_bytes(data)
    run("mcopy", "-o", "-i", path, host, f"::{name}")
    host.unlink()


def _fill_exfat(path: Path, name: str, data: bytes) -> None:
    """A file in the root folder, in clusters side by side; there is no utility for it. Source: exFAT 1.00, section 7."""
    store = SealedFileStore(PathOpener(path))
    layout = read_layout(store)
    root = int.from_bytes(store.read(96, 4), "little")
    root_at = layout.heap_bytes + (root - 2) * layout.cluster_bytes
    folder, bits = bytearray(store.read(root_at, layout.cluster_bytes)), bytearray(layout.bitmap(store))
    store.close()
    first = max(n for n in range(layout.clusters) if bits[n // 8] >> n % 8 & 1) + 1
    count = -(-len(data) // layout.cluster_bytes)
    for cluster in range(first, first + count):
        bits[cluster // 8] |= 1 << cluster % 8
    text = name.encode("utf-16-le")
    pieces = [text[n : n + 30] for n in range(0, len(text), 30)]
    when = (2026 - 1980) << 25 | 5 << 21 | 17 << 16 | 9 << 11
    head = struct.pack("<BBHHHIII12x", 0x85, len(pieces) + 1, 0, 0x20, 0, when, when, when)
    digest = _rotated_sum(name.upper().encode("utf-16-le"), ())
    stream = struct.pack("<BBBBHHQIIQ", 0xC0, 3, 0, len(name), digest, 0, len(data), 0, first + 2, len(data))
    entry = bytearray(head + stream + b"".join(b"\xc1\0" + piece.ljust(30, b"\0") for piece in pieces))
    struct.pack_into("<H", entry, 2, _rotated_sum(bytes(entry), (2, 3)))
    free = next(at for at in range(0, len(folder), 32) if folder[at] == 0)
    with path.open("r+b") as file:
        for at, content in (
            (root_at + free, bytes(entry)),
            (layout.heap_bytes + (layout.bitmap_clusters[0] - 2) * layout.cluster_bytes, bytes(bits)),
            (layout.heap_bytes + first * layout.cluster_bytes, data),
        ):
            file.seek(at)
            file.write(content)


def _rotated_sum(data: bytes, skipped: Sequence[int]) -> int:
    total = 0
    for index, byte in enumerate(data):
        if index not in skipped:
            total = ((total << 15 | total >> 1) + byte) & 0xFFFF
    return total


def place(image: Path, volume: Path, start: int) -> None:
    """Put a volume into an image or device at `start`; holes of the volume are left alone."""
    source = SealedFileStore(PathOpener(volume))
    with image.open("r+b") as file:
        for begin, end in source.extents_with_data().chunks(MIB):
            file.seek(start + begin)
            file.write(source.read(begin, end - begin))
    source.close()


def make_drive(image: Path, size_mib: int, parts: Sequence[Part], table: str = "gpt") -> Path:
    """An image with a table made by sfdisk and a volume in each partition. For MBR, types are hexadecimal bytes."""
    image.unlink(missing_ok=True)
    with image.open("wb") as file:
        file.truncate(size_mib * MIB)
    lines = [f"label: {'gpt' if table == 'gpt' else 'dos'}"]
    for part in parts:
        size = f"size={part.mib}MiB," if part.mib else ""
        name = f', name="{part.name}"' if part.name else ""
        number = f"{part.number} : " if part.number else ""
        lines.append(f"{number}{size} type={part.type_id}{name}")
    run("sfdisk", "-q", image, text="\n".join(lines) + "\n")
    for part, (start, size) in zip(parts, spans(image), strict=True):
        if part.kind:
            volume = image.with_name(image.name + ".volume")
            make_volume(volume, part, size)
            place(image, volume, start)
            volume.unlink()
    return image


def table_of(image: Path) -> dict[str, Any]:
    return dict(json.loads(run("sfdisk", "--json", image))["partitiontable"])


def spans(image: Path) -> list[tuple[int, int]]:
    """(start, size) in bytes of every partition, as sfdisk reads them."""
    return [(p["start"] * 512, p["size"] * 512) for p in table_of(image)["partitions"]]


def blank(path: Path, size_mib: int) -> Path:
    with path.open("wb") as file:
        file.truncate(size_mib * MIB)
    return path


def file_hashes(image: Path, start: int, size: int) -> dict[str, str]:
    """SHA-256 of every file of a volume, read by pytsk3."""
    store = SealedFileStore(PathOpener(image))
    try:
        tree = open_tree(RangeView(store, start, size))
        found = {}
        for path, length, _ in tree.walk():
            if not path.startswith("$"):
                found[path] = hashlib.sha256(tree.read(path, length) or b"").hexdigest()
        return found
    finally:
        store.close()


def data_of(image: Path, start: int = 0, size: int | None = None) -> Iterator[tuple[int, bytes]]:
    """Every piece of a sparse file, from `start` on, that is not a hole, with its place."""
    with image.open("rb") as file:
        end = image.stat().st_size if size is None else start + size
        at = start
        while at < end:
            try:
                at = os.lseek(file.fileno(), at, os.SEEK_DATA)
                hole = min(os.lseek(file.fileno(), at, os.SEEK_HOLE), end)
            except OSError:
                return  # nothing but a hole is left
            while at < hole:
                piece = os.pread(file.fileno(), min(4 * MIB, hole - at), at)
                yield at, piece
                at += len(piece)


def is_blank(image: Path, start: int = 0, size: int | None = None) -> bool:
    """Whether a file, or a part of it, holds nothing but zeros."""
    return not any(piece.strip(b"\0") for _, piece in data_of(image, start, size))


def same_bytes(one: Path, other: Path, size: int, start: int = 0) -> bool:
    """Whether two sparse files hold the same from `start` on."""
    with one.open("rb") as first, other.open("rb") as second:
        for file, against in ((one, second), (other, first)):
            for at, piece in data_of(file, start, size):
                if os.pread(against.fileno(), len(piece), at) != piece:
                    return False
    return True


def copy_span(image: Path, start: int, size: int, to: Path) -> Path:
    """A part of a sparse file as one of its own."""
    with to.open("wb") as file:
        file.truncate(size)
        for at, piece in data_of(image, start, size):
            os.pwrite(file.fileno(), piece, at - start)
    return to


def check_volume(image: Path, start: int, size: int, kind: str, scratch: Path) -> None:
    """The filesystem's own checker finds the volume in order, at its full size."""
    volume = copy_span(image, start, size, scratch / "judged")
    if kind == "ntfs":
        said = run("ntfsresize", "--info", "--no-progress-bar", volume)
        device = int(said.split("Current device size:")[1].split()[0])
        own = int(said.split("Current volume size:")[1].split()[0])
        assert device - own < MIB, said
        run("ntfsfix", "-n", volume)
    elif kind.startswith("ext"):
        run("e2fsck", "-f", "-n", volume)
    elif kind.startswith("fat"):
        run("fsck.fat", "-n", volume)
    elif kind == "exfat":
        run("fsck.exfat", "-n", volume)
    volume.unlink()


def nt_files() -> dict[str, bytes]:
    """What an NT-family system volume is known by, with some of a customer's files, no two alike."""
    rng = random.Random(7)
    files = {
        "Windows/System32/config/SYSTEM": rng.randbytes(40_000),
        "Users/berth/notes – überfällig.txt": b"tide 4.2 m\n",
    }
    files |= {f"Users/berth/scans/{n:03}.bin": rng.randbytes(rng.randrange(1, 300_000)) for n in range(40)}
    files["Users/berth/zeros.bin"] = bytes(3_000_000)
    return files


def linux_files() -> dict[str, bytes]:
    rng = random.Random(9)
    files = {"etc/os-release": b'NAME="Fathom Linux"\nPRETTY_NAME="Fathom Linux 7"\n', "etc/fstab": b"\n"}
    files |= {f"home/keeper/{n}.dat": rng.randbytes(rng.randrange(1, 200_000)) for n in range(30)}
    return files


def standard_parts(system_mib: int = 300) -> list[Part]:
    """Start-up, reserved, system, recovery, data: the customer's usual drive, in small."""
    return [
        Part(40, STARTUP, "fat32", "START", {"EFI/BOOT/BOOTX64.EFI": b"MZ" + bytes(5000)}, "Start-up"),
        Part(16, RESERVED, "", ""),
        Part(system_mib, NT_DATA, "ntfs", "Meridian", nt_files(), "Main"),
        Part(30, RECOVERY, "ntfs", "Recovery", {"recovery.wim": os.urandom(100_000)}),
        Part(200, LINUX, "ext4", "papers", {f"scans/{n}.pdf": os.urandom(50_000 + n) for n in range(50)}, "Papers"),
    ]


def with_health(bench: Path, **health: int) -> None:
    """The old drive of a small bench says that of itself."""
    path = bench / "old.drive.json"
    path.write_text(json.dumps(json.loads(path.read_text()) | {"health": health}))


def simulated(path: Path, image: str, **traits: Any) -> Path:
    """A description of a drive for an image beside it."""
    path.write_text(json.dumps({"schema": "neogenesis.simulated-drive/1", "image": image, **traits}))
    return path


def set_docks(folder: Path, names: Sequence[str | None]) -> None:
    """What is in the docks of a simulated bench."""
    (folder / "docks.json").write_text(json.dumps({"schema": "neogenesis.docks/1", "docks": list(names)}))


def data_hash(image: Path) -> str:
    """SHA-256 over everything in a sparse image that is not a hole."""
    store = SealedFileStore(PathOpener(image), grip="look")
    try:
        digest = hashlib.sha256()
        for start, end in store.extents_with_data().chunks(MIB):
            data = store.read(start, end - start)
            if any(data):
                digest.update(f"{start}".encode() + data)
        return digest.hexdigest()
    finally:
        store.close()
