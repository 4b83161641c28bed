"""Faults that only a kernel with a page cache shows: the faulty drive stands behind a real block device."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from neogenesis.core.errors import ReadFailed, Stopped, WriteFailed
from neogenesis.core.image.make import ImageFiles
from neogenesis.core.store import FileStore, LiveStore, PathOpener, SealedFileStore, read_or_narrow, still_answers
from tests.drives import LINUX, MIB, Part, blank, file_hashes, linux_files, make_drive, run, simulated, spans
from tests.faulty import FaultyDrive

Make = Callable[..., FaultyDrive]


def noise(path: Path, mib: int) -> Path:
    path.write_bytes(random.Random(mib).randbytes(mib * MIB))
    return path


def touching(drive: FaultyDrive, start: int, end: int) -> int:
    return sum(1 for offset, length in drive.requests() if offset < end and start < offset + length)


def test_one_bad_sector_costs_one_sector_and_a_handful_of_requests(tmp_path: Path, faulty: Make) -> None:
    bad = 20 * MIB + 512 * 3
    drive = faulty(noise(tmp_path / "old.img", 32), read_only=True)
    drive.tell(unreadable=[(bad, bad + 512)])
    store = SealedFileStore(PathOpener(Path(drive.device)))
    buffer = memoryview(bytearray(4 * MIB + 512))[512:]  # not aligned in memory
    drive.forget_requests()
    lost = read_or_narrow(store, 20 * MIB, buffer, 512)
    store.close()
    assert lost == [(bad, bad + 512)]
    raw = bytearray((tmp_path / "old.img").read_bytes()[20 * MIB : 24 * MIB])
    raw[512 * 3 : 512 * 4] = bytes(512)
    assert buffer == raw
    assert touching(drive, bad, bad + 512) <= 12  # the kernel's own tries for the first, cached read among them


def test_the_cache_does_not_answer_for_a_dead_drive(tmp_path: Path, faulty: Make) -> None:
    drive = faulty(noise(tmp_path / "old.img", 8), read_only=True)
    store = SealedFileStore(PathOpener(Path(drive.device)))
    store.read(0, 4 * MIB)
    assert still_answers([(store, 0)])
    drive.tell(dead=True)
    assert store.read(0, 512)  # the page cache still has it
    assert not still_answers([(store, 0), (store, MIB)])
    with pytest.raises(ReadFailed):
        store.uncached().read(100, 7)
    drive.tell(dead=False)
    assert store.uncached().read(100, 7) == (tmp_path / "old.img").read_bytes()[100:107]
    store.close()


def test_a_drive_that_dies_is_not_asked_for_each_of_its_sectors(tmp_path: Path, faulty: Make) -> None:
    drive = faulty(noise(tmp_path / "old.img", 16), read_only=True)
    with closing(SealedFileStore(PathOpener(Path(drive.device)))) as sealed:
        store = LiveStore(sealed)
        store.begin()
        assert read_or_narrow(store, 0, memoryview(bytearray(4 * MIB)), 512) == []
        drive.tell(dead=True)
        drive.forget_requests()
        with pytest.raises(Stopped, match="no longer answers"):
            read_or_narrow(store, 8 * MIB, memoryview(bytearray(4 * MIB)), 512)
        assert len(drive.requests()) < 200  # the kernel tries each of ours again, page by page
        with pytest.raises(Stopped):
            LiveStore(sealed).begin()


def test_a_stop_is_heard_in_a_bad_stretch(tmp_path: Path, faulty: Make) -> None:
    drive = faulty(noise(tmp_path / "old.img", 16), read_only=True)
    drive.tell(unreadable=[(4 * MIB, 8 * MIB)])
    failures = [0]

    def checkpoint() -> None:
        failures[0] += 1
        if failures[0] > 5:
            raise Stopped("test")

    with closing(SealedFileStore(PathOpener(Path(drive.device)))) as sealed:
        store = LiveStore(sealed, checkpoint)
        store.begin()
        with pytest.raises(Stopped, match="test"):
            read_or_narrow(store, 4 * MIB, memoryview(bytearray(4 * MIB)), 512)


@pytest.mark.parametrize("work", ["image", "salvage"])
def test_a_drive_that_drops_out_loses_nothing(work: str, tmp_path: Path, neogenesis: Any) -> None:
    """Its silence is no list of bad sectors: connected again, the same command makes it whole."""
    files = {f"f{n}.bin": random.Random(n).randbytes(3 * MIB) for n in range(8)}
    make_drive(tmp_path / "old.img", 48, [Part(40, LINUX, "ext4", "home", files)])
    out = tmp_path / ("o.qcow2" if work == "image" else "out")
    dying = {"image": "old.img", "serial": "HD5-000OLD1", "path": tmp_path / "old.drive.json"}
    for dies in (9 * MIB, 24 * MIB):
        simulated(**dying, read={"dies_after_bytes": dies})
        assert "no longer answers" in neogenesis(work, tmp_path / "old.drive.json", out, status=6).stderr
    simulated(**dying)
    neogenesis(work, tmp_path / "old.drive.json", out)
    if work == "image":
        assert json.loads(ImageFiles(out).manifest.read_text())["lost"] == []
        plain = tmp_path / "back.img"
        run("qemu-img", "convert", "-O", "raw", out, plain)
        place = spans(tmp_path / "old.img")[0]
        assert file_hashes(plain, *place) == file_hashes(tmp_path / "old.img", *place)
    else:
        assert {p.name: p.read_bytes() for p in out.rglob("*.bin")} == files


def test_after_a_failed_flush_a_store_refuses_everything(tmp_path: Path, faulty: Make) -> None:
    drive = faulty(blank(tmp_path / "new.img", 8))
    store = FileStore(PathOpener(Path(drive.device)))
    store.write(MIB, b"x" * MIB)
    store.sync()
    drive.tell(refused=[(2 * MIB, 3 * MIB)])
    store.write(2 * MIB, b"y" * MIB)
    with pytest.raises(WriteFailed):
        store.sync()
    drive.tell(refused=[])
    for again in (
        store.sync,
        lambda: store.write(0, b"z"),
        lambda: store.write_zeros(0, 512),
        lambda: store.discard(0, MIB),
        lambda: store.read(0, 512),
    ):
        with pytest.raises(WriteFailed):
            again()
    store.close()
    assert (tmp_path / "new.img").read_bytes()[2 * MIB : 3 * MIB] != b"y" * MIB


def exact_plan(neogenesis, old: str | Path, new: str | Path, plan: Path) -> None:
    neogenesis("plan", old, new, "--intent", "exact", "-o", plan)


def test_a_table_that_never_arrives_is_no_success(tmp_path: Path, faulty: Make, neogenesis) -> None:
    old = make_drive(tmp_path / "old.img", 60, [Part(40, LINUX, "ext4", "root", linux_files())])
    for number, lost in enumerate([(512, 1024), (0, 512)]):
        drive = faulty(blank(tmp_path / f"new{number}.img", 64))
        plan = tmp_path / f"p{number}.json"
        neogenesis("plan", old, drive.device, "-o", plan)
        drive.tell(dropped=[lost])
        said = neogenesis("transfer", plan, "--confirm", drive.device[-4:], status=5).stderr
        assert "new drive" in said
        drive.tell(dropped=[])
        neogenesis("transfer", plan, "--confirm", drive.device[-4:], "--resume")
        neogenesis("verify", plan, drive.device)


def test_a_drive_that_dies_while_it_is_copied_is_not_full_of_bad_places(
    tmp_path: Path, faulty: Make, neogenesis
) -> None:
    raw = noise(tmp_path / "old.img", 64).read_bytes()
    drive, new, plan = (
        faulty(tmp_path / "old.img", read_only=True),
        blank(tmp_path / "new.img", 64),
        tmp_path / "p.json",
    )
    exact_plan(neogenesis, drive.device, new, plan)
    drive.tell(dies_after_reads=40)
    assert "no longer answers" in neogenesis("transfer", plan, "--confirm", "new", status=6).stderr
    drive.tell(dies_after_reads=-1)
    neogenesis("transfer", plan, "--confirm", "new", "--resume")
    assert new.read_bytes() == raw and json.loads((tmp_path / "p.manifest.json").read_text())["lost"] == []


def test_twenty_bad_sectors_cost_twenty_sectors(tmp_path: Path, faulty: Make, neogenesis) -> None:
    raw = bytearray(noise(tmp_path / "old.img", 64).read_bytes())
    rng = random.Random(20)
    bad = sorted(rng.sample(range(4096, 2 * 64 * 1024 - 4096), 20))
    drive = faulty(tmp_path / "old.img", read_only=True)
    new, plan = blank(tmp_path / "new.img", 64), tmp_path / "p.json"
    exact_plan(neogenesis, drive.device, new, plan)
    drive.tell(unreadable=[(s * 512, s * 512 + 512) for s in bad])
    drive.forget_requests()
    neogenesis("transfer", plan, "--confirm", "new", status=4)
    for sector in bad:
        raw[sector * 512 : sector * 512 + 512] = bytes(512)
    assert new.read_bytes() == raw
    asked = sum(touching(drive, s * 512, s * 512 + 512) for s in bad)
    assert asked <= 20 * 20, asked


def test_a_rescue_asks_gently_and_loses_one_sector(tmp_path: Path, faulty: Make, neogenesis) -> None:
    raw = bytearray(noise(tmp_path / "old.img", 40).read_bytes())
    bad = 20 * MIB + 4096 + 512
    drive = faulty(tmp_path / "old.img", read_only=True)
    drive.tell(unreadable=[(bad, bad + 512)])
    new = tmp_path / "copy.img"
    arguments = ("rescue", drive.device, new, "--map", tmp_path / "m.json", "--confirm", "copy")
    drive.forget_requests()
    neogenesis(*arguments, "--passes", "out,back,rest,edges,singles", status=4)
    regions = json.loads((tmp_path / "m.json").read_text())["regions"]
    assert [r[:2] for r in regions if r[2] == "lost"] == [[bad, bad + 512]]
    raw[bad % (40 * MIB) : bad + 512] = bytes(512)
    assert new.read_bytes() == raw
    assert touching(drive, bad, bad + 512) <= 12
    drive.tell(unreadable=[])
    neogenesis(*arguments)  # what was lost is tried again


def test_a_rescue_that_cannot_write_keeps_an_honest_map(tmp_path: Path, faulty: Make, neogenesis) -> None:
    raw = noise(tmp_path / "old.img", 40).read_bytes()
    drive = faulty(blank(tmp_path / "new.img", 40))
    drive.tell(refused=[(8 * MIB, 12 * MIB)])
    arguments = (
        "rescue",
        tmp_path / "old.img",
        drive.device,
        "--map",
        tmp_path / "m.json",
        "--confirm",
        drive.device[-4:],
    )
    said = neogenesis(*arguments, status=6).stderr
    assert "did not take" in said
    if (tmp_path / "m.json").exists():
        arrived = (tmp_path / "new.img").read_bytes()
        for start, end, state in json.loads((tmp_path / "m.json").read_text())["regions"]:
            assert state != "read" or arrived[start:end] == raw[start:end]
    drive.tell(refused=[])
    neogenesis(*arguments)
    assert (tmp_path / "new.img").read_bytes() == raw


def test_a_transfer_whose_flush_fails_is_stopped_and_goes_on(tmp_path: Path, faulty: Make, neogenesis) -> None:
    raw = noise(tmp_path / "old.img", 64).read_bytes()
    drive, plan = faulty(blank(tmp_path / "new.img", 64)), tmp_path / "p.json"
    exact_plan(neogenesis, tmp_path / "old.img", drive.device, plan)
    drive.tell(refused=[(30 * MIB, 31 * MIB)])
    assert "--resume" in neogenesis("transfer", plan, "--confirm", drive.device[-4:], status=6).stderr
    drive.tell(refused=[])
    neogenesis("transfer", plan, "--confirm", drive.device[-4:], "--resume")
    assert (tmp_path / "new.img").read_bytes() == raw


def test_an_unreadable_place_of_the_new_drive_is_named_as_such(tmp_path: Path, faulty: Make, neogenesis) -> None:
    noise(tmp_path / "old.img", 32)
    drive, plan = faulty(blank(tmp_path / "new.img", 32)), tmp_path / "p.json"
    exact_plan(neogenesis, tmp_path / "old.img", drive.device, plan)
    drive.tell(unreadable=[(10 * MIB, 10 * MIB + 512)])
    tail = drive.device[-4:]
    said = neogenesis("transfer", plan, "--confirm", tail, status=5).stderr
    assert "new drive" in said and "old drive" not in said
    said = neogenesis("transfer", plan, "--confirm", tail, "--resume", status=5).stderr
    assert "not to be trusted" in said
