"""Scans by any detector, what they found by series, and verdicts that stay with the data; old scans go on as such."""

import json
from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

revision = "0009"
down_revision = "0008"

_BIG, _WHEN = sa.BigInteger, sa.DateTime(timezone=True)
_ROOTS = """
WITH RECURSIVE above AS (
    SELECT id, id AS first, parent_id, hash FROM dataset
    UNION ALL SELECT a.id, d.id, d.parent_id, d.hash FROM above a JOIN dataset d ON d.id = a.parent_id
) SELECT id, hash FROM above WHERE parent_id IS NULL
"""
_JUDGED = """
SELECT f.verdict, f.kind, f.time, e.project_id, e.dataset_id, s.key FROM anomaly_flag f
JOIN experiment e ON e.id = f.experiment_id
JOIN series s ON s.dataset_id = e.dataset_id AND s.position = f.series
WHERE f.verdict <> 'open' ORDER BY f.id
"""
_SCANS = """
INSERT INTO scan (project_id, dataset_id, experiment_id, document, budget, series, state)
SELECT e.project_id, e.dataset_id, e.id,
    jsonb_build_object('mode', 'as_of', 'using', 'contender', 'delay', 0, 'until', NULL,
        'contender', e.document->'baseline'),
    '{}', (SELECT count(*) FROM series s WHERE s.dataset_id = e.dataset_id), 'running'
FROM experiment e WHERE e.purpose = 'scan' AND e.deleted IS NULL
"""
_VIEW = """
CREATE VIEW flag AS
SELECT a.id, a.experiment_id, s.key AS series, a.time, a.stop - a.start AS steps, a.kind, a.score, a.verdict
FROM anomaly_flag a
JOIN experiment x ON x.id = a.experiment_id
JOIN series s ON s.dataset_id = x.dataset_id AND s.position = a.series
"""
_CHOICES = """
UPDATE project p SET choices = CASE WHEN s.id IS NULL THEN p.choices - 'scan_id'
    ELSE jsonb_set(p.choices, '{scan_id}', to_jsonb(s.id)) END
FROM project q LEFT JOIN scan s ON s.experiment_id = (q.choices->>'scan_id')::bigint
WHERE q.id = p.id AND p.choices ? 'scan_id'
"""


def upgrade() -> None:
    op.create_table(
        "scan",
        sa.Column("id", _BIG, primary_key=True),
        sa.Column("project_id", _BIG, sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("dataset_id", _BIG, sa.ForeignKey("dataset.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("experiment_id", _BIG, sa.ForeignKey("experiment.id", ondelete="SET NULL"), index=True),
        sa.Column("document", JSONB, nullable=False),
        sa.Column("budget", JSONB, nullable=False),
        sa.Column("series", _BIG, nullable=False),
        sa.Column("state", sa.String(16), nullable=False),
        sa.Column("reason", sa.Text),
        sa.Column("drill", JSONB),
        sa.Column("created", _WHEN, nullable=False, server_default=sa.func.now()),
        sa.Column("finished", _WHEN),
    )
    op.create_table(
        "scan_series",
        sa.Column("scan_id", _BIG, sa.ForeignKey("scan.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("series", _BIG, primary_key=True),
        sa.Column("expected", sa.LargeBinary, nullable=False),
        sa.Column("score", sa.LargeBinary, nullable=False),
        sa.Column("candidates", JSONB, nullable=False),
        sa.Column("moments", ARRAY(_BIG), nullable=False),
        sa.Column("scored", _BIG, nullable=False),
    )
    op.create_table(
        "verdict",
        sa.Column("id", _BIG, primary_key=True),
        sa.Column("project_id", _BIG, sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False),
        sa.Column("root", sa.String(64), nullable=False),
        sa.Column("document", JSONB, nullable=False),
        sa.Column("made_by", sa.Text, nullable=False, server_default=""),
        sa.Column("made", _WHEN, nullable=False, server_default=sa.func.now()),
        sa.Column("undone", _WHEN),
    )
    op.alter_column("verdict", "made_by", server_default=None)
    op.execute("DROP VIEW flag")
    op.create_table("flag", *_flag())
    op.create_index("verdict_of", "verdict", ["project_id", "root"])
    _move()
    op.drop_table("anomaly_flag")


def _flag() -> list[sa.Column[Any]]:
    words = ("series", "kind", "sentence", "verdict", "note")
    return [
        sa.Column("scan_id", _BIG, sa.ForeignKey("scan.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("number", _BIG, primary_key=True),
        sa.Column("project_id", _BIG, nullable=False),
        sa.Column("steps", _BIG, nullable=False),
        *(sa.Column(name, sa.Text, nullable=False) for name in words),
        *(sa.Column(name, _WHEN, nullable=False) for name in ("time", "until", "raised")),
        sa.Column("score", sa.Double, nullable=False),
        *(sa.Column(name, sa.Double) for name in ("observed", "expected")),
    ]


def _move() -> None:
    connection = op.get_bind()
    roots = {row[0]: row[1] for row in connection.execute(sa.text(_ROOTS)).all()}
    for verdict, kind, time, project_id, dataset_id, key in connection.execute(sa.text(_JUDGED)).all():
        said = {"confirmed": "right", "dismissed": "wrong"}[verdict]
        span = {"key": key, "since": time.isoformat(), "until": time.isoformat()}
        document = {"spans": [span], "verdict": said, "kind": kind, "note": ""}
        row = {"project": project_id, "root": roots[dataset_id], "document": json.dumps(document)}
        insert = "INSERT INTO verdict (project_id, root, document, made_by) VALUES (:project, :root, :document, '')"
        connection.execute(sa.text(insert), row)
    op.execute(_SCANS)
    op.execute(_CHOICES)


def downgrade() -> None:
    op.drop_table("flag")
    op.create_table(
        "anomaly_flag",
        sa.Column("id", _BIG, primary_key=True),
        sa.Column("experiment_id", _BIG, sa.ForeignKey("experiment.id", ondelete="CASCADE"), nullable=False),
        sa.Column("series", _BIG, nullable=False),
        sa.Column("start", _BIG, nullable=False),
        sa.Column("stop", _BIG, nullable=False),
        sa.Column("time", _WHEN, nullable=False),
        sa.Column("score", sa.Double, nullable=False),
        sa.Column("kind", sa.Text, nullable=False),
        sa.Column("verdict", sa.Text, nullable=False),
    )
    op.create_index("anomaly_flag_of", "anomaly_flag", ["experiment_id", "series"])
    op.execute(_VIEW)
    op.execute("UPDATE project SET choices = choices - 'scan_id'")
    for table in ("verdict", "scan_series", "scan"):
        op.drop_table(table)
