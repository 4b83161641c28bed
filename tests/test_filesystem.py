"""Volumes made by the distribution's utilities, and what those utilities say of them, against what we read."""

from __future__ import annotations

import os
import random
import re
import signal
import subprocess
import sys
import time
from contextlib import closing, suppress
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neogenesis.bench.processes.reader import ReaderProcess, open_tree
from neogenesis.bench.works.tools import FilesystemTools
from neogenesis.core.errors import Damaged, Stopped
from neogenesis.core.filesystem import Volume, read_volume
from neogenesis.core.store import FileStore, MemoryStore, PathOpener, SealedFileStore
from neogenesis.core.system import LISTED_KINDS, ServedStore, with_system
from tests.drives import MIB, Part, file_hashes, linux_files, make_volume, nt_files, run

BODIES = {f"d{n}/f{n}.bin": random.Random(n).randbytes(n * 9000 + 5) for n in range(20)}


def volume(path: Path, kind: str, mib: int, files: dict[str, bytes] | None = None, *options: str) -> Volume:
    make_volume(path, Part(mib, "", kind, "Hafen", files or {}, options=options), mib * MIB)
    store = SealedFileStore(PathOpener(path))
    try:
        found = read_volume(store, lambda: open_tree(store))
        with suppress(Damaged), closing(open_tree(store)) as tree:
            return found if found.fault or found.kind not in LISTED_KINDS else with_system(found, tree)
        return found
    finally:
        store.close()


@pytest.mark.parametrize("options", [(), ("-c", "65536"), ("-s", "512", "-c", "1024")])
def test_ntfs_used_bytes_are_those_of_its_utility(options: tuple[str, ...], tmp_path: Path) -> None:
    found = volume(tmp_path / "v", "ntfs", 120, nt_files(), *options)
    said = run("ntfsresize", "--info", "--force", "--no-progress-bar", tmp_path / "v")
    free = re.search(r"Space in use\s*:\s*\d+ MB", said)
    info = run("ntfsinfo", "-m", "-f", tmp_path / "v")
    cluster = int(re.search(r"Cluster Size: (\d+)", info).group(1))
    clusters = int(re.search(r"Volume Size in Clusters: (\d+)", info).group(1))
    free_clusters = int(re.search(r"Free Clusters: (\d+)", info).group(1))
    assert free and found.block_bytes == cluster
    assert found.used_bytes == (clusters - free_clusters) * cluster
    assert found.label == "Hafen" and found.system_family == "nt" and not found.dirty
    smallest = int(re.search(r"resize at (\d+) bytes", said).group(1)) if "resize at" in said else 0
    assert found.smallest_bytes >= smallest


@pytest.mark.parametrize(
    ("kind", "options"),
    [
        ("ext4", ()),
        ("ext3", ("-b", "1024")),
        ("ext2", ()),
        ("ext4", ("-O", "^metadata_csum,^64bit,^flex_bg")),
        ("ext4", ("-O", "bigalloc", "-C", "16384")),
        ("ext4", ("-O", "meta_bg,^resize_inode")),
    ],
)
def test_ext_used_bytes_are_those_of_its_utility(kind: str, options: tuple[str, ...], tmp_path: Path) -> None:
    found = volume(tmp_path / "v", kind, 300, linux_files(), *options)
    said = run("dumpe2fs", "-h", tmp_path / "v")
    block, blocks, free = (
        int(re.search(rf"{name}:\s+(\d+)", said).group(1)) for name in ("Block size", "Block count", "Free blocks")
    )
    assert found.kind == kind and found.block_bytes == block and found.size_bytes == block * blocks
    first = int(re.search(r"First block:\s+(\d+)", said).group(1))
    assert found.used_bytes == (blocks - free - first) * block
    assert found.label == "Hafen"
    assert found.fixed == ("bigalloc" in options) and (not found.fixed or found.smallest_bytes == found.size_bytes)
    if "bigalloc" not in options:  # nobody here can put files into one of those, nor read them
        assert found.system_family == "linux" and found.system_name == "Fathom Linux 7"
    assert re.search(rf"UUID:\s+{found.uuid}", said)


@pytest.mark.parametrize(
    ("kind", "mib", "fill", "options"),
    [
        ("ext4", 115, 50, ()),
        ("ext4", 335, 0, ("-b", "2048")),
        ("ext4", 339, 20, ("-b", "2048", "-N", "200000")),
        ("ext4", 220, 130, ("-b", "1024", "-i", "65536", "-O", "^has_journal")),
        ("ext4", 500, 60, ("-O", "^resize_inode,^metadata_csum")),
        ("ext4", 123, 1, ("-b", "1024", "-N", "200000", "-O", "meta_bg,^resize_inode")),
        ("ext4", 217, 40, ("-b", "2048", "-O", "sparse_super2")),
        ("ext3", 116, 40, ("-g", "2048", "-b", "1024")),
        ("ext2", 104, 30, ("-i", "65536")),
        ("ntfs", 180, 60, ()),
        ("ntfs", 90, 10, ("-c", "65536")),
        ("ntfs", 130, 40, ("-c", "512")),
    ],
)
def test_the_smallest_size_can_be_reached(
    kind: str, mib: int, fill: int, options: tuple[str, ...], tmp_path: Path
) -> None:
    """By the utilities that do it, with every file intact and nothing for the checker to complain about."""
    body = {f"f{n}.bin": random.Random(n).randbytes(MIB) for n in range(fill)} | {"tide.txt": b"4.2 m"}
    path, tools = tmp_path / "v", FilesystemTools()
    found = volume(path, kind, mib, body, *options)
    before = file_hashes(path, 0, mib * MIB)
    assert len(before) > fill and found.used_bytes < found.smallest_bytes + 70 * MIB and not found.fixed
    assert found.smallest_bytes < found.size_bytes
    with closing(FileStore(PathOpener(path))) as store:
        tools.resize(store, kind, found.smallest_bytes)
    os.truncate(path, found.smallest_bytes)
    tools.check_file(path, kind)
    assert file_hashes(path, 0, found.smallest_bytes) == before


@pytest.mark.parametrize(("kind", "mib"), [("fat12", 4), ("fat16", 40), ("fat32", 60)])
def test_fat_used_bytes_are_those_of_its_checker(kind: str, mib: int, tmp_path: Path) -> None:
    found = volume(tmp_path / "v", kind, mib, {k: v for k, v in BODIES.items() if mib > 4 or len(v) < 40_000})
    said = run("fsck.fat", "-n", "-v", tmp_path / "v")
    cluster = int(re.search(r"(\d+) bytes per cluster", said).group(1))
    used, total = re.search(r"(\d+)/(\d+) clusters", said).groups()
    assert found.kind == "vfat" and found.block_bytes == cluster and found.label == "HAFEN"
    assert found.used_bytes == int(used) * cluster and int(total) * cluster <= found.size_bytes


def test_exfat_used_bytes_are_those_of_its_utility(tmp_path: Path) -> None:
    found = volume(tmp_path / "v", "exfat", 80)
    said = run("dump.exfat", tmp_path / "v")
    shift = (
        int(re.search(r"Cluster Size[^:]*:\s+(\d+)", said).group(1))
        if re.search(r"Cluster Size[^:]*:\s+(\d+)", said)
        else 0
    )
    assert found.kind == "exfat" and found.label == "Hafen" and 0 < found.used_bytes < 4 * MIB
    assert shift in (0, found.block_bytes) or found.block_bytes % shift == 0


@pytest.mark.parametrize(
    ("kind", "expected", "mib"),
    [("btrfs", "btrfs", 120), ("xfs", "xfs", 320), ("swap", "swap", 20), ("luks", "luks", 40)],
)
def test_recognised_by_signature_alone(kind: str, expected: str, mib: int, tmp_path: Path) -> None:
    found = volume(tmp_path / "v", kind, mib)
    assert found.kind == expected and found.encrypted == (kind == "luks")
    assert found.smallest_bytes == mib * MIB and (found.allocation is None) == (kind != "swap")


def test_allocation_covers_every_byte_that_matters(tmp_path: Path) -> None:
    """A volume rebuilt from its allocated ranges alone passes its checker and holds the same files."""
    for kind, mib in (("ext4", 200), ("ntfs", 90), ("fat32", 60)):
        path, copy = tmp_path / kind, tmp_path / f"{kind}.copy"
        found = volume(path, kind, mib, BODIES)
        raw = path.read_bytes()
        with copy.open("wb") as file:
            file.truncate(len(raw))
            for start, end in found.allocation:
                file.seek(start)
                file.write(raw[start:end])
        assert found.allocation.total < len(raw) // 2
        checker = {"ext4": ("e2fsck", "-f", "-n"), "ntfs": ("ntfsfix", "-n"), "fat32": ("fsck.fat", "-n")}[kind]
        run(*checker, copy)


@pytest.mark.parametrize("kind", ["ext4", "ntfs", "fat16", "exfat"])
def test_unclean_is_seen(kind: str, tmp_path: Path) -> None:
    path = tmp_path / "v"
    assert not volume(path, kind, 60).dirty
    data = bytearray(path.read_bytes())
    if kind == "ext4":
        run("debugfs", "-w", "-R", "set_super_value state 0", path)
    elif kind == "ntfs":
        at = next(i for i in range(0, len(data), 1024) if data[i : i + 4] == b"FILE" and data[i + 44] == 3)
        flags = data.index(bytes.fromhex("70000000"), at) + 24 + 10
        data[flags] |= 1
        path.write_bytes(data)
    elif kind == "fat16":
        fat_at = int.from_bytes(data[14:16], "little") * 512
        data[fat_at + 3] &= 0x7F
        path.write_bytes(data)
    else:
        data[106] |= 2
        path.write_bytes(data)
    store = SealedFileStore(PathOpener(path))
    assert read_volume(store).dirty
    store.close()


def test_hibernation_is_seen(tmp_path: Path) -> None:
    assert volume(tmp_path / "v", "ntfs", 60, {"hiberfil.sys": b"HIBR" + bytes(5000)}).hibernated
    assert not volume(tmp_path / "w", "ntfs", 60, {"hiberfil.sys": bytes(5000)}).hibernated


@pytest.fixture(scope="module")
def small_volumes(tmp_path_factory: pytest.TempPathFactory) -> dict[str, bytes]:
    folder = tmp_path_factory.mktemp("volumes")
    made = {}
    for kind, mib in (("ext4", 4), ("ntfs", 4), ("fat12", 2), ("fat16", 12), ("exfat", 4)):
        make_volume(folder / kind, Part(mib, "", kind, "x"), mib * MIB)
        made[kind] = (folder / kind).read_bytes()
    return made


@given(st.data())
@settings(max_examples=60, deadline=None)
def test_damage_never_fails(small_volumes: dict[str, bytes], data: st.DataObject) -> None:
    """Any overwritten stretch or truncation ends as a volume with a fault, or still as a volume."""
    raw = bytearray(small_volumes[data.draw(st.sampled_from(sorted(small_volumes)))])
    at = data.draw(st.one_of(st.integers(0, 4096), st.integers(0, len(raw) - 1)))
    noise = data.draw(st.binary(min_size=1, max_size=64))
    raw[at : at + len(noise)] = noise
    if data.draw(st.booleans()):
        raw = raw[: data.draw(st.integers(512, len(raw)))]
    store = MemoryStore(len(raw))
    store.data[:] = raw
    found = read_volume(store)
    assert found.size_bytes >= 0
    if found.allocation is not None:
        assert found.allocation.end <= len(raw) and found.used_bytes <= len(raw)


@pytest.mark.parametrize("size", [0, 1, 64, 127, 129, 1152, 3000, 4096, 0xFFFF])
def test_impossible_inode_sizes_are_damage_and_end_at_once(size: int, small_volumes: dict[str, bytes]) -> None:
    """Found by fuzzing: the reader of files would never return from such a volume."""
    raw = bytearray(small_volumes["ext4"])
    raw[1024 + 0x58 : 1024 + 0x5A] = size.to_bytes(2, "little")
    store = MemoryStore(len(raw))
    store.data[:] = raw
    found = read_volume(store)
    assert found.kind.startswith("ext") and found.allocation is None and found.fault


def test_a_volume_whose_journal_is_lost_counts_as_unclean(small_volumes: dict[str, bytes]) -> None:
    """Found by fuzzing: its record without the attribute that says where it lies."""
    raw = bytearray(small_volumes["ntfs"])
    cluster = raw[13] * 512
    record = int.from_bytes(raw[48:56], "little") * cluster + 2 * 1024
    assert raw[record : record + 4] == b"FILE"
    at = record + int.from_bytes(raw[record + 20 : record + 22], "little")
    while raw[at] != 0x80:
        at += int.from_bytes(raw[at + 4 : at + 8], "little")
    raw[at] = 0x81
    store = MemoryStore(len(raw))
    store.data[:] = raw
    found = read_volume(store)
    assert found.kind == "ntfs" and found.dirty and found.allocation is not None


def test_a_volume_that_hangs_the_library_is_given_up_and_the_next_one_is_read(small_volumes: dict[str, bytes]) -> None:
    """The process that lists files is killed, and nothing waits for it; a crash is the same."""
    reader = ReaderProcess(thinks_s=3.0)
    good = MemoryStore(len(small_volumes["ext4"]))
    good.data[:] = small_volumes["ext4"]
    stuck = reader.open(ServedStore(good))
    assert reader._process is not None
    os.kill(reader._process.pid, signal.SIGSTOP)
    began = time.monotonic()
    with pytest.raises(Damaged, match="come to an end"):
        stuck.call("walk")
    assert time.monotonic() - began < 20
    first = reader.open(ServedStore(good))
    assert [name for name, _, _ in first.call("walk")] == []
    assert reader._process is not None
    os.kill(reader._process.pid, signal.SIGSEGV)
    with pytest.raises(Damaged, match="crashed"):
        first.call("exist", ["lost+found"])
    with pytest.raises(Damaged, match="any more"):
        first.call("exist", ["lost+found"])
    assert reader.open(ServedStore(good)).call("exist", ["lost+found", "nothing"]) == ["lost+found"]
    reader.kill()


def test_a_broken_pipe_ends_nothing_after_a_volume_was_shown_as_a_file() -> None:
    """The library that shows it takes the interpreter's own care away; seen: a crashed listing ended the whole work."""
    script = (
        "import os, neogenesis.bench\n"
        "from neogenesis.bench.processes.exposed import exposed\n"
        "from neogenesis.core.store import MemoryStore\n"
        "with exposed(MemoryStore(4096)) as path: assert path.stat().st_size == 4096\n"
        "reading, writing = os.pipe()\n"
        "os.close(reading)\n"
        "try: os.write(writing, b'x')\n"
        "except BrokenPipeError: print('told')\n"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=False, timeout=60)
    assert (done.returncode, done.stdout) == (0, "told\n"), done


def test_what_ends_the_work_comes_through_the_library(small_volumes: dict[str, bytes]) -> None:
    """A stop that is asked for while the library reads is a stop, not an unreadable place."""

    class Stopping(MemoryStore):
        def read_into(self, offset: int, buffer: memoryview) -> None:
            raise Stopped("asked to stop")

    store = Stopping(4 * MIB)
    reader = ReaderProcess()
    with pytest.raises(Stopped):
        reader.open(ServedStore(store))
    reader.kill()


def test_a_name_left_behind_in_a_folder_does_not_lead_to_what_has_its_inode_now(tmp_path: Path) -> None:
    """A file is deleted, its name stays in the slack of its folder, and another folder is given its inode."""
    path, body = tmp_path / "v.img", tmp_path / "body"
    body.write_bytes(b"hello")
    with path.open("wb") as file:
        file.truncate(16 * MIB)
    run("mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", path)
    for words in (
        "mkdir /a", "mkdir /z", f"write {body} /z/keep", f"write {body} /z/gone", "rm /z/gone",
        "mkdir /a/again", f"write {body} /a/again/file",
    ):  # fmt: skip
        run("debugfs", "-w", "-R", words, path)
    with closing(open_tree(SealedFileStore(PathOpener(path)))) as tree:
        assert [e.path for e in tree.walk_entries()] == ["lost+found", "a", "z", "z/keep", "a/again", "a/again/file"]
        assert [path for path, *_ in tree.walk()] == ["z/keep", "a/again/file"]
