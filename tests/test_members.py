"""Drives that are of use only together: recognised, named with their fellows, and copied all or not at all."""

from __future__ import annotations

import json
import struct
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from neogenesis.core.filesystem import read_volume
from neogenesis.core.filesystem.members import Member
from neogenesis.core.store import MemoryStore
from neogenesis.core.transfer import load_manifest
from tests.drives import MIB, blank, is_blank, run, simulated

QUIET = ["--config", 'devices { filter=["a|/dev/loop|","r|.*|"] }']


@contextmanager
def devices(*files: Path) -> Iterator[list[str]]:
    made = []
    try:
        for file in files:
            made.append(run("losetup", "--find", "--show", file).strip())
        yield made
    finally:
        for device in made:
            run("losetup", "--detach", device)


def drive_of(volume: Path, image: Path) -> Path:
    """A drive with a table and this volume in it."""
    size = volume.stat().st_size
    blank(image, size // MIB + 4)
    run("sfdisk", "-q", image, text=f"label: gpt\nstart=2048,size={size // 512},type=L\n")
    run("dd", f"if={volume}", f"of={image}", "bs=1M", "seek=1", "conv=notrunc,sparse", "status=none")
    return image


def btrfs(folder: Path, count: int) -> list[Path]:
    files = [blank(folder / f"b{n}.img", 120) for n in range(count)]
    with devices(*files) as made:
        run("mkfs.btrfs", "-q", "-f", "-L", "harbour", "-d", "single", "-m", "single", *made)
    return files


def lvm(folder: Path, count: int) -> list[Path]:
    files = [blank(folder / f"l{n}.img", 24) for n in range(count)]
    with devices(*files) as made:
        run("pvcreate", *QUIET, "-q", *made)
        run("vgcreate", *QUIET, "-q", "harbour", *made)
    return files


def md(folder: Path, count: int, set_id: bytes = uuid.UUID(int=7).bytes) -> list[Path]:
    """Mirror halves: their superblocks by the kernel's own header, since making an array takes its module."""
    found = []
    for number in range(count):
        file = blank(folder / f"m{number}.img", 24)
        roles = struct.pack(f"<{count}H", *range(count))
        data = (24 * MIB - (1 << 20)) // 512
        raw = struct.pack("<IIII16s32s", 0xA92B4EFC, 1, 0, 0, set_id, b"bench:harbour")
        raw += struct.pack("<QiIQII", 0, 1, 0, data, 0, count)
        raw = raw.ljust(128, b"\0") + struct.pack("<QQQQI", 2048, data, 8, 0, number) + b"\0" * 4
        raw += uuid.UUID(int=number + 1).bytes
        raw = raw.ljust(192, b"\0") + struct.pack("<QQQII", 0, 1, (1 << 64) - 1, 0, count)
        raw = raw.ljust(256, b"\0") + roles
        total = sum(struct.unpack(f"<{len(raw) // 4}I", raw[: len(raw) // 4 * 4]))
        total += struct.unpack("<H", raw[-2:])[0] if len(raw) % 4 else 0
        raw = raw[:216] + struct.pack("<I", (total & 0xFFFFFFFF) + (total >> 32)) + raw[220:]
        with file.open("r+b") as out:
            out.seek(4096)
            out.write(raw)
        found.append(file)
    return found


MAKERS = {"btrfs": btrfs, "lvm": lvm, "raid": md}


def findings(neogenesis: Any, drive: Path) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = json.loads(neogenesis("survey", drive, "--json").stdout)["findings"]
    return found


def test_the_utility_takes_our_superblock_for_one(tmp_path: Path) -> None:
    said = run("mdadm", "--examine", md(tmp_path, 2)[1])
    assert "Raid Devices : 2" in said and "raid1" in said and "correct" in said


@pytest.mark.loop
@pytest.mark.parametrize("kind", sorted(MAKERS))
def test_one_of_two_is_a_stop_and_names_its_fellow(kind: str, tmp_path: Path, neogenesis: Any) -> None:
    first, second = (drive_of(v, tmp_path / f"old{n}.img") for n, v in enumerate(MAKERS[kind](tmp_path, 2)))
    for drive in (first, second):
        [found] = [f for f in findings(neogenesis, drive) if f["code"] == "member"]
        assert found["severity"] == "stop" and found["partition"] == 1 and len(found["fellows"]) == 1
        assert "harbour" in found["fellows"][0]
    for intent in ("replace", "exact"):
        new, plan = blank(tmp_path / f"{intent}.img", 200), tmp_path / f"{intent}.json"
        neogenesis("plan", first, new, "--intent", intent, "-o", plan)
        gates = {g["code"]: g["open"] for g in json.loads(plan.read_bytes())["gates"]}
        assert gates["member"] is False
        told = neogenesis("transfer", plan, "--confirm", intent[-4:], status=3).stderr
        assert "of use only together" in told and is_blank(new)
    new = blank(tmp_path / "own.img", 200)
    neogenesis("plan", first, new, "--intent", "exact", "--alone", "-o", tmp_path / "a.json")
    neogenesis("transfer", tmp_path / "a.json", "--confirm", "own")


@pytest.mark.loop
@pytest.mark.parametrize("kind", sorted(MAKERS))
def test_one_that_stands_alone_is_none(kind: str, tmp_path: Path, neogenesis: Any) -> None:
    drive = drive_of(MAKERS[kind](tmp_path, 1)[0], tmp_path / "old.img")
    assert "member" not in [f["code"] for f in findings(neogenesis, drive)]
    neogenesis("plan", drive, blank(tmp_path / "new.img", 200), "-o", tmp_path / "p.json")
    neogenesis("transfer", tmp_path / "p.json", "--confirm", "new")


@pytest.mark.loop
@pytest.mark.parametrize("kind", ["btrfs", "raid"])
def test_a_whole_set_is_copied_by_one_plan(kind: str, tmp_path: Path, neogenesis: Any) -> None:
    olds = [drive_of(v, tmp_path / f"old{n}.img") for n, v in enumerate(MAKERS[kind](tmp_path, 2))]
    size = olds[0].stat().st_size // MIB
    for number in (0, 1):
        simulated(tmp_path / f"old{number}.drive.json", f"old{number}.img", serial=f"HD5-0000OLD{number}")
        blank(tmp_path / f"n{number}.img", size)
        simulated(tmp_path / f"new{number}.drive.json", f"n{number}.img", serial=f"HD5-0000NEW{number}")
    first, second = (tmp_path / "old0.drive.json", tmp_path / "new0.drive.json"), "old1.drive.json=new1.drive.json"
    pair = "=".join(str(tmp_path / name) for name in second.split("="))
    plan = tmp_path / "p.json"
    neogenesis("plan", *first, "--with", pair, "--intent", "exact", "-o", plan)
    gates = [(g["code"], g["open"]) for g in json.loads(plan.read_bytes())["gates"]]
    assert ("member", True) in gates
    assert "need 2 times" in neogenesis("transfer", plan, "--confirm", "NEW0", status=2).stderr
    neogenesis("transfer", plan, "--confirm", "NEW0", "--confirm", "NEWX", status=3)
    assert is_blank(tmp_path / "n0.img") and is_blank(tmp_path / "n1.img")
    neogenesis("transfer", plan, "--confirm", "NEW0", "--confirm", "NEW1", "--check")
    assert is_blank(tmp_path / "n0.img") and is_blank(tmp_path / "n1.img")
    ended = json.loads(neogenesis("transfer", plan, "--confirm", "NEW0", "--confirm", "NEW1", "--json").stdout)
    assert ended["copied_bytes"] >= 2 * (size - 3) * MIB
    for number in (0, 1):
        assert (tmp_path / f"n{number}.img").read_bytes() == olds[number].read_bytes()
    neogenesis("verify", tmp_path / "p.drive-2.manifest.json", tmp_path / "new1.drive.json")
    again = neogenesis("transfer", plan, "--confirm", "NEW0", "--confirm", "NEW1", "--resume").stdout
    assert "finished" in again
    raw = json.loads(plan.read_bytes())
    raw["also"] = []
    (tmp_path / "half.json").write_text(json.dumps(raw))
    told = neogenesis("transfer", tmp_path / "half.json", "--confirm", "NEW0", status=3).stderr
    assert "fellows that it does not copy" in told


@pytest.mark.loop
def test_each_drive_of_a_set_names_its_own_losses(tmp_path: Path, neogenesis: Any) -> None:
    """The second drive has lost something: it is told with its place on that one, and no file of the first is blamed."""
    olds = [drive_of(v, tmp_path / f"old{n}.img") for n, v in enumerate(md(tmp_path, 2))]
    bad = [10 * MIB, 10 * MIB + 512]
    for number in (0, 1):
        read = {"unreadable": [bad] if number else []}
        simulated(tmp_path / f"old{number}.drive.json", f"old{number}.img", serial=f"HD5-0000OLD{number}", read=read)
        blank(tmp_path / f"n{number}.img", olds[0].stat().st_size // MIB)
        simulated(tmp_path / f"new{number}.drive.json", f"n{number}.img", serial=f"HD5-0000NEW{number}")
    pair = f"{tmp_path / 'old1.drive.json'}={tmp_path / 'new1.drive.json'}"
    first = (tmp_path / "old0.drive.json", tmp_path / "new0.drive.json")
    neogenesis("plan", *first, "--with", pair, "--intent", "exact", "-o", tmp_path / "p.json")
    order = ["transfer", tmp_path / "p.json", "--confirm", "NEW0", "--confirm", "NEW1"]
    ended = json.loads(neogenesis(*order, "--json", status=4).stdout)
    assert ended["lost"] == [bad] and ended["lost_files"] == []
    assert load_manifest(tmp_path / "p.manifest.json").head.lost == ()
    assert load_manifest(tmp_path / "p.drive-2.manifest.json").head.lost == (tuple(bad),)
    before = {p: p.read_bytes() for p in tmp_path.glob("p.*") if p.is_file() and p.suffix != ".lock"}
    assert "Every gate is open" in neogenesis(*order, "--resume", "--check").stdout
    assert before == {p: p.read_bytes() for p in before}  # a check leaves every record as it is


@pytest.mark.loop
def test_strangers_are_no_set(tmp_path: Path, neogenesis: Any) -> None:
    one = drive_of(md(tmp_path, 2)[0], tmp_path / "old0.img")
    other = drive_of(md(tmp_path, 2, uuid.UUID(int=9).bytes)[1], tmp_path / "old1.img")
    news = [blank(tmp_path / f"new{n}.img", 40) for n in (0, 1)]
    order = ["plan", one, news[0], "--intent", "exact", "--with", f"{other}={news[1]}"]
    assert "is no fellow" in neogenesis(*order, status=2).stderr
    assert "--with does not know" in neogenesis(*order[:-1], "nothing", status=2).stderr
    assert "named twice" in neogenesis(*order[:-1], f"{other}={news[0]}", status=2).stderr
    assert "together exactly" in neogenesis("plan", one, news[0], "--with", f"{other}={news[1]}", status=2).stderr


def test_damaged_superblocks_name_no_set(tmp_path: Path) -> None:
    """What stands in them is a customer's: nothing raises, no count is believed, and none passes for a whole set."""
    whole = md(tmp_path, 2)[0].read_bytes()
    assert read_volume(MemoryStore(8192, 512)).member is None
    for at in range(4100, 4096 + 272, 2):
        store = MemoryStore(len(whole), 512)
        store.write(0, whole[:at] + b"\xff\xff" + whole[at + 2 :])
        found = read_volume(store).member
        assert found is not None and found.count <= 1024
        assert not found.is_alone and found.fellows
    label = bytearray(512)
    label[:8], label[20:24], label[24:32] = b"LABELONE", struct.pack("<I", 32), b"LVM2 001"
    label[32:64] = b"A" * 32
    for rest in (b"\xff" * 400, bytes(400), struct.pack("<QQQQQQQ", 1 << 62, 1, 1, 0, 0, 1 << 60, 1 << 60)):
        store = MemoryStore(MIB, 512)
        store.write(512, bytes(label[:64]) + rest[:400])
        found = read_volume(store).member
        assert found is not None and found.unnamed == 1 and not found.is_alone  # whose it is cannot be told


def test_devices_with_gaps_in_their_numbers_are_a_set() -> None:
    """Numbers are given out once: a device that was added later has another than its place."""
    one, third = (
        Member(kind="btrfs", set_id="s", own=f"device {n}", everyone=(f"device {n}",), unnamed=1) for n in (1, 3)
    )
    assert one.missing(frozenset({third.own})) == third.missing(frozenset({one.own})) == ()
    assert one.missing(frozenset()) == ("another one",) and one.count == 2 and one.fellows == ("another one of s",)
    spare = Member(kind="raid", set_id="s", own="a spare drive", everyone=("drive 1", "drive 2"))
    assert spare.missing(frozenset({"drive 1"})) == ("drive 2",) and not spare.is_alone
