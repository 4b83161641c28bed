"""A drive that dies at any moment of any work, comes back under another name and is gone on with.

In the end the result is the old drive's, or what is missing stands in every record, to the sector.
"""

from __future__ import annotations

import json
import os
import random
from pathlib import Path
from typing import Any

import pytest

from neogenesis.core.extent import Extents
from neogenesis.core.transfer import load_manifest
from tests.drives import LINUX, MIB, Part, blank, make_drive, run, simulated
from tests.program import run_program

MOMENTS = 40 if os.environ.get("NEOGENESIS_LONG") else 3
WORKS = ("image", "transfer", "rescue", "salvage", "restore")
SIZE = 64
FILES = {f"home/papers/{n}.bin": random.Random(n).randbytes(900_000 + 1777 * n) for n in range(20)}


@pytest.fixture(scope="module")
def original(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return make_drive(
        tmp_path_factory.mktemp("dying") / "old.img", SIZE, [Part(SIZE - 4, LINUX, "ext4", "root", FILES)]
    )


class Mortal:
    """An old drive whose data stands in `v.img`; each time that it comes back it has another name."""

    def __init__(self, folder: Path, original: Path, bad: Extents) -> None:
        self.folder, self.bad, self._number = folder, bad, 0
        run("cp", "--sparse=always", original, folder / "v.img")
        self.place = folder / "none"

    def comes_back(self, dies_after: int | None) -> Path:
        self.place.unlink(missing_ok=True)
        self._number += 1
        read = {"unreadable": [list(r) for r in self.bad], "dies_after_bytes": dies_after}
        name = self.folder / f"dock{self._number}.drive.json"
        self.place = simulated(name, "v.img", serial="HD5-00000OLD", model="Halden 500", read=read)
        return self.place


def bad_ranges(original: Path, chance: random.Random) -> Extents:
    """A few sectors inside files, so that what they cost can be told by name."""
    data = original.read_bytes()
    found = []
    for name in chance.sample(sorted(FILES), chance.choice((0, 1, 2))):
        at = data.find(FILES[name][8192:12288])
        assert at > 0
        found.append((at + 512, at + 512 + 512 * chance.randrange(1, 4)))
    return Extents.of(found)


def damaged_names(original: Path, bad: Extents) -> set[str]:
    data = original.read_bytes()
    return {name for name, held in FILES.items() if any(held[8192:12288] in data[s - 512 : s + 8192] for s, _ in bad)}


def with_zeros(original: Path, bad: Extents) -> bytes:
    made = bytearray(original.read_bytes())
    for start, end in bad:
        made[start:end] = bytes(end - start)
    return bytes(made)


@pytest.mark.parametrize("moment", range(MOMENTS))
def test_what_a_dead_drive_interrupted_is_whole_or_told(
    moment: int, original: Path, tmp_path: Path, neogenesis: Any
) -> None:
    chance = random.Random(4711 + moment)
    work = WORKS[moment % len(WORKS)]
    bad = bad_ranges(original, chance)
    old = Mortal(tmp_path, original, bad)
    wanted, lost = with_zeros(original, bad), bool(bad)
    WORK[work](neogenesis, old, chance, wanted, lost, tmp_path)
    if work == "salvage":
        summary = json.loads((tmp_path / "out/salvage.json").read_bytes())
        assert {one["path"] for one in summary["incomplete"]} == damaged_names(original, bad)


def dies_somewhere(neogenesis: Any, old: Mortal, chance: random.Random, order: Any, lost: bool) -> None:
    """Begun with a drive that dies, as often as chance has it; `order` is made for the name that it has then."""
    for again in range(chance.choice((1, 1, 2))):
        place = old.comes_back(chance.randrange(2 * MIB, 20 * MIB))
        done = run_program(order(place, again > 0))
        if done.returncode in (0, 4):  # it lived long enough
            assert (done.returncode == 4) == lost
            return
        assert done.returncode == 6, done.stderr
    done = neogenesis(*order(old.comes_back(None), True), status=4 if lost else 0)


def image(neogenesis: Any, old: Mortal, chance: random.Random, wanted: bytes, lost: bool, folder: Path) -> None:
    out = folder / "o.qcow2"
    dies_somewhere(neogenesis, old, chance, lambda place, again: ["image", place, out], lost)
    assert Extents.of(load_manifest(folder / "o.qcow2.manifest.json").head.lost) == old.bad
    neogenesis("verify", folder / "o.qcow2.manifest.json", out)
    found = json.loads(neogenesis("survey", out, "--json").stdout)["inherited_losses"]
    assert [tuple(r) for r in found["ranges"]] == list(old.bad)
    neogenesis("salvage", out, folder / "files", status=4 if lost else 0)
    assert_files(folder / "files", lost)


def assert_files(folder: Path, lost: bool) -> None:
    """All are there, and all are whole that no lost sector touches."""
    held = {p.name: p.read_bytes() for p in folder.rglob("*.bin")}
    assert set(held) == {Path(name).name for name in FILES}
    damaged = [name for name, data in FILES.items() if held[Path(name).name] != data]
    assert bool(damaged) == lost and len(damaged) <= 2


def transfer(neogenesis: Any, old: Mortal, chance: random.Random, wanted: bytes, lost: bool, folder: Path) -> None:
    blank(folder / "n.img", SIZE)
    new = simulated(folder / "new.drive.json", "n.img", serial="HD5-00000NEW")
    neogenesis("plan", old.comes_back(None), new, "--intent", "exact", "-o", folder / "p.json")

    def order(place: Path, again: bool) -> list[Any]:
        begun = (folder / "p.journal").exists()
        return ["transfer", folder / "p.json", "--confirm", "0NEW", "--source", place, *(["--resume"] if begun else [])]

    dies_somewhere(neogenesis, old, chance, order, lost)
    assert (folder / "n.img").read_bytes() == wanted
    assert Extents.of(load_manifest(folder / "p.manifest.json").head.lost) == old.bad
    regions = json.loads((folder / "p.regions.json").read_bytes())["regions"]
    assert Extents.of((s, e) for s, e, state in regions if state == "lost") == old.bad


def rescue(neogenesis: Any, old: Mortal, chance: random.Random, wanted: bytes, lost: bool, folder: Path) -> None:
    saved, region_map = folder / "saved.img", folder / "m.json"

    def order(place: Path, again: bool) -> list[Any]:
        return ["rescue", place, saved, "--map", region_map, "--confirm", "aved"]

    dies_somewhere(neogenesis, old, chance, order, lost)
    assert saved.read_bytes() == wanted
    regions = json.loads(region_map.read_bytes())["regions"]
    assert Extents.of((s, e) for s, e, state in regions if state != "read") == old.bad


def salvage(neogenesis: Any, old: Mortal, chance: random.Random, wanted: bytes, lost: bool, folder: Path) -> None:
    dies_somewhere(neogenesis, old, chance, lambda place, again: ["salvage", place, folder / "out"], lost)
    held = {p.name: p.read_bytes() for p in (folder / "out").rglob("*.bin")}
    assert set(held) == {Path(name).name for name in FILES}
    whole = {Path(name).name for name, data in FILES.items() if held[Path(name).name] == data}
    rows = [json.loads(row) for row in (folder / "out/salvage.jsonl").read_text().splitlines()]
    latest = {Path(row["path"]).name: row for row in rows}
    assert {name for name, row in latest.items() if not row["lost_bytes"] and not row.get("fault")} == whole


def restore(neogenesis: Any, old: Mortal, chance: random.Random, wanted: bytes, lost: bool, folder: Path) -> None:
    """Here it is the new drive that is gone for a while."""
    neogenesis("image", old.comes_back(None), folder / "o.qcow2", status=4 if lost else 0)
    blank(folder / "n.img", SIZE)
    for again in range(3):
        fails = chance.randrange(MIB, 12 * MIB) if again < 2 else None
        name = f"new{again}.drive.json"
        write = {"fails_after_bytes": fails}
        new = simulated(folder / name, "n.img", serial="HD5-00000NEW", write=write)
        order = ["restore", folder / "o.qcow2", new, "--confirm", "0NEW", *(["--resume"] if again else [])]
        done = run_program(order)
        if done.returncode in (0, 4):
            assert (done.returncode == 4) == lost
            break
        assert done.returncode == 6, done.stderr
        new.unlink()
    back = folder / "files"
    neogenesis("salvage", new, back)
    assert_files(back, lost)
    manifest = next(folder.glob("o.qcow2.onto-*.manifest.json"))
    assert Extents.of(load_manifest(manifest).head.lost) == old.bad


WORK = {"image": image, "transfer": transfer, "rescue": rescue, "salvage": salvage, "restore": restore}
