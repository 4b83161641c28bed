"""Simulated drives as a home of drives."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from neogenesis.bench.drives.image import ImageProvider
from neogenesis.bench.drives.provider import Hardware, OpenDrive, OpenTarget, Parting
from neogenesis.bench.drives.simulated import SUFFIX, SimulatedDrive, SimulatedTarget, docked_names, load_spec
from neogenesis.bench.drives.system import file_key
from neogenesis.core.drive import Drive, Identity
from neogenesis.core.errors import BadArgument, Refused
from neogenesis.core.store import Grip
from neogenesis.core.work import Control


class SimulatedHardware(Hardware):
    """What the description says of warmth and time."""

    def __init__(self, store: SimulatedDrive) -> None:
        self._store, self.pace = store, store.spec.clock_factor

    def temperature_c(self) -> float | None:
        return self._store.temperature_c()

    def changed_ns(self) -> int:
        return self._store.status().st_mtime_ns

    def rest(self, seconds: float, control: Control) -> None:
        control.checkpoint()
        self._store.rest(seconds)

    def passed_s(self) -> float:
        return self._store.passed_s

    def busy_clock(self) -> Callable[[], float]:
        return lambda: self._store.busy_s


class SimulatedProvider:
    """Drives that are a description beside an image."""

    def __init__(self, images: ImageProvider) -> None:
        self._images = images

    def claims(self, name: str) -> bool:
        return name.endswith(SUFFIX)

    def open(self, name: str, sector_size: int | None, grip: Grip) -> OpenDrive:
        store = SimulatedDrive(Path(name), grip)
        return OpenDrive(self._who(Path(name), store), store, SimulatedHardware(store))

    def open_target(self, name: str, sector_size: int) -> OpenTarget:
        store = SimulatedTarget(Path(name))
        drive = self._who(Path(name), store)
        if drive.mounted:
            store.close()
            raise Refused(
                "mounted",
                f"“{name}” is mounted or in use; nothing was written.",
                "Unmount it, after making sure that it is the right one.",
            )
        return OpenTarget(drive, store, SimulatedHardware(store))

    def _who(self, path: Path, store: SimulatedDrive) -> Drive:
        spec, status = store.spec, store.status()
        return Drive(
            path=str(path.resolve()),
            size_bytes=store.size_bytes,
            sector_size=spec.sector_size,
            model=spec.model,
            serial=spec.serial,
            bus=spec.bus,
            rotational=spec.rotational,
            mounted=spec.mounted or bool(self._images.in_use(status)),
            changed_ns=status.st_mtime_ns,
            reading=spec.health,
        )

    def can_make(self, name: str) -> bool:
        return False

    def make(self, name: str, size_bytes: int) -> None:
        raise BadArgument(f"“{name}” is hardware; it cannot be made.", "Name an image file.")

    def refuse_as_target(self, name: str) -> None:
        """Any of them may be one."""

    def backing(self, name: str) -> set[str]:
        path = Path(name)
        try:
            return self._images.backing(str(path.parent / load_spec(path).image))
        except BadArgument:
            return self._images.backing(name)

    def insertion(self, name: str) -> str:
        """Of the description and of the image below it: whichever is exchanged, another drive is there."""
        path = Path(name)
        try:
            told, held = path.stat(), (path.parent / load_spec(path).image).stat()
        except (OSError, BadArgument):
            return ""
        return f"{file_key(told)} {told.st_mtime_ns} {file_key(held)}"

    def alike(self, name: str, drive: Drive) -> list[str]:
        path = Path(name).resolve()
        docked = docked_names(path.parent)
        return [str(other) for other in docked if other != path and _same(other, drive.serial, drive.size_bytes)]

    def again(self, name: str, identity: Identity) -> list[str]:
        found = sorted(Path(name).absolute().parent.glob(f"*{SUFFIX}"))
        return [str(path) for path in found if _same(path, identity.serial, identity.size_bytes)]

    def tail(self, path: Path) -> str:
        return path.name.removesuffix(SUFFIX)[-4:]

    def make_safe(self, name: str) -> Parting:
        text = "Everything is on the medium and the simulated drive is switched off; it may be pulled out."
        return Parting(True, text)


def _same(path: Path, serial: str, size_bytes: int) -> bool:
    """Whether the drive described there gives that serial and has that size."""
    try:
        spec = load_spec(path)
        return bool(serial) and spec.serial == serial and (path.parent / spec.image).stat().st_size == size_bytes
    except (OSError, BadArgument):
        return False
