"""How stores come by descriptors: from whoever may open the drive; a name can mean another one tomorrow."""

from __future__ import annotations

import os
import stat
from pathlib import Path
from typing import Protocol

from neogenesis.core.errors import BadArgument


class Opener(Protocol):
    """Opens one drive or file with the given flags (os.O_RDONLY, os.O_RDWR, os.O_EXCL, os.O_DIRECT).

    Each call gives a descriptor of its own; raises OSError. `name` is what a person calls it.
    """

    @property
    def name(self) -> str: ...

    def __call__(self, flags: int) -> int: ...


class PathOpener:
    """A file or device node that this process may open itself."""

    def __init__(self, path: Path) -> None:
        self.path = path

    @property
    def name(self) -> str:
        return str(self.path)

    def __call__(self, flags: int) -> int:
        if stat.S_ISFIFO(self.path.stat().st_mode):  # opening it would wait for somebody at its other end
            raise BadArgument(
                f"“{self.path}” is a pipe, which is neither a drive nor an image of one.",
                "Name a block device or a file.",
            )
        return os.open(self.path, flags | os.O_CLOEXEC)
