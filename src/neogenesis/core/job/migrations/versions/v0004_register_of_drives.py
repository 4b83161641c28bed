"""The register: drives that were met, claims on them, old drives that are kept, and which window has a job open."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"

_TABLES = {
    "drive": (
        ("key", sa.String(16), True),
        ("identity", sa.Text(), False),
        ("mark", sa.String(64), False),
        ("files", sa.Text(), False),
        ("place", sa.Text(), False),
        ("met_at", sa.String(40), False),
        ("seen_at", sa.String(40), False),
    ),
    "claim": (
        ("run", sa.String(40), True),
        ("drive", sa.String(16), False),
        ("kind", sa.String(40), False),
        ("work", sa.String(64), False),
        ("ticket", sa.String(40), False),
        ("who", sa.Text(), False),
        ("insertion", sa.Text(), False),
        ("source", sa.Text(), False),
        ("source_print", sa.String(64), False),
        ("process", sa.Text(), False),
        ("at", sa.String(40), False),
        ("wrote", sa.Boolean(), False),
        ("ended", sa.String(40), False),
        ("outcome", sa.String(20), False),
    ),
    "sitting": (("ticket", sa.String(40), True), ("window", sa.String(200), True)),
}


def upgrade() -> None:
    inspector = sa.inspect(op.get_bind())
    there = set(inspector.get_table_names())
    known = {column["name"] for column in inspector.get_columns("job")}
    for name in ("kept", "kept_until"):
        if name not in known:
            op.add_column("job", sa.Column(name, sa.String(20), nullable=False, server_default=""))
    for table, columns in _TABLES.items():
        if table not in there:
            op.create_table(table, *(sa.Column(n, kind, primary_key=key, nullable=False) for n, kind, key in columns))
