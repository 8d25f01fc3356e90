"""Bringing a database to the newest schema, and back."""

from pathlib import Path

from alembic import command
from alembic.config import Config

from proteron.records.database import sqlalchemy_url


def _config(url: str) -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["url"] = sqlalchemy_url(url)
    return config


def upgrade(url: str, revision: str = "head") -> None:
    """Apply migrations up to `revision`; safe to repeat."""
    command.upgrade(_config(url), revision)


def downgrade(url: str, revision: str = "base") -> None:
    command.downgrade(_config(url), revision)
