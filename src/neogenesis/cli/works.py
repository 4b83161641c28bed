"""Commands of long works: running a plan, imaging, restoring, rescuing, copying files out, and reading back."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from neogenesis.cli.answer import Answer
from neogenesis.cli.consenting import agreed, event_places, keeps_records, refuse_unasked, writes_to_drives
from neogenesis.cli.house import say
from neogenesis.cli.options import (
    INTENTS,
    Intent,
    a_path,
    as_json_record,
    grows,
    growth,
    relocates,
    resumes,
    source_now,
    takes_map,
    target_now,
    tells_events,
    the_drive,
    verifies,
    with_answer,
)
from neogenesis.cli.terminal import Terminal, is_watched
from neogenesis.core.drive import Drive
from neogenesis.core.errors import BadArgument, OnlyChecked, Partial
from neogenesis.core.units import both_text, files_text, parse_size

if TYPE_CHECKING:  # each command loads what it works with
    from neogenesis.bench.works import imaging, rescuing
    from neogenesis.core.transfer import Verify


@click.command()
@click.argument("plan_file", metavar="PLAN", type=a_path)
@writes_to_drives
@resumes
@verifies
@tells_events
@source_now
@target_now
@click.option(
    "--unused-since", is_flag=True, help="With --resume: say that nobody used the old drive since; it is not compared."
)
@click.option("--power-off", is_flag=True, help="Switch the new drive off when it is done.")
@as_json_record
@with_answer
def transfer(
    answer: Answer,
    plan_file: Path,
    tails: tuple[str, ...],
    confirmed: tuple[Path, ...],
    check: bool,
    bench: str,
    resume: bool,
    verify: Verify,
    events: str | None,
    now_source: str | None,
    now_target: str | None,
    unused_since: bool,
    power_off: bool,
    as_json: bool,
) -> None:
    """Run a plan."""
    from neogenesis.bench.works import planning, transferring
    from neogenesis.core.transfer import RunFiles

    refuse_unasked(tails, confirmed, check)
    plan, files = planning.load_plan(plan_file), RunFiles(plan_file)
    new, old = plan.target.drive, plan.source.survey.drive.path
    target = new.path if new is not None else ""
    work = planning.hash_of(plan)
    held = {one.target.drive.path: one for one in (plan, *plan.also) if one.target.drive is not None}

    def holds(name: str) -> tuple[Drive, Sequence[str], str]:
        drive = held[name].target.drive
        return drive or Drive(path=name, size_bytes=0, sector_size=512), held[name].target.holds, work

    consent, *fellows = agreed(list(held) or [target], tails, confirmed, check, bench, holds=holds if held else None)
    olds = [one.source.survey.drive.path for one in plan.also]
    places = event_places(events, as_json, [old, *olds, *held, now_source or "", now_target or ""], bench)
    found = transferring.Found(now_source, now_target)
    outcome = transferring.run_transfer(plan_file, consent, resume, verify, places, found, unused_since, fellows)
    copied, read_back = both_text(outcome.copied_bytes), both_text(outcome.verified_bytes)
    answer.end(
        status="lost" if outcome.lost else "done",
        code="finished" if outcome.finished_before else "",
        text=f"Copied {copied}, read back {read_back}.",
        source=old,
        target=target,
        copied_bytes=outcome.copied_bytes,
        verified_bytes=outcome.verified_bytes,
        verified=verify if outcome.verified_bytes else "none",
        lost=outcome.lost,
        lost_files=outcome.lost_files,
        seconds=round(outcome.seconds, 3),
        paused_seconds=round(outcome.paused_seconds, 3),
        records=(files.manifest, files.regions, files.journal, files.events, files.names),
    )
    if not _quiet(events, as_json):
        if outcome.finished_before:
            click.echo(f"It is finished: the new drive holds it. Copied {copied}, read back {read_back}.")
        else:
            click.echo(f"Copied {copied}, read back {read_back}. Manifest: {files.manifest}")
    if power_off:
        from neogenesis.bench.drives import make_safe

        parting = make_safe(now_target or target)
        if not _quiet(events, as_json):
            click.echo(parting.text)
    _say_lost(outcome.lost, files.regions)


@click.command()
@click.argument("record", metavar="PLAN|MANIFEST", type=a_path)
@click.argument("drive", required=False)
@target_now
@as_json_record
@with_answer
def verify(answer: Answer, record: Path, drive: str | None, now_target: str | None, as_json: bool) -> None:
    """Read a drive back against the recorded checksums."""
    from neogenesis.bench.works import imaging
    from neogenesis.core.transfer import RunFiles

    path = record
    if not record.name.endswith(".manifest.json") and RunFiles(record).manifest.exists():
        path = RunFiles(record).manifest
    place = now_target or drive
    if place is None:
        raise BadArgument("The drive to read back is missing.", "Name it, or say with --target where it is now.")
    terminal = Terminal()
    tell = (lambda done, total: terminal.count("reading back", done, total)) if is_watched() else (lambda *_: None)
    done = imaging.verify_record(path, place, tell)
    text = f"{both_text(done)} are exactly what was written."
    answer.end(text=text, target=place, verified_bytes=done, verified="full", records=(path,))
    if not as_json:
        click.echo(text)


@click.command()
@the_drive
@click.argument("out", metavar="OUT.qcow2", type=a_path)
@click.option("--level", type=click.IntRange(1, 19), default=1, show_default=True, help="How hard to compress.")
@click.option("--part-size", metavar="SIZE", help="Keep it in files of that size, such as 4000MiB for small media.")
@verifies
@takes_map
@click.option("--check-all", is_flag=True, help="Read all back that an interrupted image holds, before going on.")
@tells_events
@keeps_records
@as_json_record
@with_answer
def image(
    answer: Answer,
    drive: str,
    out: Path,
    level: int,
    part_size: str | None,
    verify: Verify,
    region_map: Path | None,
    check_all: bool,
    events: str | None,
    bench: str,
    check: bool,
    run: str,
    as_json: bool,
) -> None:
    """Image a drive: used blocks only, read back, with a manifest; resumable."""
    from neogenesis.bench.works import imaging
    from neogenesis.core.image.make import ImageFiles

    parts = parse_size(part_size) if part_size else None
    places = event_places(events, as_json, [drive, str(out)], bench)
    done = imaging.make_image(drive, out, level, parts, places, bench, check, run, verify, check_all, region_map)
    answer.end(
        status="lost" if done.lost else "done",
        text=f"Imaged {both_text(done.read_bytes)} in use into {both_text(done.file_bytes)}.",
        source=drive,
        target=str(out),
        copied_bytes=done.read_bytes,
        verified_bytes=done.verified_bytes,
        verified=verify if done.verified_bytes else "none",
        lost=done.lost,
        seconds=round(done.seconds, 3),
        paused_seconds=round(done.paused_seconds, 3),
        records=(ImageFiles(out).manifest,),
    )
    if not _quiet(events, as_json):
        read, size = both_text(done.read_bytes), both_text(done.file_bytes)
        checked = f"read back {both_text(done.verified_bytes)}" if done.verified_bytes else "read nothing back"
        click.echo(f"Imaged {read} in use into {size}, {checked}. Manifest: {ImageFiles(out).manifest}")
    _say_lost(done.lost, ImageFiles(out).manifest)


@click.command()
@click.argument("image_file", metavar="OUT.qcow2")
@click.argument("targets", metavar="TARGET...", nargs=-1, required=True)
@writes_to_drives
@click.option(
    "--intent",
    type=click.Choice(INTENTS),
    default="exact",
    show_default=True,
    help="exact, or replace to resize as by a plan.",
)
@grows
@relocates
@resumes
@verifies
@tells_events
@source_now
@click.option("--target", "now_targets", metavar="PATH", multiple=True, help="The new drive is here now, one for each.")
@as_json_record
@with_answer
def restore(
    answer: Answer,
    image_file: str,
    targets: tuple[str, ...],
    tails: tuple[str, ...],
    confirmed: tuple[Path, ...],
    check: bool,
    bench: str,
    intent: Intent,
    grow: str,
    relocate_table: bool,
    resume: bool,
    verify: Verify,
    events: str | None,
    now_source: str | None,
    now_targets: tuple[str, ...],
    as_json: bool,
) -> None:
    """Put an image onto one or several drives, reading it once."""
    from neogenesis.bench.works import imaging
    from neogenesis.core.plan import Policy

    policy = Policy(intent=intent, grow=growth(grow), relocate_table=relocate_table)
    image_now, onto = now_source or image_file, now_targets or targets
    if len(onto) != len(targets):
        raise BadArgument(f"{len(targets)} targets need as many --target.", "Say of each where it is now.")
    imaging.refuse_one_drive_twice(onto)
    consents = agreed(onto, tails, confirmed, check, bench, imaging.restore_work(Path(image_now), policy))
    places = event_places(events, as_json, [image_now, *onto], bench)
    found = imaging.restore_image(image_now, onto, consents, policy, resume, verify, places)
    if check:
        raise OnlyChecked
    _answer_restored(answer, found, image_now, verify)
    _say_restored(found, quiet=_quiet(events, as_json))


def _answer_restored(answer: Answer, found: Sequence[imaging.Restored], image_file: str, verify: Verify) -> None:
    """The first fault counts for all; what became of each stands on standard output without --json."""
    done = [one.outcome for one in found if one.outcome is not None]
    if len(done) == len(found):
        answer.end(
            status="lost" if any(one.lost for one in done) else "done",
            text=f"Put onto {len(found)} drive{'s' * (len(found) != 1)}.",
            source=image_file,
            target=", ".join(one.target for one in found),
            copied_bytes=sum(one.copied_bytes for one in done),
            verified_bytes=sum(one.verified_bytes for one in done),
            verified=verify if any(one.verified_bytes for one in done) else "none",
            lost=next((one.lost for one in done if one.lost), ()),
            lost_files=found[0].lost_files,
            records=[place for one in found if (of := one.records) is not None for place in (of.manifest, of.regions)],
            seconds=round(max(one.seconds for one in done), 3),
            paused_seconds=round(max(one.paused_seconds for one in done), 3),
        )


def _say_restored(found: Sequence[imaging.Restored], quiet: bool) -> None:
    """What became of each target; raises the first fault with the names of all that dropped out."""
    for one in found:
        if one.outcome is not None and not quiet:
            click.echo(
                f"{one.target}: copied {both_text(one.outcome.copied_bytes)}, "
                f"read back {both_text(one.outcome.verified_bytes)}."
            )
            for caution in one.cautions:
                click.echo(f"  {caution}")
    failed = [one for one in found if one.error is not None]
    if failed and failed[0].error is not None:
        worst = failed[0].error
        names = ", ".join(one.target for one in failed)
        if len(found) > 1:
            others = f" The other {len(found) - len(failed)} are done." if len(failed) < len(found) else ""
            worst.text = f"{names} dropped out: {worst.text}{others}"
        raise worst
    for one in found:
        if one.outcome is not None and one.records is not None:
            _say_lost(one.outcome.lost, one.records.regions)


@click.command()
@the_drive
@click.argument("target")
@click.option("--map", "map_file", type=a_path, required=True, help="The region map; a rescue goes on from it.")
@writes_to_drives
@click.option("--passes", default="", help="Some of matters,out,back,rest,edges,singles,again=N.")
@tells_events
@source_now
@target_now
@as_json_record
@with_answer
def rescue(
    answer: Answer,
    drive: str,
    target: str,
    map_file: Path,
    tails: tuple[str, ...],
    confirmed: tuple[Path, ...],
    check: bool,
    bench: str,
    passes: str,
    events: str | None,
    now_source: str | None,
    now_target: str | None,
    as_json: bool,
) -> None:
    """Get what can be had from a failing drive; resumable."""
    from neogenesis.bench.works import rescuing
    from neogenesis.core.system import LostFile

    names, times_again = rescuing.parse_passes(passes)
    old, new = now_source or drive, now_target or target
    consent = agreed([new], tails, confirmed, check, bench)[0]
    places = event_places(events, as_json, [old, new], bench)
    moved = now_source is not None or now_target is not None
    done = rescuing.rescue_drive(old, new, map_file, consent, names, times_again, places, moved)
    missed = done.lost_bytes + done.open_bytes
    answer.end(
        status="lost" if missed else "done",
        text=f"Rescued {both_text(done.read_bytes)}; lost {both_text(done.lost_bytes)}.",
        source=old,
        target=new,
        copied_bytes=done.read_bytes,
        lost=done.lost,
        lost_files=[LostFile.of(file) for file in done.touched],
        records=(map_file, done.names),
    )
    if not _quiet(events, as_json):
        _say_rescued(done, map_file)
    if missed:
        more = f"; {len(done.touched)} files lost something, listed in {done.names}" if done.touched else ""
        raise Partial(
            f"Done, but {missed} bytes of the old drive could not be read{more}.",
            f"{map_file} lists the ranges; the same command tries again.",
        )


def _say_rescued(done: rescuing.Rescued, map_file: Path) -> None:
    click.echo(
        f"Rescued {both_text(done.read_bytes)}; lost {both_text(done.lost_bytes)}; "
        f"not yet tried or postponed {both_text(done.open_bytes)}. Map: {map_file}"
    )
    for file in done.touched[:20]:
        click.echo(f"  partition {file.partition}: {file.path} lost {file.touched_bytes} of {file.size_bytes} bytes")


@click.command()
@the_drive
@click.argument("dest", type=a_path)
@click.option("--volume", type=int, help="Only this partition.")
@click.option("--include", metavar="GLOB", multiple=True, help="Only files that fit, such as '*.jpg'.")
@click.option("--exclude", metavar="GLOB", multiple=True, help="Leave out files that fit.")
@takes_map
@tells_events
@keeps_records
@as_json_record
@with_answer
def salvage(
    answer: Answer,
    drive: str,
    dest: Path,
    volume: int | None,
    include: tuple[str, ...],
    exclude: tuple[str, ...],
    region_map: Path | None,
    events: str | None,
    bench: str,
    check: bool,
    run: str,
    as_json: bool,
) -> None:
    """Copy files out of a drive with their checksums; resumable."""
    from neogenesis.bench.works import rescuing
    from neogenesis.core.system import LostFile, not_here_lines

    quiet = _quiet(events, as_json)

    def tell(kinds: Sequence[tuple[str, int, int]]) -> None:
        for kind, count, size in () if quiet else kinds:
            click.echo(f"{kind:<18} {count:>8} files  {both_text(size)}")

    places = event_places(events, as_json, [drive], bench)
    done = rescuing.salvage_files(drive, dest, volume, include, exclude, tell, places, check, run, region_map)
    answer.end(
        status="done" if done.is_whole else "lost",
        text=f"Copied {done.files} files, {both_text(done.bytes)}.",
        source=drive,
        target=str(dest),
        copied_bytes=done.bytes,
        lost=done.lost,
        lost_files=[LostFile(path=s.path, kind="file") for s in done.incomplete],
        not_here=done.not_here,
        not_here_bytes=done.not_here_bytes,
        records=(dest / "salvage.json", dest / "salvage.jsonl"),
    )
    if not quiet:
        click.echo(
            f"Copied {done.files} files, {both_text(done.bytes)}, to {dest}; checksums in {dest / 'salvage.jsonl'}"
        )
        for text in done.not_read:
            click.echo(f"  left out: {text}")
        for line in not_here_lines(done.not_here):
            click.echo(f"  {line}")
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
    if done.lost:
        missing = sum(end - start for start, end in done.lost)
        raise Partial(
            f"Done, and every file that is named was read whole, but {both_text(missing)} of the lists of files could "
            f"not be read: files may be missing that nothing names any more.{renamed}",
            "Try the old drive once more, or look for them in a backup.",
        )
    if done.not_here:
        raise Partial(
            f"Done, but the data of {files_text(len(done.not_here))} ({both_text(done.not_here_bytes)}) is not here: "
            f"{done.not_here[0].path}{' and others' * (len(done.not_here) > 1)}.{renamed}",
            f"{dest / 'salvage.json'} lists them all; they are to be had where they are, before the account is gone.",
        )
    if renamed:
        say(renamed)


def _quiet(events: str | None, as_json: bool) -> bool:
    """Whether standard output belongs to something else than sentences."""
    return as_json or events == "-"


def _say_lost(lost: tuple[tuple[int, int], ...], record: Path) -> None:
    """End with status 4 when ranges of the source could not be read."""
    if lost:
        ranges = ", ".join(f"{start}-{end}" for start, end in lost[:8])
        more = f" and {len(lost) - 8} more" if len(lost) > 8 else ""
        raise Partial(
            f"Done, but these bytes of the old drive could not be read: {ranges}{more}.",
            f"They stand as zeros on the new drive; {record} lists them all.",
        )


COMMANDS = (transfer, verify, image, restore, rescue, salvage)
