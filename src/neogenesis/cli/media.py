"""Commands for installer media: looking into an image, writing it to sticks, and the library."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from neogenesis.bench.register import Consent, after_own_test, allow_folder
from neogenesis.cli.answer import Answer
from neogenesis.cli.consenting import event_places, writes_to_drives
from neogenesis.cli.fresh import agreed_on, build, json_option
from neogenesis.core.errors import BadArgument, NotSeen, OnlyChecked
from neogenesis.core.record import to_json
from neogenesis.core.units import both_text, duration_text

if TYPE_CHECKING:
    from neogenesis.core.media import Inspected
    from neogenesis.core.media.inspected import Layout


@click.command()
@click.argument("image", metavar="IMAGE", type=click.Path(path_type=Path))
@click.argument("drives", metavar="DRIVE...", nargs=-1)
@writes_to_drives
@click.option(
    "--layout",
    type=click.Choice(["sectors", "files", "fitting"]),
    default="sectors",
    show_default=True,
    help="As it is, as files on a FAT volume, or whichever of them starts from a stick.",
)
@click.option("--machine", metavar="MACHINE.json", type=click.Path(path_type=Path), help="What it is to start on.")
@click.option(
    "--check-size", type=click.Choice(["quick", "full"]), help="First test whether each stick is as large as it says."
)
@click.option("--try", "tried", is_flag=True, help="Afterwards start it in an emulated machine.")
@click.option("-o", "out", metavar="PLAN", type=click.Path(path_type=Path), help="Where the plan is kept, for files.")
@click.option("--resume", is_flag=True, help="Go on where a run that was cut short left off.")
@click.option("--verify", type=click.Choice(["full", "sample", "none"]), default="full", show_default=True)
@click.option("--events", metavar="FILE|-", help="Events as JSON lines.")
@json_option
@click.pass_obj
def media(
    answer: Answer,
    /,
    image: Path,
    drives: tuple[str, ...],
    layout: str,
    machine: Path | None,
    check_size: str | None,
    tried: bool,
    as_json: bool,
    **more: Any,
) -> None:
    """Write an installer to sticks or cards and read it back; without a drive, say what the image is.

    Example: neogenesis media installer.iso /dev/sdd --confirm 77C1
    """
    from neogenesis.bench.inside.booting import read_boot_machine
    from neogenesis.bench.inside.discs import inspect_image, unpacked
    from neogenesis.bench.works import media as sticks
    from neogenesis.bench.works.installing import fresh_target
    from neogenesis.core.media.inspected import starts_as

    known = read_boot_machine(machine)
    found = inspect_image(image, known)
    quiet = as_json or more["events"] == "-"
    if as_json and not drives:
        answer.given = True
        click.echo(to_json(found).decode(), nl=False)
    elif not quiet:
        _say_media(found)
    if not drives:
        return
    chosen: Layout = (
        sticks.fitting_layout(found) if layout == "fitting" else "files" if layout == "files" else "sectors"
    )
    sticks.refuse_unfit(found, known, chosen)
    sticks.refuse_unknown(found, drives)
    consents = [replace(one, kind="stick") for one in agreed_on(drives, more, sticks.media_work(image, layout))]
    with unpacked(image) as (plain, _):
        if check_size is not None and not more["check"]:
            if chosen == "files":  # every other gate first: what the stick holds is lost by the test
                for drive, consent in zip(drives, consents, strict=True):
                    sticks.plan_files(found, image, plain, fresh_target(drive, consent.tail))
            else:
                _refuse_sectors(str(plain), drives, consents)
            probed = [
                sticks.check_size(drive, consent, check_size == "full", seed=os.getpid(), heard=answer.add_probe)
                for drive, consent in zip(drives, consents, strict=True)
            ]
            for drive, one in zip(drives, probed, strict=True):
                if not quiet:
                    click.echo(f"{drive}: as large as it says, with {one.confidence:.1%} confidence.")
            consents = [after_own_test(consent) for consent in consents]
        answer.starts = starts_as(found, chosen)
        if chosen == "files":
            build(
                answer,
                drives,
                more,
                "media",
                lambda drive, tail: sticks.plan_files(found, image, plain, fresh_target(drive, tail)),
                consents,
            )
        else:
            _write_sectors(answer, str(plain), drives, consents, more)
    if not quiet:
        verified = {"full": "Read back", "sample": "A sample was read back", "none": "Written, and not read back"}
        click.echo(f"{verified[more['verify']]}; safe to pull out.")
    if tried:
        _try(drives, sticks.tried_by(found, chosen, known), quiet)


def _try(drives: Sequence[str], legacy: bool, quiet: bool) -> None:
    """Raises NotSeen for a stick that an emulated machine did not start."""
    from neogenesis.bench.works.media import try_stick

    by = "legacy" if legacy else "uefi"
    for drive in drives:
        if not try_stick(drive, legacy):
            raise NotSeen(
                f"“{drive}” was written, but an emulated machine did not start it by {by}.",
                "Try it on a machine, or take another image.",
            )
        if not quiet:
            click.echo(f"{drive}: an emulated machine started it by {by}.")


def _refuse_sectors(plain: str, drives: Sequence[str], consents: Sequence[Consent]) -> None:
    """Raises what would refuse the writing; nothing is written."""
    from neogenesis.bench.works import imaging
    from neogenesis.core.plan import Policy

    only_asked = [replace(consent, check_only=True) for consent in consents]
    done = imaging.restore_image(plain, drives, only_asked, Policy(intent="exact"), False, "none", ())
    failed = next((one.error for one in done if one.error is not None), None)
    if failed is not None and not isinstance(failed, OnlyChecked):
        raise failed


def _write_sectors(
    answer: Answer, plain: str, drives: Sequence[str], consents: Sequence[Consent], more: dict[str, Any]
) -> None:
    from neogenesis.bench.works import imaging
    from neogenesis.core.plan import Policy

    places = event_places(more["events"], answer.as_json, drives, more["bench"])
    done = imaging.restore_image(
        plain, drives, consents, Policy(intent="exact"), more["resume"], more["verify"], places
    )
    failed = next((one.error for one in done if one.error is not None), None)
    if failed is not None:
        raise failed
    if more["check"]:
        raise OnlyChecked
    outcomes = [one.outcome for one in done if one.outcome is not None]
    read_back = sum(one.verified_bytes for one in outcomes)
    answer.end(
        text=f"Written to {len(done)} stick{'s' * (len(done) != 1)}.",
        source=plain,
        target=", ".join(drives),
        copied_bytes=sum(one.copied_bytes for one in outcomes),
        verified_bytes=read_back,
        verified=more["verify"] if read_back else "none",
        seconds=round(max(one.seconds for one in outcomes), 3),
    )
    if more["events"] != "-" and not answer.as_json:
        for one in done:
            if one.outcome is not None:
                taken = duration_text(one.outcome.seconds)
                how = {"full": "written and read back", "sample": "written, a sample read back", "none": "written"}
                size = both_text(one.outcome.copied_bytes)
                click.echo(f"{one.target}: {size} {how[more['verify']]} in {taken}.")


def _say_media(found: Inspected) -> None:
    starts = " and ".join(found.starts) or "nothing"
    click.echo(
        f"{found.label or Path(found.path).name}: {found.kind}, {both_text(found.size_bytes)}, started by {starts}"
    )
    if found.architectures:
        click.echo(f"  for {', '.join(found.architectures)}")
    if found.checksum == "matched":
        click.echo(f"  as {found.checksum_file} says")
    for note in found.notes:
        click.echo(f"  {note}")


@click.command()
@click.argument("folder", metavar="FOLDER", type=click.Path(path_type=Path))
@click.option("--from", "source", metavar="SOURCE", type=click.Path(path_type=Path), help="A folder with a catalogue.")
@click.option("--fetch", "wanted", metavar="NAME", multiple=True, help="Fetch this file from the source.")
@json_option
def library(folder: Path, source: Path | None, wanted: tuple[str, ...], as_json: bool) -> None:
    """Say what a library of images and driver packages holds, and fetch what a source offers.

    Example: neogenesis library ~/library --from /mnt/share --fetch fathom-7.tar.zst
    """
    from neogenesis.bench.inside.library import Source, fetch, look_at_library

    offers = Source(source) if source is not None else None
    if wanted and offers is None:
        raise BadArgument("A source is needed to fetch from.", "Name it with --from.")
    allow_folder(folder)
    for name in wanted:
        if offers is not None:
            fetch(folder, offers, name)
    rows = look_at_library(folder, offers)
    if as_json:
        click.echo(to_json({"schema": "neogenesis.library-rows/1", "files": rows}).decode(), nl=False)
        return
    for one in rows:
        more = f"  newer: {one.newer}" if one.newer else ""
        click.echo(f"{one.state:<8} {one.kind:<10} {one.name}  {both_text(one.size_bytes)}{more}")


COMMANDS = (media, library)
