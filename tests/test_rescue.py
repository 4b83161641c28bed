"""Rescue of failing drives: no readable byte is lost, the map is exact, and every kind of end can be gone on from."""

from __future__ import annotations

import itertools
import json
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.processes.reader import open_tree
from neogenesis.core.drive import Drive, Identity
from neogenesis.core.errors import ReadFailed, Stopped
from neogenesis.core.extent import Extents
from neogenesis.core.rescue import MapEnds, Rescue, RescueMap, Rests, load_map
from neogenesis.core.store import FileStore, MemoryStore, PathOpener, RangeView, SealedFileStore
from neogenesis.core.work import Control
from tests.drives import LINUX, MIB, Part, blank, is_blank, make_drive, nt_files, simulated, spans


class Failing(MemoryStore):
    """Memory with bad sectors that counts what is asked of it."""

    def __init__(self, size: int, bad: Extents, dies_after: int | None = None) -> None:
        super().__init__(size)
        self.bad, self.dies_after = bad, dies_after
        self.requested = self.calls = 0

    def read_into(self, offset: int, buffer: memoryview) -> None:
        self.calls += 1
        self.requested += len(buffer)
        gone = self.dies_after is not None and self.requested > self.dies_after
        if gone or self.bad.intersection(Extents.of([(offset, offset + len(buffer))])):
            raise ReadFailed(offset, len(buffer), "Input/output error")
        super().read_into(offset, buffer)


def rescue(source: Failing, target: MemoryStore, found: RescueMap) -> Rescue:
    work = Rescue(source, target, found, open_tree, Control(), BenchClock(), lambda current: None)
    work.run(Drive(path="x", size_bytes=source.size_bytes, sector_size=512))
    return work


sectors = st.lists(st.tuples(st.integers(0, 8191), st.integers(1, 40)), max_size=25)


@given(sectors, st.integers(0, 9))
@settings(max_examples=60, deadline=None)
def test_exactly_the_bad_sectors_are_lost(bad: list[tuple[int, int]], seed: int) -> None:
    size = 4 * MIB
    lost = Extents.of((s * 512, (s + n) * 512) for s, n in bad).clipped(0, size)
    source = Failing(size, lost)
    source.data[:] = random.Random(seed).randbytes(size)
    target, found = MemoryStore(size), RescueMap(size)
    if lost.total == size:
        return
    try:
        rescue(source, target, found)
    except Stopped:
        assert lost.total > size // 2
        return
    assert found.ranges("lost") == lost and found.ranges("read") == lost.complement(size)
    for start, end in lost.complement(size):
        assert target.data[start:end] == source.data[start:end]
    assert all(not any(target.data[s:e]) for s, e in lost)


def test_a_thousand_bad_places_cost_little() -> None:
    size = 512 * MIB
    rng = random.Random(3)
    lost = Extents.of((s, s + 512) for s in (rng.randrange(size // 512) * 512 for _ in range(250)))
    source = Failing(size, lost)
    found = RescueMap(size)
    rescue(source, MemoryStore(size), found)
    assert found.ranges("lost") == lost
    assert source.requested <= 1.3 * size


@given(
    st.lists(
        st.tuples(st.integers(0, 99), st.integers(0, 99), st.sampled_from(["read", "lost", "postponed", "untried"])),
        max_size=30,
    )
)
def test_map_is_an_array_of_states(marks: list[tuple[int, int, str]]) -> None:
    found, expected = RescueMap(90), ["untried"] * 90
    for start, end, state in marks:
        found.mark(start, end, state)
        expected[start : min(end, 90)] = [state] * max(0, min(end, 90) - start)
    regions = list(found)
    assert regions[0][0] == 0 and regions[-1][1] == 90
    assert all(a[1] == b[0] and a[2] != b[2] for a, b in itertools.pairwise(regions))
    assert [state for start, end, state in regions for _ in range(start, end)] == expected
    for state in ("read", "lost", "postponed", "untried"):
        assert found.total(state) == expected.count(state) == found.ranges(state).total
        assert found.ranges_between(20, 70, state) == found.ranges(state).clipped(20, 70)


def test_a_million_regions_are_saved_and_read(tmp_path: Path) -> None:
    count = 1_000_000
    found = RescueMap(count * 512, [(n * 512, (n + 1) * 512, "lost" if n % 2 else "read") for n in range(count)])
    started = time.perf_counter()
    ends = MapEnds(Identity(serial="x"), Identity(serial="y"))
    found.save(tmp_path / "m.json", ends)
    again = load_map(tmp_path / "m.json", count * 512, ends)
    assert len(again) == count and again.total("lost") == count * 256
    for n in range(2000):
        again.mark(n * 250 * 512, n * 250 * 512 + 512, "postponed")
    assert time.perf_counter() - started < 60


def test_a_drive_that_dies_is_not_a_drive_full_of_bad_places() -> None:
    size = 64 * MIB
    source = Failing(size, Extents.of([(3 * MIB, 3 * MIB + 512)]), dies_after=20 * MIB)
    source.data[:] = random.Random(1).randbytes(size)
    target, found = MemoryStore(size), RescueMap(size)
    with pytest.raises(Stopped, match="no longer answers"):
        rescue(source, target, found)
    assert found.total("lost") == 0 and found.total("read") > 15 * MIB and found.total("postponed") <= 128 * 1024
    source.dies_after = None
    rescue(source, target, found)
    assert found.ranges("lost") == Extents.of([(3 * MIB, 3 * MIB + 512)])


class Flaky(MemoryStore):
    """Memory of which the beginning fails half of the time, and what comes after it always."""

    def __init__(self, size: int, seed: int) -> None:
        super().__init__(size)
        self.random = random.Random(seed)

    def read_into(self, offset: int, buffer: memoryview) -> None:
        always = offset < 40_960 and offset + len(buffer) > 8192
        if always or (offset < 8192 and self.random.random() < 0.5):
            raise ReadFailed(offset, len(buffer), "Input/output error")
        super().read_into(offset, buffer)


def test_a_flaky_beginning_is_not_a_drive_that_is_gone(tmp_path: Path) -> None:
    content = make_drive(tmp_path / "old.img", 12, [Part(4, LINUX, "ext2"), Part(4, LINUX, "raw")]).read_bytes()
    size, stopped = len(content), 0
    for seed in range(60):
        source, target, found = Flaky(size, seed), MemoryStore(size), RescueMap(size)
        source.data[:] = content
        try:
            rescue(source, target, found)
        except Stopped:
            stopped += 1
            continue
        assert found.total("read") + found.total("lost") == size and found.total("lost") < 40_960
        for start, end in found.ranges("read"):
            assert target.data[start:end] == source.data[start:end]
    assert stopped <= 1


def test_rescue_command_from_bad_places_to_names(standard: Path, tmp_path: Path, neogenesis) -> None:
    raw = standard.read_bytes()
    at = raw.index(nt_files()["Users/berth/scans/007.bin"][-600:])
    bad = [[at, at + 100], [600 * MIB + 11, 600 * MIB + 5000]]
    drive = simulated(tmp_path / "old.drive.json", "old.img", serial="RES00001", read={"unreadable": bad})
    new = blank(tmp_path / "new.img", 640)
    said = neogenesis("rescue", drive, new, "--map", tmp_path / "m.json", "--confirm", "new", status=4)
    assert "Users/berth/scans/007.bin" in said.stdout and "files.csv" in said.stderr
    found = json.loads((tmp_path / "m.json").read_text())
    assert found["schema"] == "neogenesis.region-map/1" and found["size_bytes"] == len(raw)
    assert found["regions"][0][0] == 0 and found["regions"][-1][1] == len(raw)
    assert all(a[1] == b[0] for a, b in zip(found["regions"], found["regions"][1:], strict=False))
    lost = [r[:2] for r in found["regions"] if r[2] == "lost"]
    assert lost == [[s // 512 * 512, -(-e // 512) * 512] for s, e in bad]
    copy = new.read_bytes()
    at = 0
    for start, end in [*lost, [len(raw), len(raw)]]:
        assert copy[at:start] == raw[at:start]
        at = end
    assert "Users/berth/scans/007.bin" in (tmp_path / "m.files.csv").read_text()


def test_rescue_goes_on_after_kill_and_after_the_drive_came_back(standard: Path, tmp_path: Path, neogenesis) -> None:
    start = spans(standard)[2][0]
    traits = {"serial": "RES00002", "clock": "real"}
    drive = simulated(
        tmp_path / "old.drive.json",
        "old.img",
        read={"bytes_per_s": 1.2e8, "unreadable": [[start + 5 * MIB, start + 5 * MIB + 512]]},
        **traits,
    )
    new = tmp_path / "copy.img"  # made by the command
    command = [
        sys.executable,
        "-m",
        "neogenesis",
        "rescue",
        drive,
        new,
        "--map",
        tmp_path / "m.json",
        "--confirm",
        "copy",
    ]
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    time.sleep(2.2)
    process.send_signal(signal.SIGKILL)
    process.wait()
    process.stderr.close()
    simulated(
        tmp_path / "old.drive.json",
        "old.img",
        read={"dies_after_bytes": 200_000_000, "unreadable": [[start + 5 * MIB, start + 5 * MIB + 512]]},
        **traits,
    )
    assert "no longer answers" in neogenesis(*command[3:], status=6).stderr
    simulated(
        tmp_path / "old.drive.json",
        "old.img",
        read={"unreadable": [[start + 5 * MIB, start + 5 * MIB + 512]]},
        **traits,
    )
    neogenesis(*command[3:], status=4)
    raw, copy = standard.read_bytes(), new.read_bytes()
    hole = start + 5 * MIB
    assert copy[:hole] == raw[:hole] and copy[hole + 512 :] == raw[hole + 512 :] and not any(copy[hole : hole + 512])


def test_rescue_refuses_wrong_drives_and_maps(standard: Path, tmp_path: Path, neogenesis) -> None:
    drive = simulated(tmp_path / "old.drive.json", "old.img", serial="RES00003")
    new, small, page = blank(tmp_path / "new.img", 640), blank(tmp_path / "little.img", 100), tmp_path / "m.json"
    assert "ends" in neogenesis("rescue", drive, new, "--map", page, "--confirm", "0003", status=3).stderr
    assert "smaller" in neogenesis("rescue", drive, small, "--map", page, "--confirm", "ttle", status=3).stderr
    assert "itself" in neogenesis("rescue", drive, standard, "--map", page, "--confirm", "old", status=3).stderr
    assert (
        "passes"
        in neogenesis("rescue", drive, new, "--map", page, "--confirm", "new", "--passes", "hammer", status=2).stderr
    )
    assert is_blank(new) and not page.exists()
    neogenesis("rescue", drive, new, "--map", page, "--confirm", "new")
    assert new.read_bytes() == standard.read_bytes()
    simulated(tmp_path / "old.drive.json", "old.img", serial="OTHER004")
    assert "another drive" in neogenesis("rescue", drive, new, "--map", page, "--confirm", "new", status=3).stderr
    page.write_text("{}")
    assert "map" in neogenesis("rescue", drive, new, "--map", page, "--confirm", "new", status=3).stderr


class Sick(Failing):
    """Also slow in places, by a clock of its own, and warm from being read."""

    def __init__(self, size: int, slow: Extents, seconds: float) -> None:
        super().__init__(size, Extents.of([]))
        self.slow, self.seconds, self.passed_s, self.warmth = slow, seconds, 0.0, 30.0
        self.order: list[int] = []
        self.rests: list[float] = []

    def read_into(self, offset: int, buffer: memoryview) -> None:
        super().read_into(offset, buffer)
        self.order.append(offset)
        slow = self.slow.intersection(Extents.of([(offset, offset + len(buffer))]))
        self.passed_s += self.seconds if slow else 0.001
        self.warmth += len(buffer) / MIB

    def rest(self, seconds: float) -> None:
        self.rests.append(seconds)
        self.passed_s += seconds
        self.warmth = max(30.0, self.warmth - 0.5 * seconds)


def rescue_of(source: Sick, temperature=lambda: None) -> tuple[RescueMap, list[str]]:
    said: list[str] = []
    found, target = RescueMap(source.size_bytes), MemoryStore(source.size_bytes)
    clock = BenchClock(1.0, lambda: source.passed_s)
    rests = Rests(temperature, source.rest, said.append)
    work = Rescue(source, target, found, open_tree, Control(), clock, lambda current: None, rests=rests)
    work.run(Drive(path="x", size_bytes=source.size_bytes, sector_size=512))
    assert found.total("read") == source.size_bytes and target.data == source.data
    return found, said


def test_slow_places_are_left_for_later() -> None:
    slow = Extents.of([(20 * MIB, 24 * MIB)])
    source = Sick(64 * MIB, slow, 0.8)
    _, said = rescue_of(source)
    first_slow = [n for n, offset in enumerate(source.order) if 20 * MIB <= offset < 24 * MIB]
    behind = [n for n, offset in enumerate(source.order) if offset >= 30 * MIB]
    assert max(behind) < sorted(first_slow)[len(first_slow) // 2]  # most of it comes when all else is safe
    assert not said and not source.rests


def test_a_drive_that_stalls_is_left_alone_for_longer_and_longer() -> None:
    source = Sick(16 * MIB, Extents.of([(8 * MIB, 9 * MIB)]), 12.0)
    _, said = rescue_of(source)
    assert source.rests[:3] == [10.0, 20.0, 40.0] and max(source.rests) == 80.0
    assert "stalled for 12 s" in said[0]


def test_a_hot_drive_cools_before_it_goes_on() -> None:
    source = Sick(64 * MIB, Extents.of([(0, 64 * MIB)]), 1.0)
    seen: list[float] = []

    def temperature() -> float:
        seen.append(source.warmth)
        return source.warmth

    _, said = rescue_of(source, temperature)
    assert any("hot" in text for text in said) and max(seen) < 80
    stuck = Sick(8 * MIB, Extents.of([(0, 8 * MIB)]), 1.0)  # a sensor that always says the same
    _, said = rescue_of(stuck, lambda: 90.0)
    assert 90 <= len(said) < 1000  # a quarter of an hour now and then, and it goes on all the same


def test_a_simulated_drive_gets_hot_and_the_command_says_that_it_rests(tmp_path: Path, neogenesis) -> None:
    blank(tmp_path / "old.img", 60)
    hot = {"rest_c": 40, "per_gb_c": 600, "cools_c_per_s": 0.4}
    drive = simulated(tmp_path / "old.drive.json", "old.img", serial="HD5-1", heat=hot, read={"bytes_per_s": 2e6})
    events = tmp_path / "events"
    neogenesis("rescue", drive, tmp_path / "new.img", "--map", tmp_path / "m", "--confirm", "new", "--events", events)
    told = [json.loads(line) for line in events.read_text().splitlines()]
    assert any(e.get("code") == "resting" and "hot" in e["text"] for e in told)
    last = [e for e in told if e["event"] == "progress"][-1]
    assert last["figures"]["outline"] == "r" * 480 and last["figures"]["celsius"] <= 55


@given(st.lists(st.tuples(st.integers(0, 999), st.integers(1, 300), st.sampled_from(["read", "lost", "postponed"]))))
def test_the_outline_shows_the_worst_of_each_stretch(marks: list[tuple[int, int, str]]) -> None:
    found = RescueMap(1000)
    for start, length, state in marks:
        found.mark(start, start + length, state)
    outline, rank = found.outline(50), "rupl"
    for index, letter in enumerate(outline):
        states = [found.state_at(place)[0] for place in range(index * 20, index * 20 + 20)]
        assert letter == max(states, key=rank.index)


@pytest.mark.parametrize("reads", [1, 3, 8, 20, 60])
def test_a_stop_while_the_volumes_are_read_is_a_stop(reads: int, standard: Path, tmp_path: Path) -> None:
    """Reads of the first pass are made from inside the library that lists files; an order must come through it."""
    control = Control()
    store = SealedFileStore(PathOpener(standard))

    class Counting(RangeView):
        left = reads

        def uncached(self) -> RangeView:
            return self

        def read_into(self, offset: int, buffer: memoryview) -> None:
            self.left -= 1
            if self.left == 0:
                control.stop("the test says so")
            super().read_into(offset, buffer)

    source = Counting(store, 0, store.size_bytes)
    found = RescueMap(store.size_bytes)
    work = Rescue(
        source,
        FileStore(PathOpener(blank(tmp_path / "n", 640))),
        found,
        open_tree,
        control,
        BenchClock(),
        lambda current: None,
    )
    with pytest.raises(Stopped):
        work.run(Drive(path="x", size_bytes=store.size_bytes, sector_size=512))
    assert not found.total("postponed") and not found.total("lost")
    store.close()
    work.target.close()
