"""All tables of the first release, the views for dashboards, and the queue's own schema."""

import sqlalchemy as sa
from alembic import op
from procrastinate.schema import SchemaManager
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

revision = "0001"
down_revision = None

_STAMP = sa.DateTime(timezone=True)

_VIEWS = {
    "observation": """
        SELECT d.id AS dataset_id, d.project_id, s.key AS series, to_timestamp(e.epoch) AS time,
               NULLIF(e.value, 'NaN') AS value
        FROM series_block b
        JOIN series s ON s.dataset_id = b.dataset_id AND s.position = b.series
        JOIN dataset d ON d.id = b.dataset_id
        CROSS JOIN LATERAL unnest(b.epochs, b.values) AS e(epoch, value)
        WHERE b."column" = ''
    """,
    "forecast": """
        SELECT x.id AS experiment_id, c.contender, c.fold, s.key AS series, f.origins[o] AS origin,
               f.gap + h AS step, NULLIF(f.mean[(o - 1) * f.horizon + h], 'NaN') AS mean
        FROM experiment_cell c
        JOIN experiment x ON x.id = c.experiment_id
        JOIN forecast_block f ON f.key = c.key
        JOIN series s ON s.dataset_id = x.dataset_id AND s.position = f.series
        CROSS JOIN LATERAL generate_series(1, cardinality(f.origins)) AS o
        CROSS JOIN LATERAL generate_series(1, f.horizon) AS h
    """,
    "flag": """
        SELECT a.id, a.experiment_id, s.key AS series, a.time, a.stop - a.start AS steps, a.kind, a.score, a.verdict
        FROM anomaly_flag a
        JOIN experiment x ON x.id = a.experiment_id
        JOIN series s ON s.dataset_id = x.dataset_id AND s.position = a.series
    """,
}


def _id() -> sa.Column[int]:
    return sa.Column("id", sa.BigInteger, primary_key=True, autoincrement=True)


def _made() -> sa.Column[object]:
    return sa.Column("created", _STAMP, server_default=sa.func.now(), nullable=False)


def _of(table: str, name: str | None = None, **rest: object) -> sa.Column[int]:
    key = sa.ForeignKey(f"{table}.id", ondelete="CASCADE")
    return sa.Column(name or f"{table}_id", sa.BigInteger, key, **{"nullable": False, **rest})  # type: ignore[arg-type]


def upgrade() -> None:
    number, words, array = sa.BigInteger, sa.Text, ARRAY(sa.Double)
    state, key = sa.String(16), sa.String(64)

    def column(name: str, kind: object, **rest: object) -> sa.Column[object]:
        return sa.Column(name, kind, **{"nullable": False, **rest})  # type: ignore[arg-type]

    op.create_table("project", _id(), column("name", words, unique=True), column("choices", JSONB), _made())
    op.create_table(
        "dataset", _id(), _of("project"), sa.Column("parent_id", number, sa.ForeignKey("dataset.id")),
        column("version", number), column("name", words), column("hash", key), column("layout", JSONB),
        column("account", JSONB), _made(), sa.UniqueConstraint("project_id", "hash"),
    )  # fmt: skip
    op.create_table(
        "series", _of("dataset", primary_key=True), column("position", number, primary_key=True),
        column("key", words), column("start", number), column("length", number),
    )  # fmt: skip
    op.create_table(
        "series_block", _of("dataset", primary_key=True), column("column", words, primary_key=True),
        column("series", number, primary_key=True), column("block", number, primary_key=True),
        column("values", array), column("epochs", array, nullable=True), column("marks", sa.LargeBinary, nullable=True),
    )  # fmt: skip
    op.create_table(
        "experiment", _id(), _of("project", index=True), _of("dataset"), column("purpose", state),
        column("name", words), column("document", JSONB), column("state", state),
        column("reason", words, nullable=True), _made(), column("started", _STAMP, nullable=True),
        column("finished", _STAMP, nullable=True),
    )  # fmt: skip
    op.create_table(
        "experiment_cell", _of("experiment", primary_key=True), column("key", key, primary_key=True),
        column("contender", words), column("fold", number), column("number", number),
    )  # fmt: skip
    op.create_table(
        "cell", column("key", key, primary_key=True), column("state", state), column("reason", words, nullable=True),
        column("seconds", sa.Double), column("facts", JSONB), column("arrays", sa.LargeBinary, nullable=True),
        column("finished", _STAMP, server_default=sa.func.now()),
    )  # fmt: skip
    op.create_table(
        "forecast_block",
        sa.Column("key", key, sa.ForeignKey("cell.key", ondelete="CASCADE"), primary_key=True),
        column("series", number, primary_key=True), column("horizon", number), column("gap", number),
        *(column(name, array) for name in ("origins", "mean", "flat_mean", "flat_truth")),
    )  # fmt: skip
    op.create_table(
        "anomaly_flag", _id(), _of("experiment"), column("series", number), column("start", number),
        column("stop", number), column("time", _STAMP), column("score", sa.Double), column("kind", words),
        column("verdict", words),
    )  # fmt: skip
    op.create_index("anomaly_flag_of", "anomaly_flag", ["experiment_id", "series"])
    op.create_table(
        "outlook", _id(), _of("project", index=True), _of("experiment"), column("document", JSONB),
        column("state", state), column("reason", words, nullable=True), column("arrays", sa.LargeBinary, nullable=True),
        _made(), column("finished", _STAMP, nullable=True),
    )  # fmt: skip
    for name, query in _VIEWS.items():
        op.execute(f"CREATE VIEW {name} AS {query}")
    op.execute("CREATE SCHEMA queue")
    op.execute("SET LOCAL search_path TO queue, public")
    raw = op.get_bind().connection.cursor()  # the script holds % signs and several statements
    raw.execute(SchemaManager.get_schema())
    op.execute("SET LOCAL search_path TO public")


def downgrade() -> None:
    op.execute("DROP SCHEMA queue CASCADE")
    for name in _VIEWS:
        op.execute(f"DROP VIEW {name}")
    for name in (
        "outlook", "anomaly_flag", "forecast_block", "cell", "experiment_cell", "experiment", "series_block",
        "series", "dataset", "project",
    ):  # fmt: skip
        op.drop_table(name)
