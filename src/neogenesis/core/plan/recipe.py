"""Recipes: tables with empty volumes for a purpose, as data with reasons, and the layout that each gives on a drive."""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Sequence
from functools import cache
from typing import Literal

import msgspec

from neogenesis.core.errors import BadArgument, Refused
from neogenesis.core.handed import handed
from neogenesis.core.plan.appliance import Appliance
from neogenesis.core.plan.model import Layout, LayoutPartition
from neogenesis.core.plan.solver import Share, solve
from neogenesis.core.record import Record, StrictRecord
from neogenesis.core.table import gpt_usable
from neogenesis.core.table.types import GPT_LINUX_DATA, GPT_NT_DATA, GPT_SWAP, Role
from neogenesis.core.units import MIB, both_text

FreshKind = Literal["vfat", "ntfs", "ext4", "exfat", "swap", "none"]
_MBR_SECTORS, _MBR_ENTRIES = 1 << 32, 4


class RecipePart(StrictRecord, frozen=True, kw_only=True):
    """A partition. It gets `size_mib`, or less where that is more than `percent` of the drive, never below `least_mib`;
    with a `weight` it shares what is left. `key` is by what a system image names the volume.
    """

    key: str
    role: Role
    kind: FreshKind
    type_id: str
    name: str = ""
    label: str = ""
    attributes: int = 0
    bootable: bool = False
    size_mib: int = 0
    least_mib: int = 1
    percent: int = 100
    weight: int = 0
    why: str = ""


class Recipe(StrictRecord, frozen=True, kw_only=True):
    """`machine` is the firmware that starts from it, empty for a drive that is not started from."""

    name: str
    title: str
    why: str
    table: Literal["gpt", "mbr"]
    parts: tuple[RecipePart, ...]
    machine: Literal["uefi", "legacy", ""] = ""
    swap: bool = False


class _Recipes(StrictRecord, frozen=True, kw_only=True):
    recipes: tuple[Recipe, ...]


class RecipeWishes(Record, frozen=True, kw_only=True):
    """What may be asked beside a recipe; sizes in bytes, `spare_percent` stays unallocated."""

    spare_percent: int = 0
    data_volume_bytes: int = 0
    swap_bytes: int = 0


@cache
def recipes() -> tuple[Recipe, ...]:
    """Those that ship; raises LookupError when they were not handed over."""
    return msgspec.convert(tomllib.loads(handed("recipes.toml")), _Recipes).recipes


def recipe_named(name: str, appliance: Callable[[str], Appliance]) -> Recipe:
    """A recipe, or that of a device class for `appliance:NAME`; raises BadArgument."""
    kind, _, device = name.partition(":")
    if kind == "appliance" and device:
        return appliance_recipe(appliance(device), name)
    found = next((r for r in recipes() if r.name == name), None)
    if found is None:
        known = ", ".join(r.name for r in recipes())
        raise BadArgument(f"There is no recipe “{name}”.", f"Known are {known}, and appliance:NAME.")
    return found


_APPLIANCE_KINDS: dict[str, FreshKind] = {
    "0x0b": "vfat",
    "0x0c": "vfat",
    "0x06": "vfat",
    "0x0e": "vfat",
    "0x07": "ntfs",
    "0x83": "ext4",
    "0x82": "swap",
    "C12A7328-F81F-11D2-BA4B-00A0C93EC93B": "vfat",
    GPT_NT_DATA: "ntfs",
    GPT_LINUX_DATA: "ext4",
    GPT_SWAP: "swap",
}
_USUAL_MIB = 1024


def appliance_recipe(appliance: Appliance, name: str) -> Recipe:
    """The table that a device class wants, with its own types in its own order."""
    if appliance.table == "none":
        raise BadArgument(f"{appliance.title} wants no table.", "Image the drive exactly.")
    last = len(appliance.partitions) - 1
    parts = []
    for n, part in enumerate(appliance.partitions):
        takes_rest = n == last and appliance.rest == "last"
        kind = _APPLIANCE_KINDS.get(part.type_id.upper() if "-" in part.type_id else part.type_id.lower(), "none")
        parts.append(
            RecipePart(
                key=f"part{n + 1}",
                role="startup" if part.type_id.upper().startswith("C12A7328") else "data",
                kind=kind,
                type_id=part.type_id,
                name="" if appliance.table == "mbr" else part.title,
                label=part.title,
                size_mib=0 if takes_rest else part.size_mib or _USUAL_MIB,
                least_mib=part.size_mib or 34,
                weight=int(takes_rest),
                why="As the device class asks.",
            )
        )
    return Recipe(
        name=name,
        title=appliance.title,
        why=f"The table of the device class “{appliance.title}”.",
        table=appliance.table,
        parts=tuple(parts),
    )


def recipe_layout(
    recipe: Recipe, wishes: RecipeWishes, size_bytes: int, sector_size: int, new_id: Callable[[], str]
) -> tuple[Layout, dict[int, RecipePart]]:
    """Where every partition goes, and which part of the recipe each is. Raises Refused when the drive is too small."""
    parts = _with_wishes(recipe, wishes)
    first, last = _room(recipe, size_bytes, sector_size, wishes.spare_percent)
    shares = []
    for part in parts:
        share = size_bytes * part.percent // 100 // MIB
        size = part.least_mib if part.weight else max(part.least_mib, min(part.size_mib, share))
        shares.append(Share(wanted=size, least=part.least_mib, weight=part.weight))
    sizes = solve(shares, last - first)
    if sizes is None:  # what is fixed gives way as far as it can
        least = [Share(wanted=p.least_mib, least=p.least_mib, weight=p.weight) for p in parts]
        sizes = solve(least, last - first)
    if sizes is None:
        raise Refused(
            "too-small",
            f"The drive is too small for “{recipe.title}”: {both_text(sum(p.least_mib for p in parts) * MIB)} needed, "
            f"{both_text(max(0, last - first) * MIB)} there.",
            "Take a larger drive, or another recipe.",
        )
    placed: list[LayoutPartition] = []
    at = first
    mbr = recipe.table == "mbr"
    for number, (part, units) in enumerate(zip(parts, sizes, strict=True), 1):
        placed.append(
            LayoutPartition(
                number=number,
                start_bytes=at * MIB,
                size_bytes=units * MIB,
                role=part.role,
                type_id=part.type_id,
                unique_id="" if mbr else new_id(),
                name="" if mbr else part.name,
                attributes=0 if mbr else part.attributes,
                bootable=part.bootable,
                from_partition=None,
                title=part.label or part.name,
            )
        )
        at += units
    layout = Layout(
        table=recipe.table,
        disk_id=f"0x{new_id().replace('-', '')[:8].lower()}" if mbr else new_id(),
        sector_size=sector_size,
        size_bytes=size_bytes,
        partitions=tuple(placed),
    )
    return layout, dict(enumerate(parts, 1))


def _with_wishes(recipe: Recipe, wishes: RecipeWishes) -> list[RecipePart]:
    parts = list(recipe.parts)
    mbr = recipe.table == "mbr"
    if wishes.swap_bytes:
        if not recipe.swap:
            raise BadArgument(f"“{recipe.title}” has no swap.", "Leave --swap out.")
        size = -(-wishes.swap_bytes // MIB)
        parts.append(
            RecipePart(
                key="swap",
                role="swap",
                kind="swap",
                type_id=GPT_SWAP,
                name="Swap",
                label="swap",
                size_mib=size,
                least_mib=size,
                why="As asked.",
            )
        )
    if wishes.data_volume_bytes:
        size = -(-wishes.data_volume_bytes // MIB)
        linux = all(p.kind != "ntfs" for p in parts) and any(p.kind == "ext4" for p in parts)
        parts.append(
            RecipePart(
                key="data",
                role="data",
                kind="ext4" if linux else "ntfs",
                type_id=("0x83" if linux else "0x07") if mbr else GPT_LINUX_DATA if linux else GPT_NT_DATA,
                name="Data",
                label="Data",
                size_mib=size,
                least_mib=size,
                why="A second volume, as asked.",
            )
        )
    if mbr and len(parts) > _MBR_ENTRIES:
        raise BadArgument("This kind of table holds four partitions at most.", "Leave the second volume out.")
    return parts


def _room(recipe: Recipe, size_bytes: int, sector_size: int, spare_percent: int) -> tuple[int, int]:
    """First unit and the unit behind the last that partitions may use; one unit is 1 MiB."""
    if recipe.table == "gpt":
        start, end = gpt_usable(size_bytes, sector_size)
    else:
        start, end = sector_size, min(size_bytes, _MBR_SECTORS * sector_size)
    end = min(end, size_bytes - size_bytes * spare_percent // 100)
    return -(-start // MIB), end // MIB


def reasons_of(recipe: Recipe, parts: Sequence[RecipePart]) -> list[str]:
    """Why the table looks as it does, in words."""
    return [recipe.why, *(f"{p.label or p.name}: {p.why}" for p in parts if p.why)]
