"""The NT family's own image format, by the distribution's open library: with attributes, streams and security data.

Its volume mode writes into an NTFS volume without mounting it, and checks each file's checksum while it unpacks.
Source of the header: the family's published description of the format.
"""

from __future__ import annotations

import re
import shutil
import tempfile
from dataclasses import dataclass, field
from pathlib import Path

from blake3 import blake3

from neogenesis.bench.utilities import run_tool
from neogenesis.core.errors import BadRecord, ToolFailed

_MARK = b"MSWIM\0\0\0"
_LOADERS, _LOADER = "Windows/Boot/EFI", "bootmgfw.efi"
_STORE = "Windows/System32/config/BCD-Template"


@dataclass(slots=True)
class LaidOut:
    """What was put into a folder: checksums of its files, and what could not be set there without rights."""

    digests: dict[str, bytes] = field(default_factory=dict)
    owners: dict[str, tuple[int, int, int]] = field(default_factory=dict)
    refused: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class WimFacts:
    name: str
    files: int
    total_bytes: int


def is_wim(path: Path) -> bool:
    try:
        with path.open("rb") as file:
            return file.read(len(_MARK)) == _MARK
    except OSError:
        return False


def wim_facts(path: Path) -> WimFacts:
    """Of the first image in it; raises BadRecord for one that is damaged, cut short, or empty."""
    try:
        run_tool(["wimlib-imagex", "verify", str(path)], "Checking the image")
        said = run_tool(["wimlib-imagex", "info", str(path), "1"], "Reading the image")
    except ToolFailed as error:
        if "missing" in error.text:
            raise
        text = f"The system image “{path.name}” is damaged or cut short: {error.text}"
        raise BadRecord(text, "Fetch it again.") from error
    found = dict(re.findall(r"^([A-Za-z ]+?):\s+(.*)$", said, re.M))
    try:
        return WimFacts(found.get("Name") or path.stem, int(found["File Count"]), int(found["Total Bytes"]))
    except (KeyError, ValueError) as error:
        raise BadRecord(f"The system image “{path.name}” says nothing of itself.", "Fetch it again.") from error


def apply_wim(path: Path, volume: Path) -> None:
    """The first image onto an NTFS volume in a file. Raises ToolFailed."""
    run_tool(["wimlib-imagex", "apply", str(path), "1", str(volume)], "Putting the system onto its volume")


def lay_out_startup(path: Path, folder: Path) -> LaidOut:
    """The loaders that the image holds, where the family's firmware looks for them, and at the fallback path."""
    made = LaidOut()
    with tempfile.TemporaryDirectory(prefix="neogenesis-wim-") as scratch:
        for inner, what in ((_LOADERS, "loaders"), (_STORE, "boot store")):
            options = [f"--dest-dir={scratch}", "--no-acls", "--nullglob"]
            command = ["wimlib-imagex", "extract", str(path), "1", f"/{inner}", *options]
            run_tool(command, f"Taking the {what} out of the image")
        loaders = Path(scratch) / "EFI"
        for file in sorted(p for p in loaders.rglob("*") if p.is_file() and not p.is_symlink()):
            _put(file, folder, f"EFI/Microsoft/Boot/{file.relative_to(loaders).as_posix()}", made)
            if file.name.casefold() == _LOADER:
                _put(file, folder, "EFI/BOOT/BOOTX64.EFI", made)
        store = Path(scratch) / "BCD-Template"
        if store.is_file():
            _put(store, folder, "EFI/Microsoft/Boot/BCD", made)
    if not made.digests:
        raise BadRecord(f"The system image “{path.name}” holds no loader; nothing was written.", "Take another image.")
    return made


def _put(file: Path, folder: Path, name: str, made: LaidOut) -> None:
    place = folder / name
    place.parent.mkdir(parents=True, exist_ok=True)
    shutil.copyfile(file, place)
    made.digests[name] = blake3(place.read_bytes()).digest()
