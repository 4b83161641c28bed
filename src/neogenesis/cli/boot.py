"""Commands about starting: what would start, what could be mended, and trying it in an emulated machine."""

from __future__ import annotations

from pathlib import Path

import click

from neogenesis.bench.register import allow_output, marked_picture
from neogenesis.cli.answer import Answer
from neogenesis.cli.consenting import agreed, event_places, writes_to_drives
from neogenesis.core.errors import NotSeen
from neogenesis.core.record import load, save_bytes, to_json
from neogenesis.core.work import Confirmation

_json = click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
_machine = click.option(
    "--machine", metavar="MACHINE.json", type=click.Path(path_type=Path), help="Slots, boot entries and firmware."
)
_entries = click.option(
    "--entries",
    metavar="LISTING",
    type=click.Path(path_type=Path),
    help="The machine's own boot entries, as efibootmgr -v prints them.",
)


_MARKS = {True: " ", None: "?", False: "!"}
_SAYS = {True: "starts", None: "cannot be told", False: "does not start"}


def answer_text(starts: bool | None, breaks_at: str | None) -> str:
    """A forecast in one sentence."""
    if starts is None:
        return "It cannot be told from the drives: try it (trial-boot), or look at the machine."
    return "It starts." if starts else f"It does not start: it breaks at {breaks_at}."


@click.command()
@click.argument("drives", metavar="DRIVE...", nargs=-1)
@_machine
@_entries
@click.option("--legacy", is_flag=True, help="With a legacy firmware instead of UEFI.")
@_json
def forecast(drives: tuple[str, ...], machine: Path | None, entries: Path | None, legacy: bool, as_json: bool) -> None:
    """Say what a machine with these drives, in the order of its slots, would start.

    Example: neogenesis forecast /dev/sdc /dev/sdb --machine ferry.machine.json
    """
    from neogenesis.bench.inside.booting import forecast_drives

    found = forecast_drives(drives, machine, entries, legacy)
    if as_json:
        click.echo(to_json(found).decode(), nl=False)
        return
    for link in found.chain:
        where = f"  {link.drive}" + (f", partition {link.partition}" if link.partition else "") if link.drive else ""
        click.echo(f"{_MARKS[link.ok]} {link.step:<17} {link.text}{where}")
    click.echo(answer_text(found.starts, found.breaks_at))
    for finding in found.findings:
        click.echo(f"{finding.severity}: {finding.text} {finding.remedy}")
    for other in found.others:
        click.echo(f"else, {other.when}: {_SAYS[other.starts]}")


@click.command("trial-boot")
@click.argument("drives", metavar="DRIVE...", nargs=-1)
@_machine
@_entries
@click.option("--legacy", is_flag=True, help="With a legacy firmware instead of UEFI.")
@click.option("--expect", metavar="TEXT", default="", help="End as soon as this is said on the serial line.")
@click.option("--seconds", type=click.FloatRange(1, 3600), default=90.0, help="The longest that it may take.")
@click.option(
    "--screenshot", metavar="PNG", type=click.Path(path_type=Path), help="Keep what the screen shows at the end."
)
@click.option("--hardware", is_flag=True, help="With hardware virtualisation, where it is offered and works.")
@click.option("--force", is_flag=True, help="Replace a picture that is none of ours; never a drive or an image.")
@_json
def trial_boot(
    drives: tuple[str, ...],
    machine: Path | None,
    entries: Path | None,
    legacy: bool,
    expect: str,
    seconds: float,
    screenshot: Path | None,
    hardware: bool,
    force: bool,
    as_json: bool,
) -> None:
    """Start drives in an emulated machine, on overlays that are thrown away. Exit status 4 when it did not start.

    Example: neogenesis trial-boot copy.img --expect "Meridian" --seconds 60
    """
    from neogenesis.bench.emulator import Trial, run_trial
    from neogenesis.bench.inside.booting import in_slots, read_boot_machine

    known = read_boot_machine(machine, entries)
    if screenshot is not None:
        allow_output(screenshot, "picture", drives, force=force)
    names = [name for name, _ in in_slots(drives, known, machine.parent if machine is not None else None)]
    wants_legacy = legacy or (known is not None and known.firmware == "legacy")
    found = run_trial(Trial(names, known, wants_legacy, expect, seconds, screenshot, hardware=hardware))
    if screenshot is not None and screenshot.exists():
        save_bytes(screenshot, marked_picture(screenshot.read_bytes()))
    elif screenshot is not None:
        click.echo("No picture could be taken: the emulated machine had ended by then.", err=True)
    if as_json:
        click.echo(to_json(found).decode(), nl=False)
    else:
        click.echo(found.serial.strip())
        for line in found.proves:
            click.echo(f"proves: {line}")
        for line in found.does_not_prove:
            click.echo(f"does not prove: {line}")
    if (found.seen is None) if expect else not found.loader_ran:
        told = f"“{expect}” was not said" if expect else "No loader was started"
        raise NotSeen(f"{told} within {found.seconds:g} s.", "Look at what the serial line says, and at the forecast.")


@click.command()
@click.argument("drives", metavar="DRIVE...", nargs=-1)
@_machine
@_json
def remedies(drives: tuple[str, ...], machine: Path | None, as_json: bool) -> None:
    """Say what could be mended so that it starts, and every byte that would change. Writes nothing.

    Example: neogenesis remedies /dev/sdc --machine ferry.machine.json
    """
    from neogenesis.bench.works.mending import remedies_of

    found = remedies_of(drives, machine)
    starts: bool | None = True
    if not found.remedies and not as_json:
        from neogenesis.bench.inside.booting import forecast_drives

        starts = forecast_drives(drives, machine).starts
    if as_json:
        click.echo(to_json(found).decode(), nl=False)
        return
    for row in found.remedies:
        total = sum(end - start for start, end in row.writes)
        size = f"{total} bytes in {len(row.writes)} places" if row.writes else "cannot be done"
        click.echo(f"{row.code:<18} {row.drive}  risk {row.risk}, {size}")
        click.echo(f"    {row.cannot or row.text}")
        if row.after is not None:
            click.echo(f"    After it: {answer_text(row.after.starts, row.after.breaks_at)}")
            click.echo(f"    --changes {row.changes}")
        for entry in row.entries_lost:
            click.echo(f"    {entry} will find nothing any more: make it anew in the machine's firmware.")
    if not found.remedies:
        all_the_same = "" if starts else " from here; look at the forecast, and at the machine"
        click.echo(f"There is nothing to mend{all_the_same}.")


@click.command()
@click.argument("code", metavar="CODE")
@click.argument("drives", metavar="DRIVE...", nargs=-1, required=True)
@writes_to_drives
@click.option("--record", metavar="FILE", type=click.Path(path_type=Path), help="Where what stood there is kept.")
@click.option("--changes", metavar="DIGEST", default="", help="Only if exactly this would change, as remedies says.")
@click.option("--events", metavar="FILE|-", help="Events as JSON lines.")
@_machine
@_json
@click.pass_obj
def remedy(
    answer: Answer,
    code: str,
    drives: tuple[str, ...],
    tails: tuple[str, ...],
    confirmed: tuple[Path, ...],
    check: bool,
    bench: str,
    record: Path | None,
    changes: str,
    events: str | None,
    machine: Path | None,
    as_json: bool,
) -> None:
    """Mend one thing on a drive; what stood there before is recorded first.

    Name all drives of the machine in the order of their slots, as for `remedies`: the one that is confirmed is mended,
    the others decide what a reference means.

    Example: neogenesis remedy fallback-loader /dev/sdc --confirm 41F2
    """
    from neogenesis.bench.works.mending import apply_remedy, default_record, mended_of

    agreed_to = load(confirmed[0], Confirmation, "confirmation").target if confirmed else None
    drive = mended_of(drives, tails[0] if tails else None, agreed_to)
    consent = agreed([drive], tails, confirmed, check, bench)[0]
    places = event_places(events, as_json, drives, bench)
    made = apply_remedy(code, drive, consent, record, machine, changes, places, beside=drives)
    total, place = sum(len(c.before) // 2 for c in made.changes), record or default_record(drive, code)
    text = f"Done: {total} bytes in {len(made.changes)} places."
    answer.end(text=text, target=drive, copied_bytes=total, verified_bytes=total, verified="full", records=(place,))
    if not (as_json or events == "-"):
        click.echo(f"{text} Put back with {place}.")


@click.command()
@click.argument("record", metavar="RECORD", type=click.Path(path_type=Path))
@click.argument("drive", metavar="DRIVE")
@writes_to_drives
@click.option("--events", metavar="FILE|-", help="Events as JSON lines.")
@_json
@click.pass_obj
def undo(
    answer: Answer,
    record: Path,
    drive: str,
    tails: tuple[str, ...],
    confirmed: tuple[Path, ...],
    check: bool,
    bench: str,
    events: str | None,
    as_json: bool,
) -> None:
    """Put back what a remedy changed, byte for byte; refuses when the drive holds something else by now.

    Example: neogenesis undo sdc-fallback-loader.undo /dev/sdc --confirm 41F2
    """
    from neogenesis.bench.works.mending import undo_remedy

    consent = agreed([drive], tails, confirmed, check, bench)[0]
    made = undo_remedy(record, drive, consent, event_places(events, as_json, (drive,), bench))
    text = f"Put back: {len(made.changes)} places as they were before {made.code}."
    total = sum(len(c.before) // 2 for c in made.changes)
    answer.end(text=text, target=drive, copied_bytes=total, verified_bytes=total, verified="full", records=(record,))
    if not (as_json or events == "-"):
        click.echo(text)


COMMANDS = (forecast, remedies, remedy, undo, trial_boot)
