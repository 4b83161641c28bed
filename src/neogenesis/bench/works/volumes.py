"""Making volumes by the distribution's utilities, empty or with the files that were laid out for them."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Mapping
from contextlib import nullcontext, suppress
from pathlib import Path

from neogenesis.bench.processes.exposed import exposed
from neogenesis.bench.processes.utilities import run_tool
from neogenesis.core.errors import ToolFailed
from neogenesis.core.filesystem import exfat_resize
from neogenesis.core.plan.steps import MakeVolume
from neogenesis.core.reinstall.system import volume_id_text
from neogenesis.core.store import WritableStore
from neogenesis.core.table.gpt import guid_bytes
from neogenesis.core.units import MIB

#: FAT of 32 bits has at least so many clusters; here one is a sector.
_LEAST_FAT32_SECTORS = 66_600
_WHAT = "Making the new volume"


def make_volume(
    store: WritableStore,
    step: MakeVolume,
    start_bytes: int,
    laid_out: Path | None = None,
    put: Callable[[Path], None] | None = None,
    file: Path | None = None,
) -> None:
    """Make the volume of a step in `store`, which begins at that byte of its drive.

    `laid_out` is a folder with its files. `put` fills an NTFS volume that is mounted, or None. `file` is where `store`
    stands as a plain file, if it does. Raises ToolFailed.
    """
    sector = store.sector_size
    first = start_bytes // sector
    label, kind = step.label, step.volume_kind
    with exposed(store) if file is None else nullcontext(file) as path:
        name = str(path)
        if kind == "vfat":
            wide = ["-F", "32"] if store.size_bytes // sector >= _LEAST_FAT32_SECTORS else []
            ident = ["-i", step.volume_id.replace("-", "")[:8]] if step.volume_id else []
            short = "".join(c for c in label.upper() if c.isascii() and (c.isalnum() or c in " -_"))[:11] or "VOLUME"
            run_tool(["mkfs.fat", *wide, "-S", str(sector), "-h", str(first), *ident, "-n", short, name], _WHAT)
            if laid_out is not None:
                _fill_fat(path, laid_out)
        elif kind == "ntfs":
            place = ["-p", str(min(first, 0xFFFFFFFF)), "-H", "255", "-S", "63"] if first else []
            run_tool(["mkntfs", "-Q", "-F", "-q", "-s", str(sector), *place, "-L", label[:32], name], _WHAT)
            if put is not None:
                fill_ntfs(path, put)
        elif kind == "exfat":
            run_tool(["mkfs.exfat", "-L", label[:11], name], _WHAT)
        elif kind == "swap":
            ident = ["-U", step.volume_id.lower()] if step.volume_id else []
            run_tool(["mkswap", "-q", "-f", "-L", label[:15], *ident, name], _WHAT)
        else:
            _make_ext(path, step, sector, laid_out)
    if kind == "ntfs" and step.volume_id:
        _stamp_ntfs(store, step.volume_id)
    if kind == "exfat":
        exfat_resize.settle(store, sector, first, guid_bytes(step.volume_id)[:4] if step.volume_id else b"")


def _make_ext(path: Path, step: MakeVolume, sector: int, laid_out: Path | None) -> None:
    options = "lazy_itable_init=1,lazy_journal_init=1,nodiscard,root_owner=0:0"
    ident = ["-U", step.volume_id.lower()] if step.volume_id else []
    block = ["-b", "4096"] if sector == 4096 or step.bytes >= 64 * MIB else []
    files = ["-d", str(laid_out)] if laid_out is not None else []
    files += ["-N", str(step.inodes)] if step.inodes else []
    run_tool(
        ["mke2fs", "-q", "-F", "-t", "ext4", *block, "-E", options, *ident, "-L", step.label[:16], *files, str(path)],
        _WHAT,
    )


def own_ext_files(path: Path, owners: Mapping[str, tuple[int, int, int | None]]) -> None:
    """Owners, groups and modes, which could not be set on files on their way without rights. Raises ToolFailed."""
    if os.geteuid() == 0:
        return
    lines = []
    for name, (user, group, mode) in owners.items():
        if "\n" in name:  # no order can name it
            continue
        place = '"/{}"'.format(name.replace('"', '""'))
        lines += [f"sif {place} uid {user}", f"sif {place} gid {group}"]
        lines += [f"sif {place} mode {mode:#o}".replace("0o", "0")] if mode is not None else []
    run_tool(
        ["debugfs", "-w", "-f", "/dev/stdin", str(path)],
        "Giving files their owners",
        answer="\n".join(lines) + "\n",
    )


def _fill_fat(path: Path, laid_out: Path) -> None:
    names = sorted(str(p) for p in laid_out.iterdir())
    if names:
        run_tool(
            ["mcopy", "-s", "-Q", "-m", "-i", str(path), *names, "::"],
            "Putting files onto the start-up volume",
            more={"MTOOLS_SKIP_CHECK": "1"},
        )


def fill_ntfs(path: Path, put: Callable[[Path], None]) -> None:
    """Files onto a volume in a file, mounted for that by the utility that needs no kernel driver."""
    unmount = shutil.which("fusermount3") or shutil.which("fusermount")
    if unmount is None:
        raise ToolFailed("The volume cannot be filled: the system has no FUSE; nothing was written.", "Install fuse3.")
    point = Path(tempfile.mkdtemp(prefix="neogenesis-fill-"))
    try:
        run_tool(["ntfs-3g", "-o", "big_writes,noatime,efs_raw", str(path), str(point)], "Opening the new volume")
        try:
            put(point)
        finally:
            done = subprocess.run([unmount, "-u", str(point)], capture_output=True, check=False)
            if done.returncode:
                subprocess.run([unmount, "-u", "-z", str(point)], capture_output=True, check=False)
    finally:
        with suppress(OSError):
            point.rmdir()


def _stamp_ntfs(store: WritableStore, volume_id: str) -> None:
    """The serial that was planned, in both boot sectors; the utility takes none."""
    serial = int(volume_id_text("ntfs", volume_id), 16).to_bytes(8, "little")
    for place in (0, store.size_bytes - store.sector_size):
        if store.read(place + 3, 8) == b"NTFS    ":
            store.write(place + 0x48, serial)
