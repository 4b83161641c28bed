"""Commands that look at a drive for longer than a survey does: what fills it, and how fast it reads."""

from __future__ import annotations

from pathlib import Path

import click

from neogenesis.bench.inside import looking, surveying
from neogenesis.bench.register import allow_output
from neogenesis.cli.terminal import Terminal, is_watched
from neogenesis.core.errors import BadArgument
from neogenesis.core.record import to_json
from neogenesis.core.survey.filling import kinds
from neogenesis.core.survey.speech import speed_sentences
from neogenesis.core.units import both_text, decimal_text, rate_text

_json = click.option("--json", "as_json", is_flag=True, help="Print JSON.")
_MOST_TOLD = 12


@click.command()
@click.argument("drive", metavar="DRIVE")
@click.option("--volume", "number", type=int, help="Which partition; without it, the one with most in it.")
@click.option("--csv", "table", type=click.Path(path_type=Path), help="Write everything as a table.")
@click.option("--force", is_flag=True, help="Replace a file that is none of ours; never a drive or an image.")
@_json
def fills(drive: str, number: int | None, table: Path | None, force: bool, as_json: bool) -> None:
    """Say what fills a volume: by kind, by person, by folder, down to the largest files.

    Example: neogenesis fills /dev/sdb --csv fills.csv
    """
    if table is not None:
        allow_output(table, "table", (drive,), force=force, head=looking.FILLING_HEAD)
    found = surveying.survey(drive).survey
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
    if filling.not_here:
        click.echo(
            f"  {'not here: in an account':<26} {both_text(filling.not_here_bytes):<24} "
            f"{filling.not_here_files:>10,} files: a copy keeps their placeholders, a clean start does not"
        )
    for share in filling.not_here[:_MOST_TOLD]:
        click.echo(f"    {share.name:<24} {both_text(share.bytes):<24} {share.files:>10,} files")
    for file in filling.largest[:_MOST_TOLD]:
        click.echo(f"  {both_text(file.bytes):<26} {file.path}".encode("utf-8", "replace").decode())


@click.command()
@click.argument("drive", metavar="DRIVE")
@_json
def speed(drive: str, as_json: bool) -> None:
    """Sample how fast a drive reads, gently; refused for one that is failing.

    Example: neogenesis speed /dev/sdb
    """
    found = surveying.survey(drive).survey
    profile = looking.read_speed(drive, found)
    if as_json:
        click.echo(to_json(profile).decode(), nl=False)
        return
    for line in speed_sentences(profile, found):
        click.echo(line)


@click.command("run-in")
@click.argument("folder", metavar="FOLDER")
@click.option("--seconds", type=click.FloatRange(1, 3600), default=60.0, show_default=True, help="How long, about.")
@click.option("--bytes", "most", type=click.IntRange(min=1), help="Write so many bytes at most.")
@click.option("--part", type=click.Path(path_type=Path), help="The part's record (JSON), to set beside it.")
@click.option("--machine", type=click.Path(path_type=Path), help="The machine that it is in: its bay bounds the rates.")
@_json
def run_in(
    folder: str, seconds: float, most: int | None, part: Path | None, machine: Path | None, as_json: bool
) -> None:
    """Measure what a drive gives, on a scratch file in FOLDER that goes away again.

    Long stride: one long read or write. Short steps: single blocks of 4096 bytes at places taken by chance. Staying
    power: writing on until its cache runs out.

    Example: neogenesis run-in /media/new/scratch --part corvane-n2.part.json
    """
    from neogenesis.bench.records.cases import read_named
    from neogenesis.bench.works.run_in import Heard, run_in_at
    from neogenesis.core.fit import read_part
    from neogenesis.core.fit.match import match, rated_in
    from neogenesis.core.machine import read_machine
    from neogenesis.core.run_in import TITLES, compared, figure_text, sentences

    rated = read_part(read_named(part, "part"), f"part “{part.name}”") if part is not None else None
    if rated is not None and machine is not None:
        known = read_machine(read_named(machine, "machine"), f"machine “{machine.name}”")
        able = [one for one in (match(rated, bay, known, ()) for bay in known.bays) if one.verdict != "does-not-fit"]
        if able:
            rated = rated_in(rated, max(able, key=lambda one: one.effective_read_bytes_per_s or 0).bay)
    terminal = Terminal() if is_watched() else None

    def told(heard: Heard) -> None:
        if terminal is not None:
            at, rate = decimal_text(heard.paced.at_bytes), rate_text(heard.paced.bytes_per_s)
            terminal.say(f"{TITLES[heard.phase]}: {rate} after {at}")

    try:
        found = run_in_at(folder, seconds=seconds, most_bytes=most, tell=told)
    finally:
        if terminal is not None:
            terminal.clear()
    if as_json:
        click.echo(to_json(found).decode(), nl=False)
        return
    for row in compared(found, rated):
        said = figure_text(row.code, row.measured)
        against = f"   rated {figure_text(row.code, row.rated)}" if row.rated is not None else ""
        click.echo(f"{TITLES[row.code]:<28} {said:>14}{against}")
    for sentence in sentences(found, rated):
        click.echo(sentence)


COMMANDS = (fills, speed, run_in)
