"""What is named, copied and deleted: revisions, deletions that can be taken back, saved plans beside saved chains."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0006"
down_revision = "0005"

_TABLES = ("project", "dataset", "experiment", "saved")
_PRESENT = sa.text("deleted IS NULL")


def upgrade() -> None:
    op.rename_table("saved_chain", "saved")
    op.add_column("saved", sa.Column("kind", sa.String(16), nullable=False, server_default="chains"))
    op.alter_column("saved", "kind", server_default=None)
    for table in _TABLES:
        op.add_column(table, sa.Column("revision", sa.BigInteger, nullable=False, server_default="1"))
        op.add_column(table, sa.Column("changes", JSONB, nullable=False, server_default="{}"))
        op.add_column(table, sa.Column("deleted", sa.DateTime(timezone=True)))
        op.add_column(table, sa.Column("chosen", JSONB, nullable=False, server_default="{}"))
    op.drop_constraint("project_name_key", "project")
    op.drop_constraint("saved_chain_project_id_name_key", "saved")
    op.drop_constraint("dataset_project_id_hash_key", "dataset")
    op.create_index("project_name", "project", ["name"], unique=True, postgresql_where=_PRESENT)
    op.create_index("saved_name", "saved", ["project_id", "kind", "name"], unique=True, postgresql_where=_PRESENT)
    op.create_index("dataset_content", "dataset", ["project_id", "hash"])


def downgrade() -> None:
    op.execute("DELETE FROM saved WHERE kind <> 'chains'")
    for table in _TABLES:
        op.execute(f"DELETE FROM {table} WHERE deleted IS NOT NULL")  # names of ours
    op.drop_index("dataset_content")
    op.drop_index("saved_name")
    op.drop_index("project_name")
    op.create_unique_constraint("dataset_project_id_hash_key", "dataset", ["project_id", "hash"])
    op.create_unique_constraint("saved_chain_project_id_name_key", "saved", ["project_id", "name"])
    op.create_unique_constraint("project_name_key", "project", ["name"])
    for table in _TABLES:
        for column in ("chosen", "deleted", "changes", "revision"):
            op.drop_column(table, column)
    op.drop_column("saved", "kind")
    op.rename_table("saved", "saved_chain")
