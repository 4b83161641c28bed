"""The run-in: what a drive gives, on a scratch file that has gone afterwards, whatever ended it."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.bench.drives.scratch import SimulatedScratch
from neogenesis.bench.drives.system import BlockSystem, Link
from neogenesis.bench.works.run_in import ScratchFile, run_in_at
from neogenesis.core.boot.after import Filled, Known, filled
from neogenesis.core.drive import HealthReading, judge
from neogenesis.core.errors import BadArgument, Refused
from neogenesis.core.fit.part import Part
from neogenesis.core.run_in import Paced, compared, knee, run_in, sentences
from neogenesis.core.units import MIB
from tests.conftest import Done

GB = 10**9


def _samples(rates: list[float]) -> list[Paced]:
    return [Paced(at_bytes=(n + 1) * 100 * MIB, bytes_per_s=rate) for n, rate in enumerate(rates)]


def _described(folder: Path, **write: float) -> Path:
    with (folder / "new.img").open("wb") as file:
        file.truncate(500 * GB)
    path = folder / "new.drive.json"
    text = {
        "schema": "neogenesis.simulated-drive/1",
        "image": "new.img",
        "serial": "TR9-00417",
        "read": {"bytes_per_s": 3e9, "seek_ms": 0.05},
        "write": write or {"bytes_per_s": 2e9},
        "health": {"temperature_c": 31},
    }
    path.write_text(json.dumps(text))
    return path


def test_a_level_pace_has_no_knee() -> None:
    cache, before, after = knee(_samples([500e6, 510e6, 490e6] * 10))
    assert cache is None
    assert before == after == 500e6


@given(st.integers(8, 60), st.integers(8, 60), st.floats(0.05, 0.5), st.floats(0.0, 0.15), st.integers(0, 2**31))
def test_a_fall_is_found_where_it_is(high: int, low: int, share: float, scatter: float, seed: int) -> None:
    noise = np.random.default_rng(seed).uniform(1 - scatter, 1 + scatter, high + low)
    rates = np.array([2e9] * high + [2e9 * share] * low) * noise
    cache, before, after = knee(_samples(rates.tolist()))
    assert cache is not None
    assert abs(cache - high * 100 * MIB) <= 100 * MIB
    assert before is not None and after is not None
    assert abs(before / 2e9 - 1) <= scatter
    assert abs(after / (2e9 * share) - 1) <= scatter


def test_few_samples_say_a_pace_and_no_more() -> None:
    assert knee([]) == (None, None, None)
    assert knee(_samples([1e9, 1e8])) == (None, 5.5e8, 5.5e8)


def test_a_cache_that_runs_out_is_found_with_both_paces(tmp_path: Path) -> None:
    path = _described(tmp_path, bytes_per_s=2e9, cache_bytes=20 * GB, after_cache_bytes_per_s=4e8)
    found = run_in_at(str(path), seconds=60)
    assert found.serial == "TR9-00417"
    assert found.cache_bytes == pytest.approx(20 * GB, rel=0.03)
    assert found.stride_write_bytes_per_s == pytest.approx(2e9, rel=0.06)
    assert found.staying_bytes_per_s == pytest.approx(4e8, rel=0.06)
    assert found.stride_read_bytes_per_s == pytest.approx(3e9, rel=0.1)
    assert found.steps_read_per_s == pytest.approx(1 / (80e-6 + 50e-6), rel=0.05)
    assert found.seconds == pytest.approx(60, rel=0.02)
    assert found.ended == "time"
    assert (found.temperature_before_c or 0) < (found.temperature_after_c or 0)
    assert "20" in sentences(found)[0] and "cache ran out" in sentences(found)[0]
    assert (tmp_path / "new.img").stat().st_blocks == 0, "nothing of a simulated drive is written"


def test_what_falls_short_of_its_rating_is_said(tmp_path: Path) -> None:
    found = run_in_at(str(_described(tmp_path, bytes_per_s=5e8)), seconds=20)
    part = Part(
        schema="neogenesis.part/1", id="p", kind="drive", write_bytes_per_s=2e9, read_bytes_per_s=3e9, cache_bytes=1e12
    )
    short = {row.code for row in compared(found, part) if row.falls_short}
    assert short == {"stride-write"}
    told = " ".join(sentences(found, part))
    assert "socket, cable and dock" in told
    assert "what is behind it" in told, "less was written than the rated cache"


def test_a_real_folder_is_measured_and_left_as_it_was(tmp_path: Path) -> None:
    heard = []
    found = run_in_at(str(tmp_path), seconds=1.0, most_bytes=256 * MIB, tell=heard.append)
    assert list(tmp_path.iterdir()) == []
    assert 0 < found.written_bytes <= 256 * MIB, "how much one second writes is the machine's affair"
    figures = compared(found)
    assert all(row.measured and row.measured > 0 for row in figures)
    assert {h.phase for h in heard} >= {"staying", "stride-read"}


def test_a_stopped_run_says_what_it_knows(tmp_path: Path) -> None:
    scratch, asked = SimulatedScratch(_described(tmp_path)), []
    found = run_in(scratch, True, 60, goes_on=lambda: asked.append(1) or len(asked) < 500)
    assert found.ended == "stopped"
    assert found.stride_write_bytes_per_s == pytest.approx(2e9, rel=0.1)
    assert found.steps_write_per_s is None


def test_killed_in_the_middle_nothing_is_left(tmp_path: Path) -> None:
    code = (
        "from neogenesis.bench.works.run_in import run_in_at; import sys\n"
        "run_in_at(sys.argv[1], seconds=60, tell=lambda h: print('told', flush=True))"
    )
    with subprocess.Popen([sys.executable, "-c", code, str(tmp_path)], stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None and process.stdout.readline() == "told\n"
        assert list(tmp_path.iterdir()) == [], "it has no name while it is written, either"
        process.send_signal(signal.SIGKILL)
        process.wait()
    assert list(tmp_path.iterdir()) == []


def test_what_is_no_place_for_it_is_refused_in_words(tmp_path: Path) -> None:
    with pytest.raises(BadArgument, match="is no folder"):
        run_in_at(str(tmp_path / "nowhere"))
    with pytest.raises(Refused, match="old drive of this job"):
        run_in_at(str(_described(tmp_path)), refused=("TR9-00417",))
    with pytest.raises(Refused, match="too little free room"):
        run_in_at(str(tmp_path), most_bytes=10 * MIB)


def test_a_file_system_without_direct_writing_is_measured_too(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """As some are: neither files without a name nor a way round the cache."""
    real = os.open

    def without(path: object, flags: int, mode: int = 0o777, **more: object) -> int:
        if flags & os.O_TMPFILE == os.O_TMPFILE:
            raise OSError(95, "Operation not supported")
        if flags & os.O_DIRECT:
            raise OSError(22, "Invalid argument")
        return real(path, flags, mode, **more)  # type: ignore[arg-type]

    monkeypatch.setattr(os, "open", without)
    scratch = ScratchFile(tmp_path)
    monkeypatch.undo()
    assert not scratch.direct
    assert list(tmp_path.iterdir()) == []
    found = run_in(scratch, scratch.direct, 0.5, 64 * MIB)
    scratch.close()
    assert "could not be gone round" in sentences(found)[-1]


def _file(path: Path, text: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text + "\n")


def test_links_are_read_from_what_the_system_says(tmp_path: Path) -> None:
    devices, blocks = tmp_path / "sys/devices", tmp_path / "sys/block"
    blocks.mkdir(parents=True)
    nvme = devices / "pci0000:00/0000:01:00.0"
    for name, text in (("current_link_width", "2"), ("current_link_speed", "8.0 GT/s PCIe")):
        _file(nvme / name, text)
    for name, text in (("max_link_width", "4"), ("max_link_speed", "16.0 GT/s PCIe")):
        _file(nvme / name, text)
    ata = devices / "pci0000:00/0000:00:17.0/ata3"
    _file(ata / "link3/ata_link/link3/sata_spd", "3.0 Gbps")
    _file(ata / "link3/ata_link/link3/hw_sata_spd_limit", "6.0 Gbps")
    usb = devices / "pci0000:00/usb2/2-1"
    _file(usb / "speed", "480")
    _file(usb / "bMaxPacketSize0", "64")
    places = {
        "nvme0n1": nvme / "nvme/nvme0/nvme0n1",
        "sda": ata / "host2/target2:0:0/2:0:0:0/block/sda",
        "sdb": usb / "2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb",
        "vda": devices / "pci0000:00/0000:00:04.0/virtio1/block/vda",
    }
    for name, place in places.items():
        place.mkdir(parents=True)
        (blocks / name).symlink_to(place)
    system = BlockSystem(tmp_path)
    links = {name: system.link(name) for name in places}
    assert links["nvme0n1"] == Link("pcie", "8.0 GT/s x2", "16.0 GT/s x4")
    assert links["sda"] == Link("sata", "3.0 Gbps", "6.0 Gbps")
    assert links["sdb"] == Link("usb", "480 Mbit/s")
    assert links["vda"] is None
    assert [link.is_less for link in links.values() if link] == [True, True, False]


def test_warmth_and_drive_below_a_mounted_volume_are_found(tmp_path: Path) -> None:
    disk, blocks = tmp_path / "sys/devices/sda", tmp_path / "sys/block"
    blocks.mkdir(parents=True)
    _file(disk / "dev", "8:0")
    _file(disk / "size", "1000")
    _file(disk / "sda1/dev", "8:1")
    _file(disk / "sda1/partition", "1")
    _file(disk / "device/hwmon/hwmon3/temp1_input", "41000")
    (blocks / "sda").symlink_to(disk)
    (tmp_path / "sys/dev/block").mkdir(parents=True)
    (tmp_path / "sys/dev/block/8:0").symlink_to(disk)
    (tmp_path / "sys/dev/block/8:1").symlink_to(disk / "sda1")
    _file(tmp_path / "sys/class/block/sda1/dev", "8:1")
    _file(tmp_path / "proc/self/mountinfo", "30 1 0:45 / /mnt rw - fuseblk /dev/sda1 rw")
    system = BlockSystem(tmp_path)
    assert system.drives_below(os.makedev(0, 45)) == ["sda"], "some file systems show a number of no device"
    assert system.drives_below(os.makedev(8, 1)) == ["sda"]
    assert system.temperature_c(os.makedev(0, 45)) == 41.0
    assert system.drives_below(os.makedev(9, 9)) == []


def test_the_command_says_it_in_words_and_as_json(tmp_path: Path, neogenesis: Callable[..., Done]) -> None:
    path = _described(tmp_path, bytes_per_s=2e9, cache_bytes=20 * GB, after_cache_bytes_per_s=4e8)
    said = neogenesis("run-in", path).stdout
    assert "Long stride" in said and "Staying power" in said and "cache ran out after" in said
    told = neogenesis("run-in", path, "--json", "--seconds", "30").stdout
    assert json.loads(told)["schema"] == "neogenesis.run-in/1"
    neogenesis("run-in", tmp_path / "nothing", status=2)


def test_what_is_on_record_fills_the_checks_and_settles_only_what_it_can(tmp_path: Path) -> None:
    def health(**read: object) -> Known:
        return Known(health=judge(HealthReading(**read)))  # type: ignore[arg-type]

    used, new, silent = health(power_on_hours=9000), health(power_on_hours=3), health(temperature_c=30)
    assert [filled("health", k).settled for k in (used, new, silent)] == [False, True, False]
    assert filled("health", Known()) is None and filled("updates", new) is None
    failing = filled("health", health(pending_sectors=3, power_on_hours=3))
    assert failing is not None and failing.text.startswith("Not sound: ") and not failing.settled
    narrow = filled("link", Known(link="8.0 GT/s x2", link_most="8.0 GT/s x4"))
    assert narrow == Filled("Here it runs at 8.0 GT/s x2, and could at 8.0 GT/s x4.")
    assert filled("link", Known(link="6.0 Gbps", link_most="6.0 Gbps")) == Filled("Here it runs at 6.0 Gbps.", True)
    found = run_in_at(str(_described(tmp_path, bytes_per_s=2e9)), seconds=20)
    part = Part(schema="neogenesis.part/1", id="p", kind="drive", write_bytes_per_s=2e9, read_bytes_per_s=3e9)
    assert [filled("pace", Known(run_in=found, part=p)).settled for p in (part, None)] == [True, False]
    heat = filled("heat", Known(run_in=found))
    assert heat is not None and heat.settled and "°C after the run-in" in heat.text
