"""Recent data that is handed over point by point: put behind what a contender knew, so that it forecasts from there."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from proteron.core.errors import InputError
from proteron.core.panel import Covariate, Floats, Panel
from proteron.core.timeline import Instants, Ints, grid_positions, parse_moment
from proteron.core.words import listed

_PLAIN = re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d)?Z")  # what is read at once
_FURTHEST = 1 << 20  # steps beyond what was known


@dataclass(frozen=True)
class Recent:
    """Points of one series: `times` are ISO texts (local where they have no offset) or seconds since 1970; a value may
    be missing, and is where only columns that are known ahead go on."""

    times: Sequence[str | float]
    values: Sequence[float | None]
    columns: Mapping[str, Sequence[float | None]] = field(default_factory=dict)


def with_recent(known: Panel, recent: Mapping[str, Recent], now: np.datetime64) -> Panel:
    """The series that `recent` has something of, by key, as they were known and go on, on the same grid.

    Values that were known are replaced by newer ones of the same time; steps in between that nobody gives are missing.
    Raises `InputError` for unknown keys and columns, times that are off the grid or of another step, given twice or
    before the series begins, for values of times after `now` (UTC), and for rows that do not fit together.
    """
    unknown = [f"“{key}”" for key in recent if key not in known.keys]
    if unknown or not recent:
        said = f"Nothing was learned of {listed(unknown, 4)}." if unknown else "Recent data has at least one series."
        raise InputError(said, field="series")
    panel = known.select([known.index(key) for key in recent])
    placed = [_placed(panel, index, points, now) for index, points in enumerate(recent.values())]
    end = max(panel.end, *(int(rows.last) + 1 for rows in placed))
    if end - known.end > _FURTHEST:
        raise InputError(f"What was learned ends {end - known.end:,} steps before the newest point.", field="series")
    lengths = np.array([end - int(start) for start in panel.starts])
    offsets = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
    values, marks = np.full(offsets[-1], np.nan), np.zeros(offsets[-1], dtype=np.uint8)
    for index, rows in enumerate(placed):
        own = slice(offsets[index], offsets[index + 1])
        there = panel.series(index)
        values[own][: len(there)] = there
        marks[own][: len(there)] = panel.series_marks(index)
        mine = np.isfinite(rows.values)
        values[own][rows.places[mine]] = rows.values[mine]
        marks[own][rows.places[mine]] = 0
    columns = tuple(_column(panel, column, placed, list(recent.values()), lengths) for column in panel.covariates)
    return replace(panel, values=values, offsets=offsets, marks=marks, covariates=columns)


@dataclass(frozen=True)
class _Rows:
    """Local places and values of a series, (n_rows,) each; `last` is the grid position of the last value."""

    places: Ints
    values: Floats
    last: int


def _placed(panel: Panel, index: int, points: Recent, now: np.datetime64) -> _Rows:
    key, axis = panel.keys[index], panel.axis
    sizes = {len(points.times), len(points.values), *(len(each) for each in points.columns.values())}
    if len(sizes) > 1 or not points.times:
        raise InputError(f"“{key}” has as many times as values, and at least one.", field="series")
    instants = _instants(points.times, axis.zone)
    values = _numbers(points.values, key)
    positions, on_grid = grid_positions(instants, axis)
    if not on_grid.all():
        at = str(instants[~on_grid][0]).replace("T", " ")
        raise InputError(f"{at} UTC of “{key}” is not on the grid that was learned on: {axis.step}.", field="series")
    order = np.argsort(positions, kind="stable")
    apart = np.diff(positions[order])
    if (apart == 0).any():
        raise InputError(f"A time of “{key}” comes twice.", field="series")
    if len(apart) and apart.min() > 1:
        raise InputError(
            f"No two points of “{key}” are one step apart: the step that was learned is {axis.step}.", field="series"
        )
    if positions.min() < panel.starts[index]:
        raise InputError(f"“{key}” has points before the series begins.", field="series")
    there = np.isfinite(values)
    late = there & (instants > now)
    if late.any():
        at = str(axis.local(positions[late][:1])[0]).replace("T", " ")
        raise InputError(f"{at} of “{key}” has not come yet: nothing is known of it.", field="series")
    last = int(positions[there].max()) if there.any() else panel.end - 1
    return _Rows(positions - int(panel.starts[index]), values, last)


def _instants(times: Sequence[str | float], zone: str) -> Instants:
    """UTC instants of texts or of seconds since 1970."""
    try:
        if all(isinstance(each, int | float) for each in times):
            return np.array(times, dtype=np.float64).astype(np.int64).astype("datetime64[s]")
        if all(isinstance(each, str) and _PLAIN.fullmatch(each) for each in times):
            return np.array([str(each)[:-1] for each in times], dtype="datetime64[s]")
        return np.array([parse_moment(str(each), zone) for each in times], dtype="datetime64[s]")
    except (ValueError, OverflowError) as error:
        raise InputError("A time is an ISO text, or seconds since 1970.", field="series") from error


def _numbers(values: Sequence[float | None], name: str) -> Floats:
    out = np.array([np.nan if each is None else each for each in values], dtype=np.float64)
    if np.isinf(out).any():
        raise InputError(f"“{name}” has a value that is no number.", field="series")
    return out


def _column(panel: Panel, column: Covariate, placed: list[_Rows], given: list[Recent], lengths: Ints) -> Covariate:
    """A column as it was known, with what is given; where it goes on without being given, it is missing."""
    names = {each.name for each in panel.covariates if each.role != "static"}
    parts = []
    for index, (rows, points) in enumerate(zip(placed, given, strict=True)):
        unknown = next((name for name in points.columns if name not in names), None)
        if unknown is not None:
            raise InputError(f"There is no column “{unknown}” that goes on.", field="series")
        there = column.series(index)
        if column.role == "static":
            parts.append(there)
            continue
        mine = points.columns.get(column.name)
        cells = np.full(len(rows.places), np.nan) if mine is None else _numbers(mine, column.name)
        ahead = column.role == "known_ahead"
        reach = max(len(there), int(lengths[index]), int(rows.places.max()) + 1) if ahead else int(lengths[index])
        out = np.full(reach, np.nan)
        out[: min(len(there), reach)] = there[:reach]
        inside = np.isfinite(cells) & (rows.places < reach)
        out[rows.places[inside]] = cells[inside]
        parts.append(out)
    offsets = np.concatenate([[0], np.cumsum([len(part) for part in parts])]).astype(np.int64)
    return replace(column, values=np.concatenate(parts), offsets=offsets)
