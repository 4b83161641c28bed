"""The register: every drive that the shop has met, whose it is, and what is being written to it, by whom."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path

import msgspec

from neogenesis.bench.drives import known_files
from neogenesis.bench.processes.folders import bench_folder
from neogenesis.bench.processes.living import lives, this_process
from neogenesis.bench.register import statements_sql as sql
from neogenesis.bench.register.rows import Rows, SqliteRows, Transaction, UrlRows, not_writable
from neogenesis.core.drive import Identity, Sighting, is_one
from neogenesis.core.drive.holding import Holding, Role, holding
from neogenesis.core.errors import BadArgument, BadRecord, Refused
from neogenesis.core.record import to_json
from neogenesis.core.work import Confirmation

_IN_A_FILE = "sqlite:///"


@dataclass(frozen=True, slots=True)
class Writing:
    """Work that holds a claim on a drive now."""

    run: str
    kind: str
    ticket: str
    drive: Sighting
    process: str


@dataclass(frozen=True, slots=True)
class Wish:
    """What a claim is asked for: one run of one work. `source` is where it reads from, `source_print` what is there."""

    kind: str
    confirmed: Confirmation
    drive: Sighting
    place: str
    source: Sighting | None = None
    source_print: str = ""


class Register:
    """One for a bench; every window, command and worker has one of its own on the same records."""

    def __init__(self, rows: Rows) -> None:
        self._rows = rows

    def close(self) -> None:
        self._rows.close()

    def holdings(self) -> list[Holding]:
        """The drives of jobs that are not handed over, and those that the shop keeps. Raises Refused."""
        with self._rows.begin(writing=False) as now:
            return _holdings(now)

    def writing(self) -> list[Writing]:
        """What is being written now, by works that live. Raises Refused."""
        with self._rows.begin(writing=False) as now:
            return _writing(now)

    def meet(self, drives: Iterable[tuple[Sighting, str]]) -> None:
        """Put on record that drives were met, each with where. Raises Refused."""
        at = _now()
        with self._rows.begin(writing=True) as now:
            for drive, place in drives:
                _meet(now, drive, place, at)

    def is_drive(self, file: str, size_bytes: int) -> bool:
        """Whether a file, by its key and size, is known to hold a drive. Raises Refused."""
        with self._rows.begin(writing=False) as now:
            rows = now.ask(sql.FILES, {"file": f"%{file}%"})
        found = [_sighting(identity, "", files) for identity, files in rows]
        return any(file in one.files and one.identity.size_bytes == size_bytes for one in found)

    def was_copied(self, drive: Sighting, its_print: str) -> bool:
        """Whether a transfer without a job read from this drive as it is now, and nothing was written to it since."""
        with self._rows.begin(writing=False) as now:
            for key, source, found, kind in now.ask(sql.COPIED):
                if key == drive.identity.key and kind != "undo":
                    return False
                if source and kind == "transfer" and found == its_print and is_one(_sighting(source), drive):
                    return True
        return False

    def claim(self, wish: Wish, undoable: bool) -> None:
        """Give the right to write to a drive to one run; raises Refused when it is another's, or sealed.

        `undoable`: what is to be written keeps what stood there, so the job's own old drive may be claimed by it.
        """
        confirmed, at = wish.confirmed, _now()
        with self._rows.begin(writing=True) as now:
            refuse_sealed(_holdings(now), wish.drive, confirmed.ticket, undoable)
            refuse_written(_writing(now), wish.drive)
            _meet(now, wish.drive, wish.place, at)
            if wish.source is not None:
                _meet(now, wish.source, wish.source.identity.path, at)
            source = to_json(wish.source.identity).decode() if wish.source is not None else ""
            values = {
                "run": confirmed.run,
                "drive": wish.drive.identity.key,
                "kind": wish.kind,
                "work": confirmed.work,
                "ticket": confirmed.ticket,
                "who": confirmed.who,
                "insertion": confirmed.insertion,
                "source": source,
                "source_print": wish.source_print,
                "process": this_process(),
                "at": at,
                "no": False,
            }
            now.do(sql.BEGIN, values)

    def writes(self, run: str) -> None:
        """The first byte is about to be written. Raises Refused."""
        with self._rows.begin(writing=True) as now:
            now.do(sql.WRITES, {"yes": True, "run": run})

    def end(self, run: str, outcome: str) -> None:
        """The claim is given back. Raises Refused; the end of its process ends it all the same."""
        with self._rows.begin(writing=True) as now:
            now.do(sql.END, {"at": _now(), "outcome": outcome, "run": run})


def refuse_sealed(holdings: Iterable[Holding], drive: Sighting, ticket: str, undoable: bool = False) -> None:
    """Raises Refused for a drive that another job holds, or that this one must keep as it is.

    `undoable`: the job's own old drive may be written to, since what stood there is kept.
    """
    for one in holding(drive, holdings, date.today()):
        own = one.ticket == ticket and ticket != ""
        if not one.seals or (own and (one.role == "new" or (undoable and one.role == "old"))):
            continue
        raise Refused(
            "sealed",
            f"This is {one.text()}; nothing was written.",
            "Take another drive, or hand that job over first.",
        )


def refuse_written(writing: Iterable[Writing], drive: Sighting) -> None:
    """Raises Refused while other work writes to that drive."""
    for one in writing:
        if is_one(one.drive, drive):
            whose = f" of {one.ticket}" if one.ticket else ""
            raise Refused(
                "in-use",
                f"The drive is in use: the {one.kind}{whose} is writing to it; nothing more was written.",
                "Wait for it, or stop it.",
            )


def register_of(folder: Path, url: str = "") -> Register:
    """The register of records that are open already, and so up to date."""
    in_a_file = not url or url.startswith(_IN_A_FILE)
    return Register(SqliteRows(_file_of(url or str(folder))) if in_a_file else UrlRows(url))


def open_register(bench: str = "") -> Register | None:
    """The register of a bench by its folder or URL, empty for this person's own.

    None where this person has no bench and can have none. Raises Refused for one that cannot be used, and BadArgument.
    """
    if "://" in bench and not bench.startswith(_IN_A_FILE):
        return Register(UrlRows(bench))
    file = _file_of(bench)
    folder = file.parent
    try:
        exists = file.exists()
    except OSError as error:
        raise not_writable(error.strerror or "no folder") from error
    if not exists:
        if not _made(folder, must=bool(bench)):
            return None
    else:
        _bring_up_to_date(file, folder)
    return Register(SqliteRows(file))


def existing_register(bench: str = "") -> Register | None:
    """As `open_register`, for who only looks: none is made, and what cannot be asked is none. Raises nothing."""
    if "://" in bench and not bench.startswith(_IN_A_FILE):
        return Register(UrlRows(bench))
    file = _file_of(bench)
    rows = SqliteRows(file)
    try:
        if not file.exists():
            return None
        with rows.begin(writing=False) as now:
            found = now.ask(sql.VERSION)
    except (OSError, Refused):
        return None
    return Register(rows) if found and str(found[0][0]) == sql.REVISION else None


def _file_of(bench: str) -> Path:
    """The database of a bench that is named by its folder, or by the URL of a file; empty for this person's own."""
    if bench.startswith(_IN_A_FILE):
        return Path(bench.removeprefix(_IN_A_FILE))
    return (Path(bench) if bench else bench_folder()) / "jobs.db"


def _made(folder: Path, must: bool) -> bool:
    from sqlalchemy import create_engine
    from sqlalchemy.exc import DBAPIError

    from neogenesis.core.job.migrations import bring_up_to_date

    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        if must:
            raise not_writable(error.strerror or "no folder") from error
        return False
    engine = create_engine(f"sqlite:///{folder / 'jobs.db'}")
    try:
        bring_up_to_date(engine)
    except DBAPIError as error:
        raise not_writable(str(error.orig).splitlines()[0][:120] if error.orig else "no answer") from error
    except BadRecord as error:
        raise not_writable(error.text.rstrip(".")) from error
    finally:
        engine.dispose()
    return True


def _bring_up_to_date(file: Path, folder: Path) -> None:
    """Tables of an older version are renewed first; raises Refused for a newer one."""
    rows = SqliteRows(file)
    with rows.begin(writing=False) as now:
        tables = {name for (name,) in now.ask(sql.TABLES)}
        version = now.ask(sql.VERSION) if "alembic_version" in tables else []
    found = str(version[0][0]) if version else ""
    if found > sql.REVISION:
        raise not_writable("they were made by a newer version of the program")
    if found < sql.REVISION:
        _made(folder, must=True)


def _now() -> str:
    return datetime.now().astimezone().isoformat(timespec="milliseconds")


def _meet(now: Transaction, drive: Sighting, place: str, at: str) -> None:
    values = {
        "key": drive.identity.key,
        "identity": to_json(drive.identity).decode(),
        "mark": drive.mark,
        "files": "|".join(sorted(drive.files)),
        "place": place,
        "at": at,
    }
    now.do(sql.MEET, values)


def _holdings(now: Transaction) -> list[Holding]:
    known = {key: (mark, files) for key, mark, files in now.ask(sql.MARKS)}
    wrote = {(ticket, drive) for ticket, drive in now.ask(sql.WROTE)}
    found = []
    for ticket, customer, old_place, old, new_place, new, closed, kept, until in now.ask(sql.HELD):
        role: Role = "kept" if closed and kept == "here" else "old"
        for which, text, place in ((role, old, old_place), ("new", new, new_place)):
            if (not text and not place) or (closed and which == "new"):
                continue
            identity = _sighting(text).identity if text else Identity(path=place)
            mark, files = known.get(identity.key, ("", ""))
            below = frozenset(filter(None, files.split("|")))
            if not below and place and not place.startswith("/dev/"):  # from before it was met
                below = known_files(place)
            drive = Sighting(identity, mark, below)
            done = which == "new" and (ticket, drive.identity.key) in wrote
            found.append(Holding(ticket, customer, which, drive, until if role == "kept" else "", done))
    return found + _sticks(now, known)


def _sticks(now: Transaction, known: Mapping[str, tuple[str, str]]) -> list[Holding]:
    """Drives that were last made into sticks: of open jobs, or without a job."""
    found, seen = [], set()
    for key, kind, ticket, identity, customer, closed in now.ask(sql.MADE):
        if key not in seen and kind == "stick" and not closed and (customer is not None or not ticket):
            found.append(
                Holding(ticket, customer or "", "medium" if ticket else "tool", _sighting(identity, *known[key]))
            )
        seen.add(key)
    return found


def _writing(now: Transaction) -> list[Writing]:
    return [
        Writing(run, kind, ticket, _sighting(identity, mark, files), process)
        for run, kind, ticket, process, identity, mark, files in now.ask(sql.WRITING)
        if lives(process)
    ]


def _sighting(identity: str, mark: str = "", files: str = "") -> Sighting:
    try:
        found = msgspec.json.decode(identity, type=Identity)
    except msgspec.MsgspecError:
        raise BadArgument("The register of drives has an entry that makes no sense.", "Restore a copy of it.") from None
    return Sighting(found, mark, frozenset(filter(None, files.split("|"))))
