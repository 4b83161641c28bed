"""Commands about drives and about the records of a bench.

What opens the records is imported by the commands that need it: it takes longer than all the rest together.
"""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from datetime import date
from pathlib import Path
from typing import Any

import click

from neogenesis.bench.drives import Connected, connected_drives, known_files
from neogenesis.bench.drives.diagnosis import health_of, reading_of
from neogenesis.bench.drives.docks import SimulatedDocks
from neogenesis.bench.register import allow_output, existing_register
from neogenesis.bench.works.planning import load_plan
from neogenesis.cli.options import bench_option
from neogenesis.core.drive import Health, Sighting, judge
from neogenesis.core.drive.holding import Holding, holding
from neogenesis.core.errors import BadArgument, NeogenesisError
from neogenesis.core.record import to_json
from neogenesis.core.transfer import RunFiles
from neogenesis.core.units import both_text

_bench = click.option("--bench", metavar="FOLDER|URL", default="", help="Which bench; without it, this person's own.")
_force = click.option("--force", is_flag=True, help="Replace a file that is none of ours; never a drive or an image.")
_json = click.option("--json", "as_json", is_flag=True, help="Print JSON.")
_MOST_AT_ONCE = 16


@click.command()
@click.option("--bench", metavar="FOLDER", default="", help="Drives of a simulated bench instead of this machine's.")
@_json
def drives(bench: str, as_json: bool) -> None:
    """List every drive that is connected, and whether it may ever be written to.

    Example: neogenesis drives --json
    """
    found = _simulated(Path(bench)) if bench else connected_drives()
    with ThreadPoolExecutor(_MOST_AT_ONCE) as pool:
        healths = list(pool.map(_health, found))
    holdings = _holdings(bench)
    rows = [_drive_row(one, health, holdings) for one, health in zip(found, healths, strict=True)]
    if as_json:
        click.echo(to_json({"schema": "neogenesis.drives/1", "drives": rows}).decode(), nl=False)
        return
    for row in rows:
        other = row["held_by"] or ("" if row["may_be_target"] else "read-only")
        use = f"in use: {row['in_use']}" if row["in_use"] else other
        name = " ".join(filter(None, (row["model"], row["serial"])))
        click.echo(f"{row['path']:<16} {both_text(row['size_bytes']):<24} {row['bus']:<9} {name:<32} {use}".rstrip())
        click.echo(f"{'':<16} {row['health']['verdict']}: {'; '.join(row['health']['reasons'])}".rstrip(": "))
    if not rows:
        click.echo("No drive is connected.")


def _simulated(folder: Path) -> list[Connected]:
    if not (folder / "docks.json").exists():
        raise BadArgument(f"There are no docks in “{folder}”.", "Name the folder of a demo bench.")
    return [
        Connected(drive=docked.drive, in_use="this machine" if docked.drive.mounted else "", removable=True)
        for docked in SimulatedDocks(folder).drives()
    ]


def _health(one: Connected) -> Health:
    try:
        return judge(reading_of(one.drive.path))
    except NeogenesisError:
        return judge(None)


def _holdings(bench: str) -> list[Holding]:
    """Whose drives are, as the register has it: of the bench that is simulated, or of this person's own."""
    register = existing_register(str(Path(bench) / "bench") if bench else "")
    if register is None:
        return []
    with closing(register):
        return register.holdings()


def _drive_row(one: Connected, health: Health, holdings: list[Holding]) -> dict[str, Any]:
    drive = one.drive
    sighting = Sighting(drive.identity, "", known_files(drive.path))
    held = holding(sighting, holdings, date.today())
    return {
        "path": drive.path,
        "model": drive.model,
        "serial": drive.serial,
        "size_bytes": drive.size_bytes,
        "sector_size": drive.sector_size,
        "bus": drive.bus,
        "timeout_s": drive.timeout_s,
        "rotational": drive.rotational,
        "removable": one.removable,
        "in_use": one.in_use or None,
        "may_be_target": one.may_be_target and not any(h.seals for h in held),
        "held_by": held[0].text() if held else None,
        "health": {"verdict": health.verdict, "reasons": [reason.text for reason in health.reasons]},
    }


@click.command()
@click.argument("drive", metavar="DRIVE|READING.json")
@_json
def health(drive: str, as_json: bool) -> None:
    """Say what a drive's own readings mean.

    Example: smartctl --json --all /dev/sdb > old.json; neogenesis health old.json
    """
    found = health_of(drive)
    if as_json:
        click.echo(to_json(found).decode(), nl=False)
        return
    click.echo(found.verdict + (": image it first, gently" if found.image_first else ""))
    for reason in found.reasons:
        limit = f" (threshold {reason.threshold:g})" if reason.threshold is not None else ""
        click.echo(f"  {reason.text}{limit}")
    known = {"°C": found.temperature_c, "hours": found.hours, "% of its rated writes left": found.remaining_percent}
    for unit, value in known.items():
        if value is not None:
            click.echo(f"  {value:g} {unit}")


@click.command()
@_bench
@_json
def jobs(bench: str, as_json: bool) -> None:
    """List the jobs of a bench, open ones first.

    Example: neogenesis jobs --bench ~/shop --json
    """
    from neogenesis.bench.records.opening import existing_records

    store = existing_records(bench)
    try:
        found = store.jobs()
    finally:
        store.close()
    if as_json:
        names = ("ticket", "customer", "machine", "promise", "stop", "closed")
        rows = [{name: getattr(job, name) for name in names} for job in found]
        click.echo(to_json({"schema": "neogenesis.jobs/1", "jobs": rows}).decode(), nl=False)
        return
    for job in found:
        state = "handed over" if job.closed else job.stop
        click.echo(f"{job.ticket:<10} {state:<12} {job.promise:<18} {job.customer:<24} {job.machine}".rstrip())
    if not found:
        click.echo("There are no jobs yet.")


@click.command()
@click.argument("ticket")
@_bench
@_json
def log(ticket: str, bench: str, as_json: bool) -> None:
    """Print a job's logbook, and say where it was changed afterwards.

    Example: neogenesis log T-1041 --json
    """
    from neogenesis.bench.records.opening import existing_records

    store = existing_records(bench)
    try:
        store.job(ticket)
        entries, broken = store.log(ticket), store.broken_entry(ticket)
    finally:
        store.close()
    if as_json:
        rows = {"schema": "neogenesis.log/1", "ticket": ticket, "entries": entries, "broken_entry": broken}
        click.echo(to_json(rows).decode(), nl=False)
        return
    for entry in entries:
        click.echo(f"{entry.number:>4}  {entry.at}  {entry.who}  {entry.text}")
    if broken is not None:
        click.echo(f"Entry {broken} was changed after it was made: the seals do not fit from there on.")


@click.command()
@click.argument("ticket")
@click.argument("out", metavar="OUT.pdf", type=click.Path(path_type=Path))
@_force
@_bench
def report(ticket: str, out: Path, force: bool, bench: str) -> None:
    """Print the customer's report of a finished job.

    Example: neogenesis report T-1041 report.pdf
    """
    from neogenesis.bench.records.opening import existing_records
    from neogenesis.core.intake import load_intake
    from neogenesis.core.job import load_shop, report_from_records

    allow_output(out, "paper", bench=bench, force=force)
    store = existing_records(bench)
    try:
        job, entries, dossier = store.job(ticket), store.log(ticket), store.dossier(ticket)
        shop, taken_in = load_shop(store.folder), load_intake(dossier)
    finally:
        store.close()
    path = dossier / "plan.json"
    manifest = RunFiles(path).manifest
    plan = load_plan(path) if manifest.exists() else None
    made = report_from_records(job, plan, manifest, entries, taken_in)
    if made is None:
        raise BadArgument(f"Nothing has ended yet in {ticket}.", "A report is made from what was done.")
    os.environ["QT_QPA_PLATFORM"] = "offscreen"  # drawn on paper, not on a screen
    from PyQt6.QtWidgets import QApplication

    from neogenesis.app.handover.report_print import write_report

    application = QApplication(["neogenesis"])
    write_report(made, plan, out, None, shop)
    application.quit()
    click.echo(f"Report written to {out}")


@click.command()
@click.argument("ticket")
@_bench
@_json
def intake(ticket: str, bench: str, as_json: bool) -> None:
    """Print what was asked, read off and measured when a machine was taken in, and what is still to ask.

    Example: neogenesis intake T-1042
    """
    from neogenesis.bench.records.opening import existing_records
    from neogenesis.bench.records.profiles import known_machines
    from neogenesis.core.intake import load_intake, still_to_ask
    from neogenesis.core.job import make_slip
    from neogenesis.core.machine import machine_on_plate

    store = existing_records(bench)
    try:
        job, found = store.job(ticket), load_intake(store.dossier(ticket))
        machines, _ = known_machines(store.folder)
    finally:
        store.close()
    match = machine_on_plate(found.plate.make, found.plate.model, machines)
    asks = still_to_ask(found, match, job.promise)
    if as_json:
        rows = [{"code": a.code, "text": a.text, "severity": a.severity} for a in asks]
        click.echo(to_json({"schema": found.SCHEMA, "intake": found, "still_to_ask": rows}).decode(), nl=False)
        return
    slip = make_slip(job, found)
    click.echo(f"{slip.title}: {slip.subtitle}")
    for section in slip.sections:
        click.echo(section.heading)
        for line in (*section.sentences, *(f"{name}: {value}" for name, value in section.rows)):
            click.echo(f"  {line}")
    if asks:
        click.echo(f"Still to ask: {'; '.join(a.text for a in asks)}")


@click.command()
@click.argument("ticket")
@click.argument("out", metavar="OUT.pdf", type=click.Path(path_type=Path))
@_force
@_bench
def slip(ticket: str, out: Path, force: bool, bench: str) -> None:
    """Print the intake slip that the customer signs.

    Example: neogenesis slip T-1042 slip.pdf
    """
    from neogenesis.bench.records.opening import existing_records
    from neogenesis.core.intake import load_intake
    from neogenesis.core.job import load_shop, make_slip

    allow_output(out, "paper", bench=bench, force=force)
    store = existing_records(bench)
    try:
        job, found, shop = store.job(ticket), load_intake(store.dossier(ticket)), load_shop(store.folder)
    finally:
        store.close()
    os.environ["QT_QPA_PLATFORM"] = "offscreen"  # drawn on paper, not on a screen
    from PyQt6.QtWidgets import QApplication

    from neogenesis.app.handover.report_print import write_slip

    application = QApplication(["neogenesis"])
    write_slip(make_slip(job, found), out, shop)
    application.quit()
    click.echo(f"Slip written to {out}")


@click.command("bug-report")
@click.argument("ticket", required=False, default="")
@click.option("-o", "out", default="neogenesis-bug-report.zip", show_default=True, type=click.Path(path_type=Path))
@_force
@_bench
def bug_report(ticket: str, out: Path, force: bool, bench: str) -> None:
    """Bundle versions, logs and the outline of a job, without the customer's data.

    Example: neogenesis bug-report T-1042 -o fault.zip
    """
    from neogenesis.bench.records.bug_report import write_bug_report
    from neogenesis.bench.records.opening import existing_records

    allow_output(out, "bundle", bench=bench, force=force)
    store = existing_records(bench) if ticket else None
    try:
        names = write_bug_report(out, store, ticket)
    finally:
        if store is not None:
            store.close()
    click.echo(f"Written to {out}: {', '.join(names)}")


@click.command()
@bench_option
@click.option("--json", "as_json", is_flag=True, help="Print what was found as JSON.")
def doctor(bench: str, as_json: bool) -> None:
    """Say what this machine can do for the bench, what will not work on it, and how that is had.

    Example: neogenesis doctor
    """
    from neogenesis.bench.inside.doctor import examine

    found = examine(bench)
    if as_json:
        click.echo(to_json(found).decode(), nl=False)
        return
    for item in found.items:
        click.echo(f"{' ' if item.ok else '!'} {item.text} {item.do}".rstrip())


COMMANDS = (doctor, drives, health, jobs, log, intake, slip, report, bug_report)
