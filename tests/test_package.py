"""The package for desktops: built, unpacked into a folder, and started from there. Takes a minute, so `make test-long`."""

from __future__ import annotations

import gzip
import json
import os
import shutil
import struct
import subprocess
import sys
import xml.etree.ElementTree as ET
from pathlib import Path

import msgspec
import pytest

import neogenesis
from tests.drives import LINUX, Part, blank, make_drive, run

ROOT = Path(__file__).resolve().parents[1]


LONG = pytest.mark.skipif(not os.environ.get("NEOGENESIS_LONG"), reason="builds a package of some hundred megabytes")
_MOST_INSTALLED_KIB = 300 << 10
#: Takes one picture of the window with the demo's data, from the installed program.
PICTURE = """
import sys, PyQt6, neogenesis, neogenesis.app.pictures as pictures
from pathlib import Path
assert neogenesis.__file__.startswith(sys.argv[2]) and PyQt6.__file__.startswith(sys.argv[2])
pictures._walk = lambda window, photographer, place: photographer.take(window, "jobs")
pictures.main(Path(sys.argv[1]))
"""


@pytest.fixture(scope="module")
def package(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("package")
    subprocess.run([sys.executable, ROOT / "packaging/make_deb.py", folder], check=True)
    return next(folder.glob("neogenesis_*.deb"))


@LONG
@pytest.mark.timeout(900)
def test_the_package_is_whole_and_small(package: Path, tmp_path: Path) -> None:
    fields = run("dpkg-deb", "--field", package)
    assert "Package: neogenesis" in fields and "smartmontools" in fields and "pkexec" in fields and "xvfb" not in fields
    assert f"python3 (<< 3.{sys.version_info.minor + 1})" in fields
    [size] = [int(line.split()[1]) for line in fields.splitlines() if line.startswith("Installed-Size:")]
    assert size <= _MOST_INSTALLED_KIB
    root = tmp_path / "root"
    run("dpkg-deb", "--extract", package, root)
    desktop = root / "usr/share/applications/org.neogenesis.Neogenesis.desktop"
    about = root / "usr/share/metainfo/org.neogenesis.Neogenesis.metainfo.xml"
    assert ET.parse(about).getroot().findtext("id") == "org.neogenesis.Neogenesis"
    for tool, place in ((("appstreamcli", "validate", "--no-net"), about), (("desktop-file-validate",), desktop)):
        if shutil.which(tool[0]):
            run(*tool, place)
    for size in (16, 48, 512):
        with (root / f"usr/share/icons/hicolor/{size}x{size}/apps/neogenesis.png").open("rb") as file:
            assert struct.unpack(">II", file.read(24)[16:]) == (size, size)
    site = root / "usr/lib/neogenesis/site-packages"
    assert (site / "neogenesis/py.typed").exists() and not list(site.rglob("__pycache__"))
    documents = root / "usr/share/doc/neogenesis"
    assert (documents / "engine.md").exists() and (documents / "changelog.gz").exists()
    assert "common-licenses/GPL-3" in (documents / "copyright").read_text()
    for place in ("usr/share/bash-completion/completions/neogenesis", "usr/share/polkit-1/actions/neogenesis.policy"):
        assert (root / place).stat().st_size > 100, place
    page = gzip.decompress((root / "usr/share/man/man1/neogenesis.1.gz").read_bytes()).decode()
    assert "neogenesis transfer" in page and "EXIT STATUS" in page
    helper = root / "usr/lib/neogenesis/neogenesis-health"
    for arguments in ([], ["/etc/passwd"], ["/dev/null"], ["/dev/null", "sat;reboot"]):
        assert subprocess.run([helper, *arguments], capture_output=True).returncode == 2


@LONG
@pytest.mark.timeout(2400)
@pytest.mark.skipif(shutil.which("mmdebstrap") is None or os.geteuid() != 0, reason="no clean system can be made")
def test_installed_into_a_clean_system_it_does_its_work_without_rights(package: Path, tmp_path: Path) -> None:
    """A fresh system with this package and what it depends on, and a person there who may do nothing special."""
    packed, root = tmp_path / "root.tar", tmp_path / "root"
    install = "apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends"
    hooks = [
        f"--customize-hook=copy-in {package} /tmp",
        f"--customize-hook=chroot \"$1\" sh -c '{install} /tmp/{package.name}'",
    ]
    run("mmdebstrap", "--variant=minbase", *hooks, "bookworm", packed)
    root.mkdir()
    run("tar", "--extract", "--file", packed, "--directory", root, "--exclude=./dev/*")
    for name, minor, major in (("fuse", "10", "229"), ("null", "1", "3"), ("urandom", "1", "9")):
        run("mknod", "-m", "666", root / "dev" / name, "c", minor, major)
    run("/usr/sbin/chroot", root, "useradd", "--create-home", "--uid", "1000", "bench")
    home = root / "home/bench"
    make_drive(home / "old.img", 60, [Part(40, LINUX, "ext4", "home", {"keeper/log.txt": b"x" * 999})])
    blank(home / "new.img", 90)
    run("chown", "--recursive", "1000:1000", home)
    clean = {"PATH": "/usr/bin:/bin", "HOME": "/home/bench", "QT_QPA_PLATFORM": "offscreen"}

    def inside(*order: str, status: int = 0) -> str:
        command = ["/usr/sbin/chroot", "--userspec=1000:1000", root, "env", "--chdir=/home/bench", *order]
        done = subprocess.run(command, env=clean, capture_output=True, text=True)
        assert done.returncode == status, done.stderr
        return done.stdout

    run("mount", "-t", "proc", "proc", root / "proc")
    try:
        assert inside("neogenesis", "--version").strip() == neogenesis.__version__
        assert (
            json.loads(inside("neogenesis", "survey", "old.img", "--json"))["partitions"][0]["volume"]["kind"] == "ext4"
        )
        inside("neogenesis", "plan", "old.img", "new.img", "-o", "p.json")
        inside("neogenesis", "transfer", "p.json", "--confirm", "new")
        inside("neogenesis", "verify", "p.json", "new.img")
        inside("neogenesis", "salvage", "new.img", "out")
        assert [p.read_bytes() for p in (home / "out").rglob("log.txt")] == [b"x" * 999]
        assert "keeper/log.txt" in inside("neogenesis", "fills", "old.img")
        assert json.loads(inside("neogenesis", "forecast", "old.img", "--json"))["starts"] is False
        found = {i["code"]: i["ok"] for i in json.loads(inside("neogenesis", "doctor", "--json"))["items"]}
        assert found["fuse"] and found["trial"] and all(ok for code, ok in found.items() if code.startswith("utility"))
        site = "PYTHONPATH=/usr/lib/neogenesis/site-packages"
        inside(site, "python3", "-c", PICTURE, "/home/bench", "/usr/lib/neogenesis")
        assert (home / "jobs.png").stat().st_size > 10_000
    finally:
        run("umount", root / "proc")


def test_files_are_listed_by_a_python_that_knows_the_program_by_its_path_alone(tmp_path: Path) -> None:
    """As the installed program is started: nothing but `PYTHONPATH` leads to it and to its packages."""
    old = make_drive(tmp_path / "old.img", 40, [Part(30, LINUX, "ext4", "home", {"keeper/log.txt": b"x" * 999})])
    site = [Path(neogenesis.__file__).parents[1], Path(msgspec.__file__).parents[1]]
    environment = {
        "PATH": "/usr/bin:/bin:/usr/sbin:/sbin",
        "HOME": str(tmp_path),
        "PYTHONPATH": ":".join(map(str, site)),
        "PYTHONNOUSERSITE": "1",
    }
    base = Path(sys.base_prefix) / f"bin/python3.{sys.version_info.minor}"
    done = subprocess.run(
        [base, "-m", "neogenesis", "salvage", old, tmp_path / "out", "--json"],
        env=environment,
        cwd=tmp_path,
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert told["copied_bytes"] == 999 and told["verified"] == "none"  # nothing that was written is read back
    assert [p.read_bytes() for p in (tmp_path / "out").rglob("log.txt")] == [b"x" * 999]
