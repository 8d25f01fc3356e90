"""What outlooks learned, kept beside them; scenarios as outlooks of another one; their data, and how far they are."""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.create_table(
        "outlook_learned",
        sa.Column("outlook_id", sa.BigInteger, sa.ForeignKey("outlook.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("learned", sa.LargeBinary, nullable=False),
    )
    op.add_column(
        "outlook", sa.Column("of_id", sa.BigInteger, sa.ForeignKey("outlook.id", ondelete="CASCADE"), index=True)
    )
    op.add_column(
        "outlook",
        sa.Column("dataset_id", sa.BigInteger, sa.ForeignKey("dataset.id", ondelete="CASCADE"), index=True),
    )
    op.execute("UPDATE outlook SET dataset_id = e.dataset_id FROM experiment e WHERE e.id = outlook.experiment_id")
    op.alter_column("outlook", "dataset_id", nullable=False)
    op.add_column("outlook", sa.Column("share", sa.Double, nullable=False, server_default="0"))


def downgrade() -> None:
    op.execute("DELETE FROM outlook WHERE of_id IS NOT NULL")
    op.drop_column("outlook", "share")
    op.drop_column("outlook", "dataset_id")
    op.drop_column("outlook", "of_id")
    op.drop_table("outlook_learned")
