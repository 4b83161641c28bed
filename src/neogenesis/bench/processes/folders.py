"""Where things are kept on this computer."""

from __future__ import annotations

import getpass
import os
from pathlib import Path

#: Where a bench keeps system images, installer images and driver packages, below its own folder.
LIBRARY = "library"


def bench_folder() -> Path:
    """Where the jobs of the real bench are kept; `NEOGENESIS_BENCH` moves it."""
    named = os.environ.get("NEOGENESIS_BENCH")
    data = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local/share")
    return Path(named) if named else Path(data) / "neogenesis" / "bench"


def person_folder() -> Path:
    """Where the preferences of who is at the computer are kept."""
    home = os.environ.get("XDG_CONFIG_HOME")
    return (Path(home) if home else Path.home() / ".config") / "neogenesis"


def cache_folder() -> Path:
    """For what can be worked out again."""
    home = os.environ.get("XDG_CACHE_HOME")
    return (Path(home) if home else Path.home() / ".cache") / "neogenesis"


def login_name() -> str:
    """Who is at the bench, as the system knows them."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return "technician"
