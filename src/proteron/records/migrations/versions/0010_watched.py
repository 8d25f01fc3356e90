"""Watched panels: what is known of series that come point by point, moved on through the API."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.create_table(
        "watched",
        sa.Column("id", sa.BigInteger, primary_key=True),
        sa.Column(
            "project_id", sa.BigInteger, sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False, index=True
        ),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("state", sa.LargeBinary, nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column("moved", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("watched")
