"""Drives that get warm, and time that passes by their own clock."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.bench.drives import Hardware, OpenDrive, open_sealed
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.core.errors import Stopped
from neogenesis.core.judgement import judgement
from neogenesis.core.rescue import Rests
from neogenesis.core.work import Control
from tests.drives import MIB, blank, simulated


def opened(folder: Path, **traits: object) -> OpenDrive:
    blank(folder / "d.img", 8)
    return open_sealed(str(simulated(folder / "d.drive.json", "d.img", **traits)))


def test_a_simulated_drive_warms_by_reading_and_cools_by_resting(tmp_path: Path) -> None:
    drive = opened(tmp_path, heat={"rest_c": 30, "per_gb_c": 1000, "cools_c_per_s": 0.5})
    temperature = drive.hardware.temperature_c
    assert temperature() == 30
    drive.store.read(0, 8 * MIB)
    warm = temperature()
    assert warm is not None and 38 < warm < 39
    began = time.monotonic()
    drive.hardware.rest(10, Control())
    assert temperature() == warm - 5 and time.monotonic() - began < 2  # nobody waits for a virtual clock
    drive.hardware.rest(1000, Control())
    assert temperature() == 30
    drive.close()


def test_without_heat_the_health_reading_tells_or_nobody_does(tmp_path: Path) -> None:
    drive = opened(tmp_path, health={"temperature_c": 44})
    assert drive.hardware.temperature_c() == 44
    drive.close()
    (tmp_path / "d.drive.json").unlink()
    drive = opened(tmp_path)
    assert drive.hardware.temperature_c() is None
    drive.close()
    plain = Hardware()
    assert plain.temperature_c() is None and plain.busy_clock() is None


def test_virtual_time_passes_with_every_read_and_costs_nothing(tmp_path: Path) -> None:
    drive = opened(tmp_path, read={"bytes_per_s": 1e5, "seek_ms": 10, "slow": [[0, 512, 2000]]})
    store = drive.store
    clock = BenchClock(1.0, lambda: store.passed_s)
    began = time.monotonic()
    store.read(MIB, MIB)
    assert clock.now() > 10 and time.monotonic() - began < 2
    before = store.busy_s
    store.read(0, 512)
    assert 2.0 < store.busy_s - before < 2.1
    drive.close()


def test_a_wait_for_a_real_drive_can_be_stopped() -> None:
    control = Control()
    hardware = Hardware()
    began = time.monotonic()
    hardware.rest(0.05, control)
    assert time.monotonic() - began >= 0.05
    threading.Timer(0.1, lambda: control.stop("the test says so")).start()
    with pytest.raises(Stopped):
        hardware.rest(60, control)
    assert time.monotonic() - began < 30


@given(st.lists(st.floats(0, 30), max_size=60))
def test_rests_follow_stalls_and_grow_to_a_limit(reads: list[float]) -> None:
    numbers, rested = judgement().rescue, list[float]()
    rests = Rests(wait=rested.append)
    now = expected = 0.0
    next_rest = numbers.rest_s
    for took in reads:
        now += took
        rests.after_read(took, now)
        if took >= numbers.stall_s:
            assert rested[-1] == next_rest
            expected += next_rest
            next_rest = min(next_rest * 2, numbers.longest_rest_s)
        elif took < 1:
            next_rest = numbers.rest_s
    assert sum(rested) == expected == rests.rested_s


def test_a_sensor_is_not_asked_all_the_time() -> None:
    asked: list[float] = []

    def temperature() -> float:
        asked.append(1.0)
        return 30.0

    rests = Rests(temperature)
    for tick in range(1000):
        rests.after_read(0.01, tick * 0.1)
    assert 5 <= len(asked) <= 8 and rests.celsius == 30.0 and not rests.rested_s
