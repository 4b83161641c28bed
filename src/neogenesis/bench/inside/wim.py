"""The NT family's own image format, by the distribution's open library: with attributes, streams and security data.

Its volume mode writes into an NTFS volume without mounting it, and checks each file's checksum while it unpacks.
Source of the header: the family's published description of the format.
"""

from __future__ import annotations

import re
import tempfile
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from neogenesis.bench.inside.hive import merge_into_hive
from neogenesis.bench.inside.laying import LaidOut, put_file
from neogenesis.bench.processes.utilities import run_tool
from neogenesis.core.boot.program import FALLBACK, read_program
from neogenesis.core.boot.store import LOADER_SETTINGS, entry_for_system, partition_element
from neogenesis.core.errors import BadArgument, BadRecord, ToolFailed
from neogenesis.core.reinstall.returned import Standing

_MARK = b"MSWIM\0\0\0"
_LOADERS, _LOADER = "Windows/Boot/EFI", "bootmgfw.efi"
_BESIDE = ("Windows/Boot/Fonts", "Windows/Boot/Resources")
_MANAGER = "EFI/Microsoft/Boot"
_STORE = "Windows/System32/config/BCD-Template"
_HOMES, _FOLDER = "Users", 0x10


@dataclass(frozen=True, slots=True)
class WimFacts:
    """Of one edition in it, the one with the number `edition`; `standing` is what it puts among people's folders."""

    name: str
    files: int
    total_bytes: int
    editions: tuple[str, ...]
    edition: int
    standing: tuple[Standing, ...]


def is_wim(path: Path) -> bool:
    try:
        with path.open("rb") as file:
            return file.read(len(_MARK)) == _MARK
    except OSError:
        return False


def wim_facts(path: Path, edition: str = "") -> WimFacts:
    """Of the edition of that number or name, else the first.

    Raises BadRecord for an image that is damaged, cut short, or empty, BadArgument for an edition that is not there.
    """
    try:
        run_tool(["wimlib-imagex", "verify", str(path)], "Checking the image")
        said = run_tool(["wimlib-imagex", "info", str(path)], "Reading the image")
    except ToolFailed as error:
        if "missing" in error.text:
            raise
        text = f"The system image “{path.name}” is damaged or cut short: {error.text}"
        raise BadRecord(text, "Fetch it again.") from error
    found = [
        dict(re.findall(r"^([A-Za-z ]+?):\s+(.*)$", one, re.M)) for one in re.split(r"^(?=Index:)", said, flags=re.M)
    ]
    editions = [one for one in found if "Index" in one]
    names = tuple(one.get("Name") or path.stem for one in editions)
    try:
        number = chosen_edition(path, names, edition)
        facts = editions[number - 1]
        files, total = int(facts["File Count"]), int(facts["Total Bytes"])
    except (KeyError, ValueError, IndexError) as error:
        raise BadRecord(f"The system image “{path.name}” says nothing of itself.", "Fetch it again.") from error
    return WimFacts(names[number - 1], files, total, names, number, _among_people(path, number))


def chosen_edition(path: Path, names: Sequence[str], wanted: str) -> int:
    """Its number, from one. Raises BadArgument for one that is not there."""
    folded = [name.casefold() for name in names]
    if not wanted:
        return 1
    if wanted.casefold() in folded:
        return folded.index(wanted.casefold()) + 1
    if wanted.isdecimal() and 1 <= int(wanted) <= len(names):
        return int(wanted)
    there = ", ".join(f"{n} {name}" for n, name in enumerate(names, 1))
    raise BadArgument(f"“{path.name}” has no edition “{wanted[:60]}”.", f"There are: {there}.")


def _among_people(path: Path, number: int) -> tuple[Standing, ...]:
    """What an edition puts below the folder of people's homes."""
    try:
        command = ["wimlib-imagex", "dir", str(path), str(number), f"--path=/{_HOMES}", "--detailed"]
        said = run_tool(command, "Listing people's folders in the image")
    except ToolFailed as error:
        if "missing" in error.text:
            raise
        return ()
    found = []
    for one in said.split("-" * 70):
        name = re.search(r'^Full Path\s+= "/(.*)"$', one, re.M)
        attributes = re.search(r"^Attributes\s+= 0x([0-9a-fA-F]+)$", one, re.M)
        if name is None or attributes is None or name[1] == _HOMES:
            continue
        size = re.search(r"^Uncompressed\s+size\s+=\s+(\d+)\s+bytes$", one, re.M)
        digest = re.search(r"^Hash\s+=\s+0x([0-9a-f]{40})$", one, re.M)
        is_folder = bool(int(attributes[1], 16) & _FOLDER)
        found.append(
            Standing(
                place=name[1],
                is_folder=is_folder,
                size_bytes=int(size[1]) if size else 0,
                digest=f"sha1:{digest[1]}" if digest and not is_folder and int(digest[1], 16) else "",
            )
        )
    return tuple(found)


def apply_wim(path: Path, volume: Path, edition: int = 1) -> None:
    """One edition onto an NTFS volume in a file. Raises ToolFailed."""
    command = ["wimlib-imagex", "apply", str(path), str(edition), str(volume)]
    run_tool(command, "Putting the system onto its volume")


def lay_out_startup(path: Path, folder: Path, title: str, settings: Mapping[str, str], edition: int = 1) -> LaidOut:
    """The loaders that the image holds, where the family's firmware looks for them, and at the fallback path.

    The boot store is the image's template, told of the system on the new drive: `settings` has the identities of the
    disk and of its partitions. Raises BadRecord or ToolFailed.
    """
    made = LaidOut()
    with tempfile.TemporaryDirectory(prefix="neogenesis-wim-") as scratch:
        for inner, what in ((_LOADERS, "loaders"), *((more, "fonts") for more in _BESIDE), (_STORE, "boot store")):
            options = [f"--dest-dir={scratch}", "--no-acls", "--nullglob"]
            command = ["wimlib-imagex", "extract", str(path), str(edition), f"/{inner}", *options]
            run_tool(command, f"Taking the {what} out of the image")
        loaders = Path(scratch) / "EFI"
        for file in _files_below(loaders):
            _put(file, folder, f"{_MANAGER}/{file.relative_to(loaders).as_posix()}", made)
            if file.name.casefold() == _LOADER:
                program = read_program(file.read_bytes())
                fallback = FALLBACK.get(program.architecture if program is not None else "", FALLBACK["x86_64"])
                _put(file, folder, f"EFI/BOOT/{fallback}", made)
        for inner in _BESIDE:
            name = PurePosixPath(inner).name
            for file in _files_below(Path(scratch) / name):
                _put(file, folder, f"{_MANAGER}/{file.relative_to(scratch).as_posix()}", made)
        store = Path(scratch) / PurePosixPath(_STORE).name
        if store.is_file() and not store.is_symlink():
            _tell_store(store, title, settings)
            _put(store, folder, f"{_MANAGER}/BCD", made)
    if not made.digests:
        raise BadRecord(f"The system image “{path.name}” holds no loader; nothing was written.", "Take another image.")
    return made


def _files_below(folder: Path) -> list[Path]:
    return sorted(p for p in folder.rglob("*") if p.is_file() and not p.is_symlink())


def _tell_store(store: Path, title: str, settings: Mapping[str, str]) -> None:
    """Let a boot store start the system of the new drive."""
    startup, system = (partition_element(settings[f"{key}_PART"], settings["DISK_ID"]) for key in ("STARTUP", "SYSTEM"))
    shared = LOADER_SETTINGS.encode() in store.read_bytes().lower()
    entry = str(uuid.uuid5(uuid.UUID(settings["SYSTEM_PART"]), "boot store"))
    keys = entry_for_system(entry, title, settings.get("LANGUAGE", ""), startup, system, shared)
    try:
        merge_into_hive(store, keys)
    except ToolFailed as error:
        if "missing" in error.text:
            raise
        text = "The boot store in the system image is damaged; nothing was written."
        raise BadRecord(text, "Take another image.") from error


def _put(file: Path, folder: Path, name: str, made: LaidOut) -> None:
    put_file(folder, name, [file.read_bytes()], made)
