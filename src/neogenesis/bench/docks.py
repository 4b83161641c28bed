"""The docks of a bench and the drives in them: simulated ones from a folder, real ones from the system."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import ClassVar, Protocol

from neogenesis.bench.drives import open_sealed
from neogenesis.core.drive import Drive, Health, judge
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.record import Record, load


class Docked(Record, frozen=True, kw_only=True):
    """A drive in a dock; `trouble` says why it cannot be opened."""

    name: str
    drive: Drive
    health: Health
    trouble: str = ""

    @property
    def key(self) -> str:
        """What a drive is known by when it comes back: its serial, else its place."""
        return self.drive.serial or self.drive.path


class Docks(Protocol):
    """What a bench has connected. `count` docks are drawn, empty ones as well."""

    count: int

    def drives(self) -> list[Docked]:
        """The drives that are connected now, in the order of the docks."""
        ...


def look_at(name: str) -> Docked | None:
    """A drive by its DRIVE argument; None when there is nothing of that name."""
    try:
        opened = open_sealed(name, grip="look")
    except NeogenesisError as error:
        path = Path(name)
        if not path.exists():
            return None
        return Docked(
            name=name,
            drive=Drive(path=str(path), size_bytes=0, sector_size=512, model=path.name),
            health=judge(None),
            trouble=error.sentence(),
        )
    opened.close()
    return Docked(name=name, drive=opened.drive, health=judge(opened.drive.reading))


class _DockFile(Record, frozen=True, kw_only=True):
    SCHEMA: ClassVar[str] = "neogenesis.docks/1"

    schema: str
    docks: tuple[str | None, ...]


class SimulatedDocks:
    """Docks listed in `docks.json`; a name is a simulated drive beside it, null an empty dock."""

    def __init__(self, folder: Path) -> None:
        self._file = folder / "docks.json"
        self.count = len(load(self._file, _DockFile, "list of docks").docks)
        self._known: dict[str, Docked] = {}

    def drives(self) -> list[Docked]:
        listed = load(self._file, _DockFile, "list of docks").docks
        self.count = len(listed)
        found = []
        for name in listed:
            path = self._file.parent / name if name else None
            if path is None or not path.exists():
                continue
            docked = look_at(str(path)) or None
            if docked and docked.trouble and str(path) in self._known:
                docked = self._known[str(path)]
            if docked:
                self._known[str(path)] = docked
                found.append(docked)
        return found


class SystemDocks:
    """Every disk that the system knows, but for memory disks, empty loop devices and read-only optical drives."""

    count = 4

    def __init__(self) -> None:
        self._known: dict[str, Docked] = {}

    def drives(self) -> list[Docked]:
        found = []
        for entry in sorted(Path("/sys/block").iterdir()):
            if entry.name.startswith(("ram", "zram", "sr", "fd", "dm-", "md")):
                continue
            with suppress(OSError, ValueError):
                if int((entry / "size").read_text()) == 0:
                    continue
                name = f"/dev/{entry.name}"
                docked = look_at(name)
                if docked and docked.trouble and name in self._known:
                    docked = self._known[name]
                if docked:
                    self._known[name] = docked
                    found.append(docked)
        self.count = max(4, len(found))
        return found
