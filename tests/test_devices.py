"""Real block devices: loop devices with sectors of 512 and 4096 bytes, attached and detached here."""

from __future__ import annotations

import json
import mmap
import os
import random
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from neogenesis.core.errors import ReadFailed
from neogenesis.core.store import PathOpener, ReadWay, SealedFileStore, choose_way
from neogenesis.core.store.requests import best_way, ways
from tests.drives import LINUX, MIB, NT_DATA, Part, blank, linux_files, make_volume, place, run, spans

Attach = Callable[[Path, int], str]


@pytest.fixture
def attach() -> Iterator[Attach]:
    devices: list[str] = []

    def make(image: Path, sector: int) -> str:
        devices.append(run("losetup", "--find", "--show", "--sector-size", str(sector), image).strip())
        return devices[-1]

    yield make
    for device in devices:
        run("losetup", "--detach", device)


def drive(attach: Attach, folder: Path, sector: int) -> str:
    device = attach(blank(folder / "old.img", 120), sector)
    run("sfdisk", "-q", device, text=f"label: gpt\ntype={LINUX}, name=Root\n")
    volume = folder / "volume"
    make_volume(volume, Part(110, LINUX, "ext4", "root", linux_files(), options=("-b", "4096")), 110 * MIB)
    place(Path(device), volume, MIB)
    os.sync()
    return device


@pytest.mark.parametrize("sector", [512, 4096])
def test_exact_image_restore_and_rescue(sector: int, attach: Attach, tmp_path: Path, neogenesis) -> None:
    old = drive(attach, tmp_path, sector)
    raw = (tmp_path / "old.img").read_bytes()
    new = attach(blank(tmp_path / "new.img", 150), sector)
    neogenesis("plan", old, new, "--intent", "exact", "--relocate-table", "-o", tmp_path / "p.json")
    neogenesis("transfer", tmp_path / "p.json", "--confirm", new[-4:])
    neogenesis("verify", tmp_path / "p.json", new)
    assert "No errors" in run("sfdisk", "--verify", new)
    found = json.loads(neogenesis("survey", new, "--json").stdout)
    assert found["drive"]["sector_size"] == sector and found["partitions"][0]["volume"]["system_family"] == "linux"

    image = tmp_path / "old.qcow2"
    neogenesis("image", old, image)
    assert "No errors" in run("qemu-img", "check", image)
    assert json.loads(neogenesis("survey", image, "--json").stdout)["drive"]["sector_size"] == sector
    third = attach(blank(tmp_path / "third.img", 120), sector)
    neogenesis("restore", image, third, "--confirm", third[-4:])
    run("dd", f"if={third}", f"of={tmp_path / 'back.img'}", "bs=1M")
    assert (tmp_path / "back.img").read_bytes() == raw

    fourth = attach(blank(tmp_path / "fourth.img", 120), sector)
    neogenesis("rescue", old, fourth, "--map", tmp_path / "m.json", "--confirm", fourth[-4:])
    run("dd", f"if={fourth}", f"of={tmp_path / 'saved.img'}", "bs=1M")
    assert (tmp_path / "saved.img").read_bytes() == raw
    neogenesis("salvage", fourth, tmp_path / "files")
    assert json.loads((tmp_path / "files/salvage.json").read_text())["files"] == len(linux_files())


def test_read_only_and_busy_devices_are_refused(attach: Attach, tmp_path: Path, neogenesis) -> None:
    old = drive(attach, tmp_path, 512)
    blank(tmp_path / "new.img", 150)
    new = attach(tmp_path / "new.img", 512)
    neogenesis("plan", old, new, "-o", tmp_path / "p.json")
    run("blockdev", "--setro", new)
    assert "read-only" in neogenesis("transfer", tmp_path / "p.json", "--confirm", new[-4:], status=3).stderr
    run("blockdev", "--setrw", new)
    descriptor = os.open(new, os.O_RDWR | os.O_EXCL)
    try:
        assert "in use" in neogenesis("transfer", tmp_path / "p.json", "--confirm", new[-4:], status=3).stderr
    finally:
        os.close(descriptor)
    neogenesis("transfer", tmp_path / "p.json", "--confirm", new[-4:])


def test_volumes_that_know_nothing_of_sectors_move_to_others(attach: Attach, tmp_path: Path, neogenesis) -> None:
    old = drive(attach, tmp_path, 512)
    new = attach(blank(tmp_path / "new.img", 200), 4096)
    said = neogenesis("plan", old, new, "-o", tmp_path / "p.json").stdout
    assert "sectors of 4096 bytes" in said and "loader" in said
    neogenesis("transfer", tmp_path / "p.json", "--confirm", new[-4:])
    neogenesis("verify", tmp_path / "p.json", new)
    assert "No errors" in run("sfdisk", "--verify", new)
    found = json.loads(neogenesis("survey", new, "--json").stdout)
    part = found["partitions"][0]
    assert found["drive"]["sector_size"] == 4096 and not found["table"]["problems"]
    assert part["volume"]["size_bytes"] > 180 * MIB and part["volume"]["system_family"] == "linux"
    run("dd", f"if={new}", f"of={tmp_path / 'v'}", f"skip={part['start_bytes']}", "iflag=skip_bytes", "bs=1M")
    os.truncate(tmp_path / "v", part["size_bytes"])
    run("e2fsck", "-f", "-n", tmp_path / "v")


@pytest.mark.parametrize("intent", ["replace", "exact"])
def test_other_sectors_are_refused_with_a_reason(intent: str, attach: Attach, tmp_path: Path, neogenesis) -> None:
    old = attach(blank(tmp_path / "old.img", 120), 512)
    run("sfdisk", "-q", old, text=f"label: gpt\ntype={NT_DATA}\n")
    make_volume(tmp_path / "volume", Part(110, NT_DATA, "ntfs", "Main"), 110 * MIB)
    place(Path(old), tmp_path / "volume", MIB)
    os.sync()
    new = attach(blank(tmp_path / "new.img", 150), 4096)
    said = neogenesis("plan", old, new, "--intent", intent, status=3).stderr
    assert "512" in said and "4096" in said and "start" in said
    neogenesis("plan", old, new, "--intent", "beside")


@pytest.mark.parametrize("sector", [512, 4096])
def test_every_way_of_reading_gives_the_same_bytes(sector: int, attach: Attach, tmp_path: Path) -> None:
    content = random.Random(sector).randbytes(40 * MIB)
    (tmp_path / "d.img").write_bytes(content)
    store = SealedFileStore(PathOpener(Path(attach(tmp_path / "d.img", sector))))
    assert store.sector_size == sector and store.physical_sector_bytes >= sector
    aligned = memoryview(mmap.mmap(-1, 4 * MIB))
    try:
        for way in ways():
            store.use(way)
            for offset, length in ((0, 4 * MIB), (8 * MIB + sector, 3 * sector), (8 * MIB + 1, 1000), (39 * MIB, MIB)):
                store.read_into(offset, aligned[:length])
                assert aligned[:length] == content[offset : offset + length], (way, offset)
                unaligned = memoryview(bytearray(length + 1))[1:]
                store.read_into(offset, unaligned)
                assert unaligned == content[offset : offset + length], (way, offset)
        with pytest.raises(ReadFailed):
            store.read_into(40 * MIB - sector, aligned[: 2 * sector])
    finally:
        del aligned
        store.close()


def test_the_way_of_reading_is_measured_and_the_plain_one_needs_a_reason_to_lose(
    attach: Attach, tmp_path: Path
) -> None:
    plain, other = ReadWay(bytes_per_s=100.0), ReadWay(MIB, True, True, 108.0)
    assert best_way([plain, other]) == plain
    assert best_way([plain, ReadWay(MIB, True, True, 140.0)]).direct
    store = SealedFileStore(PathOpener(Path(attach(blank(tmp_path / "d.img", 400), 512))))
    chosen = choose_way(store, time.monotonic)
    assert chosen.bytes_per_s > 0 and store.parallel_reads == chosen.side_by_side
    store.close()
    small = SealedFileStore(PathOpener(Path(attach(blank(tmp_path / "small.img", 2), 512))))
    assert choose_way(small, time.monotonic) == ReadWay()
    small.close()


def test_a_bad_place_in_the_measurement_keeps_the_plain_way(tmp_path: Path) -> None:
    class Failing(SealedFileStore):
        def read_into(self, offset: int, buffer: memoryview) -> None:
            raise ReadFailed(offset, len(buffer), "Input/output error")

    store = Failing(PathOpener(blank(tmp_path / "d.img", 400)))
    assert choose_way(store, time.monotonic) == ReadWay() and not store.parallel_reads
    store.close()


def test_discard_on_request_frees_what_the_plan_leaves_free(attach: Attach, tmp_path: Path, neogenesis) -> None:
    old = drive(attach, tmp_path, 512)
    (tmp_path / "new.img").write_bytes(random.Random(1).randbytes(MIB) * 200)
    new = attach(tmp_path / "new.img", 512)
    neogenesis("plan", old, new, "--grow", "none", "--discard", "-o", tmp_path / "p.json")
    plan = json.loads((tmp_path / "p.json").read_text())
    assert [o["kind"] for o in plan["operations"]] == ["clear-table", "discard", "copy", "verify", "write-table"]
    before = (tmp_path / "old.img").stat().st_blocks
    neogenesis("transfer", tmp_path / "p.json", "--confirm", new[-4:])
    neogenesis("verify", tmp_path / "p.json", new)
    assert (tmp_path / "new.img").stat().st_blocks * 512 < 40 * MIB  # 200 MiB were taken before
    assert (tmp_path / "old.img").stat().st_blocks == before
    run("e2fsck", "-f", "-n", f"{new}p1" if Path(f"{new}p1").exists() else cut(tmp_path / "new.img", tmp_path / "v"))


def cut(image: Path, out: Path) -> Path:
    start, size = spans(image)[0]
    run("dd", f"if={image}", f"of={out}", f"skip={start}", f"count={size}", "iflag=skip_bytes,count_bytes", "bs=1M")
    return out
