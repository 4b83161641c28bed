"""What an image or a rescue lost is told by everything that is made from it, until the customer has read it."""

from __future__ import annotations

import json
import random
import shutil
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from neogenesis.bench.drives import open_sealed
from neogenesis.bench.drives.losses import losses_of
from neogenesis.core.drive import Identity
from neogenesis.core.extent import Extents
from neogenesis.core.image import Qcow2Store
from neogenesis.core.image.layout import HEADER_BYTES
from neogenesis.core.store import LostStore, MemoryStore, read_or_narrow
from neogenesis.core.transfer import load_manifest, regions
from neogenesis.core.transfer.regions import load_regions_head, region_rows, save_regions
from tests.boots import BY_FILE, drive, loader
from tests.drives import LINUX, MIB, Part, blank, make_drive, run, simulated

LETTER = random.Random(2).randbytes(3 * MIB)


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, tuple[int, int]]:
    """A drive with a large file, and the place of it that will not be readable."""
    folder = tmp_path_factory.mktemp("losses")
    old = make_drive(folder / "old.img", 60, [Part(45, LINUX, "ext4", "root", {"home/letter.bin": LETTER})])
    at = old.read_bytes().find(LETTER[:4096])
    assert at > 0
    return old, (at + 8192, at + 65536)


@pytest.fixture
def failing(made: tuple[Path, tuple[int, int]], tmp_path: Path) -> Path:
    old, bad = made
    run("cp", "--sparse=always", old, tmp_path / "v.img")
    return simulated(tmp_path / "old.drive.json", "v.img", serial="HD5-77129K3D", read={"unreadable": [bad]})


@pytest.fixture
def image(failing: Path, tmp_path: Path, neogenesis: Any) -> Path:
    neogenesis("image", failing, tmp_path / "o.qcow2", status=4)
    return tmp_path / "o.qcow2"


@pytest.fixture
def rescued(failing: Path, tmp_path: Path, neogenesis: Any) -> Path:
    order = ["rescue", failing, tmp_path / "saved.img", "--map", tmp_path / "m.json", "--confirm", "aved"]
    neogenesis(*order, status=4)
    return tmp_path / "saved.img"


def inherited(neogenesis: Any, place: Path, *more: Any) -> dict[str, Any] | None:
    """What a survey says of them; None for nothing known, and for nothing lost."""
    found: dict[str, Any] | None = json.loads(neogenesis("survey", place, "--json", *more).stdout)["inherited_losses"]
    return found if found is not None and found["bytes"] else None


@pytest.mark.parametrize("kind", ["image", "rescued"])
def test_a_loss_is_told_by_all_that_is_made_of_it(
    kind: str, made: tuple[Path, tuple[int, int]], tmp_path: Path, neogenesis: Any, request: pytest.FixtureRequest
) -> None:
    source, bad = request.getfixturevalue(kind), made[1]
    found = inherited(neogenesis, source)
    assert found == {
        "bytes": bad[1] - bad[0],
        "ranges": [list(bad)],
        "files": [{"path": "home/letter.bin", "kind": "file", "whole": False}],
    }
    assert "inherited-losses" in neogenesis("survey", source, "--json").stdout
    for intent in ("exact", "replace"):
        new, plan = blank(tmp_path / f"{intent}.img", 90), tmp_path / f"{intent}.json"
        order = ["plan", source, new, "--intent", intent, "--grow", "none", "-o", plan]
        assert "were lost when" in neogenesis(*order, status=4).stderr
        assert json.loads(plan.read_bytes())["lost"] == [list(bad)]
        ended = json.loads(neogenesis("transfer", plan, "--confirm", intent[-4:], "--json", status=4).stdout)
        assert ended["status"] == "lost" and ended["lost"] == [list(bad)]
        assert [file["path"] for file in ended["lost_files"]] == ["home/letter.bin"]
        assert load_manifest(tmp_path / f"{intent}.manifest.json").head.lost == (bad,)
        states = [state for *_, state in json.loads((tmp_path / f"{intent}.regions.json").read_bytes())["regions"]]
        assert "lost" in states
    ended = json.loads(neogenesis("salvage", source, tmp_path / "out", "--json", status=4).stdout)
    assert [file["path"] for file in ended["lost_files"]] == ["home/letter.bin"]
    again = tmp_path / "again.qcow2"
    neogenesis("image", source, again, status=4)  # and on it goes
    assert inherited(neogenesis, again) == found


def test_a_restore_names_what_is_lost(
    image: Path, made: tuple[Path, tuple[int, int]], tmp_path: Path, neogenesis: Any
) -> None:
    new = blank(tmp_path / "new1.img", 60)
    ended = json.loads(neogenesis("restore", image, new, "--confirm", "new1", "--json", status=4).stdout)
    assert ended["lost"] == [list(made[1])] and ended["lost_files"][0]["path"] == "home/letter.bin"
    assert any(record.endswith(".regions.json") for record in ended["records"])
    neogenesis("verify", f"{image}.manifest.json", image)  # the image itself is what was written
    assert "No errors" in run("qemu-img", "check", image)


def test_losses_are_found_again_after_a_move(image: Path, rescued: Path, tmp_path: Path, neogenesis: Any) -> None:
    """An image names them itself; a rescue is known by its samples, in whatever folder and under whatever name."""
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    image.rename(elsewhere / "alone.qcow2")
    assert inherited(neogenesis, elsewhere / "alone.qcow2")
    rescued.rename(elsewhere / "other.img")
    assert inherited(neogenesis, elsewhere / "other.img") is None  # nothing beside it tells
    assert inherited(neogenesis, elsewhere / "other.img", "--map", tmp_path / "m.json")
    shutil.copy(tmp_path / "m.json", elsewhere / "renamed.json")
    assert inherited(neogenesis, elsewhere / "other.img")
    stranger = blank(elsewhere / "stranger.img", 60)
    assert inherited(neogenesis, stranger) is None
    told = neogenesis("survey", stranger, "--map", tmp_path / "m.json", status=3).stderr
    assert "is not of what stands on" in told
    # the drive that the rescue was made from is not what was made of it
    assert inherited(neogenesis, tmp_path / "old.drive.json") is None


def test_an_image_of_before_is_led_to_its_manifest(image: Path, tmp_path: Path, neogenesis: Any) -> None:
    """Its header says nothing: the manifest is found by its name, and by the checksums in it."""
    with image.open("r+b") as file:
        file.seek(HEADER_BYTES)
        file.write(bytes(64))
    assert Qcow2Store(image).lost is None
    assert inherited(neogenesis, image)
    image.rename(tmp_path / "moved.qcow2")
    assert inherited(neogenesis, tmp_path / "moved.qcow2")
    (tmp_path / "o.qcow2.manifest.json").unlink()
    assert inherited(neogenesis, tmp_path / "moved.qcow2") is None


def test_a_header_that_lies_is_refused(image: Path, neogenesis: Any) -> None:
    with image.open("r+b") as file:
        file.seek(HEADER_BYTES + 8)
        file.write((1 << 62).to_bytes(8, "big"))
    assert "makes no sense" in neogenesis("survey", image, status=2).stderr


def test_damaged_maps_beside_an_image_are_passed_over(rescued: Path, tmp_path: Path, neogenesis: Any) -> None:
    good = json.loads((tmp_path / "m.json").read_bytes())
    for number, change in enumerate(
        ({"samples": [[0, 4096, "zz"]]}, {"samples": [[0, 1 << 60, "00" * 32]]}, {"regions": []}, {"size_bytes": -1})
    ):
        (tmp_path / f"a{number}.json").write_text(json.dumps({**good, **change}))
    (tmp_path / "b.json").write_bytes(b'{"schema": "neogenesis.region-map/1", "size_bytes": ')
    (tmp_path / "c.json").mkdir()
    assert inherited(neogenesis, rescued)


def test_a_named_map_that_is_damaged_is_refused(rescued: Path, tmp_path: Path, neogenesis: Any) -> None:
    good = json.loads((tmp_path / "m.json").read_bytes())
    for change in ({"samples": [[0, 4096, "zz"]]}, {"samples": [[0, 1 << 60, "00" * 32]]}, {"regions": []}):
        (tmp_path / "bad.json").write_text(json.dumps({**good, **change}))
        told = neogenesis("survey", rescued, "--map", tmp_path / "bad.json", status=3).stderr
        assert "region map" in told


def test_the_old_drive_under_another_name_is_not_what_was_made_of_it(
    made: tuple[Path, tuple[int, int]], tmp_path: Path, neogenesis: Any
) -> None:
    """A raw image has no serial, and its contents are those of its rescue: it has something where that has nothing."""
    run("cp", "--sparse=always", made[0], tmp_path / "one.img")
    order = ["--map", tmp_path / "m.json", "--confirm", "aved"]
    neogenesis("rescue", tmp_path / "one.img", tmp_path / "saved.img", *order)
    begun = json.loads((tmp_path / "m.json").read_bytes())
    bad = made[1]  # as if it had been cut off before this was tried
    begun["regions"] = [[0, bad[0], "read"], [*bad, "untried"], [bad[1], begun["size_bytes"], "read"]]
    (tmp_path / "m.json").write_text(json.dumps(begun))
    with (tmp_path / "saved.img").open("r+b") as file:
        file.seek(bad[0])
        file.write(bytes(bad[1] - bad[0]))
    (tmp_path / "one.img").rename(tmp_path / "two.img")
    assert inherited(neogenesis, tmp_path / "saved.img") and inherited(neogenesis, tmp_path / "two.img") is None
    neogenesis("rescue", tmp_path / "two.img", tmp_path / "saved.img", *order, "--source", tmp_path / "two.img")
    assert (tmp_path / "saved.img").read_bytes() == made[0].read_bytes()
    assert inherited(neogenesis, tmp_path / "saved.img") is None


def test_a_lost_folder_is_no_whole_salvage(tmp_path: Path, neogenesis: Any) -> None:
    """Nothing that is named was lost, but names were: the salvage does not end as if all were well."""
    files = {"home/a/letter.txt": b"words", "home/b/other.txt": b"more"}
    old = make_drive(tmp_path / "v.img", 40, [Part(30, LINUX, "ext4", "root", files)])
    at = old.read_bytes().find(b"letter.txt") // 1024 * 1024  # the folder's own block
    simulated(tmp_path / "old.drive.json", "v.img", serial="HD5-1", read={"unreadable": [[at, at + 1024]]})
    order = ["rescue", tmp_path / "old.drive.json", tmp_path / "saved.img", "--map", tmp_path / "m.json"]
    neogenesis(*order, "--confirm", "aved", status=4)
    told = neogenesis("salvage", tmp_path / "saved.img", tmp_path / "out", status=4).stderr
    assert "files may be missing that nothing names any more" in told
    assert [p.name for p in (tmp_path / "out").rglob("*.txt")] == ["other.txt"]
    assert json.loads((tmp_path / "out/salvage.json").read_bytes())["lost"] == [[at, at + 1024]]


def test_a_lost_loader_does_not_start(tmp_path: Path, neogenesis: Any) -> None:
    old = drive(tmp_path / "v.img", "TOKEN-ONE", {"EFI/BOOT/BOOTX64.EFI": loader(BY_FILE)})
    at = old.read_bytes().find(loader(BY_FILE)[:512])
    assert at > 0
    simulated(tmp_path / "old.drive.json", "v.img", serial="HD5-1", read={"unreadable": [[at, at + 4096]]})
    neogenesis("image", tmp_path / "old.drive.json", tmp_path / "o.qcow2", status=4)
    found = json.loads(neogenesis("forecast", tmp_path / "o.qcow2", "--json").stdout)
    assert found["starts"] is not True


def test_large_losses_cost_no_reads() -> None:
    """What is known to be lost is not asked for sector by sector."""

    class Counted(MemoryStore):
        reads = 0

        def read_into(self, offset: int, buffer: memoryview) -> None:
            Counted.reads += 1
            super().read_into(offset, buffer)

    base = Counted(64 * MIB, 512)
    base.write(0, b"x" * 64)
    store = LostStore(base, Extents.of([(MIB, 63 * MIB)]))
    buffer = bytearray(b"y" * (64 * MIB))
    assert read_or_narrow(store, 0, memoryview(buffer), 512) == [(MIB, 63 * MIB)]
    assert Counted.reads <= 4 and buffer[:2] == b"xx" and not any(buffer[MIB : MIB + 4096])


def test_the_map_of_another_drive_is_not_read_whole(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """It may have millions of regions; whose it is stands before them."""
    first, other = Identity(serial="A1", size_bytes=MIB, path="/a"), Identity(serial="B2", size_bytes=MIB, path="/b")
    path = tmp_path / "p.regions.json"
    save_regions(path, MIB, region_rows(MIB, Extents.of([(0, 4096)]), Extents.of([(8192, 9216)])), first, other)
    head = load_regions_head(path)
    assert head is not None and (head.source, head.target, head.regions) == (first, other, ())
    blank(tmp_path / "old.img", 1)
    monkeypatch.setattr(regions, "load_regions", lambda path: pytest.fail("read whole"))
    with closing(open_sealed(str(tmp_path / "old.img"))) as opened:
        assert losses_of(opened, str(tmp_path / "old.img")) is None
    for text in (b"", b"{", b'{"schema": "neogenesis.region-map/1", "size_bytes": 5}', path.read_bytes()[:90]):
        path.write_bytes(text)
        assert load_regions_head(path) is None
    assert load_regions_head(tmp_path / "gone") is None
