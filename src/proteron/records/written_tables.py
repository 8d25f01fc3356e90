"""Outlooks written to a table of a configured PostgreSQL database: in one transaction, whole or not at all."""

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

import numpy as np
import psycopg
from psycopg import sql
from sqlalchemy import create_engine

from proteron.core.errors import InputError, SettingsError
from proteron.records.connections import Connections, SqlConnection, connected
from proteron.records.database import ConflictError, NotFoundError, sqlalchemy_url

Way = Literal["create", "replace", "append"]
_VIEW = "_latest"
_LONGEST = 63  # bytes of an identifier
_HEAD = {
    "outlook": ("bigint NOT NULL", "The number of the outlook in Proteron."),
    "issued": ("timestamptz NOT NULL", "When it was made."),
    "known_until": ("timestamptz NOT NULL", "The last time of which anything was known."),
    "contender": ("text NOT NULL", "Who forecast."),
    "scenario": ("text NOT NULL", "Under which assumptions; empty: none but what was given."),
    "series": ("text NOT NULL", "The key of the series."),
    "time": ("timestamptz NOT NULL", "What time is forecast."),
    "step": ("integer NOT NULL", "How many steps ahead, from 1."),
    "mean": ("double precision", "The forecast; missing where there is none."),
}
_KEY = ("outlook", "series", "time")


@dataclass(frozen=True)
class Target:
    """A table of a configured database, and what becomes of what is in it."""

    connection: str
    table: str
    schema: str = "public"
    way: Way = "create"

    @property
    def view(self) -> str:
        """The name of the view of what is newest."""
        return f"{self.table}{_VIEW}"


@dataclass(frozen=True)
class Issued:
    """What is written of an outlook: forecasts `mean` and both ends by level (n_series, horizon), for `times`."""

    outlook: int
    issued: datetime
    known_until: datetime
    contender: str
    scenario: str
    unit: str
    keys: Sequence[str]
    times: Sequence[datetime]
    mean: np.ndarray
    ranges: Mapping[float, tuple[np.ndarray, np.ndarray]]


def column_names(levels: Sequence[float]) -> list[str]:
    """Both ends of every range: lower_80, upper_80, lower_97_5, …"""
    shown = [f"{round(level * 100, 6):g}".replace(".", "_") for level in sorted(levels)]
    return [f"{end}_{level}" for level in shown for end in ("lower", "upper")]


def write_table(connections: Connections, target: Target, issued: Issued) -> int:
    """Write an outlook and a view of the newest forecast of every time; tells how many rows there were.

    All in one transaction: until it ends others read the table as it was, and it stays so when anything fails. What is
    replaced keeps its table, with whoever may read it and whatever is built on it.

    Raises `NotFoundError` for an unknown connection, `SettingsError` for one that is not to be written to and for names
    that the database would not take, `ConflictError` for a table that is there, is not, or has other columns,
    `InputError` for what the database refuses.
    """
    connection = connections.sql.get(target.connection)
    if connection is None:
        raise NotFoundError(f"There is no database “{target.connection}” in the server's configuration.",
                            field="connection")  # fmt: skip
    _check(connection, target)
    engine = create_engine(sqlalchemy_url(connection.url))
    try:
        with connected(engine) as opened:
            raw: psycopg.Connection[Any] = opened.connection.driver_connection  # type: ignore[assignment]
            try:
                with raw.cursor() as cursor:
                    cursor.execute(f"SET LOCAL statement_timeout = {int(connection.timeout_seconds * 1000)}")
                    count = _write(cursor, target, issued)
                raw.commit()
            except psycopg.OperationalError:
                opened.invalidate()  # the connection is gone, and so is what it had begun
                raise
            return count
    except psycopg.errors.UniqueViolation as error:
        raise ConflictError(
            f"Outlook {issued.outlook} is in “{target.table}” already: replace the table instead.", field="way"
        ) from error
    except psycopg.errors.InsufficientPrivilege as error:
        raise InputError(f"The database's user may not do that: {_first(error)}.", field="table") from error
    except psycopg.Error as error:
        raise InputError(f"The database refused: {_first(error)}.", field="table") from error
    finally:
        with suppress(psycopg.Error):
            engine.dispose()


def _first(error: psycopg.Error) -> str:
    return (str(error).strip().splitlines() or [type(error).__name__])[0][:300].rstrip(".")


def _check(connection: SqlConnection, target: Target) -> None:
    if not sqlalchemy_url(connection.url).startswith("postgresql"):
        raise SettingsError("Tables are written to PostgreSQL only.", field="connection")
    if not connection.writes:
        raise SettingsError(
            f"“{target.connection}” is for reading: the server's configuration lets nobody write to it "
            "(writes = true).", field="connection",
        )  # fmt: skip
    for field, name, room in (("table", target.table, _LONGEST - len(_VIEW)), ("schema", target.schema, _LONGEST)):
        size = len(name.encode())
        if not name.strip() or "\0" in name or size > room:
            raise SettingsError(f"A {field}'s name has 1 to {room} bytes; this one has {size}.", field=field)


def _write(cursor: Any, target: Target, issued: Issued) -> int:
    names = [*_HEAD, *column_names(list(issued.ranges))]
    there = _columns(cursor, target)
    where = sql.Identifier(target.schema, target.table)
    if there and target.way == "create":
        raise ConflictError(f"“{target.schema}.{target.table}” is there already: replace it, or append.", field="way")
    if there:
        _require(there, names, target)
        if target.way == "replace":
            cursor.execute(sql.SQL("DELETE FROM {}").format(where))
    else:
        _create(cursor, where, names, issued.unit)
    columns = sql.SQL(", ").join(map(sql.Identifier, names))
    with cursor.copy(sql.SQL("COPY {} ({}) FROM STDIN").format(where, columns)) as copy:
        count = 0
        for row in _rows(issued):
            copy.write_row(row)
            count += 1
    _show_latest(cursor, target, where)
    return count


def _columns(cursor: Any, target: Target) -> set[str]:
    """Names of a table's columns; none where there is no such table."""
    cursor.execute(
        "SELECT column_name FROM information_schema.columns WHERE table_schema = %s AND table_name = %s",
        (target.schema, target.table),
    )
    return {name for (name,) in cursor.fetchall()}


def _require(there: set[str], names: Sequence[str], target: Target) -> None:
    """Raise `ConflictError` for a table that was not made for such an outlook."""
    missing, other = [each for each in names if each not in there], sorted(there - set(names))
    if missing or other:
        said = [f"lacks {', '.join(missing)}"] if missing else []
        said += [f"has {', '.join(other)} as well"] if other else []
        raise ConflictError(
            f"“{target.schema}.{target.table}” {' and '.join(said)}: name another table, or ask for the same ranges.",
            field="table",
        )


def _create(cursor: Any, where: sql.Identifier, names: Sequence[str], unit: str) -> None:
    kinds = {name: kind for name, (kind, _) in _HEAD.items()}
    columns = [
        sql.SQL("{} {}").format(sql.Identifier(name), sql.SQL(kinds.get(name, "double precision"))) for name in names
    ]
    key = sql.SQL("PRIMARY KEY ({})").format(sql.SQL(", ").join(map(sql.Identifier, _KEY)))
    cursor.execute(sql.SQL("CREATE TABLE {} ({})").format(where, sql.SQL(", ").join([*columns, key])))
    told = {name: words for name, (_, words) in _HEAD.items()}
    for name in names[len(_HEAD) :]:
        end, level = name.split("_", 1)
        told[name] = f"The {end} end of the {level.replace('_', '.')} % range{f', {unit}' if unit else ''}."
    if unit:
        told["mean"] = f"{told['mean'][:-1]}; in {unit}."
    cursor.execute(sql.SQL("COMMENT ON TABLE {} IS {}").format(where, "Forecasts: a row per outlook, series and time."))
    for name, words in told.items():
        column = sql.SQL("COMMENT ON COLUMN {}.{} IS {}")
        cursor.execute(column.format(where, sql.Identifier(name), words))


def _rows(issued: Issued) -> Any:
    levels = sorted(issued.ranges)
    ends = np.stack([issued.mean, *(end for level in levels for end in issued.ranges[level])], axis=2)
    for place, key in enumerate(issued.keys):
        for step, time in enumerate(issued.times):
            values = [None if np.isnan(each) else each for each in ends[place, step].tolist()]
            yield (issued.outlook, issued.issued, issued.known_until, issued.contender, issued.scenario, key, time,
                   step + 1, *values)  # fmt: skip


def _show_latest(cursor: Any, target: Target, where: sql.Identifier) -> None:
    """The view of what was forecast last of every series and time, scenarios left out."""
    view = sql.Identifier(target.schema, target.view)
    cursor.execute(
        sql.SQL(
            "CREATE OR REPLACE VIEW {} AS SELECT DISTINCT ON (series, time) * FROM {} WHERE scenario = '' "
            "ORDER BY series, time, issued DESC, outlook DESC"
        ).format(view, where)
    )
