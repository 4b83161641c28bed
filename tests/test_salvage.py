"""Salvage: files come out whole with their dates and checksums, whatever they are called, and what is lost is named."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import blake3
import pytest
import pytsk3
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.core.salvage.names import kind_of, matches, plain
from neogenesis.core.system.library import _Volume
from tests.drives import (
    LINUX,
    NT_DATA,
    Part,
    blank,
    data_hash,
    make_drive,
    nt_files,
    place,
    run,
    simulated,
    spans,
)


def saved(folder: Path) -> dict[str, dict]:
    return {row["path"]: row for row in map(json.loads, (folder / "salvage.jsonl").read_text().splitlines())}


def test_everything_comes_out_with_checksums_and_dates(standard: Path, tmp_path: Path, neogenesis) -> None:
    before = data_hash(standard)
    neogenesis("salvage", standard, tmp_path / "out")
    found = saved(tmp_path / "out")
    for path, data in nt_files().items():
        row = found[path]
        copy = tmp_path / "out" / row["saved_as"]
        assert copy.read_bytes() == data and row["blake3"] == blake3.blake3(data).hexdigest()
        assert abs(copy.stat().st_mtime - row["modified_s"]) < 1 and time.time() - row["modified_s"] < 86_400
    assert len([p for p in found if p.startswith("scans/")]) == 50
    summary = json.loads((tmp_path / "out/salvage.json").read_text())
    assert (
        summary["schema"] == "neogenesis.salvage/1" and summary["incomplete"] == [] and summary["files"] == len(found)
    )
    assert not any("$" in row["saved_as"] for row in found.values())
    assert data_hash(standard) == before


def test_patterns_and_one_volume(standard: Path, tmp_path: Path, neogenesis) -> None:
    neogenesis("salvage", standard, tmp_path / "out", "--volume", "3", "--include", "*.BIN", "--exclude", "*/scans/00*")
    found = saved(tmp_path / "out")
    assert {row["partition"] for row in found.values()} == {3}
    assert (
        all(p.endswith(".bin") for p in found)
        and "Users/berth/scans/010.bin" in found
        and "Users/berth/scans/001.bin" not in found
    )
    assert "no partition 9" in neogenesis("salvage", standard, tmp_path / "x", "--volume", "9", status=2).stderr
    assert "No file" in neogenesis("salvage", standard, tmp_path / "x", "--include", "*.nothing", status=3).stderr
    assert not (tmp_path / "x").exists()


def test_lost_bytes_are_counted_and_tried_again(standard: Path, tmp_path: Path, neogenesis) -> None:
    at = standard.read_bytes().index(nt_files()["Users/berth/scans/007.bin"][-600:])
    drive = simulated(tmp_path / "old.drive.json", "old.img", serial="SAL00001", read={"unreadable": [[at, at + 300]]})
    said = neogenesis("salvage", drive, tmp_path / "out", status=4).stderr
    assert "007.bin" in said
    row = saved(tmp_path / "out")["Users/berth/scans/007.bin"]
    copy, whole = (tmp_path / "out" / row["saved_as"]).read_bytes(), nt_files()["Users/berth/scans/007.bin"]
    assert 0 < row["lost_bytes"] <= 1024 and len(copy) == len(whole)
    assert sum(a != b for a, b in zip(copy, whole, strict=True)) <= row["lost_bytes"]
    simulated(tmp_path / "old.drive.json", "old.img", serial="SAL00001")
    neogenesis("salvage", drive, tmp_path / "out")
    assert (tmp_path / "out" / saved(tmp_path / "out")["Users/berth/scans/007.bin"]["saved_as"]).read_bytes() == whole


def test_killed_and_gone_on(standard: Path, tmp_path: Path, neogenesis) -> None:
    drive = simulated(
        tmp_path / "old.drive.json", "old.img", serial="SAL00002", clock="real", read={"bytes_per_s": 4e7}
    )
    process = subprocess.Popen(
        [sys.executable, "-m", "neogenesis", "salvage", drive, tmp_path / "out"],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
    )
    while process.poll() is None and not any((tmp_path / "out").rglob("*.bin")):
        time.sleep(0.05)
    process.send_signal(signal.SIGTERM)
    status = process.wait()
    process.stderr.close()
    assert status in (6, 0)
    simulated(tmp_path / "old.drive.json", "old.img", serial="SAL00002")
    with (tmp_path / "out/salvage.jsonl").open("ab") as file:
        file.write(b'{"partition": 3, "pa')
    neogenesis("salvage", drive, tmp_path / "out")
    assert not list((tmp_path / "out").rglob("*.part"))
    for row in saved_lenient(tmp_path / "out"):
        assert (tmp_path / "out" / row["saved_as"]).stat().st_size == row["size_bytes"]


def saved_lenient(folder: Path) -> list[dict]:
    rows = []
    for line in (folder / "salvage.jsonl").read_text().splitlines():
        try:
            rows.append(json.loads(line))
        except ValueError:
            continue
    return rows


def test_names_that_the_folder_cannot_hold(tmp_path: Path, neogenesis) -> None:
    names = {
        "con.txt": b"1",
        "tide: high?.txt": b"2",
        "x" * 200 + ".txt": b"3",
        "Ωμέγα 鷗 \U0001f6a2.txt": b"4",
        "Case.TXT": b"5",
        "case.txt": b"6",
        "dot.": b"7",
    }
    drive = make_drive(
        tmp_path / "old.img", 120, [Part(0, LINUX, "ext4", "odd", {f"home/keeper/{n}": d for n, d in names.items()})]
    )
    image, point = blank(tmp_path / "fat.img", 40), tmp_path / "fat"
    run("mkfs.fat", image)
    point.mkdir()
    neogenesis("salvage", drive, tmp_path / "out", words="is stored as")
    found = saved(tmp_path / "out")
    for name, data in names.items():
        assert (tmp_path / "out" / found[f"home/keeper/{name}"]["saved_as"]).read_bytes() == data
    assert len({row["saved_as"].casefold() for row in found.values()}) == len(found)


def test_no_room_is_said_before_anything_is_written(standard: Path, tmp_path: Path, neogenesis) -> None:
    point = tmp_path / "small"
    point.mkdir()
    run("mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", point)
    try:
        assert "room" in neogenesis("salvage", standard, point / "out", status=3).stderr
        assert not list((point / "out").iterdir())
    finally:
        run("umount", point)


@given(st.text(st.characters(exclude_characters="/\0", exclude_categories=("Cs",)), min_size=1, max_size=300))
def test_plain_names_fit_everywhere(name: str) -> None:
    made = plain(name)
    assert made and len(made.encode()) <= 240 and not set(made) & set('<>:"/\\|?*\0\n') and made == made.rstrip(". ")
    assert plain(name) == made and (made == name or "~" in made)


@pytest.mark.parametrize(
    ("path", "kind"),
    [
        ("Users/anna/Pictures/x.bin", "pictures"),
        ("home/ben/a.PDF", "documents"),
        ("Users/a/Mail/box", "mail"),
        ("Users/a/Desktop/x", "desktop"),
        ("Users/a/Saved Games/x", "saved games"),
        ("home/ben/x", "other of people"),
        ("usr/bin/x", "rest"),
        ("usr/share/a.pdf", "rest"),
    ],
)
def test_kinds(path: str, kind: str) -> None:
    assert kind_of(path) == kind


def test_patterns() -> None:
    assert matches("Users/A/b.JPG", ("*.jpg",)) and matches("a/b/c", ("a/*",)) and not matches("a/b", ("*.x", "c*"))


class _Counting:
    """A listed volume that counts how often a file is opened: on FAT its whole chain is followed each time."""

    def __init__(self, path: Path) -> None:
        self._volume, self.opened = pytsk3.FS_Info(pytsk3.Img_Info(str(path))), 0

    def open_meta(self, inode: int) -> object:
        self.opened += 1
        return self._volume.open_meta(inode=inode)


def test_a_long_chain_is_followed_once_and_not_for_every_piece(tmp_path: Path) -> None:
    volume, film = blank(tmp_path / "volume", 40), tmp_path / "film"
    run("mkfs.fat", "-F", "32", "-s", "1", volume)
    film.write_bytes(os.urandom(3 << 20))
    run("mcopy", "-i", volume, film, "::film.bin")
    listed, counting = object.__new__(_Volume), _Counting(volume)
    listed._volume, listed._last = counting, None
    inode = counting._volume.open("/film.bin").info.meta.addr
    size = listed.size(inode)
    pieces = [listed.piece(inode, at, min(1 << 16, size - at)) for at in range(0, size, 1 << 16)]
    assert b"".join(pieces) == film.read_bytes()
    assert counting.opened == 1


def test_a_file_that_only_stands_for_one_elsewhere_is_not_saved_as_zeros(tmp_path: Path, neogenesis) -> None:
    """One of an account, of which nothing is here; one of an account that is here as well is an ordinary file."""
    image = make_drive(
        tmp_path / "old.img", 60, [Part(40, NT_DATA, "ntfs", "Old", {"Users/anna/letter.txt": b"letter"})]
    )
    start, size = spans(image)[0]
    volume, mount = tmp_path / "volume.img", tmp_path / "mount"
    volume.write_bytes(image.read_bytes()[start : start + size])
    mount.mkdir()
    run("ntfs-3g", volume, mount)
    try:
        for name, data in (("cloud.docx", b""), ("here.docx", b"all of it" * 4000)):
            path = mount / f"Users/anna/{name}"
            path.write_bytes(data)
            if not data:
                os.truncate(path, 50_000)
            tag = (0x9000601A).to_bytes(4, "little") + (16).to_bytes(2, "little") + bytes(2) + bytes(16)
            os.setxattr(path, "system.ntfs_reparse_data", tag)
    finally:
        run("fusermount3", "-u", mount)
    place(image, volume, start)
    done = neogenesis("salvage", image, tmp_path / "out", status=4)
    found = saved(tmp_path / "out")
    assert "not here: Users/anna: 1 file, 50 kB" in done.stdout and "Users/anna/cloud.docx" in done.stderr
    row = found["Users/anna/cloud.docx"]
    assert row["size_bytes"] == 0 and row["lost_bytes"] == 50_000 and row["not_here"] == "cloud"
    assert not list((tmp_path / "out").rglob("cloud.docx"))
    assert (tmp_path / "out" / found["Users/anna/here.docx"]["saved_as"]).read_bytes() == b"all of it" * 4000
