"""Geometry and words of the window, and the small pieces that everything stands on."""

from __future__ import annotations

from pathlib import Path

import pytest
from blake3 import blake3
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QRectF

from neogenesis.app.command.field import Found, matches
from neogenesis.app.parts.strata import Stratum, filled, neighbour, place_strata, spread, with_free
from neogenesis.app.words import time_range
from neogenesis.bench.drives import confirm_tail
from neogenesis.bench.drives.docks import SimulatedDocks, SystemDocks, look_at
from neogenesis.core.drive import Drive, HealthReading, judge
from neogenesis.core.errors import ReadFailed, Stopped
from neogenesis.core.store import MemoryStore, RangeView, SharedStore
from neogenesis.core.work import Control
from tests.drives import blank, set_docks, simulated

GIB = 1 << 30
sizes = st.lists(st.integers(1, 4 << 40), min_size=1, max_size=20)


def strata_of(found: list[int]) -> list[Stratum]:
    result, at = [], 0
    for number, size in enumerate(found, 1):
        result.append(Stratum(number, "data", f"d{number}", at, size, 0.5))
        at += size
    return result


@given(sizes, st.floats(100, 2000), st.floats(1, 40))
def test_every_stratum_can_be_seen_and_clicked(found: list[int], height: float, least: float) -> None:
    placed = place_strata(strata_of(found), QRectF(0, 10, 50, height), least, 3)
    at = 10.0
    floor = min(least, (height - 3 * (len(found) - 1)) / len(found))
    for item in placed:
        assert item.rect.top() == pytest.approx(at, abs=1e-6) and item.rect.height() >= floor - 1e-6
        at = item.rect.bottom() + 3
    assert at - 3 == pytest.approx(10 + height, abs=1e-3)
    tall = {i: p.rect.height() for i, p in enumerate(placed)}
    assert all(tall[i] <= tall[j] + 1e-6 for i in tall for j in tall if found[i] <= found[j])


def test_what_is_out_of_scale_is_marked() -> None:
    placed = place_strata(strata_of([16 << 20, 4 << 40]), QRectF(0, 0, 50, 400), 20, 3)
    assert [p.to_scale for p in placed] == [False, True] or not placed[0].to_scale
    even = place_strata(strata_of([GIB, GIB]), QRectF(0, 0, 50, 400), 20, 3)
    assert all(p.to_scale for p in even)


@given(st.lists(st.tuples(st.floats(0, 500), st.floats(5, 30)), max_size=12))
def test_labels_never_overlap_when_there_is_room(wishes: list[tuple[float, float]]) -> None:
    wishes.sort()
    wanted, heights = [w for w, _ in wishes], [h for _, h in wishes]
    tops = spread(wanted, heights, 0, 900)
    assert all(b - a >= h - 1e-6 for a, b, h in zip(tops, tops[1:], heights, strict=False))
    assert all(t + h <= 900 + 1e-6 for t, h in zip(tops, heights, strict=True))


def test_free_ranges_are_drawn_and_alignment_is_not() -> None:
    strata = with_free([Stratum(1, "system", "s", 1 << 20, 10 * GIB)], 20 * GIB)
    assert [s.role for s in strata] == ["system", "free"] and strata[-1].end_bytes == 20 * GIB
    assert neighbour(strata, None, 1) == 1 and neighbour(strata, 1, 1) == 1 and neighbour([], None, 1) is None
    assert filled(strata, {1: 0.25})[0].filled == 0.25 and filled(strata, {})[1].filled is None


def test_time_ranges_in_words() -> None:
    assert (
        time_range(3240, 4080) == "54 to 68 min"
        and time_range(10, 10) == "10 s"
        and time_range(60, 7500) == "60 s to 2 h 05 min"
    )


def test_command_field_finds_words_and_letters() -> None:
    found = [Found(t, "", "", lambda: None) for t in ("Write plan", "Write report", "All jobs", "T-1042 Tern Island")]
    assert [f.title for f in matches(found, "write")] == ["Write plan", "Write report"]
    assert matches(found, "tern 1042")[0].title.startswith("T-1042")
    assert (
        matches(found, "wrpl")[0].title == "Write plan" and matches(found, "xyz") == [] and len(matches(found, "")) == 4
    )


@pytest.mark.parametrize(
    ("reading", "verdict"),
    [
        (None, "unknown"),
        (HealthReading(), "sound"),
        (HealthReading(pending_sectors=1), "copy-now"),
        (HealthReading(media_errors=3), "copy-now"),
        (HealthReading(spare_percent=5), "copy-now"),
        (HealthReading(critical_warning=True), "copy-now"),
        (HealthReading(temperature_c=61), "ageing"),
    ],
)
def test_verdicts_on_health(reading: HealthReading | None, verdict: str) -> None:
    found = judge(reading)
    assert found.verdict == verdict and (verdict == "sound" or found.reasons)


def test_docks_show_trouble_ghosts_and_nothing_else(tmp_path: Path) -> None:
    blank(tmp_path / "a.img", 1)
    simulated(tmp_path / "a.drive.json", "a.img", serial="A1")
    simulated(tmp_path / "b.drive.json", "missing.img", serial="B1")
    set_docks(tmp_path, ["a.drive.json", None, "b.drive.json", "gone.drive.json"])
    docks = SimulatedDocks(tmp_path)
    found = docks.drives()
    assert docks.count == 4 and next(d.key for d in found) == "A1"
    assert found[1].trouble and "no drive" in found[1].trouble.casefold()
    assert look_at(str(tmp_path / "nothing")) is None
    for docked in SystemDocks().drives():
        assert docked.name.startswith("/dev/") and (docked.drive.size_bytes or docked.trouble)


def test_tails_to_type() -> None:
    assert confirm_tail(Drive(path="/x/y.img", size_bytes=1, sector_size=512, serial="CN2-08341F2")) == "41F2"
    assert confirm_tail(Drive(path="/x/ferry.img", size_bytes=1, sector_size=512)) == "erry"
    assert confirm_tail(Drive(path="/x/n.drive.json", size_bytes=1, sector_size=512)) == "n"


def test_stop_and_pause_of_a_control() -> None:
    told: list[str] = []
    control = Control()
    control.tell = told.append
    control.checkpoint()
    control.pause()
    assert control.paused
    control.stop("first reason")
    control.stop("second reason")
    control.pause()
    with pytest.raises(Stopped, match="first reason"):
        control.checkpoint()
    assert told == []


def test_shared_store_reads_once_and_shares_failures() -> None:
    class Counting(MemoryStore):
        calls = 0

        def read_into(self, offset: int, buffer: memoryview) -> None:
            self.calls += 1
            if offset >= 1 << 20:
                raise ReadFailed(offset, len(buffer), "Input/output error")
            super().read_into(offset, buffer)

    base = Counting(2 << 20)
    base.data[:8] = b"harbours"
    shared = SharedStore(base)
    for _ in range(4):
        assert shared.read(0, 1 << 20)[:8] == b"harbours"
    assert base.calls == 1
    kept, other = memoryview(bytes(base.data[: 1 << 20])), memoryview(b"another piece")
    for _ in range(2):
        assert RangeView(shared, 0, 1 << 20).digest_of(0, kept) == blake3(kept).digest()
    assert shared.digest_of(0, other) == blake3(other).digest(), "only what was read there has the kept digest"
    for _ in range(3):
        with pytest.raises(ReadFailed):
            shared.read(1 << 20, 1 << 20)
    assert base.calls == 2
    assert shared.read(0, 8) == b"harbours" and base.calls == 3, "small reads go straight through"
