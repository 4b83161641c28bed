"""Commands that look at a drive for longer than a survey does: what fills it, and how fast it reads."""

from __future__ import annotations

from pathlib import Path

import click

from neogenesis.bench import looking, planning
from neogenesis.core.errors import BadArgument
from neogenesis.core.record import to_json
from neogenesis.core.survey.filling import kinds
from neogenesis.core.survey.speech import speed_sentences
from neogenesis.core.units import both_text

_json = click.option("--json", "as_json", is_flag=True, help="Print JSON.")
_MOST_TOLD = 12


@click.command()
@click.argument("drive", metavar="DRIVE")
@click.option("--volume", "number", type=int, help="Which partition; without it, the one with most in it.")
@click.option("--csv", "table", type=click.Path(path_type=Path), help="Write everything as a table.")
@_json
def fills(drive: str, number: int | None, table: Path | None, as_json: bool) -> None:
    """Say what fills a volume: by kind, by person, by folder, down to the largest files.

    Example: neogenesis fills /dev/sdb --csv fills.csv
    """
    found = planning.survey(drive).survey
    numbers = looking.fillable(found)
    if number is None and not numbers:
        raise BadArgument("No volume on that drive has files that can be listed.", "Survey it to see what is there.")
    filling = looking.what_fills(drive, found, number if number is not None else numbers[0])
    if table is not None:
        looking.write_filling(table, filling)
    if as_json:
        click.echo(to_json(filling).decode(), nl=False)
        return
    cut = "" if filling.complete else "  (the count was cut off: there is more)"
    click.echo(f"Partition {filling.partition}: {filling.files:,} files, {both_text(filling.bytes)}{cut}")
    shares = {s.name: s for s in filling.kinds}
    told = [(kind.title, shares[kind.code]) for kind in kinds() if kind.code in shares]
    told += [(f"of {person.name}", person) for person in filling.people[:_MOST_TOLD]]
    for title, share in told:
        click.echo(f"  {title:<26} {both_text(share.bytes):<24} {share.files:>10,} files")
    for file in filling.largest[:_MOST_TOLD]:
        click.echo(f"  {both_text(file.bytes):<26} {file.path}".encode("utf-8", "replace").decode())


@click.command()
@click.argument("drive", metavar="DRIVE")
@_json
def speed(drive: str, as_json: bool) -> None:
    """Sample how fast a drive reads, gently; refused for one that is failing.

    Example: neogenesis speed /dev/sdb
    """
    found = planning.survey(drive).survey
    profile = looking.read_speed(drive, found)
    if as_json:
        click.echo(to_json(profile).decode(), nl=False)
        return
    for line in speed_sentences(profile, found):
        click.echo(line)


COMMANDS = (fills, speed)
