"""Jobs and their logbooks. Benches from before migrations have these tables already, the oldest not all columns."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None

_TABLES = {
    "job": (
        ("ticket", sa.String(40), True),
        ("customer", sa.Text(), False),
        ("machine", sa.Text(), False),
        ("promise", sa.Text(), False),
        ("wish", sa.Text(), False),
        ("intent", sa.String(20), False),
        ("stop", sa.String(20), False),
        ("old_drive", sa.Text(), False),
        ("new_drive", sa.Text(), False),
        ("closed", sa.Boolean(), False),
    ),
    "log": (
        ("ticket", sa.String(40), True),
        ("number", sa.Integer(), True),
        ("at", sa.String(40), False),
        ("who", sa.Text(), False),
        ("kind", sa.String(40), False),
        ("text", sa.Text(), False),
        ("figures", sa.Text(), False),
        ("previous", sa.String(64), False),
        ("hash", sa.String(64), False),
    ),
}
_DEFAULTS = {"intent": "replace", "stop": "survey", "figures": "{}", "closed": "0"}


def upgrade() -> None:
    """Make what is missing; what is there stays as it is."""
    inspector = sa.inspect(op.get_bind())
    there = set(inspector.get_table_names())
    for table, columns in _TABLES.items():
        if table not in there:
            made = [sa.Column(name, kind, primary_key=key, nullable=False) for name, kind, key in columns]
            more = [sa.ForeignKeyConstraint(["ticket"], ["job.ticket"])] if table == "log" else []
            op.create_table(table, *made, *more)
            continue
        known = {column["name"] for column in inspector.get_columns(table)}
        for name, kind, _ in columns:
            if name not in known:
                default = _DEFAULTS.get(name, "")
                op.add_column(table, sa.Column(name, kind, nullable=False, server_default=default))
