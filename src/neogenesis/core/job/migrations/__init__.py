"""Brings the tables of any older bench up to date, one numbered step after the other (alembic)."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import Engine, inspect, text


def bring_up_to_date(engine: Engine) -> None:
    """Raises BadRecord for records of a newer version; a database error leaves everything as it was."""
    if _revision(engine) == _newest():
        return  # as at almost every start; the tools for older ones take longer to load than everything else
    from neogenesis.core.job.migrations.upgrade import upgrade

    upgrade(engine)


def _newest() -> str:
    """The number of the last step, by its file's name."""
    return max(file.name[1:5] for file in (Path(__file__).parent / "versions").glob("v*_*.py"))


def _revision(engine: Engine) -> str:
    """Which step the tables are at; empty where none is on record."""
    with engine.connect() as connection:
        if not inspect(connection).has_table("alembic_version"):
            return ""
        return str(connection.execute(text("SELECT version_num FROM alembic_version")).scalar() or "")
