"""Opening the records of a bench: its database, brought up to date, and the folder of its dossiers.

Only a file that is really damaged is set aside, and never deleted; one that another program holds, or that a newer
version made, is left alone and said so.
"""

from __future__ import annotations

import sqlite3
from contextlib import suppress
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, create_engine, event
from sqlalchemy.exc import DatabaseError

from neogenesis.bench.processes.folders import bench_folder
from neogenesis.core.errors import BadArgument, BadRecord, CannotRecord
from neogenesis.core.job.migrations import bring_up_to_date
from neogenesis.core.job.store import JobStore
from neogenesis.core.record import set_aside

_DAMAGED = frozenset({sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB})
_WAIT_MS = 5000


def existing_records(bench: str) -> JobStore:
    """The records of a bench by its folder or by the URL of its database, empty for the usual one; none is made.

    Raises BadArgument when there is no bench of that name, or BadRecord.
    """
    if "://" in bench:
        return open_records(bench_folder(), bench)
    folder = Path(bench) if bench else bench_folder()
    if not (folder / "jobs.db").exists() and (folder / "bench/jobs.db").exists():
        folder = folder / "bench"  # the folder of a demo bench, with its drives beside its records
    if not (folder / "jobs.db").exists():
        raise BadArgument(f"There is no bench in “{folder}”.", "Name its folder with --bench.")
    return open_records(folder)


def open_records(folder: Path, url: str = "") -> JobStore:
    """The jobs of the bench in `folder`; `url` names its database, by default a file there. Raises BadRecord."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise BadRecord(f"The folder “{folder}” cannot be made ({error.strerror}).", "Choose another.") from error
    file = folder / "jobs.db"
    older = not url and file.exists()
    try:
        store = JobStore(folder, _opened(url or f"sqlite:///{file}"), url=url)
        if older:
            with suppress(CannotRecord):  # said when something is to be written
                store.adopt_kept_drives()
        return store
    except DatabaseError as error:
        if url or not _is_damaged(error):
            raise BadRecord(
                f"The records of the bench cannot be opened ({_words(error)}); nothing was changed.",
                "Close what else uses them, or check their server, and try again.",
            ) from error
    aside = set_aside(file)
    trouble = (
        f"The database of jobs could not be read. It was kept as “{aside.name}”, nothing was deleted, and a "
        "new one was begun; the dossier folders are all still there."
    )
    return JobStore(folder, _opened(f"sqlite:///{file}"), trouble)


def _opened(url: str) -> Engine:
    engine = create_engine(url)
    if engine.dialect.name == "sqlite":

        @event.listens_for(engine, "connect")
        def _careful(connection: Any, record: Any) -> None:
            connection.execute(f"PRAGMA busy_timeout={_WAIT_MS}")
            connection.execute("PRAGMA synchronous=FULL")
            connection.execute("PRAGMA foreign_keys=ON")

    try:
        bring_up_to_date(engine)
        with engine.connect() as connection:
            if engine.dialect.name == "sqlite":
                connection.exec_driver_sql("PRAGMA quick_check(1)").all()
            connection.exec_driver_sql("SELECT count(*) FROM job, log").all()
    except BaseException:
        engine.dispose()
        raise
    return engine


def _is_damaged(error: DatabaseError) -> bool:
    code = getattr(error.orig, "sqlite_errorcode", 0)
    return isinstance(code, int) and code & 0xFF in _DAMAGED


def _words(error: DatabaseError) -> str:
    """What the database says, without the statement that it was about."""
    return str(error.orig).splitlines()[0][:120] if error.orig else "no answer"
