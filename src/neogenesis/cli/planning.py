"""Commands for a look at a drive and for a plan; neither writes to any drive."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Literal

import click
import msgspec

from neogenesis.bench.inside import surveying
from neogenesis.cli.options import INTENTS, Intent, bench_option, grows, growth, relocates, takes_map
from neogenesis.core.errors import BadArgument, Partial
from neogenesis.core.record import save, to_json
from neogenesis.core.units import binary_text, both_text, parse_size

if TYPE_CHECKING:
    from neogenesis.core.survey import Survey

_MOST_NAMED = 20
_force = click.option("--force", is_flag=True, help="Replace a file that is none of ours; never a drive or an image.")


@click.command()
@click.argument("drive")
@click.option("--json", "as_json", is_flag=True, help="Print the survey as JSON.")
@click.option("--sector-size", type=int, help="512 or 4096, for images that do not tell.")
@takes_map
def survey(drive: str, as_json: bool, sector_size: int | None, region_map: Path | None) -> None:
    """Survey a drive without writing to it."""
    if sector_size not in (None, 512, 4096):
        raise BadArgument(f"{sector_size} is not a sector size.", "Use 512 or 4096.")
    surveyed = surveying.survey(drive, sector_size, inside=True, region_map=region_map)
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
        + (f"  waits up to {drive.timeout_s:g} s for a request" if drive.timeout_s is not None else "")
    ]
    for p in found.partitions:
        used = f"{binary_text(p.volume.used_bytes)} used" if p.volume.kind != "none" else ""
        lines.append(
            f"  {p.number:>3}  {p.title:<24} {p.role:<9} {p.volume.kind:<8} {both_text(p.size_bytes):<24} {used}"
        )
    for f in found.findings:
        lines.append(f"  {f.severity}: {f.text} {f.remedy}")
    losses = found.inherited_losses
    if losses is not None:
        lines += [f"  lost: {file.path}" for file in losses.files[:_MOST_NAMED]]
    return "\n".join(lines)


def _numbers(text: str) -> tuple[int, ...]:
    parts = [p.strip() for p in text.split(",") if p.strip()]
    if not all(p.isdigit() for p in parts):
        raise BadArgument(f"--leave does not know “{text}”.", "Give partition numbers, such as 4,5.")
    return tuple(int(p) for p in parts)


def _pair(text: str) -> tuple[str, str]:
    old, sign, new = text.partition("=")
    if not (old and sign and new):
        raise BadArgument(f"--with does not know “{text}”.", "Give an old drive and its new one, such as OLD=NEW.")
    return old, new


@click.command()
@click.argument("source")
@click.argument("target", required=False)
@click.option("--target-size", metavar="SIZE", help="Plan for a size before the drive is at hand.")
@click.option("--intent", type=click.Choice(INTENTS), default="replace", show_default=True, help="What it is for.")
@click.option("--leave", metavar="N,N", default="", help="Partitions to leave behind, such as 4,5.")
@grows
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
@relocates
@click.option("--appliance", help="Device class that the drive is for, or a file of one.")
@click.option("--discard", is_flag=True, help="Tell the new drive which areas hold nothing.")
@takes_map
@click.option(
    "--with", "others", metavar="OLD=NEW", multiple=True, help="Another drive of the same set, and its new one."
)
@click.option("--alone", is_flag=True, help="The others of its set stay as they are; NEW takes its place among them.")
@click.option("-o", "output", metavar="PLAN", type=click.Path(path_type=Path), help="Where the plan is written.")
@_force
@bench_option
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
    region_map: Path | None,
    others: tuple[str, ...],
    alone: bool,
    output: Path | None,
    force: bool,
    bench: str,
    as_json: bool,
) -> None:
    """Make a plan; writes nothing but PLAN."""
    from neogenesis.bench.records.shipped import load_appliance
    from neogenesis.bench.register import allow_output
    from neogenesis.bench.works import planning
    from neogenesis.core.plan import Policy

    if (target is None) == (target_size is None):
        raise BadArgument("A plan needs either a new drive or --target-size.", "Name one of the two.")
    if machine_uefi and machine_legacy:
        raise BadArgument("A machine is either UEFI or legacy.", "Give one of the two.")
    policy = Policy(
        intent=intent,
        leave=_numbers(leave),
        grow=growth(grow),
        spare_percent=spare,
        data_volume_bytes=parse_size(data_volume) if data_volume else None,
        recovery=recovery,
        machine="uefi" if machine_uefi else ("legacy" if machine_legacy else None),
        identity=identity,
        relocate_table=relocate_table,
        discard=discard,
        alone=alone,
        appliance=load_appliance(appliance) if appliance else None,
    )
    size = parse_size(target_size) if target_size else None
    pairs = [_pair(text) for text in others]
    drives = [source, *([target] if target is not None else []), *(name for pair in pairs for name in pair)]
    if output is not None:
        allow_output(output, "plan", drives, bench, force)
        planning.refuse_begun(output, force)
    if pairs and target is None:
        raise BadArgument("Drives of a set are planned with their new drives at hand.", "Name the new drive.")
    if pairs and target is not None:
        made = planning.plan_for_set([(source, target), *pairs], policy)
    else:
        made = planning.plan_for(surveying.survey(source, region_map=region_map), target, size, policy)
    if output is not None:
        save(output, made)
    if as_json:
        click.echo(to_json(made).decode(), nl=False)
    else:
        click.echo(planning.describe(made))
        for gate in made.gates:
            if not gate.open:
                click.echo(f"  closed: {gate.text} {gate.remedy}")
    if made.lost:
        missing = sum(end - start for start, end in made.lost)
        raise Partial(
            f"The plan is made, but {both_text(missing)} of what it carries were lost when the source was saved "
            "from the old drive.",
            "They become zeros on the new drive; the survey names the files on them.",
        )


COMMANDS = (survey, plan)
