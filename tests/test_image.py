"""Images: other people's tools open them, and they bring back every byte that was in use."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
import zlib
from collections.abc import Callable, Sequence
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neogenesis.bench.drives import open_sealed
from neogenesis.bench.processes.reader import open_tree
from neogenesis.core.errors import BadArgument, BadRecord, Mismatch, NeogenesisError, ReadFailed, Stopped
from neogenesis.core.image import Qcow2Store
from neogenesis.core.image.make import Imaged, ImageFiles, ImageRun
from neogenesis.core.store import JoinedStore, PartFile, existing_parts
from neogenesis.core.survey import survey_drive
from neogenesis.core.transfer import load_manifest
from neogenesis.core.work.control import Control
from tests.drives import MIB, blank, check_volume, data_hash, file_hashes, run, same_bytes, simulated, spans, table_of


def test_image_is_sound_and_holds_what_is_in_use(standard: Path, tmp_path: Path, neogenesis) -> None:
    before = data_hash(standard)
    out = tmp_path / "old.qcow2"
    neogenesis("image", standard, out)
    assert "No errors" in run("qemu-img", "check", out)
    assert "identical" in run("qemu-img", "compare", out, standard)
    info = json.loads(run("qemu-img", "info", "--output=json", out))
    assert (
        info["virtual-size"] == standard.stat().st_size
        and info["format-specific"]["data"]["compression-type"] == "zstd"
    )
    assert data_hash(standard) == before
    manifest = json.loads((tmp_path / "old.qcow2.manifest.json").read_text())
    assert manifest["schema"] == "neogenesis.manifest/1" and manifest["survey"]["schema"] == "neogenesis.survey/1"
    neogenesis("verify", tmp_path / "old.qcow2.manifest.json", out)
    neogenesis("verify", tmp_path / "old.qcow2.manifest.json", standard)
    seen = [json.loads(neogenesis("survey", drive, "--json").stdout) for drive in (standard, out)]
    assert seen[0]["partitions"] == seen[1]["partitions"] and seen[0]["table"] == seen[1]["table"]
    assert "exists already" in neogenesis("image", standard, out, status=3).stderr


@pytest.mark.parametrize(
    "options",
    [
        ("-o", "cluster_size=65536"),
        ("-c",),
        ("-c", "-o", "compression_type=zstd"),
        ("-o", "cluster_size=512"),
        ("-o", "compat=0.10"),
    ],
)
def test_images_of_other_tools_are_read(options: tuple[str, ...], standard: Path, tmp_path: Path) -> None:
    out = tmp_path / "x.qcow2"
    run("qemu-img", "convert", "-O", "qcow2", *options, standard, out)
    store, raw = Qcow2Store(out), standard.read_bytes()
    rng = random.Random(5)
    assert store.size_bytes == len(raw)
    for _ in range(200):
        at = rng.randrange(len(raw))
        length = min(rng.choice([1, 511, 4096, 300_000, 3 * MIB]), len(raw) - at)
        assert store.read(at, length) == raw[at : at + length]
    data = store.extents_with_data()
    for start, end in data.complement(len(raw)):
        assert raw.count(0, start, end) == end - start
    store.close()


def test_what_cannot_be_read_is_refused_in_words(tmp_path: Path, neogenesis) -> None:
    base, child = tmp_path / "base.qcow2", tmp_path / "child.qcow2"
    run("qemu-img", "create", "-q", "-f", "qcow2", base, "64M")
    run("qemu-img", "create", "-q", "-f", "qcow2", "-F", "qcow2", "-b", base, child)
    assert "below it" in neogenesis("survey", child, status=2).stderr
    raw = base.read_bytes()
    for cut in (40, 104, 65536 + 10):
        base.write_bytes(raw[:cut])
        assert len(neogenesis("survey", base, status=2).stderr) > 20


@given(st.data())
@settings(max_examples=80, deadline=None)
def test_damaged_images_never_crash(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    folder = tmp_path_factory.mktemp("q")
    original = folder / "o.qcow2"
    run("qemu-img", "create", "-q", "-f", "qcow2", "-o", "cluster_size=4096", original, "256K")
    raw = bytearray(original.read_bytes())
    for _ in range(data.draw(st.integers(1, 4))):
        at = data.draw(st.one_of(st.integers(0, 120), st.integers(0, len(raw) - 1)))
        raw[at] = data.draw(st.integers(0, 255))
    original.write_bytes(raw[: data.draw(st.integers(0, len(raw)))] if data.draw(st.booleans()) else raw)
    try:
        store = Qcow2Store(original)
    except (BadArgument, NeogenesisError):
        return
    try:
        store.extents_with_data()
        store.read(0, min(store.size_bytes, 256 * 1024))
    except ReadFailed:
        pass
    finally:
        store.close()


def test_interrupted_image_goes_on(standard: Path, tmp_path: Path, neogenesis) -> None:
    with standard.open("r+b") as file:  # enough incompressible data to be interrupted in
        file.seek(spans(standard)[4][0] + 80 * MIB)
    simulated(tmp_path / "old.drive.json", "old.img", serial="IMG00001", clock="real", read={"bytes_per_s": 9e7})
    out = tmp_path / "o.qcow2"
    for number in (signal.SIGKILL, signal.SIGTERM, signal.SIGKILL):
        process = subprocess.Popen(
            [sys.executable, "-m", "neogenesis", "image", tmp_path / "old.drive.json", out],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
        )
        journal = tmp_path / "o.qcow2.journal"
        begun = journal.stat().st_size if journal.exists() else 0
        deadline = time.monotonic() + 20
        while (
            process.poll() is None
            and time.monotonic() < deadline
            and not (journal.exists() and journal.stat().st_size > begun + 90)
        ):
            time.sleep(0.02)
        process.send_signal(number)
        status = process.wait()
        process.stderr.close()
        assert status in (-signal.SIGKILL, 6, 0)
        if status == 0:
            break
        with pytest.raises(BadArgument):
            Qcow2Store(out)  # half an image never looks like a whole one
    if not (tmp_path / "o.qcow2.manifest.json").exists():
        simulated(tmp_path / "old.drive.json", "old.img", serial="IMG00001")  # the rest without waiting
        neogenesis("image", tmp_path / "old.drive.json", out)
    assert "No errors" in run("qemu-img", "check", out)
    assert "identical" in run("qemu-img", "compare", out, standard)
    neogenesis("verify", tmp_path / "o.qcow2.manifest.json", out)


def test_unreadable_places_are_listed(standard: Path, tmp_path: Path, neogenesis) -> None:
    start = spans(standard)[2][0] + 4096
    simulated(tmp_path / "old.drive.json", "old.img", serial="BAD00001", read={"unreadable": [[start, start + 600]]})
    said = neogenesis("image", tmp_path / "old.drive.json", tmp_path / "o.qcow2", status=4).stderr
    assert f"{start}-{start + 1024}" in said
    assert json.loads((tmp_path / "o.qcow2.manifest.json").read_text())["lost"] == [[start, start + 1024]]


def test_restore_to_one_and_to_several(standard: Path, tmp_path: Path, neogenesis) -> None:
    out = tmp_path / "o.qcow2"
    neogenesis("image", standard, out)
    raw = standard.read_bytes()
    names = ["one", "two", "three"]
    for name in names:
        blank(tmp_path / f"{name}.img", 700)
    neogenesis("restore", out, tmp_path / "one.img", "--confirm", "one")
    assert (tmp_path / "one.img").read_bytes()[: len(raw)] == raw
    blank(tmp_path / "one.img", 700)
    confirm = [word for name in names for word in ("--confirm", name[-4:])]
    neogenesis("restore", out, *(tmp_path / f"{n}.img" for n in names), *confirm)
    for name in names:
        assert (tmp_path / f"{name}.img").read_bytes()[: len(raw)] == raw
    assert "ends" in neogenesis("restore", out, tmp_path / "one.img", "--confirm", "two", status=3).stderr
    assert (
        "twice"
        in neogenesis("restore", out, tmp_path / "one.img", tmp_path / "one.img", "--confirm", "one", status=2).stderr
    )


def test_restore_with_another_size(standard: Path, tmp_path: Path, neogenesis) -> None:
    out, new = tmp_path / "o.qcow2", blank(tmp_path / "new.img", 1200)
    neogenesis("image", standard, out)
    neogenesis("restore", out, new, "--confirm", "new", "--intent", "replace")
    assert "No errors" in run("sfdisk", "--verify", new) and table_of(new)["id"] == table_of(standard)["id"]
    new_spans = {
        e["node"].removeprefix(str(new)): (e["start"] * 512, e["size"] * 512) for e in table_of(new)["partitions"]
    }
    assert new_spans["3"][1] > 800 * MIB
    check_volume(new, *new_spans["3"], "ntfs", tmp_path)
    assert file_hashes(new, *new_spans["3"]) == file_hashes(standard, *spans(standard)[2])


def test_a_failing_target_drops_out_and_the_others_go_on(standard: Path, tmp_path: Path, neogenesis) -> None:
    out = tmp_path / "o.qcow2"
    neogenesis("image", standard, out)
    blank(tmp_path / "bad.img", 700)
    simulated(tmp_path / "bad.drive.json", "bad.img", serial="BAD00007", write={"fails_after_bytes": 9_000_000})
    good = blank(tmp_path / "good.img", 700)
    said = neogenesis(
        "restore", out, tmp_path / "bad.drive.json", good, "--confirm", "0007", "--confirm", "good", status=6
    ).stderr
    assert "bad.drive.json dropped out" in said and "other 1 are done" in said
    assert same_bytes(good, standard, standard.stat().st_size)
    simulated(tmp_path / "bad.drive.json", "bad.img", serial="BAD00007")
    neogenesis("restore", out, tmp_path / "bad.drive.json", "--confirm", "0007", "--resume")
    assert same_bytes(tmp_path / "bad.img", standard, standard.stat().st_size)


def test_a_flipped_bit_in_an_image_is_found(standard: Path, tmp_path: Path, neogenesis) -> None:
    out = tmp_path / "o.qcow2"
    neogenesis("image", standard, out)
    with out.open("r+b") as file:
        file.seek(2 * MIB + 300_000)
        byte = file.read(1)[0]
        file.seek(2 * MIB + 300_000)
        file.write(bytes([byte ^ 16]))
    assert "partition" in neogenesis("verify", tmp_path / "o.qcow2.manifest.json", out, status=5).stderr
    said = neogenesis("restore", out, blank(tmp_path / "new.img", 700), "--confirm", "new", status=4).stderr
    assert "could not be read" in said
    assert "compressed image" in neogenesis("plan", standard, out, status=3).stderr


def test_parts_are_the_one_image_cut_up_and_can_be_used_as_it(standard: Path, tmp_path: Path, neogenesis) -> None:
    neogenesis("image", standard, tmp_path / "whole.qcow2")
    neogenesis("image", standard, tmp_path / "cut.qcow2", "--part-size", "3MiB")
    parts = existing_parts(tmp_path / "cut.qcow2")
    assert len(parts) > 2 and all(p.stat().st_size == 3 * MIB for p in parts[:-1])
    with (tmp_path / "joined.qcow2").open("wb") as joined:
        for part in parts:
            joined.write(part.read_bytes())
    run("qemu-img", "check", tmp_path / "joined.qcow2")
    run("qemu-img", "compare", tmp_path / "joined.qcow2", tmp_path / "whole.qcow2")
    neogenesis("restore", tmp_path / "cut.qcow2", blank(tmp_path / "new.img", 640), "--confirm", "new")
    neogenesis("verify", tmp_path / "cut.qcow2.manifest.json", tmp_path / "cut.qcow2")
    run("qemu-img", "compare", "-f", "raw", "-F", "qcow2", tmp_path / "new.img", tmp_path / "whole.qcow2")
    parts[-1].rename(tmp_path / "elsewhere")
    said = neogenesis("survey", tmp_path / "cut.qcow2", status=2).stderr
    assert "all beside it" in said
    said = neogenesis("image", standard, tmp_path / "n.qcow2", "--part-size", "4KiB", status=2).stderr
    assert "too small" in said
    (tmp_path / "left.qcow2.part2").write_bytes(b"somebody's")
    neogenesis("image", standard, tmp_path / "left.qcow2", status=3)
    assert (tmp_path / "left.qcow2.part2").read_bytes() == b"somebody's"


@given(
    st.integers(1, 70),
    st.lists(st.tuples(st.integers(0, 400), st.binary(min_size=1, max_size=200)), max_size=8),
    st.integers(0, 500),
)
def test_a_file_in_parts_reads_as_one(part_bytes: int, writes: list[tuple[int, bytes]], size: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "f"
        file, model = PartFile(path, part_bytes), bytearray()
        for at, data in writes:
            file.write(at, data)
            model.extend(bytes(max(0, at + len(data) - len(model))))
            model[at : at + len(data)] = data
        file.truncate(size)
        file.sync()
        file.close()
        expected = bytes(model[:size]).ljust(size, b"\0")
        joined = JoinedStore(path)
        assert joined.size_bytes == size and joined.read(0, size) == expected
        if size:
            half = size // 2
            assert joined.read(half, size - half) == expected[half:]
        with pytest.raises(ReadFailed):
            joined.read(size, 1)
        joined.close()


def test_leftovers_on_the_old_drive_are_no_mismatch_and_bits_in_use_are(
    standard: Path, tmp_path: Path, neogenesis
) -> None:
    """Deleted files stand beside used blocks on any real drive; the image holds zeros there."""
    start, size = spans(standard)[4]
    volume = tmp_path / "v"
    run(
        "dd",
        f"if={standard}",
        f"of={volume}",
        f"skip={start}",
        f"count={size}",
        "iflag=skip_bytes,count_bytes",
        "bs=1M",
    )
    run("debugfs", "-w", "-f", "/dev/stdin", volume, text="".join(f"rm scans/{n}.pdf\n" for n in range(10, 40)))
    run("dd", f"if={volume}", f"of={standard}", f"seek={start}", "oflag=seek_bytes", "conv=notrunc", "bs=1M")
    neogenesis("image", standard, tmp_path / "o.qcow2")
    manifest = tmp_path / "o.qcow2.manifest.json"
    neogenesis("verify", manifest, tmp_path / "o.qcow2")
    neogenesis("verify", manifest, standard)
    at = _place_of(standard, start, size, "scans/7.pdf")
    with standard.open("r+b") as file:
        file.seek(at)
        byte = file.read(1)[0]
        file.seek(at)
        file.write(bytes([byte ^ 1]))
    assert "scans/7.pdf" in neogenesis("verify", manifest, standard, status=5).stderr


def _place_of(image: Path, start: int, size: int, path: str) -> int:
    """Where the first block of a file stands on the drive."""
    volume = image.with_name("judged")
    run("dd", f"if={image}", f"of={volume}", f"skip={start}", f"count={size}", "iflag=skip_bytes,count_bytes", "bs=1M")
    block = int(run("debugfs", "-R", f"bmap {path} 0", volume))
    return start + block * int(run("dumpe2fs", "-h", volume).split("Block size:")[1].split()[0])


# What an interrupted image was until it is gone on with


class _Eager:
    """Everything is in the journal at once."""

    pace = 0.0

    def now(self) -> float:
        return time.monotonic()

    def wall(self) -> str:
        return "2026-01-01T00:00:00Z"


def _run(old: Path, out: Path, control: Control, progress: Callable[[str, int, int], None], **more: Any) -> Imaged:
    with closing(open_sealed(str(old), grip="hold")) as opened:
        look = partial(survey_drive, opened.store, opened.drive, open_tree)
        return ImageRun(look, opened.store, out, 1, control, _Eager(), progress, **more).run()


def _interrupted(tmp_path: Path, **more: Any) -> tuple[Path, Path]:
    """An image of 80 MiB that was stopped after about half of it."""
    old, out = tmp_path / "old.img", tmp_path / "o.qcow2"
    old.write_bytes(random.Random(5).randbytes(79 * MIB) + bytes(MIB))
    control = Control()
    with pytest.raises(Stopped):
        _run(old, out, control, lambda phase, done, total: control.stop("test") if done > total // 2 else None, **more)
    return old, out


def _cut(path: Path) -> None:
    os.truncate(path, path.stat().st_size // 2)


def _flipped(path: Path) -> None:
    with path.open("r+b") as file:
        file.seek(path.stat().st_size // 3)
        file.write(b"\xff" * 4096)


@pytest.mark.parametrize(
    ("damage", "part_bytes", "check_all"),
    [
        (Path.unlink, None, False),
        (lambda path: path.write_bytes(b""), None, False),
        (_cut, None, False),
        (_flipped, None, False),
        (_flipped, None, True),
        (_cut, 16 * MIB, False),
        (_flipped, 16 * MIB, True),
    ],
)
def test_what_an_interrupted_image_lost_is_copied_again(
    damage: Callable[[Path], object], part_bytes: int | None, check_all: bool, tmp_path: Path
) -> None:
    old, out = _interrupted(tmp_path, part_bytes=part_bytes)
    damage(out)
    done = _run(old, out, Control(), lambda *_: None, part_bytes=part_bytes, check_all=check_all)
    assert done.verified_bytes == 80 * MIB and not done.lost
    with closing(JoinedStore(out)) as joined:
        whole = tmp_path / "whole.qcow2"
        whole.write_bytes(joined.read(0, joined.size_bytes))
    assert "No errors" in run("qemu-img", "check", whole)
    assert "identical" in run("qemu-img", "compare", whole, old)
    assert load_manifest(ImageFiles(out).manifest).head.verified_bytes == 80 * MIB


def test_a_journal_that_says_less_of_the_file_than_of_the_drive_is_not_gone_on_with(tmp_path: Path) -> None:
    old, out = _interrupted(tmp_path)
    lines = [["chunk", 76 * MIB, 80 * MIB, "11" * 32], ["sync"]]  # it stands nowhere in the file
    with ImageFiles(out).journal.open("ab") as journal:
        for line in lines:
            text = json.dumps(line, separators=(",", ":")).encode()
            journal.write(b"%08x %s\n" % (zlib.crc32(text), text))
    with pytest.raises(BadRecord, match="hold together"):
        _run(old, out, Control(), lambda *_: None)


def test_bytes_that_the_medium_loses_while_imaging_are_written_again_and_then_said(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    old, out = tmp_path / "old.img", tmp_path / "o.qcow2"
    old.write_bytes(random.Random(6).randbytes(24 * MIB))
    write, losses = PartFile.write_pieces, [1]

    def losing(file: PartFile, at: int, pieces: Sequence[bytes]) -> None:
        if losses[0]:
            losses[0] -= 1
            pieces = [bytes(len(piece)) for piece in pieces]
        write(file, at, pieces)

    monkeypatch.setattr(PartFile, "write_pieces", losing)
    assert _run(old, out, Control(), lambda *_: None).verified_bytes == 24 * MIB
    assert "identical" in run("qemu-img", "compare", out, old) and "No errors" in run("qemu-img", "check", out)
    losses[0] = 10**9
    with pytest.raises(Mismatch, match="came back wrong twice"):
        _run(old, tmp_path / "p.qcow2", Control(), lambda *_: None)
    with pytest.raises(BadArgument):
        Qcow2Store(tmp_path / "p.qcow2")
    losses[0] = 0  # another drive under it
    _run(old, tmp_path / "p.qcow2", Control(), lambda *_: None)
    assert "identical" in run("qemu-img", "compare", tmp_path / "p.qcow2", old)


def test_an_image_that_was_not_read_back_says_so(standard: Path, tmp_path: Path, neogenesis) -> None:
    for how, told in (("none", "read nothing back"), ("full", "read back")):
        out = tmp_path / f"{how}.qcow2"
        assert told in neogenesis("image", standard, out, "--verify", how).stdout
        found = json.loads(ImageFiles(out).manifest.read_text())
        assert bool(found["verified_bytes"]) == (how == "full")
