"""Whole transfers by the real program on real volumes, judged by other people's tools."""

from __future__ import annotations

import hashlib
import json
import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.drives import (
    LINUX,
    MIB,
    NT_DATA,
    STARTUP,
    SWAP,
    Part,
    blank,
    check_volume,
    file_hashes,
    is_blank,
    linux_files,
    make_drive,
    nt_files,
    run,
    simulated,
    spans,
    table_of,
)

KINDS = ["fat32", "", "ntfs", "ntfs", "ext4"]


def sha(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def entries(image: Path) -> list[dict]:
    return sorted(table_of(image)["partitions"], key=lambda p: p["node"])


def test_replace_onto_a_larger_drive(standard: Path, tmp_path: Path, neogenesis) -> None:
    before = sha(standard)
    new, plan = blank(tmp_path / "new.img", 1400), tmp_path / "p.json"
    neogenesis("plan", standard, new, "-o", plan)
    neogenesis("transfer", plan, "--confirm", "NEW")
    assert sha(standard) == before
    assert "No errors" in run("sfdisk", "--verify", new)
    assert table_of(new)["id"] == table_of(standard)["id"]
    for old_entry, new_entry, kind in zip(entries(standard), entries(new), KINDS, strict=True):
        for key in ("type", "uuid", "name"):
            assert old_entry.get(key) == new_entry.get(key)
        start, size = new_entry["start"] * 512, new_entry["size"] * 512
        assert start % MIB == 0
        if kind:
            check_volume(new, start, size, kind, tmp_path)
            old = file_hashes(standard, old_entry["start"] * 512, old_entry["size"] * 512)
            assert old and file_hashes(new, start, size) == old
    sizes = {Path(e["node"]).name[-1]: e["size"] for e in entries(new)}
    assert sizes["3"] * 512 > 1000 * MIB
    assert max(spans(new))[0] == entries(new)[3]["start"] * 512, "recovery stands at the end"
    neogenesis("verify", plan, new)


def test_replace_onto_a_smaller_drive(standard: Path, tmp_path: Path, neogenesis) -> None:
    new, plan = blank(tmp_path / "new.img", 420), tmp_path / "p.json"
    neogenesis("plan", standard, new, "-o", plan)
    neogenesis("transfer", plan, "--confirm", "new")
    for old_entry, new_entry, kind in zip(entries(standard), entries(new), KINDS, strict=True):
        if kind:
            check_volume(new, new_entry["start"] * 512, new_entry["size"] * 512, kind, tmp_path)
            assert file_hashes(new, new_entry["start"] * 512, new_entry["size"] * 512) == file_hashes(
                standard, old_entry["start"] * 512, old_entry["size"] * 512
            )


def test_too_small_is_refused_with_figures(standard: Path, tmp_path: Path, neogenesis) -> None:
    new = blank(tmp_path / "new.img", 110)
    said = neogenesis("plan", standard, new, "-o", tmp_path / "p.json", status=3).stderr
    assert "too small" in said and "missing" in said and "papers" in said
    assert not (tmp_path / "p.json").exists()
    assert is_blank(new)


def test_linux_drive_with_swap_and_raw_volume(tmp_path: Path, neogenesis) -> None:
    old = make_drive(
        tmp_path / "old.img",
        500,
        [
            Part(40, STARTUP, "fat16", "BOOT", {"EFI/x/y.efi": b"z" * 3000}),
            Part(200, LINUX, "ext4", "root", linux_files()),
            Part(20, SWAP, "swap", "rest"),
            Part(60, LINUX, "luks"),
            Part(100, NT_DATA, "exfat", "card"),
        ],
    )
    new, plan = blank(tmp_path / "new.img", 900), tmp_path / "p.json"
    neogenesis("plan", old, new, "-o", plan)
    neogenesis("transfer", plan, "--confirm", "new")
    check_volume(new, *_span(new, 2), "ext4", tmp_path)
    assert file_hashes(new, *_span(new, 2)) == file_hashes(old, *_span(old, 2))
    for number in (3, 4):
        assert _bytes(new, number) == _bytes(old, number)
    assert run("blkid", "-p", "-O", str(_span(new, 5)[0]), "-o", "value", "-s", "LABEL", new).strip() == "card"


def _span(image: Path, number: int) -> tuple[int, int]:
    entry = next(e for e in table_of(image)["partitions"] if e["node"].removeprefix(str(image)) == str(number))
    return entry["start"] * 512, entry["size"] * 512


def _bytes(image: Path, number: int) -> bytes:
    start, size = _span(image, number)
    with image.open("rb") as file:
        file.seek(start)
        return file.read(size)


def test_mbr_with_logical_partitions_and_loader(tmp_path: Path, neogenesis) -> None:
    old = make_drive(
        tmp_path / "old.img",
        500,
        [
            Part(100, "07,bootable", "ntfs", "Main", nt_files(), number=1),
            Part(330, "05", "", number=2),
            Part(100, "07", "ntfs", "Logs", number=5),
            Part(100, "83", "ext4", "Charts", linux_files(), number=6),
        ],
        table="mbr",
    )
    with old.open("r+b") as file:
        file.write(b"\xfa\x31\xc0" * 100)
        file.seek(512)
        file.write(b"second stage" * 1000)
    new, plan = blank(tmp_path / "new.img", 900), tmp_path / "p.json"
    neogenesis("plan", old, new, "-o", plan)
    neogenesis("transfer", plan, "--confirm", "new")
    with old.open("rb") as a, new.open("rb") as b:
        assert a.read(440) == b.read(440)
        a.seek(512), b.seek(512)
        assert a.read(12_000) == b.read(12_000)
    assert table_of(new)["id"] == table_of(old)["id"]
    assert "No errors" in run("sfdisk", "--verify", new)
    numbers = {e["node"].removeprefix(str(new)): e["type"] for e in table_of(new)["partitions"]}
    assert numbers["1"] == "7" and numbers["5"] == "7" and numbers["6"] == "83"
    for number, kind in ((1, "ntfs"), (5, "ntfs"), (6, "ext4")):
        check_volume(new, *_span(new, number), kind, tmp_path)
        assert file_hashes(new, *_span(new, number)) == file_hashes(old, *_span(old, number))


@pytest.mark.parametrize("fat", ["fat32", "fat16"])
def test_growing_a_fat_volume_keeps_everything(fat: str, tmp_path: Path, neogenesis) -> None:
    files = {f"EFI/d{n}/f{n}.bin": random.Random(n).randbytes(n * 3000 + 1) for n in range(12)}
    old = make_drive(tmp_path / "old.img", 100, [Part(60, STARTUP, fat, "START", files)])
    new, plan = blank(tmp_path / "new.img", 180), tmp_path / "p.json"
    neogenesis("plan", old, new, "--grow", "1", "-o", plan)
    neogenesis("transfer", plan, "--confirm", "new")
    check_volume(new, *_span(new, 1), fat, tmp_path)
    assert file_hashes(new, *_span(new, 1)) == file_hashes(old, *_span(old, 1))
    listing = json.loads(neogenesis("survey", new, "--json").stdout)["partitions"][0]["volume"]
    assert listing["size_bytes"] > 128 * MIB
    assert listing["uuid"] == json.loads(neogenesis("survey", old, "--json").stdout)["partitions"][0]["volume"]["uuid"]


def test_new_data_volume_spare_and_leaving_behind(standard: Path, tmp_path: Path, neogenesis) -> None:
    new, plan = blank(tmp_path / "new.img", 1600), tmp_path / "p.json"
    neogenesis("plan", standard, new, "--leave", "5", "--data-volume", "300MiB", "--spare", "10", "-o", plan)
    made = json.loads(plan.read_text())
    assert made["left_behind"] == [5]
    neogenesis("transfer", plan, "--confirm", "new")
    added = next(p for p in made["layout"]["partitions"] if p["from_partition"] is None)
    check_volume(new, added["start_bytes"], added["size_bytes"], "ntfs", tmp_path)
    assert max(start + size for start, size in spans(new)) <= 1600 * MIB * 90 // 100


def test_wrong_tail_changed_source_changed_target(standard: Path, tmp_path: Path, neogenesis) -> None:
    new, plan = blank(tmp_path / "new.img", 1400), tmp_path / "p.json"
    neogenesis("plan", standard, new, "-o", plan)
    assert "ends" in neogenesis("transfer", plan, "--confirm", "old", status=3).stderr
    assert is_blank(new)
    with new.open("r+b") as file:
        file.write(b"someone else's table")
    assert "changed" in neogenesis("transfer", plan, "--confirm", "new", status=3).stderr
    blank(new, 1400)
    with standard.open("r+b") as file:
        file.seek(_span(standard, 5)[0] + 1024 + 48)
        file.write(b"\x01\x02")
    assert "changed" in neogenesis("transfer", plan, "--confirm", "new", status=3).stderr
    assert is_blank(new)
    assert "old drive itself" in neogenesis("plan", standard, standard, status=3).stderr


def start(plan: Path, *more: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-m", "neogenesis", "transfer", str(plan), "--confirm", "new", *more],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
    )


def test_killed_at_random_and_resumed(standard: Path, tmp_path: Path, neogenesis) -> None:
    """However often and wherever it is killed, resume ends with a drive that passes every check."""
    spec = tmp_path / "old.drive.json"
    spec.write_text(
        json.dumps(
            {
                "schema": "neogenesis.simulated-drive/1",
                "image": "old.img",
                "serial": "KILL0001",
                "read": {"bytes_per_s": 1.2e8},
                "clock": "real",
            }
        )
    )
    new, plan = blank(tmp_path / "new.img", 1400), tmp_path / "p.json"
    neogenesis("plan", spec, new, "-o", plan)
    rng = random.Random(os.getpid())
    killed = 0
    for attempt in range(4):
        process = start(plan, "--resume")
        time.sleep(rng.uniform(0.4, 1.5))
        process.send_signal(signal.SIGKILL if attempt % 3 else signal.SIGTERM)
        status = process.wait()
        killed += status in (-signal.SIGKILL, 6, -signal.SIGTERM)
        process.stderr.close()
        if status == 0:
            break
    assert killed
    neogenesis("transfer", plan, "--confirm", "new", "--resume")
    neogenesis("verify", plan, new)
    for number, kind in ((1, "fat32"), (3, "ntfs"), (4, "ntfs"), (5, "ext4")):
        check_volume(new, *_span(new, number), kind, tmp_path)
        assert file_hashes(new, *_span(new, number)) == file_hashes(standard, *_span(standard, number))


def test_unreadable_source_is_recorded_never_silent(standard: Path, tmp_path: Path, neogenesis) -> None:
    start_5, _ = _span(standard, 5)
    hole = [start_5 + 4096, start_5 + 4096 + 3000]  # inside the descriptors' neighbourhood of the ext volume
    data = _find_file_bytes(standard, 3)
    spec = tmp_path / "old.drive.json"
    spec.write_text(
        json.dumps(
            {
                "schema": "neogenesis.simulated-drive/1",
                "image": "old.img",
                "serial": "BAD00001",
                "read": {"unreadable": [[data, data + 700]]},
            }
        )
    )
    new, plan = blank(tmp_path / "new.img", 640), tmp_path / "p.json"
    neogenesis("plan", spec, new, "--grow", "none", "-o", plan)
    said = neogenesis("transfer", plan, "--confirm", "new", status=4).stderr
    assert "could not be read" in said and hole
    regions = json.loads((tmp_path / "p.regions.json").read_text())
    assert regions["regions"][0][0] == 0 and regions["regions"][-1][1] == regions["size_bytes"]
    assert all(a[1] == b[0] for a, b in zip(regions["regions"], regions["regions"][1:], strict=False))
    lost = [r for r in regions["regions"] if r[2] == "lost"]
    sector = data // 512 * 512
    assert lost == [[sector, -(-(data + 700) // 512) * 512, "lost"]]
    assert json.loads((tmp_path / "p.manifest.json").read_text())["lost"] == [lost[0][:2]]


def _find_file_bytes(image: Path, number: int) -> int:
    """Where one of the customer's files lies on the drive."""
    needle = nt_files()["Users/berth/scans/007.bin"][-600:]
    start_at, size = _span(image, number)
    with image.open("rb") as file:
        file.seek(start_at)
        return start_at + file.read(size).index(needle)


def test_a_flipped_bit_is_found_and_named(standard: Path, tmp_path: Path, neogenesis) -> None:
    new, plan = blank(tmp_path / "new.img", 640), tmp_path / "p.json"
    neogenesis("plan", standard, new, "--grow", "none", "-o", plan)
    neogenesis("transfer", plan, "--confirm", "new", "--verify", "none")
    at = _find_file_bytes(new, 3)
    with new.open("r+b") as file:
        file.seek(at)
        byte = file.read(1)[0]
        file.seek(at)
        file.write(bytes([byte ^ 4]))
    said = neogenesis("verify", tmp_path / "p.manifest.json", new, status=5).stderr
    assert "partition 3" in said and "Users/berth/scans/007.bin" in said


def test_second_transfer_is_refused(standard: Path, tmp_path: Path, neogenesis) -> None:
    spec = tmp_path / "slow.drive.json"
    spec.write_text(
        json.dumps(
            {
                "schema": "neogenesis.simulated-drive/1",
                "image": "old.img",
                "serial": "SLOW0001",
                "read": {"bytes_per_s": 5e7},
                "clock": "real",
            }
        )
    )
    new, plan = blank(tmp_path / "new.img", 640), tmp_path / "p.json"
    other = tmp_path / "q.json"
    neogenesis("plan", spec, new, "--grow", "none", "-o", plan)
    other.write_bytes(plan.read_bytes())
    process = start(plan)
    try:
        while not (tmp_path / "p.journal").exists():
            assert process.poll() is None, process.stderr.read()
            time.sleep(0.02)
        assert "under way" in neogenesis("transfer", plan, "--confirm", "new", status=3).stderr
        assert "in use" in neogenesis("transfer", other, "--confirm", "new", status=3).stderr
    finally:
        process.send_signal(signal.SIGINT)
        said = process.stderr.read()
        process.stderr.close()
        assert process.wait() == 6, said
        assert len(said.strip().splitlines()) == 1
    simulated(spec, "old.img", serial="SLOW0001")  # the same drive, quick again
    neogenesis("transfer", plan, "--confirm", "new", "--resume")
    neogenesis("verify", plan, new)


def test_target_that_fails_while_being_written(standard: Path, tmp_path: Path, neogenesis) -> None:
    blank(tmp_path / "new.img", 640)
    spec = tmp_path / "new.drive.json"
    text = {
        "schema": "neogenesis.simulated-drive/1",
        "image": "new.img",
        "serial": "GONE0001",
        "write": {"fails_after_bytes": 20_000_000},
    }
    spec.write_text(json.dumps(text))
    plan = tmp_path / "p.json"
    neogenesis("plan", standard, spec, "--grow", "none", "-o", plan)
    said = neogenesis("transfer", plan, "--confirm", "0001", status=6).stderr
    assert "--resume" in said
    assert "none" in json.dumps(json.loads(neogenesis("survey", spec, "--json").stdout)["table"]["kind"])
    del text["write"]
    spec.write_text(json.dumps(text))
    neogenesis("transfer", plan, "--confirm", "0001", "--resume")
    neogenesis("verify", plan, spec)


def test_full_tmpfs_stops_and_resumes(standard: Path, tmp_path: Path, neogenesis) -> None:
    point = tmp_path / "small"
    point.mkdir()
    run("mount", "-t", "tmpfs", "-o", "size=12m", "tmpfs", point)
    try:
        new = blank(point / "new.img", 640)
        plan = tmp_path / "p.json"
        neogenesis("plan", standard, new, "--grow", "none", "-o", plan)
        assert "space" in neogenesis("transfer", plan, "--confirm", "new", status=6).stderr
        run("mount", "-o", "remount,size=900m", point)
        neogenesis("transfer", plan, "--confirm", "new", "--resume")
        neogenesis("verify", plan, new)
    finally:
        run("umount", point)


def test_relative_names_mean_the_folder_of_the_command(standard: Path, tmp_path: Path, monkeypatch, neogenesis) -> None:
    blank(tmp_path / "new.img", 1400)
    monkeypatch.chdir(tmp_path)
    neogenesis("plan", "old.img", "new.img", "-o", "p.json")
    neogenesis("transfer", "p.json", "--confirm", "new", "--events", "e.jsonl")
    for name in ("p.journal", "p.manifest.json", "p.regions.json", "p.events.jsonl", "e.jsonl"):
        assert (tmp_path / name).stat().st_size > 0
    neogenesis("verify", "p.json", "new.img")


def test_source_that_vanishes_is_not_taken_for_bad_places(standard: Path, tmp_path: Path, neogenesis) -> None:
    traits = {"schema": "neogenesis.simulated-drive/1", "image": "old.img", "serial": "DIES0001"}
    spec, new, plan = tmp_path / "old.drive.json", blank(tmp_path / "new.img", 640), tmp_path / "p.json"
    spec.write_text(json.dumps(traits))
    neogenesis("plan", spec, new, "--grow", "none", "-o", plan)
    spec.write_text(json.dumps({**traits, "read": {"dies_after_bytes": 95_000_000}}))
    assert "no longer answers" in neogenesis("transfer", plan, "--confirm", "new", status=6).stderr
    spec.write_text(json.dumps(traits))
    neogenesis("transfer", plan, "--confirm", "new", "--resume")
    neogenesis("verify", plan, new)
    assert json.loads((tmp_path / "p.manifest.json").read_text())["lost"] == []


def test_what_a_moved_volume_lost_is_named_where_it_stood_on_the_old_drive(tmp_path: Path, neogenesis) -> None:
    content = random.Random(5).randbytes(3 * MIB)
    old = make_drive(tmp_path / "old.img", 96, [Part(80, NT_DATA, "fat16", "CARD", {"big.bin": content})])
    bad = old.read_bytes().find(content[2 * MIB : 2 * MIB + 512])
    spec = tmp_path / "old.drive.json"
    read = {"unreadable": [[bad, bad + 512]]}
    spec.write_text(
        json.dumps({"schema": "neogenesis.simulated-drive/1", "image": old.name, "serial": "B1", "read": read})
    )
    plan = tmp_path / "p.json"
    neogenesis("plan", spec, blank(tmp_path / "new.img", 300), "--grow", "1", "-o", plan)
    neogenesis("transfer", plan, "--confirm", "new", status=4)
    assert json.loads((tmp_path / "p.manifest.json").read_text())["lost"] == [[bad, bad + 512]]
    assert "big.bin" in (tmp_path / "p.files.csv").read_text()
