"""The distribution's utilities: where they are, and running one to its end."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager

from neogenesis.core.errors import ToolFailed

PACKAGES = {
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
    "mkfs.exfat": "exfatprogs",
    "mkswap": "util-linux",
    "wimlib-imagex": "wimtools",
    "hivexregedit": "libwin-hivex-perl",
}
_PLACES = "/usr/sbin:/sbin:/usr/bin:/bin"
_LOOK_SECONDS = 0.2
#: Asked now and then while a utility runs; what the last one raises ends it.
_asked: list[Callable[[], None]] = []


@contextmanager
def ended_by(check: Callable[[], None]) -> Iterator[None]:
    """Let `check` be asked while utilities run in this process; what it raises ends the utility, and goes on up."""
    _asked.append(check)
    try:
        yield
    finally:
        _asked.remove(check)


def find_tool(name: str) -> str:
    """The path of a utility; raises ToolFailed naming the package that brings it."""
    found = shutil.which(name) or shutil.which(name, path=_PLACES)
    if not found:
        raise ToolFailed(
            f"The utility {name} is missing; nothing was written.", f"Install the package {PACKAGES.get(name, name)}."
        )
    return found


def run_tool(
    arguments: list[str],
    what: str,
    allowed: tuple[int, ...] = (0,),
    answer: str = "",
    more: Mapping[str, str] | None = None,
) -> str:
    """Run a utility to its end; raises ToolFailed with its own last words, on one line.

    What the check of `ended_by` raises meanwhile ends the utility.
    """
    with subprocess.Popen(
        [find_tool(arguments[0]), *arguments[1:]],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        errors="surrogateescape",  # names that are no text go in as they are
        env={**os.environ, "LC_ALL": "C", **(more or {})},
        start_new_session=True,  # Ctrl+C stops the transfer at a safe point, not the utility in the middle
    ) as process:
        try:
            said, complained = map(_readable, _to_its_end(process, answer))
        except BaseException:
            process.kill()
            raise
    if process.returncode not in allowed:
        words = [line.strip() for line in (complained + "\n" + said).splitlines() if line.strip()]
        told = "; ".join(words[:3])
        raise ToolFailed(
            f"{what} failed ({told[:240]}); nothing was written.",
            "Plan with another size or with --grow none, or check the volume on the customer's machine.",
        )
    return said


def _readable(said: str) -> str:
    """Without what is no text."""
    return said.encode("utf-8", "surrogateescape").decode("utf-8", "replace")


def _to_its_end(process: subprocess.Popen[str], answer: str | None) -> tuple[str, str]:
    """What a utility said and what it complained of."""
    while True:
        try:
            return process.communicate(answer, _LOOK_SECONDS if _asked else None)
        except subprocess.TimeoutExpired:
            answer = None  # it has it
            for check in _asked[-1:]:
                check()
