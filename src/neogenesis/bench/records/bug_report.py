"""What somebody needs who is to mend a fault: versions, logs and the outline of a job, without the customer's data."""

from __future__ import annotations

import importlib.metadata
import json
import os
import platform
import shutil
import zipfile
from pathlib import Path
from typing import Any

from neogenesis import __version__
from neogenesis.core.errors import BadRecord
from neogenesis.core.job.store import JobStore

_UTILITIES = ("ntfsresize", "resize2fs", "e2fsck", "fsck.fat", "fsck.exfat", "qemu-img", "smartctl", "udisksctl")
_PACKAGES = ("PyQt6", "numpy", "msgspec", "blake3", "zstandard", "pytsk3", "SQLAlchemy", "alembic", "click", "jeepney")
_PATH = os.environ.get("PATH", "") + ":/usr/sbin:/sbin"
_LARGEST_LOG_BYTES = 2 << 20
_KEPT_FIGURES = (int, float, bool)


def log_folder() -> Path:
    """Where logs belong on this platform: `$XDG_STATE_HOME/neogenesis`."""
    named = os.environ.get("XDG_STATE_HOME")
    return (Path(named) if named else Path.home() / ".local/state") / "neogenesis"


def versions() -> dict[str, Any]:
    """Of this program, of what it stands on, and of the utilities that it calls."""
    found = {}
    for name in _PACKAGES:
        try:
            found[name] = importlib.metadata.version(name)
        except importlib.metadata.PackageNotFoundError:
            found[name] = "missing"
    return {
        "neogenesis": __version__,
        "python": platform.python_version(),
        "system": f"{platform.system()} {platform.release()} {platform.machine()}",
        "packages": found,
        "utilities": {name: shutil.which(name, path=_PATH) or "missing" for name in _UTILITIES},
    }


def outline_of(store: JobStore, ticket: str) -> dict[str, Any]:
    """A job without names, texts and serials: what happened when, figures, and which records there are."""
    job = store.job(ticket)
    entries = [
        {
            "number": entry.number,
            "at": entry.at,
            "kind": entry.kind,
            "figures": {name: value for name, value in entry.figures.items() if isinstance(value, _KEPT_FIGURES)},
        }
        for entry in store.log(ticket)
    ]
    folder = store.dossier(ticket)
    files = {str(p.relative_to(folder)): p.stat().st_size for p in sorted(folder.rglob("*")) if p.is_file()}
    return {"stop": job.stop, "intent": job.intent, "closed": job.closed, "log": entries, "files": files}


def write_bug_report(out: Path, store: JobStore | None, ticket: str) -> list[str]:
    """Put everything into a zip file; returns the names in it. Raises BadRecord or BadArgument."""
    parts: dict[str, bytes] = {"versions.json": json.dumps(versions(), indent=2).encode()}
    if store is not None and ticket:
        parts["job.json"] = json.dumps(outline_of(store, ticket), indent=2).encode()
    folder = log_folder()
    for path in sorted(folder.glob("*.log*")) if folder.is_dir() else ():
        parts[f"logs/{path.name}"] = path.read_bytes()[-_LARGEST_LOG_BYTES:]
    try:
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, data in parts.items():
                archive.writestr(name, data)
    except OSError as error:
        raise BadRecord(f"“{out}” cannot be written ({error.strerror}).", "Choose another place.") from error
    return list(parts)
