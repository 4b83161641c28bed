"""exFAT at another size and place, judged by its own checker and by the files in it."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from neogenesis.core.filesystem import exfat_resize
from neogenesis.core.filesystem.exfat import read_layout, read_volume
from neogenesis.core.store import MemoryStore, OverlayStore, PathOpener, PieceStore, RangeView, SealedFileStore
from tests.drives import MIB, NT_DATA, Part, blank, check_volume, file_hashes, make_drive, make_volume, run, spans

FILES = {f"scan {n}.pdf": random.Random(n).randbytes(200_000 + 7 * n) for n in range(12)}


def remade(volume: Path, size: int, out: Path, new_start: int = 0) -> Path:
    """The volume at another size, as a file."""
    store = SealedFileStore(PathOpener(volume))
    plan = exfat_resize.resized(store, 0, new_start, size)
    pieces = [(t, n, s) for s, n, t in plan.tables] + [(plan.new_data_at, plan.data_bytes, plan.old_data_at)]
    overlay = OverlayStore(PieceStore(store, size, pieces), out.with_suffix(".overlay"), size)
    for offset, data in plan.patches:
        overlay.write(offset, data)
    with out.open("wb") as file:
        for at in range(0, size, MIB):
            file.write(overlay.read(at, min(MIB, size - at)))
    store.close()
    return out


@pytest.mark.parametrize("cluster", ["4K", "32K", "128K"])
@pytest.mark.parametrize("grown", [25, 300, 1400])
def test_growing_keeps_files_and_passes_the_checker(cluster: str, grown: int, tmp_path: Path) -> None:
    make_volume(tmp_path / "v", Part(24, "", "exfat", "scans", FILES, options=("-c", cluster)), 24 * MIB)
    run("fsck.exfat", "-n", tmp_path / "v")
    before = file_hashes(tmp_path / "v", 0, 24 * MIB)
    assert len(before) >= len(FILES)
    larger = remade(tmp_path / "v", grown * MIB, tmp_path / "larger")
    run("fsck.exfat", "-n", larger)
    assert file_hashes(larger, 0, grown * MIB) == before
    store = SealedFileStore(PathOpener(larger))
    found = read_volume(store)
    assert found.size_bytes == grown * MIB and found.label == "scans" and not found.dirty
    layout = read_layout(store)
    assert layout.clusters * layout.cluster_bytes > 0.95 * (grown - 3) * MIB
    store.close()


def test_shrinking_cuts_behind_the_last_file_and_says_when_it_cannot(tmp_path: Path) -> None:
    make_volume(tmp_path / "v", Part(64, "", "exfat", "scans", FILES), 64 * MIB)
    store = SealedFileStore(PathOpener(tmp_path / "v"))
    least = read_volume(store).smallest_bytes
    before = file_hashes(tmp_path / "v", 0, 64 * MIB)
    assert len(before) >= len(FILES)
    assert least < 20 * MIB
    with pytest.raises(ValueError, match="cannot be made that small"):
        exfat_resize.resized(store, 0, 0, 3 * MIB)
    store.close()
    smaller = remade(tmp_path / "v", least, tmp_path / "smaller")
    run("fsck.exfat", "-n", smaller)
    assert file_hashes(smaller, 0, least) == before
    again = remade(smaller, 64 * MIB, tmp_path / "again")  # and back
    run("fsck.exfat", "-n", again)
    assert file_hashes(again, 0, 64 * MIB) == before


def test_the_place_is_noted_in_both_boot_regions_with_their_checksums(tmp_path: Path) -> None:
    image = make_drive(tmp_path / "d.img", 64, [Part(40, NT_DATA, "exfat", "x", FILES)])
    start, size = spans(image)[0]
    drive = SealedFileStore(PathOpener(image))
    view = RangeView(drive, start, size)
    assert exfat_resize.place_patches(view, start, 9 * MIB) == []  # made in a file of its own, it records place 0
    memory = MemoryStore(size)
    memory.write(0, view.read(0, size))
    drive.close()
    for offset, data in exfat_resize.place_patches(memory, 0, 9 * MIB):
        memory.write(offset, data)
    assert read_layout(memory).first_sector == 9 * MIB // 512
    (tmp_path / "v").write_bytes(memory.read(0, size))
    run("fsck.exfat", "-n", tmp_path / "v")


def test_a_transfer_grows_an_exfat_volume(tmp_path: Path, neogenesis) -> None:
    image = make_drive(tmp_path / "old.img", 80, [Part(60, NT_DATA, "exfat", "scans", FILES)])
    before = file_hashes(image, *spans(image)[0])
    assert len(before) >= len(FILES)
    new = blank(tmp_path / "new.img", 700)
    neogenesis("plan", image, new, "--grow", "1", "-o", tmp_path / "p.json")
    neogenesis("transfer", tmp_path / "p.json", "--confirm", "new")
    start, size = spans(new)[0]
    assert size > 600 * MIB
    check_volume(new, start, size, "exfat", tmp_path)
    assert file_hashes(new, start, size) == before
