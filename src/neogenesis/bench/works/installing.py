"""Fresh drives: a recipe's table with empty volumes, or with a system image put onto them."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Sequence
from itertools import combinations
from pathlib import Path

import msgspec

from neogenesis.bench.drives import confirm_tail, same_bytes
from neogenesis.bench.inside.returning import WayBack
from neogenesis.bench.inside.system_image import InspectedSystem
from neogenesis.bench.records.shipped import load_appliance
from neogenesis.bench.register import Consent, allow_output
from neogenesis.bench.works.planning import load_plan, new_id, target_of
from neogenesis.core.drive import refuse_wrong_tail
from neogenesis.core.errors import BadArgument, BadRecord, Refused
from neogenesis.core.plan import LayoutPartition, Plan
from neogenesis.core.plan.fresh import Filling, make_fresh_plan, room_beside
from neogenesis.core.plan.model import FreshSource, SystemImage, Target
from neogenesis.core.plan.recipe import Recipe, RecipeWishes, recipe_named
from neogenesis.core.record import save
from neogenesis.core.reinstall import Answers, settings_for
from neogenesis.core.transfer import RunFiles

_SECTOR, _FIRST_PERSON = 512, 1000
_PIECE = 1 << 20


def recipe_of(name: str) -> Recipe:
    """Raises BadArgument for a name that no recipe has."""
    return recipe_named(name, load_appliance)


def fresh_target(name: str, tail: str | None = None) -> Target:
    """What is known of a drive that is to be made anew. With `tail`, refused unless it is how the drive ends."""
    known = target_of(name, _SECTOR)
    if known.drive is None:
        raise BadArgument(f"“{name}” is no drive.", "Name a drive.")
    if tail is not None:
        refuse_wrong_tail(tail, confirm_tail(known.drive))
    if known.drive.mounted:
        raise Refused(
            "mounted",
            f"“{name}” is mounted or in use by this machine; nothing was written.",
            "Unmount it, after making sure that it is the right one.",
        )
    return known


def plan_recipe(recipe: Recipe, target: Target, wishes: RecipeWishes) -> Plan:
    """A plan of empty volumes; raises Refused."""
    return make_fresh_plan(recipe, wishes, target, new_id)


def plan_install(
    system: InspectedSystem,
    recipe: Recipe,
    target: Target,
    wishes: RecipeWishes,
    answers: Answers,
    drivers: Path | None = None,
    back: WayBack | None = None,
) -> Plan:
    """A plan that puts a system image onto a recipe's volumes; raises Refused when it does not suit."""
    about = system.description
    kinds = {part.key: part.kind for part in recipe.parts}
    if system.form == "wim" and kinds.get("system") != "ntfs":
        wants = f"{about.name} wants an NTFS volume; nothing was written."
        raise Refused("recipe", wants, "Take a recipe for its family.")
    if recipe.machine and recipe.machine not in about.firmware:
        raise Refused(
            "firmware",
            f"{about.name} cannot be started by a {recipe.machine} machine; nothing was written.",
            f"Take a recipe for {' or '.join(about.firmware)}.",
        )
    keys = {part.key for part in recipe.parts}
    without = [key for key in system.bytes_by_key if key not in keys and key == "system"]
    if without:
        raise Refused("recipe", f"“{recipe.title}” has no system volume; nothing was written.", "Take another recipe.")
    more = 0 if drivers is None else _folder_bytes(drivers)
    filled = {key: size + (more if key == "system" else 0) for key, size in system.bytes_by_key.items() if key in keys}
    if back is not None:
        key = people_key(about.family, keys)
        filled[key] = filled.get(key, 0) + back.room_bytes
    legacy = recipe.machine == "legacy"
    image = SystemImage(
        path=str(system.path.absolute()),
        digest=system.digest,
        size_bytes=system.size_bytes,
        name=about.name,
        drivers=str(drivers.absolute()) if drivers is not None else "",
        data=str(back.data.absolute()) if back is not None else "",
        data_drive=back.drive if back is not None else "",
        kinds=back.wish.kinds if back is not None else (),
        programs=back is not None and back.wish.programs,
        same=back.wish.same if back is not None else "beside",
        persons=back.wish.persons if back is not None else (),
        without=back.wish.without if back is not None else (),
        edition=system.edition,
    )
    files = {key: count for key, count in system.files_by_key.items() if key in keys}
    if back is not None:
        files[key] = files.get(key, 0) + back.count
    filling = Filling(
        image, filled, system.boot_code if legacy else b"", system.core if legacy else b"", files, os.geteuid() == 0
    )
    plan = make_fresh_plan(recipe, wishes, target, new_id, filling)
    told = {**answers.placed(), "MACHINE_ID": new_id().replace("-", "").lower()}
    parts = {p.number: k for p, k in zip(plan.layout.partitions, _keys(plan), strict=True)}
    settings = settings_for(plan.layout, plan.operations, parts, told)
    source = FreshSource(
        recipe=recipe.name,
        title=recipe.title,
        system=msgspec.structs.replace(image, settings=settings, answers=answers.given()),
        boot_code=filling.boot_code,
    )
    return msgspec.structs.replace(plan, source=source)


def room_for_people(
    system: InspectedSystem, recipe: Recipe, target: Target, wishes: RecipeWishes, drivers: Path | None
) -> tuple[int, int]:
    """Bytes that the volume of people's folders can take, and those of the system that it holds as well.

    Raises Refused as planning does.
    """
    plan = plan_install(system, recipe, target, wishes, Answers(), drivers)
    key = people_key(system.description.family, _keys(plan))
    filled = system.bytes_by_key.get(key, 0)
    filled += _folder_bytes(drivers) if drivers is not None and key == "system" else 0
    return room_beside(volume_for_people(plan, system.description.family).size_bytes, filled), filled


def volume_for_people(plan: Plan, family: str) -> LayoutPartition:
    """Where people's folders are on a drive that gets a system of that family."""
    keys = _keys(plan)
    return plan.layout.partitions[keys.index(people_key(family, keys))]


def people_key(family: str, keys: Collection[str]) -> str:
    """The volume on which people's folders are: one of its own where the recipe has it."""
    return "home" if family == "linux" and "home" in keys else "system"


def _keys(plan: Plan) -> list[str]:
    """The keys of the recipe's parts, in the order of the layout."""
    recipe = recipe_of(plan.source.recipe) if isinstance(plan.source, FreshSource) else None
    keys = [part.key for part in recipe.parts] if recipe is not None else []
    more = ["swap" if p.role == "swap" else "data" for p in plan.layout.partitions[len(keys) :]]
    return [*keys, *more]


def _folder_bytes(folder: Path) -> int:
    """What a folder takes; raises BadArgument when it is not there."""
    if not folder.is_dir():
        raise BadArgument(f"The folder of drivers “{folder}” is not there.", "Check the name.")
    return sum(p.stat().st_size + 4096 for p in folder.rglob("*") if p.is_file())


def kept_plans(
    drives: Sequence[str],
    consents: Sequence[Consent],
    kind: str,
    folder: Path,
    out: Path | None,
    resume: bool,
    plan: Callable[[str, str | None], Plan],
    force: bool = False,
) -> list[Path]:
    """A plan for each drive, written where it was asked for, else into `folder`, named after its drive.

    With `resume`, one that stands there for the same drive is gone on with. Raises NeogenesisError before any is run.
    """
    if any(same_bytes(one, other) for one, other in combinations(drives, 2)):
        raise BadArgument("A drive is named twice, or two of them are one drive.", "Name each drive once.")
    found = []
    for drive, consent in zip(drives, consents, strict=True):
        known = fresh_target(drive, consent.tail).drive
        key = known.identity.key if known is not None else "drive"
        tail = confirm_tail(known) if known is not None else ""
        safe = "".join(c if c.isalnum() else "_" for c in tail.upper())
        path = folder / out.name if out is not None and consent.check_only else out
        path = path or folder / f"{kind}-{safe}-{key}.plan.json"
        if resume and path.exists():
            held = load_plan(path).target.drive
            if held is None or known is None or held.identity != known.identity:
                raise BadRecord(f"“{path.name}” is a plan for another drive; nothing was written.", "Move it away.")
        else:
            save(allow_output(path, "plan", drives, consent.bench, force), plan(drive, consent.tail))
            RunFiles(path).journal.unlink(missing_ok=True)
        found.append(path)
    return found
