"""Commands that judge: which part fits where, and which way is the best."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from pathlib import Path

import click

from neogenesis.core.errors import BadArgument
from neogenesis.core.record import to_json

_json = click.option("--json", "as_json", is_flag=True, help="Print JSON.")


@click.command()
@click.argument("machine", metavar="MACHINE.json", type=click.Path(path_type=Path))
@click.argument("parts", metavar="PART.json...", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--budget", metavar="AMOUNT", help="The most that all of it may cost.")
@_json
def fit(machine: Path, parts: tuple[Path, ...], budget: str | None, as_json: bool) -> None:
    """Say which part fits where and why not, and place them best.

    Example: neogenesis fit petrel-14.machine.json corvane-n2.part.json --budget 120
    """
    from neogenesis.bench.records.cases import read_named
    from neogenesis.core.fit import fit as judge
    from neogenesis.core.fit import read_part
    from neogenesis.core.fit.answer import fit_in_pieces
    from neogenesis.core.fit.part import money
    from neogenesis.core.machine import read_machine

    try:
        most = money(budget) if budget is not None else None
    except InvalidOperation:
        raise BadArgument(f"“{budget}” is no amount of money.", "Give one such as 79.90.") from None
    if most is not None and most < Decimal(0):
        raise BadArgument("A budget is not negative.", "Give an amount such as 79.90.")
    known = read_machine(read_named(machine, "machine"), f"machine “{machine.name}”")
    offered = [read_part(read_named(p, "part"), f"part “{p.name}”") for p in parts]
    if as_json:
        for piece in fit_in_pieces(known, offered, most):
            click.echo(piece, nl=False)
        return
    found = judge(known, offered, most)
    for one in found.fits:
        click.echo(f"{one.part:<24} {one.bay:<24} {one.verdict}")
        for reason in one.reasons:
            click.echo(f"    {reason.code}: {reason.text}")
        for need in one.needs:
            click.echo(f"    needs {need}")
    if found.memory is not None:
        click.echo(f"memory: {found.memory.verdict}, {found.memory.total_gb} GB at {found.memory.effective_mt_s} MT/s")
        for reason in found.memory.reasons:
            click.echo(f"    {reason.part} {reason.code}: {reason.text}")
    for placed in found.assignment:
        click.echo(f"{placed.part} into {placed.bay}")
    without = f", without {', '.join(found.cost_without)}" if found.cost_without else ""
    click.echo(f"cost {found.cost} {found.currency}".rstrip() + without)


@click.command()
@click.argument("case", metavar="CASE.json", type=click.Path(path_type=Path))
@_json
def decide(case: Path, as_json: bool) -> None:
    """Weigh the possible ways of a case, and recommend one.

    Example: neogenesis decide ferry.case.json
    """
    from neogenesis.bench.records.cases import decide_case

    found = decide_case(case)
    if as_json:
        click.echo(to_json(found).decode(), nl=False)
        return
    for way in found.ways:
        state = "" if way.allowed else "not possible: "
        minutes = f"{way.seconds_p10 / 60:.0f} to {way.seconds_p90 / 60:.0f} min"
        click.echo(f"{way.way:<16} {minutes:<18} {way.cost_p50:>9} {found.currency}  {state}{' '.join(way.reasons)}")
        for item in way.price_items if way.allowed else ():
            click.echo(f"    {item.amount:>9}  {item.what}{'' if item.chosen else ': from'}")
    then = f", then {found.runner_up}" if found.runner_up else ""
    image = "image first, " if found.first and found.recommended != "refer" else ""
    click.echo(f"Recommended: {image}{found.recommended}{then}")
    for line in (*found.would_change, *found.notes):
        click.echo(f"  {line}")


@click.command()
@click.argument("case", metavar="CASE.json", type=click.Path(path_type=Path))
@_json
def triage(case: Path, as_json: bool) -> None:
    """Say what is looked at next in a case, or that nothing more is tried.

    Example: neogenesis triage ferry.case.json
    """
    from neogenesis.bench.records.cases import triage_case

    found = triage_case(case)
    if as_json:
        click.echo(to_json(found).decode(), nl=False)
        return
    if found.next is not None:
        click.echo(f"Next: {found.next.text}")
    click.echo(
        "\n".join((*found.reasons, *found.do_not)) if found.reasons or found.do_not else "Nothing speaks against."
    )
    if found.refer:
        click.echo("Refer it to a recovery laboratory.")


@click.command()
@click.argument("machine", metavar="MACHINE.json", type=click.Path(path_type=Path))
@click.option("--for", "purposes", metavar="PURPOSE,...", help="What is done: drive, memory or both; else everything.")
@click.option("--bay", "bays", metavar="NAME", multiple=True, help="Only this bay; can be given several times.")
@_json
def swap(machine: Path, purposes: str | None, bays: tuple[str, ...], as_json: bool) -> None:
    """Say the steps of opening and closing a machine, with every fastener accounted for.

    Example: neogenesis swap petrel-14.machine.json --for drive,memory
    """
    from neogenesis.bench.records.cases import read_named
    from neogenesis.core.machine import read_machine
    from neogenesis.core.swap import answer_for
    from neogenesis.core.swap.path import bays_of, purposes_of

    known = read_machine(read_named(machine, "machine"), f"machine “{machine.name}”")
    wanted = purposes_of(purposes) if purposes is not None else None
    found = answer_for(known, wanted, bays_of(known, bays) if bays else None)
    if as_json:
        click.echo(to_json(found).decode(), nl=False)
        return
    click.echo(found.machine)
    click.echo(found.defers)
    for fact in found.facts:
        click.echo(f"* {fact.text}")
    for caution in found.cautions:
        click.echo(f"! {caution.code}: {caution.text}")
    click.echo(f"tools: {', '.join(found.tools) or 'none named'}")
    for title, rows in (("opening", found.opening), ("work", found.work), ("closing", found.closing)):
        click.echo(f"{title}:")
        for number, row in enumerate(rows, 1):
            counts = ", ".join(f"{one.count} x {one.id}" for one in row.fasteners)
            click.echo(f"  {number:>3}  {row.text}" + (f"  [{counts}]" if counts else ""))
    click.echo(f"{found.fasteners_out} fasteners out, {found.fasteners_in} back in, about {found.seconds / 60:.0f} min")


COMMANDS = (fit, decide, triage, swap)
