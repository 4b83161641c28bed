"""Loaders for the stand-in systems of the demo bench, built from the distribution's free loader where that is there.

They look for the system by its release file and print it, so that a trial boot shows that the system volume can be read
by code that is not ours. Without the distribution's tools the drives keep loaders that are none.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from contextlib import closing
from functools import cache
from pathlib import Path

from neogenesis.core.store import PathOpener, SealedFileStore
from neogenesis.core.table import guess_sector_size, read_table

_STARTUP = "C12A7328-F81F-11D2-BA4B-00A0C93EC93B"
_RELEASE = "/Meridian/System/release"
_MODULES = (
    "normal",
    "search",
    "search_fs_file",
    "part_gpt",
    "part_msdos",
    "fat",
    "ntfs",
    "ext2",
    "cat",
    "echo",
    "sleep",
)
#: What the distribution's loader says first; this one has a greeting of its own.
_GREETING = b"Welcome to GRUB!"
_PLACES = ("EFI/BOOT/BOOTX64.EFI", "EFI/Meridian/start.efi")


@cache
def loader_for(release: str) -> bytes:
    """A UEFI program that looks for this file and prints it; empty where the distribution's tools are missing."""
    tool = shutil.which("grub-mkimage")
    if tool is None or not Path("/usr/lib/grub/x86_64-efi").is_dir():
        return b""
    with tempfile.TemporaryDirectory(prefix="neogenesis-loader-") as folder:
        config, out = Path(folder) / "early.cfg", Path(folder) / "loader.efi"
        config.write_text(
            f"search --no-floppy --file --set=root {release}\n"
            f"echo Harbour loader\ncat ($root){release}\necho System reached.\nsleep 60\n"
        )
        command = [tool, "-O", "x86_64-efi", "-o", str(out), "-p", "/EFI/Meridian", "-c", str(config), *_MODULES]
        done = subprocess.run(command, capture_output=True, check=False)
        if done.returncode or not out.exists():
            return b""
        return out.read_bytes().replace(_GREETING, b"Welcome aboard.".ljust(len(_GREETING)))


def put_loaders(image: Path) -> None:
    """Into the start-up partitions of an image that have a folder for one; leaves all else alone."""
    data, copier = loader_for(_RELEASE), shutil.which("mcopy")
    if not data or copier is None:
        return
    with closing(SealedFileStore(PathOpener(image))) as store:
        table = read_table(store, guess_sector_size(store))
        starts = [p.start_bytes for p in table.partitions if p.type_id == _STARTUP]
    with tempfile.TemporaryDirectory(prefix="neogenesis-loader-") as folder:
        held = Path(folder) / "loader.efi"
        held.write_bytes(data)
        for start in starts:
            for place in _PLACES:
                subprocess.run(
                    [copier, "-o", "-i", f"{image}@@{start}", str(held), f"::{place}"],
                    capture_output=True,
                    check=False,
                    stdin=subprocess.DEVNULL,
                    env={**os.environ, "MTOOLS_SKIP_CHECK": "1"},
                )
