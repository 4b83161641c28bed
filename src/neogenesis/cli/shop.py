"""Commands of the counter: a job taken in, a word in its logbook, and what the guides say."""

from __future__ import annotations

from contextlib import closing
from datetime import datetime

import click

from neogenesis.core.errors import BadArgument
from neogenesis.core.record import to_json

_bench = click.option("--bench", metavar="FOLDER|URL", default="", help="Which bench; without it, this person's own.")
_json = click.option("--json", "as_json", is_flag=True, help="Print JSON.")


@click.command("take-in")
@click.argument("ticket")
@click.option("--customer", metavar="NAME", required=True, help="Whose machine it is.")
@click.option("--machine", metavar="TEXT", required=True, help="Make and model.")
@click.option("--wants", metavar="TEXT", default="", help="What the customer wants.")
@click.option("--by", metavar="WHEN", default="", help="Promised for, such as 2026-12-03 16:00.")
@_bench
def take_in(ticket: str, customer: str, machine: str, wants: str, by: str, bench: str) -> None:
    """Take a job in.

    Example: neogenesis take-in T-1060 --customer "Net-maker" --machine "Petrel 14" --by "2026-12-03 16:00"
    """
    from neogenesis.bench.processes.clock import BenchClock
    from neogenesis.bench.processes.folders import bench_folder, login_name
    from neogenesis.bench.records.opening import existing_records, open_records
    from neogenesis.core.job import Job

    promise = _moment(by)
    named = [(name, text.strip()) for name, text in (("--customer", customer), ("--machine", machine))]
    empty = next((name for name, text in named if not text), None)
    if empty is not None:
        raise BadArgument(f"{empty} is empty; nothing was written.", "Say it in words.")
    job = Job(
        ticket=ticket, customer=customer.strip(), machine=machine.strip(), wish=wants, promise=promise, stop="intake"
    )
    with closing(existing_records(bench) if bench else open_records(bench_folder())) as store:
        store.add(job)
        text = "Job taken in" + (f": {wants}" if wants else "")
        store.append(ticket, BenchClock().wall(), login_name(), "intake", text)
    click.echo(f"{ticket} was taken in.")


def _moment(text: str) -> str:
    """As jobs have it; raises BadArgument for what is no moment."""
    if not text:
        return ""
    for form in ("%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M", "%Y-%m-%d"):
        try:
            return datetime.strptime(text, form).strftime("%Y-%m-%d %H:%M" if "H" in form else "%Y-%m-%d")
        except ValueError:
            continue
    raise BadArgument(f"“{text}” is no moment; nothing was written.", "Write it such as 2026-12-03 16:00.")


@click.command()
@click.argument("ticket")
@click.argument("text")
@click.option("--mistake", is_flag=True, help="Something that went wrong here.")
@click.option("--done", is_flag=True, help="Something that was done; the customer reads it on the report.")
@_bench
def note(ticket: str, text: str, mistake: bool, done: bool, bench: str) -> None:
    """Write something into a job's logbook.

    Example: neogenesis note T-1041 "Customer called: the photographs matter most"
    """
    from neogenesis.bench.processes.clock import BenchClock
    from neogenesis.bench.processes.folders import login_name
    from neogenesis.bench.records.opening import existing_records
    from neogenesis.core.job.deeds import FOR_CUSTOMER

    if not text.strip():
        raise BadArgument("There is nothing to write.", "Say it in words.")
    if mistake and done:
        raise BadArgument("It is either a mistake or a deed; nothing was written.", "Leave one of them away.")
    with closing(existing_records(bench)) as store:
        store.job(ticket)
        words = f"Went wrong: {text.strip()}" if mistake else text.strip()
        kind = "mistake" if mistake else FOR_CUSTOMER if done else "note"
        entry = store.append(ticket, BenchClock().wall(), login_name(), kind, words)
    click.echo(f"Entry {entry.number} of {ticket} was written.")


@click.command()
@click.argument("what", metavar="TICKET|MACHINE.json")
@click.option(
    "--part",
    required=True,
    type=click.Choice(["waiting", "first-start", "afterwards", "handover"]),
    help="Which guide.",
)
@_bench
@_json
def guide(what: str, part: str, bench: str, as_json: bool) -> None:
    """Say what the window's guides say: waiting, the first start, what follows, and what is looked at before handover.

    Example: neogenesis guide petrel-14.machine.json --part waiting
    """
    from neogenesis.bench.records.guides import guide_of
    from neogenesis.core.units import duration_text

    found = guide_of(what, part, bench)  # type: ignore[arg-type]
    if as_json:
        click.echo(to_json(found).decode(), nl=False)
        return
    for item in found.items:
        span = f"  ({duration_text(item.seconds_p10)} to {duration_text(item.seconds_p90)})" if item.seconds_p90 else ""
        click.echo(f"{item.text}{span}" + (f"  seen: {item.settled_by}" if item.settled_by else ""))


COMMANDS = (take_in, note, guide)
