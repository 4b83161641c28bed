"""Builds `build/neogenesis_VERSION_ARCH.deb`: the program, its Python packages, and what a desktop expects.

Run by `make package` with the project's own Python.
"""

from __future__ import annotations

import gzip
import os
import shutil
import subprocess
import sys
from pathlib import Path

import click
from slim import slim

from neogenesis.cli.main import Commands

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "packaging/deb"
#: Only the installed program has a helper that asks for rights; the package has had two names.
_ASKS_FOR_RIGHTS = "pkexec | policykit-1"
#: Every Debian system has them, so no package may ask for them.
_ALWAYS_THERE = ("util-linux",)
#: How desktops know the program: the name of its entry, and of what is said about it.
APPLICATION = "org.neogenesis.Neogenesis"
MAINTAINER = "Neogenesis project <maintainers@neogenesis.invalid>"
CHANGED = "Tue, 01 Dec 2026 12:00:00 +0000"
ICON_SIZES = (16, 24, 32, 48, 64, 128, 256, 512)
SHELLS = {
    "bash": "usr/share/bash-completion/completions/neogenesis",
    "zsh": "usr/share/zsh/vendor-completions/_neogenesis",
    "fish": "usr/share/fish/vendor_completions.d/neogenesis.fish",
}


def man_page(app: Commands, version: str) -> str:
    """The manual page of all commands, from what they say of themselves."""

    def escaped(text: str) -> str:
        return text.replace("\\", "\\e").replace("-", "\\-")

    lines = [f'.TH NEOGENESIS 1 "" "neogenesis {version}" "User commands"', ".SH NAME"]
    lines += [f"neogenesis \\- {escaped((app.help or '').split('.')[0])}", ".SH SYNOPSIS"]
    lines += [".B neogenesis", "[COMMAND] [OPTIONS]", ".SH COMMANDS"]
    for name, command in sorted(app.every().items()):
        context = click.Context(command, info_name=f"neogenesis {name}")
        usage = " ".join(command.collect_usage_pieces(context))
        lines += [f".SS neogenesis {escaped(name)} {escaped(usage)}"]
        lines += [
            part for text in (command.help or "").split("\n\n") for part in (escaped(" ".join(text.split())), ".PP")
        ]
        for parameter in command.params:
            record = parameter.get_help_record(context)
            if record is not None:
                lines += [".TP", f"\\fB{escaped(record[0])}\\fR", escaped(record[1]) or "\\&"]
    epilog = next((c.epilog for c in app.every().values() if c.epilog), "")
    lines += [".SH EXIT STATUS", escaped(epilog or "")]
    return "\n".join(lines) + "\n"


def run_time_packages() -> list[str]:
    """Debian packages that the program needs, as the list names them; those for its tests are left out."""
    text = (ROOT / "packaging/debian-packages.txt").read_text("utf-8").partition("# Tests")[0]
    named = [line for line in text.splitlines() if line and not line.startswith("#")]
    return [name for name in named if name not in _ALWAYS_THERE] + [_ASKS_FOR_RIGHTS, "libc6"]


def build(out: Path) -> Path:
    """Everything below `out`; returns the package."""
    from neogenesis import __version__
    from neogenesis.cli.main import app

    tree = out / "tree"
    shutil.rmtree(tree, ignore_errors=True)
    site = tree / "usr/lib/neogenesis/site-packages"
    site.mkdir(parents=True)
    pip = [
        sys.executable,
        "-m",
        "pip",
        "install",
        "--quiet",
        "--disable-pip-version-check",
        "--no-deps",
        "--no-compile",
    ]
    subprocess.run([*pip, "--target", str(site), "-r", str(ROOT / "requirements/runtime.txt")], check=True)
    shutil.copytree(ROOT / "src/neogenesis", site / "neogenesis", ignore=shutil.ignore_patterns("__pycache__"))
    slim(site)
    _put(SOURCE / "neogenesis", tree / "usr/bin/neogenesis", 0o755)
    _put(ROOT / "src/neogenesis/data/neogenesis-health", tree / "usr/lib/neogenesis/neogenesis-health", 0o755)
    _put(SOURCE / f"{APPLICATION}.desktop", tree / f"usr/share/applications/{APPLICATION}.desktop")
    _put(SOURCE / f"{APPLICATION}.metainfo.xml", tree / f"usr/share/metainfo/{APPLICATION}.metainfo.xml")
    _put(SOURCE / "neogenesis.policy", tree / "usr/share/polkit-1/actions/neogenesis.policy")
    _put(SOURCE / "overrides", tree / "usr/share/lintian/overrides/neogenesis")
    _documents(tree / "usr/share/doc/neogenesis", __version__)
    _pressed(tree / "usr/share/man/man1/neogenesis.1.gz", man_page(app, __version__))
    for shell, place in SHELLS.items():
        environment = {**os.environ, "_NEOGENESIS_COMPLETE": f"{shell}_source", "PYTHONPATH": str(site)}
        done = subprocess.run(
            [sys.executable, "-m", "neogenesis"], env=environment, capture_output=True, text=True, check=False
        )
        _write(tree / place, done.stdout)
    _icons(tree / "usr/share/icons/hicolor")
    return _packed(out, tree, __version__)


def _documents(folder: Path, version: str) -> None:
    """The same pages as in the project, what changed, and whose it is."""
    _put(SOURCE / "copyright", folder / "copyright")
    for page in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        _put(page, folder / page.name)
    _pressed(folder / "changelog.gz", (ROOT / "CHANGELOG.md").read_text("utf-8"))
    entry = f"neogenesis ({version}) stable; urgency=low\n\n  * See changelog.gz.\n\n -- {MAINTAINER}  {CHANGED}\n"
    _pressed(folder / "changelog.Debian.gz", entry)


def _icons(folder: Path) -> None:
    from PyQt6.QtGui import QGuiApplication

    from neogenesis.app.theme.icons import icon_pixmap

    application = QGuiApplication(["neogenesis"])
    for size in ICON_SIZES:
        place = folder / f"{size}x{size}/apps/neogenesis.png"
        place.parent.mkdir(parents=True)
        icon_pixmap("ship-wheel", size, "accent", ratio=1.0).save(str(place))
    del application


def _packed(out: Path, tree: Path, version: str) -> Path:
    architecture = subprocess.run(
        ["dpkg", "--print-architecture"], capture_output=True, text=True, check=True
    ).stdout.strip()
    minor = sys.version_info.minor
    for path in tree.rglob("*"):
        path.chmod(0o755 if path.is_dir() or os.access(path, os.X_OK) else 0o644)
    kib = sum(p.stat().st_size for p in tree.rglob("*") if p.is_file()) // 1024
    fields = {
        "Package": "neogenesis",
        "Version": version,
        "Architecture": architecture,
        "Maintainer": MAINTAINER,
        "Section": "admin",
        "Priority": "optional",
        "Installed-Size": str(kib),
        # The packages inside are built for this Python, and load in no other.
        "Depends": ", ".join([f"python3 (>= 3.{minor})", f"python3 (<< 3.{minor + 1})", *run_time_packages()]),
        "Description": "moves a customer's system and data to a new storage drive\n"
        " Surveys the old drive without writing to it, plans the new one, copies\n"
        " with checksums, reads everything back, and keeps the records that prove it.",
    }
    for script in ("postinst", "prerm"):
        _put(SOURCE / script, tree / f"DEBIAN/{script}", 0o755)
    _write(tree / "DEBIAN/control", "".join(f"{name}: {value}\n" for name, value in fields.items()))
    package = out / f"neogenesis_{version}_{architecture}.deb"
    subprocess.run(
        ["dpkg-deb", "--build", "--root-owner-group", "-Zxz", "-z1", str(tree), str(package)],
        check=True,
        stdout=subprocess.DEVNULL,
    )
    return package


def _put(source: Path, place: Path, mode: int = 0o644) -> None:
    place.parent.mkdir(parents=True, exist_ok=True)
    shutil.copy(source, place)
    place.chmod(mode)


def _pressed(place: Path, text: str) -> None:
    """Compressed, and the same bytes each time."""
    place.parent.mkdir(parents=True, exist_ok=True)
    place.write_bytes(gzip.compress(text.encode("utf-8"), 9, mtime=0))


def _write(place: Path, text: str) -> None:
    place.parent.mkdir(parents=True, exist_ok=True)
    place.write_text(text, "utf-8")


if __name__ == "__main__":
    sys.stdout.write(f"{build(Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / 'build')}\n")
