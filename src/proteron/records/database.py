"""Engine, sessions, and arrays that cross the wire in binary without per-value Python objects."""

import io
import json
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np
import psycopg
from numpy.typing import NDArray
from psycopg.adapt import Buffer, Dumper, Loader
from psycopg.pq import Format
from sqlalchemy import Engine, create_engine, event
from sqlalchemy.orm import Session, sessionmaker

from proteron.core.errors import ProteronError

_FLOAT8, _FLOAT8_ARRAY = 701, 1022
_ELEMENT = np.dtype([("length", ">i4"), ("value", ">f8")])


class NotFoundError(ProteronError):
    """There is no such record."""

    code = "not_found"


class ConflictError(ProteronError):
    """The record is not in a state that allows this."""

    code = "conflict"


class FloatsDumper(Dumper):
    """A one-dimensional float64 array as binary `double precision[]`."""

    format = Format.BINARY
    oid = _FLOAT8_ARRAY

    def dump(self, obj: NDArray[np.float64]) -> Buffer:
        body = np.empty(len(obj), dtype=_ELEMENT)
        body["length"], body["value"] = 8, obj
        head = np.array([1, 0, _FLOAT8, len(obj), 1] if len(obj) else [0, 0, _FLOAT8], dtype=">i4")
        return head.tobytes() + body.tobytes()


class FloatsLoader(Loader):
    """Binary `double precision[]` without nulls to a float64 array."""

    format = Format.BINARY

    def load(self, data: Buffer) -> NDArray[np.float64]:
        content = bytes(data)
        if len(content) <= 12:
            return np.zeros(0)
        return np.frombuffer(content, dtype=_ELEMENT, offset=20)["value"].astype(np.float64)


def _adapt(connection: psycopg.Connection[Any], _record: object) -> None:
    connection.adapters.register_dumper(np.ndarray, FloatsDumper)
    connection.adapters.register_loader(_FLOAT8_ARRAY, FloatsLoader)


def sqlalchemy_url(url: str) -> str:
    """A postgresql:// URL for SQLAlchemy's psycopg driver."""
    return url.replace("postgresql://", "postgresql+psycopg://", 1).replace("postgres://", "postgresql+psycopg://", 1)


class Database:
    """One engine and its sessions; create it after forking."""

    def __init__(self, url: str, pool_size: int = 8) -> None:
        self.url = url
        self.engine: Engine = create_engine(
            sqlalchemy_url(url), pool_size=pool_size, max_overflow=16, pool_pre_ping=True, pool_recycle=600
        )
        event.listen(self.engine, "connect", _adapt)
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)
        alone = self.engine.execution_options(isolation_level="AUTOCOMMIT")
        self._looks = sessionmaker(alone, expire_on_commit=False, autoflush=False)

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A session that commits at the end, or rolls everything back."""
        with self._sessions.begin() as session:
            yield session

    @contextmanager
    def look(self) -> Iterator[Session]:
        """A session for single queries that read: each on its own, without the way there and back of a transaction."""
        with self._looks() as session:
            yield session

    def close(self) -> None:
        self.engine.dispose()


@contextmanager
def binary_cursor(session: Session) -> Iterator[psycopg.Cursor[Any]]:
    """A psycopg cursor on the session's own connection whose results come in binary."""
    raw = session.connection().connection.driver_connection
    assert raw is not None
    with raw.cursor(binary=True) as cursor:
        yield cursor


def notify(session: Session, topic: dict[str, Any]) -> None:
    """Tell listeners, when the session commits, that something changed."""
    with binary_cursor(session) as cursor:
        cursor.execute("SELECT pg_notify('proteron', %s)", (json.dumps(topic),))


def pack_arrays(arrays: dict[str, NDArray[Any]]) -> bytes:
    """Named arrays as an uncompressed NPZ; object arrays are refused."""
    out = io.BytesIO()
    np.savez(out, allow_pickle=False, **arrays)
    return out.getvalue()


def unpack_arrays(content: bytes) -> dict[str, NDArray[Any]]:
    with np.load(io.BytesIO(content), allow_pickle=False) as archive:
        return {name: archive[name] for name in archive.files}
