"""What is named, copied and deleted: revisions, deletions that can be taken back, saved plans beside saved chains."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0006"
down_revision = "0005"

_TABLES = ("project", "dataset", "experiment", "saved")
_PRESENT = sa.text("deleted IS NULL")
# Times of business days are known to who knows their holidays: they stand in the layout, one per grid position.
_TIMES = (
    "WHEN g.times IS NOT NULL THEN to_timestamp((g.times->>(s.start + b.block * 65536 + v.ordinal)::integer)::float8)"
)


def _observation(times: str = "", step: str = "", column: str = "") -> str:
    return f"""
CREATE VIEW observation AS
SELECT g.dataset_id, g.project_id, s.key AS series,
    CASE {times} WHEN g.clocked THEN g.start + (s.start + b.block * 65536 + v.ordinal) * g.step
        ELSE (g.local + (s.start + b.block * 65536 + v.ordinal) * g.step) AT TIME ZONE g.zone END AS time,
    NULLIF(v.value, 'NaN') AS value,
    b.marks IS NOT NULL AND get_byte(b.marks, CASE WHEN b.marks IS NULL THEN 0 ELSE v.ordinal END) & 1 = 1 AS filled
FROM (
    SELECT id AS dataset_id, project_id, start, start AT TIME ZONE zone AS local, zone, {column}
        words ~ 'second|minute|hour' AS clocked,
        CASE {step} WHEN words LIKE '%quarter%' THEN split_part(words, ' ', 1)::integer * interval '3 months'
            ELSE words::interval END AS step
    FROM (
        SELECT id, project_id, (replace(layout->>'start', 'T', ' ') || '+00')::timestamptz AS start,
            {column and "layout->'times' AS times,"}
            layout->>'zone' AS zone, layout->>'step' AS words
        FROM dataset
    ) AS stored OFFSET 0
) AS g
JOIN series s ON s.dataset_id = g.dataset_id
JOIN series_block b ON b.dataset_id = g.dataset_id AND b.series = s.position AND b."column" = ''
CROSS JOIN LATERAL block_values(b.values) AS v
"""  # words of ours


def upgrade() -> None:
    op.execute("DROP VIEW observation")
    op.execute(_observation(_TIMES, "WHEN words LIKE '%business%' THEN NULL", "times,"))
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
    op.execute("DROP VIEW observation")
    op.execute(_observation())
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
