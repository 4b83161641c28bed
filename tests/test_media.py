"""Installer images looked into, sticks written both ways and started, sticks that lie, and images that are not what they say."""

from __future__ import annotations

import bz2
import gzip
import hashlib
import io
import json
import lzma
import os
import random
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pycdlib
import pytest
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from neogenesis.bench.drives import Connected
from neogenesis.bench.emulator import Trial, run_trial
from neogenesis.bench.inside.discs import inspect_image
from neogenesis.bench.register import Consent
from neogenesis.bench.works import media
from neogenesis.core.drive import Drive
from neogenesis.core.errors import Mismatch, NeogenesisError
from neogenesis.core.machine import Machine
from neogenesis.core.media import listed_checksum, notes_for, probe_full, probe_quick
from neogenesis.core.store import MemoryStore
from tests.boots import BY_FILE, drive, loader
from tests.discs import LEGACY, disc, efi_image, installer_files
from tests.drives import blank, data_of, run, same_bytes, simulated, spans


@pytest.fixture(autouse=True)
def here(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)


@pytest.fixture(scope="module")
def discs(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("discs")
    efi = efi_image(folder)
    disc(folder / "files.iso", installer_files())
    disc(folder / "both.iso", installer_files(), uefi=efi, legacy=LEGACY, hybrid=True)
    shutil.copy(folder / "both.iso", folder / "coded.iso")
    with (folder / "coded.iso").open("r+b") as file:
        file.write(b"\xfa\xeb\xfe")
    disc(folder / "udf.iso", installer_files(), udf=True, uefi=efi)
    disc(folder / "data.iso", {"only.txt": b"words"})
    drive(folder / "raw.img", "TOKEN-ONE", {"EFI/BOOT/BOOTX64.EFI": loader(BY_FILE)})
    return folder


def stick(folder: Path, mib: int, name: str = "stick", **traits: Any) -> Path:
    blank(folder / f"{name}.img", mib)
    return simulated(
        folder / f"{name}.drive.json",
        f"{name}.img",
        model="Ostrel Stick",
        serial="OS-000077C1",
        bus="usb-sata",
        **traits,
    )


@pytest.mark.parametrize(
    ("name", "kind", "starts", "hybrid", "files"),
    [
        ("files.iso", "disc", ("uefi",), False, 4),
        ("both.iso", "disc", ("uefi",), True, 4),  # without code in its first sector
        ("coded.iso", "disc", ("uefi", "legacy"), True, 4),
        ("udf.iso", "disc", ("uefi",), False, 4),
        ("data.iso", "disc", (), False, 1),
        ("raw.img", "drive", ("uefi",), True, 0),
    ],
)
def test_what_an_image_is(
    name: str, kind: str, starts: tuple[str, ...], hybrid: bool, files: int, discs: Path, neogenesis: Any
) -> None:
    found = json.loads(neogenesis("media", discs / name, "--json").stdout)
    assert (found["kind"], tuple(found["starts"]), found["hybrid"], found["files"]) == (kind, starts, hybrid, files)
    assert found["architectures"] == (["x86_64"] if starts else [])
    if files == 4:
        assert found["label"] == "FATHOM_7" and found["largest_file"].endswith(("BOOTX64.EFI", "package one.deb"))
    assert found["checksum"] == "none" and any("No checksum" in n for n in found["notes"])


def test_a_stick_sector_for_sector_is_the_image_and_starts(discs: Path, tmp_path: Path, neogenesis: Any) -> None:
    target = stick(tmp_path, 120)
    done = neogenesis("media", discs / "raw.img", target, "--confirm", "77c1")
    assert "safe to pull out" in done.stdout
    assert same_bytes(discs / "raw.img", tmp_path / "stick.img", (discs / "raw.img").stat().st_size)
    assert run_trial(Trial([str(target)], expect="TOKEN-ONE", seconds=60)).seen == "TOKEN-ONE"
    neogenesis("media", discs / "both.iso", target, "--confirm", "77C1")
    assert same_bytes(discs / "both.iso", tmp_path / "stick.img", (discs / "both.iso").stat().st_size)


@pytest.mark.parametrize("name", ["files.iso", "udf.iso"])
def test_a_stick_with_the_files_starts(
    name: str, discs: Path, tmp_path: Path, neogenesis: Any, survey_json: Any
) -> None:
    target = stick(tmp_path, 200)
    neogenesis(
        "media", discs / name, target, "--confirm", "77C1", "--layout", "fitting" if name == "files.iso" else "files"
    )
    [part] = survey_json(target)["partitions"]
    assert part["volume"]["kind"] == "vfat" and part["bootable"]
    neogenesis("salvage", target, tmp_path / "out", "--volume", "1")
    held = {p.name: p.read_bytes() for p in (tmp_path / "out").rglob("*") if p.is_file()}
    for path, data in installer_files().items():
        assert held[path.rsplit("/", 1)[-1]] == data
    trial = run_trial(Trial([str(target)], expect="TOKEN-ONE", seconds=60))
    assert trial.seen == "TOKEN-ONE", trial.serial


def test_what_is_known_to_nobody_is_written_as_it_is(tmp_path: Path, neogenesis: Any) -> None:
    blob = tmp_path / "blob.bin"
    blob.write_bytes(os.urandom(5_000_192))
    target = stick(tmp_path, 20)
    said = neogenesis("media", blob, target, "--confirm", "77C1", "--layout", "sectors").stdout
    assert "written as it is" in said and (tmp_path / "stick.img").read_bytes()[:5_000_192] == blob.read_bytes()
    blob.write_bytes(os.urandom(70_000))
    neogenesis("media", blob, target, "--confirm", "77C1")
    assert (tmp_path / "stick.img").read_bytes()[:69_632] == blob.read_bytes()[:69_632]


def test_several_sticks_at_once(discs: Path, tmp_path: Path, neogenesis: Any) -> None:
    targets = []
    for n in range(3):
        blank(tmp_path / f"s{n}.img", 80)
        targets.append(simulated(tmp_path / f"s{n}.drive.json", f"s{n}.img", serial=f"OS-0000000{n}"))
    tails = [t for n in range(3) for t in ("--confirm", f"000{n}")]
    neogenesis("media", discs / "raw.img", *targets, *tails)
    assert all(same_bytes(discs / "raw.img", tmp_path / f"s{n}.img", 50 << 20) for n in range(3))


@pytest.mark.parametrize(
    ("end", "pack"),
    [("gz", gzip.compress), ("xz", lzma.compress), ("bz2", bz2.compress), ("zst", zstandard.compress)],
)
def test_packed_images(end: str, pack: Any, discs: Path, tmp_path: Path, neogenesis: Any) -> None:
    packed = tmp_path / f"raw.img.{end}"
    packed.write_bytes(pack((discs / "raw.img").read_bytes()))
    assert json.loads(neogenesis("media", packed, "--json").stdout)["packed"] == end
    target = stick(tmp_path, 60)
    if end in ("gz", "zst"):  # the others are unpacked in the same way
        neogenesis("media", packed, target, "--confirm", "77C1")
        assert same_bytes(discs / "raw.img", tmp_path / "stick.img", 50 << 20)
    packed.write_bytes(packed.read_bytes()[:-2000])
    assert "cut short" in neogenesis("media", packed, target, "--confirm", "77C1", status=3).stderr


def test_what_is_refused_before_anything_is_written(discs: Path, tmp_path: Path, neogenesis: Any) -> None:
    target = stick(tmp_path, 30)
    whole = (discs / "both.iso").read_bytes()
    (tmp_path / "cut.iso").write_bytes(whole[: len(whole) * 2 // 3])
    (tmp_path / "cut.img").write_bytes((discs / "raw.img").read_bytes()[: 30 << 20])
    (tmp_path / "words.iso").write_bytes(b"words " * 20_000)
    (tmp_path / "empty.iso").write_bytes(b"")
    (tmp_path / "sum.iso").write_bytes(whole)
    (tmp_path / "sum.iso.sha256").write_text(f"{'0' * 64}  sum.iso\n")
    arm = tmp_path / "arm.json"
    arm.write_text(
        json.dumps({"schema": "neogenesis.machine/1", "make": "Petrel", "model": "Slate", "architecture": "arm64"})
    )
    old = tmp_path / "old.json"
    old.write_text(
        json.dumps({"schema": "neogenesis.machine/1", "make": "Petrel", "model": "Old", "firmware": "legacy"})
    )
    confirm = ("--confirm", "77C1")
    for arguments, status, says in (
        ((tmp_path / "cut.iso", target, *confirm), 3, "cut short"),
        ((tmp_path / "cut.img", target, *confirm), 3, ""),
        ((tmp_path / "words.iso", target, *confirm, "--layout", "files"), 3, "--layout sectors"),
        ((tmp_path / "empty.iso", target, *confirm), 3, ""),
        ((tmp_path / "sum.iso", target, *confirm), 3, "is not what sum.iso.sha256 says"),
        ((tmp_path / "gone.iso", target, *confirm), 2, "cannot be read"),
        ((discs / "raw.img", target, *confirm), 3, "too small"),
        ((discs / "both.iso", target, "--confirm", "0000"), 3, "not how the new drive ends"),
        ((discs / "both.iso", target), 2, "--confirm"),
        ((discs / "both.iso", target, *confirm, "--machine", arm), 3, "will not start there"),
        ((discs / "files.iso", target, *confirm, "--machine", old), 3, "will not start there"),
        ((discs / "data.iso", target, *confirm, "--layout", "files"), 3, "no loader"),
        ((discs / "raw.img", target, *confirm, "--layout", "files"), 3, "--layout sectors"),
    ):
        assert says in neogenesis("media", *arguments, status=status).stderr, arguments
    assert (tmp_path / "stick.img").stat().st_blocks == 0


def test_a_stick_that_is_pulled_while_it_is_written(discs: Path, tmp_path: Path, neogenesis: Any) -> None:
    target = stick(tmp_path, 120, write={"fails_after_bytes": 2_000_000})
    said = neogenesis("media", discs / "both.iso", target, "--confirm", "77C1", status=6)
    assert "no longer" in said.stderr
    stick(tmp_path, 120)
    neogenesis("media", discs / "both.iso", target, "--confirm", "77C1")


def test_checksum_files(discs: Path, tmp_path: Path) -> None:
    image = tmp_path / "one.iso"
    image.write_bytes((discs / "data.iso").read_bytes())
    good = hashlib.sha256(image.read_bytes()).hexdigest()
    (tmp_path / "SHA256SUMS").write_text(f"{'1' * 64}  other.iso\n")
    assert inspect_image(image).checksum == "other"
    (tmp_path / "SHA256SUMS").write_text(f"{'1' * 64}  other.iso\n{good} *one.iso\n")
    (tmp_path / "one.iso.asc").write_text("signed")
    found = inspect_image(image)
    assert (found.checksum, found.checksum_file, found.signature_file) == ("matched", "SHA256SUMS", "one.iso.asc")
    (tmp_path / "one.iso.sha256").write_text("f" * 64)
    assert inspect_image(image).checksum == "mismatch"
    tagged, holds = listed_checksum(f"SHA256 (./x/one.iso) = {good}\nMD5 (one.iso) = {'a' * 32}", "one.iso", False)
    assert holds and tagged is not None and (tagged.algorithm, tagged.digest) == ("sha256", good)


@given(st.binary(max_size=300))
def test_any_checksum_file_is_read(data: bytes) -> None:
    listed_checksum(data.decode("latin-1"), "one.iso", True)


def test_damaged_discs_are_said_and_never_crash(discs: Path, tmp_path: Path) -> None:
    whole = (discs / "files.iso").read_bytes()
    for n in range(60):
        torn = bytearray(whole)
        for place in range(0x8000 + n * 37, 0x8000 + n * 37 + 4096, 401):
            torn[place] ^= 0x5A + n
        path = tmp_path / "torn.iso"
        path.write_bytes(torn)
        try:
            found = inspect_image(path, check_sum=False)
        except NeogenesisError as error:
            assert error.text
        else:
            assert found.files >= 0


def test_what_it_will_not_do_on_a_machine(discs: Path) -> None:
    found = inspect_image(discs / "files.iso")
    machine = Machine(
        schema=Machine.SCHEMA, make="Petrel", model="14", architecture="x86_64", firmware="uefi", secure_start=True
    )
    assert any("signed loader" in n for n in notes_for(found, machine))
    assert (
        media.fitting_layout(found) == "files" and media.fitting_layout(inspect_image(discs / "both.iso")) == "sectors"
    )


def test_the_smallest_stick_that_is_large_enough() -> None:
    def connected(name: str, gb: int, removable: bool = True, in_use: str = "") -> Connected:
        drive = Drive(path=name, size_bytes=gb * 10**9, sector_size=512, bus="usb")
        return Connected(drive=drive, removable=removable, in_use=in_use)

    some = [
        connected("a", 64),
        connected("b", 8),
        connected("c", 2),
        connected("d", 16, False),
        connected("e", 4, in_use="/"),
    ]
    assert [c.drive.path for c in media.suitable_sticks(3 * 10**9, some)] == ["b", "a"]


def rock_ridge(path: Path, files: dict[str, bytes], links: dict[str, str]) -> Path:
    """A disc as installers of Linux have them: long names, and links."""
    made = pycdlib.PyCdlib()
    made.new(interchange_level=3, rock_ridge="1.09", vol_ident="LINUX")
    plain: dict[str, str] = {"": ""}

    def folder(name: str) -> str:
        if name not in plain:
            above = folder(name.rpartition("/")[0])
            plain[name] = f"{above}/D{len(plain)}"
            made.add_directory(plain[name], rr_name=name.rpartition("/")[2])
        return plain[name]

    for n, (name, data) in enumerate(files.items()):
        above, _, own = name.rpartition("/")
        made.add_fp(io.BytesIO(data), len(data), f"{folder(above)}/F{n}.;1", rr_name=own)
    for n, (name, target) in enumerate(links.items()):
        above, _, own = name.rpartition("/")
        made.add_symlink(f"{folder(above)}/L{n}.;1", own, target)
    made.write(str(path))
    made.close()
    return path


def test_links_are_on_a_stick_as_copies(tmp_path: Path, neogenesis: Any) -> None:
    files = installer_files() | {"dists/bookworm/Release": b"R", "boot/vmlinuz-6.1": b"K" * 5000}
    links = {
        "dists/stable": "bookworm",
        "boot/vmlinuz": "vmlinuz-6.1",
        "vmlinuz": "boot/vmlinuz",
        "linux": ".",
        "dists/up": "..",
        "gone": "nowhere",
        "loop": "loop",
        "over": "dists/stable/Release",
    }
    image = rock_ridge(tmp_path / "l.iso", files, links)
    target = stick(tmp_path, 100)
    neogenesis("media", image, target, "--confirm", "77C1", "--layout", "files")
    neogenesis("salvage", target, tmp_path / "out", "--volume", "1")
    top = next(p for p in (tmp_path / "out").iterdir() if p.is_dir())
    held = {p.relative_to(top).as_posix(): p.read_bytes() for p in top.rglob("*") if p.is_file()}
    copies = {"dists/stable/Release": b"R", "boot/vmlinuz": b"K" * 5000, "vmlinuz": b"K" * 5000, "over": b"R"}
    assert held == files | copies


@pytest.mark.parametrize(
    ("files", "says"),
    [
        ({"pool/a:1.deb": b"colon"}, "“pool/a:1.deb” cannot have that name on FAT"),
        ({"pool/Readme": b"1", "pool/README": b"2", "pool/b ": b"3"}, "and 1 more cannot have that name"),
    ],
)
def test_names_that_a_stick_cannot_hold_are_refused_by_name(
    files: dict[str, bytes], says: str, tmp_path: Path, neogenesis: Any
) -> None:
    image = rock_ridge(tmp_path / "l.iso", installer_files() | files, {})
    target = stick(tmp_path, 100)
    assert says in neogenesis("media", image, target, "--confirm", "77C1", "--layout", "files", status=3).stderr
    assert (tmp_path / "stick.img").stat().st_blocks == 0


def test_a_record_that_lies_about_its_file_is_found(tmp_path: Path, neogenesis: Any) -> None:
    image = rock_ridge(tmp_path / "l.iso", installer_files(), {})
    data = bytearray(image.read_bytes())
    at = data.index(b"F3.;1") - 33  # token.txt, the last one
    data[at + 10 : at + 18] = (0xF0000000).to_bytes(4, "little") + (0xF0000000).to_bytes(4, "big")
    image.write_bytes(data)
    said = neogenesis("media", image, stick(tmp_path, 100), "--confirm", "77C1", "--layout", "files", status=3).stderr
    assert "“token.txt” reaches beyond the end of the disc image" in said


def test_what_would_start_is_judged_by_what_will_stand_on_the_stick(
    discs: Path, tmp_path: Path, neogenesis: Any
) -> None:
    """By the code of the first sector, by programs that are some, for the machine that is named; before anything is
    written, and before a stick's size is tested.
    """
    legacy = tmp_path / "old.json"
    old = {"schema": "neogenesis.machine/1", "make": "Petrel", "model": "Old", "firmware": "legacy"}
    legacy.write_text(json.dumps(old))
    uefi = tmp_path / "new.json"
    uefi.write_text(json.dumps(old | {"firmware": "uefi"}))
    words, other = tmp_path / "words.iso", tmp_path / "other.iso"
    disc(words, {"EFI/BOOT/BOOTX64.EFI": b"no program at all"})
    disc(other, {"EFI/BOOT/BOOTAA64.EFI": loader(BY_FILE)})
    for path in (words, other):
        found = json.loads(neogenesis("media", path, "--json").stdout)
        assert found["starts"] == [] and not found["files_start"] and found["has_loader"], path
        assert any("no program that firmware would start" in note for note in found["notes"])
    target = stick(tmp_path, 120)
    confirm = ("--confirm", "77C1", "--check-size", "quick")
    for arguments in (
        (discs / "both.iso", target, *confirm, "--machine", legacy),
        (discs / "udf.iso", target, *confirm, "--layout", "fitting", "--machine", legacy),
        (discs / "data.iso", target, *confirm, "--machine", legacy),
        (words, target, *confirm, "--layout", "files", "--machine", uefi),
        (discs / "raw.img", stick(tmp_path, 20, "small"), *confirm),
    ):
        neogenesis("media", *arguments, status=3)
    assert (tmp_path / "stick.img").stat().st_blocks == (tmp_path / "small.img").stat().st_blocks == 0
    said = json.loads(neogenesis("media", discs / "coded.iso", target, *confirm, "--machine", legacy, "--json").stdout)
    assert said["starts"] == ["uefi", "legacy"] and said["probes"][0]["honest"]
    assert said["probes"][0]["real_bytes"] == 120 << 20 and said["probes"][0]["confidence"] > 0.99


@pytest.mark.parametrize("name", ["raw.img", "files.iso"])
def test_a_stick_is_tried_in_an_emulated_machine(name: str, discs: Path, tmp_path: Path, neogenesis: Any) -> None:
    target = stick(tmp_path, 120)
    order = (target, "--confirm", "77C1", "--layout", "fitting", "--try")
    assert "an emulated machine started it by uefi" in neogenesis("media", discs / name, *order).stdout


def test_a_stick_that_starts_nothing_is_said_to(discs: Path, tmp_path: Path, neogenesis: Any) -> None:
    target = stick(tmp_path, 120)
    order = (discs / "data.iso", target, "--confirm", "77C1", "--try")
    assert "did not start it by legacy" in neogenesis("media", *order, status=4).stderr


@pytest.mark.parametrize("when", ["fill", "copy"])
def test_a_packed_image_as_files_is_gone_on_with(when: str, discs: Path, tmp_path: Path, neogenesis: Any) -> None:
    """Killed while it was filled or written; what was unpacked then is swept."""
    packed = tmp_path / "files.iso.zst"
    image = disc(tmp_path / "files.iso", installer_files() | {"big.bin": os.urandom(60 << 20)})
    packed.write_bytes(zstandard.compress(image.read_bytes()))
    target = stick(tmp_path, 200, write={"bytes_per_s": 4e7}) if when == "copy" else stick(tmp_path, 200)
    order = ["media", packed, target, "--confirm", "77C1", "--layout", "files", "-o", tmp_path / "p.plan.json"]
    command = [sys.executable, "-m", "neogenesis", *map(str, order), "--events", "-"]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    for line in process.stdout:
        if f'"phase":"{when}"' in line:
            break
    process.kill()
    process.stdout.close()
    process.wait()
    stick(tmp_path, 200)
    neogenesis(*order, "--resume")
    assert not list(tmp_path.glob(".neogenesis-*")), "what was left is swept"
    assert run_trial(Trial([str(target)], expect="TOKEN-ONE", seconds=60)).seen == "TOKEN-ONE"


# Sticks that lie


class Lying(MemoryStore):
    """Says `claimed`, holds `real`, and wraps or drops what lies beyond."""

    def __init__(self, claimed: int, real: int, wraps: bool) -> None:
        super().__init__(real)
        self.size_bytes, self._real, self._wraps = claimed, real, wraps

    def _at(self, offset: int) -> int | None:
        return offset % self._real if self._wraps else offset if offset < self._real else None

    def write(self, offset: int, data: bytes | memoryview) -> None:
        at = self._at(offset)
        if at is not None:
            self.data[at : at + len(data)] = data

    def read_into(self, offset: int, buffer: memoryview) -> None:
        at = self._at(offset)
        buffer[:] = bytes(len(buffer)) if at is None else self.data[at : at + len(buffer)]


@pytest.mark.parametrize("wraps", [True, False])
@pytest.mark.parametrize("real_mib", [8, 16, 32, 48, 60])
def test_a_stick_that_lies_is_found(wraps: bool, real_mib: int) -> None:
    honest = probe_quick(MemoryStore(64 << 20), 1)
    assert honest.honest and honest.real_bytes == 64 << 20 and honest.confidence > 0.99
    full = probe_full(Lying(64 << 20, real_mib << 20, wraps), 3)
    assert not full.honest and full.real_bytes <= real_mib << 20
    quick = probe_quick(Lying(64 << 20, real_mib << 20, wraps), 2)
    assert not quick.honest and quick.real_bytes <= 64 << 20
    assert probe_full(MemoryStore(9 << 20), 1).honest


@settings(max_examples=25, deadline=None)
@given(st.integers(1200, 16_000), st.integers(0, 5))
def test_whatever_the_size_at_which_it_wraps_it_is_told(real_pieces: int, seed: int) -> None:
    real = real_pieces * 4096
    found = probe_quick(Lying(64 << 20, real, True), seed)
    assert not found.honest and found.real_bytes == real


def test_one_that_wraps_only_in_its_upper_half_is_found() -> None:
    class Upper(Lying):
        def _at(self, offset: int) -> int | None:
            return offset if offset < 32 << 20 else (16 << 20) + (offset - (32 << 20)) % (16 << 20)

    assert not probe_quick(Upper(64 << 20, 64 << 20, True), 1).honest


class Fake(Lying):
    """Lies in one of four ways beyond its real size: addresses wrap, zeros come back, one block repeats, writes drop."""

    def __init__(self, claimed: int, real: int, way: str) -> None:
        super().__init__(claimed, real, way == "wraps")
        self._way = way

    def read_into(self, offset: int, buffer: memoryview) -> None:
        if self._way == "repeats" and offset >= self._real:
            buffer[:] = self.data[: len(buffer)]
        elif self._way == "drops" and offset >= self._real:
            buffer[:] = b"\xff" * len(buffer)
        else:
            super().read_into(offset, buffer)


def test_of_400_sticks_that_lie_at_most_one_is_believed() -> None:
    """All of them in the long tests, a quarter in the short ones."""
    rng, believed = random.Random(27), []
    for n in range(400 if os.environ.get("NEOGENESIS_LONG") else 100):
        claimed = rng.randrange(4 << 20, 64 << 20) // 4096 * 4096
        real = rng.randrange(claimed // 50, claimed * 98 // 100) // 4096 * 4096
        way = ("wraps", "zeros", "repeats", "drops")[n % 4]
        found = probe_quick(Fake(claimed, max(real, 4096), way), n)
        if found.honest:
            believed.append((claimed, real, way))
        else:
            assert found.real_bytes <= claimed and found.tested_bytes > 0
    assert len(believed) <= 1, believed


def test_the_command_finds_a_lying_stick(discs: Path, tmp_path: Path, neogenesis: Any) -> None:
    target = stick(tmp_path, 128, write={"real_bytes": 32 << 20})
    for way in ("quick", "full"):
        said = neogenesis("media", discs / "both.iso", target, "--confirm", "77C1", "--check-size", way, status=5)
        assert "not to be trusted" in said.stderr
    good = stick(tmp_path, 128, "good")
    assert (
        "as large as it says"
        in neogenesis("media", discs / "both.iso", good, "--confirm", "77C1", "--check-size", "quick").stdout
    )
    with pytest.raises(Mismatch):
        media.check_size(str(target), Consent("77C1"), True, 5)


@pytest.mark.skipif(not os.environ.get("NEOGENESIS_LONG"), reason="takes some minutes and 20 GB: make test-long")
@pytest.mark.timeout(3000)
def test_a_file_beyond_fat_is_split_and_can_be_put_together_again(tmp_path: Path, neogenesis) -> None:
    """A real image of the NT family's kind of 4.4 GB on a real disc image, onto a stick of 8 GB."""
    tree, wim, image = tmp_path / "tree", tmp_path / "install.wim", tmp_path / "big.iso"
    tree.mkdir()
    for n in range(280):
        (tree / f"piece-{n}.bin").write_bytes(os.urandom(1 << 20) + bytes([n % 251]) * (15 << 20))
    run("wimlib-imagex", "capture", tree, wim, "--compress=none", "--no-acls")
    shutil.rmtree(tree)
    assert wim.stat().st_size > 1 << 32
    made = pycdlib.PyCdlib()
    made.new(interchange_level=3, udf="2.60", vol_ident="BIG")
    made.add_directory("/SOURCES", udf_path="/sources")
    made.add_file(str(wim), "/SOURCES/INSTALL.WIM;1", udf_path="/sources/install.wim")
    made.add_directory("/EFI", udf_path="/EFI")
    made.add_directory("/EFI/BOOT", udf_path="/EFI/BOOT")
    held = loader(BY_FILE)
    made.add_fp(io.BytesIO(held), len(held), "/EFI/BOOT/BOOTX64.EFI;1", udf_path="/EFI/BOOT/BOOTX64.EFI")
    made.write(str(image))
    made.close()
    stick = blank(tmp_path / "stick.img", 8000)
    neogenesis("media", image, stick, "--confirm", "tick", "--layout", "files", "-o", tmp_path / "p.json")
    (start, size), *_ = spans(stick)
    volume, parts = tmp_path / "volume.img", tmp_path / "parts"
    with volume.open("wb") as out:
        out.truncate(size)
        for at, data in data_of(stick, start, size):
            out.seek(at - start)
            out.write(data)
    stick.unlink()
    run("fsck.fat", "-n", volume)
    parts.mkdir()
    run("mcopy", "-s", "-i", volume, "::sources", parts)
    found = sorted((parts / "sources").iterdir())
    assert len(found) >= 2 and all(p.suffix == ".swm" and p.stat().st_size < 1 << 32 for p in found)
    joined = tmp_path / "joined.wim"
    run("wimlib-imagex", "join", joined, *found)
    image.unlink()
    run("wimlib-imagex", "verify", joined)
