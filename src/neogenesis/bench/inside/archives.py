"""Archives and cabinets, unpacked beneath a folder and nowhere else, within bounds. By the libarchive library."""

from __future__ import annotations

import os
from pathlib import Path, PurePosixPath

from neogenesis.core.errors import BadRecord, ToolFailed

SUFFIXES = (".zip", ".cab", ".7z", ".tar", ".tgz", ".tar.gz", ".tar.xz", ".tar.zst", ".tar.bz2")
_MOST_BYTES, _MOST_MEMBERS, _MOST_RATIO, _SMALL = 8 << 30, 200_000, 300, 64 << 20


def is_archive(name: str) -> bool:
    return name.casefold().endswith(SUFFIXES)


def safe_parts(name: str) -> tuple[str, ...] | None:
    """The parts of a member's name; None for one that leads out of the archive, or is none."""
    parts = PurePosixPath(name.replace("\\", "/")).parts
    parts = tuple(p for p in parts if p != ".")
    if not parts or any(p in ("..", "/") or "\0" in p or p.endswith(":") or ":" in p for p in parts):
        return None
    return parts


def unpack(archive: Path, folder: Path) -> list[str]:
    """Unpack files and folders, no links and nothing else. Returns the names that were refused; raises BadRecord.

    A bomb (far larger than its archive, or of too many members) is given up, and what was unpacked of it is left for
    the caller to remove.
    """
    try:
        import libarchive
        from libarchive.exception import ArchiveError
    except (ImportError, OSError, TypeError) as error:
        raise ToolFailed("Archives cannot be unpacked here.", "Install libarchive13.") from error
    limit = max(_SMALL, archive.stat().st_size * _MOST_RATIO)
    refused: list[str] = []
    total = members = 0
    try:
        with libarchive.file_reader(str(archive)) as entries:
            for entry in entries:
                members += 1
                if members > _MOST_MEMBERS:
                    raise BadRecord(f"“{archive.name}” has too many members.", "It was not used.")
                name = str(entry.pathname or "")
                parts = safe_parts(name)
                if parts is None or not (entry.isfile or entry.isdir):
                    refused.append(name[:200])
                    continue
                place = folder.joinpath(*parts)
                if entry.isdir:
                    place.mkdir(parents=True, exist_ok=True)
                    continue
                place.parent.mkdir(parents=True, exist_ok=True)
                flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW
                with os.fdopen(os.open(place, flags, 0o644), "wb") as out:
                    for block in entry.get_blocks():
                        total += len(block)
                        if total > min(limit, _MOST_BYTES):
                            raise BadRecord(
                                f"“{archive.name}” unpacks to far more than it should; it was given up.",
                                "Unpack it by hand if you trust it.",
                            )
                        out.write(block)
    except (ArchiveError, UnicodeDecodeError, ValueError) as error:
        raise BadRecord(f"“{archive.name}” cannot be unpacked ({_words(error)}).", "Fetch it again.") from error
    except OSError as error:
        raise BadRecord(f"“{archive.name}” cannot be unpacked ({error.strerror}).", "Fetch it again.") from error
    return refused


def _words(error: Exception) -> str:
    return " ".join(str(error).split())[:160]
