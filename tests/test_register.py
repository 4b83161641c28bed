"""One register of drives and one door for writing: whose a drive is decides, whatever it is called and whoever asks."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import msgspec
import pytest

from neogenesis.bench.drives import insertion_of, open_sealed
from neogenesis.bench.records.opening import open_records
from neogenesis.bench.register import Consent, claimed, open_register
from neogenesis.bench.register.claims import Asked
from neogenesis.bench.register.register import Wish
from neogenesis.bench.register.statements_sql import REVISION
from neogenesis.core.drive import Identity, Sighting, is_one
from neogenesis.core.drive.holding import Holding, holding
from neogenesis.core.errors import NeogenesisError, OnlyChecked, Refused
from neogenesis.core.job import Job
from neogenesis.core.job.migrations import _newest
from neogenesis.core.record import save, to_json
from neogenesis.core.work import Confirmation
from tests.boots import BY_FILE, loader
from tests.boots import drive as boot_drive
from tests.discs import disc
from tests.drives import LINUX, MIB, Part, blank, data_hash, linux_files, make_drive, run, set_docks, simulated


@pytest.fixture(scope="module")
def small_original(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("register")
    return make_drive(folder / "old.img", 60, [Part(45, LINUX, "ext4", "root", linux_files())])


@pytest.fixture
def bench(small_original: Path, tmp_path: Path, own_bench: Path) -> Path:
    """Two jobs: T-7 with its old and its new drive, T-8 with nothing yet; and a drive that is nobody's."""
    run("cp", "--sparse=always", small_original, tmp_path / "old.img")
    run("cp", "--sparse=always", small_original, tmp_path / "other.img")
    blank(tmp_path / "new.img", 90)
    simulated(tmp_path / "old.drive.json", "old.img", model="Halden 500", serial="HD5-00009K3D")
    simulated(tmp_path / "new.drive.json", "new.img", model="Corvane N2", serial="CN2-000041F2")
    simulated(tmp_path / "other.drive.json", "other.img", model="Ostrel C", serial="OST-000077B6")
    store = open_records(own_bench)
    for ticket in ("T-7", "T-8"):
        store.add(Job(ticket=ticket, customer="Gullhaven Pilots' Office", machine="Petrel 14"))
    take(store, "T-7", "old", tmp_path / "old.drive.json")
    take(store, "T-7", "new", tmp_path / "new.drive.json")
    store.close()
    return tmp_path


def take(store: Any, ticket: str, which: str, place: Path) -> None:
    opened = open_sealed(str(place), grip="look")
    identity = to_json(opened.drive.identity).decode()
    opened.close()
    store.update(ticket, **{f"{which}_drive": str(place), f"{which}_identity": identity})


def close_job(folder: Path, ticket: str, **more: Any) -> None:
    store = open_records(folder)
    store.update(ticket, closed=True, **more)
    store.close()


# Who a drive is, and whose


def drive(serial: str = "", size: int = 1 << 30, path: str = "", mark: str = "", *files: str) -> Sighting:
    return Sighting(Identity(serial=serial, size_bytes=size, path=path), mark, frozenset(files))


@pytest.mark.parametrize(
    ("one", "other", "same"),
    [
        (drive("A", path="x"), drive("A", path="y"), True),
        (drive("A"), drive("B"), False),
        (drive("A", 1), drive("A", 2), False),
        (drive(path="/dev/sdb"), drive(path="/dev/sdb"), True),
        (drive(path="/dev/sdb", mark="1" * 64), drive(path="/dev/sdb", mark="2" * 64), False),  # another card
        (drive(path="/dev/sdb", mark="1" * 64), drive(path="/dev/sdc", mark="1" * 64), True),  # in another reader
        (drive("A", mark="1" * 64), drive(path="/dev/sdc", mark="1" * 64), True),  # behind a bridge that hides it
        (drive("A", mark="1" * 64), drive("B", mark="1" * 64), False),  # a copy
        (drive("", 5, "a.img", "", "file 1:2"), drive("A", 5, "", "", "file 1:2"), True),  # the file below it
        (drive("", 5, "a.img", "", "file 1:2"), drive("", 6, "b.img", "", "file 1:2"), False),  # a number used again
        (drive("", 5, "a.img", "", "file 1:2"), drive("", 6, "/dev/loop0", "", "file 1:2"), True),
    ],
)
def test_two_sightings_of_one_drive(one: Sighting, other: Sighting, same: bool) -> None:
    assert is_one(one, other) is same and is_one(other, one) is same


def test_empty_drives_are_not_alike(tmp_path: Path) -> None:
    opened = open_sealed(str(blank(tmp_path / "a.img", 8)))
    from neogenesis.core.survey.survey import table_mark

    mark = table_mark(opened.store)
    opened.close()
    assert not is_one(drive(path="/dev/sdb", mark=mark), drive(path="/dev/sdc", mark=mark))


def test_time_of_keeping_ends() -> None:
    today = date(2026, 12, 1)
    for until, held in (("", True), ("2026-12-02", True), ("2026-12-01", False)):
        found = holding(drive("A"), [Holding("T-7", "", "kept", drive("A"), until)], today)
        assert bool(found) is held


def test_a_new_drive_is_held_from_its_first_byte_on() -> None:
    both = [Holding("T-7", "", "new", drive("A")), Holding("T-8", "", "old", drive("A"))]
    assert [h.ticket for h in holding(drive("A"), both, date.today())] == ["T-8", "T-7"]
    assert not both[0].seals and Holding("T-7", "", "new", drive("A"), wrote=True).seals


# What may be written to


def every_writer(bench: Path, target: Path, tail: str) -> Iterator[list[str | Path]]:
    blank(bench / "spare.img", 60)
    subprocess.run(
        [sys.executable, "-m", "neogenesis", "image", bench / "other.drive.json", bench / "i.qcow2"],
        check=True,
        stdout=-3,
    )
    disc_file = disc(bench / "disc.iso", {"EFI/BOOT/BOOTX64.EFI": b"MZ" * 300})
    yield ["restore", bench / "i.qcow2", target, "--confirm", tail]
    yield ["rescue", bench / "other.drive.json", target, "--map", bench / "m.json", "--confirm", tail]
    yield ["recipe", "data", target, "--confirm", tail, "-o", bench / "r.json"]
    yield ["media", disc_file, target, "--confirm", tail, "--check-size", "quick"]
    yield ["media", disc_file, target, "--confirm", tail, "--layout", "files", "-o", bench / "f.json"]


def test_no_command_writes_to_the_old_drive_of_an_open_job(bench: Path, neogenesis: Any, own_bench: Path) -> None:
    before = data_hash(bench / "old.img")
    for command in every_writer(bench, bench / "old.drive.json", "9K3D"):
        said = neogenesis(*command, status=3).stderr
        assert "T-7 (Gullhaven Pilots' Office), which is not handed over" in said, command
        assert data_hash(bench / "old.img") == before, command
    # the same bytes by another name: the image below the drive
    said = neogenesis("recipe", "data", bench / "old.img", "--confirm", "old", "-o", bench / "x.json", status=3).stderr
    assert "T-7" in said and data_hash(bench / "old.img") == before
    close_job(own_bench, "T-7")
    neogenesis("recipe", "data", bench / "old.drive.json", "--confirm", "9k3d", "-o", bench / "y.json")
    assert data_hash(bench / "old.img") != before


def test_a_plan_for_an_old_drive_is_refused_at_the_moment_of_writing(bench: Path, neogenesis: Any) -> None:
    plan = bench / "p.json"
    neogenesis("plan", bench / "other.drive.json", bench / "old.drive.json", "--intent", "exact", "-o", plan)
    before = data_hash(bench / "old.img")
    found = json.loads(neogenesis("transfer", plan, "--confirm", "9K3D", "--json", status=3).stdout)
    assert (found["status"], found["code"]) == ("refused", "sealed") and found["gates"][0]["code"] == "sealed"
    assert data_hash(bench / "old.img") == before and not (bench / "p.journal").exists()


def test_a_kept_drive_is_held_until_its_day(bench: Path, neogenesis: Any, own_bench: Path) -> None:
    tomorrow = (date.today() + timedelta(days=1)).isoformat()
    close_job(own_bench, "T-7", kept="here", kept_until=tomorrow)
    order = ["recipe", "data", bench / "old.drive.json", "--confirm", "9K3D", "-o", bench / "r.json"]
    assert f"until {tomorrow}" in neogenesis(*order, status=3).stderr
    close_job(own_bench, "T-7", kept="here", kept_until=date.today().isoformat())
    neogenesis(*order)


def test_what_one_job_has_written_no_other_takes(bench: Path, neogenesis: Any, own_bench: Path) -> None:
    with claimed(consent_of(bench, "T-7", "wrote"), asked(bench / "new.drive.json")) as claim:
        claim.begin()
        claim.target.store.write(0, b"the copy")
    before = data_hash(bench / "new.img")
    order = ["recipe", "data", bench / "new.drive.json", "--confirm", "41F2", "-o", bench / "r.json"]
    assert "the new drive of T-7" in neogenesis(*order, status=3).stderr and data_hash(bench / "new.img") == before
    with claimed(consent_of(bench, "T-7", "again"), asked(bench / "new.drive.json")):
        pass


def asked(name: Path, work: str = "w" * 64, **more: Any) -> Asked:
    return Asked("recipe", work, str(name), 512, **more)


def consent_of(bench: Path, ticket: str, run_name: str, name: str = "new.drive.json", **more: Any) -> Consent:
    """As the window makes it, for a drive as it is put in now."""
    opened = open_sealed(str(bench / name), grip="look")
    opened.close()
    facts = {"work": "w" * 64, "insertion": insertion_of(str(bench / name)), "ticket": ticket, "run": run_name, **more}
    return Consent(confirmed=Confirmation(target=facts.pop("target", opened.drive.identity), **facts))


def test_a_confirmation_is_for_one_work_one_drive_and_one_putting_in(bench: Path) -> None:
    name = bench / "new.drive.json"

    def refused(consent: Consent, code: str, of: Asked | None = None) -> None:
        before = data_hash(bench / "new.img")
        with pytest.raises(Refused) as told, claimed(consent, of or asked(name)) as claim:
            claim.begin()
        assert told.value.code == code and data_hash(bench / "new.img") == before

    refused(consent_of(bench, "T-7", "r1", work="v" * 64), "not-confirmed")
    refused(consent_of(bench, "T-7", "r2"), "not-confirmed", asked(bench / "other.drive.json"))
    refused(consent_of(bench, "T-7", "r3", held="1" * 64), "target-changed")
    taken_out = consent_of(bench, "T-7", "r4")
    simulated(name, "new.img", model="Corvane N2", serial="CN2-000041F2")  # the same one, put in again
    refused(taken_out, "insertion")
    exchanged = consent_of(bench, "T-7", "r5")
    (bench / "new.img").rename(bench / "away.img")
    blank(bench / "new.img", 90)
    refused(exchanged, "insertion")


def test_a_loop_device_that_was_attached_again_is_another_putting_in(bench: Path) -> None:
    for _ in range(10):  # another test may take the device in between
        device = run("losetup", "--find", "--show", bench / "new.img").strip()
        opened = open_sealed(device, grip="look")
        opened.close()
        confirmed = Confirmation(work="w" * 64, target=opened.drive.identity, insertion=insertion_of(device), run="d1")
        run("losetup", "--detach", device)
        if subprocess.run(["losetup", device, bench / "new.img"], capture_output=True, check=False).returncode == 0:
            break
    else:
        pytest.fail("no loop device could be attached again")
    try:
        with (
            pytest.raises(Refused, match="taken out or exchanged"),
            claimed(Consent(confirmed=confirmed), asked(Path(device))),
        ):
            pass
    finally:
        run("losetup", "--detach", device)


def test_two_drives_that_answer_alike_are_no_target(bench: Path, neogenesis: Any) -> None:
    blank(bench / "twin.img", 90)
    simulated(bench / "twin.drive.json", "twin.img", model="Corvane N2", serial="CN2-000041F2")
    order = ["recipe", "data", bench / "new.drive.json", "--confirm", "41F2", "-o", bench / "r.json"]
    set_docks(bench, ["new.drive.json", "twin.drive.json"])
    assert "Unplug one" in neogenesis(*order, status=3).stderr
    set_docks(bench, ["new.drive.json", None])
    neogenesis(*order)


HOLDER = """
import sys, time
from pathlib import Path
sys.path[:0] = {path!r}
from tests.test_register import asked, claimed, consent_of
folder = Path({folder!r})
with claimed(consent_of(folder, "", "held-by-another", {name!r}), asked(folder / {name!r})) as claim:
    claim.begin()
    print("held", flush=True)
    time.sleep(60)
"""


def test_one_claim_at_a_time_and_none_of_the_dead(bench: Path, neogenesis: Any) -> None:
    code = HOLDER.format(path=sys.path, folder=str(bench), name="other.drive.json")
    holder = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE)
    try:
        assert holder.stdout is not None and holder.stdout.readline() == b"held\n"
        register = open_register()
        assert register is not None and [w.run for w in register.writing()] == ["held-by-another"]
        order = ["recipe", "data", bench / "other.drive.json", "--confirm", "77B6", "-o", bench / "r.json"]
        assert "in use" in neogenesis(*order, status=3).stderr
    finally:
        holder.send_signal(signal.SIGKILL)
        holder.communicate()
    assert register.writing() == []
    neogenesis(*order)


def test_what_was_written_is_on_record(bench: Path, neogenesis: Any, own_bench: Path) -> None:
    neogenesis("recipe", "data", bench / "other.drive.json", "--confirm", "77B6", "-o", bench / "r.json")
    with sqlite3.connect(own_bench / "jobs.db") as database:
        (row,) = database.execute("SELECT kind, who, wrote, outcome, insertion FROM claim").fetchall()
    database.close()
    assert row[0] == "fresh" and row[1] and row[2] == 1 and row[3] == "done" and row[4]


# A register that cannot be used


def spoil(kind: str, file: Path) -> Iterator[None]:
    if kind == "damaged":
        file.write_bytes(b"tide and time" * 5000)
    elif kind == "newer":
        with sqlite3.connect(file) as database:
            database.execute("UPDATE alembic_version SET version_num = '9999'")
        database.close()
    elif kind == "older":
        with sqlite3.connect(file) as database:
            for table in ("drive", "claim", "sitting"):
                database.execute(f"DROP TABLE {table}")
            database.execute("UPDATE alembic_version SET version_num = '0003'")
        database.close()
    elif kind == "held":
        holder = sqlite3.connect(file, isolation_level=None)
        holder.execute("BEGIN EXCLUSIVE")
        yield
        holder.close()
        return
    yield


@pytest.mark.parametrize("kind", ["damaged", "newer", "held"])
def test_without_a_register_nothing_is_written(kind: str, bench: Path, neogenesis: Any, own_bench: Path) -> None:
    before = data_hash(bench / "other.img")
    for _ in spoil(kind, own_bench / "jobs.db"):
        order = ["recipe", "data", bench / "other.drive.json", "--confirm", "77B6", "-o", bench / "r.json"]
        said = neogenesis(*order, status=3).stderr
        assert "register" in said and "nothing was written" in said and data_hash(bench / "other.img") == before


def test_an_older_register_is_brought_up_to_date(bench: Path, neogenesis: Any, own_bench: Path) -> None:
    for _ in spoil("older", own_bench / "jobs.db"):
        order = ["recipe", "data", bench / "old.drive.json", "--confirm", "9K3D", "-o", bench / "r.json"]
        assert "T-7" in neogenesis(*order, status=3).stderr  # whose it is was known before there was a register


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A file system of three MiB."""
    place = tmp_path / "small"
    place.mkdir()
    run("mount", "-t", "tmpfs", "-o", "size=3m", "tmpfs", place)
    yield place
    run("umount", "-l", place)


def test_a_register_on_a_full_or_a_read_only_disk(
    bench: Path, small_disk: Path, own_bench: Path, neogenesis: Any
) -> None:
    run("cp", "-a", f"{own_bench}/.", small_disk)
    order = ["recipe", "data", bench / "other.drive.json", "--confirm", "77B6", "--bench", small_disk]
    before = data_hash(bench / "other.img")
    ballast = small_disk / "ballast"
    with pytest.raises(OSError), ballast.open("wb", buffering=0) as file:
        while True:
            file.write(bytes(4096))
    said = neogenesis(*order, "-o", bench / "r.json", status=3).stderr
    assert "register" in said and data_hash(bench / "other.img") == before
    ballast.unlink()
    run("mount", "-o", "remount,ro", small_disk)
    said = neogenesis(*order, "-o", bench / "s.json", status=3).stderr
    assert "register" in said and data_hash(bench / "other.img") == before


def test_a_bench_that_cannot_be_made_is_none(bench: Path, neogenesis: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    (bench / "file").write_text("")
    monkeypatch.setenv("NEOGENESIS_BENCH", str(bench / "file/bench"))
    neogenesis("recipe", "data", bench / "other.drive.json", "--confirm", "77B6", "-o", bench / "r.json")


# Asking every gate


def test_check_asks_every_gate_and_leaves_nothing_behind(bench: Path, neogenesis: Any, own_bench: Path) -> None:
    plan = bench / "p.json"
    neogenesis("plan", bench / "old.drive.json", bench / "new.drive.json", "-o", plan)
    neogenesis("image", bench / "other.drive.json", bench / "i.qcow2")
    disc_file = disc(bench / "disc.iso", {"EFI/BOOT/BOOTX64.EFI": b"MZ" * 300})
    records = (own_bench / "jobs.db").read_bytes()
    files = {p: p.stat().st_mtime_ns for p in bench.rglob("*") if p.is_file()}
    new, tail = bench / "new.drive.json", ["--confirm", "41F2", "--check"]
    for command in (
        ["transfer", plan, *tail],
        ["transfer", plan, "--check"],
        ["restore", bench / "i.qcow2", new, *tail],
        ["rescue", bench / "old.drive.json", new, "--map", bench / "m.json", *tail],
        [
            "rescue",
            bench / "old.drive.json",
            bench / "made.img",
            "--map",
            bench / "m.json",
            "--confirm",
            "made",
            "--check",
        ],
        ["recipe", "data", new, *tail],
        ["media", disc_file, new, *tail, "--check-size", "quick"],
        ["media", disc_file, new, *tail, "--layout", "files"],
        ["image", bench / "old.drive.json", bench / "j.qcow2", "--check"],
        ["salvage", bench / "old.drive.json", bench / "files", "--check"],
    ):
        assert "Every gate is open" in neogenesis(*command).stdout, command
        assert {p: p.stat().st_mtime_ns for p in bench.rglob("*") if p.is_file()} == files, command
    assert (own_bench / "jobs.db").read_bytes() == records
    neogenesis("transfer", plan, "--confirm", "9999", "--check", status=3)
    neogenesis("transfer", bench / "p.json", "--confirm", "41F2")
    assert "finished" in neogenesis("transfer", plan, "--confirm", "41F2", "--resume").stdout


def test_whose_drive_is_said_before_it_is_written(bench: Path, neogenesis: Any) -> None:
    neogenesis("recipe", "data", bench / "new.drive.json", "--confirm", "41F2", "-o", bench / "a.json")
    plan = bench / "p.json"
    neogenesis("plan", bench / "old.drive.json", bench / "new.drive.json", "-o", plan)
    said = neogenesis("transfer", plan, "--confirm", "41F2").stderr
    assert "Corvane N2 CN2-000041F2" in said and "Lost on it: " in said and "Work " in said
    refused = neogenesis("transfer", plan, "--confirm", "41F2", status=3).stderr
    assert "Writing to" not in refused  # nothing was


# What is finished is finished


@pytest.mark.parametrize("left", ["step", "begun"])
def test_what_was_begun_without_reading_back_is_read_back_when_it_is_wanted(
    left: str, bench: Path, neogenesis: Any
) -> None:
    """Cut behind the step that was to read back, and again while the table was being written."""
    plan, journal = bench / "p.json", bench / "p.journal"
    neogenesis("plan", bench / "old.drive.json", bench / "new.drive.json", "-o", plan)
    neogenesis("transfer", plan, "--confirm", "41F2", "--verify", "none")
    verify = next(o["id"] for o in json.loads(plan.read_text())["operations"] if o["kind"] == "verify")
    lines = journal.read_bytes().splitlines(keepends=True)
    last = next(n for n, line in enumerate(lines) if line[9:].startswith(f'["step","{verify}"'.encode()))
    last += next(n for n, line in enumerate(lines[last:]) if line[9:].startswith(b'["begun"'))
    journal.write_bytes(b"".join(lines[: last + 1]))
    if left == "step":  # the table was not written at all
        with (bench / "new.img").open("r+b") as file:
            file.write(bytes(MIB))
    found = json.loads(neogenesis("transfer", plan, "--confirm", "41F2", "--resume", "--json").stdout)
    assert found["verified"] == "full" and found["verified_bytes"] >= found["copied_bytes"] - 2 * MIB > 10 * MIB
    assert json.loads((bench / "p.manifest.json").read_text())["verified_bytes"] == found["verified_bytes"]


def test_a_finished_transfer_is_never_written_again(bench: Path, neogenesis: Any) -> None:
    plan, new = bench / "p.json", bench / "new.img"
    neogenesis("plan", bench / "old.drive.json", bench / "new.drive.json", "-o", plan)
    neogenesis("transfer", plan, "--confirm", "41F2", "--verify", "none")
    found = json.loads(neogenesis("transfer", plan, "--confirm", "41F2", "--resume", "--json").stdout)
    assert (found["status"], found["code"], found["verified"]) == ("done", "finished", "full")
    assert found["verified_bytes"] > 0 and found["schema"] == "neogenesis.outcome/1"
    at = new.read_bytes().find(linux_files()["etc/fstab"])
    with new.open("r+b") as file:  # somebody's work
        file.seek(at)
        file.write(b"SAVED")
    used = data_hash(new)
    for more in ([], ["--verify", "sample"]):
        said = neogenesis("transfer", plan, "--confirm", "41F2", "--resume", "--json", *more, status=3)
        assert json.loads(said.stdout)["code"] == "changed-since" and data_hash(new) == used


# Drives that come back elsewhere


def half_way(bench: Path, plan: Path) -> None:
    simulated(
        bench / "old.drive.json",
        "old.img",
        model="Halden 500",
        serial="HD5-00009K3D",
        clock="real",
        read={"bytes_per_s": 4e6},
    )
    process = subprocess.Popen([sys.executable, "-m", "neogenesis", "transfer", plan, "--confirm", "41F2"], stderr=-3)
    while not plan.with_suffix(".journal").exists() or b'"sync"' not in plan.with_suffix(".journal").read_bytes():
        assert process.poll() is None
        time.sleep(0.02)
    process.terminate()
    assert process.wait() == 6
    simulated(bench / "old.drive.json", "old.img", model="Halden 500", serial="HD5-00009K3D")


def test_drives_with_serials_are_found_again_by_themselves(bench: Path, neogenesis: Any) -> None:
    plan = bench / "p.json"
    with (bench / "old.img").open("r+b") as file:
        file.seek(20 * MIB)
        file.write(os.urandom(4096) * 8000)
    neogenesis("plan", bench / "old.drive.json", bench / "new.drive.json", "--intent", "exact", "-o", plan)
    half_way(bench, plan)
    (bench / "old.drive.json").rename(bench / "sde.drive.json")
    (bench / "new.drive.json").rename(bench / "sdf.drive.json")
    neogenesis("transfer", plan, "--confirm", "41F2", "--resume")
    assert (bench / "new.img").read_bytes()[: 60 * MIB] == (bench / "old.img").read_bytes()
    neogenesis("verify", plan, "--target", bench / "sdf.drive.json")


def test_a_person_says_where_drives_without_serials_are_now(bench: Path, neogenesis: Any) -> None:
    plan = bench / "p.json"
    neogenesis("plan", bench / "other.img", bench / "new.img", "--intent", "exact", "-o", plan)
    (bench / "sub").mkdir()
    (bench / "new.img").rename(bench / "sub/new.img")
    neogenesis("transfer", plan, "--confirm", "new", status=2)
    neogenesis("transfer", plan, "--confirm", "new", "--target", bench / "sub/new.img")
    rescued = [bench / "other.img", bench / "r.img", "--map", bench / "r.json", "--confirm", "r"]
    neogenesis("rescue", *rescued, "--passes", "matters", status=4)
    (bench / "r.img").rename(bench / "sub/r.img")
    moved = ["--target", bench / "sub/r.img"]
    neogenesis("rescue", *rescued, *moved)
    assert (bench / "sub/r.img").read_bytes() == (bench / "other.img").read_bytes()


def test_another_drive_in_its_place_is_not_taken(bench: Path, neogenesis: Any) -> None:
    plan = bench / "p.json"
    neogenesis("plan", bench / "other.drive.json", bench / "new.drive.json", "--intent", "exact", "-o", plan)
    blank(bench / "twin.img", 90)
    simulated(bench / "new.drive.json", "twin.img", model="Corvane N2", serial="XX9-000041F2")
    before = data_hash(bench / "twin.img")
    assert "not connected" in neogenesis("transfer", plan, "--confirm", "41F2", status=3).stderr
    told = ["--target", bench / "new.drive.json"]
    neogenesis("transfer", plan, "--confirm", "41F2", *told, status=3)
    assert data_hash(bench / "twin.img") == before


# Mounted in user space


@pytest.mark.parametrize("tool", ["ntfs-3g", "fuse2fs"])
def test_a_file_that_user_space_shows_as_a_folder_is_in_use(tool: str, tmp_path: Path, neogenesis: Any) -> None:
    image, place = blank(tmp_path / "n.img", 32), tmp_path / "m"
    place.mkdir()
    if tool == "ntfs-3g":
        run("mkfs.ntfs", "-q", "-F", image)
    else:
        if subprocess.run(["which", "fuse2fs"], check=False, capture_output=True).returncode:
            pytest.skip("fuse2fs is not here")
        run("mke2fs", "-q", "-F", image)
    run(tool, image, place)
    try:
        (place / "x.txt").write_text("hello")
        blank(tmp_path / "src.img", 16)
        run("mke2fs", "-q", "-F", tmp_path / "src.img")
        order = ["plan", tmp_path / "src.img", image, "--intent", "exact", "-o", tmp_path / "p.json"]
        assert "in use" in neogenesis(*order, status=3).stderr
        assert "in use" in neogenesis("image", image, tmp_path / "o.qcow2", status=3).stderr
    finally:
        run("umount", place)
    neogenesis(*order)


def test_only_checked_is_no_failure() -> None:
    assert OnlyChecked().exit_status == 0 and issubclass(OnlyChecked, NeogenesisError)


def test_a_confirmation_reads_back(tmp_path: Path) -> None:
    made = Confirmation(work="w", target=Identity(serial="S"), run="r")
    save(tmp_path / "c.json", made)
    assert msgspec.json.decode((tmp_path / "c.json").read_bytes(), type=Confirmation) == made


def test_a_drive_that_is_written_by_another_work_has_no_second_writer(bench: Path) -> None:
    """By who the drive is, not by the lock of its file: the other work may have opened it elsewhere."""
    with claimed(consent_of(bench, "", "first", "other.drive.json"), asked(bench / "other.drive.json")) as first:
        first.begin()
        register = open_register()
        assert register is not None
        again = consent_of(bench, "", "second", "other.drive.json").confirmed
        assert again is not None
        with pytest.raises(Refused, match="in use"):
            register.claim(Wish("recipe", again, Sighting(again.target), "elsewhere"), undoable=False)


def test_the_register_asks_the_tables_that_the_newest_step_made() -> None:
    assert _newest() == REVISION


def test_the_list_of_drives_says_whose_they_are(demo_original: Path, neogenesis: Any) -> None:
    found = json.loads(neogenesis("drives", "--bench", demo_original, "--json").stdout)["drives"]
    held = {row["serial"]: row["held_by"] for row in found if not row["may_be_target"]}
    assert any(text and "T-1042" in text for text in held.values()) and len(held) < len(found)


def test_sticks_are_known_by_the_job_they_were_made_for(bench: Path, own_bench: Path, neogenesis: Any) -> None:
    (bench / "blob.bin").write_bytes(os.urandom(70_000))
    simulated(bench / "a.drive.json", "a.img", serial="OS-0000AAAA", model="Ostrel Stick")
    simulated(bench / "b.drive.json", "b.img", serial="OS-0000BBBB", model="Ostrel Stick")
    for name in "ab":
        blank(bench / f"{name}.img", 20)
    order = ["media", bench / "blob.bin", bench / "a.drive.json", "--confirm", "AAAA"]
    neogenesis(*order)
    made = consent_of(bench, "T-7", "r1", "b.drive.json", work="s" * 64)
    with claimed(made, Asked("stick", "s" * 64, str(bench / "b.drive.json"), 512)) as claim:
        claim.begin()

    register = open_register()
    assert register is not None
    known = {h.drive.identity.serial[-4:]: h for h in register.holdings()}
    assert (known["AAAA"].role, known["AAAA"].text()) == ("tool", "a stick of the shop")
    assert (known["BBBB"].role, known["BBBB"].ticket) == ("medium", "T-7") and not known["BBBB"].seals
    assert known["BBBB"].text() == "the stick of T-7 (Gullhaven Pilots' Office)"
    neogenesis(*order)  # a stick is written anew as often as anybody likes
    close_job(own_bench, "T-7")
    assert "BBBB" not in {h.drive.identity.serial[-4:] for h in register.holdings()}


def test_remedies_mend_new_drives_and_leave_old_ones_as_they_are(tmp_path: Path, neogenesis: Any) -> None:
    old = boot_drive(tmp_path / "disk-old.img", "TOKEN-ONE", {"EFI/fathom/grubx64.efi": loader(BY_FILE)})
    new = blank(tmp_path / "disk-new.img", 200)
    neogenesis("plan", old, new, "-o", tmp_path / "p.json")
    neogenesis("transfer", tmp_path / "p.json", "--confirm", "-new")
    before = data_hash(old)
    order = ["remedy", "fallback-loader", old, "--confirm", "-old", "--record", tmp_path / "o.undo", "--json"]
    assert json.loads(neogenesis(*order, status=3).stdout)["code"] == "sealed"
    assert data_hash(old) == before and not (tmp_path / "o.undo").exists()
    neogenesis("remedy", "fallback-loader", new, "--confirm", "-new", "--record", tmp_path / "n.undo")
    # beside the new one, an old drive may get an identity of its own
    neogenesis("remedy", "restamp-table", old, "--confirm", "-old", "--record", tmp_path / "r.undo")
    neogenesis("undo", tmp_path / "r.undo", old, "--confirm", "-old")
    assert data_hash(old) == before


def test_a_remedy_is_what_was_shown_and_a_twin_is_not_put_back(tmp_path: Path, neogenesis: Any) -> None:
    one = boot_drive(tmp_path / "a-disk.img", "TOKEN-ONE", {"EFI/fathom/grubx64.efi": loader(BY_FILE)})
    (tmp_path / "sub").mkdir()
    twin = tmp_path / "sub/b-disk.img"
    run("cp", "--sparse=always", one, twin)
    rows = json.loads(neogenesis("remedies", one, "--json").stdout)["remedies"]
    shown = next(row for row in rows if row["code"] == "fallback-loader")["changes"]
    time.sleep(2.1)  # utilities write the time of day, in steps of two seconds
    assert (
        shown
        == next(
            row
            for row in json.loads(neogenesis("remedies", one, "--json").stdout)["remedies"]
            if row["code"] == "fallback-loader"
        )["changes"]
    )
    order = ["remedy", "fallback-loader", one, "--confirm", "disk", "--record", tmp_path / "u"]
    neogenesis(*order, "--changes", "0" * 64, status=3)
    found = json.loads(neogenesis(*order, "--changes", shown, "--json").stdout)
    assert found["status"] == "done" and found["verified_bytes"] > 0 and str(tmp_path / "u") in found["records"]
    before = data_hash(twin)
    undo = ["undo", tmp_path / "u", twin, "--confirm", "disk", "--json"]
    assert json.loads(neogenesis(*undo, status=3).stdout)["code"] == "nothing-to-undo" and data_hash(twin) == before
    neogenesis("undo", tmp_path / "u", one, "--confirm", "disk", "--check")
    neogenesis("undo", tmp_path / "u", one, "--confirm", "disk")
    run("cmp", one, twin)


def test_what_is_no_image_is_not_written_over_anything(bench: Path, neogenesis: Any) -> None:
    (bench / "tiny.txt").write_text("abc")
    before = data_hash(bench / "other.img")
    order = ["media", bench / "tiny.txt", bench / "other.drive.json", "--confirm", "77B6", "--json"]
    assert json.loads(neogenesis(*order, status=3).stdout)["code"] == "no-image"
    assert data_hash(bench / "other.img") == before


def test_a_plan_says_whose_drive_it_is_for(bench: Path, neogenesis: Any) -> None:
    said = neogenesis("plan", bench / "old.drive.json", bench / "other.drive.json", "--intent", "exact").stdout
    assert "onto Ostrel C OST-000077B6" in said and "lost on it: root" in said
