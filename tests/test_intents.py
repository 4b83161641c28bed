"""The intents beside replace: exact, split and beside, done for real and judged by other people's tools."""

from __future__ import annotations

import json
import os
import struct
from pathlib import Path

import pytest

from tests.drives import (
    MIB,
    NT_DATA,
    STARTUP,
    Part,
    blank,
    check_volume,
    file_hashes,
    is_blank,
    make_drive,
    run,
    same_bytes,
    simulated,
    spans,
    table_of,
)


def transfer(neogenesis, plan: Path) -> None:
    neogenesis("transfer", plan, "--confirm", "new")
    neogenesis("verify", plan, json.loads(plan.read_text())["target"]["drive"]["path"])


@pytest.mark.parametrize("extra", [0, 1, 40_000, 64 * MIB])
def test_exact_is_the_same_bytes(extra: int, standard: Path, tmp_path: Path, neogenesis) -> None:
    new, plan = tmp_path / "new.img", tmp_path / "p.json"
    size = standard.stat().st_size
    with new.open("wb") as file:
        file.truncate((size + extra) // 512 * 512)
    neogenesis("plan", standard, new, "--intent", "exact", "-o", plan)
    transfer(neogenesis, plan)
    assert same_bytes(new, standard, size) and is_blank(new, size)


def test_exact_with_the_table_relocated(standard: Path, tmp_path: Path, neogenesis) -> None:
    for extra in (512, 20_480, 90 * MIB):
        new, plan = tmp_path / "new.img", tmp_path / "p.json"
        with new.open("wb") as file:
            file.truncate(standard.stat().st_size + extra)
        neogenesis("plan", standard, new, "--intent", "exact", "--relocate-table", "-o", plan)
        transfer(neogenesis, plan)
        assert "No errors" in run("sfdisk", "--verify", new)
        with new.open("rb") as file:
            assert struct.unpack_from("<Q", os.pread(file.fileno(), 92, 512), 32)[0] == new.stat().st_size // 512 - 1
        assert spans(new) == spans(standard) and table_of(new)["id"] == table_of(standard)["id"]
        for start, length in spans(new):
            assert same_bytes(new, standard, length, start)
        for file in tmp_path.glob("p.*"):
            file.unlink()


def test_exact_of_what_nobody_understands(tmp_path: Path, neogenesis) -> None:
    for size in (512, 5000 * 512, 3 * MIB + 512):
        old, new, plan = tmp_path / "old.img", tmp_path / "new.img", tmp_path / "p.json"
        old.write_bytes(os.urandom(size))
        with new.open("wb") as file:
            file.truncate(4 * MIB)
        neogenesis("plan", old, new, "--intent", "exact", "-o", plan)
        transfer(neogenesis, plan)
        assert new.read_bytes()[:size] == old.read_bytes()
        for file in tmp_path.glob("p.*"):
            file.unlink()


def test_exact_refuses_one_sector_too_few(standard: Path, tmp_path: Path, neogenesis) -> None:
    with (tmp_path / "new.img").open("wb") as file:
        file.truncate(standard.stat().st_size - 512)
    assert "too small" in neogenesis("plan", standard, tmp_path / "new.img", "--intent", "exact", status=3).stderr


def test_exact_with_unreadable_ends(standard: Path, tmp_path: Path, neogenesis) -> None:
    size = standard.stat().st_size
    bad = [[300_000, 300_512], [size - 400_000, size - 399_000]]
    simulated(tmp_path / "old.drive.json", "old.img", serial="BAD1", read={"unreadable": bad})
    blank(tmp_path / "new.img", 700)
    neogenesis(
        "plan", tmp_path / "old.drive.json", tmp_path / "new.img", "--intent", "exact", "-o", tmp_path / "p.json"
    )
    neogenesis("transfer", tmp_path / "p.json", "--confirm", "new", status=4)
    regions = json.loads((tmp_path / "p.regions.json").read_text())["regions"]
    lost = [r for r in regions if r[2] == "lost"]
    assert len(lost) == 2 and all(s % 512 == 0 and e % 512 == 0 for s, e, _ in lost) and regions[-1][1] == size
    assert {r[2] for r in regions} == {"read", "lost"}


def test_split_leaves_the_data_and_says_what_comes_after(standard: Path, tmp_path: Path, neogenesis) -> None:
    new, plan = blank(tmp_path / "new.img", 900), tmp_path / "p.json"
    neogenesis("plan", standard, new, "--intent", "split", "-o", plan)
    made = json.loads(plan.read_text())
    assert made["left_behind"] == [5] and len(made["afterwards"]) == 3
    assert "two-drives-one-identity" in [f["code"] for f in made["findings"]]
    transfer(neogenesis, plan)
    roles = [p["role"] for p in json.loads(neogenesis("survey", new, "--json").stdout)["partitions"]]
    assert roles == ["startup", "reserved", "system", "recovery"]
    check_volume(new, *spans(new)[2], "ntfs", tmp_path)
    assert file_hashes(new, *spans(new)[2]) == file_hashes(standard, *spans(standard)[2])
    only = make_drive(
        tmp_path / "only.img",
        200,
        [Part(40, STARTUP, "fat32", "S"), Part(0, NT_DATA, "ntfs", "D", {"Windows/System32/config/SYSTEM": b"x"})],
    )
    assert "nothing to leave" in neogenesis("plan", only, new, "--intent", "split", status=3).stderr


@pytest.mark.parametrize(("machine", "label"), [("--machine-uefi", "gpt"), ("--machine-legacy", "dos")])
def test_beside_makes_one_volume_and_copies_nothing(
    machine: str, label: str, standard: Path, tmp_path: Path, neogenesis
) -> None:
    new, plan = blank(tmp_path / "new.img", 500), tmp_path / "p.json"
    neogenesis("plan", standard, new, "--intent", "beside", machine, "-o", plan)
    transfer(neogenesis, plan)
    assert table_of(new)["label"] == label and len(spans(new)) == 1
    assert "No errors" in run("sfdisk", "--verify", new)
    check_volume(new, *spans(new)[0], "ntfs", tmp_path)
    assert file_hashes(new, *spans(new)[0]) == {}


def test_swap_is_made_anew_with_its_uuid(tmp_path: Path, neogenesis) -> None:
    from tests.drives import LINUX, SWAP, linux_files

    old = make_drive(
        tmp_path / "old.img", 400, [Part(150, LINUX, "ext4", "root", linux_files()), Part(200, SWAP, "swap", "rest")]
    )
    with old.open("r+b") as file:
        file.seek(spans(old)[1][0] + 50 * MIB)
        file.write(os.urandom(4 * MIB))
    new, plan = blank(tmp_path / "new.img", 500), tmp_path / "p.json"
    neogenesis("plan", old, new, "-o", plan)
    transfer(neogenesis, plan)
    start, length = spans(new)[1]
    said = [
        run("blkid", "-p", "-O", str(s), "-o", "value", "-s", "UUID", image)
        for image, (s, _) in ((old, spans(old)[1]), (new, (start, length)))
    ]
    assert said[0] == said[1] and said[0].strip()
    with new.open("rb") as file:
        file.seek(start + 50 * MIB)
        assert not any(file.read(4 * MIB))


def test_room_for_preparing_volumes_is_asked_for_first(standard: Path, tmp_path: Path, neogenesis) -> None:
    new, point = blank(tmp_path / "new.img", 1400), tmp_path / "small"
    point.mkdir()
    run("mount", "-t", "tmpfs", "-o", "size=20m", "tmpfs", point)
    try:
        neogenesis("plan", standard, new, "-o", point / "p.json")
        assert json.loads((point / "p.json").read_text())["scratch_bytes"] > 20 * MIB
        assert "nothing was written" in neogenesis("transfer", point / "p.json", "--confirm", "new", status=3).stderr
        assert is_blank(new)
    finally:
        run("umount", point)


def test_sample_says_how_sure_it_is(standard: Path, tmp_path: Path, neogenesis) -> None:
    from neogenesis.core.transfer.manifest import missed_share

    assert abs(missed_share(512) - 0.00895) < 1e-4 and missed_share(0) == 1.0
    for n in (1, 10, 512, 100_000):
        assert (1 - missed_share(n)) ** n == pytest.approx(0.01)
    new, plan = blank(tmp_path / "new.img", 700), tmp_path / "p.json"
    neogenesis("plan", standard, new, "--grow", "none", "-o", plan)
    neogenesis("transfer", plan, "--confirm", "new", "--verify", "sample")
    assert json.loads((tmp_path / "p.manifest.json").read_text())["verified_bytes"] > 0
