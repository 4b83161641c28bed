"""Remedies on drives that are connected: shown beforehand, recorded before they are written, put back byte for byte."""

from __future__ import annotations

import subprocess
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from blake3 import blake3

from neogenesis.bench.drives import confirm_tail, open_sealed, open_target
from neogenesis.bench.inside.booting import boot_drives, in_slots, read_boot_machine
from neogenesis.bench.processes.exposed import exposed
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.processes.utilities import find_tool
from neogenesis.bench.works.planning import load_plan, new_id
from neogenesis.core.boot import BootDrive, Forecast, forecast
from neogenesis.core.boot.planned import planned_drive
from neogenesis.core.boot.remedies import Remedies, Remedy, RemedyRow, checked_code, remedies_for, remedy_for
from neogenesis.core.drive import Drive, Identity
from neogenesis.core.errors import BadArgument, BadRecord, Mismatch, Refused, ToolFailed
from neogenesis.core.machine import Machine
from neogenesis.core.record import Record, load, save
from neogenesis.core.store import OverlayStore, ReadableStore, WritableStore
from neogenesis.core.survey import survey_drive
from neogenesis.core.transfer import check_tail

_PIECE = 512
_MOST_BYTES = 256 << 20


class Change(Record, frozen=True, kw_only=True):
    """`before` and `after` are hexadecimal; both are as long as each other."""

    start: int
    before: str
    after: str


class UndoRecord(Record, frozen=True, kw_only=True):
    """What stood there before, with the digests of both: BLAKE3 over the pieces in their order."""

    SCHEMA: ClassVar[str] = "neogenesis.undo/1"

    schema: str = SCHEMA
    code: str
    drive: Identity
    size_bytes: int
    changes: tuple[Change, ...]
    before_digest: str
    after_digest: str


class VolumeTools:
    """Implements what remedies need done, through the distribution's utilities."""

    def copy_file(self, volume: WritableStore, source: str, target: str) -> None:
        with exposed(volume) as path, tempfile.TemporaryDirectory(prefix="neogenesis-mend-") as folder:
            held = Path(folder) / "file"
            _run(["mcopy", "-i", str(path), f"::{source}", str(held)])
            _put(path, held, target)

    def put_file(self, volume: WritableStore, data: bytes, target: str) -> None:
        with exposed(volume) as path, tempfile.TemporaryDirectory(prefix="neogenesis-mend-") as folder:
            held = Path(folder) / "file"
            held.write_bytes(data)
            _put(path, held, target)

    def make_fat(self, volume: WritableStore, label: str) -> None:
        with exposed(volume) as path:
            _run(["mkfs.fat", "-S", str(volume.sector_size), "-n", label, str(path)])

    def clear_check_flag(self, volume: WritableStore) -> None:
        with exposed(volume) as path:
            _run(["ntfsfix", "--clear-dirty", str(path)])

    def new_identity(self, volume: WritableStore, uuid: str) -> None:
        with exposed(volume) as path:
            _run(["tune2fs", "-f", "-U", uuid, str(path)])


def _put(volume: Path, held: Path, target: str) -> None:
    parts = target.split("/")
    for depth in range(1, len(parts)):
        folder = "::" + "/".join(parts[:depth])
        if _run(["mdir", "-b", "-i", str(volume), folder], (0, 1)) != 0:
            _run(["mmd", "-i", str(volume), folder])
    _run(["mcopy", "-n", "-i", str(volume), str(held), f"::{target}"])


def _run(arguments: list[str], allowed: tuple[int, ...] = (0,)) -> int:
    """Raises ToolFailed."""
    done = subprocess.run(
        [find_tool(arguments[0]), *arguments[1:]],
        capture_output=True,
        text=True,
        errors="replace",
        check=False,
        stdin=subprocess.DEVNULL,
        start_new_session=True,
        env={"MTOOLS_SKIP_CHECK": "1", "LC_ALL": "C", "PATH": "/usr/bin:/bin:/usr/sbin:/sbin"},
    )
    if done.returncode not in allowed:
        words = " ".join((done.stderr or done.stdout).split())[:200]
        raise ToolFailed(f"{arguments[0]} failed ({words}); nothing was written.", "Check the volume first.")
    return done.returncode


@contextmanager
def _worked_out(remedy: Remedy) -> Iterator[list[tuple[int, bytes, bytes]]]:
    """What the remedy changes, as (place, before, after) in whole pieces, found on an overlay."""
    base = remedy.drive.store
    with tempfile.TemporaryDirectory(prefix="neogenesis-mend-") as folder:
        overlay = OverlayStore(base, Path(folder) / "overlay", base.size_bytes)
        try:
            remedy.do(overlay, VolumeTools())
            yield list(_differences(base, overlay))
        finally:
            overlay.close()


def _differences(base: ReadableStore, overlay: OverlayStore) -> Iterator[tuple[int, bytes, bytes]]:
    """Neighbouring pieces are joined."""
    held: tuple[int, bytes, bytes] | None = None
    total = 0
    for start, end in overlay.changed:
        before, after = base.read(start, end - start), overlay.read(start, end - start)
        for at in range(0, end - start, _PIECE):
            old, new = before[at : at + _PIECE], after[at : at + _PIECE]
            if old == new:
                continue
            total += len(new)
            if total > _MOST_BYTES:
                raise Refused("remedy", "The remedy would change too much; nothing was written.", "Copy anew instead.")
            if held is not None and held[0] + len(held[1]) == start + at:
                held = (held[0], held[1] + old, held[2] + new)
            else:
                if held is not None:
                    yield held
                held = (start + at, old, new)
    if held is not None:
        yield held


def remedies_of(names: Sequence[str], machine_path: Path | None) -> Remedies:
    """What could be mended, each with every byte that it would change. Raises NeogenesisError."""
    machine = read_boot_machine(machine_path)
    placed = in_slots(names, machine, machine_path.parent if machine_path is not None else None)
    rows = []
    with boot_drives(placed) as drives:
        for remedy in remedies_for(drives, machine, new_id):
            with _worked_out(remedy) as changes:
                writes = tuple((at, at + len(old)) for at, old, _ in changes)
            if writes:
                rows.append(_row(remedy, writes))
    return Remedies(remedies=tuple(rows))


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
        for remedy in remedies_for(drives, machine, new_id):
            with tempfile.TemporaryDirectory(prefix="neogenesis-mend-") as folder:
                base = remedy.drive.store
                with closing(OverlayStore(base, Path(folder) / "overlay", base.size_bytes)) as overlay:
                    remedy.do(overlay, VolumeTools())
                    writes = tuple((at, at + len(old)) for at, old, _ in _differences(base, overlay))
                    mended[f"{remedy.code} {remedy.drive.name}"] = _with_mended(drives, remedy.drive, overlay, machine)
            if writes:
                rows.append(_row(remedy, writes))
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
) -> Forecast:
    survey = survey_drive(overlay, mended.survey.drive, open_tree).survey
    again = BootDrive(mended.name, survey, overlay, open_tree, slot=mended.slot)
    try:
        return forecast([again if d is mended else d for d in drives], machine)
    finally:
        again.close()


def _row(remedy: Remedy, writes: tuple[tuple[int, int], ...]) -> RemedyRow:
    return RemedyRow(code=remedy.code, text=remedy.text, drive=remedy.drive.name, risk=remedy.risk, writes=writes)


def default_record(name: str, code: str) -> Path:
    return Path(f"{Path(name).name}-{code}.undo")


def apply_remedy(code: str, name: str, tail: str, record: Path | None, machine_path: Path | None = None) -> UndoRecord:
    """Do one remedy: recorded first, written, read back. Raises NeogenesisError; a refusal has written nothing."""
    known, machine = checked_code(code), read_boot_machine(machine_path)
    place = record or default_record(name, code)
    if place.exists():
        raise BadArgument(f"“{place}” is there already; nothing was written.", "Name another record.")
    with closing(open_sealed(name, grip="look")) as looked:
        check_tail(tail, confirm_tail(looked.drive))
    with boot_drives([(name, "")]) as drives:
        remedy = remedy_for(known, drives[0], drives, machine, new_id)
        if remedy is None:
            raise Refused(
                "nothing-to-mend", f"There is nothing to mend by {code}; nothing was written.", "Look at the remedies."
            )
        with _worked_out(remedy) as found:
            changes = found
        drive = drives[0].survey.drive
    if not changes:
        raise Refused("nothing-to-mend", f"{code} would change nothing; nothing was written.", "Look at the remedies.")
    made = _record_of(code, drive, changes)
    with closing(open_target(name, drive.sector_size)) as target:
        if target.drive.size_bytes != drive.size_bytes:
            raise Refused("changed", "The drive has another size now; nothing was written.", "Look at it anew.")
        _refuse_unless(target.store, [(at, (old,)) for at, old, _ in changes])
        save(place, made)
        _write(target.store, [(at, new) for at, _, new in changes])
        target.store.settle()
    return made


def undo_remedy(record: Path, name: str, tail: str) -> UndoRecord:
    """Put back what stood there; also after a remedy that was cut off. Raises NeogenesisError."""
    made = load(record, UndoRecord, "record of a remedy")
    _check_record(made, record.name)
    with closing(open_sealed(name, grip="look")) as looked:
        check_tail(tail, confirm_tail(looked.drive))
        drive = looked.drive
    if drive.size_bytes != made.size_bytes or (made.drive.serial and made.drive.serial != drive.serial):
        raise Refused("other-drive", "The record is of another drive; nothing was written.", "Name the right drive.")
    changes = [(c.start, bytes.fromhex(c.before), bytes.fromhex(c.after)) for c in made.changes]
    with closing(open_target(name, drive.sector_size)) as target:
        _refuse_unless(target.store, _in_pieces(changes))
        _write(target.store, [(at, old) for at, old, _ in changes])
        target.store.settle()
    return made


def _in_pieces(changes: Sequence[tuple[int, bytes, bytes]]) -> list[tuple[int, tuple[bytes, ...]]]:
    """Each piece may hold what was written, or, where the remedy was cut off, what stood there before."""
    return [
        (at + n, (new[n : n + _PIECE], old[n : n + _PIECE]))
        for at, old, new in changes
        for n in range(0, len(old), _PIECE)
    ]


def _record_of(code: str, drive: Drive, changes: Sequence[tuple[int, bytes, bytes]]) -> UndoRecord:
    before, after = blake3(), blake3()
    for _, old, new in changes:
        before.update(old)
        after.update(new)
    rows = tuple(Change(start=at, before=old.hex(), after=new.hex()) for at, old, new in changes)
    return UndoRecord(
        code=code,
        drive=drive.identity,
        size_bytes=drive.size_bytes,
        changes=rows,
        before_digest=before.hexdigest(),
        after_digest=after.hexdigest(),
    )


def _check_record(made: UndoRecord, name: str) -> None:
    """Raises BadRecord unless it holds together as a whole."""
    before, after, at = blake3(), blake3(), 0
    try:
        for change in made.changes:
            old, new = bytes.fromhex(change.before), bytes.fromhex(change.after)
            if len(old) != len(new) or change.start < at or change.start + len(old) > made.size_bytes:
                raise ValueError
            at = change.start + len(old)
            before.update(old)
            after.update(new)
        if (before.hexdigest(), after.hexdigest()) != (made.before_digest, made.after_digest):
            raise ValueError
    except ValueError as error:
        raise BadRecord(f"The record “{name}” is damaged; nothing was written.", "Restore a copy of it.") from error


def _refuse_unless(store: WritableStore, wanted: Sequence[tuple[int, tuple[bytes, ...]]]) -> None:
    """Every place holds one of what it may hold, read past the page cache."""
    medium = store.uncached()
    for at, allowed in wanted:
        if medium.read(at, len(allowed[0])) not in allowed:
            raise Refused(
                "changed", f"The drive has changed at byte {at} since; nothing was written.", "Look at it anew."
            )


def _write(store: WritableStore, pieces: Sequence[tuple[int, bytes]]) -> None:
    """Raises Mismatch when what is read back is not what was written."""
    for at, data in pieces:
        store.write(at, data)
    store.sync()
    medium = store.uncached()
    for at, data in pieces:
        if medium.read(at, len(data)) != data:
            raise Mismatch(f"What was written at byte {at} is not what is read back.", "Do not trust this drive.")
