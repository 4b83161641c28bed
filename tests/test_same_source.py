"""An interrupted copy of what nobody understands does not mix two states of its old drive."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from neogenesis.core.extent import NONE, Extents
from neogenesis.core.store import MemoryStore
from neogenesis.core.transfer.same import Copied, changed_since
from neogenesis.core.work.chunks import ChunkLog
from tests.drives import LINUX, MIB, Part, blank, make_drive, run, simulated

SIZE = 48


@pytest.fixture
def loop(tmp_path: Path) -> Any:
    """A device whose partition holds what nobody understands: a file would be told by its time of change."""
    make_drive(tmp_path / "old.img", SIZE, [Part(SIZE - 4, LINUX, "raw", "vault")])
    with (tmp_path / "old.img").open("r+b") as file:
        file.seek(MIB)
        file.write(random.Random(8).randbytes((SIZE - 4) * MIB))
    device = run("losetup", "--find", "--show", tmp_path / "old.img").strip()
    yield device
    run("losetup", "--detach", device)


def cut_off(order: list[Any], begun: Path, lines: int) -> None:
    """Kill a work once its journal has so many chunks on record."""
    process = subprocess.Popen([sys.executable, "-m", "neogenesis", *map(str, order)], stderr=subprocess.DEVNULL)
    until = time.monotonic() + 60
    while process.poll() is None and time.monotonic() < until:
        if begun.exists() and begun.read_bytes().count(b'"chunk"') >= lines:
            break
        time.sleep(0.005)
    process.send_signal(signal.SIGKILL)
    assert process.wait() == -signal.SIGKILL, "it was done before it could be cut off"


def overwrite(device: str, *places: int) -> None:
    run("blockdev", "--setrw", device)  # the guard of the work that was killed is taken off a moment later
    with Path(device).open("r+b", buffering=0) as file:
        for place in places:
            file.seek(place)
            file.write(os.urandom(64 << 10))
        os.fsync(file.fileno())


@pytest.mark.loop
@pytest.mark.parametrize("intent", ["exact", "replace"])
def test_a_resumed_copy_is_of_one_state(intent: str, loop: str, tmp_path: Path, neogenesis: Any) -> None:
    blank(tmp_path / "new.img", SIZE)
    new = simulated(
        tmp_path / "new.drive.json", "new.img", serial="HD5-0000NEW1", write={"bytes_per_s": 1.2e7}, clock="real"
    )
    plan = tmp_path / "p.json"
    neogenesis("plan", loop, new, "--intent", intent, "-o", plan)
    order = ["transfer", plan, "--confirm", "NEW1"]
    cut_off(order, tmp_path / "p.journal", 4)
    first = json.loads((tmp_path / "p.journal").read_bytes().splitlines()[-2][9:])
    assert first
    overwrite(loop, 3 * MIB, (SIZE - 10) * MIB)  # the machine ran from it meanwhile
    neogenesis(*order, "--resume")
    told = (tmp_path / "p.events.jsonl").read_text()
    assert "are not what was copied of them" in told
    old, made = (tmp_path / "old.img").read_bytes(), (tmp_path / "new.img").read_bytes()
    assert made[MIB : (SIZE - 3) * MIB] == old[MIB : (SIZE - 3) * MIB]
    journal = (tmp_path / "p.journal").read_text()
    assert journal.count('["leg"]') == 2


@pytest.mark.loop
def test_a_person_may_say_that_nobody_used_it(loop: str, tmp_path: Path, neogenesis: Any) -> None:
    blank(tmp_path / "new.img", SIZE)
    new = simulated(
        tmp_path / "new.drive.json", "new.img", serial="HD5-0000NEW1", write={"bytes_per_s": 1.2e7}, clock="real"
    )
    neogenesis("plan", loop, new, "--intent", "exact", "-o", tmp_path / "p.json")
    order = ["transfer", tmp_path / "p.json", "--confirm", "NEW1"]
    cut_off(order, tmp_path / "p.journal", 4)
    ended = json.loads(neogenesis(*order, "--resume", "--unused-since", "--json").stdout)
    assert ended["status"] == "done" and ended["seconds"] > 0 and ended["paused_seconds"] == 0
    told = (tmp_path / "p.events.jsonl").read_text()
    assert "nobody" not in told and "was not used since" in told and '"unused"' in (tmp_path / "p.journal").read_text()


@pytest.mark.loop
def test_a_resumed_image_is_of_one_state(loop: str, tmp_path: Path, neogenesis: Any) -> None:
    order = ["image", loop, tmp_path / "o.qcow2", "--level", "19"]
    cut_off(order, tmp_path / "o.qcow2.journal", 2)
    chunks = [
        json.loads(row[9:]) for row in (tmp_path / "o.qcow2.journal").read_bytes().splitlines() if b'"chunk"' in row
    ]
    overwrite(loop, chunks[0][1] + MIB if chunks[0][1] else 3 * MIB, (SIZE - 10) * MIB)
    neogenesis(*order)
    run("qemu-img", "convert", "-O", "raw", tmp_path / "o.qcow2", tmp_path / "back.img")
    old, made = (tmp_path / "old.img").read_bytes(), (tmp_path / "back.img").read_bytes()
    assert made[MIB : (SIZE - 3) * MIB] == old[MIB : (SIZE - 3) * MIB]


def logged(store: MemoryStore, step: int) -> ChunkLog:
    from blake3 import blake3

    from neogenesis.core.work.chunks import ZEROS, Chunk

    chunks = ChunkLog()
    for start in range(0, store.size_bytes, step):
        data = store.read(start, step)
        chunks.add(Chunk(start, start + step, blake3(data).digest() if any(data) else ZEROS))
    return chunks


def test_what_is_understood_is_sampled_and_the_rest_is_read() -> None:
    step, count = 4096, 3000
    store = MemoryStore(step * count, 512)
    store.write(0, random.Random(3).randbytes(step * count))
    chunks = logged(store, step)
    half = count // 2 * step
    copied = Copied(((0, step * count, 0),), Extents.of([(0, half)]))
    assert changed_since(store, chunks, copied, NONE, whole=True) == []
    read: list[int] = []
    changed_since(store, chunks, copied, NONE, True, lambda some: read.append(len(some)))
    assert count // 2 <= sum(read) <= count // 2 + 64
    store.write(half + 77 * step, b"another")
    store.write(5 * step, b"another")
    found = {chunk.start // step for chunk in changed_since(store, chunks, copied, NONE, whole=True)}
    assert found == {5, count // 2 + 77}  # one that differs has all of it read
    lost = Extents.of([(half + 77 * step, half + 78 * step), (5 * step, 6 * step)])
    assert changed_since(store, chunks, copied, lost, whole=True) == []
    assert len(changed_since(store, chunks, copied, NONE, whole=False)) <= 2


def test_sets_say_what_they_hold() -> None:
    rng = random.Random(5)
    for _ in range(200):
        ranges = [(start := rng.randrange(100), start + rng.randrange(1, 9)) for _ in range(rng.randrange(6))]
        some, inside = Extents.of(ranges), {n for s, e in ranges for n in range(s, e)}
        rows = np.array([(s := rng.randrange(110), s + rng.randrange(1, 12)) for _ in range(20)], dtype=np.int64)
        assert some.contain(rows).tolist() == [set(range(s, e)) <= inside for s, e in rows.tolist()]
        assert some.touch(rows).tolist() == [bool(set(range(s, e)) & inside) for s, e in rows.tolist()]


def test_lost_places_are_known_where_they_went() -> None:
    copied = Copied(((1000, 500, 0), (2000, 500, 700)), NONE)
    assert copied.there(Extents.of([(100, 200), (400, 800), (1150, 1300)])) == Extents.of(
        [(1100, 1200), (1400, 1500), (2000, 2100), (2450, 2500)]
    )
