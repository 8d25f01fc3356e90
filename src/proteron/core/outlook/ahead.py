"""Ways to give what lies ahead of columns that are known ahead: go on from the past, or hand over a table."""

from collections.abc import Mapping
from dataclasses import replace
from typing import Literal, get_args

import numpy as np

from proteron.core.errors import InputError, SettingsError
from proteron.core.forecasters import Contender
from proteron.core.intake.numbers import read_numbers
from proteron.core.intake.raw import RawTable, ReaderSettings
from proteron.core.intake.roles import guess_roles
from proteron.core.intake.sources import Given, read_raw
from proteron.core.intake.times import read_times
from proteron.core.panel import Covariate, Floats, Panel

Ahead = Literal["given", "hold last", "same as last year"]
WAYS: tuple[Ahead, ...] = get_args(Ahead)


def continued(panel: Panel, contender: Contender, horizon: int, how: Ahead) -> Panel:
    """The panel with what `horizon` steps ahead need of its columns, where they lack it; raises `SettingsError`.

    “hold last” goes on with the last known value, “same as last year” with that of the same local time a year before.
    """
    if how not in WAYS:
        raise SettingsError(f"“{how}” is no way to go on; there are: {', '.join(WAYS)}.", field="ahead")
    if how == "given":
        return panel
    needs = contender.forecaster.reads_ahead(panel, horizon)
    return _with_columns(panel, {name: (needed, how) for name, needed in needs.items()})


def _with_columns(panel: Panel, wanted: Mapping[str, tuple[int, Ahead]]) -> Panel:
    columns = []
    for column in panel.covariates:
        needed, how = wanted.get(column.name, (0, "given"))
        parts = [_going_on(panel, column, index, needed, how) for index in range(len(panel))]
        columns.append(rebuilt(column, parts) if column.name in wanted else column)
    return replace(panel, covariates=tuple(columns))


def _going_on(panel: Panel, column: Covariate, index: int, needed: int, how: Ahead) -> Floats:
    """One series' column up to `needed` steps after its last point."""
    length = int(panel.lengths[index])
    values = column.series(index)
    out = np.full(max(length + needed, len(values)), np.nan)
    out[: len(values)] = values
    for at in range(length, length + needed):
        if np.isnan(out[at]):
            out[at] = _held(out[:at]) if how == "hold last" else _year_before(panel, index, out, at)
    return out


def _held(values: Floats) -> float:
    known = values[~np.isnan(values)]
    return float(known[-1]) if len(known) else np.nan


def _year_before(panel: Panel, index: int, values: Floats, at: int) -> float:
    """The value at the same local time a year before; NaN where the series had not begun."""
    first = int(panel.starts[index])
    local = panel.axis.local(np.array([first + at]))[0]
    month = local.astype("datetime64[M]")
    into = local - month.astype("datetime64[s]")
    before = month - 12
    into = min(into, (before + 1).astype("datetime64[s]") - before.astype("datetime64[s]") - np.timedelta64(1, "s"))
    moment = str(before.astype("datetime64[s]") + into)
    place = panel.axis.known(moment) - 1 - first
    return float(values[place]) if 0 <= place < at else np.nan


def rebuilt(column: Covariate, parts: list[Floats]) -> Covariate:
    offsets = np.concatenate([[0], np.cumsum([len(part) for part in parts])]).astype(np.int64)
    return replace(column, values=np.concatenate(parts), offsets=offsets)


def with_future(panel: Panel, table: Given) -> Panel:
    """The panel with values after its end from a table: a time, a key where there are several, and columns by name.

    What the table does not have stays as it is; known values are not replaced. Raises `InputError` for a table without
    a time or without any column that the panel knows ahead, for times off the panel's grid and for unknown keys.
    """
    raw = read_raw(table)
    time, given = _columns_of(panel, raw)
    read = read_times(raw.columns[time], panel.zone, serials=True)
    if read is None or np.isnat(read.instants).any():
        raise InputError(f"“{time}” is not a time in every row.", field="ahead")
    rows = _series_of(panel, raw, [name for name in raw.names if name not in (*given, time)])
    positions = np.array([panel.axis.position_of(f"{moment}Z") for moment in read.instants])

    def filled(column: Covariate) -> Covariate:
        values = read_numbers(raw.columns[column.name], ReaderSettings()).values
        return rebuilt(column, [_filled_in(panel, column, i, positions, values, rows) for i in range(len(panel))])

    columns = tuple(filled(column) if column.name in given else column for column in panel.covariates)
    return replace(panel, covariates=columns)


def _columns_of(panel: Panel, raw: RawTable) -> tuple[str, list[str]]:
    """The time of a table of future values, and the columns it gives; raises `InputError` where it lacks either."""
    time = next((guess.column for guess in guess_roles(raw) if guess.role == "time"), None)
    ahead = sorted(column.name for column in panel.covariates if column.role == "known_ahead" and not column.labels)
    given = [name for name in raw.names if name in ahead]
    if time is None or not given:
        named = ", ".join(f"“{name}”" for name in ahead) or "there are none"
        raise InputError(f"Future values come with a time and columns that are known ahead: {named}.", field="ahead")
    return time, given


def _series_of(panel: Panel, raw: RawTable, rest: list[str]) -> list[int] | None:
    """The series of each row by a column of keys; None where every row speaks of all series."""
    for name in rest:
        keys = [str(key) for key in raw.columns[name].to_pylist()]
        if set(keys) & set(panel.keys):
            unknown = next((key for key in keys if key not in panel.keys), None)
            if unknown is not None:
                raise InputError(f"There is no series “{unknown}” to give future values to.", field="ahead")
            return [panel.index(key) for key in keys]
    return None


def _filled_in(
    panel: Panel, column: Covariate, index: int, positions: np.ndarray, values: Floats, rows: list[int] | None
) -> Floats:
    """One series' column with the table's values where it had none."""
    local = positions - int(panel.starts[index])
    mine = local >= 0
    if rows is not None:
        mine &= np.array(rows) == index
    reach = int(local[mine].max(initial=-1)) + 1
    own = column.series(index)
    out = np.full(max(len(own), reach), np.nan)
    out[local[mine]] = values[mine]
    out[: len(own)] = np.where(np.isnan(own), out[: len(own)], own)
    return out
