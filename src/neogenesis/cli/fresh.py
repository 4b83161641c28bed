"""Commands for a clean start: recipes, system images, drivers, installer media."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import ExitStack
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

import click

from neogenesis.bench.register import Consent, allow_folder
from neogenesis.cli.answer import Answer
from neogenesis.cli.consenting import agreed, event_places, writes_to_drives
from neogenesis.core.drive import Drive
from neogenesis.core.errors import BadArgument, OnlyChecked
from neogenesis.core.file_kinds import KINDS
from neogenesis.core.record import to_json
from neogenesis.core.system import not_here_lines
from neogenesis.core.transfer import RunFiles
from neogenesis.core.units import both_text, files_text, parse_size

if TYPE_CHECKING:
    from neogenesis.core.plan import Plan
    from neogenesis.core.plan.recipe import Recipe, RecipeWishes
    from neogenesis.core.reinstall.returned import GivingBack, Same

_MOST_LINES = 20
json_option = click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")


@click.command()
@click.argument("hardware", metavar="HARDWARE", type=click.Path(path_type=Path))
@click.argument("packages", metavar="PACKAGES_DIR|DRIVE", type=click.Path(path_type=Path))
@click.option(
    "--pack", metavar="OUT_DIR", type=click.Path(path_type=Path), help="Put what is needed into a new folder."
)
@json_option
def drivers(hardware: Path, packages: Path, pack: Path | None, as_json: bool) -> None:
    """Say which driver packages of a folder a machine needs, which are best, and what is missing.

    HARDWARE is our own record, modalias files, what lspci -nn or lsusb print, an export with device identifiers, or the
    drive or image of the old system. PACKAGES_DIR holds INF files, also in archives, or a Linux kernel tree; a DRIVE is
    that of the old system with the packages that it keeps.

    Example: neogenesis drivers desk.hardware.json packages --pack stick/drivers
    """
    from neogenesis.bench.inside.driver_store import find_drivers, read_devices

    if pack is not None:
        allow_folder(pack, (str(hardware), str(packages)))
    found = find_drivers(read_devices(hardware), packages, pack).answer
    if as_json:
        click.echo(to_json(found).decode(), nl=False)
        return
    width = max((len(d.name) for d in found.devices), default=0)
    for device in sorted(found.devices, key=lambda d: d.status != "missing"):
        best = f"{device.best.inf} {device.best.version}".strip() if device.best is not None else device.without
        click.echo(f"{device.status:<9} {device.name:<{min(width, 40)}}  {best}")
        for inf in device.extensions:
            click.echo(f"{'':<9} {'':<{min(width, 40)}}  with {inf}, which adds to it")
        if device.altered:
            names = ", ".join(device.altered[:5])
            click.echo(f"{'':<9} {'':<{min(width, 40)}}  not as its catalogue lists them: {names}")
        if device.absent:
            click.echo(f"{'':<9} {'':<{min(width, 40)}}  not there: {', '.join(device.absent[:5])}")
    for number, inf in enumerate(found.order, 1):
        during = "  (during the installation)" if inf in found.during_installation else ""
        click.echo(f"{number:>3}  {inf}{during}")
    for one in found.skipped:
        click.echo(f"passed over: {one.inf}: {one.text}")
    for note in found.notes:
        click.echo(note)
    click.echo(f"{found.bytes} bytes in {len(found.order)} packages; {len(found.missing)} devices without a driver.")


def _wishes(f: Callable[..., None]) -> Callable[..., None]:
    """The options of a recipe, which installing has as well."""
    for option in (
        click.option("--spare", type=click.IntRange(0, 50), default=0, metavar="PERCENT", help="Stays unallocated."),
        click.option("--data-volume", metavar="SIZE", help="A second volume of that size."),
        click.option("--swap", metavar="SIZE", help="Swap of that size, where the recipe knows it."),
        click.option("-o", "out", metavar="PLAN", type=click.Path(path_type=Path), help="Where the plan is kept."),
        click.option("--force", is_flag=True, help="Replace a file that is none of ours; never a drive or an image."),
        click.option("--resume", is_flag=True, help="Go on where a run that was cut short left off."),
        click.option("--verify", type=click.Choice(["full", "sample", "none"]), default="full", show_default=True),
        click.option("--events", metavar="FILE|-", help="Events as JSON lines."),
    ):
        f = option(f)
    return f


@click.command()
@click.argument("name", metavar="NAME", required=False)
@click.argument("drives", metavar="DRIVE...", nargs=-1)
@click.option("--list", "listed", is_flag=True, help="Say which recipes there are.")
@writes_to_drives
@_wishes
@json_option
@click.pass_obj
def recipe(
    answer: Answer, /, name: str | None, drives: tuple[str, ...], listed: bool, as_json: bool, **more: Any
) -> None:
    """Give drives a fresh table with empty volumes, by a recipe.

    Example: neogenesis recipe nt-uefi /dev/sdc --confirm 41F2 --spare 10
    """
    from neogenesis.bench.works import installing
    from neogenesis.core.plan.recipe import recipes

    if listed:
        _list_recipes(recipes(), as_json)
        return
    if name is None or not drives:
        raise BadArgument(
            "A recipe and at least one drive are needed.", "neogenesis recipe --list says which there are."
        )
    chosen = installing.recipe_of(name)
    wanted = _wanted(more)
    build(
        answer,
        drives,
        more,
        "recipe",
        lambda drive, tail: installing.plan_recipe(chosen, installing.fresh_target(drive, tail), wanted),
    )


def _list_recipes(known: Sequence[Recipe], as_json: bool) -> None:
    from neogenesis.bench.records.shipped import appliance_names

    names = [*(r.name for r in known), *(f"appliance:{n}" for n in appliance_names())]
    if as_json:
        click.echo(to_json({"schema": "neogenesis.recipes/1", "names": names, "recipes": known}).decode(), nl=False)
        return
    for one in known:
        click.echo(f"{one.name:<16} {one.title}\n{'':<16} {one.why}")
    for name in names[len(known) :]:
        click.echo(f"{name:<16} As the device class asks.")


@click.command()
@click.argument("system", metavar="SYSTEM", type=click.Path(path_type=Path))
@click.argument("recipe_name", metavar="RECIPE")
@click.argument("drives", metavar="DRIVE...", nargs=-1, required=True)
@writes_to_drives
@click.option(
    "--drivers", metavar="FOLDER", type=click.Path(path_type=Path), help="Laid where the system looks for them."
)
@click.option("--answers", metavar="FILE", type=click.Path(path_type=Path), help="For the first start, as JSON.")
@click.option(
    "--data",
    metavar="FOLDER|DRIVE",
    type=click.Path(path_type=Path),
    help="A salvage, a folder, the old drive or its image: people's files go back from it.",
)
@click.option("--kinds", metavar="KIND,...", default="", help=f"Only these go back: {', '.join(KINDS)}.")
@click.option("--programs", is_flag=True, help="Give back also what can be run.")
@click.option(
    "--same",
    type=click.Choice(["beside", "newer", "keep"]),
    default="beside",
    show_default=True,
    help="Of two files for one place keep both, the newer, or what is there already.",
)
@click.option(
    "--person", "persons", metavar="OLD=NEW", multiple=True, help="Whose an old home becomes; OLD= stays out."
)
@click.option("--without", metavar="PATTERN", multiple=True, help="Files that stay out, by path or name.")
@click.option("--edition", metavar="N|NAME", default="", help="Which edition of an image that holds several.")
@_wishes
@json_option
@click.pass_obj
def install(
    answer: Answer,
    /,
    system: Path,
    recipe_name: str,
    drives: tuple[str, ...],
    drivers: Path | None,
    answers: Path | None,
    data: Path | None,
    kinds: str,
    programs: bool,
    same: Same,
    persons: tuple[str, ...],
    without: tuple[str, ...],
    edition: str,
    as_json: bool,
    **more: Any,
) -> None:
    """Put a system image onto fresh drives, and say what would start.

    Example: neogenesis install meridian.tar.zst nt-uefi /dev/sdc --confirm 41F2 --drivers stick/drivers
    """
    from neogenesis.bench.inside.booting import forecast_drives
    from neogenesis.bench.inside.returning import way_back
    from neogenesis.bench.inside.system_image import inspect_system
    from neogenesis.bench.records.cases import read_named
    from neogenesis.bench.works import installing
    from neogenesis.core.reinstall import Answers, read_answers
    from neogenesis.core.reinstall.returned import BackWish

    chosen = installing.recipe_of(recipe_name)
    told = read_answers(read_named(answers, "answers file")) if answers is not None else Answers()
    found = inspect_system(system, edition=edition)
    if len(found.editions) > 1 and not edition:
        there = ", ".join(f"{n} {name}" for n, name in enumerate(found.editions, 1))
        raise BadArgument(
            f"“{system.name}” holds {len(found.editions)} editions; nothing was written.", f"Choose: --edition {there}."
        )
    wanted = _wanted(more)
    back, returned = None, None
    if data is None and (kinds or programs or persons or without):
        raise BadArgument("Nothing is to go back to people, so nothing of it can be chosen.", "Say from where: --data.")
    if data is not None:
        wish = BackWish(programs=programs, kinds=_kinds(kinds), same=same, persons=_persons(persons), without=without)
        back, returned = way_back(data, found.destination, wish, drives)
        answer.not_here = returned.not_here
    build(
        answer,
        drives,
        more,
        "install",
        lambda drive, tail: installing.plan_install(
            found, chosen, installing.fresh_target(drive, tail), wanted, told, drivers, back
        ),
    )
    if more["events"] == "-" or as_json:
        return
    if returned is not None:
        _say_returned(returned)
    for drive in drives:
        forecast = forecast_drives([drive], None)
        says = {
            True: "It would start.",
            False: f"It would not start: it breaks at {forecast.breaks_at}.",
            None: "Whether it would start cannot be told from here.",
        }[forecast.starts]
        click.echo(f"{drive}: {found.description.name}. {says}")


def _say_returned(found: GivingBack) -> None:
    click.echo(found.sentence())
    for kind, (count, size) in found.kinds().items():
        click.echo(f"  {kind:<10} {files_text(count)}, {both_text(size)}")
    for person in found.persons:
        whose = f"to {person.new}" if person.new else "stays out"
        known = "" if person.there or not person.new else ", who has no account there yet"
        click.echo(f"  person {person.old} {whose}{known}: {files_text(person.files)}, {both_text(person.size_bytes)}")
    _say_lines(
        [f"archive, not looked into: {place}" for place in found.archives],
        [
            f"left out: {one.path}{f' ({one.files} files)' if one.files > 1 else ''}. {one.why}"
            for one in found.left_out
        ],
        not_here_lines(found.not_here),
        [
            f"damaged: {one.place}. {one.lost_bytes} bytes of it could not be read; they are zeros."
            for one in found.files
            if one.lost_bytes
        ],
        [f"not kept: {one.what}: {files_text(one.files)}, such as {one.places[0]}" for one in found.not_kept],
    )


def _say_lines(*groups: Sequence[str]) -> None:
    """The first of each, and how many more there are."""
    for lines in groups:
        for line in lines[:_MOST_LINES]:
            click.echo(f"  {line}")
        if len(lines) > _MOST_LINES:
            what = lines[0].partition(":")[0]
            click.echo(
                f"  {what}: {len(lines) - _MOST_LINES} more; the record beside the plan (.returned.json) has all"
            )


def _persons(texts: Sequence[str]) -> tuple[tuple[str, str], ...]:
    found = []
    for text in texts:
        old, equals, new = text.partition("=")
        if not old or not equals or "/" in text or new in (".", ".."):
            raise BadArgument(f"“{text}” says of nobody whose files they become.", "Write --person OLD=NEW.")
        found.append((old, new))
    return tuple(found)


def _kinds(text: str) -> tuple[str, ...]:
    found = tuple(word.strip().casefold() for word in text.split(",") if word.strip())
    unknown = [word for word in found if word not in KINDS]
    if unknown:
        raise BadArgument(f"“{unknown[0]}” is no kind of files.", f"Kinds are {', '.join(KINDS)}.")
    return found


def _wanted(more: dict[str, Any]) -> RecipeWishes:
    from neogenesis.core.plan.recipe import RecipeWishes

    return RecipeWishes(
        spare_percent=more["spare"],
        data_volume_bytes=parse_size(more["data_volume"]) if more["data_volume"] else 0,
        swap_bytes=parse_size(more["swap"]) if more["swap"] else 0,
    )


def build(
    answer: Answer,
    drives: Sequence[str],
    more: dict[str, Any],
    kind: str,
    plan: Callable[[str, str | None], Plan],
    consents: Sequence[Consent] = (),
) -> None:
    """All drives are looked at before the first is written to; several are made side by side."""
    from neogenesis.bench.works import installing, transferring
    from neogenesis.bench.works.planning import load_plan

    if len(drives) > 1 and more["out"] is not None:
        raise BadArgument("-o names one plan, and there are several drives.", "Leave it out.")
    consents = consents or agreed_on(drives, more)
    places = event_places(more["events"], answer.as_json, drives, more["bench"])
    check = bool(more["check"])
    with ExitStack() as stack:
        folder = Path()
        if check:  # nothing is to be left behind
            folder = Path(stack.enter_context(TemporaryDirectory(prefix="neogenesis-check-")))
        out, force = more["out"], more.get("force", False)
        paths = installing.kept_plans(drives, consents, kind, folder, out, more["resume"], plan, force)
        if len(paths) > 1:
            made = transferring.make_several(paths, consents, more["resume"], more["verify"], places)
            failed = [one for one in made if one.error is not None]
            if failed and failed[0].error is not None:
                failed[0].error.text = f"{len(failed)} of {len(made)} dropped out: {failed[0].error.text}"
                raise failed[0].error
            if check:
                raise OnlyChecked
            outcomes = [one.outcome for one in made if one.outcome is not None]
        else:
            outcomes = [transferring.run_transfer(paths[0], consents[0], more["resume"], more["verify"], places)]
    read_back = sum(one.verified_bytes for one in outcomes)
    answer.end(
        text=f"Made {len(paths)} drive{'s' * (len(paths) != 1)}.",
        target=", ".join(drives),
        copied_bytes=sum(one.copied_bytes for one in outcomes),
        verified_bytes=read_back,
        verified=more["verify"] if read_back else "none",
        seconds=round(max(one.seconds for one in outcomes), 3),
        records=[*paths, *(RunFiles(path).manifest for path in paths)],
    )
    if more["events"] == "-" or answer.as_json:
        return
    for text in dict.fromkeys(text for one in outcomes for text in one.notes):
        click.echo(text)
    for drive, path in zip(drives, paths, strict=True):
        layout = load_plan(path).layout
        click.echo(f"{drive}: {layout.table} with {len(layout.partitions)} partitions. Plan: {path}")
        for p in layout.partitions:
            click.echo(f"  {p.number:>2}  {p.title:<24} {p.role:<9} {both_text(p.size_bytes)}")


def agreed_on(drives: Sequence[str], more: dict[str, Any], work: str = "") -> list[Consent]:
    return agreed(drives, more["tails"], more["confirmed"], more["check"], more["bench"], work, _held_on)


def _held_on(name: str) -> tuple[Drive, Sequence[str], str]:
    """A drive that is to be made anew, with what it holds."""
    from neogenesis.bench.works.installing import fresh_target

    known = fresh_target(name, None)
    if known.drive is None:
        raise BadArgument(f"“{name}” is no drive.", "Name a drive.")
    return known.drive, known.holds, ""


COMMANDS = (drivers, recipe, install)
