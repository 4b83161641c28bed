"""Nonsense on the command line: one sentence, the right status, and nothing written."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from neogenesis.bench.drives import open_sealed
from neogenesis.cli.main import app
from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.plan import Plan
from neogenesis.core.record import load
from tests.drives import LINUX, MIB, Part, blank, data_hash, is_blank, make_drive, run, simulated


@pytest.mark.parametrize("content", ["empty", "tiny", "truncated", "random", "text"])
def test_absurd_images_are_surveyed_or_refused(content: str, standard: Path, tmp_path: Path, neogenesis) -> None:
    image = tmp_path / "odd.img"
    image.write_bytes(
        {
            "empty": b"",
            "tiny": b"x",
            "truncated": standard.read_bytes()[: 70 * MIB],
            "random": os.urandom(3 * MIB),
            "text": b"tide\n" * 9999,
        }[content]
    )
    found = json.loads(neogenesis("survey", image, "--json").stdout)
    assert found["schema"] == "neogenesis.survey/1" and found["drive"]["size_bytes"] == image.stat().st_size
    if content == "truncated":
        assert "partition-beyond-end" in [f["code"] for f in found["findings"]]
        assert {f["severity"] for f in found["findings"]} & {"stop", "caution"}
    new = blank(tmp_path / "new.img", 900)
    assert "plan" in neogenesis("plan", image, new, status=3).stderr or content == "truncated"
    assert is_blank(new, 0, MIB)


@pytest.mark.parametrize(
    "order",
    [
        ["image", "none.img", "o.qcow2"],
        ["speed", "none.img"],
        ["rescue", "none.img", "r.img", "--map", "m.json", "--confirm", "r"],
    ],
)
def test_a_drive_without_bytes_is_not_worked_on(order: list[str], tmp_path: Path, neogenesis) -> None:
    (tmp_path / "none.img").touch()
    placed = [order[0], *(tmp_path / o if "." in o else o for o in order[1:])]
    assert "no bytes" in neogenesis(*placed, status=3).stderr
    assert [p.name for p in tmp_path.iterdir()] == ["none.img"]


@pytest.mark.parametrize("name", sorted(app.every()))
def test_a_pipe_is_waited_for_by_no_command(name: str, tmp_path: Path, neogenesis) -> None:
    os.mkfifo(tmp_path / "pipe")
    assert "is a pipe" in neogenesis(name, tmp_path / "pipe", status=2).stderr


def test_a_pipe_in_a_record_is_no_drive_and_no_record(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    with pytest.raises(BadArgument, match="pipe"):
        open_sealed(str(tmp_path / "pipe"))
    with pytest.raises(BadRecord, match="pipe"):
        load(tmp_path / "pipe", Plan, "plan")


def test_events_may_be_told_into_a_pipe(standard: Path, tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    order = [sys.executable, "-m", "neogenesis", "image", standard, tmp_path / "o.qcow2", "--events", tmp_path / "pipe"]
    with subprocess.Popen(order, stdout=subprocess.DEVNULL) as process:
        told = (tmp_path / "pipe").read_text().splitlines()
    assert process.returncode == 0 and json.loads(told[-1])["event"] == "outcome"


def test_places_that_are_no_drives(tmp_path: Path, neogenesis) -> None:
    assert "folder" in neogenesis("survey", tmp_path, status=2).stderr
    assert "no drive" in neogenesis("survey", tmp_path / "nothing", status=2).stderr
    assert "neither" in neogenesis("survey", "/dev/null", status=2).stderr


@pytest.mark.parametrize(
    "arguments",
    [
        ["plan", "a.img"],
        ["plan", "a.img", "b.img", "--target-size", "1TB"],
        ["plan", "a.img", "--target-size", "eleven"],
        ["plan", "a.img", "b.img", "--spare", "21"],
        ["plan", "a.img", "b.img", "--grow", "everything"],
        ["plan", "a.img", "b.img", "--leave", "x"],
        ["plan", "a.img", "b.img", "--machine-uefi", "--machine-legacy"],
        ["survey", "a.img", "--sector-size", "513"],
        ["transfer", "p.json"],
        ["nonsense"],
        ["survey"],
        ["plan", "a.img", "b.img", "--intent", "wish"],
    ],
)
def test_usage_errors(arguments: list[str], tmp_path: Path) -> None:
    blank(tmp_path / "a.img", 10)
    blank(tmp_path / "b.img", 10)
    done = subprocess.run(
        [sys.executable, "-m", "neogenesis", *arguments], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert done.returncode == 2 and len(done.stderr.strip().splitlines()) == 1 and "Traceback" not in done.stderr


def test_no_display_is_one_sentence() -> None:
    environment = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    for command in (["demo"], []):
        done = subprocess.run(
            [sys.executable, "-m", "neogenesis", *command], env=environment, capture_output=True, text=True, check=False
        )
        assert (
            done.returncode == 2 and "make demo-offscreen" in done.stderr and len(done.stderr.strip().splitlines()) == 1
        )


@pytest.mark.parametrize("text", ["", "{}", "[]", '{"schema": "neogenesis.plan/9"}', "\0"])
def test_damaged_plans_write_nothing(text: str, tmp_path: Path, neogenesis) -> None:
    plan = tmp_path / "p.json"
    plan.write_text(text)
    assert "nothing was written" in neogenesis("transfer", plan, "--confirm", "abcd", status=3).stderr
    assert sorted(p.name for p in tmp_path.iterdir()) == ["p.json"]


def test_damaged_journal_and_manifest(standard: Path, tmp_path: Path, neogenesis) -> None:
    new, plan = blank(tmp_path / "new.img", 640), tmp_path / "p.json"
    neogenesis("plan", standard, new, "--grow", "none", "-o", plan)
    neogenesis("transfer", plan, "--confirm", "new")
    journal = tmp_path / "p.journal"
    raw = bytearray(journal.read_bytes())
    raw[40] ^= 1
    journal.write_bytes(raw)
    assert "journal" in neogenesis("transfer", plan, "--confirm", "new", "--resume", status=3).stderr
    manifest = tmp_path / "p.manifest.json"
    manifest.write_text(manifest.read_text()[:-400])
    assert "manifest" in neogenesis("verify", manifest, new, status=3).stderr


def test_a_second_name_for_the_old_drive_is_still_the_old_drive(standard: Path, tmp_path: Path, neogenesis) -> None:
    (tmp_path / "link.img").symlink_to(standard)
    os.link(standard, tmp_path / "hard.img")
    simulated(tmp_path / "alias.drive.json", "old.img", serial="ALIAS001")
    device = run("losetup", "--find", "--show", standard).strip()
    try:
        for other in (tmp_path / "link.img", tmp_path / "hard.img", tmp_path / "alias.drive.json", Path(device)):
            assert "old drive itself" in neogenesis("plan", standard, other, status=3).stderr
    finally:
        run("losetup", "--detach", device)


def test_mounted_targets_and_sources_are_refused(standard: Path, tmp_path: Path, neogenesis) -> None:
    new, plan, point = blank(tmp_path / "new.img", 640), tmp_path / "p.json", tmp_path / "m"
    point.mkdir()
    neogenesis("plan", standard, new, "--grow", "none", "-o", plan)
    before = data_hash(new)
    run("mke2fs", "-q", "-F", new)
    device = run("losetup", "--find", "--show", new).strip()
    run("mount", device, point)
    try:
        assert "mounted" in neogenesis("plan", standard, device, status=3).stderr
        assert "mounted" in neogenesis("plan", standard, new, status=3).stderr
        assert "mounted" in neogenesis("transfer", plan, "--confirm", "new", status=3).stderr
    finally:
        run("umount", point)
        run("losetup", "--detach", device)
    assert data_hash(new) != before
    simulated(tmp_path / "new.drive.json", "new.img", serial="NEW12345", mounted=True)
    assert "mounted" in neogenesis("plan", standard, tmp_path / "new.drive.json", status=3).stderr


def can_open(name: str) -> bool:
    try:
        os.close(os.open(name, os.O_RDONLY))
    except OSError:
        return False
    return True


def test_the_drive_that_this_machine_runs_from_is_refused(standard: Path, neogenesis) -> None:
    mounts = [line.split() for line in Path("/proc/self/mountinfo").read_text().splitlines()]
    name = next((f[f.index("-") + 2] for f in mounts if f[4] == "/"), "")
    if not Path(name).is_block_device() or not os.access(name, os.R_OK) or not can_open(name):
        pytest.skip("the root of this machine is not on a drive that can be seen")
    assert "mounted" in neogenesis("plan", standard, name, status=3).stderr


def test_sectors_of_4096_bytes_through_a_loop_device(tmp_path: Path, neogenesis) -> None:
    image = blank(tmp_path / "old.img", 200)
    new = blank(tmp_path / "new.img", 400)
    one = run("losetup", "--find", "--show", "--sector-size", "4096", image).strip()
    other = run("losetup", "--find", "--show", "--sector-size", "4096", new).strip()
    try:
        run("sfdisk", "-q", one, text=f"label: gpt\ntype={LINUX}, name=Root\n")
        part = tmp_path / "part"
        from tests.drives import make_volume, place

        make_volume(part, Part(190, LINUX, "ext4", "root", {"etc/fstab": b"\n"}), 190 * MIB)
        place(Path(one), part, MIB)
        found = json.loads(neogenesis("survey", one, "--json").stdout)
        assert found["drive"]["sector_size"] == 4096 and found["partitions"][0]["volume"]["kind"] == "ext4"
        plan = tmp_path / "p.json"
        neogenesis("plan", one, other, "-o", plan)
        neogenesis("transfer", plan, "--confirm", other[-4:])
        assert "No errors" in run("sfdisk", "--verify", other)
        copied = json.loads(neogenesis("survey", other, "--json").stdout)["partitions"][0]
        assert copied["volume"]["size_bytes"] > 390 * MIB and copied["volume"]["label"] == "root"
        image = make_drive(tmp_path / "x.img", 300, [Part(0, LINUX, "")])  # an image file takes the sectors of the plan
        assert "to copy" in neogenesis("plan", one, image).stdout
    finally:
        run("losetup", "--detach", one)
        run("losetup", "--detach", other)


def test_target_that_vanished_is_said(standard: Path, tmp_path: Path, neogenesis) -> None:
    new, plan = blank(tmp_path / "new.img", 640), tmp_path / "p.json"
    neogenesis("plan", standard, new, "--grow", "none", "-o", plan)
    new.unlink()
    assert "no drive" in neogenesis("transfer", plan, "--confirm", "new", status=2).stderr
    blank(new, 600)
    assert "smaller" in neogenesis("transfer", plan, "--confirm", "new", status=3).stderr
    assert is_blank(new)


def test_readonly_folder_for_the_plan_is_said(standard: Path, tmp_path: Path, neogenesis) -> None:
    blank(tmp_path / "new.img", 640)
    said = neogenesis("plan", standard, tmp_path / "new.img", "-o", "/proc/nothing/p.json", status=3).stderr
    assert "cannot be written" in said
