"""Small system images that really start: the stand-in systems as archives, made with the distribution's free loader."""

from __future__ import annotations

import io
import json
import tarfile
from pathlib import Path
from typing import Any

import zstandard

from tests.boots import _core, loader

MENU = "search --no-floppy --fs-uuid --set=root @@SYSTEM_ID@@\necho TOLD-@@MACHINE_NAME@@\ncat ($root)/token.txt\nsleep 30\n"


def system_image(
    path: Path,
    token: str = "TOKEN-ONE",
    family: str = "linux",
    files: dict[str, bytes] | None = None,
    more: list[tuple[tarfile.TarInfo, bytes]] | None = None,
    legacy: bool = False,
    **about: Any,
) -> Path:
    """An archive with a description, a start-up tree with a loader and its menu, and a system tree that says its token."""
    description = {
        "schema": "neogenesis.system/1",
        "name": "Fathom Linux" if family == "linux" else "Meridian Desktop",
        "family": family,
        "settings": ["startup/EFI/x/grub.cfg"],
        "drivers_to": "Drivers",
        "says": token,
        **({"firmware": ["uefi", "legacy"], "boot_code": "legacy/first", "core": "legacy/core"} if legacy else {}),
        **about,
    }
    held = {
        "neogenesis.system.json": json.dumps(description).encode(),
        "startup/EFI/BOOT/BOOTX64.EFI": loader(),
        "startup/EFI/x/grub.cfg": MENU.encode(),
        "system/token.txt": f"{token}\n".encode(),
        "system/etc/motd": b"padding " * 900,
        **({"legacy/first": _first(), "legacy/core": _behind_first()} if legacy else {}),
        **(files or {}),
    }
    with (
        path.open("wb") as file,
        zstandard.ZstdCompressor(level=1).stream_writer(file) as stream,
        tarfile.open(fileobj=stream, mode="w|", format=tarfile.PAX_FORMAT) as archive,
    ):
        for name, data in held.items():
            archive.addfile(entry(name, len(data)), io.BytesIO(data))
        for info, data in more or []:
            archive.addfile(info, io.BytesIO(data))
    return path


def entry(name: str, size: int = 0, **fields: Any) -> tarfile.TarInfo:
    made = tarfile.TarInfo(name)
    made.size, made.mode, made.mtime = size, 0o644, 1_700_000_000
    for key, value in fields.items():
        setattr(made, key, value)
    return made


def _behind_first() -> bytes:
    """The core for the sectors directly behind the first one: its own first sector says where it goes on."""
    core = _core()
    return core[:0x1F4] + (2).to_bytes(8, "little") + core[0x1FC:]


def _first() -> bytes:
    code = Path("/usr/lib/grub/i386-pc/boot.img").read_bytes()
    return (code[:0x5C] + (1).to_bytes(8, "little") + code[0x64:512])[:440]
