"""A person without rights on device nodes: command line and window reach drives through the real disk service."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import pytest

from tests.drives import LINUX, MIB, Part, blank, file_hashes, linux_files, make_drive, run, spans
from tests.systems import entry, system_image
from tests.test_power import bus, device_manager, end, real_service

__all__ = ["bus"]
_NOBODY = 65_534
_AS_NOBODY = ["setpriv", f"--reuid={_NOBODY}", f"--regid={_NOBODY}", "--clear-groups"]
_WINDOW = """
import sys
from pathlib import Path
from PyQt6.QtWidgets import QApplication
from neogenesis.app.desk.bench import Bench
from neogenesis.app.pictures import wait
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.desk.work import Work
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.drives.docks import SystemDocks
from neogenesis.bench.records.opening import open_records
from neogenesis.core.job import Job

def main() -> None:
    application = QApplication([])
    store = open_records(Path(sys.argv[1]) / "bench")
    store.add(Job(ticket="T-7", customer="Gullhaven", machine="Petrel 14"))
    window = MainWindow(Bench("Saltmarsh Repair", store, SystemDocks(), Work(), BenchClock()))
    window.show()
    window.open_job("T-7")
    job = window.job
    job.survey.choose(sys.argv[2])
    job.survey.start()
    wait(lambda: not job.survey.reading, 60)
    print(job.survey.state, len(job.survey.record.partitions) if job.survey.record else job.survey.failure)
    window.close()
    store.close()

if __name__ == "__main__":
    main()
"""


@pytest.fixture
def room() -> Iterator[Path]:
    """A folder that belongs to nobody."""
    folder = Path(tempfile.mkdtemp(prefix="neogenesis-nobody-"))
    os.chown(folder, _NOBODY, _NOBODY)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture
def devices(tmp_path: Path) -> Iterator[tuple[str, str]]:
    """An old drive and an empty one, whose nodes only root may open."""
    make_drive(tmp_path / "old.img", 60, [Part(45, LINUX, "ext4", "root", linux_files())])
    blank(tmp_path / "new.img", 90)
    found = [
        run("losetup", "--find", "--show", "--partscan", tmp_path / f"{name}.img").strip() for name in ("old", "new")
    ]
    for device in found:
        Path(device).chmod(0o600)
    yield found[0], found[1]
    for device in found:
        run("losetup", "--detach", device)


@cache
def interpreter() -> str:
    """A Python that nobody may run with this program; empty where there is none."""
    code = "import subprocess, sys, PyQt6, neogenesis; subprocess.run([sys.executable, '-c', 'pass'], check=True)"
    environment = {**os.environ, "PYTHONPATH": os.pathsep.join(sys.path), "PYTHONDONTWRITEBYTECODE": "1"}
    for found in (sys.executable, "/usr/bin/python3"):
        if not subprocess.run(
            [*_AS_NOBODY, found, "-c", code], capture_output=True, check=False, env=environment
        ).returncode:
            return found
    return ""


def as_nobody(room: Path, *arguments: str | Path) -> subprocess.CompletedProcess[str]:
    environment = {
        **os.environ,
        "NEOGENESIS_BENCH": str(room / "own-bench"),
        "HOME": str(room),
        "PYTHONPATH": os.pathsep.join(sys.path),
        "PYTHONDONTWRITEBYTECODE": "1",
        "QT_QPA_PLATFORM": "offscreen",
        "XDG_RUNTIME_DIR": str(room),
    }
    command = [*_AS_NOBODY, interpreter(), *map(str, arguments)]
    return subprocess.run(command, capture_output=True, text=True, check=False, env=environment, cwd=room, timeout=240)


@pytest.mark.timeout(300)
def test_everything_is_done_through_the_disk_service(
    bus: Path, room: Path, devices: tuple[str, str], tmp_path: Path
) -> None:
    old, new = devices
    if not interpreter():
        pytest.skip("nobody may not run this checkout")
    for folder in (bus, *bus.parents):
        if "pytest" in folder.name or folder.name.startswith(("popen", "test_")):
            folder.chmod(0o755)
    command = ("-m", "neogenesis")
    refused = as_nobody(room, *command, "survey", old)
    assert refused.returncode == 2 and "No permission" in refused.stderr, "nobody serves yet"
    authority = subprocess.Popen(
        [sys.executable, "-m", "neogenesis.bench.simulated.authority"], stdout=subprocess.PIPE, text=True
    )
    assert authority.stdout is not None and authority.stdout.readline() == "ready\n"
    try:
        with device_manager(old), real_service():
            for device in devices:
                run("udevadm", "trigger", "--action=add", device)
            run("udevadm", "settle")
            for device in devices:
                Path(device).chmod(0o600)
            surveyed = as_nobody(room, *command, "survey", old, "--json")
            assert surveyed.returncode == 0, surveyed.stderr
            assert json.loads(surveyed.stdout)["partitions"][0]["volume"]["kind"] == "ext4"
            listed = as_nobody(room, *command, "drives", "--json")
            assert old in [row["path"] for row in json.loads(listed.stdout)["drives"]]
            planned = as_nobody(room, *command, "plan", old, new, "-o", room / "p.json")
            assert planned.returncode == 0, planned.stderr
            done = as_nobody(room, *command, "transfer", room / "p.json", "--confirm", new[-4:])
            assert done.returncode == 0, done.stderr
            shown = as_nobody(room, "-c", _WINDOW, room, old)
            assert shown.stdout.strip() == "done 1", shown.stdout + shown.stderr
    finally:
        end(authority)
    os.sync()
    copied, source = spans(tmp_path / "new.img")[0], spans(tmp_path / "old.img")[0]
    assert copied[1] >= 80 * MIB
    assert file_hashes(tmp_path / "new.img", *copied) == file_hashes(tmp_path / "old.img", *source)


@pytest.mark.timeout(300)
def test_a_system_is_installed_with_the_owners_that_its_image_names(
    room: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Onto an image file: no device, no mount, no rights. Owners are put onto the volume itself."""
    if not interpreter():
        pytest.skip("nobody may not run this checkout")
    room.chmod(0o755)
    run(interpreter(), "-m", "venv", "--without-pip", room / "venv")  # where processes of its own find the program too
    site = next((room / "venv/lib").glob("python*/site-packages"))
    (site / "program.pth").write_text("\n".join(p for p in sys.path if p))
    monkeypatch.setattr("tests.test_no_rights.interpreter", lambda: str(room / "venv/bin/python"))
    more = [
        (entry("system/bin/su", 3, mode=0o4755, uid=0, gid=12), b"su!"),
        (entry("system/etc/shadow", 4, mode=0o400, uid=0, gid=42), b"keys"),
        (entry("system/home/ann/note", 2, mode=0o640, uid=1000, gid=1000), b"hi"),
        (entry('system/home/ann/the "best"', 2, mode=0o640, uid=1000, gid=1000), b"hi"),
        (entry("system/home/ann/caf\udce9", 2, mode=0o640, uid=1000, gid=1000), b"hi"),
    ]
    image, new = system_image(room / "system.tar.zst", more=more), blank(room / "new.img", 300)
    for path in (image, new):
        os.chown(path, _NOBODY, _NOBODY)
    done = as_nobody(
        room, "-m", "neogenesis", "install", image, "linux-uefi", new, "--confirm", "new", "-o", room / "p.json"
    )
    assert done.returncode == 0, done.stderr
    start, size = spans(new)[1]
    volume = room / "volume"
    with new.open("rb") as source, volume.open("wb") as out:
        source.seek(start)
        out.write(source.read(size))
    said = os.fsdecode(subprocess.check_output(["debugfs", "-R", "ls -p /home/ann", volume], stderr=subprocess.DEVNULL))
    assert {tuple(line.split("/")[2:6]) for line in said.splitlines()} >= {
        ("100640", "1000", "1000", 'the "best"'),
        ("100640", "1000", "1000", "caf\udce9"),
    }
    told = {
        name: run("debugfs", "-R", f"stat {name}", volume)
        for name in ("/bin/su", "/etc", "/etc/shadow", "/home/ann/note")
    }
    owners = {
        name: re.search(r"Mode:\s+(\d+).*User:\s+(\d+)\s+Group:\s+(\d+)", text, re.S) for name, text in told.items()
    }
    assert {name: found.groups() for name, found in owners.items() if found} == {
        "/bin/su": ("04755", "0", "12"),
        "/etc": ("0755", "0", "0"),
        "/etc/shadow": ("0400", "0", "42"),
        "/home/ann/note": ("0640", "1000", "1000"),
    }
    run("e2fsck", "-fn", volume)
