"""Who the drives of a job are, beside where they were."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    known = {column["name"] for column in sa.inspect(op.get_bind()).get_columns("job")}
    for name in ("old_identity", "new_identity"):
        if name not in known:
            op.add_column("job", sa.Column(name, sa.Text(), nullable=False, server_default=""))
