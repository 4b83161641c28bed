"""How a person agrees to a work on the command line: options that all writing commands share."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any, TypeVar

import click

from neogenesis.bench.drives import confirm_tail, open_sealed
from neogenesis.bench.processes.telling import EventsTo
from neogenesis.bench.register import Consent, allow_output, whose_drive
from neogenesis.cli.house import say
from neogenesis.cli.options import bench_option
from neogenesis.cli.terminal import Terminal, is_watched
from neogenesis.core.drive import Drive
from neogenesis.core.errors import BadArgument
from neogenesis.core.record import load
from neogenesis.core.work import Confirmation

F = TypeVar("F", bound=Callable[..., Any])

check_option = click.option("--check", is_flag=True, help="Ask every gate and write nothing: 0, or 3 with the reason.")


def writes_to_drives(command: F) -> F:
    """Add what every command that writes to drives takes: `confirm`, `confirmed`, `check` and `bench`."""
    for option in (
        bench_option,
        check_option,
        click.option(
            "--confirmed",
            metavar="FILE",
            multiple=True,
            type=click.Path(path_type=Path),
            hidden=True,
            help="The record of a confirmation that the window made, one for each drive.",
        ),
        click.option(
            "--confirm",
            "tails",
            metavar="TAIL",
            multiple=True,
            help="How each drive's serial or name ends: last four.",
        ),
    ):
        command = option(command)
    return command


def keeps_records(command: F) -> F:
    """Add what works take that write to files and to no drive: `bench`, `check` and `run`."""
    named = click.option("--run", default="", hidden=True, help="The name of this run in the records.")
    return bench_option(check_option(named(command)))


def refuse_unasked(tails: Sequence[str], confirmed: Sequence[Path], check: bool) -> None:
    """Raises BadArgument where nothing was agreed to, and nobody is there to be asked."""
    if not (tails or confirmed or check or sys.stdin.isatty()):
        raise BadArgument("To write, a drive needs --confirm.", "Read its tail off the drive.")


def agreed(
    drives: Sequence[str],
    tails: Sequence[str],
    confirmed: Sequence[Path],
    check: bool,
    bench: str,
    work: str = "",
    holds: Callable[[str], tuple[Drive, Sequence[str], str]] | None = None,
) -> list[Consent]:
    """What was agreed to, for each drive in its order. Raises BadArgument for another number of tails.

    Without a tail, a person at a terminal is told whose drive it is and asked for it; `holds` says so of a drive.
    """
    records = [load(path, Confirmation, "confirmation") for path in confirmed]
    base = Consent(bench=bench, check_only=check, work=work, announce=(lambda text: None) if confirmed else say)
    wanted: Sequence[str | None] = tails
    if not tails and (check or records):
        wanted = [None] * len(drives)
    elif not tails and sys.stdin.isatty():
        wanted = [_asked(drive, holds) for drive in drives]
    if len(wanted) != len(drives):
        count = len(drives)
        what = (
            "a drive needs --confirm" if count == 1 else f"{count} drives need {count} times --confirm, in their order"
        )
        raise BadArgument(f"To write, {what}; there {_are(len(wanted))}.", "Read each tail off its drive.")
    return base.each(wanted, records)


def _are(count: int) -> str:
    return {0: "is none", 1: "is one"}.get(count, f"are {count}")


def _asked(name: str, holds: Callable[[str], tuple[Drive, Sequence[str], str]] | None) -> str:
    if holds is not None:
        say(whose_drive(*holds(name)))
    else:
        with closing(open_sealed(name, grip="look")) as looked:
            drive = looked.drive
        say(f"Writing to {drive.model or name} {drive.serial}, which ends in {'*' * len(confirm_tail(drive))}.")
    return str(click.prompt("Type how it ends, to confirm", err=True, prompt_suffix=": "))


def event_places(events: str | None, as_json: bool, drives: Sequence[str], bench: str) -> list[EventsTo]:
    """Where --events sends them; without it, to the terminal that a person sits at. Raises BadArgument or Refused."""
    if events is None:
        return [EventsTo("terminal", listener=Terminal().hear)] if is_watched() else []
    if events == "-" and as_json:
        raise BadArgument("--json and --events - both want standard output.", "Send the events to a file.")
    if events != "-":
        allow_output(Path(events), "events", [drive for drive in drives if drive], bench)
    return [EventsTo(events)]
