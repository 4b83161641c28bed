"""Folders for things that are thrown away, which go even where the process that made them was killed."""

from __future__ import annotations

import fcntl
import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

_PREFIX, _OWNER, _MOST = "neogenesis-", ".in-use", 200


@contextmanager
def scratch(kind: str, beside: Path | None = None) -> Iterator[Path]:
    """A folder of its own, gone afterwards, hidden in `beside` or where temporary files go; those of that kind whose
    process is gone are swept first.
    """
    prefix = f"{'.' if beside is not None else ''}{_PREFIX}{kind}-"
    _sweep(prefix, beside or Path(tempfile.gettempdir()))
    with tempfile.TemporaryDirectory(prefix=prefix, dir=beside, ignore_cleanup_errors=True) as name:
        folder = Path(name)
        with (folder / _OWNER).open("wb") as held:
            fcntl.flock(held, fcntl.LOCK_EX)
            yield folder


def _sweep(prefix: str, where: Path) -> None:
    """The lock of a process goes with it: a folder that can be locked belongs to nobody any more."""
    for folder in sorted(where.glob(f"{prefix}*"))[:_MOST]:
        with suppress(OSError):
            if folder.stat().st_uid != os.getuid():
                continue
            with (folder / _OWNER).open("rb") as held:
                fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
                shutil.rmtree(folder, ignore_errors=True)
