"""Paths of outlooks, series by series, so that one is read without the others."""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.create_table(
        "outlook_paths",
        sa.Column("outlook_id", sa.BigInteger, sa.ForeignKey("outlook.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("series", sa.Integer, primary_key=True),
        sa.Column("paths", sa.LargeBinary, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("outlook_paths")
