"""Searches: what an experiment is to find, and how far that is."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.add_column("experiment", sa.Column("search", JSONB))
    op.add_column("experiment", sa.Column("race", JSONB))


def downgrade() -> None:
    op.drop_column("experiment", "race")
    op.drop_column("experiment", "search")
