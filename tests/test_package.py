"""The package for desktops: built, unpacked into a folder, and started from there. Takes a minute, so `make test-long`."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import xml.etree.ElementTree as ET
from pathlib import Path

import msgspec
import pytest

import neogenesis
from tests.drives import LINUX, Part, make_drive, run

ROOT = Path(__file__).resolve().parents[1]


@pytest.mark.skipif(not os.environ.get("NEOGENESIS_LONG"), reason="builds a package of some hundred megabytes")
@pytest.mark.timeout(900)
def test_the_package_is_built_unpacked_and_started(tmp_path: Path) -> None:
    subprocess.run([sys.executable, ROOT / "packaging/make_deb.py", tmp_path], check=True)
    package = next(tmp_path.glob("neogenesis_*.deb"))
    fields = run("dpkg-deb", "--field", package)
    assert "Package: neogenesis" in fields and "smartmontools" in fields and "pkexec" in fields and "xvfb" not in fields
    assert f"python3 (<< 3.{sys.version_info.minor + 1})" in fields
    root = tmp_path / "root"
    run("dpkg-deb", "--extract", package, root)
    clean = {"PATH": "/usr/bin:/bin:/usr/sbin:/sbin", "HOME": str(tmp_path), "QT_QPA_PLATFORM": "offscreen"}
    version = subprocess.run([root / "usr/bin/neogenesis", "--version"], env=_with_python(clean), capture_output=True)
    assert version.returncode == 0 and version.stdout.strip(), version.stderr
    script = (
        "import sys, PyQt6, neogenesis;"
        f"assert neogenesis.__file__.startswith({str(root)!r}) and PyQt6.__file__.startswith({str(root)!r});"
        "from neogenesis.app.pictures import main; from pathlib import Path; import neogenesis.app.pictures as p;"
        "p._walk = lambda window, photographer, place: photographer.take(window, 'jobs'); main(Path(sys.argv[1]))"
    )
    site = {
        **_with_python(clean),
        "PYTHONPATH": str(root / "usr/lib/neogenesis/site-packages"),
        "PYTHONNOUSERSITE": "1",
    }
    shown = subprocess.run(["python3", "-c", script, tmp_path], env=site, capture_output=True, text=True, cwd=tmp_path)
    assert shown.returncode == 0, shown.stderr
    assert (tmp_path / "jobs.png").stat().st_size > 10_000
    for place in (
        "usr/share/applications/neogenesis.desktop",
        "usr/share/icons/hicolor/48x48/apps/neogenesis.png",
        "usr/share/bash-completion/completions/neogenesis",
        "usr/share/polkit-1/actions/neogenesis.policy",
    ):
        assert (root / place).stat().st_size > 100, place
    assert ET.parse(root / "usr/share/metainfo/neogenesis.metainfo.xml").getroot().findtext("id") == "neogenesis"
    page = (root / "usr/share/man/man1/neogenesis.1").read_text()
    assert "neogenesis transfer" in page and "EXIT STATUS" in page
    helper = root / "usr/lib/neogenesis/neogenesis-health"
    for arguments in ([], ["/etc/passwd"], ["/dev/null"], ["/dev/null", "sat;reboot"]):
        assert subprocess.run([helper, *arguments], capture_output=True).returncode == 2


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


def _with_python(environment: dict[str, str]) -> dict[str, str]:
    """The system's `python3` may be another than the one that the package was built with: use that one."""
    folder = Path(sys.executable).resolve().parent
    return {**environment, "PATH": f"{folder}:{environment['PATH']}"}
