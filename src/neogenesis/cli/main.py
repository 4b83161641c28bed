"""`neogenesis`: every command of the contract. Without a command it opens the window."""

from __future__ import annotations

import logging
import sys
import traceback
from collections.abc import Sequence
from pathlib import Path
from typing import Literal, cast

import click
import msgspec

from neogenesis import __version__
from neogenesis.bench.drives import make_safe
from neogenesis.bench.inside import surveying
from neogenesis.bench.processes.memory import give_back_large_blocks
from neogenesis.bench.processes.telling import EventsTo
from neogenesis.bench.records.shipped import load_appliance
from neogenesis.bench.works import imaging, planning, rescuing, transferring
from neogenesis.cli import bench as bench_commands
from neogenesis.cli import boot, fresh, judging, looks
from neogenesis.cli.house import Anywhere, complete_help, config, open_log, options_anywhere, say
from neogenesis.cli.terminal import Terminal, is_watched
from neogenesis.core.errors import BadArgument, NeogenesisError, Partial
from neogenesis.core.image.make import ImageFiles
from neogenesis.core.plan import Policy
from neogenesis.core.plan.policy import Growth
from neogenesis.core.record import save, to_json
from neogenesis.core.survey import Survey
from neogenesis.core.transfer import RunFiles, Verify
from neogenesis.core.units import binary_text, both_text, parse_size

Intent = Literal["replace", "beside", "split", "exact"]
_INTENTS: tuple[Intent, ...] = ("replace", "beside", "split", "exact")

#: Arguments and options that several commands share.
_a_path = click.Path(path_type=Path)
_drive = click.argument("drive")
_confirm = click.option("--confirm", required=True, help="Last four characters of the target's serial or name.")
_grow = click.option(
    "--grow",
    default="system",
    show_default=True,
    help="What takes new space: system, a partition number, share or none.",
)
_relocate_table = click.option("--relocate-table", is_flag=True, help="With exact: GPT backup at the new end.")
_resume = click.option("--resume", is_flag=True, help="Go on with one that was cut short.")
_verify = click.option(
    "--verify", type=click.Choice(("full", "sample", "none")), default="full", show_default=True, help="Reading back."
)
_events = click.option("--events", metavar="FILE|-", help="Also write events to a file, or - for standard output.")


@click.group(invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.option("--debug", is_flag=True, help="Show the traceback of a failure. May stand anywhere.")
@click.option("--log-file", metavar="FILE", help="Write a log of this run. May stand anywhere.")
@click.version_option(__version__, message="%(version)s")
@click.pass_context
def app(context: click.Context, debug: bool, log_file: str | None) -> None:
    """Moves a system and its data to a new drive, with proof. Without a command it opens the window.

    Defaults for options stand in config.toml, a table for each command.
    """
    if context.invoked_subcommand is None:
        from neogenesis.app.shell.start import run_window

        context.exit(run_window())


@app.command()
@click.option("--reset", is_flag=True, help="Build the demo bench anew.")
@click.pass_context
def demo(context: click.Context, reset: bool) -> None:
    """Open the window on the demo bench."""
    from neogenesis.app.shell.start import run_demo

    context.exit(run_demo(reset))


@app.command()
@_drive
@click.option("--json", "as_json", is_flag=True, help="Print the survey as JSON.")
@click.option("--sector-size", type=int, help="512 or 4096, for images that do not tell.")
def survey(drive: str, as_json: bool, sector_size: int | None) -> None:
    """Survey a drive without writing to it."""
    if sector_size not in (None, 512, 4096):
        raise BadArgument(f"{sector_size} is not a sector size.", "Use 512 or 4096.")
    surveyed = surveying.survey(drive, sector_size, inside=True)
    if as_json:
        found = msgspec.to_builtins(surveyed.survey)
        for partition in found["partitions"]:
            system = surveyed.inside.get(partition["number"])
            partition["volume"]["inside"] = msgspec.to_builtins(system) if system is not None else None
        click.echo(to_json(found).decode(), nl=False)
    else:
        click.echo(_survey_text(surveyed.survey))


def _survey_text(found: Survey) -> str:
    drive = found.drive
    lines = [
        f"{drive.model or Path(drive.path).name}  {drive.serial}  {both_text(drive.size_bytes)}  "
        f"{drive.sector_size}-byte sectors  table: {found.table.kind}"
    ]
    for p in found.partitions:
        used = f"{binary_text(p.volume.used_bytes)} used" if p.volume.kind != "none" else ""
        lines.append(
            f"  {p.number:>3}  {p.title:<24} {p.role:<9} {p.volume.kind:<8} {both_text(p.size_bytes):<24} {used}"
        )
    for f in found.findings:
        lines.append(f"  {f.severity}: {f.text} {f.remedy}")
    return "\n".join(lines)


def _growth(text: str) -> Growth:
    if text in ("system", "share", "none"):
        return cast(Literal["system", "share", "none"], text)
    if text.isdigit():
        return int(text)
    raise BadArgument(f"--grow does not know “{text}”.", "Use system, share, none or a partition number.")


def _numbers(text: str) -> tuple[int, ...]:
    parts = [p.strip() for p in text.split(",") if p.strip()]
    if not all(p.isdigit() for p in parts):
        raise BadArgument(f"--leave does not know “{text}”.", "Give partition numbers, such as 4,5.")
    return tuple(int(p) for p in parts)


@app.command()
@click.argument("source")
@click.argument("target", required=False)
@click.option("--target-size", metavar="SIZE", help="Plan for a size before the drive is at hand.")
@click.option("--intent", type=click.Choice(_INTENTS), default="replace", show_default=True, help="What it is for.")
@click.option("--leave", metavar="N,N", default="", help="Partitions to leave behind, such as 4,5.")
@_grow
@click.option("--spare", type=click.IntRange(0, 20), default=0, help="Per cent of the drive left unallocated.")
@click.option("--data-volume", metavar="SIZE", help="Add a new data volume of that size.")
@click.option(
    "--recovery",
    type=click.Choice(("end", "stay", "leave")),
    default="end",
    show_default=True,
    help="Where recovery partitions go.",
)
@click.option("--machine-uefi", is_flag=True, help="The machine starts by UEFI.")
@click.option("--machine-legacy", is_flag=True, help="The machine starts the legacy way.")
@click.option(
    "--identity",
    type=click.Choice(("keep", "fresh")),
    default="keep",
    show_default=True,
    help="Ids of the drive and its partitions.",
)
@_relocate_table
@click.option("--appliance", help="Device class that the drive is for, or a file of one.")
@click.option("--discard", is_flag=True, help="Tell the new drive which areas hold nothing.")
@click.option("-o", "output", metavar="PLAN", type=_a_path, help="Where the plan is written.")
@click.option("--json", "as_json", is_flag=True, help="Print the plan as JSON.")
def plan(
    source: str,
    target: str | None,
    target_size: str | None,
    intent: Intent,
    leave: str,
    grow: str,
    spare: int,
    data_volume: str | None,
    recovery: Literal["end", "stay", "leave"],
    machine_uefi: bool,
    machine_legacy: bool,
    identity: Literal["keep", "fresh"],
    relocate_table: bool,
    appliance: str | None,
    discard: bool,
    output: Path | None,
    as_json: bool,
) -> None:
    """Make a plan; writes nothing but PLAN."""
    if (target is None) == (target_size is None):
        raise BadArgument("A plan needs either a new drive or --target-size.", "Name one of the two.")
    if machine_uefi and machine_legacy:
        raise BadArgument("A machine is either UEFI or legacy.", "Give one of the two.")
    policy = Policy(
        intent=intent,
        leave=_numbers(leave),
        grow=_growth(grow),
        spare_percent=spare,
        data_volume_bytes=parse_size(data_volume) if data_volume else None,
        recovery=recovery,
        machine="uefi" if machine_uefi else ("legacy" if machine_legacy else None),
        identity=identity,
        relocate_table=relocate_table,
        discard=discard,
        appliance=load_appliance(appliance) if appliance else None,
    )
    size = parse_size(target_size) if target_size else None
    made = planning.plan_for(surveying.survey(source), target, size, policy)
    if output is not None:
        save(output, made)
    if as_json:
        click.echo(to_json(made).decode(), nl=False)
    else:
        click.echo(planning.describe(made))
        for gate in made.gates:
            if not gate.open:
                click.echo(f"  closed: {gate.text} {gate.remedy}")


@app.command()
@click.argument("plan_file", metavar="PLAN", type=_a_path)
@_confirm
@_resume
@_verify
@_events
@click.option("--power-off", is_flag=True, help="Switch the new drive off when it is done.")
def transfer(plan_file: Path, confirm: str, resume: bool, verify: Verify, events: str | None, power_off: bool) -> None:
    """Run a plan."""
    outcome = transferring.run_transfer(plan_file, confirm, resume, verify, _places(events))
    if events != "-":
        click.echo(
            f"Copied {both_text(outcome.copied_bytes)}, read back {both_text(outcome.verified_bytes)}. "
            f"Manifest: {RunFiles(plan_file).manifest}"
        )
    if power_off:
        target = planning.load_plan(plan_file).target.drive
        parting = make_safe(target.path if target else "")
        if events != "-":
            click.echo(parting.text)
    _say_lost(outcome.lost, RunFiles(plan_file).regions)


@app.command()
@click.argument("record", metavar="PLAN|MANIFEST", type=_a_path)
@_drive
def verify(record: Path, drive: str) -> None:
    """Read a drive back against the recorded checksums."""
    path = record
    if not record.name.endswith(".manifest.json") and RunFiles(record).manifest.exists():
        path = RunFiles(record).manifest
    terminal = Terminal()
    tell = (lambda done, total: terminal.count("reading back", done, total)) if is_watched() else (lambda *_: None)
    done = imaging.verify_record(path, drive, tell)
    click.echo(f"{both_text(done)} are exactly what was written.")


@app.command()
@_drive
@click.argument("out", metavar="OUT.qcow2", type=_a_path)
@click.option("--level", type=click.IntRange(1, 19), default=1, show_default=True, help="How hard to compress.")
@click.option("--part-size", metavar="SIZE", help="Keep it in files of that size, such as 4000MiB for small media.")
@_events
def image(drive: str, out: Path, level: int, part_size: str | None, events: str | None) -> None:
    """Image a drive: used blocks only, with a manifest; resumable."""
    parts = parse_size(part_size) if part_size else None
    done = imaging.make_image(drive, out, level, parts, _places(events))
    if events != "-":
        read, size = both_text(done.read_bytes), both_text(done.file_bytes)
        click.echo(f"Imaged {read} in use into {size}. Manifest: {ImageFiles(out).manifest}")
    _say_lost(done.lost, ImageFiles(out).manifest)


@app.command()
@click.argument("image_file", metavar="OUT.qcow2")
@click.argument("targets", metavar="TARGET...", nargs=-1, required=True)
@click.option("--confirm", multiple=True, required=True, help="Tail of each target's serial or name; once for each.")
@click.option(
    "--intent",
    type=click.Choice(_INTENTS),
    default="exact",
    show_default=True,
    help="exact, or replace to resize as by a plan.",
)
@_grow
@_relocate_table
@_resume
@_verify
@_events
def restore(
    image_file: str,
    targets: tuple[str, ...],
    confirm: tuple[str, ...],
    intent: Intent,
    grow: str,
    relocate_table: bool,
    resume: bool,
    verify: Verify,
    events: str | None,
) -> None:
    """Put an image onto one or several drives, reading it once."""
    policy = Policy(intent=intent, grow=_growth(grow), relocate_table=relocate_table)
    found = imaging.restore_image(image_file, targets, confirm, policy, resume, verify, _places(events))
    _say_restored(found, image_file, quiet=events == "-")


def _say_restored(found: Sequence[imaging.Restored], image_file: str, quiet: bool) -> None:
    """What became of each target; raises the first fault with the names of all that dropped out."""
    for one in found:
        if one.outcome is not None and not quiet:
            click.echo(
                f"{one.target}: copied {both_text(one.outcome.copied_bytes)}, "
                f"read back {both_text(one.outcome.verified_bytes)}."
            )
    failed = [one for one in found if one.error is not None]
    if failed and failed[0].error is not None:
        worst = failed[0].error
        names = ", ".join(one.target for one in failed)
        if len(found) > 1:
            others = f" The other {len(found) - len(failed)} are done." if len(failed) < len(found) else ""
            worst.text = f"{names} dropped out: {worst.text}{others}"
        raise worst
    lost = next((one.outcome.lost for one in found if one.outcome and one.outcome.lost), ())
    _say_lost(lost, Path(image_file))


@app.command()
@_drive
@click.argument("target")
@click.option("--map", "map_file", type=_a_path, required=True, help="The region map; a rescue goes on from it.")
@_confirm
@click.option("--passes", default="", help="Some of matters,out,back,rest,edges,singles,again=N.")
@_events
def rescue(drive: str, target: str, map_file: Path, confirm: str, passes: str, events: str | None) -> None:
    """Get what can be had from a failing drive; resumable."""
    names, times_again = rescuing.parse_passes(passes)
    done = rescuing.rescue_drive(drive, target, map_file, confirm, names, times_again, _places(events))
    if events != "-":
        _say_rescued(done, map_file)
    if done.lost_bytes or done.open_bytes:
        more = f"; {len(done.touched)} files lost something, listed in {done.names}" if done.touched else ""
        raise Partial(
            f"Done, but {done.lost_bytes + done.open_bytes} bytes of the old drive could not be read{more}.",
            f"{map_file} lists the ranges; the same command tries again.",
        )


def _say_rescued(done: rescuing.Rescued, map_file: Path) -> None:
    click.echo(
        f"Rescued {both_text(done.read_bytes)}; lost {both_text(done.lost_bytes)}; "
        f"not yet tried or postponed {both_text(done.open_bytes)}. Map: {map_file}"
    )
    for file in done.touched[:20]:
        click.echo(f"  partition {file.partition}: {file.path} lost {file.touched_bytes} of {file.size_bytes} bytes")


@app.command()
@_drive
@click.argument("dest", type=_a_path)
@click.option("--volume", type=int, help="Only this partition.")
@click.option("--include", metavar="GLOB", multiple=True, help="Only files that fit, such as '*.jpg'.")
@click.option("--exclude", metavar="GLOB", multiple=True, help="Leave out files that fit.")
@_events
def salvage(
    drive: str, dest: Path, volume: int | None, include: tuple[str, ...], exclude: tuple[str, ...], events: str | None
) -> None:
    """Copy files out of a drive with their checksums; resumable."""

    def tell(kinds: Sequence[tuple[str, int, int]]) -> None:
        for kind, count, size in kinds if events != "-" else ():
            click.echo(f"{kind:<18} {count:>8} files  {both_text(size)}")

    done = rescuing.salvage_files(drive, dest, volume, include, exclude, tell, _places(events))
    if events != "-":
        click.echo(
            f"Copied {done.files} files, {both_text(done.bytes)}, to {dest}; checksums in {dest / 'salvage.jsonl'}"
        )
        for text in done.not_read:
            click.echo(f"  left out: {text}")
    renamed = ""
    if done.renamed:
        path, stored = done.renamed[0]
        more = f"; {len(done.renamed)} files in all" if len(done.renamed) > 1 else ""
        renamed = f" “{path}” is stored as “{stored}”, since its own name cannot be used{more}; both records list them."
    if done.incomplete:
        names = ", ".join(s.path for s in done.incomplete[:3])
        more = f" and {len(done.incomplete) - 3} more" if len(done.incomplete) > 3 else ""
        raise Partial(
            f"Done, but {len(done.incomplete)} files could not be read whole: {names}{more}.{renamed}",
            f"{dest / 'salvage.json'} lists them all; the same command tries them again.",
        )
    if renamed:
        say(renamed)


for _command in (*bench_commands.COMMANDS, *looks.COMMANDS, *judging.COMMANDS, *boot.COMMANDS, *fresh.COMMANDS):
    app.add_command(_command)


def _places(events: str | None) -> list[EventsTo]:
    """Where --events sends them; without it, to the terminal that a person sits at."""
    if events is not None:
        return [EventsTo(events)]
    return [EventsTo("terminal", listener=Terminal().hear)] if is_watched() else []


def _say_lost(lost: tuple[tuple[int, int], ...], record: Path) -> None:
    """End with status 4 when ranges of the source could not be read."""
    if lost:
        ranges = ", ".join(f"{start}-{end}" for start, end in lost[:8])
        more = f" and {len(lost) - 8} more" if len(lost) > 8 else ""
        raise Partial(
            f"Done, but these bytes of the old drive could not be read: {ranges}{more}.",
            f"They stand as zeros on the new drive; {record} lists them all.",
        )


def main() -> None:
    """Run the program; every ending but success leaves exactly one line on standard error."""
    give_back_large_blocks()
    anywhere, log = Anywhere(False, None, []), logging.getLogger("neogenesis.cli")
    log.addHandler(logging.NullHandler())
    log.propagate = False
    status: object = 0
    try:
        anywhere = options_anywhere(sys.argv[1:])
        if anywhere.log_file is not None:
            log = open_log(anywhere.log_file)
        log.info("neogenesis %s %s", __version__, " ".join(anywhere.arguments))
        complete_help(app)
        status = app(anywhere.arguments, prog_name="neogenesis", standalone_mode=False, default_map=config())
    except NeogenesisError as error:
        status = _failed(error.sentence(), error.exit_status, anywhere, log)
    except click.ClickException as error:
        status = _failed(f"{error.format_message()} See “neogenesis --help”.", 2, anywhere, log)
    except (click.Abort, KeyboardInterrupt):
        status = _failed("Stopped from the keyboard; nothing was written.", 6, anywhere, log)
    except BrokenPipeError:
        status = 1
    except Exception as error:  # noqa: BLE001 - the outermost boundary: a bug becomes one line
        text = f"Unexpected failure ({type(error).__name__}: {error}). Nothing more was written; run it again with "
        status = _failed(text + "--debug and report what it shows.", 1, anywhere, log)
    log.info("ended with %s", status)
    sys.exit(status if isinstance(status, int) else 0)


def _failed(text: str, status: int, anywhere: Anywhere, log: logging.Logger) -> int:
    if anywhere.debug:
        traceback.print_exc()
    log.error("%s", text, exc_info=status == 1 or anywhere.debug)
    say(text)
    return status
