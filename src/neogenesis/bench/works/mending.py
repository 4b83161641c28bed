"""Remedies on drives that are connected: shown beforehand, recorded before they are written, put back byte for byte."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from itertools import count
from pathlib import Path
from typing import Literal

import msgspec
from blake3 import blake3
from msgspec.structs import replace

from neogenesis.bench.drives import confirm_tail, insertion_of, known_files, open_sealed
from neogenesis.bench.inside.booting import boot_drives, in_slots, read_boot_machine
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.processes.scratch import scratch
from neogenesis.bench.processes.telling import EventsTo
from neogenesis.bench.processes.work import Running, run_work
from neogenesis.bench.register import Asked, Consent, allow_output, claimed, open_register
from neogenesis.bench.works.planning import load_plan
from neogenesis.bench.works.undo_record import PIECE, UndoRecord, check_record, in_pieces, record_of, what_is_held
from neogenesis.bench.works.volume_tools import VolumeTools
from neogenesis.core.boot import BootDrive, Forecast, forecast
from neogenesis.core.boot.forecast import entries_lost
from neogenesis.core.boot.planned import planned_drive
from neogenesis.core.boot.remedies import remedies_for, remedy_for
from neogenesis.core.boot.remedy import (
    BESIDE_THE_CHAIN,
    After,
    Remedies,
    Remedy,
    RemedyRow,
    checked_code,
    helps,
    is_worse,
)
from neogenesis.core.drive import Drive, Identity, Sighting, refuse_wrong_tail
from neogenesis.core.errors import BadArgument, Mismatch, NeogenesisError, Refused
from neogenesis.core.machine import Machine
from neogenesis.core.record import load, save
from neogenesis.core.store import OverlayStore, ReadableStore, WritableStore
from neogenesis.core.survey import Survey, survey_drive
from neogenesis.core.work import work_hash

_WINDOW, _MOST_BYTES, _MOST_RECORDS = 4 << 20, 256 << 20, 500
#: What may be done to an old drive that stays in the machine: it gets an identity of its own.
_OF_OLD = ("restamp-table", "restamp-volume")


@contextmanager
def _worked_out(remedy: Remedy) -> Iterator[tuple[list[tuple[int, bytes, bytes]], OverlayStore]]:
    """What the remedy changes, as (place, before, after) in whole pieces, with the overlay on which it was found."""
    base = remedy.drive.store
    with scratch("mend") as folder:
        overlay = OverlayStore(base, folder / "overlay", base.size_bytes)
        try:
            remedy.do(overlay, VolumeTools(ids_of(remedy.drive)))
            yield list(_differences(base, overlay)), overlay
        finally:
            overlay.close()


def _differences(base: ReadableStore, overlay: OverlayStore) -> Iterator[tuple[int, bytes, bytes]]:
    """Whole pieces that differ; neighbouring ones are joined."""
    held: tuple[int, bytearray, bytearray] | None = None
    total = 0
    for start, end in overlay.changed:
        for place in range(start, end, _WINDOW):
            before = base.read(place, min(_WINDOW, end - place))
            after = overlay.read(place, len(before))
            for at in range(0, len(before), PIECE):
                old, new = before[at : at + PIECE], after[at : at + PIECE]
                if old == new:
                    continue
                total += len(new)
                if total > _MOST_BYTES:
                    text = "The remedy would change too much; nothing was written."
                    raise Refused("remedy", text, "Copy anew instead.")
                if held is None or held[0] + len(held[1]) != place + at:
                    if held is not None:
                        yield held[0], bytes(held[1]), bytes(held[2])
                    held = (place + at, bytearray(), bytearray())
                held[1].extend(old)
                held[2].extend(new)
    if held is not None:
        yield held[0], bytes(held[1]), bytes(held[2])


def remedies_of(names: Sequence[str], machine_path: Path | None) -> Remedies:
    """What could be mended, each with every byte that it would change. Raises NeogenesisError."""
    machine = read_boot_machine(machine_path)
    placed = in_slots(names, machine, machine_path.parent if machine_path is not None else None)
    with boot_drives(placed) as drives:
        before = forecast(drives, machine)
        rows = [
            one.row for remedy in remedies_for(drives, machine, ids_of) if (one := _judged(drives, remedy, machine))
        ]
        return Remedies(remedies=tuple(r for r in rows if _is_offered(r, before)))


@dataclass(frozen=True, slots=True)
class _Judged:
    """One remedy with what would start after it; None where it cannot be done."""

    row: RemedyRow
    after: Forecast | None = None


def _judged(drives: Sequence[BootDrive], remedy: Remedy, machine: Machine | None) -> _Judged | None:
    """What it would change and bring; one that fails says why, and hides no other. None where it changes nothing."""
    try:
        with _worked_out(remedy) as (changes, overlay):
            after, lost = _with_mended(drives, remedy.drive, overlay, machine) if changes else (None, ())
    except NeogenesisError as error:
        return _Judged(replace(_row(remedy, ()), undo=False, cannot=error.text))
    if not changes or after is None:
        return None
    told = After(starts=after.starts, breaks_at=after.breaks_at)
    return _Judged(replace(_row(remedy, changes), after=told, entries_lost=lost), after)


def _is_offered(row: RemedyRow, before: Forecast) -> bool:
    """What cannot be done is said where it would be needed."""
    if row.after is None:
        return before.starts is not True or row.code in BESIDE_THE_CHAIN
    after = replace(before, starts=row.after.starts, breaks_at=row.after.breaks_at)
    return helps(row.code, before, after)


@dataclass(frozen=True, slots=True)
class BootLook:
    """What would start, what could be mended, and what would start then, by the code of the remedy."""

    forecast: Forecast
    remedies: tuple[RemedyRow, ...]
    mended: dict[str, Forecast]


def look_at_start(names: Sequence[str], machine: Machine | None) -> BootLook:
    """For the window: drives in the order of their slots. Nothing is written. Raises NeogenesisError."""
    rows, mended = [], dict[str, Forecast]()
    with boot_drives([(name, "") for name in names]) as drives:
        found = forecast(drives, machine)
        for remedy in remedies_for(drives, machine, ids_of):
            one = _judged(drives, remedy, machine)
            if one is None or not _is_offered(one.row, found):
                continue
            rows.append(one.row)
            if one.after is not None:
                mended[f"{remedy.code} {remedy.drive.name}"] = one.after
    return BootLook(found, tuple(rows), mended)


def look_at_plan(plan_path: Path, machine: Machine | None) -> BootLook:
    """What would start once the plan is carried out; nothing can be mended before. Raises NeogenesisError."""
    plan = load_plan(plan_path)
    new = plan.target.drive.path if plan.target.drive is not None else ""
    with boot_drives([(plan.source.survey.drive.path, "")]) as drives:
        planned = planned_drive(drives[0], plan.layout, new)
        try:
            return BootLook(forecast([planned], machine), (), {})
        finally:
            planned.close()


def _with_mended(
    drives: Sequence[BootDrive], mended: BootDrive, overlay: OverlayStore, machine: Machine | None
) -> tuple[Forecast, tuple[str, ...]]:
    """What would start then, and the machine's own entries that would find nothing any more."""
    survey = survey_drive(overlay, mended.survey.drive, open_tree).survey
    again = BootDrive(mended.name, survey, overlay, open_tree, slot=mended.slot)
    others = [again if d is mended else d for d in drives]
    try:
        return forecast(others, machine), entries_lost(drives, others, machine)
    finally:
        again.close()


def _row(remedy: Remedy, changes: Sequence[tuple[int, bytes, bytes]]) -> RemedyRow:
    return RemedyRow(
        code=remedy.code,
        text=remedy.text,
        drive=remedy.drive.name,
        risk=remedy.risk,
        writes=tuple((at, at + len(old)) for at, old, _ in changes),
        changes=changes_digest(changes),
    )


def default_record(name: str, code: str) -> Path:
    return Path(f"{Path(name).name}-{code}.undo")


def changes_digest(changes: Sequence[tuple[int, bytes, bytes]]) -> str:
    """Of every byte that would change, where, and what would stand there then."""
    digest = blake3()
    for at, old, new in changes:
        digest.update(b"%d %d " % (at, len(old)) + old + new)
    return digest.hexdigest()


def remedy_work(code: str, changes: str) -> str:
    """What is agreed to when a drive is mended."""
    return work_hash("remedy", code=code, changes=changes)


def undo_work(record: UndoRecord) -> str:
    """What is agreed to when a remedy is put back."""
    return work_hash("undo", code=record.code, before=record.before_digest, after=record.after_digest)


def apply_remedy(
    code: str,
    name: str,
    consent: Consent,
    record: Path | None,
    machine_path: Path | None = None,
    changes: str = "",
    events: Sequence[EventsTo] = (),
    beside: Sequence[str] = (),
) -> UndoRecord:
    """Do one remedy: recorded first, written, read back. Raises NeogenesisError; a refusal has written nothing.

    `changes` is the digest of what was shown; anything else is refused. `beside` are all drives of the machine in the
    order of their slots, where it has others: what is there decides what a reference can mean. A stop is heard before
    the first byte; a record that was begun and not finished is finished.
    """
    known, machine = checked_code(code), read_boot_machine(machine_path)
    place = record or default_record(name, code)
    names = list(beside) if name in beside else [name, *beside]
    unfinished = _unfinished(place, name)
    if place.exists() and unfinished is None:
        raise BadArgument(f"“{place}” is there already; nothing was written.", "Name another record.")
    allow_output(place, "undo", tuple(names), consent.bench, force=unfinished is not None)
    if consent.tail is not None:
        with closing(open_sealed(name, grip="look")) as looked:
            refuse_wrong_tail(consent.tail, confirm_tail(looked.drive))
    if unfinished is not None:
        return _finish(unfinished, known, name, place, consent, changes, events)

    def body(running: Running) -> UndoRecord:
        with boot_drives([(n, "") for n in names]) as drives:
            mine = next(d for d in drives if d.name == name)
            remedy = remedy_for(known, mine, drives, machine, ids_of(mine))
            if remedy is None:
                raise Refused(
                    "nothing-to-mend",
                    f"There is nothing to mend by {code}; nothing was written.",
                    "Look at the remedies.",
                )
            with _worked_out(remedy) as (rows, overlay):
                if rows and is_worse(forecast(drives, machine), _with_mended(drives, mine, overlay, machine)[0]):
                    text = f"After {code} less would start than now; nothing was written."
                    raise Refused("worse", text, "Look at the remedies.")
            survey = mine.survey
        drive, digest = survey.drive, changes_digest(rows)
        if not rows:
            text = f"{code} would change nothing; nothing was written."
            raise Refused("nothing-to-mend", text, "Look at the remedies.")
        if changes and changes != digest:
            raise _not_shown()
        _refuse_copied(code, name, survey, consent)
        made = record_of(code, drive, rows)
        work, total = remedy_work(code, digest), sum(len(old) for _, old, _ in rows)
        holds = (f"{total} bytes in {len(rows)} places, kept in “{place.name}”",)
        asked = Asked("remedy", work, name, drive.sector_size, holds, undoable=code in _OF_OLD)
        with claimed(consent, asked) as claim:
            store = claim.target.store
            if claim.target.drive.size_bytes != drive.size_bytes:
                raise Refused("changed", "The drive has another size now; nothing was written.", "Look at it anew.")
            _refuse_unless(store, [(at, (old,)) for at, old, _ in rows])
            running.frame.control.checkpoint()
            claim.begin()
            save(place, made)
            return _carried_out(place, made, "finished", store, running)

    return run_work("remedy", body, place, events, check_only=consent.check_only, run=_run_of(consent))


def _unfinished(place: Path, name: str) -> UndoRecord | None:
    """The record at `place` of a remedy of this drive that was cut off, to be finished.

    Raises Refused where another record beside it is of this drive and not finished: what the drive holds is half of
    that, and nothing is worked out from it.
    """
    with closing(open_sealed(name, grip="look")) as looked:
        drive, store = looked.drive, looked.store
        beside = [p for p in sorted(place.parent.glob("*.undo"))[:_MOST_RECORDS] if p != place]
        for other in [place, *beside] if place.exists() else beside:
            try:
                made = load(other, UndoRecord, "record of a remedy")
                check_record(made, other.name)
            except NeogenesisError:
                continue
            if made.state != "begun" or made.size_bytes != drive.size_bytes or not _same_drive(made.drive, drive):
                continue
            held = what_is_held(store, made)
            if held == "other":  # another drive of that kind and size, or changed since
                continue
            if other == place:
                return made
            if held == "half":
                text = f"An earlier {made.code} of this drive was cut off; nothing was written."
                raise Refused("unfinished", text, f"Finish it with --record {other}, or put it back with undo.")
    return None


def mended_of(names: Sequence[str], tail: str | None, target: Identity | None = None) -> str:
    """Which of several drives is meant by the tail that was typed, and by whom a confirmation names.

    The first without either. Raises Refused.
    """
    if len(names) == 1 or (tail is None and target is None):
        return names[0]
    found = []
    for name in names:
        with closing(open_sealed(name, grip="look")) as looked:
            typed = tail is None or confirm_tail(looked.drive).casefold() == tail.casefold()
            if typed and (target is None or looked.drive.identity == target):
                found.append(name)
    if len(found) == 1:
        return found[0]
    text = f"{len(found)} of the drives end in “{tail}”; nothing was written."
    raise Refused("wrong-tail", text, "Name the drive that is meant first, alone or with a tail of its own.")


def _not_shown() -> Refused:
    text = "What would change now is not what was shown; nothing was written."
    return Refused("not-confirmed", text, "Look at the remedies anew.")


def _same_drive(identity: Identity, drive: Drive) -> bool:
    return not (identity.serial and drive.serial) or identity.serial == drive.serial


def _finish(
    made: UndoRecord,
    code: str,
    name: str,
    place: Path,
    consent: Consent,
    changes: str,
    events: Sequence[EventsTo],
) -> UndoRecord:
    """Write the rest of what was announced when it was begun; `changes` as for `apply_remedy`."""
    if made.code != code:
        text = f"“{place.name}” is the record of {made.code}, which was cut off; nothing was written."
        raise Refused("unfinished", text, "Finish that one, or put it back with undo.")
    rows = made.rows
    if changes and changes != changes_digest(rows):
        raise _not_shown()

    def body(running: Running) -> UndoRecord:
        holds = (f"what {code} had begun to write: {sum(len(old) for _, old, _ in rows)} bytes",)
        with closing(open_sealed(name, grip="look")) as looked:
            sector = looked.drive.sector_size
        work = remedy_work(code, changes_digest(rows))
        asked = Asked("remedy", work, name, sector, holds, undoable=code in _OF_OLD, resuming=True)
        with claimed(consent, asked) as claim:
            store = claim.target.store
            _refuse_unless(store, in_pieces(rows))
            running.frame.control.checkpoint()
            claim.begin()
            return _carried_out(place, made, "finished", store, running)

    return run_work("remedy", body, place, events, check_only=consent.check_only, run=_run_of(consent))


def undo_remedy(record: Path, name: str, consent: Consent, events: Sequence[EventsTo] = ()) -> UndoRecord:
    """Put back what stood there; also after a remedy that was cut off. Raises NeogenesisError."""
    made = load(record, UndoRecord, "record of a remedy")
    check_record(made, record.name)
    with closing(open_sealed(name, grip="look")) as looked:
        drive = looked.drive
    if consent.tail is not None:
        refuse_wrong_tail(consent.tail, confirm_tail(drive))
    if drive.size_bytes != made.size_bytes or (made.drive.serial and made.drive.serial != drive.serial):
        raise Refused("other-drive", "The record is of another drive; nothing was written.", "Name the right drive.")
    changes = made.rows

    def body(running: Running) -> UndoRecord:
        holds = (f"what {made.code} wrote: {sum(len(old) for _, old, _ in changes)} bytes",)
        asked = Asked("undo", undo_work(made), name, drive.sector_size, holds, undoable=True, resuming=True)
        with claimed(consent, asked) as claim:
            store = claim.target.store
            _refuse_unless(store, in_pieces(changes))
            if _holds_all(store, [(at, old) for at, old, _ in changes]):
                text = "The drive holds what stood there before already; there is nothing to put back."
                raise Refused("nothing-to-undo", text, "Check that it is the drive that was mended.")
            running.frame.control.checkpoint()
            claim.begin()
            return _carried_out(record, made, "undone", store, running)

    return run_work("undo", body, record, events, check_only=consent.check_only, run=_run_of(consent))


def _carried_out(
    place: Path, made: UndoRecord, state: Literal["finished", "undone"], store: WritableStore, running: Running
) -> UndoRecord:
    """Write what was announced, or what stood there before, and read it back; then the record says so."""
    pieces = [(at, new if state == "finished" else old) for at, old, new in made.rows]
    _write(store, pieces, _tells(running))
    store.settle()
    done = replace(made, state=state)
    save(place, done)
    return done


def _run_of(consent: Consent) -> str:
    return consent.confirmed.run if consent.confirmed is not None else ""


def _tells(running: Running) -> Callable[[int, int], None]:
    """How far it is; what was begun is not stopped half-way."""
    return lambda done, total: running.teller.progress("remedy", done, total)


def _refuse_copied(code: str, name: str, survey: Survey, consent: Consent) -> None:
    """Raises Refused for the old drive of a transfer, unless it gets another identity after that."""
    register = open_register(consent.bench)
    if register is None:
        return
    with closing(register):
        sighting = Sighting(survey.drive.identity, "", known_files(name))
        if code not in _OF_OLD and register.was_copied(sighting, survey.fingerprint):
            raise Refused(
                "sealed",
                "This drive was copied from: it is an old drive, and stays as it is; nothing was written.",
                "Mend the new drive.",
            )


def ids_of(drive: BootDrive) -> Callable[[], str]:
    """New identities that come out the same when they are worked out again for this drive as it is put in now.

    So what is shown is what is written, and no two drives or puttings-in share one.
    """
    survey = drive.survey
    facts = [msgspec.to_builtins(survey.drive.identity), survey.fingerprint, insertion_of(drive.name)]
    seed, given = work_hash("identities", facts=facts), count()

    def one() -> str:
        digest = blake3(f"{seed} {next(given)}".encode()).digest(length=16)
        return str(uuid.UUID(bytes=digest, version=4)).upper()

    return one


def _holds_all(store: WritableStore, pieces: Sequence[tuple[int, bytes]]) -> bool:
    medium = store.uncached()
    return all(medium.read(at, len(data)) == data for at, data in pieces)


def _refuse_unless(store: WritableStore, wanted: Sequence[tuple[int, Sequence[bytes]]]) -> None:
    """Every place holds one of what it may hold, read past the page cache."""
    medium = store.uncached()
    for at, allowed in wanted:
        if medium.read(at, len(allowed[0])) not in allowed:
            raise Refused(
                "changed", f"The drive has changed at byte {at} since; nothing was written.", "Look at it anew."
            )


def _write(
    store: WritableStore, pieces: Sequence[tuple[int, bytes]], told: Callable[[int, int], None] = lambda *_: None
) -> None:
    """Raises Mismatch when what is read back is not what was written."""
    total, done = sum(len(data) for _, data in pieces), 0
    for at, data in pieces:
        store.write(at, data)
        done += len(data)
        told(done, total)
    store.sync()
    medium = store.uncached()
    for at, data in pieces:
        if medium.read(at, len(data)) != data:
            raise Mismatch(f"What was written at byte {at} is not what is read back.", "Do not trust this drive.")
