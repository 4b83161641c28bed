"""Photographs of a job: the originals are copied into its dossier as they are, whatever is inside."""

from __future__ import annotations

import shutil
from pathlib import Path

from blake3 import blake3

from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.intake import PHOTOGRAPHS

SUFFIXES = frozenset({".jpg", ".jpeg", ".png", ".webp", ".bmp", ".gif", ".tif", ".tiff", ".heic"})
_LARGEST_BYTES = 1 << 30


def keep_photograph(source: Path, dossier: Path) -> Path:
    """Copy an original into the dossier and return where it is; the same one twice is kept once.

    Raises BadArgument for what is no file or larger than a GiB, BadRecord when there is no room.
    """
    try:
        size = source.stat().st_size
        if not source.is_file():
            raise BadArgument(f"“{source.name}” is not a file.", "Choose a photograph.")
        if size > _LARGEST_BYTES:
            raise BadArgument(f"“{source.name}” is larger than a photograph.", "Choose a photograph.")
        with source.open("rb") as file:
            digest = blake3(max_threads=1)
            while piece := file.read(1 << 20):
                digest.update(piece)
    except OSError as error:
        raise BadArgument(f"“{source.name}” cannot be read ({error.strerror}).", "Choose another file.") from error
    folder = photograph_folder(dossier)
    kept = folder / f"{source.stem[:60]}-{digest.hexdigest()[:10]}{source.suffix.lower()}"
    if kept.exists() and kept.stat().st_size == size:
        return kept
    new = kept.with_name(f".{kept.name}.new")
    try:
        shutil.copyfile(source, new)
        new.replace(kept)
    except OSError as error:
        new.unlink(missing_ok=True)
        raise BadRecord(f"“{kept.name}” cannot be kept ({error.strerror}).", "Free space for the jobs.") from error
    return kept


def photograph_folder(dossier: Path) -> Path:
    """Made when it is asked for; raises BadRecord."""
    folder = dossier / PHOTOGRAPHS
    try:
        folder.mkdir(exist_ok=True)
    except OSError as error:
        raise BadRecord(f"“{folder}” cannot be made ({error.strerror}).", "Check the job's folder.") from error
    return folder


def photographs_in(folder: Path) -> dict[str, tuple[int, int]]:
    """Names of the photographs in a folder with size and time of change; empty when it cannot be read."""
    found = {}
    try:
        for path in folder.iterdir():
            if path.suffix.lower() in SUFFIXES and not path.name.startswith("."):
                stat = path.stat()
                found[path.name] = (stat.st_size, stat.st_mtime_ns)
    except OSError:
        return {}
    return found
