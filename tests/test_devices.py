"""Real block devices: loop devices with sectors of 512 and 4096 bytes, attached and detached here."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.drives import LINUX, MIB, Part, blank, linux_files, make_volume, place, run

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
    make_volume(volume, Part(110, LINUX, "ext4", "root", linux_files()), 110 * MIB)
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


def test_mixed_sector_sizes_are_refused_with_a_reason(attach: Attach, tmp_path: Path, neogenesis) -> None:
    old = drive(attach, tmp_path, 512)
    new = attach(blank(tmp_path / "new.img", 150), 4096)
    said = neogenesis("plan", old, new, status=3).stderr
    assert "512" in said and "4096" in said and "start" in said
