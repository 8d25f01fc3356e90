"""Seals that were broken: whose numbers on which sealed folds were looked at, for good."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.create_table(
        "seal_breaking",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("project_id", sa.Integer, sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False),
        sa.Column("root", sa.String(64), nullable=False),
        sa.Column("experiment_id", sa.Integer, sa.ForeignKey("experiment.id", ondelete="SET NULL"), index=True),
        sa.Column("contender", sa.String, nullable=False),
        sa.Column("first", sa.DateTime(timezone=True), nullable=False),
        sa.Column("last", sa.DateTime(timezone=True), nullable=False),
        sa.Column("broken", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.UniqueConstraint("experiment_id", "contender"),
    )
    op.create_index("seal_breaking_of", "seal_breaking", ["project_id", "root"])


def downgrade() -> None:
    op.drop_table("seal_breaking")
