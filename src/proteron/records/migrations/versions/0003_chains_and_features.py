"""Chains that were given a name, fitted chains, and the features of panels."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0003"
down_revision = "0002"

_STAMP = sa.DateTime(timezone=True)


def _id() -> sa.Column[int]:
    return sa.Column("id", sa.BigInteger, primary_key=True, autoincrement=True)


def _of(table: str, **rest: object) -> sa.Column[int]:
    key = sa.ForeignKey(f"{table}.id", ondelete="CASCADE")
    return sa.Column(f"{table}_id", sa.BigInteger, key, **{"nullable": False, **rest})  # type: ignore[arg-type]


def _made() -> sa.Column[object]:
    return sa.Column("created", _STAMP, server_default=sa.func.now(), nullable=False)


def upgrade() -> None:
    op.create_table(
        "saved_chain", _id(), _of("project"), sa.Column("name", sa.Text, nullable=False),
        sa.Column("document", JSONB, nullable=False), sa.UniqueConstraint("project_id", "name"),
    )  # fmt: skip
    op.create_table(
        "fitted_chain", _id(), _of("dataset"), sa.Column("name", sa.Text, nullable=False),
        sa.Column("hash", sa.String(64), nullable=False), sa.Column("document", JSONB, nullable=False), _made(),
        sa.UniqueConstraint("dataset_id", "hash"),
    )  # fmt: skip
    op.create_table(
        "panel_profile", _id(), _of("dataset"), sa.Column("until", sa.BigInteger, nullable=False),
        sa.Column("version", sa.BigInteger, nullable=False), sa.Column("series", sa.BigInteger, nullable=False),
        sa.Column("state", sa.String(16), nullable=False), sa.Column("reason", sa.Text), _made(),
        sa.UniqueConstraint("dataset_id", "until", "version"),
    )  # fmt: skip
    profile = sa.ForeignKey("panel_profile.id", ondelete="CASCADE")
    op.create_table(
        "series_feature", sa.Column("profile_id", sa.BigInteger, profile, primary_key=True),
        sa.Column("series", sa.BigInteger, primary_key=True), sa.Column("features", JSONB, nullable=False),
    )  # fmt: skip


def downgrade() -> None:
    for table in ("series_feature", "panel_profile", "fitted_chain", "saved_chain"):
        op.drop_table(table)
