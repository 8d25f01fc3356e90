"""How long the processor was at work on a cell, beside how long it took."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    for table in ("cell", "fit"):
        op.add_column(table, sa.Column("cpu_seconds", sa.Double, nullable=False, server_default="0"))


def downgrade() -> None:
    for table in ("fit", "cell"):
        op.drop_column(table, "cpu_seconds")
