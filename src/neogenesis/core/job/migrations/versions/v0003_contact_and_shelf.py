"""How a customer is reached, and whether a job is on the list, archived or removed from sight."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    known = {column["name"] for column in sa.inspect(op.get_bind()).get_columns("job")}
    for name, kind in (("contact", sa.Text()), ("shelf", sa.String(20))):
        if name not in known:
            op.add_column("job", sa.Column(name, kind, nullable=False, server_default=""))
