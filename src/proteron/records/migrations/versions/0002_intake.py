"""Values as byte blocks that cross the wire as they are; times follow from the grid; intake's documents."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY

revision = "0002"
down_revision = "0001"

# Doubles in network order, eight bytes each, as float8send makes them. The mantissa and the powers of two
# are exact in double precision, so no bit is lost.
_BLOCK_VALUES = """
CREATE FUNCTION block_values(content bytea) RETURNS TABLE (ordinal integer, value double precision)
LANGUAGE sql IMMUTABLE STRICT PARALLEL SAFE AS $$
SELECT n, CASE
    WHEN bits & 9218868437227405312 = 9218868437227405312 THEN 'NaN'::double precision
    ELSE (CASE WHEN bits < 0 THEN -1 ELSE 1 END)
        * ((bits & 4503599627370495) + CASE WHEN bits & 9218868437227405312 <> 0 THEN 4503599627370496 ELSE 0 END)
        * power(2::double precision, greatest((bits >> 52) & 2047, 1) - 1075)
    END
FROM (
    SELECT n, ('x' || encode(substring(flat FROM n * 8 + 1 FOR 8), 'hex'))::bit(64)::bigint AS bits
    FROM (SELECT content || ''::bytea AS flat OFFSET 0) AS whole,
        generate_series(0, length(flat) / 8 - 1) AS n
    OFFSET 0
) AS parts
$$
"""

_OBSERVATION = """
CREATE VIEW observation AS
SELECT g.dataset_id, g.project_id, s.key AS series,
    CASE WHEN g.clocked THEN g.start + (s.start + b.block * 65536 + v.ordinal) * g.step
        ELSE (g.local + (s.start + b.block * 65536 + v.ordinal) * g.step) AT TIME ZONE g.zone END AS time,
    NULLIF(v.value, 'NaN') AS value,
    b.marks IS NOT NULL AND get_byte(b.marks, CASE WHEN b.marks IS NULL THEN 0 ELSE v.ordinal END) & 1 = 1 AS filled
FROM (
    SELECT id AS dataset_id, project_id, start, start AT TIME ZONE zone AS local, zone,
        words ~ 'second|minute|hour' AS clocked,
        CASE WHEN words LIKE '%quarter%' THEN split_part(words, ' ', 1)::integer * interval '3 months'
            ELSE words::interval END AS step
    FROM (
        SELECT id, project_id, (replace(layout->>'start', 'T', ' ') || '+00')::timestamptz AS start,
            layout->>'zone' AS zone, layout->>'step' AS words
        FROM dataset
    ) AS stored OFFSET 0
) AS g
JOIN series s ON s.dataset_id = g.dataset_id
JOIN series_block b ON b.dataset_id = g.dataset_id AND b.series = s.position AND b."column" = ''
CROSS JOIN LATERAL block_values(b.values) AS v
"""

_OLD_OBSERVATION = """
CREATE VIEW observation AS
SELECT d.id AS dataset_id, d.project_id, s.key AS series, to_timestamp(e.epoch) AS time,
       NULLIF(e.value, 'NaN') AS value
FROM series_block b
JOIN series s ON s.dataset_id = b.dataset_id AND s.position = b.series
JOIN dataset d ON d.id = b.dataset_id
CROSS JOIN LATERAL unnest(b.epochs, b.values) AS e(epoch, value)
WHERE b."column" = ''
"""


def upgrade() -> None:
    op.execute("DROP VIEW observation")
    op.execute(_BLOCK_VALUES)
    op.add_column("series_block", sa.Column("content", sa.LargeBinary))
    op.execute("ALTER TABLE series_block ALTER content SET STORAGE EXTERNAL")
    op.execute(
        """UPDATE series_block SET content = coalesce(
        (SELECT string_agg(float8send(v), ''::bytea ORDER BY n) FROM unnest(values) WITH ORDINALITY AS u(v, n)), '')"""
    )
    op.execute(r"UPDATE series_block SET marks = NULL WHERE marks = decode(repeat('00', length(marks)), 'hex')")
    op.drop_column("series_block", "values")
    op.drop_column("series_block", "epochs")
    op.alter_column("series_block", "content", new_column_name="values", nullable=False)
    op.execute(_OBSERVATION)


def downgrade() -> None:
    op.execute("ALTER TABLE series_block ADD epochs double precision[], ADD content double precision[]")
    op.execute(
        """UPDATE series_block b SET content = array(SELECT value FROM block_values(b.values) ORDER BY ordinal),
        epochs = CASE WHEN b."column" = '' THEN array(
            SELECT extract(epoch FROM o.time) FROM observation o
            JOIN series s ON s.dataset_id = o.dataset_id AND s.key = o.series
            WHERE s.dataset_id = b.dataset_id AND s.position = b.series
            ORDER BY o.time OFFSET b.block * 65536 LIMIT 65536) END,
        marks = coalesce(b.marks, decode(repeat('00', length(b.values) / 8), 'hex'))"""
    )
    op.execute("DROP VIEW observation")
    op.execute("DROP FUNCTION block_values(bytea)")
    op.drop_column("series_block", "values")
    op.alter_column("series_block", "content", new_column_name="values", nullable=False, existing_type=ARRAY(sa.Double))
    op.execute(_OLD_OBSERVATION)
