"""Drives that nobody thought of: random tables, volumes, places and sizes, each taken through the whole journey.

NEOGENESIS_RANDOM_DRIVES=200 tries that many of each instead of a few.
"""

from __future__ import annotations

import hashlib
import json
import os
import random
from pathlib import Path
from typing import Any

import pytest

from tests.drives import (
    LINUX,
    MIB,
    NT_DATA,
    RECOVERY,
    RESERVED,
    STARTUP,
    SWAP,
    Part,
    blank,
    check_volume,
    data_hash,
    file_hashes,
    make_volume,
    place,
    run,
    simulated,
)

SEEDS = range(int(os.environ.get("NEOGENESIS_RANDOM_DRIVES", "4")))
WITH_FILES = ("ntfs", "ext4", "ext3", "ext2", "fat32", "fat16", "exfat")
NTFS = [(), ("-c", "512"), ("-c", "1024"), ("-c", "4096"), ("-c", "16384"), ("-c", "65536")]
EXT = [(), ("-b", "1024"), ("-b", "4096"), ("-O", "^resize_inode"), ("-m", "0"), ("-I", "128")]
EXT4 = [
    *EXT,
    ("-O", "meta_bg,^resize_inode"),
    ("-O", "^64bit"),
    ("-O", "^has_journal"),
    ("-O", "sparse_super2"),
    ("-O", "^flex_bg"),
]
TYPES = {"fat32": STARTUP, "ntfs": NT_DATA, "fat16": NT_DATA, "exfat": NT_DATA, "swap": SWAP, "": RESERVED}
MBR_TYPES = {"ntfs": "7", "fat32": "c", "fat16": "6", "exfat": "7", "swap": "82"}


def random_files(rng: random.Random, kind: str) -> dict[str, bytes]:
    """Up to ten files; in folders and with letters of several scripts where the way they are put there allows it."""
    found = {}
    for number in range(rng.randrange(10)):
        folder = "" if kind == "exfat" else rng.choice(["", "Users/", "Users/keeper/", "charts/old/"])
        name = f"{number} ü 潮.bin" if kind == "ntfs" else f"f{number}.bin"
        found[folder + name] = rng.randbytes(rng.choice([1, 700, 4096, 5000, 70_000, rng.randrange(2_000_000)]))
    return found


def random_part(rng: random.Random, table: str) -> Part:
    kind = rng.choice([*WITH_FILES, "ntfs", "ext4", "swap", "luks", "btrfs", "xfs", "raw", ""])
    least, most = {
        "fat32": (40, 200),
        "fat16": (10, 200),
        "luks": (20, 80),
        "btrfs": (130, 200),
        "xfs": (310, 340),
    }.get(kind, (8, 220))
    options = rng.choice({"ntfs": NTFS, "ext4": EXT4, "ext3": EXT, "ext2": EXT}.get(kind, [()]))
    type_id = TYPES.get(kind, LINUX) if table == "gpt" else MBR_TYPES.get(kind, "83")
    if kind == "ntfs" and table == "gpt" and rng.random() < 0.25:
        type_id = RECOVERY
    files = random_files(rng, kind) if kind in WITH_FILES else {}
    return Part(rng.randrange(least, most), type_id, kind, rng.choice(["", "Data", "Sea"]), files, options=options)


def random_drive(rng: random.Random, image: Path) -> list[Part]:
    """Partitions with gaps, at odd sectors and with numbers in any order; sfdisk writes the table."""
    table = rng.choice(["gpt", "gpt", "mbr"])
    parts = [random_part(rng, table) for _ in range(rng.randrange(1, 6 if table == "gpt" else 4))]
    numbers = list(range(1, len(parts) + 1))
    if rng.random() < 0.4:
        rng.shuffle(numbers)
    entries = rng.choice([128, 128, 256, 64])
    lines = (
        ["label: gpt", f"table-length: {entries}", f"first-lba: {2 + entries // 4}"]
        if table == "gpt"
        else ["label: dos"]
    )
    at = rng.choice([2048, 2048, 100, 63]) if entries < 256 else 2048
    starts = []
    for part, part.number in zip(parts, numbers, strict=True):
        size = part.mib * 2048 + rng.choice([0, 0, 1, 8, 1001])
        lines.append(f"{part.number} : start={at}, size={size}, type={part.type_id}")
        starts.append((at * 512, size * 512))
        at += size + rng.choice([0, 0, 1, 5, 2048, 40_000])
    with image.open("wb") as file:
        file.truncate((at + 40 + entries + rng.randrange(5000)) * 512)
    run("sfdisk", "-q", "--force", image, text="\n".join(lines) + "\n")
    for part, (start, size) in zip(parts, starts, strict=True):
        if part.kind:
            volume = image.with_name("volume")
            make_volume(volume, part, size)
            place(image, volume, start)
            volume.unlink()
    return parts


def contents(image: Path, partitions: list[dict[str, Any]], parts: list[Part]) -> dict[tuple[int, str], str]:
    """SHA-256 of every file, by the number of its partition on the old drive and its path."""
    kinds = {part.number: part.kind for part in parts}
    found = {}
    for p in partitions:
        number = p.get("from_partition", p["number"])
        if kinds[number] in WITH_FILES:
            hashes = file_hashes(image, p["start_bytes"], p["size_bytes"])
            found |= {(number, path): digest for path, digest in hashes.items()}
    return found


@pytest.mark.parametrize("seed", SEEDS)
def test_a_random_drive_moves(seed: int, tmp_path: Path, neogenesis, survey_json) -> None:
    rng = random.Random(seed)
    old, new, plan = tmp_path / "old.img", tmp_path / "new.img", tmp_path / "p.json"
    parts = random_drive(rng, old)
    before, was = data_hash(old), survey_json(old)
    assert not was["table"]["problems"] and len(was["partitions"]) == len(parts)
    intent, room = rng.choice([("replace", 0.8), ("replace", 1.0), ("replace", 1.7), ("exact", 1.0), ("exact", 1.2)])
    with new.open("wb") as file:
        file.truncate(int(old.stat().st_size * room) // 512 * 512)
    more = rng.choice([(), ("--identity", "fresh"), ("--recovery", "stay"), ("--grow", "share")])
    options = ("--intent", intent, *(more if intent == "replace" else ("--relocate-table",)))
    try:
        neogenesis("plan", old, new, *options, "-o", plan)
    except AssertionError as error:
        assert "too small" in str(error) and (room < 1 or "Use the intent exact" in str(error)), error
        return
    neogenesis("transfer", plan, "--confirm", "new")
    neogenesis("verify", plan, new)
    assert data_hash(old) == before
    layout = json.loads(plan.read_text())["layout"]["partitions"]
    assert contents(new, layout, parts) == contents(old, was["partitions"], parts)
    assert survey_json(new)["table"]["problems"] == []
    kinds = {part.number: part.kind for part in parts}
    for p in layout:
        if kinds[p["from_partition"]] in WITH_FILES:
            check_volume(new, p["start_bytes"], p["size_bytes"], kinds[p["from_partition"]], tmp_path)


@pytest.mark.parametrize("seed", SEEDS)
def test_a_random_drive_is_kept_and_rescued(seed: int, tmp_path: Path, neogenesis, survey_json) -> None:
    rng = random.Random(1000 + seed)
    old, image, back = tmp_path / "old.img", tmp_path / "o.qcow2", tmp_path / "back.img"
    parts = random_drive(rng, old)
    was, size = survey_json(old)["partitions"], old.stat().st_size
    files = contents(old, was, parts)
    neogenesis("image", old, image)
    assert "No errors" in run("qemu-img", "check", image)
    blank(back, size // MIB + 30)
    neogenesis("restore", image, back, "--confirm", "back")
    assert contents(back, was, parts) == files
    if files:
        neogenesis("salvage", old, tmp_path / "files")
        saved = {hashlib.sha256(f.read_bytes()).hexdigest() for f in (tmp_path / "files").rglob("*") if f.is_file()}
        assert {digest for (_, path), digest in files.items() if not path.startswith("$")} <= saved
    sectors = sorted(rng.sample(range(size // 512 - 40), rng.randrange(1, 10)))
    bad = [[first * 512, (first + rng.randrange(1, 40)) * 512] for first in sectors]
    drive = simulated(tmp_path / "old.drive.json", "old.img", serial="RND00001", read={"unreadable": bad})
    saved_to = tmp_path / "saved.img"
    with saved_to.open("wb") as file:
        file.truncate(size)
    neogenesis("rescue", drive, saved_to, "--map", tmp_path / "m.json", "--confirm", "aved", status=4)
    regions = json.loads((tmp_path / "m.json").read_text())["regions"]
    assert [r[0] for r in regions] == [0, *(r[1] for r in regions[:-1])] and regions[-1][1] == size
    lost = {n for start, end, kind in regions if kind == "lost" for n in range(start // 512, end // 512)}
    assert lost == {n for start, end in bad for n in range(start // 512, end // 512)}
    with old.open("rb") as one, saved_to.open("rb") as other:
        for start, end in ((start, end) for start, end, kind in regions if kind == "read"):
            for at in range(start, end, 8 * MIB):
                one.seek(at)
                other.seek(at)
                assert one.read(min(8 * MIB, end - at)) == other.read(min(8 * MIB, end - at)), at
