"""What a folder of packages offers for a machine, in which order, and what is missing: `neogenesis.drivers/1`."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from typing import ClassVar, Literal

import msgspec

from neogenesis.core.drivers.hardware import Device, Hardware
from neogenesis.core.drivers.rank import Match
from neogenesis.core.handed import handed
from neogenesis.core.record import Record, StrictRecord

Status = Literal["covered", "system", "missing", "doubtful"]
Group = Literal["storage", "network", "chipset", "graphics", "sound", "rest"]
GROUPS: tuple[Group, ...] = ("storage", "network", "chipset", "graphics", "sound", "rest")
#: What must work while the system is being installed.
_NEEDED = ("storage", "network")


class Kind(StrictRecord, frozen=True, kw_only=True):
    """A kind of device: how it is recognised, what it is in plain words, and what is noticed without a driver."""

    code: str
    group: Group
    title: str
    without: str
    classes: tuple[str, ...] = ()
    guids: tuple[str, ...] = ()
    ids: tuple[str, ...] = ()


class DriverTexts(StrictRecord, frozen=True, kw_only=True):
    """The data file of kinds; the last kind is for all that no other fits."""

    kinds: tuple[Kind, ...]


@cache
def driver_texts() -> DriverTexts:
    """Those that ship; raises LookupError when they were not handed over."""
    return msgspec.convert(tomllib.loads(handed("drivers.toml")), DriverTexts)


class Best(Record, frozen=True, kw_only=True):
    inf: str
    section: str
    matched_id: str
    exact: bool
    date: str
    version: str


class DeviceAnswer(Record, frozen=True, kw_only=True):
    """`others` counts further packages for it; `kind` is the code of a Kind, `without` what one would notice.

    `extensions` are packages that add to its driver, `absent` files that it names and that are not there, `altered`
    those that are not what its catalogue lists.
    """

    name: str
    status: Status
    best: Best | None
    others: int
    kind: str
    without: str
    ids: tuple[str, ...]
    extensions: tuple[str, ...] = ()
    absent: tuple[str, ...] = ()
    altered: tuple[str, ...] = ()


class Skipped(Record, frozen=True, kw_only=True):
    inf: str
    text: str


class Answer(Record, frozen=True, kw_only=True):
    """`order` names each INF that is needed once, `during_installation` those of them that must be on the stick.

    `notes` are what should be known of where the packages come from.
    """

    SCHEMA: ClassVar[str] = "neogenesis.drivers/1"

    schema: str = SCHEMA
    devices: tuple[DeviceAnswer, ...]
    missing: tuple[str, ...]
    during_installation: tuple[str, ...]
    order: tuple[str, ...]
    bytes: int
    skipped: tuple[Skipped, ...] = ()
    notes: tuple[str, ...] = ()


def kind_of(device: Device, match: Match | None) -> Kind:
    """By the class that the system or the INF gives it, else by the class codes in its identifiers."""
    kinds = driver_texts().kinds
    names = [device.class_name.casefold(), *([match.class_name.casefold()] if match is not None else [])]
    for name in names:
        found = next((k for k in kinds if name and name in (c.casefold() for c in k.classes)), None)
        if found is not None:
            return found
    guid = match.class_guid.casefold() if match is not None else ""
    found = next((k for k in kinds if guid and guid in (g.casefold() for g in k.guids)), None)
    if found is not None:
        return found
    ids = [i.upper() for i in (*device.hardware_ids, *device.compatible_ids)]
    return next((k for k in kinds if any(mark.upper() in i for mark in k.ids for i in ids)), kinds[-1])


def answer(
    hardware: Hardware,
    found: Mapping[int, Sequence[Match]],
    sizes: Mapping[str, int],
    skipped: Iterable[Skipped] = (),
) -> Answer:
    """`found` are the matches of each device by its number, `sizes` the bytes that an INF's package takes."""
    devices: list[DeviceAnswer] = []
    alone: list[Skipped] = []
    extending: set[str] = set()
    needed: dict[str, Group] = {}
    for number, device in enumerate(hardware.devices):
        drivers, adding = sorted_matches(found.get(number, ()))
        best = drivers[0] if drivers else None
        kind = kind_of(device, best)
        status = _status(device, best)
        has_driver = status != "missing"
        if adding and not has_driver:
            text = f"It only adds to a driver of {device.title or 'a device'}, and there is none."
            alone += [Skipped(inf=one.inf, text=text) for one in adding]
        devices.append(
            DeviceAnswer(
                name=device.title or f"device {number + 1}",
                status=status,
                best=_best(best) if best is not None else None,
                others=max(0, len(drivers) - 1),
                kind=kind.code,
                without=kind.without,
                ids=(*device.hardware_ids, *device.compatible_ids),
                extensions=tuple(one.inf for one in adding) if has_driver else (),
                absent=best.absent if best is not None else (),
                altered=best.altered if best is not None else (),
            )
        )
        wanted = [best.inf] if best is not None and status in ("covered", "doubtful") else []
        extending |= {one.inf for one in adding} if has_driver else set()
        for inf in (*wanted, *(one.inf for one in adding if has_driver)):
            held = needed.get(inf)
            needed[inf] = kind.group if held is None else min(held, kind.group, key=GROUPS.index)
    order = sorted(needed, key=lambda inf: (GROUPS.index(needed[inf]), inf in extending, inf.casefold()))
    return Answer(
        devices=tuple(devices),
        missing=tuple(d.name for d in devices if d.status == "missing"),
        during_installation=tuple(inf for inf in order if needed[inf] in _NEEDED),
        order=tuple(order),
        bytes=sum(sizes.get(inf, 0) for inf in order),
        skipped=(*skipped, *dict.fromkeys(alone)),
    )


def sorted_matches(found: Iterable[Match]) -> tuple[list[Match], list[Match]]:
    """Drivers, the best first, those of which files are absent or others last; and packages that only add to one."""
    ordered = sorted(found, key=lambda m: (bool(m.absent or m.altered), m.rank, m.inf.casefold()))
    return [m for m in ordered if not m.is_extension], [m for m in ordered if m.is_extension]


def _status(device: Device, best: Match | None) -> Status:
    if best is not None and best.is_built_in:
        return "system"
    if best is not None and not best.is_doubtful:
        return "covered"
    if device.has_driver:
        return "system"
    return "missing" if best is None else "doubtful"


def _best(match: Match) -> Best:
    return Best(**{name: getattr(match, name) for name in Best.__struct_fields__})


def shopping_list(found: Answer) -> list[tuple[str, str, tuple[str, ...]]]:
    """What is missing: in plain words what it is, what is noticed without it, and its identifiers."""
    titles = {k.code: k.title for k in driver_texts().kinds}
    return [(f"{d.name} ({titles[d.kind]})", d.without, d.ids) for d in found.devices if d.status == "missing"]


def with_bytes(found: Answer, total: int) -> Answer:
    return msgspec.structs.replace(found, bytes=total)
