"""Nothing is written that the plan does not name, and no record is believed that does not belong to both drives."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from neogenesis.core.table.spanned import FIRMWARE_MARKS
from tests.drives import LINUX, MIB, Part, blank, data_hash, is_blank, linux_files, make_drive, run, simulated

#: What is done to a plan, and a word of the refusal.
DAMAGE: dict[str, Callable[[dict], object]] = {
    "negative start": lambda p: p["layout"]["partitions"][0].update(start_bytes=-MIB),
    "odd start": lambda p: p["layout"]["partitions"][0].update(start_bytes=MIB + 100),
    "overlap": lambda p: p["layout"]["partitions"][1].update(start_bytes=2 * MIB),
    "behind the end": lambda p: p["layout"]["partitions"][-1].update(size_bytes=10**12),
    "nothing": lambda p: p["layout"]["partitions"][0].update(size_bytes=0),
    "number twice": lambda p: p["layout"]["partitions"][0].update(number=p["layout"]["partitions"][1]["number"]),
    "huge number": lambda p: p["layout"]["partitions"][0].update(number=10**9),
    "huge table": lambda p: p["source"]["survey"]["table"].update(entry_count=10**9),
    "identity": lambda p: p["layout"].update(disk_id="harbour"),
    "another size": lambda p: p["layout"].update(size_bytes=p["layout"]["size_bytes"] - MIB),
    "sectors": lambda p: p["layout"].update(sector_size=100),
    "from nowhere": lambda p: p["layout"]["partitions"][0].update(from_partition=77),
    "no gates": lambda p: p.update(gates=[]),
    "no clearing": lambda p: p["operations"].remove(next(o for o in p["operations"] if o["kind"] == "clear-table")),
    "no copy": lambda p: p["operations"].remove(next(o for o in p["operations"] if o["kind"] == "copy")),
    "table first": lambda p: p["operations"].insert(0, p["operations"].pop()),
    "ids alike": lambda p: p["operations"][0].update(id=p["operations"][1]["id"]),
    "another volume": lambda p: [o.update(volume_kind="ntfs") for o in p["operations"] if o["kind"] == "copy"],
    "negative bytes": lambda p: [o.update(bytes=-1) for o in p["operations"] if o["kind"] == "copy"],
    "unknown step": lambda p: p["operations"][0].update(kind="polish"),
    "copied elsewhere": lambda p: p["source"]["survey"]["partitions"][0].update(start_bytes=3 * MIB),
    "fewer bytes": lambda p: [o.update(bytes=1) for o in p["operations"] if o["kind"] == "copy"],
    "raw for used": lambda p: [o.update(mode="raw") for o in p["operations"] if o["kind"] == "copy"],
    "another kind of table": lambda p: p["layout"].update(table="mbr"),
    "over the table": lambda p: p["layout"]["partitions"][0].update(start_bytes=0),
    "one identity": lambda p: [q.update(unique_id="0" * 31 + "1") for q in p["layout"]["partitions"]],
    "no sectors": lambda p: [p[k].update(sector_size=0) for k in ("layout", "target")],
    "opened gate": lambda p: [g.update(open=True) for g in p["gates"]] and p["target"]["drive"].update(mounted=True),
}


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> Path:
    parts = [
        Part(20, LINUX, "ext4", "boot", linux_files()),
        Part(30, LINUX, "ext4", "home", {"keeper/log": b"x" * 999}),
    ]
    return make_drive(tmp_path_factory.mktemp("small") / "old.img", 60, parts)


@pytest.mark.parametrize("what", sorted(DAMAGE))
def test_a_damaged_plan_is_refused_and_nothing_is_written(what: str, small: Path, tmp_path: Path, neogenesis) -> None:
    new, plan = tmp_path / "new.img", tmp_path / "p.json"
    new.write_bytes(random.Random(1).randbytes(MIB) * 80)
    before = data_hash(new)
    neogenesis("plan", small, new, "-o", plan)
    raw = json.loads(plan.read_text())
    DAMAGE[what](raw)
    plan.write_text(json.dumps(raw))
    neogenesis("transfer", plan, "--confirm", "new", status=3)
    assert data_hash(new) == before


DAMAGE_OF_SMALL_TABLES: dict[str, Callable[[dict], object]] = {
    "type": lambda p: p["layout"]["partitions"][0].update(type_id="1ff"),
    "no type": lambda p: p["layout"]["partitions"][0].update(type_id="harbour"),
    "disk identity": lambda p: p["layout"].update(disk_id="1ffffffff"),
    "no disk identity": lambda p: p["layout"].update(disk_id="harbour"),
    "kind": lambda p: p["layout"].update(table="gpt"),
}


@pytest.mark.parametrize("what", sorted(DAMAGE_OF_SMALL_TABLES))
def test_what_a_small_table_cannot_say_is_refused(what: str, tmp_path: Path, neogenesis) -> None:
    old = make_drive(tmp_path / "old.img", 40, [Part(20, "83", "ext4", "home", {"a": b"x" * 999})], table="mbr")
    new, plan = tmp_path / "new.img", tmp_path / "p.json"
    new.write_bytes(random.Random(1).randbytes(MIB) * 60)
    before = data_hash(new)
    neogenesis("plan", old, new, "-o", plan)
    raw = json.loads(plan.read_text())
    DAMAGE_OF_SMALL_TABLES[what](raw)
    plan.write_text(json.dumps(raw))
    assert "cannot be run" in neogenesis("transfer", plan, "--confirm", "new", status=3).stderr
    assert data_hash(new) == before


def test_a_plan_of_an_older_version_is_refused_with_the_advice_to_plan_again(
    small: Path, tmp_path: Path, neogenesis
) -> None:
    new, plan = blank(tmp_path / "new.img", 80), tmp_path / "p.json"
    neogenesis("plan", small, new, "-o", plan)
    raw = json.loads(plan.read_text())
    for operation in raw["operations"]:
        del operation["id"]
    del raw["source"]["kind"]
    plan.write_text(json.dumps(raw))
    assert "again" in neogenesis("transfer", plan, "--confirm", "new", status=3).stderr
    assert is_blank(new)


def test_a_partition_before_the_new_table_is_refused_while_planning(tmp_path: Path, neogenesis) -> None:
    old = blank(tmp_path / "old.img", 40)
    text = "label: gpt\ntable-length: 8\nfirst-lba: 4\nstart=8,size=2000,type=L\nstart=4096,size=20000,type=L\n"
    run("sfdisk", "-q", old, text=text)
    new = blank(tmp_path / "new.img", 60)
    said = neogenesis("plan", old, new, "--intent", "exact", "--relocate-table", status=3).stderr
    assert "table cannot be made" in said
    neogenesis("plan", old, new, "--intent", "exact", "-o", tmp_path / "p.json")
    neogenesis("transfer", tmp_path / "p.json", "--confirm", "new")


@pytest.fixture
def attach() -> Iterator[Callable[[Path], str]]:
    devices: list[str] = []

    def make(image: Path) -> str:
        devices.append(run("losetup", "--find", "--show", image).strip())
        return devices[-1]

    yield make
    for device in devices:
        run("losetup", "--detach", device)


def test_a_mounted_btrfs_is_no_target_and_no_source(small: Path, tmp_path: Path, attach, neogenesis) -> None:
    image, point = blank(tmp_path / "pool.img", 160), tmp_path / "m"
    run("mkfs.btrfs", "-q", "-f", image)
    device = attach(image)
    point.mkdir()
    run("mount", device, point)
    try:
        for name in (device, image):
            assert "mounted" in neogenesis("plan", small, name, status=3).stderr
            assert "mounted" in neogenesis("image", name, tmp_path / "o.qcow2", status=3).stderr
            said = neogenesis("rescue", small, name, "--map", tmp_path / "m.json", "--confirm", "x", status=3)
            assert "mounted" in said.stderr
    finally:
        run("umount", point)
    assert not (tmp_path / "o.qcow2").exists()


def start(*arguments: object) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-m", "neogenesis", *map(str, arguments)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )


def test_while_the_old_drive_is_sealed_the_system_refuses_to_mount_or_change_it(tmp_path: Path, attach) -> None:
    """The seal is the system's, not only ours; it goes with the process."""
    image, point = blank(tmp_path / "old.img", 400), tmp_path / "m"
    run("mke2fs", "-q", "-F", "-t", "ext4", image)
    device = attach(image)
    point.mkdir()
    store = "from neogenesis.bench.drives import open_sealed; import sys, time; "
    held = subprocess.Popen(
        [
            sys.executable,
            "-c",
            store + f"o = open_sealed({device!r}, grip='hold'); print('held', flush=True); sys.stdin.read(); o.close()",
        ],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert held.stdout is not None and held.stdin is not None and held.stdout.readline() == "held\n"
    refused = subprocess.run(["mount", device, str(point)], capture_output=True, text=True, check=False)
    assert refused.returncode
    with pytest.raises(OSError, match=r"permitted|Read-only"):
        os.pwrite(os.open(device, os.O_WRONLY), b"x", 0)
    held.communicate("\n")
    run("mount", device, point)
    run("umount", point)


def test_the_seal_goes_with_a_process_that_is_killed(tmp_path: Path, attach, neogenesis) -> None:
    old = attach(make_drive(tmp_path / "old.img", 60, [Part(50, LINUX, "ext4", "root", linux_files())]))
    flag = f"/sys/block/{Path(old).name}/ro"
    code = f"from neogenesis.bench.drives import open_sealed; import os; open_sealed({old!r}, grip='hold'); "
    code += f"print(open({flag!r}).read().strip(), flush=True); os._exit(9)"
    assert subprocess.run([sys.executable, "-c", code], check=False, capture_output=True).stdout.strip() == b"1"
    while run("blockdev", "--getro", old).strip() == "1":
        time.sleep(0.01)
    new = blank(tmp_path / "other.img", 50)
    neogenesis("plan", new, old, "--intent", "exact", "-o", tmp_path / "p.json")
    run("blockdev", "--setro", old)  # by somebody else
    assert "read-only" in neogenesis("transfer", tmp_path / "p.json", "--confirm", old[-4:], status=3).stderr
    run("blockdev", "--setrw", old)
    neogenesis("transfer", tmp_path / "p.json", "--confirm", old[-4:])  # it may be a new drive again


def test_an_old_drive_that_changes_while_it_is_copied_is_noticed(tmp_path: Path, neogenesis) -> None:
    old = make_drive(tmp_path / "old.img", 60, [Part(50, LINUX, "ext4", "root", linux_files())])
    drive = simulated(
        tmp_path / "old.drive.json", "old.img", serial="SEAL0001", clock="real", read={"bytes_per_s": 1e7}
    )
    new, plan = blank(tmp_path / "new.img", 60), tmp_path / "p.json"
    neogenesis("plan", drive, new, "--intent", "exact", "-o", plan)
    process = start("transfer", plan, "--confirm", "new")
    while not (tmp_path / "p.journal").exists():
        assert process.poll() is None
        time.sleep(0.02)
    with old.open("r+b") as file:  # in the middle of what is copied: nobody holds an image file but us
        file.seek(30 * MIB)
        file.write(b"changed")
    assert process.wait() == 5
    assert json.loads(neogenesis("survey", new, "--json").stdout)["table"]["kind"] == "none"
    assert "changed" in neogenesis("transfer", plan, "--confirm", "new", "--resume", status=3).stderr


def ext_image(path: Path, folder: Path, *options: str) -> Path:
    blank(path, 24)
    run(
        "mke2fs",
        "-q",
        "-F",
        "-t",
        "ext4",
        "-O",
        "^metadata_csum,^dir_index",
        "-L",
        "root",
        *options,
        "-d",
        folder,
        path,
    )
    return path


@pytest.mark.parametrize("evil", [b"../../../escaped.txt", b"/etc/escaped-file.txt"])
def test_salvage_never_leaves_its_folder(evil: bytes, tmp_path: Path, neogenesis) -> None:
    (tmp_path / "src").mkdir()
    plain = ("A" * len(evil)).encode()
    (tmp_path / "src" / plain.decode()).write_bytes(b"owned" * 100)
    image = ext_image(tmp_path / "v.img", tmp_path / "src")
    raw = image.read_bytes()
    assert plain in raw
    image.write_bytes(raw.replace(plain, evil))
    out = tmp_path / "a/b/out"
    out.parent.mkdir(parents=True)
    neogenesis("salvage", image, out, words="stored as")
    found = list(tmp_path.rglob("*escaped*"))
    assert found and all(out in p.parents for p in found) and found[0].read_bytes() == b"owned" * 100
    row = json.loads((out / "salvage.jsonl").read_text().splitlines()[0])
    assert row["renamed"] and json.loads((out / "salvage.json").read_text())["renamed"]


def test_salvage_follows_no_link_and_overwrites_nothing(tmp_path: Path, neogenesis) -> None:
    (tmp_path / "src/home").mkdir(parents=True)
    (tmp_path / "src/home/letter.txt").write_bytes(b"A" * 5000)
    (tmp_path / "src/note.txt").write_bytes(b"B" * 50)
    image, out, elsewhere = ext_image(tmp_path / "v.img", tmp_path / "src"), tmp_path / "out", tmp_path / "elsewhere"
    (out / "1-root").mkdir(parents=True)
    elsewhere.mkdir()
    (elsewhere / "precious.txt").write_bytes(b"precious")
    (out / "1-root/note.txt").symlink_to(elsewhere / "precious.txt")
    (out / "1-root/home").symlink_to(elsewhere)
    neogenesis("salvage", image, out, status=6)
    assert sorted(p.name for p in elsewhere.iterdir()) == ["precious.txt"]
    (out / "1-root/home").unlink()
    neogenesis("salvage", image, out, words="stored as")
    assert (elsewhere / "precious.txt").read_bytes() == b"precious"
    rows = {r["path"]: r for r in map(json.loads, (out / "salvage.jsonl").read_text().splitlines())}
    assert (out / rows["note.txt"]["saved_as"]).read_bytes() == b"B" * 50
    assert (out / rows["home/letter.txt"]["saved_as"]).read_bytes() == b"A" * 5000


def test_a_second_drive_does_not_pass_for_the_first(tmp_path: Path, neogenesis) -> None:
    for name, letter, uuid in (("one", b"A", "1" * 8), ("two", b"B", "2" * 8)):
        folder = tmp_path / f"src-{name}/home/anna"
        folder.mkdir(parents=True)
        (folder / "letter.txt").write_bytes(letter * 5000)
        ext_image(tmp_path / f"{name}.img", tmp_path / f"src-{name}", "-U", f"{uuid}-1111-1111-1111-111111111111")
    neogenesis("salvage", tmp_path / "one.img", tmp_path / "out")
    assert "another drive" in neogenesis("salvage", tmp_path / "two.img", tmp_path / "out", status=3).stderr
    (tmp_path / "two.img").replace(tmp_path / "one.img")  # another image under the same name
    assert "another drive" in neogenesis("salvage", tmp_path / "one.img", tmp_path / "out", status=3).stderr
    (copy,) = (tmp_path / "out").rglob("letter.txt")
    assert copy.read_bytes() == b"A" * 5000
    copy.write_bytes(b"C" * 5000)  # as long, and not what was saved
    (tmp_path / "one.img").unlink()
    ext_image(tmp_path / "one.img", tmp_path / "src-one", "-U", "11111111-1111-1111-1111-111111111111")
    neogenesis("salvage", tmp_path / "one.img", tmp_path / "out", words="stored as")
    rows = [json.loads(line) for line in (tmp_path / "out/salvage.jsonl").read_text().splitlines()]
    assert (tmp_path / "out" / rows[-1]["saved_as"]).read_bytes() == b"A" * 5000


def test_a_rescue_map_belongs_to_both_its_drives(tmp_path: Path, neogenesis) -> None:
    raw = random.Random(6).randbytes(12 * MIB)
    (tmp_path / "old.img").write_bytes(raw)
    one, other, page = tmp_path / "one.img", blank(tmp_path / "other.img", 12), tmp_path / "m.json"
    neogenesis("rescue", tmp_path / "old.img", one, "--map", page, "--confirm", "one")
    said = neogenesis("rescue", tmp_path / "old.img", other, "--map", page, "--confirm", "ther", status=3).stderr
    assert "another new drive" in said and is_blank(other)
    blank(one, 12)  # the same name, and nothing of it there
    assert (
        "does not hold"
        in neogenesis("rescue", tmp_path / "old.img", one, "--map", page, "--confirm", "one", status=3).stderr
    )
    assert is_blank(one)
    bare = {"schema": "neogenesis.region-map/1", "size_bytes": 12 * MIB, "regions": [[0, 12 * MIB, "read"]]}
    page.write_text(json.dumps(bare))
    assert (
        "does not hold"
        in neogenesis("rescue", tmp_path / "old.img", one, "--map", page, "--confirm", "one", status=3).stderr
    )
    page.unlink()
    neogenesis("rescue", tmp_path / "old.img", one, "--map", page, "--confirm", "one")
    with one.open("r+b") as file:
        file.seek(3 * MIB)
        file.write(bytes(MIB))
    neogenesis("rescue", tmp_path / "old.img", one, "--map", page, "--confirm", "one")
    assert one.read_bytes()[: 3 * MIB] == raw[: 3 * MIB]


@pytest.mark.parametrize(
    "regions",
    [[], [[0, 5, "read"]], [[-5, 12582912, "read"]], [[0, 9, "read"], [8, 12582912, "read"]], [[0, 12582912, "gone"]]],
)
def test_impossible_maps_are_refused(regions: list, tmp_path: Path, neogenesis) -> None:
    (tmp_path / "old.img").write_bytes(random.Random(6).randbytes(12 * MIB))
    page = tmp_path / "m.json"
    page.write_text(json.dumps({"schema": "neogenesis.region-map/1", "size_bytes": 12 * MIB, "regions": regions}))
    neogenesis("rescue", tmp_path / "old.img", tmp_path / "n.img", "--map", page, "--confirm", "n", status=3)


def test_targets_with_equal_tails_each_get_the_image(tmp_path: Path, neogenesis) -> None:
    raw = random.Random(3).randbytes(12 * MIB)
    (tmp_path / "old.img").write_bytes(raw)
    neogenesis("image", tmp_path / "old.img", tmp_path / "i.qcow2")
    targets = []
    for name in "ab":
        (tmp_path / name).mkdir()
        targets.append(blank(tmp_path / name / "disk.img", 12))
    neogenesis("restore", tmp_path / "i.qcow2", *targets, "--confirm", "disk", "--confirm", "disk")
    assert all(target.read_bytes() == raw for target in targets)
    said = neogenesis("restore", tmp_path / "i.qcow2", *targets, "--confirm", "disk", status=2).stderr
    assert "2 times --confirm" in said


def test_one_flipped_bit_is_mended_by_a_resume_but_never_after_the_end(tmp_path: Path, neogenesis) -> None:
    raw = random.Random(9).randbytes(48 * MIB)
    (tmp_path / "old.img").write_bytes(raw)
    old = simulated(tmp_path / "old.drive.json", "old.img", serial="FLIP0001", clock="real", read={"bytes_per_s": 2e7})
    new, plan = blank(tmp_path / "new.img", 48), tmp_path / "p.json"
    neogenesis("plan", old, new, "--intent", "exact", "-o", plan)
    process = start("transfer", plan, "--confirm", "new")
    while (tmp_path / "p.journal").exists() is False or b'"sync"' not in (tmp_path / "p.journal").read_bytes():
        assert process.poll() is None
        time.sleep(0.05)
    process.send_signal(signal.SIGKILL)
    process.wait()

    def flip() -> None:
        with new.open("r+b") as file:
            file.seek(5 * MIB)
            byte = file.read(1)[0]
            file.seek(5 * MIB)
            file.write(bytes([byte ^ 1]))

    flip()
    simulated(tmp_path / "old.drive.json", "old.img", serial="FLIP0001")
    neogenesis("transfer", plan, "--confirm", "new", "--resume")
    assert new.read_bytes() == raw
    flip()
    assert "give back" in neogenesis("verify", plan, new, status=5).stderr
    flipped = new.read_bytes()
    assert "changed since" in neogenesis("transfer", plan, "--confirm", "new", "--resume", status=3).stderr
    assert new.read_bytes() == flipped  # what was finished is never written again


def test_a_drive_that_does_not_stand_alone_is_copied_exactly_or_not_at_all(tmp_path: Path, neogenesis) -> None:
    dynamic = make_drive(
        tmp_path / "dynamic.img", 60, [Part(20, "42", "ntfs", "a"), Part(20, "42", "raw")], table="mbr"
    )
    place, offset, mark = FIRMWARE_MARKS[0]
    member = make_drive(tmp_path / "member.img", 60, [Part(40, LINUX, "ext4", "root", linux_files())], table="gpt")
    with member.open("r+b") as file:
        file.seek(place + offset, os.SEEK_END)
        file.write(mark)
    for number, (drive, code) in enumerate(((dynamic, "dynamic-disk"), (member, "firmware-array"))):
        found = json.loads(neogenesis("survey", drive, "--json").stdout)
        assert code in [f["code"] for f in found["findings"] if f["severity"] == "stop"]
        new, plan = blank(tmp_path / f"new{number}.img", 90), tmp_path / f"p{number}.json"
        neogenesis("plan", drive, new, "-o", plan)
        gates = {g["code"]: g["open"] for g in json.loads(plan.read_text())["gates"]}
        assert gates["spanned"] is False
        assert "alone" in neogenesis("transfer", plan, "--confirm", f"new{number}"[-4:], status=3).stderr
        assert is_blank(new)
        [found] = [f for f in found["findings"] if f["code"] == "member"]
        assert found["severity"] == "stop" and found["fellows"]
        neogenesis("plan", drive, new, "--intent", "exact", "-o", plan)
        assert "--alone" in neogenesis("transfer", plan, "--confirm", f"new{number}"[-4:], status=3).stderr
        neogenesis("plan", drive, new, "--intent", "exact", "--alone", "-o", plan)
        neogenesis("transfer", plan, "--confirm", f"new{number}"[-4:])
        assert new.read_bytes()[: 60 * MIB] == drive.read_bytes()
