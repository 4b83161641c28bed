"""What a remedy is: its codes, what it needs done, how it is shown beforehand, and whether it helps."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import ClassVar, Literal, Protocol, get_args

from neogenesis.core.boot.answer import Forecast
from neogenesis.core.boot.drives import BootDrive
from neogenesis.core.errors import BadArgument
from neogenesis.core.record import Record
from neogenesis.core.store import WritableStore

Code = Literal[
    "fallback-loader",
    "active-partition",
    "restamp-table",
    "restamp-volume",
    "store-identity",
    "menu-identity",
    "drive-letters",
    "check-flag",
    "recovery-record",
    "startup-partition",
    "protective-sector",
]
CODES: tuple[Code, ...] = get_args(Code)
Risk = Literal["low", "some", "high"]
#: What helps with something else than the chain of a start: offered where the chain does not suffer.
BESIDE_THE_CHAIN = (
    *("restamp-table", "restamp-volume", "store-identity", "menu-identity", "drive-letters", "check-flag"),
    "recovery-record",
)
#: The steps of a start in their order: the later a chain breaks, the further it comes.
_STEPS = (
    *("firmware", "drive", "entry", "boot-code", "active-partition", "volume-code", "loader", "store", "menu"),
    *("entry-of-menu", "search", "kernel", "initrd", "system", "mounts"),
)


class Tools(Protocol):
    """What the distribution's utilities do to a volume."""

    def copy_file(self, volume: WritableStore, source: str, target: str) -> None:
        """Copy a file inside a FAT volume, making folders; raises ToolFailed."""
        ...

    def put_file(self, volume: WritableStore, data: bytes, target: str) -> None:
        """Put a file into a FAT volume, making folders; raises ToolFailed."""
        ...

    def make_fat(self, volume: WritableStore, label: str, identity: str) -> None:
        """Make a FAT volume of that identity (`0A1B-2C3D`); empty for a new one."""
        ...

    def new_identity(self, volume: WritableStore, uuid: str) -> None:
        """Of an ext volume; raises ToolFailed."""
        ...


@dataclass(frozen=True, slots=True)
class Remedy:
    """`do` changes an overlay of the drive; it raises Refused or ToolFailed where that cannot be."""

    code: Code
    text: str
    risk: Risk
    drive: BootDrive
    do: Callable[[WritableStore, Tools], None]


class After(Record, frozen=True, kw_only=True):
    """What would start once it is done."""

    starts: bool | None
    breaks_at: str | None = None


class RemedyRow(Record, frozen=True, kw_only=True):
    """`writes` holds every byte that will change, half-open; `changes` is the digest of what stands there and will.

    `cannot` says why it cannot be done, where it would help; nothing is written then. `entries_lost` are the machine's
    own entries that will find nothing any more: its firmware's own pages make them anew.
    """

    code: str
    text: str
    drive: str
    risk: Risk
    writes: tuple[tuple[int, int], ...]
    changes: str = ""
    undo: bool = True
    after: After | None = None
    cannot: str = ""
    entries_lost: tuple[str, ...] = ()


class Remedies(Record, frozen=True, kw_only=True):
    SCHEMA: ClassVar[str] = "neogenesis.remedies/1"

    schema: str = SCHEMA
    remedies: tuple[RemedyRow, ...]


def rank(found: Forecast) -> tuple[int, int]:
    """The higher the further a start comes."""
    at = _STEPS.index(found.breaks_at) if found.breaks_at in _STEPS else len(_STEPS)
    return (0, at) if found.starts is False else (1 if found.starts is None else 2, len(_STEPS))


def is_worse(before: Forecast, after: Forecast) -> bool:
    return rank(after) < rank(before)


def helps(code: str, before: Forecast, after: Forecast) -> bool:
    """Whether a remedy is offered, by the forecasts before and after it."""
    if code in BESIDE_THE_CHAIN:
        return not is_worse(before, after)
    return rank(after) > rank(before)


def checked_code(code: str) -> Code:
    """Raises BadArgument for a code that there is not."""
    known = next((c for c in CODES if c == code), None)
    if known is not None:
        return known
    raise BadArgument(f"There is no remedy “{code}”.", f"There are: {', '.join(CODES)}.")
