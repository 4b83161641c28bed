"""Who a drive is."""

from __future__ import annotations

from blake3 import blake3

from neogenesis.core.drive.health import HealthReading
from neogenesis.core.errors import Refused
from neogenesis.core.record import Record, to_json


class Identity(Record, frozen=True, kw_only=True):
    """What every record says of the drives that it belongs to. `path` counts only where there is no serial."""

    serial: str = ""
    model: str = ""
    size_bytes: int = 0
    sector_size: int = 0
    path: str = ""

    def may_be(self, other: Identity) -> bool:
        """Whether nothing that both of them say differs; an older record says less."""
        return all(
            not mine or not theirs or mine == theirs for mine, theirs in zip(self._marks(), other._marks(), strict=True)
        )

    def is_same(self, other: Identity) -> bool:
        """Whether both mean one drive, in whatever dock: by serial and size, else by place, model and size."""
        if self.serial or other.serial:
            return (self.serial, self.size_bytes) == (other.serial, other.size_bytes)
        return (self.path, self.model, self.size_bytes) == (other.path, other.model, other.size_bytes)

    def _marks(self) -> tuple[object, ...]:
        return (self.serial, self.model, self.size_bytes, self.sector_size, self.path)

    @property
    def key(self) -> str:
        """Eight hexadecimal digits for the names of files that belong to this drive."""
        return blake3(to_json(self)).hexdigest()[:8]


class Drive(Record, frozen=True, kw_only=True):
    """Who a drive is. `bus` is `file` for a plain image; `changed_ns` is an image file's time of last change.

    `sector_size` is the unit of addresses; `physical_sector_size` what the medium writes at once, 0 if unknown.
    `timeout_s` is how long the system waits for one request before it gives the drive up, None for what is no device.
    """

    path: str
    size_bytes: int
    sector_size: int
    model: str = ""
    serial: str = ""
    bus: str = "file"
    rotational: bool = False
    mounted: bool = False
    changed_ns: int = 0
    reading: HealthReading | None = None
    physical_sector_size: int = 0
    timeout_s: float | None = None

    @property
    def mechanical(self) -> bool | None:
        """None for a file: of the drive that it was made of nobody knows."""
        return True if self.rotational else None if self.bus == "file" else False

    @property
    def identity(self) -> Identity:
        """By what it is known again when it comes back, at another place too if it has a serial."""
        return Identity(
            serial=self.serial,
            model=self.model,
            size_bytes=self.size_bytes,
            sector_size=self.sector_size,
            path="" if self.serial else self.path,
        )


def same_drive(one: Drive, other: Drive) -> bool:
    """Whether two descriptions mean one drive: the same place, or the same serial and size."""
    if one.path == other.path:
        return True
    return bool(one.serial) and one.serial == other.serial and one.size_bytes == other.size_bytes


def refuse_mounted(drive: Drive, what: str = "The old drive") -> None:
    """Raises Refused for a drive that this machine uses: it changes while it is read."""
    if drive.mounted:
        raise Refused(
            "mounted",
            f"{what} is mounted or in use by this machine; nothing was written.",
            "Unmount it, after making sure that it is the right one.",
        )


def refuse_wrong_tail(tail: str, expected: str) -> None:
    """Raises Refused unless the last characters of the serial, or of the name where there is none, were typed."""
    if not expected or tail.casefold() != expected.casefold():
        raise Refused(
            "confirm",
            f"“{tail}” is not how the new drive ends; nothing was written.",
            "Read the last four characters of its serial (or of its name) off the drive itself and type those.",
        )
