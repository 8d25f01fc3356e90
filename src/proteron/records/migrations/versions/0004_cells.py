"""Cells that say what they are, fits apart from forecasts, and a loss per point; results are computed again.

What was computed before goes; experiments that had finished are queued again, and the worker takes them up.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

revision = "0004"
down_revision = "0003"

_FORECAST = """
CREATE VIEW forecast AS
SELECT x.id AS experiment_id, e.contender, e.fold, s.key AS series,
    c.origins[v.ordinal / f.horizon + 1]::double precision AS origin,
    f.gap + v.ordinal % f.horizon + 1 AS step, NULLIF(v.value, 'NaN') AS mean
FROM experiment_cell e
JOIN experiment x ON x.id = e.experiment_id
JOIN cell c ON c.key = e.key
JOIN forecast_block f ON f.key = e.key
JOIN series s ON s.dataset_id = x.dataset_id AND s.position = f.series
CROSS JOIN LATERAL block_values(f.mean) AS v
"""

_OLD_FORECAST = """
CREATE VIEW forecast AS
SELECT x.id AS experiment_id, c.contender, c.fold, s.key AS series, f.origins[o] AS origin,
       f.gap + h AS step, NULLIF(f.mean[(o - 1) * f.horizon + h], 'NaN') AS mean
FROM experiment_cell c
JOIN experiment x ON x.id = c.experiment_id
JOIN forecast_block f ON f.key = c.key
JOIN series s ON s.dataset_id = x.dataset_id AND s.position = f.series
CROSS JOIN LATERAL generate_series(1, cardinality(f.origins)) AS o
CROSS JOIN LATERAL generate_series(1, f.horizon) AS h
"""

_KEY = sa.String(64)


def _column(name: str, kind: object, **rest: object) -> sa.Column[object]:
    return sa.Column(name, kind, **{"nullable": False, **rest})  # type: ignore[arg-type]


def _of_cell(**rest: object) -> sa.Column[object]:
    return _column("key", _KEY, primary_key=True, **rest)


def _drop_results() -> None:
    op.execute("DROP VIEW forecast")
    for table in ("forecast_block", "experiment_cell", "cell"):
        op.drop_table(table)
    op.execute(
        "UPDATE experiment SET state = 'queued', reason = NULL, started = NULL, finished = NULL "
        "WHERE state IN ('done', 'running', 'failed')"
    )


def upgrade() -> None:
    number, array, blob = sa.BigInteger, ARRAY(sa.Double), sa.LargeBinary
    _drop_results()
    op.create_table("contender", _column("hash", _KEY, primary_key=True), _column("document", JSONB))
    op.create_table(
        "cell", _of_cell(), _column("fit_key", _KEY), sa.Column("contender", _KEY, sa.ForeignKey("contender.hash"),
        nullable=False), _column("place", JSONB), _column("series", ARRAY(number)), _column("levels", array),
        _column("needs", ARRAY(sa.Text)), _column("origins", ARRAY(number)), _column("work", sa.Double),
        _column("batch", _KEY), _column("state", sa.String(16)), sa.Column("reason", sa.Text),
        _column("declined", JSONB),
        _column("seconds", sa.Double), sa.Column("memory", number), sa.Column("finished", sa.DateTime(timezone=True)),
    )  # fmt: skip
    op.create_table(
        "experiment_cell",
        sa.Column("experiment_id", number, sa.ForeignKey("experiment.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("key", _KEY, sa.ForeignKey("cell.key"), primary_key=True, index=True),
        _column("contender", sa.Text), _column("fold", number), _column("number", number),
    )  # fmt: skip
    op.create_table(
        "fit", _of_cell(), _column("facts", JSONB), _column("arrays", blob), _column("spread", blob),
        _column("seconds", sa.Double),
    )  # fmt: skip
    cell = sa.ForeignKey("cell.key", ondelete="CASCADE")
    op.create_table(
        "forecast_block", sa.Column("key", _KEY, cell, primary_key=True), _column("series", number, primary_key=True),
        _column("horizon", number), _column("gap", number),
        *(_column(name, blob) for name in ("mean", "flat_mean", "flat_truth", "ranges")), sa.Column("paths", blob),
    )  # fmt: skip
    cell = sa.ForeignKey("cell.key", ondelete="CASCADE")
    op.create_table(
        "cell_loss", sa.Column("key", _KEY, cell, primary_key=True), _column("metric", sa.Text, primary_key=True),
        _column("losses", blob),
    )  # fmt: skip
    for table, columns in (
        ("forecast_block", ("mean", "flat_mean", "flat_truth", "ranges", "paths")), ("cell_loss", ("losses",)),
        ("fit", ("arrays", "spread")),
    ):  # fmt: skip
        for name in columns:
            op.execute(f"ALTER TABLE {table} ALTER {name} SET STORAGE EXTERNAL")  # doubles hardly shrink
    op.execute(_FORECAST)


def downgrade() -> None:
    op.drop_table("cell_loss")
    _drop_results()
    op.drop_table("fit")
    op.drop_table("contender")
    number, array = sa.BigInteger, ARRAY(sa.Double)
    op.create_table(
        "experiment_cell",
        sa.Column("experiment_id", number, sa.ForeignKey("experiment.id", ondelete="CASCADE"), primary_key=True),
        _of_cell(), _column("contender", sa.Text), _column("fold", number), _column("number", number),
    )  # fmt: skip
    op.create_table(
        "cell", _of_cell(), _column("state", sa.String(16)), sa.Column("reason", sa.Text),
        _column("seconds", sa.Double), _column("facts", JSONB), sa.Column("arrays", sa.LargeBinary),
        sa.Column("finished", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )  # fmt: skip
    op.create_table(
        "forecast_block",
        sa.Column("key", _KEY, sa.ForeignKey("cell.key", ondelete="CASCADE"), primary_key=True),
        _column("series", number, primary_key=True), _column("horizon", number), _column("gap", number),
        *(_column(name, array) for name in ("origins", "mean", "flat_mean", "flat_truth")),
    )  # fmt: skip
    op.execute(_OLD_FORECAST)
