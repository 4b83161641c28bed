"""The distribution's filesystem utilities, each behind one function, with a clear sentence when one is missing."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

from neogenesis.bench.exposed import exposed
from neogenesis.bench.reader import open_tree
from neogenesis.core.errors import ToolFailed
from neogenesis.core.store import ReadableStore, WritableRangeView, WritableStore
from neogenesis.core.system import FileTree

_PACKAGES = {
    "ntfsresize": "ntfs-3g",
    "ntfsfix": "ntfs-3g",
    "mkntfs": "ntfs-3g",
    "e2fsck": "e2fsprogs",
    "resize2fs": "e2fsprogs",
    "mke2fs": "e2fsprogs",
    "fsck.fat": "dosfstools",
    "mkfs.fat": "dosfstools",
    "fsck.exfat": "exfatprogs",
    "tune2fs": "e2fsprogs",
    "mcopy": "mtools",
    "mmd": "mtools",
    "mdir": "mtools",
}
_PLACES = "/usr/sbin:/sbin:/usr/bin:/bin"


def find_tool(name: str) -> str:
    """The path of a utility; raises ToolFailed naming the package that brings it."""
    found = shutil.which(name) or shutil.which(name, path=_PLACES)
    if not found:
        raise ToolFailed(
            f"The utility {name} is missing; nothing was written.", f"Install the package {_PACKAGES.get(name, name)}."
        )
    return found


def _run(arguments: list[str], what: str, allowed: tuple[int, ...] = (0,), answer: str = "") -> str:
    """Run a utility to its end; raises ToolFailed with its own last words, on one line."""
    done = subprocess.run(
        [find_tool(arguments[0]), *arguments[1:]],
        input=answer,
        capture_output=True,
        text=True,
        errors="replace",
        env={**os.environ, "LC_ALL": "C"},
        check=False,
        start_new_session=True,  # Ctrl+C stops the transfer at a safe point, not the utility in the middle
    )
    if done.returncode not in allowed:
        words = [line.strip() for line in (done.stderr + "\n" + done.stdout).splitlines() if line.strip()]
        told = "; ".join(words[:3])
        raise ToolFailed(
            f"{what} failed ({told[:240]}); nothing was written.",
            "Plan with another size or with --grow none, or check the volume on the customer's machine.",
        )
    return done.stdout


class FilesystemTools:
    """Implements what a transfer needs done to volumes; each volume is shown to the utility as a plain file."""

    def resize(self, store: WritableStore, kind: str, size_bytes: int) -> None:
        with exposed(store) as path:
            if kind == "ntfs":
                _run(
                    ["ntfsresize", "--force", "--force", "--size", str(size_bytes), str(path)],
                    "Resizing the volume",
                    answer="y\n",
                )
            else:
                _run(["e2fsck", "-f", "-p", str(path)], "Checking the volume before resizing it", (0, 1))
                # Forced past the utility's own estimate of the least size, which asks for up to the whole volume where
                # groups are flexible. What it makes is checked in full before anything is written.
                _run(["resize2fs", "-f", str(path), f"{size_bytes // 1024}K"], "Resizing the volume")
        if kind == "ntfs":
            # The utility schedules a check at the next start. The volume is checked here instead, so that the
            # customer's first start is an ordinary one: the flag is taken off, then `check` looks at every cluster.
            with exposed(WritableRangeView(store, 0, min(size_bytes, store.size_bytes))) as path:
                _run(["ntfsfix", "--clear-dirty", str(path)], "Finishing the resized volume")

    def make(self, store: WritableStore, kind: str, label: str) -> None:
        with exposed(store) as path:
            if kind == "ntfs":
                _run(["mkntfs", "-Q", "-F", "-q", "-L", label[:32], str(path)], "Making the new volume")
            else:
                options = "lazy_itable_init=1,lazy_journal_init=1,nodiscard"
                _run(
                    ["mke2fs", "-q", "-F", "-t", "ext4", "-E", options, "-L", label[:16], str(path)],
                    "Making the new volume",
                )

    def open_tree(self, store: ReadableStore) -> FileTree:
        return open_tree(store)

    def check(self, store: ReadableStore, kind: str) -> None:
        with exposed(store) as path:
            self.check_file(path, kind)

    def check_file(self, path: Path, kind: str) -> None:
        """The checker of each kind, read-only."""
        if kind == "ntfs":
            _run(["ntfsresize", "--info", "--force", str(path)], "The check of the volume")
        elif kind.startswith("ext"):
            _run(["e2fsck", "-f", "-n", str(path)], "The check of the volume")
        elif kind in ("vfat", "exfat"):
            _run([f"fsck.{'fat' if kind == 'vfat' else 'exfat'}", "-n", str(path)], "The check of the volume")
