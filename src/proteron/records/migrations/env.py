"""Alembic's entry point; the URL comes from `proteron.records.schema`."""

from alembic import context
from sqlalchemy import create_engine, text

from proteron.records.models import Base

_LOCK = 7_201_993

engine = create_engine(context.config.attributes["url"])
with engine.connect() as connection:
    connection.execute(text(f"SELECT pg_advisory_lock({_LOCK})"))  # two processes never migrate at once
    connection.commit()
    context.configure(connection=connection, target_metadata=Base.metadata, transaction_per_migration=True)
    with context.begin_transaction():
        context.run_migrations()
    connection.execute(text(f"SELECT pg_advisory_unlock({_LOCK})"))
    connection.commit()
engine.dispose()
