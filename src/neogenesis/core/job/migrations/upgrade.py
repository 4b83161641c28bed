"""The steps themselves, done by alembic."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from alembic.config import Config
from alembic.runtime.environment import EnvironmentContext
from alembic.script import ScriptDirectory
from alembic.util import CommandError
from sqlalchemy import Engine

from neogenesis.core.errors import BadRecord


def upgrade(engine: Engine) -> None:
    """Raises BadRecord for records of a newer version; a database error leaves everything as it was."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent))
    script = ScriptDirectory.from_config(config)

    def steps(revision: Any, context: Any) -> Any:
        return script._upgrade_revs("head", revision)

    with EnvironmentContext(config, script, fn=steps) as environment, engine.begin() as connection:
        environment.configure(connection=connection)
        try:
            environment.run_migrations()
        except CommandError as error:
            raise BadRecord(
                "The records of this bench were made by a newer version of the program.",
                "Use that version, or another bench folder.",
            ) from error
