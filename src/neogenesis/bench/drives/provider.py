"""What every kind of drive offers: opening it, sealed or for writing, and asking the hardware itself.

There are four homes: device nodes, the desktop's disk service, simulated drives and image files. Nobody else needs to
know which one a drive comes from.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from neogenesis.core.drive import Drive, Identity
from neogenesis.core.extent import Extents
from neogenesis.core.record import Record
from neogenesis.core.store import Grip, ReadableStore, ReadWay, WritableStore
from neogenesis.core.work import Control

_SLICE_SECONDS = 0.25


class Hardware:
    """The drive itself, beside its bytes. As it stands here it is one that tells nothing and takes real time."""

    #: Seconds of its own time that pass in one real second.
    pace = 1.0
    #: Sectors of an image file are those of the table in it.
    has_own_sectors = True

    def temperature_c(self) -> float | None:
        """Now; None where nobody knows."""
        return None

    def changed_ns(self) -> int:
        """When an image file was last changed, as its open descriptor says; 0 for what is no file."""
        return 0

    def rest(self, seconds: float, control: Control) -> None:
        """Leave the drive alone for so long; a wait can be stopped and paused like everything else."""
        until = time.monotonic() + seconds
        while (left := until - time.monotonic()) > 0:
            control.checkpoint()
            time.sleep(min(left, _SLICE_SECONDS))

    def passed_s(self) -> float:
        """Seconds that passed on paper only."""
        return 0.0

    def busy_clock(self) -> Callable[[], float] | None:
        """A clock of its own that tells how long its requests take, where it has one."""
        return None

    def close(self) -> None:
        """Let go of it."""

    def best_way(self, seconds: Callable[[], float]) -> ReadWay | None:
        """Measure how it is read best and read so from now on; None where there is nothing to choose."""
        return None


class Connected(Record, frozen=True, kw_only=True):
    """A drive that is connected, as far as the system knows it without asking the drive. `in_use`: by what."""

    drive: Drive
    in_use: str = ""
    removable: bool = False
    read_only: bool = False

    @property
    def may_be_target(self) -> bool:
        return not (self.in_use or self.read_only)


@dataclass(frozen=True, slots=True)
class OpenDrive:
    """An open drive and who it is. `lost`: what could not be read when it was saved, where a record says so."""

    drive: Drive
    store: ReadableStore
    hardware: Hardware
    lost: Extents | None = None

    def seconds(self) -> float:
        """By the drive's own time where it has one, else by ours."""
        own = self.hardware.busy_clock()
        return own() if own is not None else time.monotonic()

    def close(self) -> None:
        self.store.close()
        self.hardware.close()


@dataclass(frozen=True, slots=True)
class OpenTarget:
    """A drive opened for writing."""

    drive: Drive
    store: WritableStore
    hardware: Hardware

    def close(self) -> None:
        self.store.close()
        self.hardware.close()


@dataclass(frozen=True, slots=True)
class Parting:
    """Whether the drive is without power now, and what a person must know before pulling it out."""

    powered_off: bool
    text: str


class DriveProvider(Protocol):
    """One home of drives. `name` is a DRIVE argument; everything raises BadArgument or Refused in words."""

    def claims(self, name: str) -> bool:
        """Whether a drive of that name lives here."""
        ...

    def open(self, name: str, sector_size: int | None, grip: Grip) -> OpenDrive: ...

    def open_target(self, name: str, sector_size: int) -> OpenTarget:
        """Open for writing, exclusively; `sector_size` is the plan's, for what has none of its own."""
        ...

    def can_make(self, name: str) -> bool:
        """Whether nothing stands there and an empty drive of that name could be made."""
        ...

    def make(self, name: str, size_bytes: int) -> None:
        """An empty drive that takes no room yet; raises BadArgument or BadRecord."""
        ...

    def refuse_as_target(self, name: str) -> None:
        """Raises Refused for what can never be a new drive."""
        ...

    def backing(self, name: str) -> set[str]:
        """What holds its bytes, all the way down; two drives that share any of it are not two drives."""
        ...

    def insertion(self, name: str) -> str:
        """What tells this putting in of the drive from any other; empty where nothing does."""
        ...

    def alike(self, name: str, drive: Drive) -> list[str]:
        """Other connected drives that say they are this one: then nobody can tell which is meant."""
        ...

    def again(self, name: str, identity: Identity) -> list[str]:
        """Where a drive with a serial, that was last seen as `name`, is connected now."""
        ...

    def tail(self, path: Path) -> str:
        """What a person types to confirm a drive that has no serial."""
        ...

    def make_safe(self, name: str) -> Parting:
        """Flush it and switch it off where that can be done."""
        ...
