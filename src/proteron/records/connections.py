"""Named sources configured on the server: SQL databases and HTTP endpoints. Nothing of them is typed in the browser."""

import re
import sqlite3
import time
import tomllib
import urllib.error
import urllib.request
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pa_parquet
import structlog
from pydantic import BaseModel, ConfigDict, Field, ValidationError
from sqlalchemy import Connection, Engine, create_engine, text
from sqlalchemy.exc import SQLAlchemyError

from proteron.core.documents import settings_error
from proteron.core.errors import InputError, LimitError, SettingsError
from proteron.records.database import NotFoundError, sqlalchemy_url

log = structlog.get_logger()
_PIECE = 1 << 20
_ROWS_AT_ONCE = 20_000
_READS = re.compile(r"^\s*(select|with|values|table)\b", re.IGNORECASE)


class SqlConnection(BaseModel):
    """A database to read from: an SQLAlchemy URL, and what a query may cost; tables are written where `writes`."""

    model_config = ConfigDict(extra="forbid")
    url: str
    timeout_seconds: float = Field(30.0, gt=0)
    rows: int = Field(5_000_000, ge=1)
    writes: bool = False


class HttpConnection(BaseModel):
    """An endpoint that answers with CSV or JSON."""

    model_config = ConfigDict(extra="forbid")
    url: str = Field(pattern=r"^https?://")
    headers: dict[str, str] = Field(default_factory=dict)
    timeout_seconds: float = Field(30.0, gt=0)


class Connections(BaseModel):
    """The file `connections.toml` below PROTERON_HOME: tables `sql.NAME` and `http.NAME`."""

    model_config = ConfigDict(extra="forbid")
    sql: dict[str, SqlConnection] = Field(default_factory=dict)
    http: dict[str, HttpConnection] = Field(default_factory=dict)


def load_connections(path: Path) -> Connections:
    """Raises `SettingsError` when the file is there but wrong; no file means no connections."""
    if not path.is_file():
        return Connections()
    try:
        return Connections.model_validate(tomllib.loads(path.read_text("utf-8")))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise SettingsError(f"{path.name} is not TOML: {error}.", field="connections") from error
    except ValidationError as error:
        raise settings_error(error) from error


def fetch(connections: Connections, name: str, query: str | None, path: Path, limit: int) -> None:
    """Bring a query's rows (as Parquet) or an endpoint's answer (as it is) into a file.

    Raises `NotFoundError` for an unknown name, `InputError` when the source refuses, `LimitError` beyond limits.
    """
    if name in connections.sql:
        _fetch_sql(connections.sql[name], query or "", path)
    elif name in connections.http:
        _fetch_http(connections.http[name], path, limit)
    else:
        raise NotFoundError(f"There is no connection “{name}” in the server's configuration.", field="connection")


def _fetch_sql(connection: SqlConnection, query: str, path: Path) -> None:
    statement = query.strip().rstrip(";")
    if not _READS.match(statement) or ";" in statement:
        raise InputError("Only one query that reads is run: SELECT … or WITH … .", field="query")
    engine = create_engine(sqlalchemy_url(connection.url))
    try:
        with connected(engine) as opened:
            _make_read_only(opened, connection.timeout_seconds)
            result = opened.execution_options(stream_results=True).execute(text(statement.replace(":", r"\:")))
            names = list(map(str, result.keys()))
            columns: list[list[Any]] = [[] for _ in names]
            count = 0
            while rows := result.fetchmany(_ROWS_AT_ONCE):
                count += len(rows)
                if count > connection.rows:
                    raise LimitError(
                        f"The query has more than {connection.rows:,} rows, which is the limit.", field="query"
                    )
                for column, cells in zip(columns, zip(*rows, strict=True), strict=True):
                    column.extend(cells)
            result.close()
            opened.rollback()
    except SQLAlchemyError as error:
        reason = str(getattr(error, "orig", None) or error).strip().splitlines()[0][:300]
        raise InputError(f"The database refused the query: {reason}.", field="query") from error
    finally:
        engine.dispose()
    if not count:
        raise InputError("The query has no rows.", field="query")
    pa_parquet.write_table(pa.table([_array(column) for column in columns], names=names), path)


def connected(engine: Engine) -> Connection:
    """An open connection; why there is none goes to the log alone, since it may hold names and addresses."""
    try:
        return engine.connect()
    except SQLAlchemyError as error:
        log.warning("configured database does not answer", error=str(getattr(error, "orig", None) or error).strip())
        raise InputError(
            "The configured database does not answer; the server's log has the reason.", field="connection"
        ) from None


def _make_read_only(opened: Any, seconds: float) -> None:
    """A transaction that cannot write, and is stopped when it takes too long."""
    if opened.dialect.name == "postgresql":
        opened.execute(text("SET TRANSACTION READ ONLY"))
        opened.execute(text(f"SET LOCAL statement_timeout = {int(seconds * 1000)}"))
    elif opened.dialect.name == "sqlite":
        raw: sqlite3.Connection = opened.connection.driver_connection
        raw.execute("PRAGMA query_only = ON")
        deadline = time.monotonic() + seconds
        raw.set_progress_handler(lambda: int(time.monotonic() > deadline), 10_000)
    else:
        raise SettingsError(f"Connections to {opened.dialect.name} are not supported.", field="connection")


def _array(values: list[Any]) -> pa.Array:
    try:
        return pa.array(values)
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        return pa.array([None if value is None else str(value) for value in values], pa.string())


def _fetch_http(connection: HttpConnection, path: Path, limit: int) -> None:
    request = urllib.request.Request(connection.url, headers=connection.headers)
    try:
        with urllib.request.urlopen(request, timeout=connection.timeout_seconds) as answer, path.open("wb") as out:
            size = 0
            while piece := answer.read(_PIECE):
                size += len(piece)
                if size > limit:
                    raise LimitError(
                        f"The endpoint answers with more than {limit:,} bytes, which is the limit.", field="file"
                    )
                out.write(piece)
    except (urllib.error.URLError, OSError) as error:
        raise InputError(
            f"The endpoint does not answer: {getattr(error, 'reason', error)}.", field="connection"
        ) from error
