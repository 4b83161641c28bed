"""The distribution's filesystem utilities, each behind one function, with a clear sentence when one is missing."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Protocol

from neogenesis.bench.processes.exposed import exposed
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.processes.utilities import run_tool
from neogenesis.bench.works.volumes import make_volume
from neogenesis.core.errors import ToolFailed
from neogenesis.core.plan.steps import MakeVolume
from neogenesis.core.store import ReadableStore, WritableRangeView, WritableStore
from neogenesis.core.system import FileTree
from neogenesis.core.transfer.prepare import Told

#: The library that shows a volume as a file does not like several mounts that come and go in one process.
_one_at_a_time = threading.RLock()


class VolumeMaker(Protocol):
    """Makes volumes with files on them."""

    def notes(self) -> list[str]:
        """What is to be known of the volumes that were made."""
        ...

    def make(self, path: Path, store: WritableStore, step: MakeVolume, start_bytes: int, told: Told) -> None:
        """In the file at `path`, which `store` is as well; `told` hears of bytes of files, put there and compared."""
        ...


class FilesystemTools:
    """Implements what a transfer needs done to volumes; each volume is shown to the utility as a plain file.

    `filled` makes volumes with files, where the plan puts a system onto them.
    """

    def __init__(self, filled: VolumeMaker | None = None) -> None:
        self._filled = filled

    def resize(self, store: WritableStore, kind: str, size_bytes: int) -> None:
        with _one_at_a_time, exposed(store) as path:
            if kind == "ntfs":
                run_tool(
                    ["ntfsresize", "--force", "--force", "--size", str(size_bytes), str(path)],
                    "Resizing the volume",
                    answer="y\n",
                )
            else:
                run_tool(["e2fsck", "-f", "-p", str(path)], "Checking the volume before resizing it", (0, 1))
                # Forced past the utility's own estimate of the least size, which asks for up to the whole volume where
                # groups are flexible. What it makes is checked in full before anything is written.
                run_tool(["resize2fs", "-f", str(path), f"{size_bytes // 1024}K"], "Resizing the volume")
        if kind == "ntfs":
            # The utility schedules a check at the next start. The volume is checked here instead, so that the
            # customer's first start is an ordinary one: the flag is taken off, then `check` looks at every cluster.
            with _one_at_a_time, exposed(WritableRangeView(store, 0, min(size_bytes, store.size_bytes))) as path:
                run_tool(["ntfsfix", "--clear-dirty", str(path)], "Finishing the resized volume")

    def make(self, store: WritableStore, step: MakeVolume, start_bytes: int) -> None:
        with _one_at_a_time:
            make_volume(store, step, start_bytes)

    def fill(self, path: Path, store: WritableStore, step: MakeVolume, start_bytes: int, told: Told) -> None:
        if self._filled is None:
            raise ToolFailed(
                "The plan fills a volume, and nothing is there to fill it with; nothing was written.", "Plan."
            )
        self._filled.make(path, store, step, start_bytes, told)

    def open_tree(self, store: ReadableStore) -> FileTree:
        return open_tree(store)

    def check(self, store: ReadableStore, kind: str) -> None:
        with _one_at_a_time, exposed(store) as path:
            self.check_file(path, kind)

    def check_file(self, path: Path, kind: str) -> None:
        """The checker of each kind, read-only."""
        if kind == "ntfs":
            run_tool(["ntfsresize", "--info", "--force", str(path)], "The check of the volume")
        elif kind.startswith("ext"):
            run_tool(["e2fsck", "-f", "-n", str(path)], "The check of the volume")
        elif kind in ("vfat", "exfat"):
            run_tool([f"fsck.{'fat' if kind == 'vfat' else 'exfat'}", "-n", str(path)], "The check of the volume")
