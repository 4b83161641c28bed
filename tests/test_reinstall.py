"""Fresh drives: recipes on drives of all kinds, system images that start afterwards, and what is refused."""

from __future__ import annotations

import io
import json
import os
import signal
import subprocess
import sys
import tarfile
import tempfile
import time
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from xml.etree import ElementTree
from zoneinfo import ZoneInfo

import pytest
import zstandard
from babel.core import get_global
from blake3 import blake3
from hypothesis import given as given_of
from hypothesis import strategies as st

from neogenesis.bench.emulator import Trial, run_trial
from neogenesis.bench.inside.booting import forecast_drives
from neogenesis.bench.inside.laying import LaidOut, put_file
from neogenesis.bench.inside.returning import look_through, open_beneath
from neogenesis.bench.inside.system_image import _Member, inspect_system, lay_out
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.works import installing
from neogenesis.bench.works.mending import remedies_of
from neogenesis.bench.works.system_files import scratch_folder, verify_volume
from neogenesis.bench.works.volumes import fill_ntfs
from neogenesis.core.errors import BadArgument, BadRecord, Refused, ToolFailed
from neogenesis.core.plan.recipe import RecipeWishes, recipe_layout, recipes
from neogenesis.core.record import from_json, to_json
from neogenesis.core.reinstall import Answers, answer_files, read_answers, read_description
from neogenesis.core.reinstall.answers import nt_keyboard, nt_zone
from neogenesis.core.reinstall.giving import Destination, Reading, give_back, kind_of_file
from neogenesis.core.reinstall.returned import BackWish, GivingBack, Held, returnable
from neogenesis.core.store import PathOpener, RangeView, SealedFileStore
from neogenesis.core.units import MIB
from tests.boots import BY_FILE, loader
from tests.drives import (
    LINUX,
    NT_DATA,
    SWAP,
    Part,
    blank,
    check_volume,
    data_hash,
    make_drive,
    make_volume,
    nt_files,
    run,
    simulated,
    spans,
    table_of,
)
from tests.hives import make_hive
from tests.systems import entry, system_image

_LONG = bool(os.environ.get("NEOGENESIS_LONG"))
NAMES = ("nt-uefi", "nt-legacy", "linux-uefi", "linux-uefi-home", "both-uefi", "data", "data-old", "card", "stick")


@pytest.fixture(autouse=True)
def here(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)


def new_drive(folder: Path, mib: int, sector: int = 512, name: str = "new", serial: str = "CN2-000041F2") -> Path:
    blank(folder / f"{name}.img", mib)
    return simulated(
        folder / f"{name}.drive.json",
        f"{name}.img",
        model="Corvane N2",
        serial=serial,
        sector_size=sector,
        clock="virtual",
    )


def check_volumes(image: Path, survey_json: Any) -> None:
    """Each volume passes its own checker."""
    for p in survey_json(image)["partitions"]:
        kind = {"vfat": "fat"}.get(p["volume"]["kind"], p["volume"]["kind"])
        check_volume(image, p["start_bytes"], p["size_bytes"], kind, image.parent)


@pytest.mark.parametrize("sector", [512, 4096])
@pytest.mark.parametrize("name", NAMES)
def test_every_recipe_on_both_kinds_of_sectors(
    name: str, sector: int, tmp_path: Path, neogenesis: Any, survey_json: Any
) -> None:
    if sector == 4096 and name in ("both-uefi", "linux-uefi", "nt-legacy", "stick") and not _LONG:
        pytest.skip("nothing in it that the others do not have")
    drive = new_drive(tmp_path, 1400, sector)
    with (tmp_path / "new.img").open("r+b") as file:
        file.write(b"\xeb\x52\x90NTFS    " * 1000)  # what stood there before
    neogenesis("recipe", name, drive, "--confirm", "41f2", "--events", tmp_path / "events")
    found = survey_json(drive)
    assert found["drive"]["sector_size"] == sector and not found["table"]["problems"]
    expected = [(p.kind, p.label.upper()) for r in recipes() if r.name == name for p in r.parts]
    got = [(p["volume"]["kind"], p["volume"]["label"].upper()) for p in found["partitions"]]
    assert got == [(kind, label if kind != "none" else "") for kind, label in expected]
    assert not [f for f in found["findings"] if f["severity"] == "stop"]
    if sector == 512:
        assert "No errors" in run("sfdisk", "--verify", tmp_path / "new.img") or found["table"]["kind"] == "gpt"
        check_volumes(tmp_path / "new.img", survey_json)


def test_wishes_and_what_cannot_be_granted(tmp_path: Path, neogenesis: Any, survey_json: Any) -> None:
    drive = new_drive(tmp_path, 2000)
    neogenesis(
        "recipe",
        "linux-uefi",
        drive,
        "--confirm",
        "41F2",
        "--swap",
        "100MiB",
        "--data-volume",
        "300MiB",
        "--spare",
        "20",
    )
    parts = survey_json(drive)["partitions"]
    assert [p["volume"]["kind"] for p in parts] == ["vfat", "ext4", "swap", "ext4"]
    assert [p["size_bytes"] // MIB for p in parts[2:]] == [100, 300]
    assert parts[-1]["start_bytes"] + parts[-1]["size_bytes"] <= 2000 * MIB * 80 // 100
    before = data_hash(tmp_path / "new.img")
    for arguments, status, says in (
        (("recipe", "nonsense", drive, "--confirm", "41F2"), 2, "no recipe"),
        (("recipe", "data", drive, "--confirm", "9K3D"), 3, "not how the new drive ends"),
        (("recipe", "data", drive), 2, "--confirm"),
        (("recipe", "data"), 2, "at least one drive"),
        (("recipe", "data", drive, "--confirm", "41F2", "--swap", "1GiB"), 2, "no swap"),
        (("recipe", "linux-uefi", drive, "--confirm", "41F2", "--data-volume", "5GiB"), 3, "too small"),
        (("recipe", "appliance:nothing", drive, "--confirm", "41F2"), 2, "no device class"),
        (("recipe", "nt-uefi", drive, drive, "--confirm", "41F2", "--confirm", "41F2"), 2, "named twice"),
    ):
        assert says in neogenesis(*arguments, status=status).stderr
    assert data_hash(tmp_path / "new.img") == before
    tiny = blank(tmp_path / "tiny.img", 40)
    assert "too small" in neogenesis("recipe", "nt-uefi", tiny, "--confirm", "tiny", status=3).stderr
    mounted = simulated(tmp_path / "m.drive.json", "new.img", serial="X-0000AAAA", mounted=True)
    assert "mounted" in neogenesis("recipe", "data", mounted, "--confirm", "AAAA", status=3).stderr


def test_several_drives_and_a_device_class(tmp_path: Path, neogenesis: Any, survey_json: Any) -> None:
    one, two = (
        new_drive(tmp_path, 700, name="one", serial="A-00001111"),
        new_drive(tmp_path, 900, name="two", serial="B-00002222"),
    )
    neogenesis("recipe", "appliance:chart-plotter", one, two, "--confirm", "1111", "--confirm", "2222")
    for drive, room in ((one, 700), (two, 900)):
        found = survey_json(drive)
        assert [p["type_id"] for p in found["partitions"]] == ["0x0c", "0x83", "0x0b"] and found["table"][
            "kind"
        ] == "mbr"
        assert sum(p["size_bytes"] for p in found["partitions"]) // MIB == room - 1
    listed = json.loads(neogenesis("recipe", "--list", "--json").stdout)
    assert set(NAMES) < set(listed["names"]) and "appliance:chart-plotter" in listed["names"]


@pytest.mark.parametrize("recipe", recipes(), ids=lambda r: r.name)
def test_layouts_fit_their_drives(recipe: Any) -> None:
    ids = (f"1B1F3A1C-0000-4000-8000-{n:012X}" for n in range(1000))
    for size in (300 * MIB, 8 << 30, 120 * 10**9, 500 * 10**9, 4 * 10**12, 22 * 10**12):
        for sector in (512, 4096):
            for spare in (0, 10):
                layout, parts = recipe_layout(
                    recipe, RecipeWishes(spare_percent=spare), size // sector * sector, sector, lambda: next(ids, "X")
                )
                ends = [p.start_bytes + p.size_bytes for p in layout.partitions]
                assert all(p.start_bytes >= end for p, end in zip(layout.partitions[1:], ends, strict=False))
                assert ends[-1] <= size - size * spare // 100 and layout.partitions[0].start_bytes >= MIB // 2
                assert all(p.size_bytes >= parts[p.number].least_mib * MIB for p in layout.partitions)


# Systems


@pytest.mark.parametrize(
    ("recipe", "family", "legacy"),
    [
        ("linux-uefi", "linux", False),
        ("nt-uefi", "meridian", False),
        ("linux-uefi-home", "linux", False),
        ("nt-legacy", "meridian", True),
    ],
)
def test_a_system_is_put_onto_a_drive_and_starts(
    recipe: str, family: str, legacy: bool, tmp_path: Path, neogenesis: Any, survey_json: Any
) -> None:
    image = system_image(tmp_path / "system.tar.zst", family=family, legacy=True)
    drive = new_drive(tmp_path, 900)
    packed = tmp_path / "packed/001-link"
    packed.mkdir(parents=True)
    (packed / "link.inf").write_text("[Version]\n")
    answers = tmp_path / "answers.json"
    answers.write_text(
        json.dumps(
            {"schema": "neogenesis.answers/1", "machine_name": "lantern-7", "language": "de-DE", "keyboard": "de"}
        )
    )
    done = neogenesis(
        "install", image, recipe, drive, "--confirm", "41F2", "--drivers", tmp_path / "packed", "--answers", answers
    )
    assert legacy or "It would start." in done.stdout
    target = tmp_path / "new.img"
    if not legacy:
        check_volumes(target, survey_json)
    number = 2 if recipe != "nt-uefi" else 3
    neogenesis("salvage", drive, tmp_path / "out", "--volume", str(number))
    files = {p.relative_to(tmp_path / "out").as_posix(): p for p in (tmp_path / "out").rglob("*") if p.is_file()}
    names = set(files)
    assert any(n.endswith("Drivers/001-link/link.inf") for n in names) and any(n.endswith("token.txt") for n in names)
    if family == "linux":
        hostname = next(p for n, p in files.items() if n.endswith("etc/hostname"))
        assert hostname.read_text() == "lantern-7\n"
    else:
        assert "language=de-DE" in next(p for n, p in files.items() if n.endswith("first-start")).read_text()
    if legacy or recipe == "linux-uefi" or _LONG:
        trial = run_trial(Trial([str(drive)], None, legacy, "TOKEN-ONE", 60))
        assert trial.seen == "TOKEN-ONE" and (legacy or "TOLD-lantern-7" in trial.serial), trial.serial
    again = data_hash(target)
    neogenesis("verify", next(tmp_path.glob("install-*.plan.manifest.json")), drive)
    assert data_hash(target) == again


def test_nobody_else_comes_to_what_is_on_its_way(tmp_path: Path) -> None:
    """An image may hold programs with rights of the system; on this machine they are out of reach."""
    with scratch_folder(tmp_path / "plan.work") as folder:
        assert folder.stat().st_mode & 0o777 == 0o755, "as the root of a volume"
        assert folder.parent.parent == tmp_path and folder.parent.stat().st_mode & 0o777 == 0o700
    assert not list(tmp_path.iterdir())


def test_owners_permissions_links_dates_and_holes_are_kept(tmp_path: Path, neogenesis: Any) -> None:
    more = [
        (entry("system/bin", type=tarfile.DIRTYPE, mode=0o755), b""),
        (entry("system/bin/su", 3, mode=0o4755, uid=0, gid=12), b"su!"),
        (entry("system/bin/link", type=tarfile.SYMTYPE, linkname="../etc/motd"), b""),
        (entry("system/bin/hard", type=tarfile.LNKTYPE, linkname="system/bin/su"), b""),
        (
            entry(
                "system/home/ann/note", 2, uid=1000, gid=1000, mode=0o600, pax_headers={"SCHILY.xattr.user.mark": "yes"}
            ),
            b"hi",
        ),
        (entry("system/bad", type=tarfile.LNKTYPE, linkname="/etc/passwd"), b""),
    ]
    image = system_image(tmp_path / "system.tar.zst", more=more)
    drive = new_drive(tmp_path, 600)
    neogenesis("install", image, "linux-uefi", drive, "--confirm", "41F2")
    start = table_of(tmp_path / "new.img")["partitions"][1]["start"] * 512
    volume = f"{tmp_path / 'new.img'}?offset={start}"
    said = run("debugfs", "-R", "stat /bin/su", volume)
    assert "Mode:  04755" in said and "Group:    12" in said and "Links: 2" in said and "0x6553f100" in said.lower(), (
        said
    )
    assert "User:  1000" in run("debugfs", "-R", "stat /home/ann/note", volume)
    assert "user.mark" in run("debugfs", "-R", "ea_list /home/ann/note", volume)
    assert '"../etc/motd"' in run("debugfs", "-R", "stat /bin/link", volume)
    assert "not found" in run("debugfs", "-R", "stat /bad", volume) or "bad" not in run(
        "debugfs", "-R", "ls -p /", volume
    )


@pytest.mark.parametrize("recipe", ["linux-uefi", "nt-uefi"])
def test_names_that_differ_only_in_their_letters_are_two_files(recipe: str, tmp_path: Path, neogenesis: Any) -> None:
    """As the headers of one widespread kernel have them; each is compared with its own."""
    names = [f"system/include/{name}" for n in range(6) for name in (f"mark_{n}.h", f"MARK_{n}.h", f"Mark_{n}.h")]
    files = {name: name.encode() * 900 for name in [*names[::2], *names[1::2]]}
    image = system_image(tmp_path / "system.tar.zst", family="nt" if recipe == "nt-uefi" else "linux", files=files)
    neogenesis("install", image, recipe, new_drive(tmp_path, 900), "--confirm", "41F2")
    found = open_tree_of(tmp_path / "new.img", recipe)
    assert {name: data for name, data in found.items() if "include/" in name} == {
        name.removeprefix("system/"): data for name, data in files.items()
    }


def open_tree_of(image: Path, recipe: str, skip: tuple[str, ...] = ()) -> dict[str, bytes]:
    """What stands on the system volume of a drive, by name."""
    parts = table_of(image)["partitions"]
    part = parts[2 if recipe == "nt-uefi" else 1]
    with closing(SealedFileStore(PathOpener(image))) as drive:
        view = RangeView(drive, part["start"] * 512, part["size"] * 512)
        tree = open_tree(view)
        return {
            name: b"".join(data for data, _ in tree.contents(inode, MIB))
            for name, _, inode in tree.walk()
            if name not in skip
        }


@pytest.mark.parametrize("kind", ["ext4", "ntfs", "vfat"])
def test_a_file_that_is_not_what_was_put_there_is_found(kind: str, tmp_path: Path) -> None:
    """Small ones in their records, ones with holes, and plain ones, each damaged by one byte."""
    files = {"Small.txt": b"a few words", "plain.bin": b"PLAIN" * 60_000, "last.bin": b"Z" * 4096}
    laid_out, volume = tmp_path / "files", tmp_path / "volume"
    laid_out.mkdir()
    for name, data in files.items():
        (laid_out / name).write_bytes(data)
    with (laid_out / "holes").open("wb") as file:
        file.seek(1 << 20)
        file.write(b"behind the hole")
    files["holes"] = (laid_out / "holes").read_bytes()
    digests = {name: blake3(data).digest() for name, data in files.items()}
    make_filled(volume, kind, laid_out)

    def verify() -> None:
        with closing(SealedFileStore(PathOpener(volume))) as store:
            verify_volume(store, LaidOut(digests=digests), lambda count: None, kind)

    verify()
    data = bytearray(volume.read_bytes())
    for mark in (b"few words", b"PLAINPLAIN", b"ZZZZZZZZ", b"behind the hole"):
        place = data.index(mark) if mark != b"PLAINPLAIN" else data.rindex(mark)
        volume.write_bytes(data[:place] + b"!" + data[place + 1 :])
        with pytest.raises(ToolFailed, match="not what it should be"):
            verify()
    volume.write_bytes(data)
    digests["gone.txt"] = bytes(32)
    with pytest.raises(ToolFailed, match=r"1 files are missing on the new volume, such as “gone\.txt”"):
        verify()


def make_filled(volume: Path, kind: str, laid_out: Path) -> None:
    """A volume of 64 MiB with what lies in a folder."""
    blank(volume, 64)
    if kind == "ext4":
        run("mke2fs", "-q", "-F", "-t", "ext4", "-O", "inline_data", "-I", "256", "-d", laid_out, volume)
    elif kind == "ntfs":
        run("mkntfs", "-Q", "-F", "-q", volume)
        fill_ntfs(volume, lambda point: run("cp", "-r", "--sparse=always", f"{laid_out}/.", point) and None)
    else:
        run("mkfs.fat", "-F", "32", volume)
        run("mcopy", "-i", volume, *sorted(laid_out.iterdir()), "::")


def test_a_small_volume_behind_the_system_in_the_archive_is_found_and_the_archive_is_checked_whole(
    tmp_path: Path,
) -> None:
    """Only as much of the archive is unpacked for it as it takes, but for the system all of it, and compared."""
    tail = {f"system/{n}.bin": os.urandom(1 << 20) for n in range(4)}
    image = inspect_system(system_image(tmp_path / "s.tar.zst", files={**tail, "startup/late.txt": b"late"}))
    heard = list[int]()
    for name in ("startup", "early", "damaged"):
        (tmp_path / name).mkdir()
    made = lay_out(image, "startup", tmp_path / "startup", {}, heard.append, lambda: None)
    assert set(made.digests) == {"EFI/BOOT/BOOTX64.EFI", "EFI/x/grub.cfg", "late.txt"}
    early = inspect_system(
        system_image(tmp_path / "e.tar.zst", files={f"system/{n}": os.urandom(MIB) for n in range(40)})
    )
    heard.clear()
    lay_out(early, "startup", tmp_path / "early", {}, heard.append, lambda: None)
    assert sum(heard) < early.size_bytes // 2
    with (tmp_path / "e.tar.zst").open("r+b") as file:
        file.seek(-2, os.SEEK_END)
        file.write(b"!!")
    with pytest.raises(BadRecord):
        lay_out(early, "system", tmp_path / "damaged", {}, heard.append, lambda: None)


def test_an_installation_that_is_killed_is_gone_on_with(tmp_path: Path, neogenesis: Any, survey_json: Any) -> None:
    files = {f"system/data/{n:03d}.bin": os.urandom(1 << 20) for n in range(40)}
    image = system_image(tmp_path / "system.tar.zst", files=files)
    drive = new_drive(tmp_path, 900)
    command = [sys.executable, "-m", "neogenesis", "install", str(image), "linux-uefi", str(drive), "--confirm", "41F2"]
    events = tmp_path / "events"
    process = subprocess.Popen([*command, "--events", str(events)], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline and not (events.exists() and b'"fill"' in events.read_bytes()):
        time.sleep(0.005)
    process.send_signal(signal.SIGINT)
    words = process.communicate(timeout=30)[1].decode()
    assert process.returncode == 6 and "Stopped safely" in words, words
    assert (tmp_path / "new.img").stat().st_blocks == 0 and not list(tmp_path.glob(".*-files-*"))
    told = [json.loads(line) for line in events.read_text().splitlines()]
    ready = [event for event in told if event.get("phase") == "fill" and event["event"] == "progress"]
    counts = [event["copied_bytes"] for event in ready]
    assert counts == sorted(counts) and all(c <= event["total_bytes"] for c, event in zip(counts, ready, strict=True))
    events.unlink()
    process = subprocess.Popen([*command, "--events", str(events)], stdout=subprocess.DEVNULL)
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline and not (events.exists() and b'"copy"' in events.read_bytes()):
        time.sleep(0.02)
    process.send_signal(signal.SIGKILL)
    process.wait()
    assert not survey_json(tmp_path / "new.img")["partitions"]  # no table until all of it is there
    neogenesis("install", image, "linux-uefi", drive, "--confirm", "41F2", "--resume")
    check_volumes(tmp_path / "new.img", survey_json)
    assert len(table_of(tmp_path / "new.img")["partitions"]) == 2 and not list(tmp_path.glob(".*-files-*"))


def test_one_image_onto_four_drives_each_with_identities_of_its_own(tmp_path: Path, neogenesis: Any) -> None:
    image = system_image(tmp_path / "system.tar.zst")
    drives = [new_drive(tmp_path, 400, name=f"n{n}", serial=f"S-0000000{n}") for n in range(4)]
    tails = [t for n in range(4) for t in ("--confirm", f"000{n}")]
    done = neogenesis("install", image, "linux-uefi", *drives, *tails)
    assert done.stdout.count("It would start.") == 4
    ids = [p["uuid"] for n in range(4) for p in table_of(tmp_path / f"n{n}.img")["partitions"]]
    assert len(set(ids)) == len(ids) == 8


def test_what_is_no_system_image_is_refused_before_anything_is_written(tmp_path: Path, neogenesis: Any) -> None:
    drive = new_drive(tmp_path, 400)
    good = system_image(tmp_path / "good.tar.zst").read_bytes()
    (tmp_path / "cut.tar.zst").write_bytes(good[: len(good) // 2])
    (tmp_path / "empty.tar.zst").write_bytes(b"")
    (tmp_path / "words.tar.zst").write_bytes(b"no archive at all")
    system_image(tmp_path / "out.tar.zst", more=[(entry("system/../../etc/evil", 1), b"x")])
    system_image(tmp_path / "lies.tar.zst", trees={"system": "../x"})
    system_image(tmp_path / "odd.tar.zst", firmware=["toaster"])
    system_image(tmp_path / "large.tar.zst", files={"system/big": bytes(500 << 20)})
    for name, status, says in (
        ("cut", 3, "damaged or cut short"),
        ("empty", 3, "damaged or cut short"),
        ("words", 3, "damaged or cut short"),
        ("out", 3, "leads out of it"),
        ("lies", 3, "leads out of the archive"),
        ("odd", 3, "firmware"),
        ("large", 3, "too small"),
        ("gone", 2, "cannot be read"),
    ):
        found = neogenesis(
            "install", tmp_path / f"{name}.tar.zst", "linux-uefi", drive, "--confirm", "41F2", status=status
        )
        assert says in found.stderr, found.stderr
    neogenesis("install", tmp_path / "good.tar.zst", "nt-legacy", drive, "--confirm", "41F2", status=3)
    lies = tmp_path / "lies.json"
    lies.write_text(json.dumps({"schema": "neogenesis.answers/1", "machine_name": "../../etc", "language": "x" * 50}))
    said = neogenesis(
        "install", tmp_path / "good.tar.zst", "linux-uefi", drive, "--confirm", "41F2", "--answers", lies, status=3
    )
    assert "no name for a machine" in said.stderr and "no language" in said.stderr
    assert (tmp_path / "new.img").stat().st_blocks == 0


def test_an_image_that_was_exchanged_after_planning_is_refused(tmp_path: Path, neogenesis: Any) -> None:
    image = system_image(tmp_path / "system.tar.zst")
    drive = new_drive(tmp_path, 400)
    plan = installing.plan_install(
        inspect_system(image),
        installing.recipe_of("linux-uefi"),
        installing.fresh_target(str(drive), "41f2"),
        RecipeWishes(),
        Answers(),
    )
    assert plan.gates and all(g.open for g in plan.gates)
    path = tmp_path / "p.json"
    from neogenesis.core.record import save

    save(path, plan)
    system_image(image, token="TOKEN-TWO")
    assert (
        "not the one that the plan was made for" in neogenesis("transfer", path, "--confirm", "41F2", status=3).stderr
    )
    assert (tmp_path / "new.img").stat().st_blocks == 0
    text = json.loads(path.read_text())
    for change in ({"boot_code": "QUFB" * 400}, {"system": None}):
        path.write_text(json.dumps(text | {"source": text["source"] | change}))
        neogenesis("transfer", path, "--confirm", "41F2", status=3)


def test_descriptions_answers_and_names_are_checked() -> None:
    with pytest.raises(BadRecord, match="no recipe has"):
        read_description(
            json.dumps(
                {"schema": "neogenesis.system/1", "name": "x", "family": "nt", "trees": {"system": "s", "moon": "m"}}
            ).encode()
        )
    with pytest.raises(BadArgument):
        installing.recipe_of("none")
    files = answer_files("nt", read_answers(b'{"schema": "neogenesis.answers/1", "machine_name": "desk"}'), "Drivers")
    text = files["Windows/Panther/unattend.xml"].decode()
    assert "<ComputerName>desk</ComputerName><TimeZone>UTC</TimeZone>" in text
    assert "/add-driver C:\\Drivers\\*.inf /subdirs" in text and "<InputLocale>en-GB</InputLocale>" in text
    ElementTree.fromstring(text)
    assert answer_files("linux", Answers(), "")["etc/machine-id"] == b"uninitialized\n"


@pytest.mark.parametrize(
    ("zone", "name"),
    [
        ("Europe/London", "GMT Standard Time"),
        ("Europe/Berlin", "W. Europe Standard Time"),
        ("America/Phoenix", "US Mountain Standard Time"),
        ("Asia/Calcutta", "India Standard Time"),
        ("Nowhere/Atall", ""),
    ],
)
def test_time_zones_have_the_nt_family_s_names(zone: str, name: str) -> None:
    assert nt_zone(zone, 2026) == name


@pytest.mark.parametrize("zone", ["Europe/Vienna", "Africa/Lagos", "America/Toronto", "Asia/Kuala_Lumpur"])
def test_a_time_zone_without_a_name_of_its_own_has_that_of_one_whose_clocks_go_alike(zone: str) -> None:
    known = get_global("windows_zone_mapping")[nt_zone(zone, 2026)]
    for month in range(1, 13):
        noon = datetime(2026, month, 1, 12, tzinfo=UTC)
        assert noon.astimezone(ZoneInfo(known)).utcoffset() == noon.astimezone(ZoneInfo(zone)).utcoffset()


@pytest.mark.parametrize(
    ("language", "keyboard", "said"),
    [
        ("en-GB", "gb", "en-GB"),
        ("en-GB", "de", "de-DE"),
        ("de", "us", "en-US"),
        ("fr-CH", "ch", "fr-CH"),
        ("es", "latam", "es"),
    ],
)
def test_keyboards(language: str, keyboard: str, said: str) -> None:
    assert nt_keyboard(Answers(language=language, keyboard=keyboard)) == said


def test_laying_out_follows_no_link(tmp_path: Path) -> None:
    """Neither a file nor another link is put through a link that leads out, nor does a hard one fetch something in."""
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "secret").write_text("of the bench")
    more = [
        (entry("system/escape", type=tarfile.SYMTYPE, linkname=str(outside)), b""),
        (entry("system/escape/file", 1), b"x"),
        (entry("system/way", type=tarfile.SYMTYPE, linkname=str(outside)), b""),
        (entry("system/way/link", type=tarfile.SYMTYPE, linkname="secret"), b""),
        (entry("system/leak", type=tarfile.LNKTYPE, linkname="system/road/secret"), b""),
        (entry("system/road", type=tarfile.SYMTYPE, linkname=str(outside)), b""),
        (entry("system/again", type=tarfile.LNKTYPE, linkname="system/road"), b""),
        (entry("system/twice", 3), b"one"),
        (entry("system/twice", 3), b"two"),
        (entry("system/device", type=tarfile.CHRTYPE), b""),
    ]
    image = inspect_system(system_image(tmp_path / "s.tar.zst", more=more))
    into = tmp_path / "into"
    into.mkdir()
    made = lay_out(image, "system", into, {}, lambda n: None, lambda: None)
    assert sorted(made.left_out) == ["device", "escape", "leak", "way"]
    assert [p.name for p in outside.iterdir()] == ["secret"] and not (into / "leak").exists()
    assert (into / "way/link").is_symlink() and (into / "escape/file").read_text() == "x"
    assert (into / "again").readlink() == (into / "road").readlink() == outside
    assert (into / "twice").read_text() == "two" and made.digests["twice"] == blake3(b"two").digest()
    with pytest.raises(Refused, match="stop"):
        lay_out(image, "startup", tmp_path / "into", {}, lambda n: None, _stops)


_NAMES = st.lists(st.sampled_from(["a", "b", "c", ".", "..", ""]), min_size=1, max_size=4).map("/".join)
_MEMBERS = st.lists(
    st.tuples(
        st.sampled_from([tarfile.REGTYPE, tarfile.DIRTYPE, tarfile.SYMTYPE, tarfile.LNKTYPE, tarfile.FIFOTYPE]),
        _NAMES,
        st.one_of(_NAMES, st.sampled_from(["OUTSIDE", "/OUTSIDE/kept", "../../OUTSIDE", "system/a", "system/a/b"])),
    ),
    max_size=8,
)


@given_of(_MEMBERS, st.lists(_NAMES, max_size=4))
def test_no_archive_reaches_what_is_outside(members: list[tuple[bytes, str, str]], later: list[str]) -> None:
    """Whatever its links and names: what lies beside the folder stays as it is, and nothing of it comes in."""
    with tempfile.TemporaryDirectory() as held:
        folder, outside, into = Path(held), Path(held) / "outside", Path(held) / "into"
        into.mkdir()
        outside.mkdir()
        (outside / "kept").write_text("of the bench")
        more = [
            (
                entry(
                    f"system/{name}",
                    3 if kind == tarfile.REGTYPE else 0,
                    type=kind,
                    linkname=to.replace("OUTSIDE", str(outside)),
                ),
                b"new" if kind == tarfile.REGTYPE else b"",
            )
            for kind, name, to in members
        ]
        path = system_image(folder / "s.tar.zst", more=more)
        try:
            image = inspect_system(path)
            made = lay_out(image, "system", into, {}, lambda n: None, lambda: None)
            for name in later:
                put_file(into, name or "x", [b"later"], made)
        except (BadRecord, OSError):
            made = LaidOut()  # refused with a sentence, or a name that is a folder already
        assert [p.name for p in outside.iterdir()] == ["kept"] and (outside / "kept").read_text() == "of the bench"
        assert (outside / "kept").stat().st_nlink == 1 and len(list(folder.iterdir())) == 3
        for name, digest in made.digests.items():
            assert blake3((into / name).read_bytes()).digest() == digest
            assert (into / name).resolve().is_relative_to(into)


def test_marks_that_no_system_holds_and_damaged_maps_of_holes(tmp_path: Path) -> None:
    """Owners, dates and targets beyond what can be set are passed over; a header that is no number is damage."""
    odd = {"uid": 2**70, "gid": -5, "mtime": 1e30}
    more = [
        (entry("system/odd", 3, pax_headers={"SCHILY.xattr.a\0b": "x"}, **odd), b"odd"),
        (entry("system/way", type=tarfile.SYMTYPE, pax_headers={"linkpath": "a\0b"}), b""),
    ]
    image = inspect_system(system_image(tmp_path / "s.tar.zst", more=more))
    into = tmp_path / "into"
    into.mkdir()
    made = lay_out(image, "system", into, {}, lambda n: None, lambda: None)
    assert (into / "odd").read_bytes() == b"odd" and made.left_out == ["way"]
    root = tmp_path / "root"
    (root / "system").mkdir(parents=True)
    with (root / "system/hole").open("wb") as file:
        file.truncate(MIB)
        file.seek(500_000)
        file.write(b"x")
    (root / "system.json").write_text(json.dumps({"schema": "neogenesis.system/1", "name": "x", "family": "linux"}))
    plain = tmp_path / "plain.tar"
    run("tar", "--sparse", "--format=posix", "-C", root, "-cf", plain, ".")
    data = bytearray(plain.read_bytes())
    place = data.index(b"\n499712\n")
    data[place + 2] = 0xFF
    plain.write_bytes(data)
    with pytest.raises(BadRecord, match="damaged or cut short"):
        lay_out(inspect_system(plain), "system", into, {}, lambda n: None, lambda: None)


def test_what_is_put_there_later_follows_links_as_the_system_would(tmp_path: Path, neogenesis: Any) -> None:
    """Answers and people's files: an image whose folders for them are links cannot send them to this machine."""
    outside = tmp_path / "outside"
    outside.mkdir()
    more = [
        (entry("system/etc", type=tarfile.SYMTYPE, linkname=str(outside)), b""),
        (entry("system/home", type=tarfile.SYMTYPE, linkname="var/home"), b""),
        (entry("system/var/home", type=tarfile.DIRTYPE, mode=0o755), b""),
        (entry("system/locale", type=tarfile.SYMTYPE, linkname="../../../../../../etc"), b""),
    ]
    image = tmp_path / "s.tar.zst"
    system_image(image, more=[one for one in more if one[0].name != "system/etc"], files={"system/etc/motd": b""})
    held = tmp_path / "saved/home/ann"
    held.mkdir(parents=True)
    (held / "letter.txt").write_text("Dear harbour")
    command = ("install", image, "linux-uefi", new_drive(tmp_path, 600), "--confirm", "41F2")
    neogenesis(*command, "--data", tmp_path / "saved")
    found = open_tree_of(tmp_path / "new.img", "linux-uefi")
    assert found["var/home/ann/letter.txt"] == b"Dear harbour" and found["etc/hostname"] == b"bench\n"
    description = {"system/token.txt": b"TOKEN-ONE\n"}
    evil = evil_image(tmp_path / "evil.tar.zst", description, more)
    neogenesis("install", evil, *command[2:], "--data", tmp_path / "saved")
    found = open_tree_of(tmp_path / "new.img", "linux-uefi")
    place = str(outside).strip("/")
    assert not list(outside.iterdir()) and found[f"{place}/hostname"] == b"bench\n"
    circle = [
        (entry("system/etc", type=tarfile.SYMTYPE, linkname="one"), b""),
        (entry("system/one", type=tarfile.SYMTYPE, linkname="etc"), b""),
    ]
    evil_image(evil, description, circle)
    assert "leads in a circle" in neogenesis("install", evil, *command[2:], status=3).stderr


def evil_image(path: Path, files: dict[str, bytes], more: list[tuple[tarfile.TarInfo, bytes]]) -> Path:
    """As `system_image`, without the files of its own that stand in `etc`."""
    plain = system_image(path.with_name("plain.tar.zst"), more=more)
    with (
        tarfile.open(fileobj=io.BytesIO(zstandard.ZstdDecompressor().stream_reader(plain.read_bytes()).read())) as old,
        path.open("wb") as file,
        zstandard.ZstdCompressor().stream_writer(file) as stream,
        tarfile.open(fileobj=stream, mode="w|") as new,
    ):
        for member in old:
            if not member.name.startswith("system/etc/"):
                new.addfile(member, old.extractfile(member) if member.isfile() else None)
    return path


def test_an_archive_as_the_plain_tool_makes_it_of_a_running_system(tmp_path: Path, neogenesis: Any) -> None:
    """Names with colons, backslashes and bytes that are no text, a leading “./”, holes, attributes, devices."""
    plain = system_image(tmp_path / "plain.tar.zst")
    root = tmp_path / "root"
    root.mkdir()
    run("tar", "--zstd", "-xf", plain, "-C", root)
    files = {
        b"lib/systemd/system-cryptsetup\\x2dkeys.slice": b"unit",
        b"share/man/man3/App::Prove.3pm": b"page",
        b"share/caf\xe9": b"latin",
        b'share/quo"te': b"quoted",
        b"share/" + "ünïcode".encode() * 15: b"long",
    }
    for name, data in files.items():
        place = root / "system" / os.fsdecode(name)
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(data)
    with (root / "system/hole").open("wb") as file:
        file.truncate(96 << 20)
        file.seek(50 << 20)
        file.write(b"in the middle")
    os.link(root / "system/hole", root / "system/hard")
    os.mkfifo(root / "system/pipe")
    image = tmp_path / "system.tar.zst"
    run("tar", "--xattrs", "--sparse", "--zstd", "-C", root, "-cf", image, ".")
    drive = new_drive(tmp_path, 400)
    events = tmp_path / "events"
    neogenesis("install", image, "linux-uefi", drive, "--confirm", "41F2", "--events", events)
    assert "Of the image was left out, since the volumes do not hold it: pipe." in events.read_text()
    start = table_of(tmp_path / "new.img")["partitions"][1]["start"] * 512
    found = open_tree_of(tmp_path / "new.img", "linux-uefi", skip=("hole", "hard"))
    assert {n.decode("utf-8", "surrogateescape"): data for n, data in files.items()}.items() <= found.items()
    said = run("debugfs", "-R", "stat /hole", f"{tmp_path / 'new.img'}?offset={start}")
    assert "Links: 2" in said and f"Size: {96 << 20}" in said


def _stops() -> None:
    raise Refused("stop", "stop", "")


# Files that go back to people


def test_salvaged_files_go_back_to_their_people_and_programs_do_not(
    tmp_path: Path, neogenesis: Any, survey_json: Any
) -> None:
    old = tmp_path / "old.img"
    files = nt_files() | {
        "Users/berth/setup.exe": b"MZ" + bytes(100),
        "Users/berth/holiday.jpg": b"MZ hidden program",
        "Users/berth/letters/a.pdf": b"%PDF one",
        "Users/berth/papers.zip": b"PK" + bytes(50),
        "Users/Default/x.txt": b"no",
        "Scans/1999.pdf": b"%PDF two",
    }
    make_drive(old, 400, [Part(300, NT_DATA, "ntfs", "System", files, "Main")])
    neogenesis("salvage", old, tmp_path / "saved", "--volume", "1")
    image = system_image(tmp_path / "system.tar.zst")
    drive = new_drive(tmp_path, 900)
    said = neogenesis(
        "install", image, "linux-uefi-home", drive, "--confirm", "41F2", "--data", tmp_path / "saved"
    ).stdout
    assert "left out: Users/berth/setup.exe" in said and "archive, not looked into: home/berth/papers.zip" in said
    neogenesis("salvage", drive, tmp_path / "out", "--volume", "3")
    back = {p.relative_to(tmp_path / "out").as_posix(): p for p in (tmp_path / "out").rglob("*") if p.is_file()}
    names = {name for name in back if not name.startswith("salvage.json")}
    assert any(n.endswith("berth/letters/a.pdf") for n in names) and any(
        n.endswith("shared/Returned/Scans/1999.pdf") for n in names
    )
    assert not any(n.endswith((".exe", "holiday.jpg", "SYSTEM")) for n in names), names
    zeros = next(p for n, p in back.items() if n.endswith("berth/zeros.bin"))
    assert zeros.stat().st_size == 3_000_000 and not any(zeros.read_bytes())
    report = json.loads(next(tmp_path.glob("*.returned.json")).read_text())
    assert report["schema"] == "neogenesis.returned/1" and len(report["files"]) > 40
    start = table_of(tmp_path / "new.img")["partitions"][2]["start"] * 512
    for name in ("berth", "berth/letters", "berth/letters/a.pdf"):  # a folder of root's could not be written to
        assert "User:  1000" in run("debugfs", "-R", f"stat /{name}", f"{tmp_path / 'new.img'}?offset={start}"), name
    neogenesis("install", image, "linux-uefi", drive, "--confirm", "41F2", "--data", tmp_path / "saved", "--programs")
    stored = next(p for p in (tmp_path / "saved").rglob("a.pdf"))
    stored.write_bytes(b"%PDF changed")
    fault = neogenesis(
        "install", image, "linux-uefi", drive, "--confirm", "41F2", "--data", tmp_path / "saved", status=3
    )
    assert "checksum differs" in fault.stderr
    assert neogenesis(
        "install", image, "linux-uefi", drive, "--confirm", "41F2", "--data", tmp_path / "gone", status=2
    ).stderr
    with (tmp_path / "saved/huge.bin").open("wb") as file:
        file.truncate(2 << 30)
    (tmp_path / "saved/salvage.jsonl").unlink()
    assert (
        "too small"
        in neogenesis(
            "install", image, "linux-uefi", drive, "--confirm", "41F2", "--data", tmp_path / "saved", status=3
        ).stderr
    )


def given(files: dict[str, bytes], family: str, programs: bool = False, kinds: tuple[str, ...] = ()) -> GivingBack:
    held = [Held(stored=path, path=path, size_bytes=len(data)) for path, data in files.items()]
    reading = Reading(lambda one: files[one.stored])
    return give_back(held, reading, Destination(family), BackWish(programs=programs, kinds=kinds))


def test_names_collisions_and_what_belongs_to_the_system() -> None:
    files = {
        "home/ann/a:b?.txt": b"1",
        "Users/ANN/a_b_.txt": b"1",
        "home/ann/con.txt": b"1",
        "home/ann/" + "é" * 200 + ".jpg": b"1",
        "Users/ann/AppData/x/y.txt": b"1",
        "Users/ann/AppData/x/z.txt": b"22",
        "Windows/x.txt": b"1",
        "notes.txt": b"1",
        "pagefile.sys": b"1",
        "home/ann/tool": b"#!/bin/sh",
        "home/ann/mail.mbox": b"1234567",
    }
    found = given(files, "nt")
    places = [f.place for f in found.files]
    assert places[:3] == ["Users/ann/a_b_.txt", "Users/ann/a_b_ (2).txt", "Users/ann/_con.txt"]
    assert len(places[3].rsplit("/", 1)[1].encode()) <= 244 and places[3].endswith(".jpg") and found.files[3].renamed
    assert (
        places[4] == "Users/Public/Returned/notes.txt"
        and len(places) == 6
        and found.kinds()["mail"] == (1, 7)
        and "5 did not" in found.sentence()
    )
    assert {one.path: (one.files, one.size_bytes) for one in found.left_out} == {
        "Users/ann/AppData": (2, 3),
        "Windows": (1, 1),
        "pagefile.sys": (1, 1),
        "home/ann/tool": (1, 9),
    }
    only = given({"home/a/b.txt": b"", "home/a/c.mp3": b""}, "linux", True, ("music",))
    assert [f.place for f in only.files] == ["home/a/c.mp3"] and "not asked for" in only.left_out[0].why
    assert kind_of_file("x.JPG") == "pictures" and kind_of_file("x.jpg", b"MZ") == "programs"
    gone = give_back([Held(stored="a", path="home/a/b", size_bytes=1)], Reading(lambda _: None), Destination("nt"))
    assert not gone.files and "cannot be read" in gone.left_out[0].why


def test_of_two_for_one_place_both_return_or_the_newer() -> None:
    times = {
        "Users/ann/a.txt": 5.0,
        "home/ANN/A.TXT": 9.0,
        "Documents and Settings/ann/a.txt": 7.0,
        "home/ann/b.txt": 1.0,
    }
    held = [Held(stored=path, path=path, size_bytes=1, modified_s=when) for path, when in times.items()]
    nothing, nt = Reading(lambda _: b""), Destination("nt")
    both = give_back(held, nothing, nt)
    assert [f.place for f in both.files] == [
        "Users/ann/a.txt",
        "Users/ann/A (2).TXT",
        "Users/ann/a (3).txt",
        "Users/ann/b.txt",
    ]
    assert returnable(both).doubles == 2
    for order in (held, held[::-1]):
        newer = give_back(order, nothing, nt, BackWish(same="newer"))
        assert {f.stored for f in newer.files} == {"home/ANN/A.TXT", "home/ann/b.txt"}
        assert {one.path for one in newer.left_out} == {"Users/ann/a.txt", "Documents and Settings/ann/a.txt"}
        assert all("newer file of the same name" in one.why for one in newer.left_out)
    undated = [Held(stored=p, path=p, size_bytes=1) for p in ("Users/ann/a.txt", "home/ann/a.txt")]
    kept = give_back(undated, nothing, nt, BackWish(same="newer"))
    assert [f.stored for f in kept.files] == ["Users/ann/a.txt"], "the first, where nothing is known of either"


def test_of_what_programs_keep_open_formats_return(tmp_path: Path) -> None:
    """Mail boxes, addresses and bookmarks, by what stands in them; the rest stays out, and is counted."""
    returns = {
        "Users/ann/AppData/Roaming/Post/Inbox": b"From ann@example.org Mon\nSubject: hello",
        "Users/ann/AppData/Roaming/Post/friends": b"\xef\xbb\xbfBEGIN:VCARD\nFN:Ann",
        "home/berth/.post/new/7.eml": b"Return-Path: <berth@example.org>",
        "Users/ann/AppData/Local/Looker/Bookmarks": b'{\n   "checksum": "1",\n   "roots": {}}',
        "Users/ann/AppData/Local/Looker/marks": b"<!DOCTYPE NETSCAPE-Bookmark-file-1>",
        "home/berth/.looker/places.sqlite": b"SQLite format 3\0" + bytes(80),
    }
    stays = {
        "Users/ann/AppData/Local/Looker/History": b"SQLite format 3\0",
        "Users/ann/AppData/Roaming/Post/prefs.js": b"user_pref",
        "Users/ann/NTUSER.DAT": b"regf",
        "home/berth/.profile": b"curl example.org | sh",
        "home/berth/.config/autostart/x.desktop": b"[Desktop Entry]",
    }
    found = given({**returns, **stays}, "nt")
    assert [f.place for f in found.files] == [
        "Users/ann/Returned/Mail/AppData/Roaming/Post/Inbox",
        "Users/ann/Returned/Calendars and addresses/AppData/Roaming/Post/friends",
        "Users/berth/Returned/Mail/.post/new/7.eml",
        "Users/ann/Returned/Bookmarks/AppData/Local/Looker/Bookmarks",
        "Users/ann/Returned/Bookmarks/AppData/Local/Looker/marks",
        "Users/berth/Returned/Bookmarks/.looker/places.sqlite",
    ]
    assert [f.kind for f in found.files] == ["mail"] * 3 + ["other"] * 3 and all(f.renamed for f in found.files)
    assert sum(one.files for one in found.left_out) == len(stays)
    assert {"Users/ann/AppData", "home/berth/.config"} <= {one.path for one in found.left_out}


@given_of(
    st.dictionaries(
        st.lists(
            st.text(st.characters(exclude_characters="/\\\0"), min_size=1, max_size=9), min_size=1, max_size=5
        ).map(lambda parts: "/".join(["Users", "ann", *parts])),
        st.binary(max_size=20),
        max_size=12,
    ),
    st.sampled_from(["nt", "linux"]),
    st.booleans(),
)
def test_every_file_returns_once_or_is_counted(files: dict[str, bytes], family: str, programs: bool) -> None:
    """Whatever the names: places differ in more than their letters, and nothing is forgotten or leads elsewhere."""
    found = given(files, family, programs)
    places = [f.place for f in found.files]
    assert len({p.casefold() for p in places}) == len(places)
    assert len(places) + sum(one.files for one in found.left_out) == len(files)
    assert all(p.split("/")[0] in ("Users", "home") and ".." not in p.split("/") for p in places)
    assert from_json(to_json(found), GivingBack, "what returned") == found
    choice = returnable(given(files, family, True))
    assert choice.chosen((), True).files == choice.files == sum(n.files for n in choice.kinds.values())
    assert choice.chosen((), programs).room_bytes == found.room_bytes


@pytest.mark.parametrize("family", ["linux", "nt"])
def test_files_return_from_the_old_drive_or_its_image_itself(family: str, tmp_path: Path, neogenesis: Any) -> None:
    old = simulated(tmp_path / "old.drive.json", "old.img", model="Halden 500", serial="HD5-77129K3D", clock="virtual")
    people = {
        "Users/berth/letters/a.pdf": b"%PDF one" * 900,
        "Users/berth/song.mp3": b"ID3",
        "Users/berth/x.exe": b"MZ",
    }
    parts = [
        Part(300, NT_DATA, "ntfs", "System", nt_files() | people, "Main"),
        Part(40, LINUX, "luks", name="Locked"),
        Part(20, SWAP, "swap", name="Swap"),
    ]
    make_drive(tmp_path / "old.img", 400, parts)
    before = data_hash(tmp_path / "old.img")
    image = system_image(tmp_path / "system.tar.zst", family=family)
    drive = new_drive(tmp_path, 900)
    recipe = "linux-uefi" if family == "linux" else "nt-uefi"
    command = ("install", image, recipe, drive, "--confirm", "41F2")
    said = neogenesis(*command, "--data", old, "--kinds", "documents,music").stdout
    assert (
        "left out: Windows. It belongs" in said
        and "left out: Users/berth/x.exe" in said
        and "which was not asked for" in said
    )
    assert "left out: Locked (partition 2): it is encrypted." in said and "Swap (partition" not in said
    found = open_tree_of(tmp_path / "new.img", recipe)
    home = "home" if family == "linux" else "Users"
    assert found[f"{home}/berth/letters/a.pdf"] == people["Users/berth/letters/a.pdf"]
    assert f"{home}/berth/song.mp3" in found and not any(name.endswith((".exe", "zeros.bin")) for name in found)
    assert data_hash(tmp_path / "old.img") == before
    assert "made anew itself" in neogenesis(*command, "--data", drive, status=2).stderr
    assert "no kind of files" in neogenesis(*command, "--data", old, "--kinds", "money", status=2).stderr
    assert "Say from where" in neogenesis(*command, "--kinds", "music", status=2).stderr
    assert "--same" in neogenesis(*command, "--data", old, "--same", "older", status=2).stderr
    assert "nothing would go back" in neogenesis(*command, "--data", old, "--kinds", "films", status=2).stderr
    assert "nothing would go back" in neogenesis(*command, "--data", image, status=2).stderr, "no drive, no files"
    # Another drive by the same name, and one that is failing or cannot be read whole.
    plan = next(tmp_path.glob("install-*.plan.json"))
    text = json.loads(old.read_text())
    blank(tmp_path / "new.img", 900)
    other = text | {"serial": "HD5-OTHER", "model": "Halden 501"}
    old.write_text(json.dumps(other))
    assert "is not the drive that people" in neogenesis("transfer", plan, "--confirm", "41F2", status=3).stderr
    worn = {"reallocated_sectors": 80, "pending_sectors": 16}
    old.write_text(json.dumps(text | {"health": worn}))
    assert "Salvage it" in neogenesis(*command, "--data", old, status=3).stderr
    place = (tmp_path / "old.img").read_bytes().index(b"%PDF one%PDF") // 512 * 512
    old.write_text(json.dumps(text | {"read": {"unreadable": [[place, place + 512]]}}))
    assert "cannot be read whole" in neogenesis(*command, "--data", old, status=3).stderr


def test_a_folder_of_files_is_read_without_following_links(tmp_path: Path) -> None:
    folder = tmp_path / "files"
    (folder / "home/ann").mkdir(parents=True)
    (folder / "home/ann/a.txt").write_text("a")
    (folder / "home/ann/b.txt").symlink_to("/etc/passwd")
    (folder / "home/link").symlink_to("/etc")
    found, drive = look_through(folder, Destination("linux"))
    assert not drive
    assert [f.place for f in found.files] == ["home/ann/a.txt"]
    for name in ("home/link/passwd", "home/ann/b.txt", "../x", "home/ann"):
        with pytest.raises(OSError):
            open_beneath(folder, name).close()
    (folder / "salvage.jsonl").write_text("{ torn\n")
    with pytest.raises(BadRecord, match="damaged"):
        look_through(folder, Destination("linux"))


# The NT family's own image format


def test_the_nt_family_s_own_image_is_put_onto_its_volume_and_starts(tmp_path: Path, neogenesis: Any) -> None:
    held = tmp_path / "held"
    manager, settings = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}", "{6efb52bf-1766-41db-a6b3-0ee5eff72bd7}"
    template = make_hive(
        tmp_path / "template",
        {
            f"Objects\\{manager}\\Elements\\25000004": {"Element": (30).to_bytes(8, "little")},
            f"Objects\\{settings}\\Description": {"Type": 0x20200003},
        },
    )
    for name, data in {
        "Windows/Boot/EFI/bootmgfw.efi": loader(BY_FILE).replace(b"mimg", bytes(4)),
        "Windows/Boot/Fonts/plain.ttf": b"letters",
        "Windows/System32/config/BCD-Template": template,
        "Windows/System32/winload.efi": b"winload" * 500,
        "Windows/Boot/EFI/de-DE/words.mui": b"mui",
        "token.txt": b"TOKEN-ONE\n" * 100,
        "Users/berth/zeros.bin": bytes(5_000_000),
    }.items():
        (held / name).parent.mkdir(parents=True, exist_ok=True)
        (held / name).write_bytes(data)
    wim = tmp_path / "system.wim"
    (tmp_path / "words").write_bytes(b"no store " * 1000)
    run("wimlib-imagex", "capture", held, wim, "Meridian Desktop", "--compress=LZX")
    drive = new_drive(tmp_path, 900)
    said = neogenesis("install", wim, "nt-uefi", drive, "--confirm", "41F2")
    assert "Meridian Desktop" in said.stdout and "Makes" not in said.stderr and "It would start." in said.stdout
    chain = forecast_drives([str(drive)], None).chain
    assert [(link.step, link.partition) for link in chain][-2:] == [("store", 1), ("system", 3)]
    assert "Meridian Desktop" in chain[-2].text and not remedies_of([str(drive)], None).remedies
    neogenesis("salvage", drive, tmp_path / "out", "--volume", "3")
    back = {p.name: p for p in (tmp_path / "out").rglob("*") if p.is_file()}
    assert back["zeros.bin"].stat().st_size == 5_000_000 and "ComputerName" in back["unattend.xml"].read_text()
    assert run_trial(Trial([str(drive)], None, False, "TOKEN-ONE", 60)).seen == "TOKEN-ONE"
    assert "NTFS" in neogenesis("install", wim, "linux-uefi", drive, "--confirm", "41F2", status=3).stderr
    run("wimlib-imagex", "update", wim, "--command", f"add {tmp_path / 'words'} /Windows/System32/config/BCD-Template")
    assert "boot store" in neogenesis("install", wim, "nt-uefi", drive, "--confirm", "41F2", status=3).stderr
    wim.write_bytes(wim.read_bytes()[:-4000])
    assert "damaged or cut short" in neogenesis("install", wim, "nt-uefi", drive, "--confirm", "41F2", status=3).stderr


@pytest.mark.parametrize("old", ["ext4", "btrfs", "swap", "ntfs"])
def test_what_announced_an_old_volume_is_gone_from_partitions_without_one(
    old: str, tmp_path: Path, neogenesis: Any
) -> None:
    """On a drive that held volumes exactly where the recipe's empty partitions come to lie."""
    new = blank(tmp_path / "new.img", 700)
    neogenesis("recipe", "nt-uefi", new, "--confirm", "new")
    places = spans(new)
    volume = tmp_path / "volume"
    for start, size in places:
        make_volume(volume, Part(1, "", old, "Old"), max(size, 110 << 20) if old == "btrfs" else size)
        with new.open("r+b") as file, volume.open("rb") as held:
            file.seek(start)
            for _ in range(size >> 20):
                file.write(held.read(1 << 20))
    neogenesis("recipe", "nt-uefi", new, "--confirm", "new")
    kinds = [
        subprocess.run(
            ["blkid", "-p", "-O", str(start), "-S", str(size), "-o", "value", "-s", "TYPE", str(new)],
            capture_output=True,
            text=True,
            check=False,
        ).stdout.strip()
        for start, size in places
    ]
    assert kinds == ["vfat", "", "ntfs", "ntfs"], kinds


@pytest.mark.parametrize("kind", ["gnu", "ustar", "v7", "oldgnu", "posix"])
def test_headers_are_read_as_the_library_reads_them(kind: str, tmp_path: Path) -> None:
    """In every way in which archivers write them; what is not ordinary is left to the library."""
    top = tmp_path / "top"
    (top / "folder/deep" / ("n" * 60) / ("m" * 50)).mkdir(parents=True)
    (top / "folder/plain.txt").write_bytes(b"words" * 900)
    (top / "folder/deep" / ("n" * 60) / ("m" * 50) / "far").write_bytes(b"far")
    (top / "grüße").write_bytes(b"")
    (top / "link").symlink_to("folder/plain.txt")
    os.link(top / "folder/plain.txt", top / "second")
    os.utime(top / "grüße", (-5, -5)) if kind in ("posix", "gnu") else None
    archive = tmp_path / "a.tar"
    run("tar", f"--format={kind}", "-C", tmp_path, "-cf", archive, "top", ok=(0, 1, 2))
    with tarfile.open(archive) as plain, tarfile.open(archive, tarinfo=_Member) as ours:
        pairs = list(zip(plain, ours, strict=True))
    assert len(pairs) >= 7
    for one, other in pairs:
        for what in ("name", "mode", "uid", "gid", "size", "mtime", "type", "linkname", "pax_headers", "offset_data"):
            assert getattr(one, what) == getattr(other, what), (one.name, what)
    data = bytearray(archive.read_bytes())
    data[150] ^= 1
    archive.write_bytes(data)
    with pytest.raises(tarfile.ReadError):
        tarfile.open(archive, tarinfo=_Member).close()
