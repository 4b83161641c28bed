"""Copies of used blocks only, judged by the filesystem's own checker and by the hash of every file.

A copy that lacks a block of metadata still “verifies” against its own checksums; the checker cannot be fooled so.
"""

from __future__ import annotations

import hashlib
import random
import subprocess
from contextlib import closing
from pathlib import Path

import pytest

from neogenesis.bench.processes.reader import open_tree
from neogenesis.core.filesystem import read_volume
from neogenesis.core.store import PathOpener, SealedFileStore
from tests.drives import MIB, Part, blank, make_volume, run

FILES = {f"home/keeper/d{n % 7}/f{n}.bin": random.Random(n).randbytes(n * 700 + 3) for n in range(60)}

EXT = {
    "plain": ["-t", "ext4"],
    "blocks-1k": ["-t", "ext4", "-b", "1024"],
    "blocks-2k-ext3": ["-t", "ext3", "-b", "2048"],
    "ext2": ["-t", "ext2"],
    "ext2-revision-0": ["-t", "ext2", "-r", "0", "-O", "none"],
    "meta-bg-1k": ["-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode"],
    "meta-bg-4k": ["-t", "ext4", "-b", "4096", "-O", "meta_bg,^resize_inode"],
    "meta-bg-no-flex": ["-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode,^flex_bg"],
    "meta-bg-uninit": [
        "-t",
        "ext4",
        "-b",
        "1024",
        "-O",
        "meta_bg,^resize_inode,^flex_bg,^metadata_csum,uninit_bg,^64bit",
    ],
    "meta-bg-64bit-no-flex": ["-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode,^flex_bg,64bit"],
    "sparse-super2": ["-t", "ext4", "-b", "1024", "-O", "sparse_super2,^resize_inode"],
    "no-sparse-super": ["-t", "ext4", "-b", "1024", "-O", "^sparse_super,^resize_inode,^flex_bg"],
    "bigalloc": ["-t", "ext4", "-O", "bigalloc", "-C", "65536"],
    "bigalloc-1k": ["-t", "ext4", "-b", "1024", "-O", "bigalloc", "-C", "16384"],
    "no-flex": ["-t", "ext4", "-O", "^flex_bg"],
    "flex-4": ["-t", "ext4", "-G", "4", "-b", "1024"],
    "orphan-file": ["-t", "ext4", "-O", "orphan_file"],
    "no-journal": ["-t", "ext4", "-O", "^has_journal"],
    "inodes-512": ["-t", "ext4", "-I", "512", "-N", "5000"],
    "inline": ["-t", "ext4", "-O", "inline_data", "-I", "512"],
    "no-64bit": ["-t", "ext4", "-O", "^64bit,^metadata_csum"],
    "small-groups": ["-t", "ext4", "-b", "1024", "-g", "2048"],
    "quota": ["-t", "ext4", "-O", "quota"],
    "encrypt-casefold": ["-t", "ext4", "-O", "encrypt,casefold"],
    "stripe": ["-t", "ext4", "-E", "stride=16,stripe_width=64"],
}


def used_only(source: Path, target: Path) -> None:
    """What a copy with the volume's own map carries, and nothing else."""
    with closing(SealedFileStore(PathOpener(source))) as store:
        found = read_volume(store, lambda: open_tree(store))
        assert found.allocation is not None, found.fault
        with target.open("r+b") as file:
            for start, end in found.allocation.chunks(MIB):
                file.seek(start)
                file.write(store.read(start, end - start))


def listed(path: Path) -> dict[str, str]:
    with closing(SealedFileStore(PathOpener(path))) as store, closing(open_tree(store)) as tree:
        return {
            name: hashlib.sha256(b"".join(data for data, _ in tree.contents(inode, MIB))).hexdigest()
            for name, _, inode in tree.walk()
            if not name.startswith("$")
        }


@pytest.mark.parametrize("name", sorted(EXT))
def test_ext_with_every_feature(name: str, tmp_path: Path) -> None:
    source, target, folder = blank(tmp_path / "a", 400), blank(tmp_path / "b", 400), tmp_path / "files"
    for path, data in FILES.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_bytes(data)
    made = subprocess.run(
        ["/sbin/mke2fs", "-q", "-F", *EXT[name], "-d", str(folder), str(source)], capture_output=True, text=True
    )
    if made.returncode:
        pytest.skip(f"this utility does not make it: {made.stderr.strip()[:80]}")
    used_only(source, target)
    assert checked(target) == checked(source)
    found = dumped(target, tmp_path / "new")
    assert found == dumped(source, tmp_path / "old") and len(found) == len(FILES)


def checked(volume: Path) -> tuple[int, str]:
    """What the checker says; some features it finds untidy as soon as they are made."""
    done = subprocess.run(["/sbin/e2fsck", "-f", "-n", str(volume)], capture_output=True, text=True, timeout=60)
    return done.returncode, done.stdout.replace(str(volume), "volume")


def dumped(volume: Path, folder: Path) -> dict[str, str]:
    """Every file as the filesystem's own tool reads it."""
    folder.mkdir()
    run("debugfs", "-R", f"rdump / {folder}", volume)
    files = [p for p in folder.rglob("*") if p.is_file()]
    return {p.relative_to(folder).as_posix(): hashlib.sha256(p.read_bytes()).hexdigest() for p in files}


OTHERS = {
    "ntfs": ("ntfs", ()),
    "ntfs-clusters-512": ("ntfs", ("-c", "512")),
    "ntfs-clusters-64k": ("ntfs", ("-c", "65536")),
    "ntfs-compressed": ("ntfs", ("-C",)),
    "fat12": ("fat12", ()),
    "fat16": ("fat16", ()),
    "fat16-one-table": ("fat16", ("-f", "1")),
    "fat32": ("fat32", ()),
    "fat32-clusters-1": ("fat32", ("-s", "1")),
    "fat32-reserved": ("fat32", ("-R", "64")),
    "exfat": ("exfat", ()),
    "exfat-clusters-128k": ("exfat", ("-c", "128K")),
}


@pytest.mark.parametrize("name", sorted(OTHERS))
def test_other_filesystems_with_their_options(name: str, tmp_path: Path) -> None:
    kind, options = OTHERS[name]
    mib = 4 if kind == "fat12" else 80
    files = {f"f{n}.bin": random.Random(n).randbytes(n * 900 + 3) for n in range(1, 20)}
    files |= {} if kind == "exfat" else {f"d/e{n}.bin": random.Random(n).randbytes(n * 300) for n in range(1, 9)}
    source, target = tmp_path / "a", blank(tmp_path / "b", mib)
    make_volume(source, Part(mib, "", kind, "Hafen", files, options=options), mib * MIB)
    used_only(source, target)
    checker = {"ntfs": ("ntfsfix", "-n"), "exfat": ("fsck.exfat", "-n")}.get(kind, ("fsck.fat", "-n"))
    run(*checker, target)
    wanted = {path: hashlib.sha256(data).hexdigest() for path, data in files.items()}
    assert {path: found for path, found in listed(target).items() if path in wanted} == wanted
