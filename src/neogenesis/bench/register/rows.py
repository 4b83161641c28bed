"""The database of the bench for the register: plain SQL that every engine takes.

A worker asks it a few times in its life, so the one in a file is asked through the standard library alone: loading the
mapper would take longer than all of the asking. Another one, by URL, goes through SQLAlchemy.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, closing, contextmanager
from pathlib import Path
from types import MappingProxyType
from typing import Any, Protocol

from neogenesis.core.errors import Refused

Row = Sequence[Any]
Ask = Mapping[str, Any]
_WAIT_S = 5.0
_NOTHING: Ask = MappingProxyType({})


class Transaction(Protocol):
    """Statements with named parameters (`:name`) that take place all together, or not at all."""

    def ask(self, sql: str, values: Ask = _NOTHING) -> list[Row]: ...

    def do(self, sql: str, values: Ask = _NOTHING) -> None: ...


class Rows(Protocol):
    """`begin` opens a transaction; a writing one has the database to itself. Raises Refused in words."""

    def begin(self, writing: bool) -> AbstractContextManager[Transaction]: ...

    def close(self) -> None: ...


def not_writable(words: str) -> Refused:
    return Refused(
        "register",
        f"The register of drives cannot be used ({words}); nothing was written to any drive.",
        "Free space, or close what else uses the records of the bench, and try again.",
    )


class _SqliteTransaction:
    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection

    def ask(self, sql: str, values: Ask = _NOTHING) -> list[Row]:
        with closing(self._connection.execute(sql, dict(values))) as cursor:
            return cursor.fetchall()

    def do(self, sql: str, values: Ask = _NOTHING) -> None:
        self._connection.execute(sql, dict(values)).close()


class SqliteRows:
    """The database in a file. May be used from several threads, one transaction after the other."""

    def __init__(self, file: Path) -> None:
        self._file = file

    @contextmanager
    def begin(self, writing: bool) -> Iterator[Transaction]:
        try:
            with closing(sqlite3.connect(self._file, timeout=_WAIT_S, isolation_level=None)) as connection:
                connection.execute("PRAGMA synchronous=FULL")
                connection.execute("BEGIN IMMEDIATE" if writing else "BEGIN")
                try:
                    yield _SqliteTransaction(connection)
                    connection.execute("COMMIT")
                except BaseException:
                    if connection.in_transaction:
                        connection.execute("ROLLBACK")
                    raise
        except sqlite3.Error as error:
            raise not_writable(str(error)) from error

    def close(self) -> None:
        """Nothing is held open between two transactions."""


class UrlRows:
    """A database of another kind, by its URL."""

    def __init__(self, url: str) -> None:
        from sqlalchemy import create_engine

        self._engine = create_engine(url)

    @contextmanager
    def begin(self, writing: bool) -> Iterator[Transaction]:
        from sqlalchemy import text
        from sqlalchemy.exc import DBAPIError

        try:
            with self._engine.begin() as connection:
                if writing and connection.dialect.name == "postgresql":
                    connection.execute(text("LOCK TABLE claim IN EXCLUSIVE MODE"))

                class Through:
                    def ask(self, sql: str, values: Ask = _NOTHING) -> list[Row]:
                        return [tuple(row) for row in connection.execute(text(sql), dict(values))]

                    def do(self, sql: str, values: Ask = _NOTHING) -> None:
                        connection.execute(text(sql), dict(values))

                yield Through()
        except DBAPIError as error:
            raise not_writable(str(error.orig).splitlines()[0][:120] if error.orig else "no answer") from error

    def close(self) -> None:
        self._engine.dispose()
