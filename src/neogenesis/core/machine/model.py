"""A machine's profile as a record: the JSON `neogenesis.machine/1`. Only make and model must be known.

Lengths in millimetres, rates in bytes per second unless the name says otherwise.
"""

from __future__ import annotations

from typing import ClassVar, Literal

from neogenesis.core.record import StrictRecord

BayKind = Literal["m2", "msata", "2.5", "3.5", "optical", "pata-2.5", "emmc-module", "soldered"]
Interface = Literal["nvme", "sata", "pata", "emmc"]
Purpose = Literal["open", "drive", "memory"]
Doing = Literal["remove", "lift", "unplug", "slide", "pry", "drain", "photograph", "check"]


class Bay(StrictRecord, frozen=True, kw_only=True):
    """A place for a drive; None where it is not known. `holds` is the id of the part that is in it.

    `shares_with` names bays that lose their lanes, or lanes of them, when this one is used.
    """

    name: str
    kind: BayKind
    interfaces: tuple[Interface, ...] = ()
    key: Literal["M", "B", "B+M"] | None = None
    lengths_mm: tuple[int, ...] = ()
    double_sided: bool | None = None
    clearance_above_mm: float | None = None
    clearance_below_mm: float | None = None
    thickness_mm: tuple[float, ...] = ()
    caddy_mm: float | None = None
    pcie_generation: int | None = None
    pcie_lanes: int | None = None
    sata_gbit_s: float | None = None
    starts_system: bool | None = None
    holds: str | None = None
    shares_with: tuple[str, ...] = ()


class MemoryBoard(StrictRecord, frozen=True, kw_only=True):
    """What the board takes. `present` are ids of the modules that are in it."""

    slots: int | None = None
    soldered_gb: float | None = None
    generation: str | None = None
    form: str | None = None
    voltage_v: float | None = None
    speed_mt_s: int | None = None
    max_gb: float | None = None
    max_per_slot_gb: float | None = None
    ecc: bool | None = None
    present: tuple[str, ...] = ()


class Openings(StrictRecord, frozen=True, kw_only=True):
    cautions: tuple[str, ...] = ()
    cover_sensor: bool = False
    first_start_needs_mains: bool = False
    seal: str | None = None


class Mark(StrictRecord, frozen=True, kw_only=True):
    """Something that is seen on the machine as it lies, or `under` its cover; corners from 0 to 1."""

    name: str
    x0: float
    y0: float
    x1: float
    y1: float
    under: bool = False


class Outline(StrictRecord, frozen=True, kw_only=True):
    """The machine as it lies while it is opened: its size in millimetres, and what is seen on it."""

    width_mm: float
    height_mm: float
    lies: str = ""
    marks: tuple[Mark, ...] = ()


class Fastener(StrictRecord, frozen=True, kw_only=True):
    """`x` and `y` from 0 to 1, from the upper left of the machine as it lies; `spots` is one such pair for each piece.

    `cover_reused` tells whether what it is `hidden_under` goes back on; `odd` what sets it apart from its neighbours.
    """

    id: str
    head: str = ""
    length_mm: float | None = None
    count: int = 1
    captive: bool = False
    place: str = ""
    hidden_under: str | None = None
    x: float | None = None
    y: float | None = None
    spots: tuple[tuple[float, float], ...] = ()
    cover_reused: bool | None = None
    odd: str | None = None


class SomeOf(StrictRecord, frozen=True, kw_only=True):
    """Some fasteners of a group."""

    id: str
    count: int


class Step(StrictRecord, frozen=True, kw_only=True, rename={"tool": "with", "purposes": "for"}):
    """One thing that hands do; `tool` and `purposes` stand as `with` and `for` in the file.

    `needs` are ids of steps, or parts, that must be off before; `bay` the one that it is for; `wait_s` how long nothing
    may be done after it; `back` how it is undone, in words; `aids` codes of how something lies the right way round.
    """

    id: str
    do: Doing
    what: str
    tool: str | None = None
    fasteners: tuple[str | SomeOf, ...] = ()
    cautions: tuple[str, ...] = ()
    parts_off: tuple[str, ...] = ()
    purposes: tuple[Purpose, ...] = ()
    needs: tuple[str, ...] = ()
    bay: str | None = None
    wait_s: float | None = None
    back: str | None = None
    aids: tuple[str, ...] = ()


class Tip(StrictRecord, frozen=True, kw_only=True):
    """What went wrong once at a step, how it shows, and how it is undone."""

    step: str
    shows: str
    undo: tuple[str, ...]


class Slot(StrictRecord, frozen=True, kw_only=True):
    name: str
    drive: str


class BootEntry(StrictRecord, frozen=True, kw_only=True):
    number: str
    label: str = ""
    device_path: str = ""
    active: bool = True


class Machine(StrictRecord, frozen=True, kw_only=True):
    """Every field but schema, make and model may be missing. `card_reader` tells whether it can hold a card."""

    SCHEMA: ClassVar[str] = "neogenesis.machine/1"

    schema: str
    make: str
    model: str
    firmware: Literal["uefi", "legacy", "both"] | None = None
    architecture: str | None = None
    bays: tuple[Bay, ...] = ()
    memory: MemoryBoard | None = None
    accepted_capacities_gb: tuple[int, ...] | None = None
    known_to_work_max_gb: int | None = None
    openings: Openings | None = None
    fasteners: tuple[Fastener, ...] = ()
    steps: tuple[Step, ...] = ()
    slots: tuple[Slot, ...] = ()
    boot_entries: tuple[BootEntry, ...] = ()
    boot_order: tuple[str, ...] = ()
    boot_next: str | None = None
    secure_start: bool | None = None
    kind: str = ""
    card_reader: bool | None = None
    has_battery: bool | None = None
    outline: Outline | None = None
    tips: tuple[Tip, ...] = ()

    @property
    def title(self) -> str:
        return f"{self.make} {self.model}".strip()
