"""A bad stretch that takes more than its time is put off: the rest of the drive comes first, and then all of it."""

from __future__ import annotations

import json
import random
from pathlib import Path
from typing import Any

import pytest

from neogenesis.bench.drives.system import BlockSystem
from neogenesis.core.drive import Drive
from neogenesis.core.errors import ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.store import LostStore, MemoryStore, Patience, PutOff, read_or_narrow
from tests.drives import LINUX, MIB, Part, blank, make_drive, run, simulated
from tests.test_events import told as events_of


def test_what_is_known_when_time_is_up_is_not_asked_for_again() -> None:
    now, asked = [0.0], list[int]()

    class Bad(MemoryStore):
        def read_into(self, at: int, buffer: memoryview) -> None:
            if at < 96 * 512 and at + len(buffer) > 0:
                now[0] += 4
                asked.append(at)
                raise ReadFailed(at, len(buffer), "Input/output error")
            super().read_into(at, buffer)

    store = Bad(MIB, 512)
    store.data[:] = b"x" * MIB
    buffer = bytearray(MIB)
    with pytest.raises(PutOff) as found:
        read_or_narrow(store, 0, memoryview(buffer), 512, patience=Patience(lambda: now[0]))
    assert 60 <= now[0] <= 72, "within a request or two of what it may take"
    known = found.value.lost
    assert known and known[0][0] == 0 and known[-1][1] <= 96 * 512
    asked.clear()
    assert read_or_narrow(LostStore(store, Extents.of(known)), 0, memoryview(buffer), 512) == [(0, 96 * 512)]
    assert not [at for at in asked if any(start <= at < end for start, end in known)]
    assert not any(buffer[: 96 * 512]) and buffer[96 * 512 :] == b"x" * (MIB - 96 * 512)


def struggling(folder: Path, places: tuple[int, ...]) -> tuple[Path, list[tuple[int, int]]]:
    """A drive that struggles at `places`; 96 sectors of four seconds each take six minutes."""
    bad = [(at, at + 96 * 512) for at in places]
    read = {"unreadable": bad, "slow": [(a, b, 4000.0) for a, b in bad]}
    old = simulated(folder / "old.drive.json", "old.img", serial="HD5-000OLD1", read=read)
    return old, bad


def test_a_copy_brings_all_else_first(tmp_path: Path, neogenesis: Any) -> None:
    (tmp_path / "old.img").write_bytes(random.Random(5).randbytes(48 * MIB))
    old, bad = struggling(tmp_path, (8 * MIB + 512, 30 * MIB))
    new, plan, events = blank(tmp_path / "new.img", 48), tmp_path / "p.json", tmp_path / "events.jsonl"
    neogenesis("plan", old, new, "--intent", "exact", "-o", plan)
    neogenesis("transfer", plan, "--confirm", "new", "--events", events, status=4)
    told = events_of(events)
    codes = [e.get("code") for e in told]
    assert codes.count("put-off") == 3, "each stretch when it is put off, and once that they are read now"
    assert codes.index("unreadable") > [n for n, e in enumerate(told) if e.get("code") == "put-off"][-1]
    lost = [(e["place_bytes"], e["place_bytes"] + e["lost_bytes"]) for e in told if e.get("code") == "unreadable"]
    assert lost == bad
    wanted = bytearray((tmp_path / "old.img").read_bytes())
    for start, end in bad:
        wanted[start:end] = bytes(end - start)
    assert new.read_bytes() == wanted


def test_a_copy_that_was_stopped_in_what_was_put_off_goes_on(tmp_path: Path, neogenesis: Any) -> None:
    """It dies while the second round is at it: all else is on record, and nothing of the stretch is called lost."""
    (tmp_path / "old.img").write_bytes(random.Random(6).randbytes(48 * MIB))
    old, bad = struggling(tmp_path, (8 * MIB,))
    new, plan = blank(tmp_path / "new.img", 48), tmp_path / "p.json"
    neogenesis("plan", old, new, "--intent", "exact", "-o", plan)
    spec = json.loads(old.read_text())
    spec["read"]["dies_after_bytes"] = 52 * MIB
    old.write_text(json.dumps(spec))
    neogenesis("transfer", plan, "--confirm", "new", status=6)
    journal = (tmp_path / "p.journal").read_bytes()
    assert b'"done"' not in journal
    struggling(tmp_path, (8 * MIB,))
    neogenesis("transfer", plan, "--confirm", "new", "--resume", status=4)
    wanted = bytearray((tmp_path / "old.img").read_bytes())
    wanted[bad[0][0] : bad[0][1]] = bytes(96 * 512)
    assert new.read_bytes() == wanted


def test_what_was_put_off_is_not_done_when_another_partition_is_cut_off(tmp_path: Path, neogenesis: Any) -> None:
    """The stretch is in the first of two; the drive dies while the second is copied, and is connected again."""
    noise = [random.Random(n).randbytes(20 * MIB) for n in range(2)]
    parts = [Part(30, LINUX, "ext4", f"home{n}", {"data.bin": data}) for n, data in enumerate(noise)]
    raw = make_drive(tmp_path / "old.img", 64, parts).read_bytes()
    place = raw.index(noise[0][2 * MIB : 2 * MIB + 512])
    old, bad = struggling(tmp_path, (place,))
    new, plan, events = blank(tmp_path / "new.img", 80), tmp_path / "p.json", tmp_path / "events.jsonl"
    neogenesis("plan", old, new, "--grow", "none", "-o", plan)
    spec = json.loads(old.read_text())
    spec["read"]["dies_after_bytes"] = 36 * MIB
    old.write_text(json.dumps(spec))
    neogenesis("transfer", plan, "--confirm", "new", "--events", events, status=6)
    codes = [e.get("code") for e in events_of(events)]
    assert codes.count("put-off") == 1, "it died before what was put off came again"
    struggling(tmp_path, (place,))
    neogenesis("transfer", plan, "--confirm", "new", "--resume", status=4)
    wanted, found, planned = bytearray(raw), new.read_bytes(), json.loads(plan.read_text())
    wanted[bad[0][0] : bad[0][1]] = bytes(96 * 512)
    for one in planned["layout"]["partitions"]:
        from_ = next(p for p in planned["source"]["survey"]["partitions"] if p["number"] == one["from_partition"])
        start, size = from_["start_bytes"], from_["size_bytes"]
        assert found[one["start_bytes"] :][:size] == wanted[start : start + size]


def test_an_image_and_a_salvage_put_off_too(tmp_path: Path, neogenesis: Any) -> None:
    noise = {f"f{n}.bin": random.Random(n).randbytes(6 * MIB) for n in range(4)}
    made = make_drive(tmp_path / "old.img", 48, [Part(40, LINUX, "ext4", "home", noise)])
    raw = made.read_bytes()
    place = raw.index(noise["f1.bin"][2 * MIB : 2 * MIB + 512])
    old, bad = struggling(tmp_path, (place,))
    neogenesis("image", old, tmp_path / "o.qcow2", status=4)
    manifest = json.loads((tmp_path / "o.qcow2.manifest.json").read_text())
    assert manifest["lost"] == [list(bad[0])]
    run("qemu-img", "convert", "-O", "raw", tmp_path / "o.qcow2", tmp_path / "back.img")
    back = (tmp_path / "back.img").read_bytes()
    assert back[place - MIB : place] == raw[place - MIB : place] and not any(back[place : place + 96 * 512])
    neogenesis("salvage", old, tmp_path / "out", status=4)
    saved = [json.loads(line) for line in (tmp_path / "out/salvage.jsonl").read_text().splitlines()]
    assert saved[-1]["path"].endswith("f1.bin"), "the file with the bad stretch comes last"
    assert [s["path"].split("/")[-1] for s in saved if s["lost_bytes"]] == ["f1.bin"]
    assert saved[-1]["lost_bytes"] == 96 * 512
    for name, data in noise.items():
        wanted = bytearray(data)
        if name == "f1.bin":
            wanted[2 * MIB : 2 * MIB + 96 * 512] = bytes(96 * 512)
        assert next((tmp_path / "out").rglob(name)).read_bytes() == wanted


def test_how_long_a_request_may_take_is_shown(tmp_path: Path) -> None:
    folder = tmp_path / "sys/dev/block/8:0"
    (folder / "queue").mkdir(parents=True)
    system = BlockSystem(tmp_path)
    assert system.timeout_s(folder) == 30
    (folder / "device").mkdir()
    (folder / "device/timeout").write_text("45\n")
    assert system.timeout_s(folder) == 45
    (folder / "queue/io_timeout").write_text("7000\n")
    assert system.timeout_s(folder) == 7
    assert Drive(path="x.img", size_bytes=512, sector_size=512).timeout_s is None
