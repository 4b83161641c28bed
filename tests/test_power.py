"""A drive is flushed and switched off before anyone is told to pull it out: on a private bus, with real loop devices."""

from __future__ import annotations

import errno
import os
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from jeepney.bus_messages import message_bus
from jeepney.io.blocking import open_dbus_connection

from neogenesis.bench.drives import make_safe, open_sealed, provider_of
from neogenesis.bench.drives.hotplug import listen
from neogenesis.bench.processes.awake import kept_awake
from neogenesis.core.errors import BadArgument, Refused
from neogenesis.core.store import PathOpener
from tests.drives import MIB, Part, blank, make_volume, run, simulated

_BUS = """<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN" "">
<busconfig><type>system</type><listen>unix:path={0}</listen><auth>EXTERNAL</auth>
<policy context="default"><allow user="*"/><allow send_destination="*"/><allow eavesdrop="true"/><allow own="*"/></policy></busconfig>"""


@pytest.fixture
def bus(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """A system bus of this test's own; loopback only, gone afterwards."""
    (tmp_path / "bus.conf").write_text(_BUS.format(tmp_path / "socket"))
    daemon = subprocess.Popen(["dbus-daemon", f"--config-file={tmp_path / 'bus.conf'}", "--nofork"])
    while not (tmp_path / "socket").exists():
        assert daemon.poll() is None
        time.sleep(0.01)
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", f"unix:path={tmp_path / 'socket'}")
    yield tmp_path
    daemon.terminate()
    daemon.wait()


@pytest.fixture
def loop(tmp_path: Path) -> Iterator[str]:
    device = run("losetup", "--find", "--show", blank(tmp_path / "d.img", 64)).strip()
    yield device
    run("losetup", "--detach", device)


def serve(*arguments: str) -> subprocess.Popen[str]:
    """The stand-in for the disk service, once it answers."""
    service = subprocess.Popen(
        [sys.executable, "-m", "neogenesis.bench.simulated.disk_service", *arguments], stdout=subprocess.PIPE, text=True
    )
    assert service.stdout is not None and service.stdout.readline() == "ready\n"
    return service


def end(service: subprocess.Popen[str]) -> None:
    service.terminate()
    service.communicate()


def test_a_drive_that_the_service_knows_is_switched_off(bus: Path, loop: str) -> None:
    service = serve("/dev/elsewhere", loop)
    try:
        found = make_safe(loop)
        assert found.powered_off and "may be pulled out" in found.text
        assert service.stdout is not None and service.stdout.readline() == f"{loop}\n"
    finally:
        end(service)


@contextmanager
def real_service() -> Iterator[None]:
    """The real daemon on this test's bus, once it answers."""
    daemon = next((p for p in ("/usr/libexec/udisks2/udisksd", "/usr/lib/udisks2/udisksd") if Path(p).exists()), None)
    assert daemon, "the package udisks2 is missing"
    service = subprocess.Popen([daemon, "--no-debug"], stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
    try:
        with open_dbus_connection("SYSTEM") as connection:
            while not connection.send_and_get_reply(message_bus.NameHasOwner("org.freedesktop.UDisks2")).body[0]:
                assert service.poll() is None
                time.sleep(0.05)
        yield
    finally:
        service.terminate()
        service.wait()


@contextmanager
def device_manager(device: str) -> Iterator[None]:
    """The system's device manager, where none runs: the service knows only what it has told."""
    ping = ["udevadm", "control", "--ping", "--timeout=2"]
    if subprocess.run(ping, capture_output=True, check=False).returncode == 0:
        yield
        return
    Path("/run/udev/control").unlink(missing_ok=True)
    manager = subprocess.Popen(["/lib/systemd/systemd-udevd"], stderr=subprocess.DEVNULL)
    try:
        while not Path("/run/udev/control").exists():
            assert manager.poll() is None
            time.sleep(0.02)
        run("udevadm", "trigger", "--action=add", device)
        run("udevadm", "settle")
        yield
    finally:
        manager.terminate()
        manager.wait()
        Path("/run/udev/control").unlink(missing_ok=True)


def test_the_real_service_opens_a_drive_for_whoever_may_not(bus: Path, loop: str, monkeypatch) -> None:
    """Whole work on a drive whose node this process may not open: descriptors come over the bus, with their flags."""

    def forbidden(self: PathOpener, flags: int) -> int:
        if str(self.path) == loop:
            raise PermissionError(errno.EACCES, "Permission denied")
        return os.open(self.path, flags | os.O_CLOEXEC)

    monkeypatch.setattr(PathOpener, "__call__", forbidden)
    with pytest.raises(BadArgument, match="permission"):
        open_sealed(loop)  # nobody serves yet
    with device_manager(loop), real_service():
        target = provider_of(loop).open_target(loop, 512)
        target.store.write(0, b"harbour" * 1000)
        target.store.sync()
        assert target.store.uncached().read(7, 7) == b"harbour"
        with pytest.raises(Refused, match="in use"):
            provider_of(loop).open_target(loop, 512)
        target.close()
        sealed = open_sealed(loop, grip="hold")
        assert sealed.store.read(0, 7) == b"harbour" and sealed.drive.size_bytes == 64 * MIB
        refused = subprocess.run(["mke2fs", "-q", loop], capture_output=True, text=True, check=False)
        assert refused.returncode and "in use" in refused.stderr
        sealed.close()


def test_the_real_service_does_not_switch_a_loop_device_off(bus: Path, loop: str) -> None:
    with real_service():
        found = make_safe(loop)
        assert not found.powered_off and "Everything is on the medium" in found.text and "dock off" in found.text


def test_without_a_service_the_words_do_not_promise_more(tmp_path: Path, loop: str, monkeypatch) -> None:
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", f"unix:path={tmp_path / 'nothing'}")
    found = make_safe(loop)
    assert not found.powered_off and "no disk service" in found.text
    assert not make_safe(str(blank(tmp_path / "plain.img", 1))).powered_off
    assert make_safe(str(simulated(tmp_path / "s.drive.json", "plain.img"))).powered_off


def test_a_mounted_drive_is_not_said_to_be_safe(tmp_path: Path, loop: str) -> None:
    make_volume(tmp_path / "v", Part(64, "", "ext4", "x"), 64 * MIB)
    run("dd", f"if={tmp_path / 'v'}", f"of={loop}", "bs=1M")
    (tmp_path / "point").mkdir()
    run("mount", loop, tmp_path / "point")
    try:
        with pytest.raises(Refused, match="must not be pulled out"):
            make_safe(loop)
    finally:
        run("umount", tmp_path / "point")


def session_manager() -> subprocess.Popen[str]:
    """The stand-in for the session manager, once it answers."""
    service = subprocess.Popen(
        [sys.executable, "-m", "neogenesis.bench.simulated.session_service"], stdout=subprocess.PIPE, text=True
    )
    assert service.stdout is not None and service.stdout.readline() == "ready\n"
    return service


@pytest.mark.timeout(60)
def test_the_computer_is_kept_awake_as_long_as_work_runs(bus: Path, standard: Path, tmp_path: Path, neogenesis) -> None:
    service = session_manager()
    try:
        assert service.stdout is not None
        with kept_awake("A drive is being copied") as awake:
            assert awake
            assert (
                service.stdout.readline()
                == "held sleep:shutdown:handle-lid-switch Neogenesis A drive is being copied block\n"
            )
        assert service.stdout.readline() == "released\n"
        neogenesis("image", standard, tmp_path / "old.qcow2")
        assert "A drive is being imaged" in service.stdout.readline() and service.stdout.readline() == "released\n"
    finally:
        end(service)
    with kept_awake("nobody is there to keep it") as awake:
        assert not awake


def test_drives_that_come_and_go_are_heard_of_from_the_real_service(bus: Path, tmp_path: Path) -> None:
    heard = threading.Event()
    assert not listen(heard.set), "nobody serves yet"
    first = run("losetup", "--find", "--show", blank(tmp_path / "first.img", 16)).strip()
    try:
        with device_manager(first), real_service():
            assert listen(heard.set)
            heard.clear()
            second = run("losetup", "--find", "--show", blank(tmp_path / "second.img", 16)).strip()
            try:
                run("udevadm", "trigger", "--action=add", second)
                assert heard.wait(20), "it came"
                heard.clear()
            finally:
                run("losetup", "--detach", second)
            assert heard.wait(20), "it went"
    finally:
        run("losetup", "--detach", first)
