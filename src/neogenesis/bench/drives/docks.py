"""The docks of a bench and the drives in them: simulated ones from a folder, real ones from the system."""

from __future__ import annotations

import threading
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Protocol

from neogenesis.bench.drives import connected_drives, hotplug, insertion_of, known_files, open_sealed
from neogenesis.bench.drives.diagnosis import reading_of
from neogenesis.bench.drives.simulated import DockFile
from neogenesis.core.drive import Drive, Health, judge
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.record import Record, load


class Docked(Record, frozen=True, kw_only=True):
    """A drive in a dock; `trouble` says why it cannot be opened, `insertion` tells this putting in from any other.

    `files` are those that hold its bytes.
    """

    name: str
    drive: Drive
    health: Health
    trouble: str = ""
    insertion: str = ""
    files: tuple[str, ...] = ()

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

    def listen(self, changed: Callable[[], object]) -> bool:
        """Have `changed` called, from any thread, when a drive comes or goes; False where that has to be looked for."""
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
    insertion, files = insertion_of(name), tuple(sorted(known_files(name)))
    return Docked(name=name, drive=opened.drive, health=judge(opened.drive.reading), insertion=insertion, files=files)


class SimulatedDocks:
    """Docks listed in `docks.json`; a name is a simulated drive beside it, null an empty dock."""

    def __init__(self, folder: Path) -> None:
        self._file = folder / "docks.json"
        self.count = len(load(self._file, DockFile, "list of docks").docks)
        self._known: dict[str, Docked] = {}

    def listen(self, changed: Callable[[], object]) -> bool:
        return False

    def drives(self) -> list[Docked]:
        listed = load(self._file, DockFile, "list of docks").docks
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
    """Every drive that the system knows. Its health is asked once, when it appears, by a thread of its own."""

    count = 4

    def __init__(self) -> None:
        self._health: dict[str, Health] = {}
        self._changed: Callable[[], object] = lambda: None

    def listen(self, changed: Callable[[], object]) -> bool:
        self._changed = changed
        return hotplug.listen(changed)

    def drives(self) -> list[Docked]:
        found = []
        present = set()
        for one in connected_drives():
            drive = one.drive
            key = f"{drive.path} {drive.identity.key}"
            present.add(key)
            if key not in self._health:
                self._health[key] = judge(None)
                threading.Thread(target=self._ask, args=(key, drive.path), daemon=True).start()
            trouble = f"in use by this computer ({one.in_use})" if one.in_use else ""
            insertion = insertion_of(drive.path)
            found.append(
                Docked(name=drive.path, drive=drive, health=self._health[key], trouble=trouble, insertion=insertion)
            )
        for key in set(self._health) - present:
            del self._health[key]
        self.count = max(4, len(found))
        return found

    def _ask(self, key: str, path: str) -> None:
        with suppress(NeogenesisError):
            health = judge(reading_of(path))
            if key in self._health:
                self._health[key] = health
                self._changed()
